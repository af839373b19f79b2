//! What the optics and the air make of a point: an elliptical Moffat profile, summed over pixels.

use serde::Serialize;

/// The profile of a point of light in a frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Optics {
    /// Full width at half maximum, geometric mean of both axes, before pixels widen it.
    pub fwhm_px: f64,
    /// Long over short axis.
    pub elongation: f64,
    /// Direction of the long axis from +x towards +y.
    pub angle_rad: f64,
    /// Exponent of the profile: 2.5 wide wings, 5 narrow ones.
    pub beta: f64,
}

/// Places and weights of Gauss-Legendre integration over (-1/2, 1/2) with five points.
const GAUSS: [(f64, f64); 5] = [
    (-0.453_089_922_969_332, 0.118_463_442_528_094_5),
    (-0.269_234_655_052_841_5, 0.239_314_335_249_683_2),
    (0.0, 0.284_444_444_444_444_4),
    (0.269_234_655_052_841_5, 0.239_314_335_249_683_2),
    (0.453_089_922_969_332, 0.118_463_442_528_094_5),
];

impl Optics {
    /// A round profile.
    pub const fn round(fwhm_px: f64) -> Self {
        Self {
            fwhm_px,
            elongation: 1.0,
            angle_rad: 0.0,
            beta: 3.5,
        }
    }

    /// The profile's density at an offset from its centre; its integral over the plane is 1.
    pub fn density(&self, dx: f64, dy: f64) -> f64 {
        let (s, c) = self.angle_rad.sin_cos();
        let (u, v) = (dx * c + dy * s, dy * c - dx * s);
        let k = 4.0 * (2f64.powf(1.0 / self.beta) - 1.0) / (self.fwhm_px * self.fwhm_px);
        let q = k * (u * u / self.elongation + v * v * self.elongation);
        k * (self.beta - 1.0) / std::f64::consts::PI * (1.0 + q).powf(-self.beta)
    }

    /// The part of a point's light that falls into the pixel at this offset.
    pub fn pixel(&self, dx: f64, dy: f64) -> f64 {
        // In the wings the profile is straight over a pixel: its middle is its mean to 1e-3.
        if dx.hypot(dy) > 3.0 * self.fwhm_px + 2.0 {
            return self.density(dx, dy);
        }
        GAUSS
            .iter()
            .flat_map(|(y, wy)| GAUSS.iter().map(move |(x, wx)| (x, y, wx * wy)))
            .map(|(x, y, w)| w * self.density(dx + x, dy + y))
            .sum()
    }

    /// The radius beyond which a pixel gets less than this part of the light.
    pub fn radius(&self, part: f64) -> f64 {
        let k = 4.0 * (2f64.powf(1.0 / self.beta) - 1.0) / (self.fwhm_px * self.fwhm_px);
        let peak = k * (self.beta - 1.0) / std::f64::consts::PI;
        let q = (peak / part).powf(1.0 / self.beta) - 1.0;
        (q.max(0.0) / k * self.elongation).sqrt()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Optics::round(3.0))]
    #[case(Optics { elongation: 1.4, angle_rad: 0.7, beta: 5.0, ..Optics::round(2.0) })]
    fn all_light_lands_in_pixels_around_its_centre(#[case] o: Optics) {
        let (cx, cy) = (0.3, -0.2);
        let (mut sum, mut sx, mut sy) = (0.0, 0.0, 0.0);
        for y in -120..=120 {
            for x in -120..=120 {
                let v = o.pixel(f64::from(x) - cx, f64::from(y) - cy);
                sum += v;
                sx += v * f64::from(x);
                sy += v * f64::from(y);
            }
        }
        // The closed form of what a Moffat profile keeps beyond a radius R: (1 + k R^2)^(1 - beta).
        let k = 4.0 * (2f64.powf(1.0 / o.beta) - 1.0) / (o.fwhm_px * o.fwhm_px);
        let outside = (1.0 + k * 120.0 * 120.0f64).powf(1.0 - o.beta);
        assert!((sum - 1.0).abs() < 1e-4 + outside, "{sum}");
        assert!((sx / sum - cx).abs() < 2e-3 && (sy / sum - cy).abs() < 2e-3);
    }

    #[test]
    fn the_profile_is_half_as_high_at_half_its_width() {
        let o = Optics::round(3.4);
        assert!((o.density(1.7, 0.0) / o.density(0.0, 0.0) - 0.5).abs() < 1e-12);
        assert!((o.density(o.radius(1e-5), 0.0) - 1e-5).abs() < 1e-9);
    }
}
