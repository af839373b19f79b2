//! The profile that a picture's stars have: light over distance from the middle, per plane, from many stars.

use crate::number::Convert;
use rayon::prelude::*;

use super::ellipse::Ellipse;
use super::{MARGIN, Planes};
use crate::doors::DoorError;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::{FramePx, Point, Rect, Size};
use crate::stars::{Catalogue, Star, moffat};

/// Steps of the profile in a width at half maximum.
const STEPS: f64 = 8.0;

/// It is measured to so many widths; beyond, it goes on as the Moffat function's wings do.
const MEASURED: f64 = 4.0;

/// Stars that it is measured on.
const STARS: usize = 150;

/// They stand so far apart from others, in widths, and so high above the noise.
const ALONE: f64 = 7.0;
const LEAST_SNR: f64 = 60.0;

/// Fewer stars than this give no profile: the Moffat function itself serves.
const LEAST_STARS: usize = 6;

/// Height over distance, 1 in the middle.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Profile {
    step_px: f64,
    /// Steps in a pixel.
    steps_of_px: f64,
    heights: Vec<f32>,
    /// How far stars scatter around the profile, in parts of their height.
    errors: Vec<f32>,
    /// Beyond the last step light falls with this power of the distance.
    power: f64,
    /// The same heights, and those beyond as far as any star reaches.
    far: Vec<f32>,
    /// Stars behind it; none for the function alone.
    stars: usize,
}

impl Profile {
    /// A Moffat function.
    fn moffat(fwhm_px: f64, beta: f64) -> Self {
        let alpha = moffat::alpha(fwhm_px, beta);
        let step_px = fwhm_px / STEPS;
        let count = (MEASURED * STEPS).index();
        let height = |i: usize| {
            (1.0 + (i.real() * step_px / alpha).powi(2))
                .powf(-beta)
                .single()
        };
        Self {
            step_px,
            steps_of_px: 1.0 / step_px,
            heights: (0..=count).map(height).collect(),
            // A function that nobody has measured is trusted to a twentieth of its height.
            errors: (0..=count).map(|i| 0.05 * height(i)).collect(),
            power: 2.0 * beta,
            far: Vec::new(),
            stars: 0,
        }
        .continued()
    }

    /// Its heights as far as any star reaches.
    fn continued(mut self) -> Self {
        let last = self.heights.len() - 1;
        let steps = (MARGIN.real() / self.step_px).index() + 2;
        let beyond = |i: usize| (i.real() / last.real()).powf(-self.power).single();
        self.far = (0..steps)
            .map(|i| match self.heights.get(i) {
                Some(h) => *h,
                None => self.heights[last] * beyond(i),
            })
            .collect();
        self
    }

    /// The exponent of the Moffat function that falls off as this profile does between one and three widths, where the
    /// fit of a star's core says little. `None` where too few stars told it.
    pub(super) fn exponent(&self, fwhm_px: f64) -> Option<f64> {
        if self.stars == 0 {
            return None;
        }
        let steps = STEPS.index()..(3.0 * STEPS).index();
        let off = |beta: f64| -> f64 {
            let model = Self::moffat(fwhm_px, beta);
            steps
                .clone()
                .map(|i| {
                    let (h, m) = (self.heights[i].max(1e-7), model.heights[i]);
                    // Each by how well it is known, but none better than to a hundredth of its height.
                    let error = (self.errors[i] / h).hypot(0.01);
                    f64::from(((h / m).ln() / error).powi(2))
                })
                .sum()
        };
        let candidates = (20..=100).map(|k| f64::from(k) * 0.1);
        candidates
            .map(|beta| (off(beta), beta))
            .min_by(|a, b| a.0.total_cmp(&b.0))
            .map(|(_, beta)| beta)
    }

    /// The height at a distance.
    #[inline]
    pub(super) fn at(&self, r: f64) -> f32 {
        let t = r * self.steps_of_px;
        let i = t.index();
        match (self.far.get(i), self.far.get(i + 1)) {
            (Some(a), Some(b)) => a + (t - i.real()).single() * (b - a),
            _ => 0.0,
        }
    }

    /// How far a star of height 1 may lie off the profile at a distance.
    fn error(&self, r: f64) -> f32 {
        let i = (r / self.step_px).round().index();
        match self.errors.get(i) {
            Some(e) => *e,
            None => {
                self.errors.last().copied().unwrap_or(0.0) * self.at(r)
                    / self.heights[self.heights.len() - 1]
            }
        }
    }

    /// The largest distance at which a star of this height may be off by more than a level; at most `most`.
    pub(super) fn unknown(&self, height: f32, level: f32, most: f64) -> f64 {
        let steps = (most / self.step_px).index();
        // Errors fall outwards.
        (0..=steps)
            .take_while(|i| height * self.error((*i).real() * self.step_px) > level)
            .last()
            .map_or(0.0, |i| (i.real() + 1.0) * self.step_px)
            .min(most)
    }

