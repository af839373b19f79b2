//! Cells: the canvas in squares of a few pixels, on which panels are cut and joined.
//!
//! A seam need not be known to the pixel, but it must be thought over: a canvas of 250 megapixels is a million
//! cells. Each panel has a window of cells with how far inside of it each lies.

use super::border::Coverage;
use crate::number::Convert;
use crate::placement::Placement;
use crate::plane::Plane;
use crate::space::{CanvasPx, Point, Rect, Size};

/// The canvas in cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cells {
    /// The canvas.
    pub canvas: Size,
    /// Pixels along a cell's side.
    pub side: usize,
    /// Columns of cells.
    pub columns: usize,
    /// Rows of cells.
    pub rows: usize,
}

/// Cells across a panel of usual shape: an overlap of 8 % then has some twenty.
const ACROSS: f64 = 300.0;

/// A cell's side in pixels, at least and at most.
const SIDE: (usize, usize) = (4, 24);

impl Cells {
    /// Over a canvas of panels that cover so many pixels of it each.
    pub fn over(canvas: Size, panel_area: f64) -> Self {
        let side = (panel_area.sqrt() / ACROSS)
            .round()
            .index()
            .clamp(SIDE.0, SIDE.1);
        Self::of_side(canvas, side)
    }

    /// Over a canvas, in cells of this side.
    pub fn of_side(canvas: Size, side: usize) -> Self {
        let side = side.max(1);
        Self {
            canvas,
            side,
            columns: canvas.width().div_ceil(side),
            rows: canvas.height().div_ceil(side),
        }
    }

    /// Cells in all.
    pub const fn count(&self) -> usize {
        self.columns * self.rows
    }

    /// The middle of a cell on the canvas.
    pub fn middle(&self, column: usize, row: usize) -> Point<CanvasPx> {
        let at = |k: usize| (k * self.side).real() + 0.5 * (self.side.real() - 1.0);
        Point::new(at(column), at(row))
    }

    /// The cells that a rectangle of the canvas touches, with a margin of cells around.
    pub fn touched(&self, rect: Rect, margin: i64) -> Rect {
        let s = self.side.whole();
        let (x, y) = (rect.x.div_euclid(s) - margin, rect.y.div_euclid(s) - margin);
        let right = (rect.right() - 1).div_euclid(s) + 1 + margin;
        let bottom = (rect.bottom() - 1).div_euclid(s) + 1 + margin;
        let all = Rect {
            x: 0,
            y: 0,
            width: self.columns,
            height: self.rows,
        };
        Rect {
            x,
            y,
            width: (right - x).max(0).index(),
            height: (bottom - y).max(0).index(),
        }
        .intersect(all)
    }
}

/// Where a panel covers cells, and how far inside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cover {
    /// The window of cells that may be covered.
    pub window: Rect,
    /// For each cell of the window, row after row: 0 where it is not covered, else how many cells away the nearest
    /// cell is that is not.
    pub depth: Vec<u8>,
}

impl Cover {
    /// Of a frame that is covered so.
    pub fn of(plane: &Plane, placement: &Placement, coverage: &Coverage, cells: Cells) -> Self {
        let back = placement.invert();
        let (w, h) = (
            plane.size().width().real() - 1.0,
            plane.size().height().real() - 1.0,
        );
        let outline = (0..9).map(|k| (f64::from(k % 3) * 0.5 * w, f64::from(k / 3) * 0.5 * h));
        let around = Rect::around(outline.map(|(x, y)| back.apply(Point::new(x, y))));
        let window = cells.touched(around, 1);
        let half = 0.5 * (cells.side.real() - 1.0);
        let depth = (0..window.area())
            .map(|k| {
                let (c, r) = (
                    window.x.index() + k % window.width,
                    window.y.index() + k / window.width,
                );
                let m = cells.middle(c, r);
                // The whole cell must be covered, and its middle there.
                let steps = [-half, 0.0, half];
                let inside = |dx: f64, dy: f64| {
                    coverage.holds(placement.apply(Point::new(m.x + dx, m.y + dy)))
                };
                let p = placement.apply(m);
                let there = plane
                    .at(p.x.round().whole(), p.y.round().whole())
                    .is_finite();
                u8::from(
                    there
                        && steps
                            .iter()
                            .all(|dy| steps.iter().all(|dx| inside(*dx, *dy))),
                )
            })
            .collect();
        let mut cover = Self { window, depth };
        cover.measure();
        cover
    }

    /// How far inside of the panel a cell of the canvas lies; 0 outside.
    pub fn at(&self, column: usize, row: usize) -> u8 {
        let (c, r) = (column.whole() - self.window.x, row.whole() - self.window.y);
        if c < 0 || r < 0 || c >= self.window.width.whole() || r >= self.window.height.whole() {
            return 0;
        }
        self.depth[r.index() * self.window.width + c.index()]
    }

