//! A frame's sky at the points of a lattice over the canvas, clear of stars and of missing pixels.
//!
//! Two frames are compared point by point: the same places of the sky, so that a nebula which both show
//! cancels, down to its finest filaments. Every second to tenth pixel is enough, which keeps a frame's
//! samples to some megabytes however large it is; each is a straight mean of the frame's four pixels around the
//! place. The nearest pixel was taken first: half a pixel aside on a nebula's slope made two skies differ by more than
//! their noise.

use crate::number::Convert;
use std::ops::Range;

use rayon::prelude::*;

use super::Balance;
use crate::placement::Placement;
use crate::plane::Plane;
use crate::space::{CanvasPx, Point, Rect, Size};
use crate::stars::{Catalogue, Flag, moffat};

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
    step: usize,
    /// Points along a patch's side.
    patch: usize,
    columns: usize,
    rows: usize,
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

    fn x(&self, column: usize) -> f64 {
        ((column * self.step + self.step / 2).min(self.canvas.width() - 1)).real()
    }

    fn y(&self, row: usize) -> f64 {
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
    fn around(&self, placement: &Placement, frame: Size) -> (Range<usize>, Range<usize>) {
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

/// What a frame shows at the points of a lattice; NaN where it has no sky: a star, or no data. Kept for the patches
/// around the frame only, since a panel covers a small part of its canvas.
#[derive(Debug, Clone)]
pub struct Samples {
    lattice: Lattice,
    /// Columns and rows of patches that are kept.
    patches: (Range<usize>, Range<usize>),
    /// And of points.
    columns: Range<usize>,
    rows: Range<usize>,
    values: Vec<f32>,
}

/// A star's light is left out as far as it reaches above this part of the pixel noise.
const LEAST_LIGHT: f64 = 0.05;

/// Profiles that fall off faster than this have wings all the same.
const MOST_BETA: f64 = 3.5;

/// A star reaches from so many widths to so many.
const REACH: (f64, f64) = (1.5, 25.0);

/// A saturated star's height is only guessed, and it is the one with a halo.
const SATURATED_REACH: f64 = 1.7;

/// Points between the places where a placement is worked out; between them it is a straight line to
/// a few hundredths of a pixel through a lens of 5 px, which no patch's mean notices.
const STRAIGHT: usize = 32;

/// The value between a frame's pixels; NaN where one is missing, or full.
fn between(plane: &Plane, (x, y): (f64, f64), ceiling: f32) -> f32 {
    let (c, r) = (x.floor(), y.floor());
    let (u, v) = ((x - c).single(), (y - r).single());
    let at = |dx: i64, dy: i64| plane.at(c.whole() + dx, r.whole() + dy);
    let four = [at(0, 0), at(1, 0), at(0, 1), at(1, 1)];
    if !four.iter().all(|p| *p < ceiling) {
        // A place on a pixel's middle needs no other.
        return if u == 0.0 && v == 0.0 && four[0] < ceiling {
            four[0]
        } else {
            f32::NAN
        };
    }
    (1.0 - v) * ((1.0 - u) * four[0] + u * four[1]) + v * ((1.0 - u) * four[2] + u * four[3])
}

impl Samples {
    /// Of a frame. Values from `saturation` up are not taken.
    pub fn take(
        plane: &Plane,
        placement: &Placement,
        stars: &Catalogue,
        saturation: Option<f32>,
        lattice: Lattice,
    ) -> Self {
        let patches = lattice.around(placement, plane.size());
        let points = |p: &Range<usize>, n: usize| {
            (p.start * lattice.patch).min(n)..(p.end * lattice.patch).min(n)
        };
        let columns = points(&patches.0, lattice.columns);
        let rows = points(&patches.1, lattice.rows);
        let mut values = vec![f32::NAN; columns.len() * rows.len()];
        let ceiling = saturation.unwrap_or(f32::INFINITY);
        let (from, top) = (columns.start, rows.start);
        values
            .par_chunks_mut(columns.len().max(1))
            .enumerate()
            .for_each(|(r, row)| {
                let r = r + top;
                for (k, run) in row.chunks_mut(STRAIGHT).enumerate() {
                    let first = from + k * STRAIGHT;
                    let at = |c: usize| placement.apply(Point::new(lattice.x(c), lattice.y(r)));
                    let (a, b) = (at(first), at(first + run.len() - 1));
                    let n = (run.len() - 1).max(1).real();
                    let (dx, dy) = ((b.x - a.x) / n, (b.y - a.y) / n);
                    for (i, v) in run.iter_mut().enumerate() {
                        let (x, y) = (a.x + i.real() * dx, a.y + i.real() * dy);
                        *v = between(plane, (x, y), ceiling);
                    }
                }
            });
        let mut samples = Self {
            lattice,
            patches,
            columns,
            rows,
            values,
        };
        samples.without_stars(placement, stars);
        samples
    }

    /// The lattice.
    pub const fn lattice(&self) -> Lattice {
        self.lattice
    }

    /// The samples, balanced.
    #[must_use]
    pub fn balanced(mut self, balance: &Balance) -> Self {
        let l = self.lattice;
        let (from, top) = (self.columns.start, self.rows.start);
        let rows = self
            .values
            .par_chunks_mut(self.columns.len().max(1))
            .enumerate();
        rows.for_each(|(r, row)| {
            for (c, v) in row.iter_mut().enumerate().filter(|(_, v)| v.is_finite()) {
                let at = Point::new(l.x(from + c), l.y(top + r));
                *v = balance.apply(f64::from(*v), at).single();
            }
        });
        self
    }

    /// Columns and rows of the patches that are kept; others show nothing.
    pub(crate) fn kept(&self) -> (Range<usize>, Range<usize>) {
        self.patches.clone()
    }

    /// A row of a patch that is kept.
    pub(crate) fn row(&self, columns: Range<usize>, row: usize) -> &[f32] {
        let at = (row - self.rows.start) * self.columns.len();
        let (from, to) = (
            columns.start - self.columns.start,
            columns.end - self.columns.start,
        );
        &self.values[at + from..at + to]
    }

    fn without_stars(&mut self, placement: &Placement, stars: &Catalogue) {
        let back = placement.invert();
        let l = self.lattice;
        let noise = f64::from(stars.sky.typical_sigma());
        let beta = stars.beta.min(MOST_BETA);
        for s in &stars.stars {
            let height = s.amplitude / (LEAST_LIGHT * noise).max(1e-30);
            let mut reach = moffat::reach(stars.fwhm_px, beta, height);
            if s.flags.has(Flag::Saturated) {
                reach *= SATURATED_REACH;
            }
            let reach = reach.clamp(REACH.0 * stars.fwhm_px, REACH.1 * stars.fwhm_px);
            let at = back.apply(s.at);
            let reach = reach / placement.area_ratio(at).sqrt();
            if !(at.x.is_finite() && at.y.is_finite() && reach.is_finite()) {
                continue;
            }
            let points = |from: f64, to: f64, kept: &Range<usize>| {
                let point = |v: f64| (v / l.step.real()).max(0.0).index();
                point(from).max(kept.start)..(point(to) + 1).min(kept.end)
            };
            for r in points(at.y - reach, at.y + reach, &self.rows) {
                for c in points(at.x - reach, at.x + reach, &self.columns) {
                    if (l.x(c) - at.x).hypot(l.y(r) - at.y) <= reach {
                        let place =
                            (r - self.rows.start) * self.columns.len() + c - self.columns.start;
                        self.values[place] = f32::NAN;
                    }
                }
            }
        }
    }
}
