//! Shift, rotation and one scale, with or without a mirror, by weighted least squares in closed form
//! (Umeyama 1991, IEEE PAMI 13, 376, in two dimensions).

use nalgebra::Matrix3;

use super::{Normalised, Pair};

/// The better of the plain and the mirrored similarity.
pub(super) fn fit<A, B>(pairs: &[Pair<A, B>]) -> Option<Matrix3<f64>> {
    let n = Normalised::new(pairs);
    // Points are centred: with complex numbers, to = k from or, mirrored, to = k conj(from).
    let (mut plain, mut mirrored, mut energy) = ([0.0; 2], [0.0; 2], 0.0);
    for ([x, y], [u, v], w) in &n.pairs {
        plain[0] += w * (u * x + v * y);
        plain[1] += w * (v * x - u * y);
        mirrored[0] += w * (u * x - v * y);
        mirrored[1] += w * (v * x + u * y);
        energy += w * (x * x + y * y);
    }
    if energy <= 0.0 {
        return None;
    }
    let size = |k: [f64; 2]| k[0].hypot(k[1]);
    // The fitted part of the variance grows with |k|: the larger one explains more.
    let matrix = if size(plain) >= size(mirrored) {
        let [c, s] = plain.map(|v| v / energy);
        Matrix3::new(c, -s, 0.0, s, c, 0.0, 0.0, 0.0, 1.0)
    } else {
        let [c, s] = mirrored.map(|v| v / energy);
        Matrix3::new(c, s, 0.0, s, -c, 0.0, 0.0, 0.0, 1.0)
    };
    Some(n.finish(matrix))
}
