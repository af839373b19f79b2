//! A distortion: what lenses, field flatteners and the atmosphere add to a plane's map.
//!
//! The displacement is a polynomial in x and y of all terms up to a degree, in units of the area that
//! it was fitted for, from -1 to 1. It acts on positions of the frame: where the matrix alone would put
//! a point, the distortion moves it by a few pixels. Beyond its area the displacement stays what it is at the
//! edge, so that no polynomial runs away where no star holds it. Odd degrees hold a radial lens
//! (the cube of the radius at 3, its fifth power at 5). Fitted by weighted linear least squares.

use crate::number::Convert;
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};

use super::{Map, Pair};
use crate::space::Rect;

/// The highest degree: beyond, more stars than any frame has would be needed at its corners.
const MOST_DEGREE: u8 = 5;

/// Terms of the highest degree.
const MOST_TERMS: usize = 21;

/// A displacement must change by less than this from pixel to pixel: the map then has no fold, and can
/// be undone by iteration. No lens comes near.
const MOST_SLOPE: f64 = 0.5;

/// A smooth displacement of positions, in pixels of its space.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Distortion {
    /// Middle of the area it holds for.
    centre: [f64; 2],
    /// Half the sides of the area.
    half: [f64; 2],
    /// Coefficients of the displacement in x: of 1, x, y, x^2, x y, y^2, x^3 ... in units of `half` from
    /// the centre.
    x: Vec<f64>,
    /// The same for the displacement in y.
    y: Vec<f64>,
}

impl Distortion {
    /// A distortion from its parts, as the fields say. `None` when the numbers make none: not finite, no
    /// area, or not as many as a degree from 1 to 5 has terms.
    pub fn new(centre: [f64; 2], half: [f64; 2], x: Vec<f64>, y: Vec<f64>) -> Option<Self> {
        let distortion = Self { centre, half, x, y };
        distortion.is_sound().then_some(distortion)
    }

    fn is_sound(&self) -> bool {
        let finite = |v: &[f64]| v.iter().all(|v| v.is_finite());
        let complete = (1..=MOST_DEGREE).any(|d| terms(d) == self.x.len());
        complete
            && self.x.len() == self.y.len()
            && [&self.centre[..], &self.half, &self.x, &self.y]
                .into_iter()
                .all(finite)
            && self.half.iter().all(|h| *h > 0.0)
    }

    /// Are the numbers those of a distortion, and is it without a fold? What was edited by hand may not be.
    pub fn is_gentle(&self) -> bool {
        const STEPS: i32 = 16;
        self.is_sound()
            && (-STEPS..=STEPS).all(|i| {
                (-STEPS..=STEPS).all(|j| {
                    let part = |k: i32, a: usize| {
                        self.centre[a] + self.half[a] * f64::from(k) / f64::from(STEPS)
                    };
                    let [[a, b], [c, d]] = self.jacobian(part(i, 0), part(j, 1));
                    [a - 1.0, b, c, d - 1.0]
                        .iter()
                        .all(|v| v.abs() < MOST_SLOPE)
                })
            })
    }

    /// The coefficients of the displacement in x and in y: of 1, x, y, x^2, x y, y^2 ...
    pub(crate) fn coefficients(&self) -> (&[f64], &[f64]) {
        (&self.x, &self.y)
    }

    /// The distortion of the same area with other coefficients, if they make one.
    pub(crate) fn with(&self, x: Vec<f64>, y: Vec<f64>) -> Option<Self> {
        Self::new(self.centre, self.half, x, y)
    }

    /// The highest power.
    pub fn degree(&self) -> u8 {
        let complete = (1..=MOST_DEGREE).find(|d| terms(*d) == self.x.len());
        complete.unwrap_or(MOST_DEGREE)
    }

