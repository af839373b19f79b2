//! Placement: maps between pixel grids, fitted to pairs of points.
//!
//! A [`Map`] takes positions of one space into another; its spaces are types, so `a.then(&b)` only
//! compiles where they meet. It is a projective matrix, and where optics differ, a [`Distortion`] on top.
//! Every model is fitted by its own file with the same verb; the simplest model that the residuals
//! justify is chosen by cross-validation (`choose`).

mod affine;
mod choose;
mod distortion;
mod homography;
mod model;
mod row_places;
mod shift;
mod similarity;

use crate::number::Convert;
use std::marker::PhantomData;
use std::sync::Arc;

use nalgebra::{Matrix3, Vector3};
use serde::{Deserialize, Serialize};

pub use choose::{Chosen, choose, choose_among};
pub(crate) use distortion::powers_of;
pub use distortion::{Distortion, terms};
pub use model::Model;
pub use row_places::RowPlaces;

use crate::space::{CanvasPx, FramePx, Point, Rect, ReferencePx, Size};

/// Where a frame lies on the canvas: canvas pixels to frame pixels, as resampling needs it.
pub type Placement = Map<CanvasPx, FramePx>;

/// Where a frame lies on the reference frame's grid: what registration measures.
pub type Registration = Map<ReferencePx, FramePx>;

/// A position in one space and the same place in another, with its weight (1 / variance).
#[derive(Debug)]
pub struct Pair<A, B> {
    /// The position in the space that the map starts from.
    pub from: Point<A>,
    /// Where it should arrive.
    pub to: Point<B>,
    /// 1 / (variance of a coordinate), in pixels^-2 of the target space; positive.
    pub weight: f64,
}

// As for `Point`: the marker types need not be `Clone`.
impl<A, B> Clone for Pair<A, B> {
    fn clone(&self) -> Self {
        *self
    }
}
impl<A, B> Copy for Pair<A, B> {}

/// A map from space `A` to space `B`: a projective 3 x 3 matrix, then perhaps a distortion in `B`; or the way
/// back, through the distortion undone and then a matrix.
///
/// # Guarantees
/// All entries are finite, the last is 1, and the matrix can be inverted.
#[derive(Debug)]
pub struct Map<A, B> {
    matrix: Matrix3<f64>,
    inverse: Matrix3<f64>,
    distortion: Option<Distorted>,
    spaces: PhantomData<(A, B)>,
}

/// A distortion and on which side of the matrix it acts.
#[derive(Debug, Clone, PartialEq)]
enum Distorted {
    /// In `B`, after the matrix.
    After(Arc<Distortion>),
    /// In `A`, undone before the matrix.
    UndoneBefore(Arc<Distortion>),
}

impl<A, B> Clone for Map<A, B> {
    fn clone(&self) -> Self {
        Self {
            matrix: self.matrix,
            inverse: self.inverse,
            distortion: self.distortion.clone(),
            spaces: PhantomData,
        }
    }
}
impl<A, B> PartialEq for Map<A, B> {
    fn eq(&self, other: &Self) -> bool {
        self.matrix == other.matrix && self.distortion == other.distortion
    }
}

impl<A, B> Map<A, B> {
    /// The map of a matrix given by rows. `None` when an entry is not finite or when the matrix maps
    /// the plane onto a line or a point.
    pub fn from_rows(rows: [[f64; 3]; 3]) -> Option<Self> {
        Self::from_matrix(Matrix3::from_fn(|r, c| rows[r][c]))
    }

    fn from_matrix(matrix: Matrix3<f64>) -> Option<Self> {
        let last = matrix[(2, 2)];
        if !matrix.iter().all(|v| v.is_finite()) || last.abs() < 1e-12 {
            return None;
        }
        let matrix = matrix / last;
        let linear = matrix[(0, 0)] * matrix[(1, 1)] - matrix[(0, 1)] * matrix[(1, 0)];
        let inverse = matrix.try_inverse()?;
        let inverse = inverse / inverse[(2, 2)];
        let sound = linear.abs() > 1e-9 && inverse.iter().all(|v| v.is_finite());
        sound.then_some(Self {
            matrix,
            inverse,
            distortion: None,
            spaces: PhantomData,
        })
    }

    /// The map that only shifts: x + `dx`, y + `dy`.
    pub fn shift(dx: f64, dy: f64) -> Self {
        Self {
            matrix: Matrix3::new(1.0, 0.0, dx, 0.0, 1.0, dy, 0.0, 0.0, 1.0),
            inverse: Matrix3::new(1.0, 0.0, -dx, 0.0, 1.0, -dy, 0.0, 0.0, 1.0),
            distortion: None,
            spaces: PhantomData,
        }
    }

