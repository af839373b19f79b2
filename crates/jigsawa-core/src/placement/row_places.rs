//! Where the pixels of a row come to lie, worked out at some of them and straight in between.

use super::Map;
use crate::number::Convert;
use crate::space::{CanvasPx, FramePx, Point};

/// Pixels from one that is worked out to the next: a lens bends by less than a ten-thousandth of a pixel over them.
const STEP: usize = 16;

/// Places of a row's pixels on the canvas; memory is kept from row to row.
#[derive(Debug, Default)]
pub struct RowPlaces {
    /// Those of every [`STEP`]th pixel of the frame, whatever the row begins with: a place is the same in any window.
    at: Vec<Point<CanvasPx>>,
    /// Pixels from the first of these to the row's first.
    offset: usize,
}

impl RowPlaces {
    /// For `count` pixels of a row from (x, y) on.
    pub fn fill(&mut self, back: &Map<FramePx, CanvasPx>, (x, y): (i64, i64), count: usize) {
        let first = x.div_euclid(STEP.whole()) * STEP.whole();
        self.offset = (x - first).index();
        let at = |i: usize| back.apply(Point::new((first + i.whole()).real(), y.real()));
        self.at.clear();
        let end = self.offset + count + STEP;
        self.at.extend((0..end).step_by(STEP).map(at));
    }

    /// The place of the `i`th pixel, and canvas pixels for one of the frame along the row.
    #[inline]
    pub fn at(&self, i: usize) -> (Point<CanvasPx>, f64) {
        let i = i + self.offset;
        let (a, b) = (self.at[i / STEP], self.at[i / STEP + 1]);
        let t = (i % STEP).real() / STEP.real();
        let (dx, dy) = (b.x - a.x, b.y - a.y);
        let scale = dx.hypot(dy) / STEP.real();
        (Point::new(a.x + t * dx, a.y + t * dy), scale)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Placement;

    #[test]
    fn places_are_those_of_the_map() {
        let rows = [[0.5, 0.01, 3.0], [-0.01, 0.5, -2.0], [0.0, 0.0, 1.0]];
        let map: Placement = Map::from_rows(rows).unwrap();
        let back = map.invert();
        let mut places = RowPlaces::default();
        places.fill(&back, (-7, 40), 50);
        for i in 0..50 {
            let (at, scale) = places.at(i);
            let there = back.apply(Point::new(i.real() - 7.0, 40.0));
            assert!(at.distance(there) < 1e-9 && (scale - 2.0).abs() < 1e-2);
        }
        // To the last bit the same from another beginning.
        let mut others = RowPlaces::default();
        others.fill(&back, (5, 40), 9);
        for i in 0..9 {
            assert_eq!(others.at(i).0, places.at(i + 12).0);
        }
    }
}
