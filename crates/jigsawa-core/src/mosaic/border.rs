//! Up to where a frame is covered: holes and cuts where it has nothing, and the border that dithering leaves of a stack,
//! by its noise.
//!
//! Panels that another program has laid on one canvas have nothing around them, and the cut runs askew. What is missing is
//! masked in small cells, so that nothing else is lost.
//!
//! Towards the edges of a master fewer and fewer sub-frames were averaged: the noise rises, and last there is nothing.
//! Strips along each side are compared with the same side further in, by second differences of neighbouring pixels,
//! which neither sky nor nebula touches. What fewer than about half of the sub-frames cover is cut.

use crate::number::Convert;
use rayon::prelude::*;

use crate::doors::Mask;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::{FramePx, Point, Rect, Size};

/// Pixels along the side of a cell of the mask.
const CELL: usize = 4;

/// Pixels across a strip.
const STRIP: usize = 4;

/// Strips are compared with the pixels from here on inwards.
const INWARDS: (usize, usize) = (96, 160);

/// More noise than this, against further in, is that of half the sub-frames (a square root of 2, less its error).
const MOST_NOISE: f64 = 1.35;

/// A strip with less than this part of its pixels says nothing of noise.
const LEAST_SEEN: f64 = 0.25;

/// A border is not wider than this part of the frame.
const WIDEST: f64 = 0.2;

/// The part of a frame that is covered well.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Coverage {
    size: Size,
    /// Without borders of few sub-frames.
    rect: Rect,
    /// Cells that have nothing, row after row; `None` where none is so.
    empty: Option<Vec<bool>>,
}

impl Coverage {
    /// Of a frame without holes.
    pub const fn of_rect(size: Size, rect: Rect) -> Self {
        Self {
            size,
            rect,
            empty: None,
        }
    }

    /// Of a frame.
    pub fn of(plane: &Plane) -> Self {
        Self {
            size: plane.size(),
            rect: by_noise(plane),
            empty: empty_cells(plane),
        }
    }

    /// Does the frame cover the pixel that is nearest to a place?
    pub fn holds(&self, p: Point<FramePx>) -> bool {
        let (x, y) = (p.x.round().whole(), p.y.round().whole());
        let r = self.rect;
        x >= r.x && y >= r.y && x < r.right() && y < r.bottom() && !self.is_empty_at(x, y)
    }

    fn is_empty_at(&self, x: i64, y: i64) -> bool {
        let across = self.size.width().div_ceil(CELL);
        self.empty
            .as_ref()
            .is_some_and(|e| e[y.index() / CELL * across + x.index() / CELL])
    }
}

impl Mask for Coverage {
    /// What is not covered.
    fn hide(&self, rect: Rect, pixels: &mut [f32]) {
        if self.empty.is_none() && self.rect.intersect(rect) == rect {
            return;
        }
        for (y, row) in (rect.y..).zip(pixels.chunks_exact_mut(rect.width)) {
            if y < self.rect.y || y >= self.rect.bottom() {
                row.fill(f32::NAN);
                continue;
            }
            let inside = |x: i64| (x - rect.x).clamp(0, rect.width.whole()).index();
            let (from, to) = (inside(self.rect.x), inside(self.rect.right()));
            row[..from].fill(f32::NAN);
            row[to..].fill(f32::NAN);
            if self.empty.is_some() {
                for (x, v) in (rect.x..).zip(row.iter_mut()).take(to).skip(from) {
                    if self.is_empty_at(x, y) {
                        *v = f32::NAN;
                    }
                }
            }
        }
    }
}

/// Cells of which half is missing. `None` where no cell is so.
fn empty_cells(plane: &Plane) -> Option<Vec<bool>> {
    let size = plane.size();
    let across = size.width().div_ceil(CELL);
    let mut empty = vec![false; across * size.height().div_ceil(CELL)];
    empty
        .par_chunks_mut(across)
        .enumerate()
        .for_each(|(r, row)| {
            let rows: Vec<&[f32]> = (r * CELL..((r + 1) * CELL).min(size.height()))
                .map(|y| plane.row(y))
                .collect();
            for (c, empty) in row.iter_mut().enumerate() {
                let columns = c * CELL..((c + 1) * CELL).min(size.width());
                let all = rows.iter().flat_map(|row| &row[columns.clone()]);
                let missing = all.filter(|v| !v.is_finite()).count();
                *empty = 2 * missing >= rows.len() * columns.len();
            }
        });
    empty.contains(&true).then_some(empty)
}

/// The part of a frame without the borders that few sub-frames cover.
fn by_noise(plane: &Plane) -> Rect {
    let whole = plane.size().rect();
    let middle = |from: i64, n: usize| {
        (
            from + (0.2 * n.real()).whole(),
            n - 2 * (0.2 * n.real()).index(),
        )
    };
    // Columns by the middle rows, then rows by the columns that are left, and columns once more by the rows that are.
    let (y, height) = middle(0, whole.height);
    let columns = cut_columns(plane, Rect { y, height, ..whole });
    let rows = cut_rows(plane, columns);
    cut_columns(plane, rows)
}

/// A rectangle (of which the rows count only) without the columns at both sides that are not covered well there.
fn cut_columns(plane: &Plane, rect: Rect) -> Rect {
    let all = plane.size().width();
    let strip = |x: usize| Rect {
        x: x.whole(),
        width: STRIP.min(all - x),
        ..rect
    };
    let from = cut(plane, all, &strip);
    let to = cut(plane, all, &|at| strip(all - STRIP.min(all - at) - at));
    Rect {
        x: from.whole(),
        width: all.saturating_sub(from + to),
        ..rect
    }
}

