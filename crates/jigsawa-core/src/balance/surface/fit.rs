//! Fitting a surface through patches, and choosing how stiff it must be.
//!
//! Every shape is linear in its numbers: weighted least squares, outlying patches held down by Tukey's
//! biweight. A spline's second differences are held small (Eilers & Marx 1996, Stat. Sci. 11, 89), by
//! so much that waves shorter than its stiffness are not followed. The shape is chosen by
//! cross-validation: patches are left out by blocks, since neighbours share what a surface must not
//! follow, and of all shapes that foretell them about as well as the best, the stiffest is taken.
//! A smoothing parameter by generalised cross-validation was tried first: it takes neighbouring
//! patches for independent, and follows nebulae.

use std::ops::AddAssign;

use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};

use super::polynomial::{MOST_DEGREE, Polynomial};
use super::spline::{Grid, Spline};
use super::{Domain, Surface};
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, mad, median};
use crate::space::{CanvasPx, Point, Size};

/// The kinds of surface.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Shape {
    /// Nothing is added.
    Nothing,
    /// The same everywhere.
    Level,
    /// Tilted.
    Plane,
    /// A polynomial of this total degree.
    Polynomial {
        /// 1 to 8.
        degree: usize,
    },
    /// A cubic spline.
    Spline {
        /// The shortest waves that it follows, in parts of the canvas's shorter side.
        stiffness: f64,
    },
}

/// A shape that makes no sense.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
pub enum ShapeError {
    /// The degree is out of range.
    #[error("a polynomial's degree is 1 to {MOST_DEGREE}, not {0}")]
    Degree(usize),
    /// The stiffness is out of range.
    #[error("a spline's stiffness is 0.1 to 4, not {0}")]
    Stiffness(f64),
}

impl Shape {
    /// Checks its numbers.
    ///
    /// # Errors
    /// When they are out of range.
    pub fn check(self) -> Result<Self, ShapeError> {
        match self {
            Self::Polynomial { degree } if !(1..=MOST_DEGREE).contains(&degree) => {
                Err(ShapeError::Degree(degree))
            }
            Self::Spline { stiffness } if !(0.1..=4.0).contains(&stiffness) => {
                Err(ShapeError::Stiffness(stiffness))
            }
            sound => Ok(sound),
        }
    }

    /// From the stiffest to the softest, what is tried where nobody asks for a shape.
    pub fn candidates() -> Vec<Self> {
        let mut all = vec![
            Self::Nothing,
            Self::Level,
            Self::Plane,
            Self::Polynomial { degree: 2 },
        ];
        all.extend(
            [2.0, 1.4, 1.0, 0.7, 0.5, 0.35, 0.25, 0.18].map(|stiffness| Self::Spline { stiffness }),
        );
        all
    }

    /// Its name.
    pub fn words(self) -> String {
        match self {
            Self::Nothing => "nothing".to_owned(),
            Self::Level => "a level".to_owned(),
            Self::Plane => "a plane".to_owned(),
            Self::Polynomial { degree } => format!("a polynomial of degree {degree}"),
            Self::Spline { stiffness } => format!("a spline of stiffness {stiffness}"),
        }
    }

    fn count(self, canvas: Size) -> usize {
        match self {
            Self::Nothing => 0,
            Self::Level => 1,
            Self::Plane => 3,
            Self::Polynomial { degree } => Polynomial::count(degree),
            Self::Spline { .. } => {
                let (columns, rows) = Grid::of(canvas).shape();
                columns * rows
            }
        }
    }

    /// The parts that a place has in each of the shape's numbers, those that are not zero.
    fn row(self, p: Point<CanvasPx>, canvas: Size) -> Vec<(usize, f64)> {
        match self {
            Self::Nothing => Vec::new(),
            Self::Level => vec![(0, 1.0)],
            Self::Plane => Self::Polynomial { degree: 1 }.row(p, canvas),
            Self::Polynomial { degree } => {
                let row = Polynomial::row(Domain::of(canvas), degree, p);
                row.into_iter().enumerate().collect()
            }
            Self::Spline { .. } => Grid::of(canvas).weights(p).to_vec(),
        }
    }

