//! A frame's own gradient: a smooth surface through the places where nothing but sky is.
//!
//! What is sky is decided by the evidence of all filters together, since a nebula seldom fills all of them: patches that
//! are smooth in every filter (`evidence`), near the surface through them in each (`settle`), and not beside what
//! stands above it in any. The surface's shape is chosen by leaving out quarters of the frame at a time, and by
//! what it is known to (`error`): a shape that its samples do not hold is given up for a stiffer one. Where no patch is
//! surely sky nothing is taken off, and that is said. What is sky can be told by hand as well: places to add, to drop, and
//! circles to protect.

mod decide;
mod error;
mod evidence;
mod patch;
mod settle;

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::surface::{Shape, Surface};
use super::{Balance, BalanceError, Sky};
use crate::space::{CanvasPx, Point};

pub use decide::gradients;

/// What the user knows of a frame's sky; canvas pixels.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Hints {
    /// Here is sky.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add: Vec<Point<CanvasPx>>,
    /// Here is none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub drop: Vec<Point<CanvasPx>>,
    /// Within these circles is none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub protect: Vec<(Point<CanvasPx>, f64)>,
}

/// That gradients are taken out, and how.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Flatten {
    /// Taken off, or divided by.
    #[serde(default)]
    pub way: Way,
    /// What is known of the sky.
    #[serde(flatten)]
    pub hints: Hints,
}

/// A gradient and what it rests on.
#[derive(Debug, Clone)]
pub struct Gradient {
    /// The sky less its own middle: what is to be taken off.
    pub surface: Surface,
    /// The sky's own middle over the canvas.
    pub level: f64,
    /// Where sky was found: place and level above the frame's middle.
    pub samples: Vec<(Point<CanvasPx>, f64)>,
    /// Scatter of the samples around the surface, in pixel noise.
    pub residual_sigma: f64,
    /// The surface's shape.
    pub shape: Shape,
    /// How well the surface is known, root mean square over the canvas.
    pub error: f64,
    /// The same in pixel noise.
    pub error_sigma: f64,
    /// What it rests on.
    pub ground: Ground,
}

/// What a gradient rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Ground {
    /// Patches that are sky by all evidence.
    Sky,
    /// Places that were told by hand alone.
    Told,
    /// Nearly all patches have folds: nothing is surely sky.
    Rough,
    /// Patches are smooth, but no surface holds enough of them: nothing is surely sky.
    Scattered,
}

impl Ground {
    /// Is nothing surely sky?
    pub const fn is_unsure(self) -> bool {
        matches!(self, Self::Rough | Self::Scattered)
    }
}

/// How a gradient is taken out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Way {
    /// Taken off: light that the sky has added.
    #[default]
    Subtract,
    /// Divided by: light that the optics have held back.
    Divide,
}

impl Gradient {
    /// The balance that takes the gradient out of the frame and leaves its level.
    ///
    /// # Errors
    /// When it is to be divided by, and the sky's level is not well above zero everywhere: nothing can be
    /// divided by a sky that has been taken off already.
    pub fn balance(&self, way: Way, sky: &Sky<'_>) -> Result<Balance, BalanceError> {
        let catalogue = sky.member.catalogue;
        let unchanged = Balance::identity(catalogue);
        if way == Way::Subtract {
            return Ok(Balance {
                surface: self.surface.clone().scaled(-1.0),
                ..unchanged
            });
        }
        let canvas = sky.samples.lattice().canvas();
        let (w, h) = (canvas.width().real() - 1.0, canvas.height().real() - 1.0);
        let gain = self
            .surface
            .clone()
            .scaled(1.0 / self.level)
            .plus(Surface::constant(1.0));
        let corners = [(0.0, 0.0), (w, 0.0), (0.0, h), (w, h)];
        let lowest = corners
            .iter()
            .map(|(x, y)| gain.at(Point::new(*x, *y)))
            .fold(f64::INFINITY, f64::min);
        if self.level <= sky.member.noise() || lowest < LEAST_GAIN {
            return Err(BalanceError::NoLevel);
        }
        Ok(Balance {
            gain: Some(gain),
            ..unchanged
        })
    }
}

/// No optics hold back nine tenths of the light.
const LEAST_GAIN: f64 = 0.1;