    /// The light of a star of height 1.
    pub(super) fn light(&self) -> f64 {
        let ring = |(i, h): (usize, &f32)| {
            let r = i.real() * self.step_px;
            let width = if i == 0 { 0.125 * self.step_px } else { r };
            f64::from(*h) * std::f64::consts::TAU * width * self.step_px
        };
        self.heights.iter().enumerate().map(ring).sum()
    }

    /// The distance at which a star of this height falls below a level; at most `most`.
    pub(super) fn reach(&self, height: f32, level: f32, most: f64) -> f64 {
        let mut r = 0.0;
        while r < most && height * self.at(r) > level {
            r += self.step_px;
        }
        r.min(most)
    }
}

/// The profiles of a plane: of the whole, and of its parts, since optics make other stars in the corners than in the
/// middle.
#[derive(Debug, Clone)]
pub(super) struct Profiles {
    /// By all stars.
    pub(super) whole: Profile,
    /// By those nearest to each part's middle, row by row; empty where stars are too few.
    parts: Vec<Profile>,
    size: Size,
}

/// Parts along both sides, and the stars that a part's profile rests on.
const PARTS: usize = 5;
const STARS_OF_PART: usize = 40;

/// With fewer stars than this a part could not be told from the whole.
const LEAST_FOR_PARTS: usize = 100;

impl Profiles {
    /// The profile of the stars around a place.
    pub(super) fn at(&self, p: Point<FramePx>) -> &Profile {
        let along = |v: f64, side: usize| {
            (v * PARTS.real() / side.real())
                .max(0.0)
                .index()
                .min(PARTS - 1)
        };
        let part = along(p.y, self.size.height()) * PARTS + along(p.x, self.size.width());
        self.parts.get(part).unwrap_or(&self.whole)
    }
}

/// The profiles of all planes.
pub(super) fn measure(
    planes: Planes<'_>,
    catalogue: &Catalogue,
    noise: &[f32],
) -> Result<Vec<Profiles>, DoorError> {
    let width = catalogue.fwhm_px;
    let chosen = telling(catalogue);
    planes
        .iter()
        .zip(noise)
        .map(|(plane, sigma)| {
            let rings: Vec<Option<(Star, Vec<f32>)>> = chosen
                .par_iter()
                .map(|s| Ok(rings(*plane, s, width, *sigma)?.map(|r| (*s, r))))
                .collect::<Result<_, DoorError>>()?;
            let rings: Vec<(Star, Vec<f32>)> = rings.into_iter().flatten().collect();
            let of = |list: &[&(Star, Vec<f32>)]| {
                let rings: Vec<&[f32]> = list.iter().map(|s| s.1.as_slice()).collect();
                joined(&rings, width, catalogue.beta)
            };
            let all: Vec<&(Star, Vec<f32>)> = rings.iter().collect();
            let size = plane.size();
            let parts = if rings.len() < LEAST_FOR_PARTS {
                Vec::new()
            } else {
                (0..PARTS * PARTS)
                    .into_par_iter()
                    .map(|k| {
                        let middle =
                            |i: usize, side: usize| (i.real() + 0.5) * side.real() / PARTS.real();
                        let at: Point<FramePx> = Point::new(
                            middle(k % PARTS, size.width()),
                            middle(k / PARTS, size.height()),
                        );
                        let mut near = all.clone();
                        near.sort_by(|a, b| a.0.at.distance(at).total_cmp(&b.0.at.distance(at)));
                        near.truncate(STARS_OF_PART);
                        // The brightest come first, as all are in the whole.
                        near.sort_by(|a, b| b.0.flux.total_cmp(&a.0.flux));
                        of(&near)
                    })
                    .collect()
            };
            Ok(Profiles {
                whole: of(&all[..all.len().min(STARS)]),
                parts,
                size,
            })
        })
        .collect()
}

/// Bright clean stars without neighbours.
fn telling(catalogue: &Catalogue) -> Vec<Star> {
    let apart = ALONE * catalogue.fwhm_px;
    let bright: Vec<&Star> = catalogue
        .clean()
        .filter(|s| s.flux > LEAST_SNR * s.flux_sigma)
        .take(8 * STARS)
        .collect();
    let alone = |s: &&&Star| {
        // Stars stand from bright to faint: only those that are bright enough to matter are asked.
        catalogue
            .stars
            .iter()
            .take_while(|o| o.flux > 0.01 * s.flux)
            .filter(|o| o.at != s.at)
            .all(|o| o.at.distance(s.at) > apart)
    };
    bright
        .iter()
        .filter(alone)
        .take(3 * STARS)
        .map(|s| **s)
        .collect()
}

