//! What a plan reads off the picture's small copy once its levels are known: light without gradients, what holds bright
//! surroundings back, and the light between the stars.

use crate::number::Convert;
use rayon::prelude::*;

use super::level::Level;
use super::neutral::without;
use super::opening::opened;
use super::overview::Overview;
use super::range::RangeCompression;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad};
use crate::space::Rect;

/// The channels of the small copy without their gradients.
pub(super) fn flat(overview: &Overview, levels: &[Level; 3]) -> Vec<Plane> {
    let both = overview.small.par_iter().zip(levels);
    both.map(|(plane, l)| without(plane, &l.sky.gradient))
        .collect()
}

/// What holds bright surroundings back, if that is wanted and there are any.
pub(super) fn range(
    overview: &Overview,
    levels: &[Level; 3],
    part: f32,
    fwhm_px: f64,
) -> Option<RangeCompression> {
    if part <= 0.0 {
        return None;
    }
    let flat = flat(overview, levels);
    let above = |c: usize, i: usize| levels[c].gain * (flat[c].data()[i] - levels[c].common);
    let size = flat[0].size();
    let light = Plane::from_fn(size, |x, y| {
        let i = y * size.width() + x;
        (above(0, i) + above(1, i) + above(2, i)) / 3.0
    });
    let mut dark: Vec<f32> = light.data().iter().copied().filter(|v| *v < 0.0).collect();
    let noise = mad(&mut dark, 0.0) * MAD_TO_SIGMA.single();
    let noise = if noise.is_finite() { noise } else { 0.0 };
    RangeCompression::new(&light, overview.factor, (part, noise, fwhm_px))
}

/// Light between the stars above the common sky, from the small copy: pixels of what is kept.
pub(super) fn between(
    overview: &Overview,
    levels: &[Level; 3],
    range: Option<&RangeCompression>,
    (kept, fwhm_px): (Rect, f64),
) -> Vec<[f32; 3]> {
    let mut open = flat(overview, levels);
    let size = open[0].size();
    if fwhm_px > 0.0 {
        open.par_iter_mut().for_each(|plane| {
            opened(
                plane.data_mut(),
                size.width(),
                fwhm_px / overview.factor.real(),
            );
        });
    }
    let inside = |v: usize, from: i64, side: usize| {
        let v = (v * overview.factor).whole();
        v >= from && v < from + side.whole()
    };
    let mut all = Vec::new();
    for y in (0..size.height()).filter(|y| inside(*y, kept.y, kept.height)) {
        for x in (0..size.width()).filter(|x| inside(*x, kept.x, kept.width)) {
            let i = y * size.width() + x;
            let held = range.map_or(1.0, |t| t.of_small(i));
            all.push(std::array::from_fn(|c| {
                held * levels[c].gain * (open[c].data()[i] - levels[c].common)
            }));
        }
    }
    all
}
