//! One frame measured: its stars' widths and shapes, also over the field, its sky, and what spoils it.
//!
//! The shape of a faint star is mostly noise, and noise only ever makes it longer. So the elongation
//! of a part of the frame is that of the median of its stars' ellipses, taken as vectors (log of the
//! axis ratio, at twice the angle), which noise does not lengthen; the frame's is the median over nine
//! parts, so that coma and tilt, which point elsewhere in each corner, still count.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::beside::stars_and_trails;
use super::gradient::gradient;
use super::halo::halo;
use super::trails::Trail;
use crate::noise::NoiseScales;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad, median};
use crate::stars::{Catalogue, DetectError, Flag, Growth, Settings, SkyMesh, Star};

/// A middle value and the scatter around it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Middle {
    /// The median.
    pub median: f64,
    /// Standard deviation around it, from the median deviation.
    pub spread: f64,
}

/// The stars of one ninth of the frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Cell {
    /// Stars behind the numbers.
    pub stars: usize,
    /// Their median width.
    pub fwhm_px: f64,
    /// Long over short axis of their common shape.
    pub elongation: f64,
    /// Direction of its long axis, from +x towards +y, in (-90, 90].
    pub angle_deg: f64,
}

/// How the width changes over the field, in parts of its median.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Course {
    /// The largest difference between opposite sides: a tilted chip.
    pub tilt: f64,
    /// What the corners have more than the centre: a curved field, or a wrong focus.
    pub curvature: f64,
}

/// A star that is kept for comparing frames.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Spot {
    /// Its centre in the frame.
    pub at: (f32, f32),
    /// Its flux above the sky, in the frame's units.
    pub flux: f32,
    /// Standard error of the flux.
    pub flux_sigma: f32,
    /// Standard error of each coordinate.
    pub position_sigma_px: f32,
    /// Nothing is known against it.
    pub clean: bool,
}

/// What was measured on one frame, in the frame's units and pixels.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Measures {
    /// Stars found.
    pub stars: usize,
    /// Stars whose shapes were used.
    pub stars_used: usize,
    /// The threshold above which stars were looked for, in noise widths.
    pub threshold_sigma: f64,
    /// Full width at half maximum of the stars used; absent without such stars.
    pub fwhm_px: Option<Middle>,
    /// Elongation: the median over the field, and the scatter from star to star.
    pub elongation: Option<Middle>,
    /// Direction of the common long axis, from +x towards +y, in degrees.
    pub angle_deg: Option<f64>,
    /// The nine parts of the field, row after row; a part with less than four stars is absent.
    pub map: [Option<Cell>; 9],
    /// How the width changes over the field; absent when the centre or a corner has too few stars.
    pub course: Option<Course>,
    /// Level of the sky.
    pub sky: f64,
    /// Noise of a pixel of the sky.
    pub noise: f64,
    /// Change of the sky over the frame, from its darkest to its brightest corner, by a plane.
    pub gradient: f64,
    /// Unevenness of the sky on large scales, beyond that plane, in the pixel's noise.
    pub unevenness: f64,
    /// Light around bright stars, in parts of their own: the wings of the profile, and any halo.
    /// Absent without bright stars.
    pub halo: Option<f64>,
    /// Pixels at the saturation level; absent where the level is not known.
    pub saturated_px: Option<usize>,
    /// Trails of satellites and aircraft, in frame pixels.
    pub trails: Vec<Trail>,
    /// The brightest stars, bright ones first.
    pub spots: Vec<Spot>,
    /// How its stars' light grows with the aperture.
    pub growth: Option<Growth>,
}

impl Measures {
    /// Measures of a frame that was made smaller by `factor` before, as means of blocks: in the pixels
    /// and with the noise of the frame itself.
    #[must_use]
    pub fn enlarged(mut self, factor: usize) -> Self {
        let f = factor.real();
        let middle = (f - 1.0) / 2.0;
        let place = |p: (f64, f64)| (p.0 * f + middle, p.1 * f + middle);
        if let Some(w) = &mut self.fwhm_px {
            w.median *= f;
            w.spread *= f;
        }
        for cell in self.map.iter_mut().flatten() {
            cell.fwhm_px *= f;
        }
        self.noise *= f;
        self.unevenness /= f;
        for t in &mut self.trails {
            (t.from, t.to) = (place(t.from), place(t.to));
        }
        for s in &mut self.spots {
            let at = place((f64::from(s.at.0), f64::from(s.at.1)));
            s.at = (at.0.single(), at.1.single());
            s.flux *= (f * f).single();
            s.flux_sigma *= (f * f).single();
            s.position_sigma_px *= f.single();
        }
        self.growth = self.growth.map(|g| g.enlarged(f));
        self.saturated_px = self.saturated_px.map(|n| n * factor * factor);
        self
    }
}

/// Stars brighter than this, in noise widths of their flux, tell widths and shapes.
const LEAST_SNR: f64 = 12.0;

/// Stars behind a part of the field.
const LEAST_IN_CELL: usize = 4;

/// Stars behind a whole field that is not taken in parts.
const LEAST_IN_PARTS: usize = 60;

