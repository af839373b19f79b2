//! The page of a merge of exposures.

mod page;
mod plots;
mod set;

pub use page::{HdrPage, write};
pub use set::HdrSet;
