//! Smooth surfaces over the canvas: a plane, a polynomial, a cubic spline, or a sum of them.
//!
//! All are linear in their numbers, so that they can be scaled and added, and all are evaluated along a
//! row of the canvas, which is how a merge needs them.

mod band;
mod choose;
mod fit;
mod glow;
mod normal;
mod polynomial;
mod rows;
mod shape;
mod spline;

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use crate::space::{CanvasPx, Point, Size};

pub(crate) use choose::{Choice, Judge, choose};
pub(crate) use fit::{Fit, Patch, Plain, fit_plainly, fit_plane};
pub use glow::Glow;
pub use polynomial::Polynomial;
pub use shape::{Shape, ShapeError};
pub use spline::Spline;

/// A smooth surface in the reference's units.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase", deny_unknown_fields)]
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
    /// A polynomial in both coordinates.
    Polynomial(Polynomial),
    /// A cubic spline.
    Spline(Spline),
    /// Light around a place.
    Glow(Glow),
    /// Several surfaces, one on the other.
    Sum {
        /// They.
        parts: Vec<Surface>,
    },
}

impl Surface {
    /// The surface that adds nothing.
    pub const fn zero() -> Self {
        Self::constant(0.0)
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
        match self {
            Self::Plane {
                x0,
                y0,
                level,
                slope_x,
                slope_y,
            } => level + slope_x * (p.x - x0) + slope_y * (p.y - y0),
            Self::Polynomial(s) => s.at(p),
            Self::Spline(s) => s.at(p),
            Self::Glow(s) => s.at(p),
            Self::Sum { parts } => parts.iter().map(|s| s.at(p)).sum(),
        }
    }

    /// Does it add nothing anywhere?
    pub fn is_zero(&self) -> bool {
        match self {
            Self::Plane {
                level,
                slope_x,
                slope_y,
                ..
            } => *level == 0.0 && *slope_x == 0.0 && *slope_y == 0.0,
            Self::Sum { parts } => parts.iter().all(Self::is_zero),
            Self::Polynomial(_) | Self::Spline(_) | Self::Glow(_) => false,
        }
    }

    /// Are all its numbers finite and as many as they should be, and is it nowhere on a canvas of this size higher than
    /// `most`? Files edited by hand may say anything.
    pub fn is_sound_on(&self, size: Size, most: f64) -> bool {
        let middle: Point<CanvasPx> = size.centre();
        let corners = size.corners::<CanvasPx>();
        let mut places = corners.into_iter().chain([middle]);
        self.is_sound() && places.all(|p| self.at(p).abs() <= most)
    }

    fn is_sound(&self) -> bool {
        match self {
            Self::Plane {
                x0,
                y0,
                level,
                slope_x,
                slope_y,
            } => [x0, y0, level, slope_x, slope_y]
                .into_iter()
                .all(|v| v.is_finite()),
            Self::Polynomial(s) => s.is_sound(),
            Self::Spline(s) => s.is_sound(),
            Self::Glow(s) => s.is_sound(),
            Self::Sum { parts } => parts.iter().all(Self::is_sound),
        }
    }

    /// The surface, `k` times as high.
    #[must_use]
    pub fn scaled(mut self, k: f64) -> Self {
        match &mut self {
            Self::Plane {
                level,
                slope_x,
                slope_y,
                ..
            } => [level, slope_x, slope_y].map(|v| *v *= k).map(drop),
            Self::Polynomial(s) => return Self::Polynomial(s.scaled(k)),
            Self::Spline(s) => return Self::Spline(s.scaled(k)),
            Self::Glow(s) => return Self::Glow(s.scaled(k)),
            Self::Sum { parts } => {
                let parts = std::mem::take(parts);
                return Self::Sum {
                    parts: parts.into_iter().map(|s| s.scaled(k)).collect(),
                };
            }
        };
        self
    }

    /// Both together.
    #[must_use]
    pub fn plus(self, other: Self) -> Self {
        if other.is_zero() {
            return self;
        }
        if self.is_zero() {
            return other;
        }
        match (self.as_level(), other.as_level()) {
            (_, Some(level)) => return self.raised(level),
            (Some(level), _) => return other.raised(level),
            _ => {}
        }
        let mut parts = Vec::new();
        for s in [self, other] {
            match s {
                Self::Sum { parts: more } => parts.extend(more),
                one => parts.push(one),
            }
        }
        Self::Sum { parts }
    }

