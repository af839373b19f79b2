//! What the optics before a chip do to even light: vignetting and dust.

use jigsawa_core::number::Convert;
use jigsawa_core::space::Size;

use crate::noise::step;

/// A speck of dust on a window before the chip: its shadow is a ring, since it is out of focus.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Mote {
    /// Where its shadow falls, in pixels.
    pub at: (f64, f64),
    /// Radius of the shadow.
    pub radius_px: f64,
    /// The part of the light that it takes.
    pub depth: f64,
}

/// What the optics before the chip do to even light.
#[derive(Debug, Clone, PartialEq)]
pub struct Train {
    /// The part of the light that the corners lack.
    pub vignetting: f64,
    /// Where the light is brightest, as parts of width and height from the middle.
    pub centre: (f64, f64),
    /// Dust.
    pub motes: Vec<Mote>,
}

impl Train {
    /// Clean optics that light everything alike.
    pub const fn even() -> Self {
        Self {
            vignetting: 0.0,
            centre: (0.0, 0.0),
            motes: Vec::new(),
        }
    }

    /// Usual optics: corners a fifth darker, and three rings of dust.
    pub fn usual(size: Size) -> Self {
        let (w, h) = (size.width().real(), size.height().real());
        let mote = |x: f64, y: f64, radius_px: f64, depth: f64| Mote {
            at: (x * w, y * h),
            radius_px,
            depth,
        };
        Self {
            vignetting: 0.2,
            centre: (0.03, -0.02),
            motes: vec![
                mote(0.31, 0.62, 14.0, 0.06),
                mote(0.72, 0.24, 22.0, 0.035),
                mote(0.55, 0.81, 9.0, 0.09),
            ],
        }
    }

    /// The part of the light that arrives at a pixel.
    pub fn passes(&self, x: f64, y: f64, size: Size) -> f64 {
        let u = (x + 0.5) / size.width().real() - 0.5 - self.centre.0;
        let v = (y + 0.5) / size.height().real() - 0.5 - self.centre.1;
        let shade = 1.0 - self.vignetting * 2.0 * (u * u + v * v);
        self.motes.iter().fold(shade, |light, m| {
            let far = (x - m.at.0).hypot(y - m.at.1) / m.radius_px;
            // A ring with a bright middle, soft at both of its rims.
            let ring = step(0.25, 0.45, far) * (1.0 - step(0.85, 1.05, far));
            light * (1.0 - m.depth * ring)
        })
    }
}