/// Stars kept for comparing frames: enough for a match and for a flux ratio of half a per cent.
const MOST_SPOTS: usize = 400;

/// How stars are looked for: as everywhere, but with the threshold lowered where few stand out, and
/// with no more stars measured than medians need.
pub const SETTINGS: Settings = Settings {
    threshold_sigma: 5.0,
    lowest_sigma: 3.5,
    enough: 100,
    most: 900,
};

/// Measures a frame or a window of one; `origin` is the window's first pixel in the frame.
///
/// # Errors
/// When there is nothing to measure: no data, or one value only.
pub fn measure(
    plane: &Plane,
    origin: (i64, i64),
    saturation: Option<f32>,
) -> Result<Measures, DetectError> {
    let (found, trails) = stars_and_trails(plane, saturation, &SETTINGS)?;
    let used: Vec<&Star> = found
        .clean()
        .filter(|s| s.flux > LEAST_SNR * s.flux_sigma)
        .collect();
    let map = map(&used, plane);
    let shift = |p: (f64, f64)| (p.0 + origin.0.real(), p.1 + origin.1.real());
    let (gradient, unevenness) = gradient(&found.sky);
    Ok(Measures {
        stars: found.found,
        stars_used: used.len(),
        threshold_sigma: found.threshold_sigma,
        fwhm_px: middle(used.iter().map(|s| s.fwhm_px)),
        elongation: elongation(&used, &map),
        angle_deg: (!used.is_empty()).then(|| shape(&used).1),
        course: course(&map),
        map,
        sky: f64::from(found.sky.typical_level()),
        noise: found.noise.pixel(),
        gradient,
        unevenness,
        halo: halo(plane, &found),
        saturated_px: found.saturation.map(|s| count_above(plane, 0.98 * s)),
        trails: trails
            .into_iter()
            .map(|t| Trail {
                from: shift(t.from),
                to: shift(t.to),
                ..t
            })
            .collect(),
        spots: spots(&found, origin),
        growth: found.growth,
    })
}

/// Measures a frame that shows no stars (a flat, a dark): its level, noise and unevenness.
///
/// # Errors
/// When there is nothing to measure: no data at all.
pub fn measure_even(plane: &Plane, saturation: Option<f32>) -> Result<Measures, DetectError> {
    let sky = SkyMesh::measure(plane).ok_or(DetectError::NoData)?;
    let (gradient, unevenness) = gradient(&sky);
    Ok(Measures {
        stars: 0,
        stars_used: 0,
        threshold_sigma: SETTINGS.threshold_sigma,
        fwhm_px: None,
        elongation: None,
        angle_deg: None,
        map: [None; 9],
        course: None,
        sky: f64::from(sky.typical_level()),
        noise: NoiseScales::measure(plane, &sky, None).pixel(),
        gradient,
        unevenness,
        halo: None,
        saturated_px: saturation.map(|s| count_above(plane, 0.98 * s)),
        trails: Vec::new(),
        spots: Vec::new(),
        growth: None,
    })
}

fn middle(values: impl Iterator<Item = f64>) -> Option<Middle> {
    let mut values: Vec<f32> = values.map(Convert::single).collect();
    if values.is_empty() {
        return None;
    }
    let centre = median(&mut values);
    Some(Middle {
        median: f64::from(centre),
        spread: f64::from(mad(&mut values, centre)) * MAD_TO_SIGMA,
    })
}

/// Elongation and direction (degrees) of the median ellipse.
fn shape(stars: &[&Star]) -> (f64, f64) {
    let part = |f: fn(f64) -> f64| {
        let mut values: Vec<f32> = stars
            .iter()
            .map(|s| (s.elongation.ln() * f(2.0 * s.angle_rad)).single())
            .collect();
        f64::from(median(&mut values))
    };
    let (x, y) = (part(f64::cos), part(f64::sin));
    (x.hypot(y).exp(), 0.5 * y.atan2(x).to_degrees())
}

fn map(used: &[&Star], plane: &Plane) -> [Option<Cell>; 9] {
    let (w, h) = (plane.size().width().real(), plane.size().height().real());
    let third = |v: f64, n: f64| (3.0 * (v + 0.5) / n).index().min(2);
    std::array::from_fn(|i| {
        let inside: Vec<&Star> = used
            .iter()
            .filter(|s| third(s.at.x, w) == i % 3 && third(s.at.y, h) == i / 3)
            .copied()
            .collect();
        let width = middle(inside.iter().map(|s| s.fwhm_px))?;
        let (elongation, angle_deg) = shape(&inside);
        (inside.len() >= LEAST_IN_CELL).then_some(Cell {
            stars: inside.len(),
            fwhm_px: width.median,
            elongation,
            angle_deg,
        })
    })
}

fn elongation(used: &[&Star], map: &[Option<Cell>; 9]) -> Option<Middle> {
    let each = middle(used.iter().map(|s| s.elongation))?;
    let median = if used.len() >= LEAST_IN_PARTS {
        middle(map.iter().flatten().map(|c| c.elongation))?.median
    } else {
        shape(used).0
    };
    Some(Middle {
        median,
        spread: each.spread,
    })
}

