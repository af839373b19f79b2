//! One file a command: settings, open, measure, write, tell.

mod calibrate;
mod colour;
mod compose;
mod demo;
mod finish;
mod hdr;
mod mosaic;
mod normalize;
mod raw;
mod register;
mod show;
mod stack;
mod stars;
mod survey;
mod swatches;

pub use calibrate::calibrate;
pub use compose::compose;
pub use demo::demo;
pub use finish::finish;
pub use hdr::hdr;
pub use mosaic::mosaic;
pub use normalize::normalize;
pub use register::register;
pub use show::show;
pub use stack::stack;
pub use stars::stars;
pub use survey::survey;
