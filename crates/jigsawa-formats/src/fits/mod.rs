//! FITS (Pence et al. 2010, A&A 524, A42): images in by windows, results out by tiles.

mod blank;
mod borders;
mod camera_raw;
mod card;
mod frame;
mod picture;
mod place;
mod plain;
mod pool;
mod regions;
mod sense;
mod stored;
mod suspects;
mod tiles;
mod trim;
mod unit;
mod unpacked;
mod unzip;
mod write;

pub use camera_raw::ENDINGS as CAMERA_RAW;
#[cfg(test)]
pub(crate) use card::header;
pub use card::{Card, Header, Value};
pub use frame::{FitsFrame, FitsPlane};
pub use write::{Cards, Depth, FitsWriter};
