//! The jobs of Jigsawa on files: frames are opened, measured, placed, balanced and merged; results are written.
//!
//! Nothing here knows a command line, a terminal or a page. What a job may use and whom it tells how far it is stands in a
//! [`run::Run`]; what stops it is a [`trouble::Trouble`], as data.
//!
//! A night passes through the modules in this order, and each uses earlier ones only:
//!
//! 1. [`find`] turns folders and patterns into files, [`frames`] opens them, [`start`] begins with frames or with a layout
//!    ([`layout_file`]); [`outputs`] checks before any work where results may go. [`cache`] keeps what is measured.
//!    [`calibrate`] makes masters of biases, darks and flats, and says what each light needs; [`pixels`] reads lights through them.
//! 2. [`survey`] measures and compares the frames of a night.
//! 3. [`register`] places frames, [`normalize`] matches their values.
//! 4. [`stack`] makes masters of many frames; [`compose`], [`hdr`] and [`mosaic`] merge these, [`placed_frames`] writes each on the canvas; [`seeing`] makes stars
//!    alike, [`small`] has small copies.
//! 5. [`finish`] opens linear results and takes out stars, [`picture`] writes pictures.
//!
//! [`clock`], [`foreign`] and [`words`] serve them all.

#![forbid(unsafe_code)]
// Every error is a `Trouble`, and each of its variants says when it comes.
#![allow(clippy::missing_errors_doc)]

pub mod cache;
pub mod calibrate;
pub mod clock;
pub mod compose;
pub mod find;
pub mod finish;
pub mod foreign;
pub mod frames;
pub mod hdr;
pub mod layout_file;
pub mod mosaic;
pub mod normalize;
pub mod outputs;
pub mod pattern;
pub mod picture;
pub mod pixels;
pub mod placed_frames;
pub mod register;
pub mod run;
pub mod seeing;
pub mod small;
pub mod stack;
pub mod start;
pub mod survey;
pub mod trouble;
pub mod words;