/// The same with rows; the columns count.
fn cut_rows(plane: &Plane, rect: Rect) -> Rect {
    let all = plane.size().height();
    let strip = |y: usize| Rect {
        y: y.whole(),
        height: STRIP.min(all - y),
        ..rect
    };
    let from = cut(plane, all, &strip);
    let to = cut(plane, all, &|at| strip(all - STRIP.min(all - at) - at));
    Rect {
        y: from.whole(),
        height: all.saturating_sub(from + to),
        ..rect
    }
}

/// How many of `all` pixels are cut from a side, whose strips begin so many pixels inwards.
fn cut(plane: &Plane, all: usize, strip: &dyn Fn(usize) -> Rect) -> usize {
    let inner: Vec<f64> = (INWARDS.0..INWARDS.1.min(all / 2))
        .step_by(STRIP)
        .filter_map(|at| seen(plane, strip(at)))
        .collect();
    let usual = if inner.is_empty() {
        f64::INFINITY
    } else {
        inner.iter().sum::<f64>() / inner.len().real()
    };
    // A run of good strips ends the search. Strips of which most is missing say nothing: the mask has them.
    let (mut cut, mut good) = (0, 0);
    for at in (0..(WIDEST * all.real()).index()).step_by(STRIP) {
        match seen(plane, strip(at)) {
            Some(noise) if noise > MOST_NOISE * usual => {
                cut = at + STRIP;
                good = 0;
            }
            Some(_) => {
                good += 1;
                if good > 8 {
                    break;
                }
            }
            None => {}
        }
    }
    cut
}

/// Noise of a rectangle by the differences of neighbours. `None` where most of it is missing.
fn seen(plane: &Plane, rect: Rect) -> Option<f64> {
    let mut differences: Vec<f32> = Vec::new();
    // Some thousands of differences know the noise to a percent.
    let rows = rect.height.div_ceil(1500).max(1);
    let mut looked = 0usize;
    for y in (rect.y..rect.bottom()).step_by(rows) {
        let row = plane.row(y.index());
        let row = &row[rect.x.index()..rect.right().index()];
        let step = row.len().div_ceil(1500).max(1);
        for three in row.windows(3).step_by(step) {
            looked += 1;
            if three.iter().all(|v| v.is_finite()) {
                differences.push((three[0] - 2.0 * three[1] + three[2]).abs());
            }
        }
    }
    if differences.is_empty() || differences.len().real() < LEAST_SEEN * looked.real() {
        return None;
    }
    Some(f64::from(median(&mut differences)) * MAD_TO_SIGMA / 6f64.sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use jigsawa_sky::chance::normal;

    fn noise(i: usize) -> f32 {
        normal(i as u64, 0).single()
    }

    #[test]
    fn a_ragged_border_is_cut_by_its_noise_and_a_slope_is_not() {
        let size = Size::new(600, 500).unwrap();
        // Left: 20 pixels missing, then 40 with a quarter of the sub-frames. Below: 12 rows missing. A steep
        // nebula at the right.
        let data = (0..size.area()).map(|i| {
            let (x, y) = (i % 600, i / 600);
            let sigma = if x < 60 { 2.0 } else { 1.0 };
            let glow = if x > 500 {
                3.0 * (x - 500).single()
            } else {
                0.0
            };
            match (x, y) {
                (0..20, _) | (_, 488..) => f32::NAN,
                _ => 100.0 + glow + sigma * noise(i),
            }
        });
        let plane = Plane::new(size, data.collect()).unwrap();
        let c = Coverage::of(&plane);
        let r = c.rect;
        assert_eq!((r.x, r.right(), r.bottom()), (60, 600, 500));
        let at = |x: i32, y: i32| c.holds(Point::new(f64::from(x), f64::from(y)));
        let held = [at(59, 9), at(60, 9), at(300, 487), at(300, 488)];
        assert_eq!(held, [false, true, true, false]);
    }

    #[test]
    fn a_frame_askew_on_a_canvas_with_a_hole_keeps_its_pixels() {
        let size = Size::new(600, 500).unwrap();
        let covers = |x: f64, y: f64| {
            let (u, v) = (
                0.95 * (x - 300.0) + 0.31 * (y - 250.0),
                0.95 * (y - 250.0) - 0.31 * (x - 300.0),
            );
            u.abs() < 200.0 && v.abs() < 150.0 && (x - 350.0).hypot(y - 260.0) > 25.0
        };
        let data = (0..size.area()).map(|i| {
            let (x, y) = ((i % 600).real(), (i / 600).real());
            if covers(x, y) {
                100.0 + noise(i)
            } else {
                f32::NAN
            }
        });
        let plane = Plane::new(size, data.collect()).unwrap();
        let c = Coverage::of(&plane);
        let mut pixels = plane.data().to_vec();
        c.hide(size.rect(), &mut pixels);
        let count = |of: &[f32]| of.iter().filter(|v| v.is_finite()).count().real();
        let (kept, all) = (count(&pixels), count(plane.data()));
        assert!(kept > 0.99 * all, "{kept} of {all}");
    }

    #[test]
    fn a_frame_without_a_border_stays_whole() {
        let size = Size::new(300, 200).unwrap();
        let plane = Plane::new(size, (0..size.area()).map(|i| 9.0 + noise(i)).collect()).unwrap();
        assert_eq!(Coverage::of(&plane), Coverage::of_rect(size, size.rect()));
        // Nothing at all is no border either, and no panic.
        let empty = Plane::filled(size, f32::NAN);
        let nothing = Coverage::of(&empty);
        assert!(!nothing.holds(Point::new(150.0, 100.0)) && !nothing.holds(Point::new(0.0, 0.0)));
        let tiny = Plane::filled(Size::new(3, 2).unwrap(), 1.0);
        assert!(Coverage::of(&tiny).holds(Point::new(2.0, 1.0)));
    }
}
