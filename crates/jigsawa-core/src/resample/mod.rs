//! Resampling: the one interpolation that each output pixel goes through.
//!
//! `kernel` holds the weights and the plain definition of a sample; `rows` is its fast twin for whole
//! tiles, bit for bit the same. Values are interpolated as surface brightness: a frame's level stays
//! what it is whatever the scale; fluxes grow with the area of a pixel.

mod kernel;
mod lanes;
mod rows;
mod whole;

pub use kernel::{Kernel, Shape, Window, sample};
pub use rows::{Resampling, Scratch, resample, window_for};
pub use whole::resampled;