    /// Its value, when it is the same everywhere.
    pub fn as_level(&self) -> Option<f64> {
        match self {
            Self::Plane {
                level,
                slope_x,
                slope_y,
                ..
            } if *slope_x == 0.0 && *slope_y == 0.0 => Some(*level),
            _ => None,
        }
    }

    /// Higher by a level everywhere.
    fn raised(mut self, by: f64) -> Self {
        match &mut self {
            Self::Plane { level, .. } => *level += by,
            Self::Polynomial(s) => s.raise(by),
            Self::Spline(s) => s.raise(by),
            Self::Glow(s) => {
                return Self::Sum {
                    parts: vec![Self::constant(by), Self::Glow(*s)],
                };
            }
            Self::Sum { parts } => match parts.first_mut() {
                Some(first) => *first = std::mem::replace(first, Self::zero()).raised(by),
                None => parts.push(Self::constant(by)),
            },
        }
        self
    }

    /// Adds the surface to a row of the canvas, from column `x` on.
    pub fn add_to_row(&self, x: i64, y: i64, row: &mut [f32]) {
        match self {
            Self::Plane { slope_x, .. } => {
                let start = self.at(Point::new(x.real(), y.real())).single();
                let slope = (*slope_x).single();
                // 32-bit counters: the machine turns four of them into floats at once, a 64-bit one alone.
                for (i, v) in (0i32..).zip(row.iter_mut()) {
                    *v += start + slope * i.single();
                }
            }
            Self::Polynomial(s) => s.add_to_row(x, y, row),
            Self::Spline(s) => s.add_to_row(x, y, row),
            Self::Glow(s) => s.add_to_row(x, y, row),
            Self::Sum { parts } => {
                for s in parts {
                    s.add_to_row(x, y, row);
                }
            }
        }
    }

    /// The same surface on a canvas whose (0, 0) is the point (`x`, `y`) of this one. `None` for a spline, which belongs
    /// to its own canvas.
    #[must_use]
    pub fn moved(&self, x: f64, y: f64) -> Option<Self> {
        match self {
            Self::Plane { .. } => {
                let mut moved = self.clone();
                if let Self::Plane { x0, y0, .. } = &mut moved {
                    (*x0, *y0) = (*x0 - x, *y0 - y);
                }
                Some(moved)
            }
            Self::Polynomial(s) => Some(Self::Polynomial(s.moved(x, y))),
            Self::Glow(s) => Some(Self::Glow(Glow {
                x: s.x - x,
                y: s.y - y,
                ..*s
            })),
            Self::Spline(_) => None,
            Self::Sum { parts } => {
                let parts: Option<Vec<Self>> = parts.iter().map(|s| s.moved(x, y)).collect();
                Some(Self::Sum { parts: parts? })
            }
        }
    }

    /// What kind it is, as short as one would ask for it.
    pub fn words(&self) -> String {
        match self {
            Self::Plane {
                slope_x, slope_y, ..
            } if *slope_x == 0.0 && *slope_y == 0.0 => "level".to_owned(),
            Self::Plane { .. } => "plane".to_owned(),
            Self::Polynomial(s) => format!("poly:{}", s.degree()),
            Self::Spline(s) => format!("spline {}", s.stiffness()),
            Self::Glow(_) => "glow".to_owned(),
            Self::Sum { parts } => {
                let words: Vec<String> = parts.iter().map(Self::words).collect();
                words.join(" + ")
            }
        }
    }
}

/// A canvas as coordinates from -1 to 1 along its longer side, in which numbers stay tame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Domain {
    /// The canvas's centre.
    pub centre: [f64; 2],
    /// Half of its longer side.
    pub half: f64,
}

impl Domain {
    /// Of a canvas.
    pub fn of(canvas: Size) -> Self {
        let (w, h) = (canvas.width().real(), canvas.height().real());
        Self {
            centre: [0.5 * (w - 1.0), 0.5 * (h - 1.0)],
            half: 0.5 * w.max(h),
        }
    }

