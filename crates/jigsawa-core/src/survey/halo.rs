//! Light around bright stars: the wings of their profile, and what thin cloud or dew scatters.

use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::median;
use crate::stars::{Catalogue, Flag, Star};

/// Bright stars that tell of halos, and how bright they must be.
const HALO_STARS: usize = 24;
const HALO_SNR: f64 = 60.0;

/// Light between 3 and 5 widths from bright stars over that between 8 and 10, spread over the disc
/// within 5 widths, in parts of the star's flux: the median over the brightest stars.
pub(super) fn halo(plane: &Plane, found: &Catalogue) -> Option<f64> {
    let width = found.fwhm_px;
    let size = plane.size();
    let reach = 10.0 * width;
    let bright = found.stars.iter().filter(|s| {
        let inside = s.at.x > reach
            && s.at.y > reach
            && s.at.x < size.width().real() - reach
            && s.at.y < size.height().real() - reach;
        inside && !s.flags.has(Flag::Saturated) && s.flux > HALO_SNR * s.flux_sigma
    });
    let (mut near, mut far) = (Vec::new(), Vec::new());
    let mut parts: Vec<f32> = bright
        .take(HALO_STARS)
        .filter_map(|s| {
            ring(plane, s, (3.0 * width, 5.0 * width), &mut near);
            ring(plane, s, (8.0 * width, 10.0 * width), &mut far);
            let light = f64::from(median(&mut near) - median(&mut far));
            let disc = std::f64::consts::PI * (5.0 * width).powi(2);
            let part = light * disc / s.flux;
            part.is_finite().then_some(part.single())
        })
        .collect();
    (parts.len() >= 5).then(|| f64::from(median(&mut parts)))
}

/// The finite pixels of a ring around a star.
fn ring(plane: &Plane, s: &Star, (from, to): (f64, f64), out: &mut Vec<f32>) {
    out.clear();
    let r = to.ceil().whole();
    let (cx, cy) = (s.at.x.round().whole(), s.at.y.round().whole());
    for y in cy - r..=cy + r {
        for x in cx - r..=cx + r {
            let (dx, dy) = (x.real() - s.at.x, y.real() - s.at.y);
            let d2 = dx * dx + dy * dy;
            let v = plane.at(x, y);
            if d2 >= from * from && d2 < to * to && v.is_finite() {
                out.push(v);
            }
        }
    }
}
