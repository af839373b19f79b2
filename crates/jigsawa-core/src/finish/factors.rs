//! Factors over a picture, worked out on its small copy and straight between its pixels.

use crate::number::Convert;
use crate::plane::Plane;

/// A plane of factors, each pixel standing for `factor` x `factor` of the picture.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Factors {
    map: Plane,
    factor: usize,
    /// How far from the middle of a pixel of the copy towards the next one those of the picture lie.
    parts: Vec<f32>,
}

impl Factors {
    pub(super) fn new(map: Plane, factor: usize) -> Self {
        let part = |j: usize| ((j + factor / 2).single() + 0.5) / factor.single() - 0.5;
        Self {
            map,
            factor,
            parts: (0..factor).map(part).collect(),
        }
    }

    /// The factors along a row of the picture from column `x` on.
    pub(super) fn row(&self, x: i64, y: i64, out: &mut [f32]) {
        let size = self.map.size();
        let n = self.factor.whole();
        // The row and the column of the copy whose middle is the last before a place, and how far that is beyond it.
        let before = |at: i64| {
            let from_first = at - n / 2;
            (from_first.div_euclid(n), from_first.rem_euclid(n).index())
        };
        let within = |i: i64, n: usize| i.clamp(0, n.whole() - 1).index();
        let (r, beyond) = before(y);
        let t = self.parts[beyond];
        let rows = [r, r + 1].map(|r| self.map.row(within(r, size.height())));
        let at = |c: i64| {
            let [up, down] = rows.map(|row| row[within(c, size.width())]);
            up + t * (down - up)
        };
        let (mut c, skipped) = before(x);
        let mut left = at(c);
        let (first, rest) = out.split_at_mut((self.factor - skipped).min(out.len()));
        let first = std::iter::once((first, &self.parts[skipped..]));
        let rest = rest.chunks_mut(self.factor);
        for (run, parts) in first.chain(rest.map(|run| (run, &self.parts[..]))) {
            c += 1;
            let right = at(c);
            for (o, part) in run.iter_mut().zip(parts) {
                *o = left + part * (right - left);
            }
            left = right;
        }
    }

    /// The factor of a pixel of the small copy.
    pub(super) fn of_small(&self, i: usize) -> f32 {
        self.map.data()[i]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use rstest::rstest;

    #[rstest]
    fn factors_are_straight_between_the_middles_of_the_copys_pixels(
        #[values(1, 2, 3, 4)] k: usize,
    ) {
        let size = Size::new(20, 12).unwrap();
        let tilted = Plane::from_fn(size, |x, y| 1.0 + x.single() - 2.0 * y.single());
        let factors = Factors::new(tilted, k);
        for (from, y) in [(-3, 5), (0, -2), (7, 20), (11, 40)] {
            let mut row = vec![0.0; 61];
            factors.row(from, y, &mut row);
            let small = |v: i64, n: usize| {
                ((v.single() + 0.5) / k.single() - 0.5).clamp(0.0, (n - 1).single())
            };
            for (i, got) in row.iter().enumerate() {
                let wanted = 1.0 + small(from + i.whole(), 20) - 2.0 * small(y, 12);
                assert!((got - wanted).abs() < 1e-5, "{got} for {wanted}");
            }
        }
    }
}
