//! Resampling: the one interpolation that each output pixel goes through.
//!
//! `kernel` holds the weights, `sample` the plain definition of a sample; `rows`, with its inner loop in `run`,
//! is its fast twin for whole tiles, bit for bit the same. Values are interpolated as surface brightness: a frame's
//! level stays what it is whatever the scale; who wants fluxes kept asks the merge for it. `drops` is another way, without any
//! interpolation, for many dithered frames.

mod drops;
mod kernel;
mod lanes;
mod rows;
mod run;
mod sample;
mod whole;

pub use drops::{DropShape, Drops, drop_onto};
pub use kernel::{Kernel, Ringing, Shape};
pub use rows::{Resampling, Scratch, resample, window_for};
pub use sample::{Window, sample};
pub use whole::resampled;
