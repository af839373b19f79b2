//! Some rows of all planes in memory, or the surroundings of one star.

use crate::number::Convert;
use rayon::prelude::*;

use super::{Planes, STRIP};
use crate::doors::DoorError;
use crate::space::{Rect, Size};

/// Rows of a picture, all planes.
#[derive(Debug, Clone, Default)]
pub(super) struct Window {
    left: i64,
    top: i64,
    width: usize,
    height: usize,
    planes: Vec<Vec<f32>>,
}

/// Rows as they are, and what is left of them behind the stars. Passes down a picture hand them on: touching fresh memory
/// costs more than the arithmetic on it.
#[derive(Debug, Default)]
pub(super) struct Windows {
    pub(super) seen: Window,
    pub(super) behind: Window,
}

impl Windows {
    /// Starts a pass: what they held is of no use any more.
    pub(super) const fn start(&mut self) {
        self.seen.height = 0;
        self.behind.height = 0;
    }
}

impl Window {
    /// Goes to a band of rows and a margin on both sides of it, as far as the picture goes. From one call to the next the
    /// planes are the same ones: rows that it holds already are kept, and only the others read.
    pub(super) fn read(
        &mut self,
        planes: Planes<'_>,
        size: Size,
        top: usize,
        rows: usize,
        margin: usize,
    ) -> Result<(), DoorError> {
        let first = top.saturating_sub(margin);
        let last = (top + rows + margin).min(size.height());
        let place = Rect {
            x: 0,
            y: first.whole(),
            width: size.width(),
            height: last - first,
        };
        let kept = self.go_to(place, planes.len());
        let fresh = Rect {
            y: place.y + kept.whole(),
            height: place.height - kept,
            ..place
        };
        if fresh.height == 0 {
            return Ok(());
        }
        // In strips, since three planes would keep two cores busy for as long as four.
        let both = self.planes.par_iter_mut().zip(planes);
        both.try_for_each(|(plane, source)| {
            let strips = plane[kept * place.width..].par_chunks_mut(STRIP * place.width);
            strips.enumerate().try_for_each(|(i, strip)| {
                let rect = Rect {
                    y: fresh.y + (i * STRIP).whole(),
                    height: strip.len() / place.width,
                    ..fresh
                };
                source.read(rect, strip)
            })
        })
    }

    /// Goes where another window is and copies the rows that it does not hold yet. Returns the first of them.
    pub(super) fn follow(&mut self, other: &Self) -> i64 {
        let kept = self.go_to(other.rect(), other.planes());
        let from = kept * self.width;
        let both = self.planes.par_iter_mut().zip(&other.planes);
        both.for_each(|(own, plane)| own[from..].copy_from_slice(&plane[from..]));
        self.top + kept.whole()
    }

    /// Goes to whole rows further down. Returns how many of them it holds already; the others have any value.
    fn go_to(&mut self, place: Rect, planes: usize) -> usize {
        let (down, width) = (place.y - self.top, place.width);
        let same = self.width == width && self.planes.len() == planes && down >= 0;
        let kept = if same {
            (self.height.whole() - down)
                .clamp(0, place.height.whole())
                .index()
        } else {
            0
        };
        self.planes.resize_with(planes, Vec::new);
        self.planes.par_iter_mut().for_each(|plane| {
            if kept > 0 {
                let from = down.index() * width;
                plane.copy_within(from..from + kept * width, 0);
            }
            plane.resize(place.area(), 0.0);
        });
        (self.left, self.top) = (0, place.y);
        (self.width, self.height) = (width, place.height);
        kept
    }

    /// Reads the surroundings of one place; rows and columns outside of the picture are missing.
    pub(super) fn around(planes: Planes<'_>, place: Rect) -> Result<Self, DoorError> {
        let rect = place.intersect(planes[0].size().rect());
        let mut window = Self {
            left: rect.x,
            top: rect.y,
            width: rect.width,
            height: rect.height,
            planes: vec![vec![0.0; rect.area()]; planes.len()],
        };
        for (plane, source) in window.planes.iter_mut().zip(planes) {
            source.read(rect, plane)?;
        }
        Ok(window)
    }

