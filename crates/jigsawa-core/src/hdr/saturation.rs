//! From which value a frame's pixels are full.
//!
//! A header's number is often that of the camera, while calibration has moved the values since; full pixels
//! themselves pile up at one level, which the histogram shows. The lower of both counts.

use crate::number::Convert;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::blocks::{each_from, highest};

/// From which value pixels are full, and how that is known.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Saturation {
    /// In the frame's units.
    pub level: f32,
    /// How it is known.
    pub by: SaturationBy,
}

/// How it is known from which value pixels are full.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SaturationBy {
    /// Somebody said so.
    Said,
    /// The header says so.
    Header,
    /// Pixels pile up there.
    PileUp,
    /// The cores of stars are flat there.
    Stars,
}

impl SaturationBy {
    /// In a word or two.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Said => "as you say",
            Self::Header => "by its header",
            Self::PileUp => "where pixels pile up",
            Self::Stars => "where stars are flat",
        }
    }
}

/// From which value the pixels of a frame are full: as it is `said`; else by its header or where they pile up, the
/// lower of both; else where `stars` are flat. `None` where nothing tells.
pub fn saturation(
    values: &[f32],
    sky: f32,
    said: Option<f32>,
    header: Option<f32>,
    stars: Option<f32>,
) -> Option<Saturation> {
    if let Some(level) = said {
        return Some(Saturation {
            level,
            by: SaturationBy::Said,
        });
    }
    let of = |level: Option<f32>, by| level.map(|level| Saturation { level, by });
    let piled = of(pile_up(values, sky), SaturationBy::PileUp);
    let written = of(header, SaturationBy::Header);
    match (written, piled) {
        (Some(w), Some(p)) => Some(if p.level < w.level { p } else { w }),
        (one, other) => one.or(other).or(of(stars, SaturationBy::Stars)),
    }
}

/// Bins between the sky and the highest value.
const BINS: usize = 400;

/// A pile spans so many bins at the most: flat fields spread a level by some per cent.
const PILE_BINS: usize = 12;

/// So many pixels make a pile, and they must be so many times those of as many bins below.
const LEAST_PILE: usize = 24;
const STEEP: f64 = 4.0;

/// The level at which pixels pile up because nothing is counted above it; its lower edge. `None` without such.
pub fn pile_up(values: &[f32], sky: f32) -> Option<f32> {
    let highest = values
        .par_chunks(1 << 16)
        .map(highest)
        .reduce(|| f32::MIN, f32::max);
    if !highest.is_finite() || highest <= sky {
        return None;
    }
    let per = BINS.single() / (highest - sky);
    // The lower half is sky and what stands in it: no pile that matters.
    let half = sky + 0.5 * (highest - sky);
    let counts = values
        .par_chunks(1 << 16)
        .fold(
            || vec![0u32; BINS],
            |mut counts, chunk| {
                each_from(chunk, half, |i| {
                    let bin = (chunk[i] - sky) * per;
                    counts[bin.index().min(BINS - 1)] += 1;
                });
                counts
            },
        )
        .reduce(
            || vec![0u32; BINS],
            |mut a, b| {
                for (a, b) in a.iter_mut().zip(b) {
                    *a += b;
                }
                a
            },
        );
    let sum = |from: usize, to: usize| counts[from..to].iter().map(|c| *c as usize).sum::<usize>();
    // The highest pile: odd pixels above it, as a flat field leaves them, are too few to be one.
    let top = (BINS / 2 + 2 * PILE_BINS..=BINS).rev().find(|top| {
        let (pile, below) = (
            sum(top - PILE_BINS, *top),
            sum(top - 2 * PILE_BINS, top - PILE_BINS),
        );
        pile >= LEAST_PILE && pile.real() > STEEP * below.real()
    })?;
    // Its lower edge: the first bin that holds a good part of it.
    let pile = sum(top - PILE_BINS, top);
    let edge = (top - PILE_BINS..top).find(|b| counts[*b] as usize * PILE_BINS > pile)?;
    Some(sky + edge.single() / per)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Star-like values: many faint, few bright, cut at a level that a flat field spreads.
    fn values(level: f32, spread: f32) -> Vec<f32> {
        (0..200_000)
            .map(|i| {
                let u = (i.single() + 0.5) / 200_000.0;
                let v = 100.0 / u.powf(1.3);
                let flat = 1.0 + spread * ((i * 7919 % 1000).single() / 500.0 - 1.0);
                v.min(level) * flat
            })
            .collect()
    }

    #[test]
    fn a_pile_is_seen_where_it_begins_and_none_is_made_up() {
        let piled = pile_up(&values(50_000.0, 0.0), 100.0).unwrap();
        assert!((49_500.0..=50_000.0).contains(&piled), "{piled}");
        let spread = pile_up(&values(50_000.0, 0.01), 100.0).unwrap();
        assert!((48_800.0..50_000.0).contains(&spread), "{spread}");
        assert_eq!(pile_up(&values(1e12, 0.0), 100.0), None);
        assert_eq!(pile_up(&[f32::NAN; 9], 0.0), None);
        assert_eq!(pile_up(&[5.0; 100], 5.0), None);
    }

    #[test]
    fn what_is_said_goes_before_all_and_the_lower_of_header_and_pile_counts() {
        let v = values(50_000.0, 0.0);
        let level = |said, header| saturation(&v, 100.0, said, header, None).unwrap();
        assert_eq!(level(Some(9.0), Some(1.0)).by, SaturationBy::Said);
        assert_eq!(level(None, Some(65_535.0)).by, SaturationBy::PileUp);
        assert_eq!(level(None, Some(30_000.0)).by, SaturationBy::Header);
        let smooth = values(1e12, 0.0);
        assert_eq!(saturation(&smooth, 100.0, None, None, None), None);
        let stars = saturation(&smooth, 100.0, None, None, Some(7.0)).unwrap();
        assert_eq!((stars.level, stars.by), (7.0, SaturationBy::Stars));
    }
}
