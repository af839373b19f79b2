//! The report of `calibrate`: what lights get, each master, and lights before and after.

mod hot;
mod lights;
mod masters;
mod page;

pub use page::write;
