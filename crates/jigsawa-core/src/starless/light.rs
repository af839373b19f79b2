//! One star's light in each plane: its height, how far it reaches, and where it hides what lies behind.

use super::profile::{Profile, elliptical};
use super::window::Window;
use crate::space::{FramePx, Point};
use crate::stars::{Flag, Star};

/// A star is modelled as far out as it stands above this part of the noise.
const REACH_SIGMA: f32 = 0.15;

/// Where the model may be off by more than this part of the noise, the star hides the sky.
const HIDDEN_SIGMA: f32 = 0.7;

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
    measured: bool,
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
            measured: false,
        }
    }

    /// Measures heights and reach. `all` are all stars from top to bottom, this one among them: their light, as far as it is
    /// known, is taken off first.
    pub(super) fn measure(
        &mut self,
        window: &Window,
        profiles: &[Profile],
        noise: &[f32],
        all: &[Self],
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
        let near = self.neighbours(all, 6.0 * fwhm_px);
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
        let over = |f: &dyn Fn(&Profile, f32, f32) -> f64| {
            let of_planes = self.heights.iter().zip(profiles).zip(noise);
            of_planes
                .map(|((h, p), s)| f(p, *h, *s))
                .fold(0.0, f64::max)
        };
        self.measured = true;
        self.reach = over(&|p, height, sigma| p.reach(height, REACH_SIGMA * sigma, most));
        let hidden = over(&|p, height, sigma| p.unknown(height, HIDDEN_SIGMA * sigma, most));
        self.hole = if hidden > 0.0 {
            let least = if saturated { 1.6 } else { 0.5 } * fwhm_px;
            hidden.max(least).min(0.45 * most)
        } else {
            0.0
        };
    }

    /// Other stars whose light may reach within `far` of this one's middle.
    fn neighbours<'a>(&self, all: &'a [Self], far: f64) -> Vec<&'a Self> {
        let first = all.partition_point(|s| s.at.y < self.at.y - far);
        all[first..]
            .iter()
            .take_while(|s| s.at.y <= self.at.y + far)
            .filter(|s| s.at != self.at && s.at.distance(self.at) < far)
            .collect()
    }

    /// Its light in a plane at a place, as far as it is measured.
    fn light_at(&self, plane: usize, profile: &Profile, dx: f64, dy: f64) -> f32 {
        let height = self.heights[plane];
        if height > 0.0 {
            height * profile.at(elliptical(&self.star, dx, dy))
        } else {
            0.0
        }
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

/// A star's light in each plane and its error, from the pixels within 1.4 widths of its middle; `None` where too few
/// can be used.
pub(super) fn light(
    star: &Star,
    window: &Window,
    profiles: &[Profile],
    noise: &[f32],
    all: &[StarLight],
    fwhm_px: f64,
) -> Option<Vec<(f64, f64)>> {
    let near = StarLight::new(star, 0).neighbours(all, 4.0 * fwhm_px);
    profiles
        .iter()
        .zip(noise)
        .enumerate()
        .map(|(p, (profile, sigma))| {
            let height = fitted(star, window, p, profile, &near, (0.0, 1.4 * fwhm_px))?;
            let light = profile.light();
            // A height rests on the squares of the profile over its pixels: about the area at half its height.
            let pixels = 0.6 * fwhm_px * fwhm_px;
            Some((
                f64::from(height) * light,
                f64::from(*sigma) * light / pixels.sqrt(),
            ))
        })
        .collect()
}

/// The height that fits the pixels between two distances best, on a sky that may be tilted, the light of others taken
/// off; of others that are not measured yet, pixels nearer to them do not count. `None` for too few pixels.
fn fitted(
    star: &Star,
    window: &Window,
    plane: usize,
    profile: &Profile,
    near: &[&StarLight],
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
            let unknown = |s: &&&StarLight| !s.measured && s.at.distance(here) < dx.hypot(dy);
            if near.iter().any(|s| unknown(&s)) {
                continue;
            }
            let others: f32 = near
                .iter()
                .map(|s| s.light_at(plane, profile, here.x - s.at.x, here.y - s.at.y))
                .sum();
            let terms =
                nalgebra::SVector::<f64, 4>::new(f64::from(profile.at(r)), 1.0, dx / to, dy / to);
            normal += terms * terms.transpose();
            right += terms * f64::from(v - others);
            count += 1;
        }
    }
    if count < 12 {
        return None;
    }
    let solved = normal.cholesky()?.solve(&right);
    solved[0].is_finite().then_some(solved[0] as f32)
}