    fn surface(self, numbers: &DVector<f64>, canvas: Size) -> Surface {
        match self {
            Self::Nothing => Surface::zero(),
            Self::Level => Surface::constant(numbers[0]),
            Self::Plane => {
                let d = Domain::of(canvas);
                Surface::Plane {
                    x0: d.centre[0],
                    y0: d.centre[1],
                    level: numbers[0],
                    slope_x: numbers[1] / d.half,
                    slope_y: numbers[2] / d.half,
                }
            }
            Self::Polynomial { degree } => Surface::Polynomial(Polynomial::new(
                Domain::of(canvas),
                degree,
                numbers.iter().copied().collect(),
            )),
            Self::Spline { stiffness } => Surface::Spline(Spline::new(
                Grid::of(canvas),
                stiffness,
                numbers.iter().copied().collect(),
            )),
        }
    }
}

/// A value at a place, with its weight.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Patch {
    pub(crate) at: Point<CanvasPx>,
    pub(crate) value: f64,
    pub(crate) weight: f64,
}

/// Normal equations.
#[derive(Clone)]
struct Normal {
    matrix: DMatrix<f64>,
    right: DVector<f64>,
    weight: f64,
}

impl Normal {
    fn zero(n: usize) -> Self {
        Self {
            matrix: DMatrix::zeros(n, n),
            right: DVector::zeros(n),
            weight: 0.0,
        }
    }

    fn add(&mut self, row: &[(usize, f64)], value: f64, weight: f64) {
        for (i, a) in row {
            for (j, b) in row {
                self.matrix[(*i, *j)] += weight * a * b;
            }
            self.right[*i] += weight * a * value;
        }
        self.weight += weight;
    }

    fn less(&self, other: &Self) -> Self {
        Self {
            matrix: &self.matrix - &other.matrix,
            right: &self.right - &other.right,
            weight: self.weight - other.weight,
        }
    }

    /// The shape's numbers; `None` when the patches do not fix them.
    fn solve(&self, shape: Shape, canvas: Size) -> Option<DVector<f64>> {
        let mut m = self.matrix.clone();
        if let Shape::Spline { stiffness } = shape {
            hold(&mut m, self.weight, stiffness, canvas);
        }
        let solved = m.cholesky()?.solve(&self.right);
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
    let pull = weight / (columns * rows) as f64;
    let wave = stiffness * canvas.width().min(canvas.height()) as f64;
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

/// A fitted surface.
pub(crate) struct Fit {
    pub(crate) surface: Surface,
    /// Scatter of the patches around it.
    pub(crate) spread: f64,
    /// The weight that each patch has kept, 0 to 1.
    pub(crate) kept: Vec<f64>,
}

/// Rounds of holding outliers down.
const ROUNDS: usize = 12;

impl Fit {
    /// A surface of one shape through patches, outliers held down. `None` when they do not fix it.
    pub(crate) fn new(shape: Shape, patches: &[Patch], canvas: Size) -> Option<Self> {
        let mut kept = vec![1.0; patches.len()];
        let mut spread = 0.0;
        let rows: Vec<Vec<(usize, f64)>> =
            patches.iter().map(|p| shape.row(p.at, canvas)).collect();
        let mut surface = Surface::zero();
        for _ in 0..ROUNDS {
            let mut normal = Normal::zero(shape.count(canvas));
            for ((p, row), k) in patches.iter().zip(&rows).zip(&kept) {
                if *k > 0.0 {
                    normal.add(row, p.value, p.weight * k);
                }
            }
            let numbers = normal.solve(shape, canvas)?;
            surface = shape.surface(&numbers, canvas);
            let residual: Vec<f64> = patches
                .iter()
                .zip(&rows)
                .map(|(p, row)| p.value - row.iter().map(|(i, a)| a * numbers[*i]).sum::<f64>())
                .collect();
            let mut r: Vec<f32> = residual.iter().map(|v| *v as f32).collect();
            let middle = median(&mut r);
            let next = f64::from(mad(&mut r, middle)) * MAD_TO_SIGMA;
            if next <= 0.0 || !next.is_finite() {
                break;
            }
            let settled = (next / spread - 1.0).abs() < 1e-4;
            spread = next;
            for (k, r) in kept.iter_mut().zip(&residual) {
                *k = biweight(*r, BIWEIGHT_REACH * spread);
            }
            if settled {
                break;
            }
        }
        Some(Self {
            surface,
            spread,
            kept,
        })
    }
}

/// Weighted least squares of a shape through patches, outliers and all. `None` when they do not fix it.
pub(crate) fn fit_plainly(shape: Shape, patches: &[Patch], canvas: Size) -> Option<Surface> {
    let mut normal = Normal::zero(shape.count(canvas));
    for p in patches {
        normal.add(&shape.row(p.at, canvas), p.value, p.weight);
    }
    Some(shape.surface(&normal.solve(shape, canvas)?, canvas))
}

/// Folds of the cross-validation.
const FOLDS: usize = 5;

/// How shapes are judged.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Judge {
    /// Blocks along the canvas's longer side that are left out together: few where a surface must be right far
    /// from its patches.
    pub(crate) blocks: usize,
    /// What a stiffer shape may leave more than the best, root mean square, however surely.
    pub(crate) slack: f64,
}

/// By how many errors the stiffer shape may foretell worse than the best before it is given up.
const LEEWAY: f64 = 1.0;

/// How a surface was chosen.
pub(crate) struct Choice {
    pub(crate) shape: Shape,
    pub(crate) fit: Fit,
    /// What each tried shape leaves of patches that it has not seen, root mean square.
    pub(crate) tried: Vec<(Shape, f64)>,
}

/// Patches in blocks of the canvas, for leaving them out block by block.
struct Blocks<'a> {
    patches: &'a [Patch],
    /// The weight that each has kept, outliers held down.
    kept: &'a [f64],
    canvas: Size,
    /// The fold of each patch, and the number of its block.
    fold: Vec<usize>,
    block: Vec<usize>,
    count: usize,
}

