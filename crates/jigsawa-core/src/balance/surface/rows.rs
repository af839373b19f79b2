//! What places have in each of a shape's numbers: worked out once, and gone through at each round of a fit.

use multiversion::multiversion;
use nalgebra::DVector;

use super::normal::Normal;
use super::spline::WIDE;

/// The parts of all places.
pub(super) enum Rows {
    /// Each place has a part in each number: of each number those of all places.
    Whole(Vec<Vec<f64>>),
    /// A place has parts in the splines that lie over it.
    Spline {
        /// Of all.
        numbers: usize,
        /// The first number in each row of splines, and the parts in it and in those after it.
        parts: Vec<[(usize, [f64; WIDE]); WIDE]>,
    },
}

impl Rows {
    /// Of a shape with so many numbers, all of which each place has a part in.
    pub(super) fn whole<R: IntoIterator<Item = f64>>(
        numbers: usize,
        rows: impl Iterator<Item = R>,
    ) -> Self {
        let mut columns = vec![Vec::with_capacity(rows.size_hint().0); numbers];
        for row in rows {
            for (column, part) in columns.iter_mut().zip(row) {
                column.push(part);
            }
        }
        Self::Whole(columns)
    }

    /// The shape's values at all places, with these numbers.
    pub(super) fn values(&self, numbers: &DVector<f64>, out: &mut [f64]) {
        match self {
            Self::Whole(columns) => {
                out.fill(0.0);
                for (column, n) in columns.iter().zip(numbers) {
                    for (o, part) in out.iter_mut().zip(column) {
                        *o += part * n;
                    }
                }
            }
            Self::Spline { parts, .. } => {
                let numbers = numbers.as_slice();
                for (o, rows) in out.iter_mut().zip(parts) {
                    let all = rows
                        .iter()
                        .flat_map(|(from, parts)| parts.iter().zip(&numbers[*from..]));
                    *o = all.map(|(part, n)| part * n).sum();
                }
            }
        }
    }

    /// The normal equations of values at all places, with their weights.
    pub(super) fn normal(&self, values: &[f64], weights: &[f64]) -> Normal {
        let weight = weights.iter().sum();
        match self {
            Self::Whole(columns) => {
                let mut normal = Normal::zero(columns.len(), weight);
                let mut weighted = vec![0.0; values.len()];
                for (j, column) in columns.iter().enumerate() {
                    for ((t, w), part) in weighted.iter_mut().zip(weights).zip(column) {
                        *t = w * part;
                    }
                    normal.right[j] = dot(&weighted, values);
                    for (i, other) in columns.iter().enumerate().skip(j) {
                        normal.matrix[(i, j)] = dot(&weighted, other);
                    }
                }
                normal
            }
            Self::Spline { numbers, parts } => {
                let mut normal = Normal::zero(*numbers, weight);
                for ((rows, value), w) in parts.iter().zip(values).zip(weights) {
                    if *w != 0.0 {
                        add(&mut normal, rows, *value, *w);
                    }
                }
                normal
            }
        }
    }
}

/// Adds a place of a spline to normal equations. Its rows of splines come with rising numbers.
fn add(normal: &mut Normal, rows: &[(usize, [f64; WIDE]); WIDE], value: f64, weight: f64) {
    let n = normal.right.len();
    let columns = normal.matrix.as_mut_slice();
    for (r, (from, parts)) in rows.iter().enumerate() {
        for (k, part) in parts.iter().enumerate() {
            let weighted = weight * part;
            let column = &mut columns[(from + k) * n..][..n];
            for (m, other) in column[from + k..].iter_mut().zip(&parts[k..]) {
                *m += weighted * other;
            }
            for (from, parts) in &rows[r + 1..] {
                for (m, other) in column[*from..].iter_mut().zip(parts) {
                    *m += weighted * other;
                }
            }
            normal.right[from + k] += weighted * value;
        }
    }
}

/// Sums that are made side by side.
const LANES: usize = 8;

/// The sum of products.
#[multiversion(targets("x86_64+avx2"))]
fn dot(a: &[f64], b: &[f64]) -> f64 {
    let ((a, a_rest), (b, b_rest)) = (a.as_chunks::<LANES>(), b.as_chunks::<LANES>());
    let mut sums = [0.0f64; LANES];
    for (a, b) in a.iter().zip(b) {
        for k in 0..LANES {
            sums[k] += a[k] * b[k];
        }
    }
    let rest: f64 = a_rest.iter().zip(b_rest).map(|(a, b)| a * b).sum();
    sums.iter().sum::<f64>() + rest
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number::Convert;

    /// Numbers that values were made with come back.
    fn comes_back(rows: &Rows, places: usize, numbers: &[f64]) {
        let numbers = DVector::from_column_slice(numbers);
        let mut values = vec![0.0; places];
        rows.values(&numbers, &mut values);
        let weights: Vec<f64> = (0..places).map(|i| 1.0 + (i % 3).real()).collect();
        let normal = rows.normal(&values, &weights);
        let solved = normal.matrix.cholesky().unwrap().solve(&normal.right);
        assert!((solved - numbers).amax() < 1e-9);
    }

    #[test]
    fn equations_give_back_what_values_were_made_with() {
        let row = |i: usize| {
            let x = i.real() / 40.0;
            [1.0, x, x * x]
        };
        comes_back(&Rows::whole(3, (0..37).map(row)), 37, &[2.0, -1.0, 0.5]);
        let spline = |i: usize| {
            let rough = |k: usize| ((i * 31 + k * 17) % 23).real() / 23.0 + 0.1;
            std::array::from_fn(|r| (r * 4, std::array::from_fn(|k| rough(r * 4 + k))))
        };
        let rows = Rows::Spline {
            numbers: 16,
            parts: (0..60).map(spline).collect(),
        };
        let numbers: Vec<f64> = (0..16).map(|k| (k % 5).real() - 2.0).collect();
        comes_back(&rows, 60, &numbers);
    }
}
