//! A plane in perspective: linear start, then Gauss-Newton on the distances themselves (Hartley &
//! Zisserman 2004, Multiple View Geometry, ch. 4).

use nalgebra::{Matrix3, SMatrix, SVector};

use super::{Normalised, Pair, affine};

/// Rounds of Gauss-Newton; from the affine start two or three suffice for any camera.
const ROUNDS: usize = 8;

/// The homography, or `None` when the points do not fix it.
pub(super) fn fit<A, B>(pairs: &[Pair<A, B>]) -> Option<Matrix3<f64>> {
    let n = Normalised::new(pairs);
    // Frames of the sky differ from an affine map by little: it is a start that cannot mislead.
    let affine = affine::fit(pairs)?;
    let start = n.after.try_inverse()? * affine * n.before.try_inverse()?;
    let mut h = start / start[(2, 2)];
    for _ in 0..ROUNDS {
        let mut normal = SMatrix::<f64, 8, 8>::zeros();
        let mut right = SVector::<f64, 8>::zeros();
        for ([x, y], [u, v], w) in &n.pairs {
            let z = h[(2, 0)] * x + h[(2, 1)] * y + 1.0;
            if z.abs() < 1e-6 {
                return None;
            }
            let px = (h[(0, 0)] * x + h[(0, 1)] * y + h[(0, 2)]) / z;
            let py = (h[(1, 0)] * x + h[(1, 1)] * y + h[(1, 2)]) / z;
            let row_u = SVector::from([
                x / z,
                y / z,
                1.0 / z,
                0.0,
                0.0,
                0.0,
                -px * x / z,
                -px * y / z,
            ]);
            let row_v = SVector::from([
                0.0,
                0.0,
                0.0,
                x / z,
                y / z,
                1.0 / z,
                -py * x / z,
                -py * y / z,
            ]);
            normal += *w * (row_u * row_u.transpose() + row_v * row_v.transpose());
            right += *w * ((u - px) * row_u + (v - py) * row_v);
        }
        let step = normal.cholesky()?.solve(&right);
        for i in 0..8 {
            h[(i / 3, i % 3)] += step[i];
        }
        if step.norm() < 1e-13 {
            break;
        }
    }
    Some(n.finish(h))
}
