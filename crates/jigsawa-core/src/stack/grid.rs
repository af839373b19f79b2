//! What changes slowly over the canvas: the noise of a frame's sky, how much its values count.

use crate::number::Convert;
use crate::placement::Placement;
use crate::space::{CanvasPx, Point, Size};
use crate::stars::SkyMesh;

/// Places of the canvas where it is known are so many pixels apart.
const STEP: usize = 128;

/// Nowhere is the noise taken for more than so many times the quiet sky's: cells full of nebula or stars show their light.
const MOST: f32 = 2.0;

/// A number at each place of the canvas, known at those of a coarse grid and straight between them.
#[derive(Debug, Clone, PartialEq)]
pub struct CanvasGrid {
    values: Vec<f32>,
    columns: usize,
    rows: usize,
}

impl CanvasGrid {
    /// The same everywhere.
    pub fn even(value: f32) -> Self {
        Self {
            values: vec![value],
            columns: 1,
            rows: 1,
        }
    }

    /// What a function says at the places of the grid.
    pub fn over(canvas: Size, at: impl Fn(Point<CanvasPx>) -> f32) -> Self {
        let nodes = |n: usize| n.div_ceil(STEP) + 1;
        let (columns, rows) = (nodes(canvas.width()), nodes(canvas.height()));
        let place = |i: usize| {
            let (x, y) = (i % columns * STEP, i / columns * STEP);
            Point::new(x.real(), y.real())
        };
        Self {
            values: (0..columns * rows).map(|i| at(place(i))).collect(),
            columns,
            rows,
        }
    }

    /// The noise of a frame whose quiet sky has noise `sigma` on the canvas, and elsewhere as much more or less as its mesh shows:
    /// corners that a flat has brightened have more.
    pub fn noise(sky: &SkyMesh, placement: &Placement, canvas: Size, sigma: f32) -> Self {
        let quiet = sky.typical_sigma();
        if quiet <= 0.0 || !quiet.is_finite() {
            return Self::even(sigma);
        }
        Self::over(canvas, |place| {
            let part = sky.sigma_at(placement.apply(place)) / quiet;
            sigma
                * if part.is_finite() {
                    part.clamp(1.0 / MOST, MOST)
                } else {
                    1.0
                }
        })
    }

    /// The number at a place of the canvas; beyond the grid that of its rim.
    pub fn at(&self, x: f32, y: f32) -> f32 {
        let split = |v: f32, n: usize| {
            let v = (v / STEP.single()).clamp(0.0, (n - 1).single());
            let first = v.index().min(n.saturating_sub(2));
            (first, (first + 1).min(n - 1), v - first.single())
        };
        let (c0, c1, tx) = split(x, self.columns);
        let (r0, r1, ty) = split(y, self.rows);
        let row = |r: usize| {
            let (a, b) = (
                self.values[r * self.columns + c0],
                self.values[r * self.columns + c1],
            );
            a + tx * (b - a)
        };
        let (a, b) = (row(r0), row(r1));
        a + ty * (b - a)
    }

    /// Its values at the places of the grid.
    pub(super) fn values(&self) -> &[f32] {
        &self.values
    }

    /// The middle one of its values.
    pub fn typical(&self) -> f32 {
        crate::robust::median(&mut self.values.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn between_the_places_of_the_grid_it_goes_straight() {
        let grid = CanvasGrid {
            values: vec![1.0, 3.0, 5.0, 7.0],
            columns: 2,
            rows: 2,
        };
        assert_eq!(grid.at(64.0, 0.0), 2.0);
        assert_eq!(grid.at(0.0, 64.0), 3.0);
        assert_eq!(grid.at(64.0, 64.0), 4.0);
        assert_eq!((grid.at(-50.0, -3.0), grid.at(900.0, 900.0)), (1.0, 7.0));
        assert_eq!(CanvasGrid::even(4.0).at(300.0, 7.0), 4.0);
    }
}
