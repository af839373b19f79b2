//! The points of the canvas at which frames are compared, and the patches that they make.

use crate::number::Convert;
use std::ops::Range;

use crate::placement::Placement;
use crate::space::{CanvasPx, Point, Rect, Size};

/// Points of a lattice at the most: every second pixel of a 9-megapixel canvas.
const MOST_POINTS: usize = 2_400_000;

/// Points along a patch's side: the mean of some 500 pixels is known to 4 % of their noise.
pub(crate) const PATCH: usize = 24;

/// Fewest patches along the canvas's shorter side, where the canvas has pixels enough.
const LEAST_PATCHES: usize = 16;

/// The points at which frames are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lattice {
    canvas: Size,
    pub(super) step: usize,
    /// Points along a patch's side.
    pub(super) patch: usize,
    /// Of points.
    pub(super) columns: usize,
    pub(super) rows: usize,
}

impl Lattice {
    /// Over a canvas.
    pub fn over(canvas: Size) -> Self {
        let step = (canvas.area().real() / MOST_POINTS.real())
            .sqrt()
            .ceil()
            .index()
            .max(1);
        let short = canvas.width().min(canvas.height()) / step;
        Self {
            canvas,
            step,
            patch: (short / LEAST_PATCHES).clamp(4, PATCH),
            columns: canvas.width().div_ceil(step),
            rows: canvas.height().div_ceil(step),
        }
    }

    /// Over a canvas that frames cover in parts: every `step`-th pixel, in patches of `patch` points along a side.
    pub fn fine(canvas: Size, step: usize, patch: usize) -> Self {
        let step = step.max(1);
        Self {
            canvas,
            step,
            patch: patch.max(4),
            columns: canvas.width().div_ceil(step),
            rows: canvas.height().div_ceil(step),
        }
    }

    /// The canvas.
    pub const fn canvas(&self) -> Size {
        self.canvas
    }

    /// Canvas pixels from one point to the next.
    pub(crate) const fn step(&self) -> usize {
        self.step
    }

    /// A patch's side in canvas pixels.
    pub const fn patch_px(&self) -> usize {
        self.patch * self.step
    }

    pub(super) fn x(&self, column: usize) -> f64 {
        ((column * self.step + self.step / 2).min(self.canvas.width() - 1)).real()
    }

    pub(super) fn y(&self, row: usize) -> f64 {
        ((row * self.step + self.step / 2).min(self.canvas.height() - 1)).real()
    }

    /// Columns and rows of patches.
    pub(crate) const fn patches(&self) -> (usize, usize) {
        (
            self.columns.div_ceil(self.patch),
            self.rows.div_ceil(self.patch),
        )
    }

    /// Columns and rows of patches that hold all that a frame covers, by the frame's outline.
    pub(super) fn around(
        &self,
        placement: &Placement,
        frame: Size,
    ) -> (Range<usize>, Range<usize>) {
        // A lens bends edges: their middles count, too.
        let (w, h) = (frame.width().real() - 1.0, frame.height().real() - 1.0);
        let places = (0..9).map(|k| (f64::from(k % 3) * 0.5 * w, f64::from(k / 3) * 0.5 * h));
        let back = placement.invert();
        let rect = Rect::around(places.map(|(x, y)| back.apply(Point::new(x, y))));
        let px = self.patch_px().whole();
        let (columns, rows) = self.patches();
        let range = |from: i64, to: i64, n: usize| {
            let patch = |v: i64| (v.div_euclid(px)).clamp(0, n.whole()).index();
            patch(from - 2)..patch(to + 2 + px).max(patch(from - 2))
        };
        (
            range(rect.x, rect.right(), columns),
            range(rect.y, rect.bottom(), rows),
        )
    }

    /// The points of a patch: columns and rows.
    pub(crate) fn inside(
        &self,
        (c, r): (usize, usize),
    ) -> (std::ops::Range<usize>, std::ops::Range<usize>) {
        let n = self.patch;
        (
            c * n..((c + 1) * n).min(self.columns),
            r * n..((r + 1) * n).min(self.rows),
        )
    }

    /// The middle of a patch.
    pub(crate) fn middle(&self, patch: (usize, usize)) -> Point<CanvasPx> {
        let (columns, rows) = self.inside(patch);
        Point::new(
            0.5 * (self.x(columns.start) + self.x(columns.end - 1)),
            0.5 * (self.y(rows.start) + self.y(rows.end - 1)),
        )
    }
}