    /// The largest displacement on the area, in pixels, along its edges and axes.
    pub fn most(&self) -> f64 {
        let at = |i: i32, j: i32| {
            let (x, y) = (
                self.centre[0] + self.half[0] * f64::from(i) / 4.0,
                self.centre[1] + self.half[1] * f64::from(j) / 4.0,
            );
            let (u, v) = self.apply(x, y);
            (u - x).hypot(v - y)
        };
        (-4..=4)
            .flat_map(|i| (-4..=4).map(move |j| at(i, j)))
            .fold(0.0, f64::max)
    }

    /// No displacement is longer than this in x and in y.
    pub fn bound(&self) -> [f64; 2] {
        [&self.x, &self.y].map(|c| c.iter().map(|c| c.abs()).sum())
    }

    fn place(&self, x: f64, y: f64) -> (f64, f64) {
        (
            ((x - self.centre[0]) / self.half[0]).clamp(-1.0, 1.0),
            ((y - self.centre[1]) / self.half[1]).clamp(-1.0, 1.0),
        )
    }

    /// Where a position goes.
    pub fn apply(&self, x: f64, y: f64) -> (f64, f64) {
        let (u, v) = self.place(x, y);
        let mut powers = [0.0; MOST_TERMS];
        powers_of(u, v, self.degree(), &mut powers);
        let sum = |c: &[f64]| c.iter().zip(powers).map(|(c, p)| c * p).sum::<f64>();
        (x + sum(&self.x), y + sum(&self.y))
    }

    /// The position that goes here, to a ten-thousandth of a pixel and better: the displacement hardly
    /// changes over its own length, so taking it off again and again converges fast.
    pub fn undo(&self, x: f64, y: f64) -> (f64, f64) {
        let (mut u, mut v) = (x, y);
        for _ in 0..50 {
            let (p, q) = self.apply(u, v);
            let (dx, dy) = (x - p, y - q);
            (u, v) = (u + dx, v + dy);
            if dx.abs().max(dy.abs()) < 1e-11 {
                break;
            }
        }
        (u, v)
    }

    /// Rows of d(to)/d(from).
    pub fn jacobian(&self, x: f64, y: f64) -> [[f64; 2]; 2] {
        let inside = |p: f64, a: usize| (p - self.centre[a]).abs() <= self.half[a];
        let (u, v) = self.place(x, y);
        let degree = i32::from(self.degree());
        let slope = |c: &[f64]| {
            let (mut dx, mut dy, mut k) = (0.0, 0.0, 0);
            for n in 0..=degree {
                for j in 0..=n {
                    let i = n - j;
                    let Some(c) = c.get(k) else { break };
                    if i > 0 {
                        dx += c * f64::from(i) * u.powi(i - 1) * v.powi(j);
                    }
                    if j > 0 {
                        dy += c * f64::from(j) * u.powi(i) * v.powi(j - 1);
                    }
                    k += 1;
                }
            }
            (
                if inside(x, 0) { dx / self.half[0] } else { 0.0 },
                if inside(y, 1) { dy / self.half[1] } else { 0.0 },
            )
        };
        let ((xx, xy), (yx, yy)) = (slope(&self.x), slope(&self.y));
        [[1.0 + xx, xy], [yx, 1.0 + yy]]
    }
}

/// How many terms a polynomial of this degree in two variables has.
pub const fn terms(degree: u8) -> usize {
    (degree as usize + 1) * (degree as usize + 2) / 2
}

/// All products of powers up to a degree: 1, u, v, u^2, u v, v^2, u^3 ...
pub(crate) fn powers_of(u: f64, v: f64, degree: u8, out: &mut [f64]) {
    out[0] = 1.0;
    let mut before = 0;
    for n in 1..=degree as usize {
        let first = before + n;
        for j in 0..n {
            out[first + j] = out[before + j] * u;
        }
        out[first + n] = out[before + n - 1] * v;
        before = first;
    }
}

