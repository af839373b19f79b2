//! Any linear map and a shift, by weighted linear least squares.

use nalgebra::{Matrix3, Vector3};

use super::{Normalised, Pair};

/// The affine map, or `None` when the points lie on a line.
pub(super) fn fit<A, B>(pairs: &[Pair<A, B>]) -> Option<Matrix3<f64>> {
    let n = Normalised::new(pairs);
    let mut normal = Matrix3::zeros();
    let (mut right_u, mut right_v) = (Vector3::zeros(), Vector3::zeros());
    for ([x, y], [u, v], w) in &n.pairs {
        let row = Vector3::new(*x, *y, 1.0);
        normal += *w * row * row.transpose();
        right_u += *w * *u * row;
        right_v += *w * *v * row;
    }
    // Normalised points in two dimensions give a determinant near the cube of their number.
    let count = normal[(2, 2)];
    if normal.determinant() < 1e-9 * count * count * count {
        return None;
    }
    let solve = normal.cholesky()?;
    let (a, b) = (solve.solve(&right_u), solve.solve(&right_v));
    let matrix = Matrix3::new(a.x, a.y, a.z, b.x, b.y, b.z, 0.0, 0.0, 1.0);
    Some(n.finish(matrix))
}
