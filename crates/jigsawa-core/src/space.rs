//! Where numbers live: pixel spaces as types, and the sizes and rectangles that pixels come in.
//!
//! In every space (0, 0) is the centre of the first pixel stored, x runs right and y in storage
//! order; FITS coordinates are ours + 1. A point carries its space in its type, so that a position
//! in a frame cannot be added to one on the canvas by mistake.

use crate::number::Convert;
use std::marker::PhantomData;

use serde::{Deserialize, Serialize};

/// The pixel grid of one frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FramePx {}

/// The pixel grid of the reference frame, on which all frames are registered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReferencePx {}

/// The common pixel grid that everything is merged on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CanvasPx {}

/// A position in the space `S`, in pixels.
#[derive(Debug, Serialize, Deserialize)]
#[serde(bound = "", deny_unknown_fields)]
pub struct Point<S> {
    /// Pixels to the right of the centre of the first pixel.
    pub x: f64,
    /// Pixels in storage order from the centre of the first pixel.
    pub y: f64,
    #[serde(skip)]
    space: PhantomData<S>,
}

impl<S> Point<S> {
    /// The position (`x`, `y`).
    pub const fn new(x: f64, y: f64) -> Self {
        Self {
            x,
            y,
            space: PhantomData,
        }
    }

    /// Distance to `other` in pixels.
    pub fn distance(self, other: Self) -> f64 {
        // Not `hypot`, which guards against numbers that no coordinate has, and takes several times as long.
        let (dx, dy) = (self.x - other.x, self.y - other.y);
        (dx * dx + dy * dy).sqrt()
    }
}

// Derived `Clone`, `Copy` and `PartialEq` would ask the same of the marker `S`.
impl<S> Clone for Point<S> {
    fn clone(&self) -> Self {
        *self
    }
}
impl<S> Copy for Point<S> {}
impl<S> PartialEq for Point<S> {
    fn eq(&self, other: &Self) -> bool {
        self.x == other.x && self.y == other.y
    }
}

/// Width and height in pixels.
///
/// # Guarantees
/// Both are at least 1, and their product fits the address space with room for `f32` pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "SizeFields", into = "SizeFields")]
pub struct Size {
    width: usize,
    height: usize,
}

#[derive(Serialize, Deserialize)]
struct SizeFields {
    width: usize,
    height: usize,
}

impl TryFrom<SizeFields> for Size {
    type Error = String;
    fn try_from(f: SizeFields) -> Result<Self, String> {
        Self::new(f.width, f.height)
            .ok_or_else(|| format!("{} x {} pixels is not a size", f.width, f.height))
    }
}

impl From<Size> for SizeFields {
    fn from(s: Size) -> Self {
        Self {
            width: s.width,
            height: s.height,
        }
    }
}

/// The longest side that is taken: one million pixels, far beyond any camera or mosaic, and small
/// enough that no product of coordinates overflows.
pub const LONGEST_SIDE: usize = 1_000_000;

impl Size {
    /// `None` when a side is zero or longer than [`LONGEST_SIDE`].
    pub const fn new(width: usize, height: usize) -> Option<Self> {
        if width == 0 || height == 0 || width > LONGEST_SIDE || height > LONGEST_SIDE {
            None
        } else {
            Some(Self { width, height })
        }
    }

    /// Pixels in a row.
    pub const fn width(self) -> usize {
        self.width
    }

    /// Rows.
    pub const fn height(self) -> usize {
        self.height
    }

    /// Pixels in all.
    pub const fn area(self) -> usize {
        self.width * self.height
    }

    /// Blocks of so many pixels a side that cover it, the last ones in part.
    #[must_use]
    pub const fn blocks(self, side: usize) -> Self {
        Self {
            width: self.width.div_ceil(side),
            height: self.height.div_ceil(side),
        }
    }

    /// The rectangle of all pixels.
    pub const fn rect(self) -> Rect {
        Rect {
            x: 0,
            y: 0,
            width: self.width,
            height: self.height,
        }
    }

    /// The centre of the grid: (w - 1) / 2, (h - 1) / 2.
    pub fn centre<S>(self) -> Point<S> {
        Point::new(
            (self.width - 1).real() / 2.0,
            (self.height - 1).real() / 2.0,
        )
    }

    /// The centres of the four corner pixels, around the grid.
    pub fn corners<S>(self) -> [Point<S>; 4] {
        let (w, h) = ((self.width - 1).real(), (self.height - 1).real());
        [
            Point::new(0.0, 0.0),
            Point::new(w, 0.0),
            Point::new(w, h),
            Point::new(0.0, h),
        ]
    }

