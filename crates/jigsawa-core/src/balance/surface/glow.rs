//! Light that falls off around a place: an amplifier's warmth in a sensor's corner.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use crate::space::{CanvasPx, Point};

/// `height` times e to the minus distance over `reach`.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Glow {
    /// Where it is brightest, in canvas pixels.
    pub x: f64,
    /// Where it is brightest, in canvas pixels.
    pub y: f64,
    /// The distance over which it falls to 1/e, in canvas pixels.
    pub reach: f64,
    /// Its height there.
    pub height: f64,
}

impl Glow {
    pub(super) fn at(&self, p: Point<CanvasPx>) -> f64 {
        self.height * (-(p.x - self.x).hypot(p.y - self.y) / self.reach).exp()
    }

    pub(super) fn is_sound(&self) -> bool {
        self.reach > 0.0
            && [self.x, self.y, self.reach, self.height]
                .iter()
                .all(|v| v.is_finite())
    }

    pub(super) fn scaled(self, k: f64) -> Self {
        Self {
            height: k * self.height,
            ..self
        }
    }

    pub(super) fn add_to_row(&self, x: i64, y: i64, row: &mut [f32]) {
        let (reach, height) = (self.reach.single(), self.height.single());
        let (dx, dy) = ((x.real() - self.x).single(), (y.real() - self.y).single());
        for (i, v) in (0i32..).zip(row.iter_mut()) {
            let dx = dx + i.single();
            *v += height * (-(dx * dx + dy * dy).sqrt() / reach).exp();
        }
    }
}
