//! A cubic spline over the canvas: uniform cubic B-splines along both axes, one coefficient a knot.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::add_horner;
use crate::space::{CanvasPx, Point, Size};

/// Pieces along the longer side. A surface that needs more follows nebulae, not skies.
const PIECES: usize = 12;

/// Splines that lie over a place, along each axis.
pub(super) const WIDE: usize = 4;

/// Fewest pieces along the shorter side.
const LEAST_PIECES: usize = 3;

/// A cubic spline.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Spline {
    grid: Grid,
    /// The shortest waves that it follows, in parts of the canvas's shorter side.
    stiffness: f64,
    /// Row after row.
    coefficients: Vec<f64>,
}

/// Where the pieces of a spline lie.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Grid {
    /// Pieces along x and y.
    pieces: [usize; 2],
    /// The first piece's corner, in canvas pixels.
    corner: [f64; 2],
    /// Width and height of a piece, in canvas pixels.
    piece: [f64; 2],
}

impl Grid {
    pub(super) fn of(canvas: Size) -> Self {
        let (w, h) = (canvas.width().real(), canvas.height().real());
        let pieces = |side: f64| {
            let n = (PIECES.real() * side / w.max(h)).round().index();
            n.max(LEAST_PIECES)
        };
        let (nx, ny) = (pieces(w), pieces(h));
        Self {
            pieces: [nx, ny],
            corner: [-0.5, -0.5],
            piece: [w / nx.real(), h / ny.real()],
        }
    }

    /// Coefficients along x and y.
    pub(super) const fn shape(&self) -> (usize, usize) {
        (self.pieces[0] + 3, self.pieces[1] + 3)
    }

    /// Width of a piece.
    pub(super) const fn piece(&self) -> [f64; 2] {
        self.piece
    }

    /// The piece that holds a coordinate along an axis, and how far into it the coordinate is.
    fn split(&self, axis: usize, at: f64) -> (usize, f64) {
        let t = (at - self.corner[axis]) / self.piece[axis];
        let i = t.max(0.0).index().min(self.pieces[axis] - 1);
        (i, t - i.real())
    }

    /// The coefficients that a place depends on, four side by side in four rows: the first of a row, and their weights.
    pub(super) fn weights(&self, p: Point<CanvasPx>) -> [(usize, [f64; WIDE]); WIDE] {
        let ((i, tx), (j, ty)) = (self.split(0, p.x), self.split(1, p.y));
        let (wx, wy) = (blend(tx), blend(ty));
        let columns = self.shape().0;
        std::array::from_fn(|b| ((j + b) * columns + i, wx.map(|w| w * wy[b])))
    }
}

/// The four cubic B-splines over a piece, at `t` in 0..=1; beyond, their straight continuation would
/// need more knots, so the cubics go on.
fn blend(t: f64) -> [f64; WIDE] {
    let s = 1.0 - t;
    [
        s * s * s / 6.0,
        (3.0 * t * t * t - 6.0 * t * t + 4.0) / 6.0,
        (3.0 * s * s * s - 6.0 * s * s + 4.0) / 6.0,
        t * t * t / 6.0,
    ]
}

/// Polynomial of t, constant first, of a piece with these coefficients.
fn cubic(c: [f64; WIDE]) -> [f32; 4] {
    [
        (c[0] + 4.0 * c[1] + c[2]) / 6.0,
        0.5 * (c[2] - c[0]),
        0.5 * (c[0] - 2.0 * c[1] + c[2]),
        (c[3] - 3.0 * c[2] + 3.0 * c[1] - c[0]) / 6.0,
    ]
    .map(Convert::single)
}

impl Spline {
    pub(super) const fn new(grid: Grid, stiffness: f64, coefficients: Vec<f64>) -> Self {
        Self {
            grid,
            stiffness,
            coefficients,
        }
    }

    /// The shortest waves that it follows, in parts of the canvas's shorter side.
    pub const fn stiffness(&self) -> f64 {
        self.stiffness
    }

    pub(super) fn at(&self, p: Point<CanvasPx>) -> f64 {
        let weights = self.grid.weights(p);
        let parts = weights
            .iter()
            .flat_map(|(first, w)| w.iter().zip(&self.coefficients[*first..]));
        parts.map(|(w, c)| w * c).sum()
    }

    pub(super) fn is_sound(&self) -> bool {
        let (columns, rows) = self.grid.shape();
        let g = &self.grid;
        g.pieces.iter().all(|n| (1..=1000).contains(n))
            && g.piece.iter().all(|v| *v > 0.0 && v.is_finite())
            && g.corner.iter().all(|v| v.is_finite())
            && self.coefficients.len() == columns * rows
            && self.coefficients.iter().all(|v| v.is_finite())
    }

    pub(super) fn scaled(&self, k: f64) -> Self {
        let coefficients = self.coefficients.iter().map(|v| k * v).collect();
        Self {
            coefficients,
            ..self.clone()
        }
    }

    pub(super) fn raise(&mut self, by: f64) {
        // The weights of a place sum to 1.
        for c in &mut self.coefficients {
            *c += by;
        }
    }

    pub(super) fn add_to_row(&self, x: i64, y: i64, row: &mut [f32]) {
        let g = &self.grid;
        let columns = g.shape().0;
        let (j, ty) = g.split(1, y.real());
        let wy = blend(ty);
        // Along a row the spline is one of x alone.
        let along: Vec<f64> = (0..columns)
            .map(|c| {
                let of = |b: usize| wy[b] * self.coefficients[(j + b) * columns + c];
                (0..WIDE).map(of).sum()
            })
            .collect();
        let step = 1.0 / g.piece[0];
        let mut from = 0;
        while from < row.len() {
            let (i, t) = g.split(0, (x + from.whole()).real());
            let to = if i + 1 == g.pieces[0] {
                row.len()
            } else {
                // The first pixel of the next piece.
                let next = (g.corner[0] + (i + 1).real() * g.piece[0]).ceil().whole();
                (next - x).max(from.whole() + 1).index().min(row.len())
            };
            let c = cubic(std::array::from_fn(|a| along[i + a]));
            add_horner(&c, t.single(), step.single(), &mut row[from..to]);
            from = to;
        }
    }
}
