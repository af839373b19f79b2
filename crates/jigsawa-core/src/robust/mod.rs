//! Estimators that a few wild values cannot spoil.

mod biweight;
mod clip;
mod counts;
mod median;
mod slope;

pub use biweight::{BIWEIGHT_REACH, biweight};
pub use clip::{Clipped, clipped, clipped_counts};
pub use counts::Counts;
pub use median::{MAD_TO_SIGMA, grouped_median, mad, median, quantile};
pub use slope::{Ratio, robust_ratio};
