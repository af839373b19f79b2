//! Where a frame is valid: 0 where its pixels are full and where what is full bleeds, 1 away from there, and smooth
//! between.
//!
//! Nearly all of a frame is valid, so only those squares of it are kept in which something is not: some hundred
//! kilobytes where a plane would be tens of megabytes. A mask is read as a frame is, and placed with it.

use crate::number::Convert;
use std::ops::Range;

use rayon::prelude::*;

use super::blocks::each_from;
use crate::doors::{DoorError, FrameSource};
use crate::plane::Plane;
use crate::space::{FramePx, Point, Rect, Size};

/// Side of a square.
const SIDE: usize = 64;

/// Valid everywhere, as squares keep it.
const VALID: u8 = 255;

/// What lies around full pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Border {
    /// Pixels around a full one that are not valid either: what bleeds over, and what a resampling kernel reaches.
    pub grow_px: usize,
    /// Pixels over which validity comes back from there.
    pub feather_px: usize,
}

impl Default for Border {
    /// Charge bleeds over two pixels, and the usual kernel reaches three. Over six pixels no eye sees the change from
    /// one exposure to the other.
    fn default() -> Self {
        Self {
            grow_px: 5,
            feather_px: 6,
        }
    }
}

impl Border {
    const fn reach(self) -> usize {
        self.grow_px + self.feather_px
    }

    /// Validity at a distance.
    fn at(self, distance: f64) -> u8 {
        let t =
            ((distance - self.grow_px.real()) / self.feather_px.real().max(1e-9)).clamp(0.0, 1.0);
        (f64::from(VALID) * t * t * (3.0 - 2.0 * t)).round().byte()
    }
}

/// Where a frame is valid.
#[derive(Debug, Clone)]
pub struct Mask {
    size: Size,
    columns: usize,
    squares: Vec<Option<Box<[u8]>>>,
    /// Pixels that are full.
    saturated: usize,
}

impl Mask {
    /// Of a frame whose pixels are full from `limit` on.
    pub fn new(plane: &Plane, limit: f32, border: Border) -> Self {
        let size = plane.size();
        let runs: Vec<Vec<Range<usize>>> = (0..size.height())
            .into_par_iter()
            .map(|y| runs(plane.row(y), limit))
            .collect();
        let reach = border.reach();
        // Validity by the square of the distance.
        let table: Vec<u8> = (0..=2 * (reach + 1).pow(2))
            .map(|d2| border.at(d2.real().sqrt()))
            .collect();
        let columns = size.width().div_ceil(SIDE);
        let squares = (0..size.height().div_ceil(SIDE))
            .into_par_iter()
            .flat_map_iter(|band| {
                let rows = band * SIDE..((band + 1) * SIDE).min(size.height());
                squares_of(&runs, rows, (size, reach), &table, columns)
            })
            .collect();
        Self {
            size,
            columns,
            squares,
            saturated: runs.iter().flatten().map(ExactSizeIterator::len).sum(),
        }
    }

    /// Pixels that are full.
    pub const fn saturated_pixels(&self) -> usize {
        self.saturated
    }

    /// Validity of a pixel, 0 to 1; 1 outside of the frame.
    pub fn at(&self, x: i64, y: i64) -> f32 {
        let inside = |v: i64, n: usize| usize::try_from(v).ok().filter(|v| *v < n);
        let (Some(x), Some(y)) = (inside(x, self.size.width()), inside(y, self.size.height()))
        else {
            return 1.0;
        };
        let square = &self.squares[y / SIDE * self.columns + x / SIDE];
        square.as_ref().map_or(1.0, |s| {
            f32::from(s[y % SIDE * SIDE + x % SIDE]) / f32::from(VALID)
        })
    }

    /// The part of a circle on which all is valid.
    pub fn clear_part(&self, at: Point<FramePx>, radius_px: f64) -> f64 {
        const AROUND: u32 = 24;
        let valid = |k: &u32| {
            let angle = f64::from(*k) * std::f64::consts::TAU / f64::from(AROUND);
            let (x, y) = (
                at.x + radius_px * angle.cos(),
                at.y + radius_px * angle.sin(),
            );
            self.at(x.round().whole(), y.round().whole()) >= 1.0
        };
        (0..AROUND).filter(valid).count().real() / f64::from(AROUND)
    }
}

/// Runs of full pixels in a row.
fn runs(row: &[f32], limit: f32) -> Vec<Range<usize>> {
    let mut found: Vec<Range<usize>> = Vec::new();
    each_from(row, limit, |x| match found.last_mut() {
        Some(last) if last.end == x => last.end = x + 1,
        _ => found.push(x..x + 1),
    });
    found
}

