//! The made-up sky: an invented field, "Lantern Reef", rendered for any pixel grid with its truth.
//!
//! The field is a continuous model: stars ([`stars`]) and nebula ([`clouds`]) over a plane whose unit
//! is one pixel of a reference camera. A [`shot::Shot`] says how it is photographed: where the camera
//! points ([`pointing`]), what the optics make of a point ([`optics`]), how the sky glows ([`glow`]),
//! how the camera counts ([`camera`]; [`chip`] for raw frames, with all that calibration takes off) and what goes wrong ([`spoilt`]). [`demo`] has the sample masters, [`panels`] those of a mosaic,
//! [`night`] a sample night of sub-frames, [`raw_night`] one of raw frames with all that calibrates them, [`master`] what other stacking makes of a frame. Rendering gives a plane and the [`shot::Truth`] beside it. The
//! same numbers give the same bits, on any number of threads.
//!
//! Light is in electrons for a sub-frame; the camera turns it into its own units. Nebula is not
//! blurred by the optics: its finest structure is several pixels wide.

#![forbid(unsafe_code)]

pub mod camera;
pub mod chance;
pub mod chip;
pub mod clouds;
pub mod demo;
pub mod fields;
pub mod garble;
pub mod glow;
pub mod levels;
pub mod master;
pub mod night;
pub mod optics;
pub mod panels;
pub mod pointing;
pub mod raw_night;
pub mod shot;
pub mod spoilt;
pub mod stars;
pub mod train;
pub mod vane;

mod nodes;
mod noise;