    /// Does the position lie on a pixel of the grid (half a pixel around the centres)?
    pub fn holds<S>(self, p: Point<S>) -> bool {
        p.x >= -0.5
            && p.y >= -0.5
            && p.x < self.width.real() - 0.5
            && p.y < self.height.real() - 0.5
    }
}

/// A rectangle of whole pixels; it may reach outside of its grid and may be empty.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rect {
    /// First column.
    pub x: i64,
    /// First row.
    pub y: i64,
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
}

impl Rect {
    /// Pixels in all.
    pub const fn area(self) -> usize {
        self.width * self.height
    }

    /// Does the position lie on one of its pixels (half a pixel around the centres)?
    pub fn holds<S>(self, p: Point<S>) -> bool {
        let on = |v: f64, from: i64, n: usize| {
            let from = from.real() - 0.5;
            v >= from && v < from + n.real()
        };
        on(p.x, self.x, self.width) && on(p.y, self.y, self.height)
    }

    /// Holds no pixel?
    pub const fn is_empty(self) -> bool {
        self.width == 0 || self.height == 0
    }

    /// One past the last column.
    #[allow(clippy::cast_possible_wrap)] // Constant: no method of a trait.
    pub const fn right(self) -> i64 {
        self.x + self.width as i64
    }

    /// One past the last row.
    #[allow(clippy::cast_possible_wrap)] // Constant: no method of a trait.
    pub const fn bottom(self) -> i64 {
        self.y + self.height as i64
    }

    /// With so many pixels around it.
    #[must_use]
    pub fn grown(self, by: usize) -> Self {
        Self {
            x: self.x - by.whole(),
            y: self.y - by.whole(),
            width: self.width + 2 * by,
            height: self.height + 2 * by,
        }
    }

    /// What both rectangles cover.
    #[must_use]
    pub fn intersect(self, other: Self) -> Self {
        let (x, y) = (self.x.max(other.x), self.y.max(other.y));
        let right = self.right().min(other.right());
        let bottom = self.bottom().min(other.bottom());
        Self {
            x,
            y,
            width: (right - x).max(0).index(),
            height: (bottom - y).max(0).index(),
        }
    }

    /// The smallest rectangle of whole pixels around the points, or an empty one for none.
    pub fn around<S>(points: impl IntoIterator<Item = Point<S>>) -> Self {
        let (mut x0, mut y0, mut x1, mut y1) = (f64::MAX, f64::MAX, f64::MIN, f64::MIN);
        for p in points {
            x0 = x0.min(p.x);
            y0 = y0.min(p.y);
            x1 = x1.max(p.x);
            y1 = y1.max(p.y);
        }
        if x0 > x1 || y0 > y1 {
            return Self {
                x: 0,
                y: 0,
                width: 0,
                height: 0,
            };
        }
        let (x, y) = (x0.floor().whole(), y0.floor().whole());
        Self {
            x,
            y,
            width: (x1.ceil().whole() - x + 1).index(),
            height: (y1.ceil().whole() - y + 1).index(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_size_without_area_cannot_be_made() {
        assert!(Size::new(0, 5).is_none());
        assert!(Size::new(5, 0).is_none());
        assert!(Size::new(LONGEST_SIDE + 1, 1).is_none());
        assert_eq!(Size::new(3, 2).map(Size::area), Some(6));
        assert!(serde_json_like("0"));
    }

    /// A stored size goes through the same door as a computed one.
    fn serde_json_like(width: &str) -> bool {
        let fields = SizeFields {
            width: width.parse().unwrap(),
            height: 7,
        };
        Size::try_from(fields).is_err()
    }

    #[test]
    fn rectangles_intersect_to_what_both_cover() {
        let a = Rect {
            x: -3,
            y: 2,
            width: 10,
            height: 4,
        };
        let grid = Size::new(5, 5).unwrap().rect();
        assert_eq!(
            a.intersect(grid),
            Rect {
                x: 0,
                y: 2,
                width: 5,
                height: 3
            }
        );
        let far = Rect {
            x: 50,
            y: 50,
            width: 2,
            height: 2,
        };
        assert!(far.intersect(grid).is_empty());
    }

    #[test]
    fn the_rectangle_around_points_holds_them() {
        let r = Rect::around::<FramePx>([Point::new(-0.2, 1.0), Point::new(3.5, 2.1)]);
        assert_eq!((r.x, r.y, r.right(), r.bottom()), (-1, 1, 5, 4));
        assert!(Rect::around::<FramePx>([]).is_empty());
    }
}
