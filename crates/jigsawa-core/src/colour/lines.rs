//! How strong narrowband lines stand against each other.

use crate::finish::sky_and_noise;
use crate::number::Convert;
use crate::robust::quantile;

/// The rule by which lines are brought to comparable strength before they are mixed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lines {
    /// Their noise becomes equal: a weak line stays weak, and clean.
    EqualNoise,
    /// Their light becomes equal: a weak line stands beside a strong one, with more noise.
    EqualSignal,
    /// Nothing is done.
    AsIs,
}

/// The light that tells a line's strength lies at this part of the pixels: above most of the nebula, below the stars.
const TELLING: f64 = 0.93;

/// A line fainter than this, in its noise, counts as this bright: noise is not made equal to another's light.
const LEAST_SIGMA: f32 = 1.5;

/// Factors for the lines' light that make it equally strong, with a geometric mean of 1. `light` are pixels
/// of each line from all over the field, above the sky; missing ones do not count.
pub fn strengths(light: &[Vec<f32>]) -> Vec<f32> {
    let strength: Vec<f32> = light
        .iter()
        .map(|values| {
            let mut finite: Vec<f32> = values.iter().copied().filter(|v| v.is_finite()).collect();
            if finite.is_empty() {
                return f32::NAN;
            }
            let (level, sigma) = sky_and_noise(&mut finite);
            (quantile(&mut finite, TELLING) - level).max(LEAST_SIGMA * sigma)
        })
        .collect();
    let known: Vec<f32> = strength.iter().copied().filter(|s| *s > 0.0).collect();
    let mean = (known.iter().map(|s| s.ln()).sum::<f32>() / known.len().max(1).single()).exp();
    strength
        .iter()
        .map(|s| if *s > 0.0 { mean / s } else { 1.0 })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_weak_line_is_lifted_and_noise_is_not() {
        let line = |height: f32| -> Vec<f32> {
            (0..4000)
                .map(|i| {
                    let noise = ((i * 7919) % 1009).single() / 1009.0 - 0.5;
                    noise + if i % 5 == 0 { height } else { 0.0 }
                })
                .collect()
        };
        let f = strengths(&[line(100.0), line(10.0)]);
        assert!((f[1] / f[0] - 10.0).abs() < 0.7, "{f:?}");
        let f = strengths(&[line(100.0), line(0.0)]);
        assert!(f[1] / f[0] < 300.0);
        assert!((f[0] * f[1] - 1.0).abs() < 1e-3);
        assert_eq!(strengths(&[vec![f32::NAN; 5], vec![3.0, 4.0]])[0], 1.0);
    }
}
