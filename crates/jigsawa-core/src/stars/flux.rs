//! A star's flux: the sum over a round aperture, less the sky of a ring around it.

use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::clipped;
use crate::space::{FramePx, Point};

/// Radii in units of the frame's FWHM. At equal multiples of the FWHM stars of one profile shape
/// lose the same part of their light, so that fluxes compare between frames of different seeing.
pub(super) const APERTURE: f64 = 1.8;
pub(super) const RING_FROM: f64 = 3.0;
pub(super) const RING_TO: f64 = 4.5;

/// Flux above the local sky and its error.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct ApertureFlux {
    pub(crate) flux: f64,
    pub(crate) sigma: f64,
    /// A pixel of the aperture is missing.
    pub(crate) incomplete: bool,
}

/// Memory of [`aperture`], kept from star to star.
#[derive(Default)]
pub(crate) struct Scratch {
    ring: Vec<f32>,
    deviations: Vec<f32>,
}

/// The flux of the star at `at`; `None` when its ring has too few pixels for a sky.
pub(crate) fn aperture(
    plane: &Plane,
    at: Point<FramePx>,
    fwhm_px: f64,
    scratch: &mut Scratch,
) -> Option<ApertureFlux> {
    let radius = APERTURE * fwhm_px;
    let (from, to) = (
        RING_FROM * fwhm_px,
        (RING_TO * fwhm_px).max(RING_FROM * fwhm_px + 2.0),
    );
    let r = to.ceil().whole();
    let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
    scratch.ring.clear();
    let (mut sum, mut area, mut incomplete) = (0.0, 0.0, false);
    for y in cy - r..=cy + r {
        for x in cx - r..=cx + r {
            let (dx, dy) = (x.real() - at.x, y.real() - at.y);
            let d2 = dx * dx + dy * dy;
            if d2 >= to * to {
                continue;
            }
            let v = plane.at(x, y);
            if d2 >= from * from {
                if v.is_finite() {
                    scratch.ring.push(v);
                }
                continue;
            }
            // Pixels on the rim count by the part that lies inside, to first order.
            let part = (radius + 0.5 - d2.sqrt()).clamp(0.0, 1.0);
            if part > 0.0 {
                if v.is_finite() {
                    sum += part * f64::from(v);
                    area += part;
                } else {
                    incomplete = true;
                }
            }
        }
    }
    let n = scratch.ring.len();
    if n < 12 {
        return None;
    }
    let sky = clipped(&mut scratch.ring, 3.0, 2.5, &mut scratch.deviations)?;
    let sigma = f64::from(sky.sigma);
    // Noise of the aperture's own pixels, and of the sky's median (pi/2 that of a mean).
    let variance = sigma * sigma * (area + area * area * 1.57 / sky.kept.real());
    Some(ApertureFlux {
        flux: sum - area * f64::from(sky.level),
        sigma: variance.sqrt(),
        incomplete,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn stars_of_one_shape_lose_the_same_part_at_any_seeing() {
        let kept = |fwhm: f64| {
            let s = fwhm / 2.3548;
            let plane = Plane::from_fn(Size::new(81, 81).unwrap(), |x, y| {
                let d2 = (x.real() - 40.3).powi(2) + (y.real() - 39.6).powi(2);
                (200.0 + 1000.0 * (-0.5 * d2 / (s * s)).exp()).single()
            });
            let f = aperture(
                &plane,
                Point::new(40.3, 39.6),
                fwhm,
                &mut Scratch::default(),
            );
            f.unwrap().flux / (1000.0 * std::f64::consts::TAU * s * s)
        };
        assert!((kept(3.0) / kept(5.0) - 1.0).abs() < 0.002);
        assert!((kept(3.0) - 1.0).abs() < 0.002);
    }

    #[test]
    fn a_star_at_the_corner_is_incomplete() {
        let plane = Plane::filled(Size::new(40, 40).unwrap(), 10.0);
        let f = aperture(&plane, Point::new(1.0, 1.0), 3.0, &mut Scratch::default()).unwrap();
        assert!(f.incomplete && f.flux.abs() < 1e-6);
    }
}
