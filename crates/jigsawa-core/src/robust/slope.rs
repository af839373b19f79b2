//! The ratio of two sets of paired values with errors: a weighted slope through the origin, outliers
//! held down by Tukey's biweight (Beaton & Tukey 1974, Technometrics 16, 147). Where the ratios scatter
//! far beyond their errors, as those of stars through two filters do, the scatter is the stars' own
//! colours, which are skewed: then the median ratio is taken, that of the middle star.

use crate::measured::Measured;
use crate::number::Convert;

use super::biweight::{BIWEIGHT_REACH, biweight};
use super::median::{MAD_TO_SIGMA, mad, median};

/// What [`robust_ratio`] found.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ratio {
    /// The slope with its standard error, which includes the scatter that the errors of the values
    /// do not explain.
    pub slope: Measured,
    /// Pairs that kept at least half of their weight.
    pub used: usize,
}

/// The ratios have a scatter of their own when its variance exceeds that of their errors this many
/// times, and when it is more than this in all: below 5 % no colours are at work.
const OWN_SCATTER: f64 = 2.0;
const LEAST_OWN_SCATTER: f64 = 0.05;

/// The slope `k` in `b = k a` of triples (a, b, sigma of b - k a in units of a, relative to 1).
///
/// Each triple is (`a`, `b`, `sigma`): positive values and the relative error of their ratio. The
/// estimate is made on ln(b / a), where star fluxes of all brightnesses scatter alike.
/// `None` with fewer than three pairs.
pub fn robust_ratio(pairs: &[(f64, f64, f64)]) -> Option<Ratio> {
    if pairs.len() < 3 {
        return None;
    }
    let logs: Vec<f64> = pairs.iter().map(|(a, b, _)| (b / a).ln()).collect();
    let mut as_f32: Vec<f32> = logs.iter().map(|v| (*v).single()).collect();
    let start = median(&mut as_f32);
    let spread = f64::from(mad(&mut as_f32, start)) * MAD_TO_SIGMA;
    let mut centre = f64::from(start);
    // Scatter beyond the quoted errors (colours, blends) is added to each error in quadrature, so
    // that a handful of very bright stars does not decide alone.
    let mut typical: Vec<f32> = pairs.iter().map(|p| p.2.single()).collect();
    let typical = f64::from(median(&mut typical));
    let excess2 = (spread * spread - typical * typical).max(0.0);
    if excess2 > OWN_SCATTER * typical * typical && spread > LEAST_OWN_SCATTER {
        let near = logs.iter().filter(|l| (*l - centre).abs() < 2.0 * spread);
        let value = centre.exp();
        return Some(Ratio {
            slope: Measured {
                value,
                // A median scatters by sqrt(pi / 2) more than a mean.
                sigma: 1.2533 * spread / pairs.len().real().sqrt() * value,
            },
            used: near.count(),
        });
    }
    let mut used = 0;
    let mut sigma = 0.0;
    for _ in 0..30 {
        let (mut sum_w, mut sum, mut sum_w2r2) = (0.0, 0.0, 0.0);
        used = 0;
        for (log, (_, _, error)) in logs.iter().zip(pairs) {
            let variance = error * error + excess2;
            let r = log - centre;
            let down = biweight(r, BIWEIGHT_REACH * variance.max(1e-24).sqrt());
            if down == 0.0 {
                continue;
            }
            used += usize::from(down >= 0.5);
            let w = down / variance.max(1e-24);
            sum_w += w;
            sum += w * r;
            sum_w2r2 += w * w * r * r;
        }
        if sum_w == 0.0 {
            break;
        }
        let step = sum / sum_w;
        centre += step;
        sigma = sum_w2r2.sqrt() / sum_w;
        if step.abs() < 1e-9 {
            break;
        }
    }
    let value = centre.exp();
    Some(Ratio {
        slope: Measured {
            value,
            sigma: sigma * value,
        },
        used,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_quarter_of_wild_pairs_does_not_move_the_ratio() {
        let pairs: Vec<_> = (0..80)
            .map(|i| {
                let a = 100.0 + f64::from(i);
                let wobble = 1.0 + 0.01 * (f64::from(i) * 1.7).sin();
                let wild = if i % 4 == 0 { 1.8 } else { 1.0 };
                (a, a * 1.25 * wobble * wild, 0.01)
            })
            .collect();
        let r = robust_ratio(&pairs).unwrap();
        assert!((r.slope.value / 1.25 - 1.0).abs() < 0.003, "{r:?}");
        assert_eq!(r.used, 60);
        assert!(r.slope.sigma > 0.0 && r.slope.sigma < 0.004);
    }

    #[test]
    fn the_middle_of_skewed_ratios_is_taken() {
        // A fifth of the stars is blue: their ratios lie far to one side.
        let pairs: Vec<_> = (0..500)
            .map(|i| {
                let t = f64::from(i % 100) / 100.0;
                let colour = if i % 5 == 0 { 0.5 + 0.2 * t } else { 0.3 * t };
                (100.0, 100.0 * colour.exp(), 0.01)
            })
            .collect();
        let mut ratios: Vec<f32> = pairs.iter().map(|p| (p.1 / p.0).single()).collect();
        let want = f64::from(crate::robust::median(&mut ratios));
        let r = robust_ratio(&pairs).unwrap();
        assert!(
            (r.slope.value / want - 1.0).abs() < 1e-3,
            "{r:?} for {want}"
        );
    }

    #[test]
    fn exact_pairs_give_the_exact_ratio() {
        let pairs = [(1.0, 3.0, 0.0), (2.0, 6.0, 0.0), (5.0, 15.0, 0.0)];
        assert!((robust_ratio(&pairs).unwrap().slope.value - 3.0).abs() < 1e-6);
        assert!(robust_ratio(&pairs[..2]).is_none());
    }
}
