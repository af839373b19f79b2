//! Exposures into HDR frames: sorted into sets, measured, merged into files.

mod exr;
mod measure;
mod sets;
mod write;

pub use exr::{Exr, Numbers, write_exr};
pub use measure::{Measured, measure_set};
pub use sets::{Set, check, sets, tell_apart};
pub use write::{Merged, Paths, merge_set};
