//! Level and noise of a set of values most of which are background: repeated clipping around the
//! median (the usual kappa-sigma clipping, with robust centre and width). Centre and width are those of
//! grouped data, so that a 16-bit master whose noise is one or two units is measured as well as a float
//! one.

use super::counts::Counts;
use super::median::{MAD_TO_SIGMA, grouped_median};
use crate::number::Convert;

/// The outcome of [`clipped`].
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Clipped {
    /// Median of the values that were kept.
    pub level: f32,
    /// Standard deviation of the noise, from their median absolute deviation.
    pub sigma: f32,
    /// How many values were kept.
    pub kept: usize,
}

/// Rounds of clipping at most: noise with stars is settled after three to six, and values that never settle (a sum of
/// theirs is beyond a float's range) have no level that more rounds would find.
const ROUNDS: usize = 30;

/// Level and noise of finite values by clipping at `low` and `high` sigma around the median until
/// less than a hundredth of them goes, `ROUNDS` at most. Values are reordered; `scratch` is used for deviations.
/// `None` for no values, and where level or noise would not be finite.
pub fn clipped(values: &mut [f32], low: f32, high: f32, scratch: &mut Vec<f32>) -> Option<Clipped> {
    if values.is_empty() {
        return None;
    }
    let mut kept = values.len();
    for round in 1.. {
        let level = grouped_median(&mut values[..kept]);
        scratch.clear();
        scratch.extend(values[..kept].iter().map(|v| (v - level).abs()));
        let sigma = grouped_median(scratch) * MAD_TO_SIGMA.single();
        let (floor, ceiling) = (level - low * sigma, level + high * sigma);
        if !(floor.is_finite() && ceiling.is_finite()) {
            break;
        }
        let before = kept;
        let mut i = 0;
        while i < kept {
            if values[i] < floor || values[i] > ceiling {
                kept -= 1;
                values.swap(i, kept);
            } else {
                i += 1;
            }
        }
        // 1 % more or less moves the level by a hundredth of sigma: not worth another selection.
        if (before - kept) * 100 <= before || sigma == 0.0 || round == ROUNDS {
            return Some(Clipped { level, sigma, kept });
        }
    }
    None
}

/// The same for counted values, whose order nobody needs. `None` when the level lies where the bins end, or bins are
/// too wide or too narrow for a float.
pub fn clipped_counts(counts: &Counts, low: f32, high: f32) -> Option<Clipped> {
    let (lowest, highest) = counts.range();
    let (mut from, mut to) = (f32::NEG_INFINITY, f32::INFINITY);
    for _ in 0..ROUNDS {
        let level = counts.median(from, to);
        // Not true of NaN either.
        let within = level > lowest && level < highest;
        if !within {
            return None;
        }
        let sigma = counts.deviation(level, from, to) * MAD_TO_SIGMA.single();
        let before = counts.below(to) - counts.below(from);
        from = from.max(level - low * sigma);
        to = to.min(level + high * sigma);
        let kept = counts.below(to) - counts.below(from);
        if (before - kept) * 100.0 <= before {
            return Some(Clipped {
                level,
                sigma,
                kept: kept.index(),
            });
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bright_outliers_do_not_move_the_level() {
        let mut v: Vec<f32> = (0..1000)
            .map(|i| 100.0 + (i % 21).single() - 10.0)
            .collect();
        v.extend((0..200).map(|i| 500.0 + i.single()));
        let c = clipped(&mut v, 3.0, 3.0, &mut Vec::new()).unwrap();
        assert!((c.level - 100.0).abs() < 0.6, "{c:?}");
        assert_eq!(c.kept, 1000);
    }

    #[test]
    fn rounding_to_whole_numbers_changes_little() {
        // A normal distribution of sigma 1.6 by its quantiles, rounded.
        let normal = |u: f64| {
            let t = (-2.0 * u.min(1.0 - u).ln()).sqrt();
            let z = t - (2.307_53 + 0.270_61 * t) / (1.0 + 0.992_29 * t + 0.044_81 * t * t);
            if u < 0.5 { -z } else { z }
        };
        for shift in [0.0, 0.2, 0.45] {
            let mut v: Vec<f32> = (1..4000)
                .map(|i| {
                    (100.0 + shift + 1.6 * normal(f64::from(i) / 4000.0))
                        .round()
                        .single()
                })
                .collect();
            let c = clipped(&mut v, 3.0, 2.5, &mut Vec::new()).unwrap();
            assert!(
                (f64::from(c.level) - 100.0 - shift).abs() < 0.05,
                "{shift}: {c:?}"
            );
            assert!((f64::from(c.sigma) - 1.6).abs() < 0.12, "{shift}: {c:?}");
        }
    }

    #[test]
    fn constant_values_have_no_noise_and_none_have_no_level() {
        let c = clipped(&mut [7.0; 50], 3.0, 3.0, &mut Vec::new()).unwrap();
        assert_eq!((c.level, c.sigma, c.kept), (7.0, 0.0, 50));
        assert!(clipped(&mut [], 3.0, 3.0, &mut Vec::new()).is_none());
    }

    #[test]
    fn clipping_ends_whatever_comes_in() {
        // Bits by chance: exponents of all sizes, infinities, NaN.
        let bits = |i: u32| f32::from_bits(i.wrapping_mul(2_654_435_761) ^ (i << 7));
        let chance: Vec<f32> = (1..3000).map(bits).collect();
        let finite: Vec<f32> = chance.iter().copied().filter(|v| v.is_finite()).collect();
        let spread: Vec<f32> = (0..2000).map(|i| (i.single() - 1000.0) * 3.4e35).collect();
        let narrow: Vec<f32> = (0..2000).map(|i| 1.0 + (i % 3).single() * 1e-7).collect();
        for values in [chance, finite, spread, narrow] {
            let found = clipped(&mut values.clone(), 3.0, 2.5, &mut Vec::new());
            assert!(found.is_none_or(|c| c.level.is_finite() && c.sigma.is_finite()));
            let mut counts = Counts::default();
            if counts.around_level(&values)
                && let Some(c) = clipped_counts(&counts, 3.0, 2.5)
            {
                assert!(c.level.is_finite() && c.sigma.is_finite());
            }
        }
    }

    #[test]
    fn counted_values_are_clipped_alike() {
        let mut v: Vec<f32> = (0..1500)
            .map(|i| {
                let u = |k: usize| ((i * k) % 1499).single() / 1499.0;
                300.0 + 9.0 * (u(7) + u(311) + u(613) + u(97) - 2.0)
            })
            .collect();
        v.extend((0..150).map(|i| 350.0 + 3.0 * i.single()));
        let mut counts = Counts::default();
        assert!(counts.around_level(&v));
        let got = clipped_counts(&counts, 3.0, 2.5).unwrap();
        let want = clipped(&mut v, 3.0, 2.5, &mut Vec::new()).unwrap();
        assert!(
            (got.level - want.level).abs() < 0.03 * want.sigma,
            "{got:?} {want:?}"
        );
        assert!(
            (got.sigma / want.sigma - 1.0).abs() < 0.03,
            "{got:?} {want:?}"
        );
    }
}
