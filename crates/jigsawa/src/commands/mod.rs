//! One file a command: settings, open, measure, write, tell.

mod compose;
mod demo;

pub use compose::{compose, folder_name};
pub use demo::demo;
