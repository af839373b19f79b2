//! Files in every dialect, whole and damaged.

mod build;
mod damaged;
mod fuzz;
mod packed;
mod pictures;
mod raw;
mod read_pictures;
mod round_trip;
