//! Finishing a linear result: what is wanted of each step, the file and its facts, the run, and what is told of it.

pub mod catalogue;
mod linear;
mod starless;
mod usual;

pub use linear::{BROAD, LinearFile, MIXED, NARROW, doors, own_doors};
pub use starless::{measure_stars, measure_stars_with, take_out};
pub use usual::{Kind, USUAL_GREEN, usual_settings};
