//! The sky's own light in a frame: a level with a gradient.

use serde::Serialize;

/// Sky light over a frame, in electrons for a pixel and a sub-frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct SkyGlow {
    /// At the frame's centre.
    pub level: f64,
    /// Change from the left edge to the right.
    pub across: f64,
    /// Change from the first row to the last.
    pub along: f64,
    /// Curvature: what the corners have more than the plane says.
    pub bowl: f64,
}

impl SkyGlow {
    /// An even sky.
    pub const fn even(level: f64) -> Self {
        Self {
            level,
            across: 0.0,
            along: 0.0,
            bowl: 0.0,
        }
    }

    /// The light at a place, given as parts of width and height from the centre (-0.5..=0.5).
    pub fn at(&self, u: f64, v: f64) -> f64 {
        self.level + self.across * u + self.along * v + self.bowl * 2.0 * (u * u + v * v)
    }
}
