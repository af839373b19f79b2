//! Equations whose matrix is zero away from its diagonal, as a spline's is: solved in a small part of the time.

use nalgebra::{DMatrix, DVector};

/// Solves `matrix` x = `right` by Cholesky's factors (Golub & Van Loan 2013, Matrix Computations, 4.3.5). Of the matrix, which is
/// symmetric, entries on the diagonal and up to `band` below it are read; it is used up. `None` where it is not positive.
pub(super) fn solve(
    matrix: &mut DMatrix<f64>,
    right: &DVector<f64>,
    band: usize,
) -> Option<DVector<f64>> {
    let n = right.len();
    let columns = matrix.as_mut_slice();
    for j in 0..n {
        let end = n.min(j + band + 1);
        let (done, rest) = columns.split_at_mut((j + 1) * n);
        let column = &mut done[j * n..];
        let root = column[j].sqrt();
        if !root.is_finite() || root <= 0.0 {
            return None;
        }
        for v in &mut column[j..end] {
            *v /= root;
        }
        for (k, other) in (j + 1..end).zip(rest.chunks_exact_mut(n)) {
            let factor = column[k];
            for (v, own) in other[k..end].iter_mut().zip(&column[k..end]) {
                *v -= factor * own;
            }
        }
    }
    let mut x = right.clone();
    let values = x.as_mut_slice();
    for j in 0..n {
        let end = n.min(j + band + 1);
        let column = &columns[j * n..(j + 1) * n];
        let known = values[j] / column[j];
        values[j] = known;
        for (v, own) in values[j + 1..end].iter_mut().zip(&column[j + 1..end]) {
            *v -= known * own;
        }
    }
    for j in (0..n).rev() {
        let end = n.min(j + band + 1);
        let column = &columns[j * n..(j + 1) * n];
        let below = values[j + 1..end].iter().zip(&column[j + 1..end]);
        let known: f64 = below.map(|(v, own)| v * own).sum();
        values[j] = (values[j] - known) / column[j];
    }
    Some(x)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number::Convert;

    #[test]
    fn a_band_is_solved_as_a_whole_matrix_is() {
        let (n, band) = (40, 7);
        let entry = |i: usize, j: usize| {
            let (low, high) = (i.min(j), i.max(j));
            if high - low > band {
                0.0
            } else if low == high {
                20.0 + low.real()
            } else {
                ((low * 13 + high * 7) % 11).real() / 11.0 - 0.4
            }
        };
        let mut matrix = DMatrix::from_fn(n, n, entry);
        let right = DVector::from_fn(n, |i, _| (i % 9).real() - 4.0);
        let whole = matrix.clone().cholesky().unwrap().solve(&right);
        let got = solve(&mut matrix, &right, band).unwrap();
        assert!((got - whole).amax() < 1e-12);
        let mut flat = DMatrix::zeros(3, 3);
        assert!(solve(&mut flat, &DVector::zeros(3), 2).is_none());
    }
}
