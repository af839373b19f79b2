//! Brightness from one mix, colour from three others, in linear light.
//!
//! All values are above the sky. A pixel's luminance Y is the weighted sum of its channels that the eye takes for brightness:
//! the coefficients of Rec. ITU-R BT.709, which are row Y of the matrix from linear sRGB to CIE 1931 XYZ
//! (IEC 61966-2-1). Multiplying all channels by L / Y moves that luminance to L and leaves the chromaticity x, y where
//! it is, so hue and saturation stay. Each channel c becomes L + k (c - Y) with k = (L + p) / (Y + p), L and Y not below
//! zero and a pedestal p of some noise widths. The luminance of the new channels is L, always. Where the light is well
//! above the noise, k is L / Y and each channel is multiplied by it. In the dark, where the ratio of two noises means
//! nothing, k is 1: L - Y is added to each channel, which changes no difference between them. A k that is
//! very large, as where the brightness knows light that the colours do not show, is held to a limit, so that their noise
//! does not become blotches.

use crate::finish::luminance;

/// Pedestal, in the noise of the reference's pixels.
const PEDESTAL_SIGMA: f32 = 8.0;

/// Colours are made no more than so many times stronger.
const MOST: f32 = 6.0;

/// How brightness is taken.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Luminance {
    /// The part of the new brightness, 0 to 1; the rest is the channels' own.
    pub weight: f32,
}

/// Gives the pixel's channels the brightness `l`; `noise` is that of the reference's pixels, in the same units.
pub fn with_luminance(rgb: [f32; 3], l: f32, how: Luminance, noise: f32) -> [f32; 3] {
    let pedestal = (PEDESTAL_SIGMA * noise).max(f32::MIN_POSITIVE);
    let y = luminance(rgb);
    let l = y + how.weight * (l - y);
    let strength = ((l.max(0.0) + pedestal) / (y.max(0.0) + pedestal)).min(MOST);
    rgb.map(|c| l + strength * (c - y))
}

#[cfg(test)]
mod tests {
    use super::*;

    const ALL: Luminance = Luminance { weight: 1.0 };

    #[test]
    fn bright_pixels_keep_their_ratios_and_take_the_brightness() {
        let rgb = with_luminance([3000.0, 2000.0, 1000.0], 4000.0, ALL, 0.6);
        assert!((rgb[0] / rgb[1] - 1.5).abs() < 0.01 && (rgb[2] / rgb[1] - 0.5).abs() < 0.01);
        assert!((luminance(rgb) - 4000.0).abs() < 1.0);
        let half = with_luminance(
            [3000.0, 2000.0, 1000.0],
            4000.0,
            Luminance { weight: 0.5 },
            0.6,
        );
        let before = luminance([3000.0, 2000.0, 1000.0]);
        assert!((luminance(half) - 0.5 * (before + 4000.0)).abs() < 1.0);
    }

    #[test]
    fn the_dark_sky_gets_no_colour_noise_from_the_ratio() {
        let [r, g, b] = with_luminance([1.0, -1.0, 0.0], 0.5, ALL, 6.0);
        assert!((r - g - 2.0).abs() < 0.05 && (luminance([r, g, b]) - 0.5).abs() < 1e-3);
        let [r, g, b] = with_luminance([-80.0, -90.0, -70.0], -200.0, ALL, 6.0);
        assert!((luminance([r, g, b]) + 200.0).abs() < 1e-3 && (b - g - 20.0).abs() < 1e-3);
        let missing = with_luminance([1.0, 2.0, 3.0], f32::NAN, ALL, 6.0);
        assert!(missing.iter().all(|v| v.is_nan()));
        // Light that the colours do not show brings no colour up.
        let [r, g, _] = with_luminance([2.0, -2.0, 0.0], 5000.0, ALL, 1.0);
        assert!((r - g).abs() < 25.0);
    }
}