/// What all shapes of one kind share: the parts of each patch, and normal equations by fold and in all.
struct Folds {
    rows: Vec<Vec<(usize, f64)>>,
    each: Vec<Normal>,
    all: Normal,
}

impl<'a> Blocks<'a> {
    fn new(patches: &'a [Patch], kept: &'a [f64], blocks: usize, canvas: Size) -> Self {
        let side = canvas.width().max(canvas.height()) as f64 / blocks.max(2) as f64;
        let places: Vec<(i64, i64)> = patches
            .iter()
            .map(|p| {
                (
                    (p.at.x / side).floor() as i64,
                    (p.at.y / side).floor() as i64,
                )
            })
            .collect();
        let mut numbers = places.clone();
        numbers.sort_unstable();
        numbers.dedup();
        Self {
            patches,
            kept,
            canvas,
            fold: places
                .iter()
                .map(|(x, y)| (x + 2 * y).rem_euclid(FOLDS as i64) as usize)
                .collect(),
            block: places
                .iter()
                .map(|b| numbers.binary_search(b).unwrap_or(0))
                .collect(),
            count: numbers.len(),
        }
    }

    fn folds(&self, shape: Shape) -> Folds {
        let canvas = self.canvas;
        let rows: Vec<Vec<(usize, f64)>> = self
            .patches
            .iter()
            .map(|p| shape.row(p.at, canvas))
            .collect();
        let n = shape.count(canvas);
        let mut folds = vec![Normal::zero(n); FOLDS];
        for (i, (p, row)) in self.patches.iter().zip(&rows).enumerate() {
            if self.kept[i] > 0.0 {
                folds[self.fold[i]].add(row, p.value, p.weight * self.kept[i]);
            }
        }
        let mut all = Normal::zero(n);
        for f in &folds {
            all += f;
        }
        Folds {
            rows,
            each: folds,
            all,
        }
    }

