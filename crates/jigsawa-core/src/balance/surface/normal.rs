//! Normal equations, and what holds a spline stiff.
//!
//! A spline's second differences are held small (Eilers & Marx 1996, Stat. Sci. 11, 89), by so much that waves
//! shorter than its stiffness are not followed.

use crate::number::Convert;
use std::ops::AddAssign;

use nalgebra::{DMatrix, DVector};

use super::spline::{Grid, WIDE};
use super::{Shape, band};
use crate::space::Size;

/// Normal equations; of the matrix, which is symmetric, the part on and below the diagonal.
#[derive(Clone)]
pub(super) struct Normal {
    pub(super) matrix: DMatrix<f64>,
    pub(super) right: DVector<f64>,
    /// That of all places.
    weight: f64,
}

impl Normal {
    /// Those of so many numbers, nothing in them yet but the places' weight.
    pub(super) fn zero(n: usize, weight: f64) -> Self {
        Self {
            matrix: DMatrix::zeros(n, n),
            right: DVector::zeros(n),
            weight,
        }
    }

    pub(super) fn less(&self, other: &Self) -> Self {
        Self {
            matrix: &self.matrix - &other.matrix,
            right: &self.right - &other.right,
            weight: self.weight - other.weight,
        }
    }

    /// The shape's numbers; `None` when the patches do not fix them.
    pub(super) fn solve(&self, shape: Shape, canvas: Size) -> Option<DVector<f64>> {
        let mut m = self.matrix.clone();
        let solved = if let Shape::Spline { stiffness } = shape {
            hold(&mut m, self.weight, stiffness, canvas);
            // A place lies under four rows of splines.
            let band = (WIDE - 1) * (Grid::of(canvas).shape().0 + 1);
            band::solve(&mut m, &self.right, band)?
        } else {
            m.cholesky()?.solve(&self.right)
        };
        solved.iter().all(|v| v.is_finite()).then_some(solved)
    }
}

impl AddAssign<&Self> for Normal {
    fn add_assign(&mut self, other: &Self) {
        self.matrix += &other.matrix;
        self.right += &other.right;
        self.weight += other.weight;
    }
}

/// Holds the second differences of a spline's coefficients small, along both axes. A wave as long as the
/// stiffness then loses half of its height: patches pull with their weight for each coefficient, the
/// differences with (2 pi piece / wave)^4.
fn hold(m: &mut DMatrix<f64>, weight: f64, stiffness: f64, canvas: Size) {
    let grid = Grid::of(canvas);
    let (columns, rows) = grid.shape();
    let pull = weight / (columns * rows).real();
    let wave = stiffness * canvas.width().min(canvas.height()).real();
    let strength =
        |axis: usize| pull * (wave / (2.0 * std::f64::consts::PI * grid.piece()[axis])).powi(4);
    let mut add = |three: [usize; 3], by: f64| {
        let second = [1.0, -2.0, 1.0];
        for (i, a) in three.iter().zip(second) {
            for (j, b) in three.iter().zip(second) {
                m[(*i, *j)] += by * a * b;
            }
        }
    };
    for r in 0..rows {
        for c in 0..columns {
            let k = r * columns + c;
            if c >= 2 {
                add([k - 2, k - 1, k], strength(0));
            }
            if r >= 2 {
                add([k - 2 * columns, k - columns, k], strength(1));
            }
        }
    }
    // Where no patch lies, differences alone leave a tilt free: too little to be seen elsewhere.
    for k in 0..columns * rows {
        m[(k, k)] += 1e-9 * pull.max(f64::MIN_POSITIVE);
    }
}