    /// The same map with a distortion in `B` after its matrix, in the place of any that it has. `None` for a map
    /// that was inverted: its distortion acts on the other side.
    pub fn distorted(self, distortion: Distortion) -> Option<Self> {
        match self.distortion {
            Some(Distorted::UndoneBefore(_)) => None,
            _ => Some(Self {
                distortion: Some(Distorted::After(Arc::new(distortion))),
                ..self
            }),
        }
    }

    /// Fits a model to pairs by weighted least squares; the distortion of a smooth one is fitted for the part
    /// `domain` of `B` (that of the pairs, if `None`). `None` with fewer pairs than the model needs,
    /// or when they do not fix it (all on a line, say).
    pub fn fit(model: Model, pairs: &[Pair<A, B>], domain: Option<Rect>) -> Option<Self> {
        if pairs.len() < model.least_pairs() {
            return None;
        }
        let matrix = match model {
            Model::Shift => shift::fit(pairs),
            Model::Similarity => similarity::fit(pairs)?,
            Model::Affine | Model::Smooth(_) => affine::fit(pairs)?,
            Model::Homography => homography::fit(pairs)?,
        };
        let plain = Self::from_matrix(matrix)?;
        match model {
            Model::Smooth(degree) => {
                let distortion = distortion::fit(&plain, pairs, degree, domain)?;
                plain.distorted(distortion)
            }
            _ => Some(plain),
        }
    }

    /// The same matrix with the distortion of this degree, for the part `domain` of `B`, that brings these pairs together
    /// best. `None` when they do not fix it, or for a map that was inverted.
    pub fn bent_to(self, pairs: &[Pair<A, B>], degree: u8, domain: Rect) -> Option<Self> {
        let plain = Self {
            distortion: None,
            ..self
        };
        let distortion = distortion::fit(&plain, pairs, degree, Some(domain))?;
        plain.distorted(distortion)
    }

    /// Where the point arrives.
    pub fn apply(&self, p: Point<A>) -> Point<B> {
        match &self.distortion {
            None => self.by_matrix(p.x, p.y),
            Some(Distorted::After(distortion)) => {
                let flat: Point<B> = self.by_matrix(p.x, p.y);
                let (x, y) = distortion.apply(flat.x, flat.y);
                Point::new(x, y)
            }
            Some(Distorted::UndoneBefore(distortion)) => {
                let (x, y) = distortion.undo(p.x, p.y);
                self.by_matrix(x, y)
            }
        }
    }

    /// Where the matrix alone takes the point.
    pub(crate) fn unbent(&self, p: Point<A>) -> Point<B> {
        self.by_matrix(p.x, p.y)
    }

    fn by_matrix(&self, x: f64, y: f64) -> Point<B> {
        let v = self.matrix * Vector3::new(x, y, 1.0);
        Point::new(v.x / v.z, v.y / v.z)
    }

    /// Rows of d(to)/d(from) at a point.
    pub fn jacobian(&self, p: Point<A>) -> [[f64; 2]; 2] {
        match &self.distortion {
            None => self.of_matrix(p.x, p.y),
            Some(Distorted::After(distortion)) => {
                let flat: Point<B> = self.by_matrix(p.x, p.y);
                product(
                    distortion.jacobian(flat.x, flat.y),
                    self.of_matrix(p.x, p.y),
                )
            }
            Some(Distorted::UndoneBefore(distortion)) => {
                let (x, y) = distortion.undo(p.x, p.y);
                let [[a, b], [c, d]] = distortion.jacobian(x, y);
                let det = a * d - b * c;
                let back = [[d / det, -b / det], [-c / det, a / det]];
                product(self.of_matrix(x, y), back)
            }
        }
    }

    fn of_matrix(&self, x: f64, y: f64) -> [[f64; 2]; 2] {
        let m = &self.matrix;
        let v = m * Vector3::new(x, y, 1.0);
        let (u, w) = (v.x / v.z, v.y / v.z);
        [
            [
                (m[(0, 0)] - u * m[(2, 0)]) / v.z,
                (m[(0, 1)] - u * m[(2, 1)]) / v.z,
            ],
            [
                (m[(1, 0)] - w * m[(2, 0)]) / v.z,
                (m[(1, 1)] - w * m[(2, 1)]) / v.z,
            ],
        ]
    }

    /// Pixels of area in `B` for one of area in `A`, at a point.
    pub fn area_ratio(&self, p: Point<A>) -> f64 {
        let [[a, b], [c, d]] = self.jacobian(p);
        (a * d - b * c).abs()
    }

