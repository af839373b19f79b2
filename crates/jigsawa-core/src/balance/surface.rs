//! Smooth surfaces over the canvas.

use serde::{Deserialize, Serialize};

use crate::space::{CanvasPx, Point, Size};

/// A smooth surface in the reference's units.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Surface {
    /// level + `slope_x` (x - x0) + `slope_y` (y - y0) with (x0, y0) in canvas pixels.
    Plane {
        /// Where `level` holds, in canvas pixels.
        x0: f64,
        /// Where `level` holds, in canvas pixels.
        y0: f64,
        /// Value at (x0, y0).
        level: f64,
        /// Change for each pixel in x.
        slope_x: f64,
        /// Change for each pixel in y.
        slope_y: f64,
    },
}

/// A value at a place, with its weight.
#[derive(Debug, Clone, Copy)]
pub(super) struct Patch {
    pub(super) at: Point<CanvasPx>,
    pub(super) value: f64,
    pub(super) weight: f64,
}

impl Surface {
    /// The surface that adds nothing.
    pub const fn zero() -> Self {
        Self::Plane {
            x0: 0.0,
            y0: 0.0,
            level: 0.0,
            slope_x: 0.0,
            slope_y: 0.0,
        }
    }

    /// A level everywhere.
    pub const fn constant(level: f64) -> Self {
        Self::Plane {
            x0: 0.0,
            y0: 0.0,
            level,
            slope_x: 0.0,
            slope_y: 0.0,
        }
    }

    /// The value at a place.
    pub fn at(&self, p: Point<CanvasPx>) -> f64 {
        let Self::Plane {
            x0,
            y0,
            level,
            slope_x,
            slope_y,
        } = self;
        level + slope_x * (p.x - x0) + slope_y * (p.y - y0)
    }

    /// Scales values and adds the surface along a row of the canvas, from column `x` on.
    pub fn balance_row(&self, scale: f64, x: i64, y: i64, values: &mut [f32]) {
        if scale == 1.0 && *self == Self::zero() {
            return;
        }
        let start = self.at(Point::new(x as f64, y as f64));
        let Self::Plane { slope_x, .. } = self;
        let scale = scale as f32;
        let (start, slope) = (start as f32, *slope_x as f32);
        // 32-bit counters: the machine turns four of them into floats at once, a 64-bit one alone.
        for (i, v) in (0i32..).zip(values.iter_mut()) {
            *v = scale * *v + (start + slope * i as f32);
        }
    }

    /// Weighted least squares through patches; a constant when they do not fix a slope.
    pub(super) fn fit_plane(patches: &[Patch], canvas: Size) -> Option<Self> {
        let sum =
            |of: &dyn Fn(&Patch) -> f64| patches.iter().map(|p| p.weight * of(p)).sum::<f64>();
        let weight = sum(&|_| 1.0);
        if weight <= 0.0 {
            return None;
        }
        let (x0, y0) = (sum(&|p| p.at.x) / weight, sum(&|p| p.at.y) / weight);
        let level = sum(&|p| p.value) / weight;
        let xx = sum(&|p| (p.at.x - x0).powi(2));
        let yy = sum(&|p| (p.at.y - y0).powi(2));
        let xy = sum(&|p| (p.at.x - x0) * (p.at.y - y0));
        let xv = sum(&|p| (p.at.x - x0) * (p.value - level));
        let yv = sum(&|p| (p.at.y - y0) * (p.value - level));
        let det = xx * yy - xy * xy;
        // Patches on a line, or huddled together, say nothing of a slope over the whole canvas.
        let narrow =
            xx.min(yy) / weight < (0.05 * canvas.width().min(canvas.height()) as f64).powi(2);
        let (slope_x, slope_y) = if narrow || det < 0.02 * xx * yy {
            (0.0, 0.0)
        } else {
            ((xv * yy - yv * xy) / det, (yv * xx - xv * xy) / det)
        };
        Some(Self::Plane {
            x0,
            y0,
            level,
            slope_x,
            slope_y,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn patches(on_a_line: bool) -> Vec<Patch> {
        (0..30)
            .map(|i| {
                let (x, y) = (f64::from(i * 37 % 100), f64::from(i * 61 % 80));
                let y = if on_a_line { x } else { y };
                Patch {
                    at: Point::new(x, y),
                    value: 5.0 + 0.3 * x - 0.1 * y,
                    weight: 1.0 + f64::from(i % 3),
                }
            })
            .collect()
    }

    #[test]
    fn a_plane_is_recovered_and_applied_along_rows() {
        let canvas = Size::new(100, 80).unwrap();
        let s = Surface::fit_plane(&patches(false), canvas).unwrap();
        assert!((s.at(Point::new(10.0, 20.0)) - 6.0).abs() < 1e-9);
        let mut row = [2.0f32; 4];
        s.balance_row(3.0, 10, 20, &mut row);
        assert!((row[0] - 12.0).abs() < 1e-5 && (row[3] - 12.9).abs() < 1e-5);
    }

    #[test]
    fn patches_on_a_line_give_a_level_only() {
        let s = Surface::fit_plane(&patches(true), Size::new(100, 80).unwrap()).unwrap();
        let at = |x, y| s.at(Point::new(x, y));
        assert_eq!(at(0.0, 0.0), at(90.0, 10.0));
        assert!(Surface::fit_plane(&[], Size::new(9, 9).unwrap()).is_none());
    }
}