    pub(crate) fn to(self, p: Point<CanvasPx>) -> (f64, f64) {
        (
            (p.x - self.centre[0]) / self.half,
            (p.y - self.centre[1]) / self.half,
        )
    }

    fn is_sound(self) -> bool {
        self.half > 0.0 && self.half.is_finite() && self.centre.iter().all(|v| v.is_finite())
    }
}

/// `row[i] += a polynomial of t`, with `t = start + i step`, from its coefficients, constant first.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn add_horner(coefficients: &[f32], start: f32, step: f32, row: &mut [f32]) {
    if let [a, b, c, d] = *coefficients {
        // The cubic of a spline's piece, unrolled.
        for (i, v) in (0i32..).zip(row.iter_mut()) {
            let t = start + step * i.single();
            *v += a + t * (b + t * (c + t * d));
        }
        return;
    }
    for (i, v) in (0i32..).zip(row.iter_mut()) {
        let t = start + step * i.single();
        *v += coefficients.iter().rev().fold(0.0, |sum, c| sum * t + c);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn of(shape: Shape) -> Surface {
        let canvas = Size::new(200, 140).unwrap();
        let patches: Vec<Patch> = (0..600)
            .map(|i| {
                let (x, y) = (f64::from(i * 37 % 200), f64::from(i * 61 % 140));
                let (u, v) = (x / 100.0 - 1.0, y / 100.0 - 0.7);
                Patch {
                    at: Point::new(x, y),
                    value: 50.0 + 8.0 * u - 3.0 * v + 4.0 * u * v - 2.0 * u * u + 1.5 * v * v * v,
                    weight: 1.0 + f64::from(i % 3),
                }
            })
            .collect();
        Fit::new(shape, &patches, canvas).unwrap().surface
    }

    #[rstest]
    #[case(Shape::Level, 20.0)]
    #[case(Shape::Plane, 6.0)]
    #[case(Shape::Polynomial { degree: 3 }, 1e-6)]
    #[case(Shape::Polynomial { degree: 6 }, 1e-5)]
    #[case(Shape::Spline { stiffness: 0.1 }, 0.1)]
    #[case(Shape::Glow { corner: 2, reach: 0.3 }, 3.0)]
    fn every_shape_follows_what_it_can_and_rows_are_its_values(
        #[case] shape: Shape,
        #[case] within: f64,
    ) {
        let s = of(shape);
        assert!(s.is_sound());
        let truth = |x: f64, y: f64| {
            let (u, v) = (x / 100.0 - 1.0, y / 100.0 - 0.7);
            50.0 + 8.0 * u - 3.0 * v + 4.0 * u * v - 2.0 * u * u + 1.5 * v * v * v
        };
        for (x, y) in [(10.0, 20.0), (100.0, 70.0), (180.0, 120.0)] {
            let off = (s.at(Point::new(x, y)) - truth(x, y)).abs();
            assert!(off < within, "{shape:?} at ({x}, {y}): {off}");
        }
        let at = Point::new(37.0, 51.0);
        let higher = s.clone().plus(Surface::constant(3.25));
        assert!((higher.at(at) - s.at(at) - 3.25).abs() < 1e-9);
        assert_eq!(higher.words(), s.words());
        if let Some(moved) = s.moved(-60.0, 25.0) {
            let there = Point::new(at.x + 60.0, at.y - 25.0);
            assert!((moved.at(there) - s.at(at)).abs() < 1e-9);
        }
        let whole = s.clone().plus(s.clone().scaled(-0.5));
        for (x0, y) in [(0, 0), (13, 77), (-20, 139)] {
            let mut row = vec![1.0f32; 230];
            whole.add_to_row(x0, y, &mut row);
            for (i, v) in row.iter().enumerate() {
                let at = Point::new((x0 + i.whole()).real(), y.real());
                let want = 1.0 + whole.at(at);
                assert!(
                    (f64::from(*v) - want).abs() < 2e-4 * want.abs().max(1.0),
                    "{shape:?}"
                );
            }
        }
    }
}
