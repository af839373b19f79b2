//! A shift: the weighted mean of the distances.

use nalgebra::Matrix3;

use super::Pair;

/// The shift that brings the pairs together best.
pub(super) fn fit<A, B>(pairs: &[Pair<A, B>]) -> Matrix3<f64> {
    let weights: f64 = pairs.iter().map(|p| p.weight).sum();
    let mean =
        |of: fn(&Pair<A, B>) -> f64| pairs.iter().map(|p| p.weight * of(p)).sum::<f64>() / weights;
    let (dx, dy) = (mean(|p| p.to.x - p.from.x), mean(|p| p.to.y - p.from.y));
    Matrix3::new(1.0, 0.0, dx, 0.0, 1.0, dy, 0.0, 0.0, 1.0)
}
