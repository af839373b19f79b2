//! The computation of Jigsawa: no files, no terminal, no command line.
//!
//! A night's masters pass through the modules in this order:
//!
//! 1. [`frame`] says what is known of a frame and [`filter`] names its filter; pixels come in through
//!    the [`doors`] as windows of a [`plane`].
//!    What raw frames need before their values mean light, [`calibrate`] finds and applies at reading.
//! 2. [`stars`] finds and measures the stars and the sky of each frame.
//!    [`survey`] compares the frames of a night by them, scores them and leaves out the bad ones.
//! 3. [`matching`] finds which star of a frame is which star of the reference, and [`placement`] fits
//!    the map between both; [`canvas`] is the common grid.
//!    [`wcs`] says where both lie on the sky, when headers do.
//!    Panels of a mosaic are solved and balanced all together ([`mosaic`]).
//! 4. [`balance`] matches scale and sky of each frame to the reference's.
//! 5. What was found stands in a [`layout`], each frame with its [`verdict`].
//! 6. [`merge`] reads original pixels, [`resample`]s each once, balances them and hands aligned values
//!    to a method; [`colour`] is the method that mixes them into a composite, [`hdr`] the one that joins exposures,
//!    [`stack`] the one that averages frames and leaves out what single ones show.
//! 7. [`starless`] takes a picture apart into stars and the rest; [`finish`] makes a picture for the eye, [`quick`] a
//!    quick look at any frame.
//!
//! Pixels are linear `f32` in the units of their file, NaN where there is no data; coordinates and
//! fits are `f64`; (0, 0) is the centre of the first pixel stored ([`space`]).

#![forbid(unsafe_code)]

pub mod balance;
mod binned;
pub mod by_filter;
pub mod calibrate;
pub mod canvas;
pub mod colour;
mod convex;
pub mod doors;
pub mod filter;
pub mod finish;
pub mod frame;
pub mod hdr;
pub mod horizon;
pub mod layout;
pub mod matching;
pub mod measured;
pub mod merge;
pub mod mosaic;
pub mod noise;
pub mod number;
pub mod placement;
pub mod plane;
pub mod quick;
pub mod resample;
pub mod robust;
pub mod space;
pub mod stack;
pub mod starless;
pub mod stars;
pub mod survey;
pub mod verdict;
pub mod wcs;

pub use binned::binned;
