//! Factors over a picture, worked out on its small copy and straight between its pixels.

use crate::number::Convert;
use crate::plane::Plane;

/// A plane of factors, each pixel standing for `factor` x `factor` of the picture.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Factors {
    map: Plane,
    factor: usize,
}

impl Factors {
    pub(super) const fn new(map: Plane, factor: usize) -> Self {
        Self { map, factor }
    }

    /// The factors along a row of the picture from column `x` on.
    pub(super) fn row(&self, x: i64, y: i64, out: &mut [f32]) {
        let size = self.map.size();
        let k = self.factor.single();
        let within = |v: f32, n: usize| v.clamp(0.0, (n - 1).single());
        let v = within((y.single() + 0.5) / k - 0.5, size.height());
        let (r, t) = (v.index(), v.fract());
        let (up, down) = (
            self.map.row(r),
            self.map.row((r + 1).min(size.height() - 1)),
        );
        for (i, o) in out.iter_mut().enumerate() {
            let u = within(((x + i.whole()).single() + 0.5) / k - 0.5, size.width());
            let (c, s) = (u.index(), u.fract());
            let d = (c + 1).min(size.width() - 1);
            let (a, b) = (
                up[c] + s * (up[d] - up[c]),
                down[c] + s * (down[d] - down[c]),
            );
            *o = a + t * (b - a);
        }
    }

    /// The factor of a pixel of the small copy.
    pub(super) fn of_small(&self, i: usize) -> f32 {
        self.map.data()[i]
    }
}