    /// What one of both covers, or what both do.
    #[must_use]
    pub fn with(&self, other: &Self, both: bool) -> Self {
        let (a, b) = (self.window, other.window);
        let window = if both {
            a.intersect(b)
        } else {
            let (x, y) = (a.x.min(b.x), a.y.min(b.y));
            Rect {
                x,
                y,
                width: (a.right().max(b.right()) - x).index(),
                height: (a.bottom().max(b.bottom()) - y).index(),
            }
        };
        let depth = (0..window.area())
            .map(|k| {
                let (c, r) = (
                    window.x.index() + k % window.width,
                    window.y.index() + k / window.width,
                );
                let (p, q) = (self.at(c, r) > 0, other.at(c, r) > 0);
                u8::from(if both { p && q } else { p || q })
            })
            .collect();
        let mut cover = Self { window, depth };
        cover.measure();
        cover
    }

    /// What the frames of each panel cover together; `None` for a panel without frames. `panel_of` has the number of each
    /// frame's panel.
    pub fn of_panels(covers: &[Self], panel_of: &[usize], panels: usize) -> Vec<Option<Self>> {
        let mut all: Vec<Option<Self>> = vec![None; panels];
        for (cover, p) in covers.iter().zip(panel_of) {
            all[*p] = Some(match all[*p].take() {
                Some(before) => before.with(cover, false),
                None => cover.clone(),
            });
        }
        all
    }

    /// What each panel covers in all filters that it has: those of one filter's panels are one of `filters`.
    pub fn in_all(filters: &[&[Option<Self>]], panels: usize) -> Vec<Self> {
        let nothing = || Self {
            window: Rect {
                x: 0,
                y: 0,
                width: 0,
                height: 0,
            },
            depth: Vec::new(),
        };
        let of_panel = |p: usize| {
            let own = filters.iter().filter_map(|f| f[p].clone());
            own.reduce(|a, b| a.with(&b, true)).unwrap_or_else(nothing)
        };
        (0..panels).map(of_panel).collect()
    }

    /// Cells that are covered.
    pub fn area(&self) -> usize {
        self.depth.iter().filter(|d| **d > 0).count()
    }

    /// Turns "covered or not" into distances: two passes over rows, by steps to the neighbours on all eight sides.
    fn measure(&mut self) {
        let (w, h) = (self.window.width, self.window.height);
        for d in &mut self.depth {
            *d = if *d > 0 { u8::MAX } else { 0 };
        }
        let least = |d: &[u8], c: i64, r: i64, near: [(i64, i64); 4]| {
            let of = |(dc, dr): (i64, i64)| {
                let (c, r) = (c + dc, r + dr);
                if c < 0 || r < 0 || c >= w.whole() || r >= h.whole() {
                    0
                } else {
                    d[r.index() * w + c.index()]
                }
            };
            near.map(of)
                .into_iter()
                .min()
                .unwrap_or(0)
                .saturating_add(1)
        };
        let before = [(-1, 0), (-1, -1), (0, -1), (1, -1)];
        let after = [(1, 0), (1, 1), (0, 1), (-1, 1)];
        for (near, backwards) in [(before, false), (after, true)] {
            for k in 0..w * h {
                let k = if backwards { w * h - 1 - k } else { k };
                if self.depth[k] > 0 {
                    let d = least(&self.depth, (k % w).whole(), (k / w).whole(), near);
                    self.depth[k] = self.depth[k].min(d);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Map;

    #[test]
    fn a_panel_is_covered_inside_and_deepest_in_its_middle() {
        let cells = Cells::of_side(Size::new(200, 160).unwrap(), 8);
        assert_eq!((cells.columns, cells.rows), (25, 20));
        let plane = Plane::filled(Size::new(100, 80).unwrap(), 1.0);
        let at = Map::shift(-40.0, -40.0);
        let cover = Cover::of(&plane, &at, &Coverage::of(&plane), cells);
        // Pixels 40 to 139 and 40 to 119: cells 5 to 16 and 5 to 14, whole ones.
        assert_eq!(cover.area(), 12 * 10);
        assert_eq!((cover.at(4, 8), cover.at(5, 8), cover.at(10, 9)), (0, 1, 5));
        let half = Rect {
            width: 50,
            ..plane.size().rect()
        };
        let part = Cover::of(&plane, &at, &Coverage::of_rect(plane.size(), half), cells);
        assert_eq!(cover.with(&part, true), part.with(&part, true));
        assert_eq!(cover.with(&part, false).area(), cover.area());
        assert!(cover.at(24, 19) == 0 && part.area() == 6 * 10);
    }

    #[test]
    fn cells_that_a_rectangle_touches() {
        let cells = Cells::over(Size::new(1000, 900).unwrap(), 6000.0 * 4000.0);
        assert_eq!(cells.side, 16);
        let r = Rect {
            x: 15,
            y: 32,
            width: 2,
            height: 1,
        };
        let t = cells.touched(r, 0);
        assert_eq!((t.x, t.y, t.width, t.height), (0, 2, 2, 1));
        assert_eq!(cells.touched(r, 1).area(), 3 * 3);
    }
}
