//! The report of a survey: a night's frames measured, judged, and to be flipped through.
//!
//! The page is written piece by piece, each picture fetched from the store when its turn comes, so that a night of hundreds
//! of frames never lies in memory at once.

mod data;
mod page;
mod plots;

pub use page::write;
