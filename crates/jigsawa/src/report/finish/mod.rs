//! The report of a finished picture: before and after, each step on two places at 1:1, histograms, star colours.

mod page;
mod plots;
mod sky;

pub use page::{FinishPage, write};
