//! Which star lies near a place: stars in square cells, about one in each, so that a question costs the
//! same however many stars there are. A tree over the stars was the simpler way, at ten times the time.

use crate::number::Convert;
use crate::space::{Point, Size};

/// Cells are not smaller than this: most questions are about a few pixels.
const LEAST_CELL_PX: f64 = 6.0;

/// Points, sorted by cell.
pub(super) struct Grid {
    cell: f64,
    columns: usize,
    rows: usize,
    /// Where each cell's points begin in `points`, and one past the last.
    starts: Vec<u32>,
    /// (x, y, place in the list).
    points: Vec<(f64, f64, u32)>,
}

impl Grid {
    /// The grid of points on a frame of this size; points outside are in the cells at its edge.
    pub(super) fn new<S>(points: impl Iterator<Item = Point<S>> + Clone, size: Size) -> Self {
        let count = points.clone().count().max(1);
        let cell = (size.area().real() / count.real())
            .sqrt()
            .max(LEAST_CELL_PX);
        let cells = |n: usize| (n.real() / cell).ceil().max(1.0).index();
        let mut grid = Self {
            cell,
            columns: cells(size.width()),
            rows: cells(size.height()),
            starts: Vec::new(),
            points: Vec::with_capacity(count),
        };
        let mut counts = vec![0u32; grid.columns * grid.rows + 1];
        for p in points.clone() {
            counts[grid.cell_of(p.x, p.y) + 1] += 1;
        }
        for i in 1..counts.len() {
            counts[i] += counts[i - 1];
        }
        grid.starts.clone_from(&counts);
        grid.points
            .resize(counts.last().map_or(0, |n| *n as usize), (0.0, 0.0, 0));
        for (i, p) in points.enumerate() {
            let next = &mut counts[grid.cell_of(p.x, p.y)];
            grid.points[*next as usize] = (p.x, p.y, i.u32());
            *next += 1;
        }
        grid
    }

    fn column(&self, x: f64) -> usize {
        (x / self.cell).max(0.0).index().min(self.columns - 1)
    }

    fn row(&self, y: f64) -> usize {
        (y / self.cell).max(0.0).index().min(self.rows - 1)
    }

    fn cell_of(&self, x: f64, y: f64) -> usize {
        self.row(y) * self.columns + self.column(x)
    }

    /// The nearest point within `radius` of a place, with its squared distance.
    pub(super) fn nearest(&self, x: f64, y: f64, radius: f64) -> Option<(usize, f64)> {
        let mut best: Option<(usize, f64)> = None;
        let mut reach = radius * radius;
        for row in self.row(y - radius)..=self.row(y + radius) {
            let first = row * self.columns + self.column(x - radius);
            let last = row * self.columns + self.column(x + radius);
            let run = self.starts[first] as usize..self.starts[last + 1] as usize;
            for (px, py, i) in &self.points[run] {
                let d2 = (px - x) * (px - x) + (py - y) * (py - y);
                if d2 < reach {
                    reach = d2;
                    best = Some((*i as usize, d2));
                }
            }
        }
        best
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::FramePx;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_nearest_point_is_that_of_a_plain_search(
            points in prop::collection::vec((-3.0..103.0f64, -3.0..83.0f64), 0..60),
            (x, y) in (-20.0..120.0f64, -20.0..100.0f64),
            radius in 0.5..40.0f64,
        ) {
            let list: Vec<Point<FramePx>> = points.iter().map(|(x, y)| Point::new(*x, *y)).collect();
            let grid = Grid::new(list.iter().copied(), Size::new(100, 80).unwrap());
            let plain = points
                .iter()
                .map(|(px, py)| (px - x) * (px - x) + (py - y) * (py - y))
                .filter(|d2| *d2 < radius * radius)
                .min_by(f64::total_cmp);
            prop_assert_eq!(grid.nearest(x, y, radius).map(|n| n.1), plain);
        }
    }
}
