//! One number for a frame: how much of the best frame's signal-to-noise it has.
//!
//! In front of the sky's noise a star's signal-to-noise goes as transparency / (noise x FWHM). The
//! score is that product against the best values of the frame's set, with roundness as a fourth part:
//! 100 x sharpness^a x roundness^b x transparency^c x quiet^d. Each part is at most 1; "best" is the
//! value that one frame in ten reaches, so that a lucky frame does not push all others down.
//! docs/score.md explains it to users.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::compare::{Compared, Light};
use crate::robust::quantile;

/// Exponents of the parts.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Weights {
    /// Of the stars' width.
    pub sharpness: f64,
    /// Of their elongation.
    pub roundness: f64,
    /// Of the light that came through.
    pub transparency: f64,
    /// Of the sky's noise.
    pub quiet: f64,
}

impl Default for Weights {
    /// All 1, which makes half the score half the signal-to-noise, and roundness 2: a star half as
    /// long again as wide costs as much as half again the width twice over, since the eye forgives it
    /// less.
    fn default() -> Self {
        Self {
            sharpness: 1.0,
            roundness: 2.0,
            transparency: 1.0,
            quiet: 1.0,
        }
    }
}

/// A score and its parts.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Score {
    /// 0 to 100.
    pub total: f64,
    /// Best width over the frame's, 0 to 1.
    pub sharpness: f64,
    /// Best elongation over the frame's, 0 to 1.
    pub roundness: f64,
    /// Light that came through, 0 to 1.
    pub transparency: f64,
    /// Best noise over the frame's, 0 to 1.
    pub quiet: f64,
}

/// The part of the frames that reach what counts as best.
const BEST: f64 = 0.1;

/// The score of each light; `None` for one without stars, without a transparency, or alone in its set.
pub fn scores(
    lights: &[Light<'_>],
    compared: &[Compared],
    weights: &Weights,
) -> Vec<Option<Score>> {
    let raw: Vec<Option<[f64; 4]>> = lights
        .iter()
        .zip(compared)
        .map(|(l, c)| {
            Some([
                l.measures.fwhm_px?.median,
                l.measures.elongation?.median,
                c.transparency?,
                l.measures.noise,
            ])
        })
        .collect();
    let sets = compared.iter().map(|c| c.set + 1).max().unwrap_or(0);
    let best: Vec<[f64; 3]> = (0..sets)
        .map(|set| {
            let of = |k: usize| {
                let mut v: Vec<f32> = raw
                    .iter()
                    .zip(compared)
                    .filter(|(_, c)| c.set == set)
                    .filter_map(|(r, _)| Some((*r)?[k].single()))
                    .collect();
                f64::from(quantile(&mut v, BEST))
            };
            [of(0), of(1), of(3)]
        })
        .collect();
    raw.iter()
        .zip(compared)
        .map(|(raw, c)| {
            let [fwhm, elongation, transparency, noise] = (*raw)?;
            // Against nothing but itself every frame would be the best.
            if compared.iter().filter(|o| o.set == c.set).count() < 2 {
                return None;
            }
            let [best_fwhm, best_elongation, best_noise] = best[c.set];
            let part = |best: f64, value: f64| {
                if value > 0.0 {
                    (best / value).min(1.0)
                } else {
                    1.0
                }
            };
            let (sharpness, roundness) = (part(best_fwhm, fwhm), part(best_elongation, elongation));
            let (transparency, quiet) = (transparency.clamp(0.0, 1.0), part(best_noise, noise));
            let total = 100.0
                * sharpness.powf(weights.sharpness)
                * roundness.powf(weights.roundness)
                * transparency.powf(weights.transparency)
                * quiet.powf(weights.quiet);
            Some(Score {
                total,
                sharpness,
                roundness,
                transparency,
                quiet,
            })
        })
        .collect()
}
