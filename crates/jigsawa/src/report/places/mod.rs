//! The report of registration: is every frame where it should be, in the middle and in every corner?
//!
//! An imager looks first at the stars themselves, so each frame shows five of them, from the middle and near
//! the corners, in the reference, in the frame as it is placed, and as a difference, at 4:1. Then come the
//! figures: which way the matched stars are off, whether that depends on brightness or on the distance from the
//! middle, and where there are stars at all.

mod chart;
mod page;
mod star;

pub use page::{Places, write};
