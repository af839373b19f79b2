//! Files in every dialect, whole and damaged.

mod build;
mod damaged;
mod fuzz;
mod packed;
mod pictures;
mod raw;
mod round_trip;
