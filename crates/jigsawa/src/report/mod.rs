//! The survey's report: one page that needs nothing but itself.
//!
//! The page is written piece by piece, each picture fetched from the store when its turn comes, so that
//! a night of hundreds of frames never lies in memory at once.

mod data;
mod page;
mod plot;

pub use page::{duration, write};
