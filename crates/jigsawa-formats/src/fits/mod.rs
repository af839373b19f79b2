//! FITS (Pence et al. 2010, A&A 524, A42): images in by windows, results out by tiles.

mod blank;
mod card;
mod frame;
mod place;
mod plain;
mod pool;
mod sense;
mod tiles;
mod unit;
mod unzip;
mod write;

#[cfg(test)]
pub(crate) use card::header;
pub use card::{Card, Header, Value};
pub use frame::{FitsFrame, FitsPlane};
pub use write::{Cards, Depth, FitsWriter};