/// The squares of a band of rows.
fn squares_of(
    runs: &[Vec<Range<usize>>],
    rows: Range<usize>,
    (size, reach): (Size, usize),
    table: &[u8],
    columns: usize,
) -> Vec<Option<Box<[u8]>>> {
    let width = size.width();
    let near = rows.start.saturating_sub(reach)..(rows.end + reach).min(size.height());
    let mut squares: Vec<Option<Box<[u8]>>> = vec![None; columns];
    if near.clone().all(|y| runs[y].is_empty()) {
        return squares;
    }
    let mut band = vec![VALID; width * SIDE];
    for from in near {
        for run in &runs[from] {
            let (left, right) = (
                run.start.saturating_sub(reach),
                (run.end + reach).min(width),
            );
            let here = from.saturating_sub(reach).max(rows.start)..(from + reach + 1).min(rows.end);
            for y in here {
                let dy = y.abs_diff(from);
                let line = &mut band[(y - rows.start) * width..][..width];
                for (x, v) in line.iter_mut().enumerate().take(right).skip(left) {
                    let dx = run.start.saturating_sub(x) + (x + 1).saturating_sub(run.end);
                    *v = (*v).min(table[dx * dx + dy * dy]);
                }
            }
        }
    }
    for (c, square) in squares.iter_mut().enumerate() {
        let across = c * SIDE..((c + 1) * SIDE).min(width);
        let part = |y: usize| &band[y * width + across.start..y * width + across.end];
        if (0..SIDE).any(|y| part(y).iter().any(|v| *v != VALID)) {
            let mut kept = vec![VALID; SIDE * SIDE];
            for y in 0..SIDE {
                kept[y * SIDE..][..across.len()].copy_from_slice(part(y));
            }
            *square = Some(kept.into());
        }
    }
    squares
}

impl FrameSource for Mask {
    fn size(&self) -> Size {
        self.size
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        for (row, y) in out.chunks_exact_mut(rect.width).zip(rect.y.index()..) {
            let mut x = rect.x.index();
            let mut rest = row;
            while !rest.is_empty() {
                let run = (SIDE - x % SIDE).min(rest.len());
                let (here, after) = rest.split_at_mut(run);
                match &self.squares[y / SIDE * self.columns + x / SIDE] {
                    None => here.fill(1.0),
                    Some(square) => {
                        let line = &square[y % SIDE * SIDE + x % SIDE..][..run];
                        for (o, v) in here.iter_mut().zip(line) {
                            *o = f32::from(*v) / f32::from(VALID);
                        }
                    }
                }
                (rest, x) = (after, x + run);
            }
        }
        Ok(())
    }

    fn constant(&self, rect: Rect) -> Option<f32> {
        let squares = |from: i64, len: usize| from.index() / SIDE..=(from.index() + len - 1) / SIDE;
        let clear = squares(rect.y, rect.height)
            .flat_map(|r| squares(rect.x, rect.width).map(move |c| (r, c)))
            .all(|(r, c)| self.squares[r * self.columns + c].is_none());
        clear.then_some(1.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A frame with a full disc, a full trail and a full pixel.
    fn plane() -> Plane {
        Plane::from_fn(Size::new(200, 150).unwrap(), |x, y| {
            let disc = (x.real() - 63.0).hypot(y.real() - 64.0) < 6.0;
            let trail = x == 150 && (20..110).contains(&y);
            if disc || trail || (x, y) == (20, 20) {
                1000.0
            } else {
                10.0
            }
        })
    }

    #[test]
    fn validity_is_that_of_the_distance_to_the_nearest_full_pixel() {
        let (plane, border) = (plane(), Border::default());
        let mask = Mask::new(&plane, 900.0, border);
        let saturated: Vec<(i64, i64)> = (0..150)
            .flat_map(|y| (0..200).map(move |x| (x, y)))
            .filter(|(x, y)| plane.at(*x, *y) >= 900.0)
            .collect();
        assert_eq!(mask.saturated_pixels(), saturated.len());
        for y in (0..150).step_by(3) {
            for x in 0..200 {
                let d = saturated
                    .iter()
                    .map(|(a, b)| (a - x).real().hypot((b - y).real()))
                    .fold(f64::INFINITY, f64::min);
                let want = f32::from(border.at(d)) / 255.0;
                assert_eq!(mask.at(x, y), want, "({x}, {y})");
            }
        }
    }

    #[test]
    fn a_window_reads_as_its_pixels_do_and_knows_when_it_is_all_valid() {
        let mask = Mask::new(&plane(), 900.0, Border::default());
        assert_eq!(
            mask.constant(Rect {
                x: 85,
                y: 0,
                width: 30,
                height: 150
            }),
            None
        );
        let clear = Rect {
            x: 192,
            y: 0,
            width: 8,
            height: 40,
        };
        assert_eq!(mask.constant(clear), Some(1.0));
        assert_eq!(mask.clear_part(Point::new(63.0, 64.0), 18.0), 1.0);
        assert_eq!(mask.clear_part(Point::new(63.0, 64.0), 14.0), 0.0);
        let rect = Rect {
            x: 3,
            y: 5,
            width: 190,
            height: 140,
        };
        let mut out = vec![0.0; rect.area()];
        mask.read(rect, &mut out).unwrap();
        for (i, v) in out.iter().enumerate() {
            let (x, y) = (3 + (i % 190).whole(), 5 + (i / 190).whole());
            assert_eq!(*v, mask.at(x, y), "({x}, {y})");
        }
    }
}
