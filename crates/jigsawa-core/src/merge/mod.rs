//! Merging: original pixels in, finished tiles out.
//!
//! The engine cuts the canvas into tiles; for each it reads the windows that the tile needs, places
//! and balances them, and hands the aligned values to a method (`TileOp`), which sees one tile and
//! knows nothing of files, threads or memory.

mod discs;
mod engine;
mod outliers;
mod side_by_side;
mod soften;

pub(crate) use discs::Discs;
pub use engine::{Budget, Input, Keep, MergeError, Sampling, TileOp, merge, placed};
pub use outliers::{Averaged, LEAST_FRAMES, LeftOut};
pub use side_by_side::SideBySide;
pub use soften::Softened;