    /// A copy of a part of it, as far as it goes.
    pub(super) fn part(&self, place: Rect) -> Self {
        let rect = place.intersect(Rect {
            x: self.left,
            ..self.rect()
        });
        let of = |plane: &Vec<f32>| {
            let mut part = Vec::with_capacity(rect.area());
            for row in rect.y - self.top..rect.bottom() - self.top {
                let from = row.index() * self.width + (rect.x - self.left).index();
                part.extend_from_slice(&plane[from..from + rect.width]);
            }
            part
        };
        Self {
            left: rect.x,
            top: rect.y,
            width: rect.width,
            height: rect.height,
            planes: self.planes.iter().map(of).collect(),
        }
    }

    /// Does something with each row of a plane: where it lies, its first column, and its pixels.
    pub(super) fn each_row(&mut self, plane: usize, mut each: impl FnMut(i64, i64, &mut [f32])) {
        let (left, top) = (self.left, self.top);
        let rows = self.planes[plane].chunks_exact_mut(self.width.max(1));
        for (i, row) in rows.enumerate() {
            each(top + i.whole(), left, row);
        }
    }

    pub(super) const fn rect(&self) -> Rect {
        Rect {
            x: 0,
            y: self.top,
            width: self.width,
            height: self.height,
        }
    }

    pub(super) const fn planes(&self) -> usize {
        self.planes.len()
    }

    /// The value at a place of the picture; NaN outside of the window.
    pub(super) fn at(&self, plane: usize, x: i64, y: i64) -> f32 {
        let (x, row) = (x - self.left, y - self.top);
        if x < 0 || x >= self.width.whole() || row < 0 || row >= self.height.whole() {
            return f32::NAN;
        }
        self.planes[plane][row.index() * self.width + x.index()]
    }

    /// Whole rows of a plane; they must lie inside.
    pub(super) fn rows(&self, plane: usize, rect: Rect) -> &[f32] {
        let from = (rect.y - self.top).index() * self.width;
        &self.planes[plane][from..from + rect.height * self.width]
    }

    /// A part of a row; empty where nothing of it is inside.
    pub(super) fn row(&self, plane: usize, y: i64, (from, to): (i64, i64)) -> (i64, &[f32]) {
        let (first, last) = (
            from.clamp(self.left, self.left + self.width.whole()),
            to.clamp(self.left, self.left + self.width.whole()),
        );
        let row = y - self.top;
        if row < 0 || row >= self.height.whole() || last <= first {
            return (first, &[]);
        }
        let start = row.index() * self.width;
        let at = |x: i64| start + (x - self.left).index();
        (first, &self.planes[plane][at(first)..at(last)])
    }

    /// Blocks of so many rows of a plane from `first` on, with the place of their own first row.
    pub(super) fn blocks_mut(
        &mut self,
        plane: usize,
        first: i64,
        rows: usize,
    ) -> impl IndexedParallelIterator<Item = (i64, &mut [f32])> {
        let from = (first - self.top).index() * self.width;
        self.planes[plane][from..]
            .par_chunks_mut(rows * self.width)
            .enumerate()
            .map(move |(i, block)| (first + (i * rows).whole(), block))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::doors::FrameSource;
    use crate::plane::Plane;

    #[test]
    fn a_window_that_goes_down_holds_what_one_that_is_read_anew_does() {
        let size = Size::new(7, 60).unwrap();
        let planes = [
            Plane::from_fn(size, |x, y| (x + 10 * y).single()),
            Plane::from_fn(size, |x, y| (x * y).single()),
        ];
        let doors: Vec<&dyn FrameSource> = planes.iter().map(|p| p as &dyn FrameSource).collect();
        let (mut moved, mut behind) = (Window::default(), Window::default());
        let mut fresh = Vec::new();
        // Bands, one of which is left out so far that nothing is shared with the one before.
        for top in [0, 8, 16, 48, 56] {
            moved.read(&doors, size, top, 8, 6).unwrap();
            let mut anew = Window::default();
            anew.read(&doors, size, top, 8, 6).unwrap();
            fresh.push(behind.follow(&moved));
            for p in 0..2 {
                let all = |w: &Window| w.rows(p, w.rect()).to_vec();
                assert_eq!(moved.rect(), anew.rect());
                assert_eq!(all(&moved), all(&anew), "from row {top}");
                assert_eq!(all(&behind), all(&anew), "from row {top}");
            }
        }
        assert_eq!(fresh, [0, 14, 22, 42, 60]);
        assert_eq!(moved.row(1, 59, (5, 20)), (5, &[295.0, 354.0][..]));
        assert!(moved.row(0, 20, (0, 3)).1.is_empty());
    }
}