/// The distortion that brings the matrix's places onto the pairs' best, for an area of `B`, or that of the
/// pairs.
pub(super) fn fit<A, B>(
    plain: &Map<A, B>,
    pairs: &[Pair<A, B>],
    degree: u8,
    domain: Option<Rect>,
) -> Option<Distortion> {
    let area = domain.unwrap_or_else(|| Rect::around(pairs.iter().map(|p| p.to)));
    let half = [area.width, area.height].map(|n| (0.5 * n.real()).max(1.0));
    let centre = [
        area.x.real() + 0.5 * area.width.real() - 0.5,
        area.y.real() + 0.5 * area.height.real() - 0.5,
    ];
    let count = terms(degree);
    let empty = Distortion::new(centre, half, vec![0.0; count], vec![0.0; count])?;
    let mut normal = DMatrix::<f64>::zeros(count, count);
    let (mut right_x, mut right_y) = (DVector::zeros(count), DVector::zeros(count));
    let mean = pairs.iter().map(|p| p.weight).sum::<f64>() / pairs.len().real();
    let mut row = DVector::zeros(count);
    for p in pairs {
        let flat = plain.apply(p.from);
        let (u, v) = empty.place(flat.x, flat.y);
        powers_of(u, v, degree, row.as_mut_slice());
        let w = p.weight / mean;
        normal.ger(w, &row, &row, 1.0);
        right_x.axpy(w * (p.to.x - flat.x), &row, 1.0);
        right_y.axpy(w * (p.to.y - flat.y), &row, 1.0);
    }
    let solve = normal.cholesky()?;
    let (x, y) = (solve.solve(&right_x), solve.solve(&right_y));
    let distortion = Distortion::new(centre, half, x.as_slice().to_vec(), y.as_slice().to_vec())?;
    distortion.is_gentle().then_some(distortion)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn barrel() -> Distortion {
        // 5 px inwards at the corner: -k r^2 (x, y).
        let k = -2.5;
        let zero = vec![0.0; 10];
        let (mut x, mut y) = (zero.clone(), zero);
        (x[6], x[8]) = (k, k);
        (y[7], y[9]) = (k, k);
        Distortion::new([500.0, 400.0], [500.0, 400.0], x, y).unwrap()
    }

    #[test]
    fn a_distortion_goes_there_and_back() {
        let b = barrel();
        assert_eq!(b.degree(), 3);
        assert!((b.most() - 5.0 * 2f64.sqrt()).abs() < 1e-9);
        for (x, y) in [(0.0, 0.0), (123.4, 700.0), (999.0, 5.0), (-200.0, 2000.0)] {
            let (u, v) = b.apply(x, y);
            let (p, q) = b.undo(u, v);
            assert!((p - x).hypot(q - y) < 1e-9, "{x} {y}: {p} {q}");
        }
    }

    #[test]
    fn the_slope_is_that_of_the_displacement() {
        let b = barrel();
        for (x, y) in [(100.0, 50.0), (800.0, 790.0)] {
            let [[a, _], [c, _]] = b.jacobian(x, y);
            let h = 1e-4;
            let (p, q) = (b.apply(x + h, y), b.apply(x - h, y));
            assert!((a - (p.0 - q.0) / (2.0 * h)).abs() < 1e-7);
            assert!((c - (p.1 - q.1) / (2.0 * h)).abs() < 1e-7);
        }
    }

    #[test]
    fn beyond_its_area_the_displacement_stays() {
        let b = barrel();
        let (edge, far) = (b.apply(1000.0, 400.0), b.apply(9000.0, 400.0));
        assert!((edge.0 - 1000.0 - (far.0 - 9000.0)).abs() < 1e-9);
    }

    #[test]
    fn numbers_that_make_no_distortion_are_refused() {
        let new = |half: f64, count: usize, value: f64| {
            Distortion::new([0.0; 2], [half; 2], vec![value; count], vec![0.0; count])
        };
        assert!(new(100.0, 6, 0.1).is_some_and(|b| b.is_gentle()));
        assert!(new(100.0, 7, 0.1).is_none() && new(0.0, 6, 0.1).is_none());
        assert!(new(100.0, 6, f64::NAN).is_none());
        assert!(new(100.0, 6, 90.0).is_some_and(|b| !b.is_gentle()));
    }
}
