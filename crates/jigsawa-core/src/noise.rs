//! The noise of a frame's sky over scales.
//!
//! Masters are the output of other stacking: resampled, drizzled, often denoised. Their pixels know of each other, so
//! the scatter of pixels says little of how deep a frame is, how well a star's light or the mean of a patch is known.
//! [`NoiseScales`] holds what does: the scatter of means over blocks of 1 to 32 pixels, each times the block's side.
//! White noise gives one number for all; interpolation and denoising make the small ones lower (Casertano et al. 2000,
//! AJ 120, 2747, for drizzled frames; Labbe et al. 2003, AJ 125, 1107, for measuring it on the frame itself). It is measured
//! between the stars: `stars/noise.rs`.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

/// Sides of the blocks, in pixels.
pub const SCALES_PX: [usize; 6] = [1, 2, 4, 8, 16, 32];

/// From one scale to the next noise that was smoothed grows by so much of what it grew by before, at the most; the second
/// number is for the wide scales. Gaussians of 0.8 to 3 px have 0.37 to 0.9 of it, and 0.35 to 0.57.
const SLOWER: [f64; 2] = [0.9, 0.6];
const SLACK: f64 = 0.01;

/// Nor does it fall on scales on which nothing sharpens, whose few blocks tell it to a tenth.
const LEAST_GROWTH: f64 = 0.95;
const WIDE: usize = 4;

/// Noise on large scales is that over 8 px and so much of what it has grown by since 4 px, in parts: from 0.7 to 0.9 for
/// Gaussians of 0.8 to 2 px.
const BEYOND: f64 = 0.75;

/// Noise of the sky over scales: for blocks of [`SCALES_PX`], the standard deviation of their means times their side.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct NoiseScales {
    per_side: [f32; 6],
    /// What differences of next neighbours show of a pixel's scatter.
    next: f32,
}

impl NoiseScales {
    /// White noise: pixels that know nothing of each other.
    pub const fn white(sigma: f32) -> Self {
        Self {
            per_side: [sigma; 6],
            next: sigma,
        }
    }

    /// What noise can be: where a scale cannot be measured the one below it is the best guess.
    pub(crate) fn sensible(mut per_side: [f32; 6], next: f32, pixel: f32) -> Self {
        let known = |v: f32| v.is_finite() && v > 0.0;
        if !known(per_side[0]) {
            per_side[0] = pixel;
        }
        let growth: [f64; 5] = std::array::from_fn(|k| {
            let (a, b) = (f64::from(per_side[k]), per_side[k + 1]);
            if known(b) && a > 0.0 {
                f64::from(b) / a
            } else {
                1.0
            }
        });
        let next = if known(next) { next } else { per_side[0] };
        let mut most: f64 = 2.0;
        for (k, own) in growth.into_iter().enumerate() {
            let least = if k + 1 >= WIDE { LEAST_GROWTH } else { 0.0 };
            let growth = own.clamp(least, most.min(2.0));
            let slower = SLOWER[usize::from(k + 2 >= WIDE)];
            most = 1.0 + SLACK + slower * (growth - 1.0).max(0.0);
            per_side[k + 1] = (f64::from(per_side[k]) * growth).single();
        }
        Self { per_side, next }
    }

    /// Standard deviation of a pixel.
    pub fn pixel(&self) -> f64 {
        f64::from(self.per_side[0])
    }

    /// Standard deviation of the mean of a block of this side, times the side: what a pixel's would be were the noise
    /// white and such means as uncertain as they are.
    pub fn at(&self, side_px: f64) -> f64 {
        let t = side_px.max(1.0).log2().min(5.0);
        let i = t.index().min(4);
        let (a, b) = (f64::from(self.per_side[i]), f64::from(self.per_side[i + 1]));
        if a <= 0.0 || b <= 0.0 {
            return a;
        }
        a * (b / a).powf(t - i.real())
    }

    /// Standard deviation of the sum over so many pixels that lie together.
    pub fn of_sum(&self, pixels: f64) -> f64 {
        self.at(pixels.sqrt()) * pixels.sqrt()
    }

    /// A pixel's variance in units of what differences of next neighbours show of it: 1 for white noise, more where
    /// smoothing has tied these together.
    pub fn hidden(&self) -> f64 {
        let ratio = (self.pixel() / f64::from(self.next)).powi(2);
        if ratio.is_finite() {
            ratio.max(1.0)
        } else {
            1.0
        }
    }

    /// The noise that counts for faint light: that of white noise which is as strong on large scales. Means over blocks
    /// of 8 px miss what smoothing has moved over their rims; how much, the step from blocks of 4 px tells. Larger blocks
    /// would miss less, but are few, and full of nebula.
    pub fn deep(&self) -> f64 {
        let (a, b) = (f64::from(self.per_side[2]), f64::from(self.per_side[3]));
        b * (1.0 + BEYOND * (b / a.max(f64::MIN_POSITIVE) - 1.0).clamp(0.0, 1.0))
    }

    /// How much more noise there is on large scales than pixels show: 1 for white noise, 2 where neighbours are tied
    /// together over some two pixels.
    pub fn tied(&self) -> f64 {
        self.deep() / self.pixel().max(f64::MIN_POSITIVE)
    }
}
