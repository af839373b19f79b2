//! The jobs of Jigsawa on files: frames are opened, measured, placed, balanced and merged; results are written.
//!
//! Nothing here knows a command line, a terminal or a page. What a job may use and whom it tells how far it is stands in a
//! [`run::Run`]; what stops it is a [`trouble::Trouble`], as data.
//!
//! Modules stand in the order in which a night meets them; a later one may use an earlier one.

#![forbid(unsafe_code)]
// Every error is a `Trouble`, and each of its variants says when it comes.
#![allow(clippy::missing_errors_doc)]

pub mod cache;
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
pub mod picture;
pub mod placed_frames;
pub mod register;
pub mod run;
pub mod seeing;
pub mod small;
pub mod start;
pub mod survey;
pub mod trouble;
pub mod words;