    /// The map back.
    #[must_use]
    pub fn invert(&self) -> Map<B, A> {
        Map {
            matrix: self.inverse,
            inverse: self.matrix,
            distortion: self.distortion.clone().map(|b| match b {
                Distorted::After(b) => Distorted::UndoneBefore(b),
                Distorted::UndoneBefore(b) => Distorted::After(b),
            }),
            spaces: PhantomData,
        }
    }

    /// First this map, then `next`: one map, so that nothing is ever resampled twice. `None` when the
    /// product cannot be inverted any more, or has a distortion between two matrices, which no map of
    /// this kind is: a distorted map can only be the last, one with its distortion undone only the first.
    pub fn then<C>(&self, next: &Map<B, C>) -> Option<Map<A, C>> {
        let distortion = match (&self.distortion, &next.distortion) {
            (None, distortion @ (None | Some(Distorted::After(_))))
            | (distortion @ Some(Distorted::UndoneBefore(_)), None) => distortion.clone(),
            _ => return None,
        };
        let product = Map::from_matrix(next.matrix * self.matrix)?;
        Some(Map {
            distortion,
            ..product
        })
    }

    /// The same numbers between other spaces: of a frame's own pixels as the canvas, say.
    pub fn retyped<C, D>(&self) -> Map<C, D> {
        Map {
            matrix: self.matrix,
            inverse: self.inverse,
            distortion: self.distortion.clone(),
            spaces: PhantomData,
        }
    }

    /// The distortion after the matrix, if there is one.
    pub fn distortion(&self) -> Option<&Distortion> {
        match &self.distortion {
            Some(Distorted::After(distortion)) => Some(distortion),
            _ => None,
        }
    }

    /// The matrix by rows.
    pub fn rows(&self) -> [[f64; 3]; 3] {
        std::array::from_fn(|r| std::array::from_fn(|c| self.matrix[(r, c)]))
    }

    /// Is it a pure shift by whole pixels (exactly)? Then no value needs interpolation.
    pub fn whole_shift(&self) -> Option<(i64, i64)> {
        if self.distortion.is_some() {
            return None;
        }
        let m = &self.matrix;
        let rest = [m[(0, 1)], m[(1, 0)], m[(2, 0)], m[(2, 1)]];
        let (dx, dy) = (m[(0, 2)], m[(1, 2)]);
        (m[(0, 0)] == 1.0
            && m[(1, 1)] == 1.0
            && rest == [0.0; 4]
            && dx.fract() == 0.0
            && dy.fract() == 0.0)
            .then_some((dx.whole(), dy.whole()))
    }

    /// Rotation, scale and handedness of the map near a point, for people to read.
    pub fn describe(&self, near: Point<A>) -> Described {
        let [[a, b], [c, d]] = self.jacobian(near);
        let det = a * d - b * c;
        // Similarity part of the map, after the mirror (x to -x) is taken out.
        let (a, c) = if det < 0.0 { (-a, -c) } else { (a, c) };
        let angle = (c - b).atan2(a + d).to_degrees();
        Described {
            rotation_deg: if angle < -90.0 { angle + 360.0 } else { angle },
            scale: det.abs().sqrt(),
            mirrored: det < 0.0,
        }
    }
}

impl Map<CanvasPx, FramePx> {
    /// Is the map a sane one over a whole grid: no point at infinity, no fold?
    pub fn is_sound_on(&self, size: Size) -> bool {
        sound_on(self, size)
    }
}

impl Map<ReferencePx, FramePx> {
    /// Is the map a sane one over the reference's grid: no point at infinity, no fold?
    pub fn is_sound_on(&self, size: Size) -> bool {
        sound_on(self, size)
    }
}

/// Pixels of one space for one of the other at most, either way: frames of 0.25 to 4 times the scale on a canvas of 0.05
/// to 8 times the reference's, and some room.
const MOST_SCALE: f64 = 200.0;

/// How many times a map may stretch one direction more than the other.
const MOST_STRETCH: f64 = 20.0;

fn sound_on<A, B>(map: &Map<A, B>, size: Size) -> bool {
    let side = |p: Point<A>| (map.matrix * Vector3::new(p.x, p.y, 1.0)).z;
    let corners = size.corners();
    let distortion = map.distortion().is_none_or(Distortion::is_gentle);
    if !distortion || !corners.iter().all(|p| side(*p) > 1e-6) {
        return false;
    }
    // At the corners, and halfway to the middle: a fold lies between two of them.
    let middle: Point<A> = size.centre();
    let halfway = |p: Point<A>| Point::new(0.5 * (p.x + middle.x), 0.5 * (p.y + middle.y));
    let between = corners.map(halfway);
    let places = corners.into_iter().chain(between).chain([middle]);
    let stretches: Vec<Option<bool>> = places.map(|p| turned(map.jacobian(p))).collect();
    stretches[0].is_some() && stretches.iter().all(|s| *s == stretches[0])
}

