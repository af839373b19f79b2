//! The starlet transform row by row: what a scale needs of the rows above and below is kept in rings that fit into the
//! processor's cache, where whole planes would go through memory several times for each scale.

use super::starlet::{across, along, mirrored};
use crate::number::Convert;

/// Rows of a plane, the last ones of them kept.
pub(super) struct Ring {
    width: usize,
    kept: usize,
    data: Vec<f32>,
}

impl Ring {
    /// A ring that keeps so many rows, or all of a plane that has fewer.
    pub(super) fn new(kept: usize, (width, height): (usize, usize)) -> Self {
        let kept = kept.min(height).max(1);
        Self {
            width,
            kept,
            data: vec![0.0; kept * width],
        }
    }

    fn range(&self, y: usize) -> std::ops::Range<usize> {
        let at = y % self.kept * self.width;
        at..at + self.width
    }

    /// A row of the plane, which must be one of the last.
    pub(super) fn row(&self, y: usize) -> &[f32] {
        &self.data[self.range(y)]
    }

    /// The place of a row of the plane, the oldest one's.
    pub(super) fn row_mut(&mut self, y: usize) -> &mut [f32] {
        let range = self.range(y);
        &mut self.data[range]
    }
}

/// How many rows can be made of those that are there, each of which needs `reach` rows below it, up to the last.
pub(super) const fn ready(there: usize, reach: usize, height: usize) -> usize {
    if there == height {
        height
    } else {
        there.saturating_sub(reach)
    }
}

/// Rows on their way through the scales.
pub(super) struct Stream {
    height: usize,
    scales: Vec<Scale>,
}

/// One scale: rows that came, as they are and smoothed along themselves.
struct Scale {
    step: usize,
    from: Ring,
    along: Ring,
    /// The row that is being made.
    to: Vec<f32>,
    came: usize,
    made: usize,
}

impl Stream {
    /// For planes of this width and height.
    pub(super) fn new(scales: usize, shape: (usize, usize)) -> Self {
        let scale = |j: usize| {
            let step = 1 << j;
            Scale {
                step,
                from: Ring::new(2 * step + 1, shape),
                along: Ring::new(4 * step + 1, shape),
                to: vec![0.0; shape.0],
                came: 0,
                made: 0,
            }
        };
        Self {
            height: shape.1,
            scales: (0..scales).map(scale).collect(),
        }
    }

    /// Takes the next row, from the first to the last; [`Self::smooth`] must follow.
    pub(super) fn take(&mut self, row: &[f32]) {
        if let Some(finest) = self.scales.first_mut() {
            finest.take(row);
        }
    }

    /// Goes as far as the rows that came allow. `seen` gets, of each scale, its number, a row's place, the row as the scale
    /// took it and as it is smoothed; of one row the finer scales come first.
    pub(super) fn smooth(&mut self, seen: &mut impl FnMut(usize, usize, &[f32], &[f32])) {
        go_on(&mut self.scales, 0, self.height, seen);
        // The next plane begins anew.
        for s in &mut self.scales {
            if s.made == self.height {
                (s.came, s.made) = (0, 0);
            }
        }
    }
}

impl Scale {
    fn take(&mut self, row: &[f32]) {
        self.from.row_mut(self.came).copy_from_slice(row);
        along(row, self.along.row_mut(self.came), self.step);
        self.came += 1;
    }
}

fn go_on(
    scales: &mut [Scale],
    number: usize,
    height: usize,
    seen: &mut impl FnMut(usize, usize, &[f32], &[f32]),
) {
    let Some((scale, coarser)) = scales.split_first_mut() else {
        return;
    };
    let reach = 2 * scale.step;
    while scale.made < ready(scale.came, reach, height) {
        let y = scale.made;
        let line = |d: isize| {
            let y = mirrored(y.isize() + d * scale.step.isize(), height);
            scale.along.row(y)
        };
        let lines = [line(-2), line(-1), line(0), line(1), line(2)];
        across(lines, &mut scale.to);
        seen(number, y, scale.from.row(y), &scale.to);
        scale.made += 1;
        if let Some(next) = coarser.first_mut() {
            next.take(&scale.to);
        }
        go_on(coarser, number + 1, height, seen);
    }
}

#[cfg(test)]
mod tests {
    use super::super::starlet::smooth;
    use super::*;
    use rstest::rstest;

    /// The same bits as plane by plane, however few rows there are, one plane after the other.
    #[rstest]
    fn rows_come_to_what_planes_do(#[values(1, 2, 3, 5, 9, 17, 33, 64, 101)] height: usize) {
        const WIDTH: usize = 23;
        let mut stream = Stream::new(4, (WIDTH, height));
        for turn in 0..2 {
            let plane: Vec<f32> = (0..WIDTH * height)
                .map(|i| ((i * 7919 + turn) % 101).single())
                .collect();
            let mut got = vec![vec![f32::NAN; plane.len()]; 4];
            let mut taken = got.clone();
            for row in plane.chunks_exact(WIDTH) {
                stream.take(row);
                stream.smooth(&mut |j, y, a, b| {
                    taken[j][y * WIDTH..][..WIDTH].copy_from_slice(a);
                    got[j][y * WIDTH..][..WIDTH].copy_from_slice(b);
                });
            }
            let mut a = plane;
            let (mut b, mut spare) = (a.clone(), a.clone());
            for j in 0..4 {
                smooth(&a, &mut b, &mut spare, WIDTH, 1 << j);
                assert!(taken[j] == a && got[j] == b, "scale {j}");
                std::mem::swap(&mut a, &mut b);
            }
        }
    }
}
