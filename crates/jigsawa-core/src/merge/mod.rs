//! Merging: original pixels in, finished tiles out.
//!
//! The engine cuts the canvas into tiles; for each it reads the windows that the tile needs, places
//! and balances them, and hands the aligned values to a method (`TileOp`), which sees rows of one tile and
//! knows nothing of files, threads or memory (`contract`).

mod contract;
mod discs;
mod engine;
mod outliers;
mod place;
mod side_by_side;
mod soften;

pub use contract::{
    Band, Budget, Input, Keep, MergeError, Overlay, Parts, ROWS, Row, Sampling, TileOp,
};
pub(crate) use discs::Discs;
pub use engine::{merge, merge_parts, parts};
pub use outliers::{Averaged, LEAST_FRAMES, LeftOut};
pub use place::placed;
pub use side_by_side::SideBySide;
pub use soften::Softened;
