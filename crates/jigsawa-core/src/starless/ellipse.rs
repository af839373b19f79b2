//! Distances along a star's ellipse.

use crate::stars::Star;

/// A star's ellipse: distances along it are those of a round star of the mean of both axes.
#[derive(Debug, Clone, Copy)]
pub(super) struct Ellipse {
    long: (f64, f64),
    short: (f64, f64),
}

impl Ellipse {
    pub(super) fn of(star: &Star) -> Self {
        let (sin, cos) = star.angle_rad.sin_cos();
        let k = star.elongation.max(1.0).sqrt();
        Self {
            long: (cos / k, sin / k),
            short: (-sin * k, cos * k),
        }
    }

    /// Distance from the middle.
    #[inline]
    pub(super) fn distance(&self, dx: f64, dy: f64) -> f64 {
        let u = dx * self.long.0 + dy * self.long.1;
        let v = dx * self.short.0 + dy * self.short.1;
        (u * u + v * v).sqrt()
    }
}
