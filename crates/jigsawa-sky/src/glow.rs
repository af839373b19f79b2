//! The sky's own light in a frame: a level with a gradient, bent by haze, and brightest under a moon.

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
    /// Change of third order: what haze and low altitude add, from corner to corner.
    pub twist: f64,
    /// Light around a moon beyond the frame's first corner.
    pub moon: f64,
    /// Light of a town beyond the last row, which falls off over a third of the frame.
    pub town: f64,
    /// An amplifier's warmth at the last pixel's corner, which falls off over a ninth of the frame.
    pub amplifier: f64,
}

impl SkyGlow {
    /// An even sky.
    pub const fn even(level: f64) -> Self {
        Self {
            level,
            across: 0.0,
            along: 0.0,
            bowl: 0.0,
            twist: 0.0,
            moon: 0.0,
            town: 0.0,
            amplifier: 0.0,
        }
    }

    /// The light at a place, given as parts of width and height from the centre (-0.5..=0.5).
    pub fn at(&self, u: f64, v: f64) -> f64 {
        // The moon stands a quarter of the frame outside, and its light falls off over half of one.
        let from_moon = (u + 0.7).powi(2) + (v + 0.6).powi(2);
        self.level
            + self.across * u
            + self.along * v
            + self.bowl * 2.0 * (u * u + v * v)
            + self.twist * (4.0 * u * u * u - 2.0 * u * v * v - 3.0 * u * u * v)
            + self.moon / (1.0 + from_moon / 0.25)
            + self.town * ((v - 0.5) / 0.35).exp()
            + self.amplifier * (-(u - 0.5).hypot(v - 0.5) / 0.11).exp()
    }
}