    /// The squares that a shape leaves of each block when it has not seen it. `None` when what is left
    /// does not fix the shape.
    fn squares(&self, shape: Shape, of: &Folds) -> Option<Vec<f64>> {
        let solved: Vec<DVector<f64>> = of
            .each
            .iter()
            .map(|f| of.all.less(f).solve(shape, self.canvas))
            .collect::<Option<_>>()?;
        let mut squares = vec![0.0; self.count];
        for (i, (p, row)) in self.patches.iter().zip(&of.rows).enumerate() {
            let numbers = &solved[self.fold[i]];
            let told: f64 = row.iter().map(|(k, a)| a * numbers[*k]).sum();
            squares[self.block[i]] += p.weight * self.kept[i] * (p.value - told).powi(2);
        }
        Some(squares)
    }
}

/// The stiffest of the shapes, which come from stiff to soft, that foretells left-out blocks of patches
/// about as well as the best.
pub(crate) fn choose(
    shapes: &[Shape],
    patches: &[Patch],
    how: Judge,
    canvas: Size,
) -> Option<Choice> {
    if let [only] = shapes {
        let fit = Fit::new(*only, patches, canvas)?;
        return Some(Choice {
            shape: *only,
            tried: vec![(*only, fit.spread)],
            fit,
        });
    }
    // What outliers are is settled once, by a shape between stiff and soft, so that all shapes are
    // judged on the same patches.
    let pilot = [
        Shape::Spline { stiffness: 1.0 },
        Shape::Polynomial { degree: 2 },
        Shape::Plane,
        Shape::Level,
    ]
    .into_iter()
    .find_map(|s| Fit::new(s, patches, canvas))?;
    let judge = Blocks::new(patches, &pilot.kept, how.blocks, canvas);
    let mut scores: Vec<(Shape, Vec<f64>)> = Vec::new();
    let mut of_splines: Option<Folds> = None;
    for shape in shapes {
        let squares = if matches!(shape, Shape::Spline { .. }) {
            // All splines share their normal equations.
            let folds = of_splines.get_or_insert_with(|| judge.folds(*shape));
            judge.squares(*shape, folds)
        } else {
            judge.squares(*shape, &judge.folds(*shape))
        };
        scores.extend(squares.map(|s| (*shape, s)));
    }
    let best = scores
        .iter()
        .min_by(|a, b| sum(&a.1).total_cmp(&sum(&b.1)))?
        .1
        .clone();
    let total: f64 = patches
        .iter()
        .zip(&pilot.kept)
        .map(|(p, k)| p.weight * k)
        .sum();
    let allowed = how.slack * how.slack * total;
    let chosen = scores
        .iter()
        .find(|(_, squares)| {
            let worse: Vec<f64> = squares.iter().zip(&best).map(|(a, b)| a - b).collect();
            let mean = sum(&worse) / worse.len() as f64;
            let scatter = worse.iter().map(|w| (w - mean).powi(2)).sum::<f64>();
            sum(&worse) <= (LEEWAY * scatter.sqrt()).max(allowed)
        })
        .map(|(s, _)| *s)?;
    let tried = scores
        .iter()
        .map(|(s, squares)| (*s, (sum(squares) / total.max(1e-300)).sqrt()))
        .collect();
    Some(Choice {
        shape: chosen,
        fit: Fit::new(chosen, patches, canvas)?,
        tried,
    })
}

fn sum(values: &[f64]) -> f64 {
    values.iter().sum()
}

