//! What spoils a frame: clouds over a part of it, a halo around every star, the trail of a satellite.

use serde::Serialize;

/// Everything that can spoil a frame; nothing by default.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct Spoilt {
    /// Thick cloud, uneven over the frame.
    pub cloud: Option<Cloud>,
    /// Thin cloud that scatters light around each star.
    pub halo: Option<Halo>,
    /// A satellite's trail.
    pub trail: Option<Trail>,
}

/// A cloud that lets through `1 - loss` at the frame's middle.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Cloud {
    /// Part of the light that is lost at the middle.
    pub loss: f64,
    /// How much more is lost at the right edge than at the left.
    pub across: f64,
}

/// Light scattered from each star into a wide Gaussian.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Halo {
    /// Part of a star's light that is scattered.
    pub part: f64,
    /// Width of the halo (sigma) in pixels.
    pub sigma_px: f64,
}

/// A straight line of light across the frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Trail {
    /// A point of the line, as parts of width and height from the centre.
    pub through: (f64, f64),
    /// Its direction from +x towards +y.
    pub angle_deg: f64,
    /// Electrons of a pixel on the line's middle.
    pub electrons: f64,
    /// Its width (sigma) in pixels.
    pub sigma_px: f64,
}

impl Spoilt {
    /// Part of a star's light that comes through at a place, given as parts of width and height from
    /// the centre, and stays in the star's core.
    pub fn passes(&self, u: f64) -> f64 {
        let cloud = self
            .cloud
            .map_or(1.0, |c| (1.0 - c.loss - c.across * u).clamp(0.0, 1.0));
        cloud * (1.0 - self.halo.map_or(0.0, |h| h.part))
    }
}

impl Halo {
    /// Part of a star's light that is scattered into a pixel at this distance.
    pub fn pixel(&self, dx: f64, dy: f64) -> f64 {
        let s2 = self.sigma_px * self.sigma_px;
        self.part / (std::f64::consts::TAU * s2) * (-0.5 * (dx * dx + dy * dy) / s2).exp()
    }
}

impl Trail {
    /// Electrons of the pixel (x, y) of a frame of this width and height.
    pub fn light(&self, x: f64, y: f64, (width, height): (f64, f64)) -> f64 {
        let (s, c) = self.angle_deg.to_radians().sin_cos();
        let dx = x - (0.5 + self.through.0) * width;
        let dy = y - (0.5 + self.through.1) * height;
        let away = (dy * c - dx * s) / self.sigma_px;
        self.electrons * (-0.5 * away * away).exp()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_halo_holds_its_part_of_the_light() {
        let halo = Halo {
            part: 0.2,
            sigma_px: 6.0,
        };
        let sum: f64 = (-40..=40)
            .flat_map(|y| (-40..=40).map(move |x| (f64::from(x), f64::from(y))))
            .map(|(x, y)| halo.pixel(x, y))
            .sum();
        assert!((sum - 0.2).abs() < 1e-6);
    }

    #[test]
    fn a_trail_is_brightest_on_its_line_and_a_cloud_is_uneven() {
        let trail = Trail {
            through: (0.0, 0.0),
            angle_deg: 45.0,
            electrons: 100.0,
            sigma_px: 1.5,
        };
        assert!((trail.light(70.0, 70.0, (100.0, 100.0)) - 100.0).abs() < 1e-9);
        assert!(trail.light(70.0, 85.0, (100.0, 100.0)) < 1e-3);
        let spoilt = Spoilt {
            cloud: Some(Cloud {
                loss: 0.4,
                across: 0.2,
            }),
            ..Spoilt::default()
        };
        assert!(
            (spoilt.passes(0.5) - 0.5).abs() < 1e-12 && (spoilt.passes(0.0) - 0.6).abs() < 1e-12
        );
        assert_eq!(Spoilt::default().passes(0.3), 1.0);
    }
}
