//! What the pixels of a star's core tell: whether they are full, where the middle of full ones is, and whether what they
//! belong to shines on where a star ends.

use super::MARGIN;
use super::window::Window;
use crate::number::Convert;
use crate::robust::median;
use crate::space::{FramePx, Point};

/// A core whose mean is nearer to its highest pixel than this is flat.
const FLAT: f32 = 0.93;

/// And pixels that are full are about as high as the highest.
const SATURATED: f32 = 0.6;

/// Pixels this near to the highest of a full star are full.
const FULL_CORE: f32 = 0.85;

/// Where the middle of a full star is, if it is long: of its full pixels those rows count that are about as wide as the
/// widest, since charge that has run along a column makes narrow ones.
pub(super) fn middle_of_saturated(
    window: &Window,
    saturations: &[f32],
    at: Point<FramePx>,
) -> Option<Point<FramePx>> {
    let plane = (0..saturations.len())
        .max_by(|a, b| {
            let part = |p: usize| highest(window, p, at) / saturations[p];
            part(*a).total_cmp(&part(*b))
        })
        .unwrap_or(0);
    let bar = FULL_CORE * highest(window, plane, at);
    let is_saturated = |x: i64, y: i64| window.at(plane, x, y) >= bar;
    let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
    let (x0, y0) = (-1..=1)
        .flat_map(|dy| (-1..=1).map(move |dx| (cx + dx, cy + dy)))
        .find(|(x, y)| is_saturated(*x, *y))?;
    let mut rows: Vec<(i64, i64, i64)> = Vec::new();
    let far = MARGIN.whole() - 2;
    for step in [-1, 1] {
        let (mut x, mut y) = (x0, if step < 0 { y0 } else { y0 + 1 });
        while (y - y0).abs() < far && is_saturated(x, y) {
            let from = (1..far).find(|k| !is_saturated(x - k, y)).unwrap_or(far);
            let to = (1..far).find(|k| !is_saturated(x + k, y)).unwrap_or(far);
            rows.push((y, x - from + 1, x + to));
            // Up or down from the middle of the run.
            x += (to - from).div_euclid(2);
            y += step;
        }
    }
    let widest = rows.iter().map(|r| r.2 - r.1).max().unwrap_or(0);
    let (mut sum, mut n) = ((0.0, 0.0), 0.0);
    for (y, from, to) in rows.iter().filter(|r| 2 * (r.2 - r.1) > widest) {
        let width = (to - from).real();
        sum.0 += width * 0.5 * (from + to - 1).real();
        sum.1 += width * (*y).real();
        n += width;
    }
    (n > 0.0 && rows.len().whole() > widest + 2).then(|| Point::new(sum.0 / n, sum.1 / n))
}

/// The highest pixel of a core.
pub(super) fn highest(window: &Window, plane: usize, at: Point<FramePx>) -> f32 {
    let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
    let near = (-1..=1).flat_map(|dy| (-1..=1).map(move |dx| (cx + dx, cy + dy)));
    near.map(|(x, y)| window.at(plane, x, y))
        .filter(|v| v.is_finite())
        .fold(f32::MIN, f32::max)
}

/// Rings, in widths, between which a core or a knot still shines by this part of its height, and the sky beyond.
const SHINES: (f64, f64, f32) = (2.2, 3.2, 0.08);
const BESIDE: (f64, f64) = (5.0, 6.0);

/// Does a thing shine on where a star's light has ended?
pub(super) fn shines_around(
    window: &Window,
    plane: usize,
    at: Point<FramePx>,
    fwhm_px: f64,
) -> bool {
    let reach = (BESIDE.1 * fwhm_px).ceil().whole();
    let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
    let middle = |from: f64, to: f64| {
        let mut ring: Vec<f32> = (-reach..=reach)
            .flat_map(|dy| (-reach..=reach).map(move |dx| (cx + dx, cy + dy)))
            .filter(|(x, y)| {
                let r = ((*x).real() - at.x).hypot((*y).real() - at.y);
                r >= from * fwhm_px && r < to * fwhm_px
            })
            .map(|(x, y)| window.at(plane, x, y))
            .filter(|v| v.is_finite())
            .collect();
        (!ring.is_empty()).then(|| median(&mut ring))
    };
    let all = (
        middle(0.0, 0.5),
        middle(SHINES.0, SHINES.1),
        middle(BESIDE.0, BESIDE.1),
    );
    let (Some(core), Some(around), Some(sky)) = all else {
        return true;
    };
    around - sky > SHINES.2 * (core - sky)
}

/// Is the core of a star full?
pub(super) fn is_flat(
    window: &Window,
    plane: usize,
    at: Point<FramePx>,
    fwhm_px: f64,
    saturation: f32,
) -> bool {
    let reach = (0.5 * fwhm_px).ceil().whole();
    let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
    let near = (-reach..=reach)
        .flat_map(|dy| (-reach..=reach).map(move |dx| (cx + dx, cy + dy)))
        .filter(|(x, y)| ((*x).real() - at.x).hypot((*y).real() - at.y) <= 0.5 * fwhm_px);
    let core: Vec<f32> = near
        .map(|(x, y)| window.at(plane, x, y))
        .filter(|v| v.is_finite())
        .collect();
    let most = core.iter().copied().fold(f32::MIN, f32::max);
    most > SATURATED * saturation && core.iter().sum::<f32>() > FLAT * most * core.len().single()
}
