//! Numbers by chance that always come out the same: noise for tests that need no camera.

use crate::noise::hash;
use jigsawa_core::number::Convert;

/// A number from 0 to 1 that two whole numbers fix.
pub fn uniform(a: u64, b: u64) -> f64 {
    hash(a.whole(), b.whole(), 0)
}

/// A number that is nearly normal, with a width of 1, and that two whole numbers fix: twelve from 0 to 1, less six.
pub fn normal(a: u64, b: u64) -> f64 {
    (1..=12).map(|k| hash(a.whole(), b.whole(), k)).sum::<f64>() - 6.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_as_wide_as_they_should_and_know_nothing_of_their_neighbours() {
        let n = 40_000u64;
        let (mut sum, mut square, mut next, mut even) = (0.0, 0.0, 0.0, 0.0);
        for i in 0..n {
            let v = normal(i, 3);
            sum += v;
            square += v * v;
            next += v * normal(i + 1, 3);
            even += uniform(i, 5);
        }
        let n = n.real();
        assert!((sum / n).abs() < 0.02 && (square / n - 1.0).abs() < 0.03);
        assert!((next / n).abs() < 0.02 && (even / n - 0.5).abs() < 0.006);
        assert!(normal(7, 1).to_bits() != normal(1, 7).to_bits());
    }
}