/// One star's heights in rings, its sky taken off, 1 at the first; `None` where it is too faint in this plane.
fn rings(
    plane: &dyn crate::doors::FrameSource,
    star: &Star,
    width: f64,
    sigma: f32,
) -> Result<Option<Vec<f32>>, DoorError> {
    let reach = ((MEASURED + 2.5) * width).ceil().whole();
    let rect = Rect {
        x: star.at.x.round().whole() - reach,
        y: star.at.y.round().whole() - reach,
        width: (2 * reach + 1).index(),
        height: (2 * reach + 1).index(),
    };
    if rect.intersect(plane.size().rect()) != rect {
        return Ok(None);
    }
    let Some(size) = Size::new(rect.width, rect.height) else {
        return Ok(None);
    };
    let mut values = Plane::filled(size, 0.0);
    plane.read(rect, values.data_mut())?;
    let count = (MEASURED * STEPS).index() + 1;
    let step = width / STEPS;
    let mut bins: Vec<Vec<f32>> = vec![Vec::new(); count];
    let mut sky = Vec::new();
    let (cx, cy) = (star.at.x - rect.x.real(), star.at.y - rect.y.real());
    let ellipse = Ellipse::of(star);
    for y in 0..rect.height {
        for (x, v) in values
            .row(y)
            .iter()
            .enumerate()
            .filter(|(_, v)| v.is_finite())
        {
            let r = ellipse.distance(x.real() - cx, y.real() - cy);
            let bin = (r / step).round().index();
            if bin < count {
                bins[bin].push(*v);
            } else if r > (MEASURED + 0.5) * width {
                sky.push(*v);
            }
        }
    }
    if sky.len() < 50 {
        return Ok(None);
    }
    let sky = median(&mut sky);
    let heights: Vec<f32> = bins
        .iter_mut()
        .map(|b| {
            if b.is_empty() {
                f32::NAN
            } else {
                b.iter().sum::<f32>() / b.len().single() - sky
            }
        })
        .collect();
    // The first rings hold no pixel, or one: height is told by those within half a width.
    let inner: Vec<f32> = heights[..=(STEPS / 2.0).index()]
        .iter()
        .copied()
        .filter(|v| v.is_finite())
        .collect();
    let top = inner.iter().copied().fold(0.0, f32::max);
    if top < 20.0 * sigma {
        return Ok(None);
    }
    Ok(Some(heights))
}

/// The height at which the profile fits a star's inner rings best.
fn height_of(rings: &[f32], profile: &Profile, inner: usize) -> f32 {
    let (mut product, mut square) = (0.0, 0.0);
    for (v, p) in rings.iter().zip(&profile.heights).take(inner + 1) {
        if v.is_finite() {
            product += v * p;
            square += p * p;
        }
    }
    if square > 0.0 {
        product / square
    } else {
        f32::NAN
    }
}

/// Many stars' rings joined: scaled onto each other by what lies within a width, the median of each ring.
fn joined(rings: &[&[f32]], width: f64, beta: f64) -> Profile {
    let mut profile = Profile::moffat(width, beta);
    if rings.len() < LEAST_STARS {
        return profile;
    }
    let inner = STEPS.index();
    for _ in 0..2 {
        // Each star's height is the one that fits the profile as it is so far.
        let heights: Vec<f32> = rings
            .iter()
            .map(|r| height_of(r, &profile, inner))
            .collect();
        for (i, height) in profile.heights.iter_mut().enumerate() {
            let mut values: Vec<f32> = rings
                .iter()
                .zip(&heights)
                .map(|(r, h)| r[i] / h)
                .filter(|v| v.is_finite())
                .collect();
            if values.len() >= LEAST_STARS {
                *height = median(&mut values);
            }
        }
        let top = profile.heights[0];
        if top.is_nan() || top <= 0.0 {
            return Profile::moffat(width, beta);
        }
        // A profile falls outwards, and never below zero.
        let mut below = f32::INFINITY;
        for h in &mut profile.heights {
            *h = (*h / top).min(below).max(1e-7);
            below = *h;
        }
    }
    profile.errors = scatter(rings, &profile, inner);
    profile.stars = rings.len();
    profile.continued()
}

/// The brightest stars tell how far stars scatter around the profile: fainter ones scatter by their noise and by what lies
/// behind them.
const TELLING: usize = 40;

/// How far the brightest stars lie off the profile in each ring, in parts of their height; smoothed, and falling outwards
/// from where it is largest.
fn scatter(rings: &[&[f32]], profile: &Profile, inner: usize) -> Vec<f32> {
    let mut errors: Vec<f32> = (0..profile.heights.len())
        .map(|i| {
            let mut off: Vec<f32> = rings
                .iter()
                .take(TELLING)
                .map(|r| (r[i] / height_of(r, profile, inner) - profile.heights[i]).abs())
                .filter(|v| v.is_finite())
                .collect();
            if off.len() < LEAST_STARS {
                f32::NAN
            } else {
                median(&mut off) * MAD_TO_SIGMA.single()
            }
        })
        .collect();
    // A ring without pixels is as its neighbour further out; nothing is known better than a thousandth of the profile.
    let mut outer = 0.0f32;
    for (e, h) in errors.iter_mut().zip(&profile.heights).rev() {
        if e.is_nan() {
            *e = outer;
        }
        *e = e.max(0.002 * h).max(outer);
        outer = *e;
    }
    errors
}
