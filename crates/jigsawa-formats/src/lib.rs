//! Files of Jigsawa: FITS in and out, TIFF and PNG out, header dialects turned into frame facts.
//!
//! *Frame*: a [`fits::FitsFrame`], one image of a file, open for reading by windows.
//! *Header*: its cards as text ([`fits::Header`]); *facts* ([`facts::read`]) are what the cards mean.
//! *Output*: a file under a temporary name ([`whole::Unfinished`]) that becomes visible whole or not at
//! all. Pictures are written from the top row down, as a viewer shows them.

#![forbid(unsafe_code)]

pub mod about;
pub mod error;
pub mod exr;
pub mod facts;
pub mod fingerprint;
pub mod fits;
pub mod inputs;
pub mod jpeg;
pub mod jxl;
pub mod png;
pub mod scratch;
pub mod select;
mod stumble;
pub mod tiff;
pub mod whole;
