//! One star's light in each plane: its height, how far it reaches, and where it hides what lies behind.

use super::profile::{Profile, elliptical};
use super::window::Window;
use crate::space::{FramePx, Point};
use crate::stars::{Flag, Star};

/// A star is modelled as far out as it stands above this part of the noise.
const REACH_SIGMA: f32 = 0.15;

/// The model is trusted to this part of the star's height: where that is half the noise, the star hides the sky.
const TRUST: f32 = 0.05;
const HIDDEN_SIGMA: f32 = 0.5;

/// Elongations of fainter stars are noise: those above this many sigma have their own.
const SHAPED_SNR: f64 = 40.0;

/// A star and its light.
#[derive(Debug, Clone)]
pub(super) struct StarLight {
    pub(super) at: Point<FramePx>,
    star: Star,
    /// Height in each plane.
    heights: Vec<f32>,
    /// How far its light is taken off; 0 for a star that is none in this picture.
    pub(super) reach: f64,
    /// Radius of what is filled; 0 for a star that is only taken off.
    pub(super) hole: f64,
}

impl StarLight {
    pub(super) fn new(star: &Star, planes: usize) -> Self {
        let mut star = *star;
        if star.flux < SHAPED_SNR * star.flux_sigma || star.flags.has(Flag::Blended) {
            star.elongation = 1.0;
        }
        Self {
            at: star.at,
            star,
            heights: vec![0.0; planes],
            reach: 0.0,
            hole: 0.0,
        }
    }

    /// Measures heights and reach; `places` are those of all stars, from top to bottom.
    pub(super) fn measure(
        &mut self,
        window: &Window,
        profiles: &[Profile],
        noise: &[f32],
        places: &[Point<FramePx>],
        fwhm_px: f64,
        most: f64,
    ) {
        let saturated = self.star.flags.has(Flag::Saturated);
        // A saturated star is told by its wings, any other by its core.
        let (from, to) = if saturated {
            (0.9 * fwhm_px, 3.5 * fwhm_px)
        } else {
            (0.0, 1.4 * fwhm_px)
        };
        let first = places.partition_point(|p| p.y < self.at.y - 2.0 * to);
        let near: Vec<Point<FramePx>> = places[first..]
            .iter()
            .take_while(|p| p.y <= self.at.y + 2.0 * to)
            .filter(|p| **p != self.at && p.distance(self.at) < 2.0 * to)
            .copied()
            .collect();
        for (p, height) in self.heights.iter_mut().enumerate() {
            let fit = |from: f64| fitted(&self.star, window, p, &profiles[p], &near, (from, to));
            *height = fit(from).unwrap_or(0.0);
            // A flat core that nobody has flagged, as in one channel only, shows as a model far above the pixels.
            let middle = window.at(p, self.at.x.round() as i64, self.at.y.round() as i64);
            let wings = if saturated {
                *height
            } else {
                fit(0.9 * fwhm_px).unwrap_or(0.0)
            };
            if !saturated && *height > 200.0 * noise[p] && wings > 1.3 * *height && middle < wings {
                *height = wings;
            }
            *height = height.max(0.0);
        }
        let reach = |k: f32| {
            let of_planes = self.heights.iter().zip(profiles).zip(noise);
            of_planes
                .map(|((h, p), s)| p.reach(*h, k * s, most))
                .fold(0.0, f64::max)
        };
        self.reach = reach(REACH_SIGMA);
        let hidden = reach(HIDDEN_SIGMA / TRUST);
        self.hole = if hidden > 0.0 {
            let least = if saturated { 1.6 } else { 0.9 } * fwhm_px;
            hidden.max(least).min(0.45 * most)
        } else {
            0.0
        };
    }

    /// Takes the star's light off the part of a row that it reaches; what it hides becomes missing.
    pub(super) fn take_from_row(&self, plane: usize, profile: &Profile, y: i64, row: &mut [f32]) {
        let dy = y as f64 - self.at.y;
        let height = self.heights[plane];
        let stretch = self.star.elongation.sqrt();
        let far = self.reach.max(self.hole) * stretch;
        if dy.abs() > far || height <= 0.0 && self.hole <= 0.0 {
            return;
        }
        let half = (far * far - dy * dy).sqrt();
        let from = ((self.at.x - half).ceil().max(0.0)) as usize;
        let to = ((self.at.x + half).floor() as i64 + 1).clamp(0, row.len() as i64) as usize;
        for (x, v) in (from..).zip(&mut row[from..to.max(from)]) {
            let dx = x as f64 - self.at.x;
            if dx.hypot(dy) <= self.hole {
                *v = f32::NAN;
                continue;
            }
            let r = elliptical(&self.star, dx, dy);
            if r < self.reach {
                // The last fifth of the reach fades, so that no rim is left.
                let fade = ((self.reach - r) / (0.2 * self.reach)).min(1.0) as f32;
                *v -= fade * height * profile.at(r);
            }
        }
    }
}

/// The height that fits the pixels between two distances best, on a sky that may be tilted; pixels that are nearer
/// to another star do not count. `None` for too few pixels.
fn fitted(
    star: &Star,
    window: &Window,
    plane: usize,
    profile: &Profile,
    near: &[Point<FramePx>],
    (from, to): (f64, f64),
) -> Option<f32> {
    // Sky from a ring around, so that star and sky do not trade: the fit has height, level and tilt.
    let reach = (to * 1.8).ceil() as i64;
    let (cx, cy) = (star.at.x.round() as i64, star.at.y.round() as i64);
    let mut normal = nalgebra::SMatrix::<f64, 4, 4>::zeros();
    let mut right = nalgebra::SVector::<f64, 4>::zeros();
    let mut count = 0;
    for y in cy - reach..=cy + reach {
        for x in cx - reach..=cx + reach {
            let (dx, dy) = (x as f64 - star.at.x, y as f64 - star.at.y);
            let r = elliptical(star, dx, dy);
            let v = window.at(plane, x, y);
            if r < from || r > 1.8 * to || !v.is_finite() {
                continue;
            }
            let here = Point::new(x as f64, y as f64);
            if near.iter().any(|p| p.distance(here) < dx.hypot(dy)) {
                continue;
            }
            let terms =
                nalgebra::SVector::<f64, 4>::new(f64::from(profile.at(r)), 1.0, dx / to, dy / to);
            normal += terms * terms.transpose();
            right += terms * f64::from(v);
            count += 1;
        }
    }
    if count < 12 {
        return None;
    }
    let solved = normal.cholesky()?.solve(&right);
    solved[0].is_finite().then_some(solved[0] as f32)
}