fn course(map: &[Option<Cell>; 9]) -> Option<Course> {
    let at = |i: usize| map[i].map(|c| c.fwhm_px);
    let centre = at(4)?;
    let corners = [at(0)?, at(2)?, at(6)?, at(8)?];
    let mut all: Vec<f32> = map.iter().flatten().map(|c| c.fwhm_px.single()).collect();
    let typical = f64::from(median(&mut all));
    let [a, b, c, d] = corners;
    // Two sides, two ends, two diagonals.
    let tilt = [(a + c - b - d) / 2.0, (a + b - c - d) / 2.0, a - d, b - c];
    Some(Course {
        tilt: tilt.iter().fold(0.0, |m: f64, t| m.max(t.abs())) / typical,
        curvature: (corners.iter().sum::<f64>() / 4.0 - centre) / typical,
    })
}

fn count_above(plane: &Plane, level: f32) -> usize {
    let of = |chunk: &[f32]| chunk.iter().map(|v| u32::from(*v >= level)).sum::<u32>() as usize;
    plane.data().chunks(1 << 16).map(of).sum()
}

fn spots(found: &Catalogue, origin: (i64, i64)) -> Vec<Spot> {
    found
        .stars
        .iter()
        .filter(|s| !s.flags.has(Flag::Saturated) && !s.flags.has(Flag::Edge))
        .take(MOST_SPOTS)
        .map(|s| Spot {
            at: (
                (s.at.x + origin.0.real()).single(),
                (s.at.y + origin.1.real()).single(),
            ),
            flux: s.flux.single(),
            flux_sigma: s.flux_sigma.single(),
            position_sigma_px: s.position_sigma_px.single(),
            clean: s.flags.is_clean(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    fn field(long: f64, curved: f64) -> Plane {
        let (w, h) = (600usize, 480usize);
        let mut p = Plane::from_fn(Size::new(w, h).unwrap(), |x, y| {
            let i = (x * 7919 + y * 104_729) % 10_007;
            200.0 + 0.02 * x.single() + ((i * i) % 10_007).single() / 2502.0 - 2.0
        });
        for (i, (cx, cy)) in (0..12)
            .flat_map(|r| (0..15).map(move |c| (c, r)))
            .map(|(c, r)| (20.0 + 40.0 * f64::from(c), 20.0 + 40.0 * f64::from(r)))
            .enumerate()
        {
            let away = (cx - 300.0).hypot(cy - 240.0) / 384.0;
            let width = 3.0 * (1.0 + curved * away * away);
            let (a, b) = (width * long.sqrt() / 2.3548, width / long.sqrt() / 2.3548);
            for y in (cy.index() - 15)..(cy.index() + 15).min(h) {
                for x in (cx.index() - 15)..(cx.index() + 15).min(w) {
                    let (dx, dy) = (x.real() - cx - 0.3, y.real() - cy);
                    let q = (dx / a).powi(2) + (dy / b).powi(2);
                    let height = 300.0 + 10.0 * i.real();
                    p.data_mut()[y * w + x] += (height * (-0.5 * q).exp()).single();
                }
            }
        }
        p
    }

    #[test]
    fn width_shape_and_gradient_of_a_field_are_measured() {
        let m = measure(&field(1.3, 0.0), (100, 50), Some(60_000.0)).unwrap();
        assert!(m.stars_used > 120, "{}", m.stars_used);
        assert!((m.fwhm_px.unwrap().median / 3.0 - 1.0).abs() < 0.02);
        assert!((m.elongation.unwrap().median - 1.3).abs() < 0.02);
        assert!(m.angle_deg.unwrap().abs() < 3.0);
        assert!((m.gradient - 11.0).abs() < 1.5, "{}", m.gradient);
        assert_eq!(m.saturated_px, Some(0));
        assert!(m.spots.iter().all(|s| s.at.0 > 100.0 && s.at.1 > 50.0));
        let c = m.course.unwrap();
        assert!(c.tilt < 0.03 && c.curvature.abs() < 0.03, "{c:?}");
    }

    #[test]
    fn a_curved_field_is_wider_in_its_corners() {
        let c = measure(&field(1.0, 0.4), (0, 0), None)
            .unwrap()
            .course
            .unwrap();
        assert!(c.curvature > 0.12 && c.tilt < 0.06, "{c:?}");
    }

    #[test]
    fn a_frame_without_stars_is_measured_all_the_same() {
        let p = Plane::from_fn(Size::new(300, 200).unwrap(), |x, y| {
            let i = (x * 7919 + y * 104_729) % 10_007;
            500.0 + ((i * i) % 10_007).single() / 1000.0
        });
        let m = measure(&p, (0, 0), None).unwrap();
        assert!(m.stars_used == 0 && m.fwhm_px.is_none() && m.elongation.is_none());
        assert!((m.sky - 505.0).abs() < 1.0);
        assert!(measure(&Plane::filled(p.size(), 3.0), (0, 0), None).is_err());
    }
}
