//! Some rows of all planes in memory, or the surroundings of one star.

use rayon::prelude::*;

use super::Planes;
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

impl Window {
    /// Reads a band of rows and a margin on both sides of it, as far as the picture goes.
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
        (self.left, self.top) = (0, first as i64);
        (self.width, self.height) = (size.width(), last - first);
        self.planes.resize_with(planes.len(), Vec::new);
        let rect = self.rect();
        self.planes
            .par_iter_mut()
            .zip(planes)
            .try_for_each(|(plane, source)| {
                plane.resize(rect.area(), 0.0);
                source.read(rect, plane)
            })
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
            let rows = rect.y - self.top..rect.bottom() - self.top;
            rows.flat_map(|row| {
                let from = row as usize * self.width + (rect.x - self.left) as usize;
                plane[from..from + rect.width].iter().copied()
            })
            .collect()
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
            each(top + i as i64, left, row);
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
        if x < 0 || x >= self.width as i64 || row < 0 || row >= self.height as i64 {
            return f32::NAN;
        }
        self.planes[plane][row as usize * self.width + x as usize]
    }

    /// Whole rows of a plane; they must lie inside.
    pub(super) fn rows(&self, plane: usize, rect: Rect) -> &[f32] {
        let from = (rect.y - self.top) as usize * self.width;
        &self.planes[plane][from..from + rect.height * self.width]
    }

    /// All rows of a plane with their places.
    pub(super) fn rows_mut(
        &mut self,
        plane: usize,
    ) -> impl IndexedParallelIterator<Item = (i64, &mut [f32])> {
        let top = self.top;
        self.planes[plane]
            .par_chunks_mut(self.width)
            .enumerate()
            .map(move |(i, row)| (top + i as i64, row))
    }
}
