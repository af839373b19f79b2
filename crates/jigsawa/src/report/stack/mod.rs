//! The page of a stack.

mod page;
mod set;

pub use page::{StackPage, write};
pub use set::StackSet;
