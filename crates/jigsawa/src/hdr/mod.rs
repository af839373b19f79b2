//! Exposures into HDR frames: sorted into sets, measured, merged into files.

mod account;
mod exr;
mod measure;
mod sets;
mod write;

pub use account::{HdrRow, rows};
pub use exr::{Exr, write_exr};
pub use measure::{Measured, measure_set};
pub use sets::{Set, check, sets, tell_apart};
pub use write::{Merged, Paths, merge_set};
