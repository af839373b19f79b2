//! From what is typed to what jobs want: every default that depends on something else is settled here.

mod defaults;
mod finish;
mod targets;

pub use defaults::defaults;
pub use finish::finish_settings;
pub use targets::{PNG, all_new, page_path, targets};
