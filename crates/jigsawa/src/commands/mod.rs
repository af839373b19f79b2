//! One file a command: settings, open, measure, write, tell.

mod colour;
mod compose;
mod demo;
mod finish;
mod hdr;
mod mosaic;
mod normalize;
mod register;
mod show;
mod stars;
mod survey;

pub use compose::{compose, folder_name};
pub use demo::demo;
pub use finish::finish;
pub use hdr::{FRAME as HDR_FRAME, hdr};
pub use mosaic::{FRAME as MOSAIC_FRAME, mosaic};
pub use normalize::normalize;
pub use register::register;
pub use show::show;
pub use stars::stars;
pub use survey::survey;
