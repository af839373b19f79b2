//! Stacking: many frames of one filter into one master, without what only single frames show.
//!
//! In: the placed and balanced values of all frames ([`Stacked`] is a method of [`merge`](crate::merge)), what each counts and
//! how far its values may stray ([`Light`]). Out, for each master: the weighted mean, how many values are in it, how many were
//! rejected below and above, and its noise.
//!
//! Values are judged by their *predicted* noise: that of the frame's sky, and the photons of what light there is. So three
//! frames suffice to tell that one of them is wrong, where the scatter of three values tells nothing. The predicted noise
//! is the least width that any [`Rule`] judges by. What honest frames may differ by besides comes on top (Gruen,
//! Seitz & Bernstein 2014, Publications of the Astronomical Society of the Pacific 126, 158): where light changes from pixel to
//! pixel a part of that change, the larger the more the frame's seeing differs from that of all, and a small part
//! of the light itself. Sharp stars keep their cores so, and a cosmic ray beside them goes.
//!
//! Where a frame's noise is not the same all over, its values count by that of their place, smoothed.
//!
//! Trails are found over whole frames, in what each lies off the mean of all ([`Residuals`]), and are rejected as shapes
//! ([`Streak`]): their wings are fainter than any pixel's noise. Only parts of the canvas that they touch are merged again.
//!
//! Where pixels are to be dropped onto a finer canvas instead of interpolated, a first stack tells which of them are to be
//! believed ([`Vetted`]), and their mean is another method ([`Dropped`]).
//!
//! Most pixels need no more than two passes over their values: where none lies far from the mean of all, all are in it. Only
//! the others are sorted.

mod averages;
mod column;
mod dropped;
mod evenness;
mod grid;
mod judge;
mod light;
mod op;
mod outliers;
mod rejected;
mod residuals;
mod rule;
mod stacked;
mod streak;
mod strip;
mod vetted;
mod work;

pub use dropped::{DROPPED_PLANES, Dropped};
pub use evenness::weigh_places;
pub use grid::CanvasGrid;
pub use light::{Light, LightSource};
pub use rejected::{BLOCK, Rejected};
pub use residuals::Residuals;
pub use rule::{Rejection, Rule};
pub use stacked::{Group, PLANES, Pass, Stacked};
pub use streak::{Streak, streaks};
pub use vetted::Vetted;