/// Weighted least squares of a plane through patches as they are; a constant when they do not fix a slope.
pub(crate) fn fit_plane(patches: &[Patch], canvas: Size) -> Option<Surface> {
    let sum = |of: &dyn Fn(&Patch) -> f64| patches.iter().map(|p| p.weight * of(p)).sum::<f64>();
    let weight = sum(&|_| 1.0);
    if weight <= 0.0 {
        return None;
    }
    let (x0, y0) = (sum(&|p| p.at.x) / weight, sum(&|p| p.at.y) / weight);
    let level = sum(&|p| p.value) / weight;
    let xx = sum(&|p| (p.at.x - x0).powi(2));
    let yy = sum(&|p| (p.at.y - y0).powi(2));
    let xy = sum(&|p| (p.at.x - x0) * (p.at.y - y0));
    let xv = sum(&|p| (p.at.x - x0) * (p.value - level));
    let yv = sum(&|p| (p.at.y - y0) * (p.value - level));
    let det = xx * yy - xy * xy;
    // Patches on a line, or huddled together, say nothing of a slope over the whole canvas.
    let narrow = xx.min(yy) / weight < (0.05 * canvas.width().min(canvas.height()) as f64).powi(2);
    let (slope_x, slope_y) = if narrow || det < 0.02 * xx * yy {
        (0.0, 0.0)
    } else {
        ((xv * yy - yv * xy) / det, (yv * xx - xv * xy) / det)
    };
    Some(Surface::Plane {
        x0,
        y0,
        level,
        slope_x,
        slope_y,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: (usize, usize) = (1000, 700);

    fn patches(of: impl Fn(f64, f64) -> f64) -> Vec<Patch> {
        let mut seed = 1u64;
        let mut noise = || {
            (0..6)
                .map(|_| {
                    seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                    (seed >> 40) as f64 / f64::from(1 << 24) - 0.5
                })
                .sum::<f64>()
        };
        (0..14)
            .flat_map(|j| {
                (0..20).map(move |i| (25.0 + 50.0 * f64::from(i), 25.0 + 50.0 * f64::from(j)))
            })
            .map(|(x, y)| Patch {
                at: Point::new(x, y),
                value: of(x / 1000.0, y / 1000.0) + 0.05 * noise(),
                weight: 1.0,
            })
            .collect()
    }

    fn chosen(of: impl Fn(f64, f64) -> f64) -> Shape {
        let canvas = Size::new(SIZE.0, SIZE.1).unwrap();
        let how = Judge {
            blocks: 8,
            slack: 0.0,
        };
        let c = choose(&Shape::candidates(), &patches(of), how, canvas).unwrap();
        println!("{:?} of {:?}", c.shape, c.tried);
        c.shape
    }

    #[test]
    fn the_stiffest_shape_that_explains_the_patches_is_chosen() {
        assert_eq!(chosen(|_, _| 0.0), Shape::Nothing);
        assert_eq!(chosen(|_, _| 3.0), Shape::Level);
        assert_eq!(chosen(|x, _| 3.0 + 2.0 * x), Shape::Plane);
        let curved = chosen(|x, y| 3.0 + 2.0 * x * y - 4.0 * x * x);
        assert_eq!(curved, Shape::Polynomial { degree: 2 });
        let moon = chosen(|x, y| 4.0 / (0.08 + (x - 0.1).powi(2) + (y - 0.1).powi(2)));
        assert!(matches!(moon, Shape::Spline { .. }), "{moon:?}");
    }

    #[test]
    fn patches_on_a_line_give_a_level_only() {
        let on_a_line: Vec<Patch> = (0..30)
            .map(|i| Patch {
                at: Point::new(f64::from(i), f64::from(i)),
                value: 5.0 + 0.3 * f64::from(i),
                weight: 1.0,
            })
            .collect();
        let s = fit_plane(&on_a_line, Size::new(100, 80).unwrap()).unwrap();
        let at = |x, y| s.at(Point::new(x, y));
        assert_eq!(at(0.0, 0.0), at(90.0, 10.0));
        assert!(fit_plane(&[], Size::new(9, 9).unwrap()).is_none());
    }

    #[test]
    fn wild_patches_do_not_bend_a_surface() {
        let mut p = patches(|x, y| 1.0 + x - y);
        for i in (0..p.len()).step_by(6) {
            p[i].value += 30.0;
        }
        let canvas = Size::new(SIZE.0, SIZE.1).unwrap();
        let fit = Fit::new(Shape::Spline { stiffness: 0.7 }, &p, canvas).unwrap();
        let off = fit.surface.at(Point::new(500.0, 350.0)) - 1.15;
        assert!(off.abs() < 0.03, "{off}");
        assert!(fit.kept[6] < 0.01 && fit.kept[7] > 0.5);
    }
}
