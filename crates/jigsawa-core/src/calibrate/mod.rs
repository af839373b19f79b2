//! What a raw frame needs before its values mean light: bias, dark, flat, defects.
//!
//! [`average`] makes masters of sets of frames that show the same, whose noise [`set`] measures; [`scaling`] finds how
//! much of a dark a light has, [`glow_part`] how much of its amplifier's [`glow`], [`defects`] the pixels that no master corrects, [`dust`] the shadows in a flat, [`full`] the value of a full pixel, and [`light`] reads calibrated pixels of
//! a raw frame on the fly, with flawed ones made up by [`repair`]: those of the chip, and what single frames have
//! besides, [`rays`] and [`blooms`]; [`interpolate`] makes planes of colour of a colour camera's ([`pattern`]). What a frame is that nothing tells is a [`guess`]. Frames that were taken alike are a [`group`]; which of
//! these lights need is found in [`needs`], what their values scatter by in [`noise`], and a layout keeps it as a [`record`].

pub mod average;
pub mod blooms;
pub mod defects;
pub mod dust;
pub mod full;
pub mod glow;
pub mod glow_part;
pub mod group;
pub mod guess;
pub mod interpolate;
pub mod light;
pub mod needs;
pub mod noise;
pub mod own;
pub mod pattern;
pub mod rays;
pub mod record;
pub mod repair;
pub mod scaling;
pub mod set;
pub mod strays;

use crate::robust::median;

/// Pixels around one, at twice the distance of its neighbours: the same colour behind a colour camera's pattern.
const RING: [(i64, i64); 8] = [
    (-2, -2),
    (0, -2),
    (2, -2),
    (-2, 0),
    (2, 0),
    (-2, 2),
    (0, 2),
    (2, 2),
];

/// The median of the pixels around one, of those that are known; NaN where none is.
fn around(at: impl Fn(i64, i64) -> f32) -> f32 {
    let mut known = [0.0; RING.len()];
    let mut n = 0;
    for (dx, dy) in RING {
        let v = at(dx, dy);
        if v.is_finite() {
            known[n] = v;
            n += 1;
        }
    }
    median(&mut known[..n])
}
