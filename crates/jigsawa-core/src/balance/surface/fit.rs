//! Fitting a surface of a given shape through patches.
//!
//! Every shape is linear in its numbers: weighted least squares, outlying patches held down by Tukey's
//! biweight.

use super::rows::Rows;
use super::{Shape, Surface};
use crate::number::Convert;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, mad, median};
use crate::space::{CanvasPx, Point, Size};
use nalgebra::DVector;

/// A value at a place, with its weight.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Patch {
    pub(crate) at: Point<CanvasPx>,
    pub(crate) value: f64,
    pub(crate) weight: f64,
}

/// A fitted surface.
pub(crate) struct Fit {
    pub(crate) surface: Surface,
    /// Scatter of the patches around it.
    pub(crate) spread: f64,
    /// The weight that each patch has kept, 0 to 1.
    pub(crate) kept: Vec<f64>,
}

/// Rounds of holding outliers down.
const ROUNDS: usize = 12;

impl Fit {
    /// A surface of one shape through patches, outliers held down. `None` when they do not fix it.
    pub(crate) fn new(shape: Shape, patches: &[Patch], canvas: Size) -> Option<Self> {
        let mut kept = vec![1.0; patches.len()];
        let mut spread = 0.0;
        let rows = shape.rows(patches, canvas);
        let values: Vec<f64> = patches.iter().map(|p| p.value).collect();
        let mut weights: Vec<f64> = patches.iter().map(|p| p.weight).collect();
        let mut told = vec![0.0; patches.len()];
        let mut r: Vec<f32> = Vec::with_capacity(patches.len());
        let mut surface = Surface::zero();
        for _ in 0..ROUNDS {
            let numbers = rows.normal(&values, &weights).solve(shape, canvas)?;
            surface = shape.surface(&numbers, canvas);
            rows.values(&numbers, &mut told);
            let residuals = || values.iter().zip(&told).map(|(value, told)| value - told);
            r.clear();
            r.extend(residuals().map(Convert::single));
            let middle = median(&mut r);
            let next = f64::from(mad(&mut r, middle)) * MAD_TO_SIGMA;
            if next <= 0.0 || !next.is_finite() {
                break;
            }
            let settled = (next / spread - 1.0).abs() < 1e-4;
            spread = next;
            for (k, r) in kept.iter_mut().zip(residuals()) {
                *k = biweight(r, BIWEIGHT_REACH * spread);
            }
            for ((w, p), k) in weights.iter_mut().zip(patches).zip(&kept) {
                *w = p.weight * k;
            }
            if settled {
                break;
            }
        }
        Some(Self {
            surface,
            spread,
            kept,
        })
    }
}

/// Weighted least squares of a shape through patches, outliers and all. `None` when they do not fix it.
pub(crate) fn fit_plainly(shape: Shape, patches: &[Patch], canvas: Size) -> Option<Surface> {
    let weights: Vec<f64> = patches.iter().map(|p| p.weight).collect();
    let numbers = Plain::new(shape, patches, canvas).numbers(&weights)?;
    Some(shape.surface(&numbers, canvas))
}

/// Patches that a shape is fitted through again and again, each time with other weights.
pub(crate) struct Plain {
    shape: Shape,
    canvas: Size,
    rows: Rows,
    values: Vec<f64>,
}

impl Plain {
    pub(crate) fn new(shape: Shape, patches: &[Patch], canvas: Size) -> Self {
        Self {
            shape,
            canvas,
            rows: shape.rows(patches, canvas),
            values: patches.iter().map(|p| p.value).collect(),
        }
    }

    fn numbers(&self, weights: &[f64]) -> Option<DVector<f64>> {
        let normal = self.rows.normal(&self.values, weights);
        normal.solve(self.shape, self.canvas)
    }

    /// Fits it, and puts how high the patches lie above it into `heights`. `None` when they do not fix it.
    pub(crate) fn heights(&self, weights: &[f64], heights: &mut [f64]) -> Option<()> {
        self.rows.values(&self.numbers(weights)?, heights);
        for (h, value) in heights.iter_mut().zip(&self.values) {
            *h = value - *h;
        }
        Some(())
    }
}

/// Weighted least squares of a plane through patches as they are; a constant when they do not fix a slope.
pub(crate) fn fit_plane(patches: &[Patch], canvas: Size) -> Option<Surface> {
    let sum = |of: &dyn Fn(&Patch) -> f64| patches.iter().map(|p| p.weight * of(p)).sum::<f64>();
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
    let narrow = xx.min(yy) / weight < (0.05 * canvas.width().min(canvas.height()).real()).powi(2);
    let (slope_x, slope_y) = if narrow || det < 0.02 * xx * yy {
        (0.0, 0.0)
    } else {
        ((xv * yy - yv * xy) / det, (yv * xx - xv * xy) / det)
    };
    Some(Surface::Plane {
        x0,
        y0,
        level,
        slope_x,
        slope_y,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patches_on_a_line_give_a_level_only() {
        let on_a_line: Vec<Patch> = (0..30)
            .map(|i| Patch {
                at: Point::new(f64::from(i), f64::from(i)),
                value: 5.0 + 0.3 * f64::from(i),
                weight: 1.0,
            })
            .collect();
        let s = fit_plane(&on_a_line, Size::new(100, 80).unwrap()).unwrap();
        let at = |x, y| s.at(Point::new(x, y));
        assert_eq!(at(0.0, 0.0), at(90.0, 10.0));
        assert!(fit_plane(&[], Size::new(9, 9).unwrap()).is_none());
    }

    #[test]
    fn wild_patches_do_not_bend_a_surface() {
        let canvas = Size::new(1000, 700).unwrap();
        let p: Vec<Patch> = (0..280)
            .map(|i| {
                let (x, y) = (
                    25.0 + 50.0 * f64::from(i % 20),
                    25.0 + 50.0 * f64::from(i / 20),
                );
                let noise = 0.05 * (f64::from(i) * 2.3).sin();
                let wild = if i % 6 == 0 { 30.0 } else { 0.0 };
                Patch {
                    at: Point::new(x, y),
                    value: 1.0 + x / 1000.0 - y / 1000.0 + noise + wild,
                    weight: 1.0,
                }
            })
            .collect();
        let fit = Fit::new(Shape::Spline { stiffness: 0.7 }, &p, canvas).unwrap();
        let off = fit.surface.at(Point::new(500.0, 350.0)) - 1.15;
        assert!(off.abs() < 0.03, "{off}");
        assert!(fit.kept[6] < 0.01 && fit.kept[7] > 0.5);
    }
}