/// Does a map mirror at a place? `None` where it stretches or shrinks beyond reason.
fn turned([[a, b], [c, d]]: [[f64; 2]; 2]) -> Option<bool> {
    let area = a * d - b * c;
    // The larger and the smaller stretch are the singular values: their squares sum to this, their product is the area.
    let squares = a * a + b * b + c * c + d * d;
    let root = (squares * squares - 4.0 * area * area).max(0.0).sqrt();
    let (large, small) = (
        (0.5 * (squares + root)).sqrt(),
        (0.5 * (squares - root)).max(0.0).sqrt(),
    );
    let sane = large < MOST_SCALE && small > 1.0 / MOST_SCALE && large < MOST_STRETCH * small;
    sane.then_some(area < 0.0)
}

fn product([[a, b], [c, d]]: [[f64; 2]; 2], [[e, f], [g, h]]: [[f64; 2]; 2]) -> [[f64; 2]; 2] {
    [
        [a * e + b * g, a * f + b * h],
        [c * e + d * g, c * f + d * h],
    ]
}

/// A map in words that people use.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Described {
    /// Turn from the first space to the second, +x towards +y, in degrees from -90 to 270.
    pub rotation_deg: f64,
    /// Pixels of the second space for one of the first.
    pub scale: f64,
    /// Is one the mirror image of the other? Then the x axis is flipped before the turn.
    pub mirrored: bool,
}

/// Moves points to their weighted mean and to a mean distance of sqrt(2), which keeps the normal
/// equations well conditioned (Hartley 1997, IEEE PAMI 19, 580). Gives (scale, shift x, shift y)
/// with normalised = scale * (p - shift).
fn normalisation(points: impl Iterator<Item = (f64, f64, f64)> + Clone) -> (f64, f64, f64) {
    let (mut sw, mut sx, mut sy) = (0.0, 0.0, 0.0);
    for (x, y, w) in points.clone() {
        sw += w;
        sx += w * x;
        sy += w * y;
    }
    let (mx, my) = (sx / sw, sy / sw);
    let mean: f64 = points
        .map(|(x, y, w)| w * (x - mx).hypot(y - my))
        .sum::<f64>()
        / sw;
    let scale = if mean > 0.0 {
        std::f64::consts::SQRT_2 / mean
    } else {
        1.0
    };
    (scale, mx, my)
}

/// The matrix that normalises, and the one that undoes it.
fn normalising_matrices((s, x, y): (f64, f64, f64)) -> (Matrix3<f64>, Matrix3<f64>) {
    (
        Matrix3::new(s, 0.0, -s * x, 0.0, s, -s * y, 0.0, 0.0, 1.0),
        Matrix3::new(1.0 / s, 0.0, x, 0.0, 1.0 / s, y, 0.0, 0.0, 1.0),
    )
}

/// Normalised copies of the pairs: (from, to, weight), and what turns a map between normalised
/// points into one between the points themselves.
struct Normalised {
    pairs: Vec<([f64; 2], [f64; 2], f64)>,
    before: Matrix3<f64>,
    after: Matrix3<f64>,
}

impl Normalised {
    fn new<A, B>(pairs: &[Pair<A, B>]) -> Self {
        let from = normalisation(pairs.iter().map(|p| (p.from.x, p.from.y, p.weight)));
        let to = normalisation(pairs.iter().map(|p| (p.to.x, p.to.y, p.weight)));
        let mean_weight = pairs.iter().map(|p| p.weight).sum::<f64>() / pairs.len().real();
        let apply = |(s, mx, my): (f64, f64, f64), x: f64, y: f64| [s * (x - mx), s * (y - my)];
        Self {
            pairs: pairs
                .iter()
                .map(|p| {
                    (
                        apply(from, p.from.x, p.from.y),
                        apply(to, p.to.x, p.to.y),
                        p.weight / mean_weight,
                    )
                })
                .collect(),
            before: normalising_matrices(from).0,
            after: normalising_matrices(to).1,
        }
    }

    fn finish(&self, matrix: Matrix3<f64>) -> Matrix3<f64> {
        self.after * matrix * self.before
    }
}

#[cfg(test)]
mod tests;
