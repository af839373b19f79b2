//! Brightness from one mix, colour from three others, in linear light.
//!
//! All values are above the sky. Each channel c becomes L + k (c - Y), where Y is the mean of the
//! channels, L the new brightness and k = (L + p) / (Y + p), with L and Y not below zero and a pedestal p
//! of some noise widths. The mean of the new channels is L, always. Where the light is well above the
//! noise, k is L / Y and each channel is multiplied by it: their ratios, so hue and saturation, stay. In
//! the dark, where the ratio of two noises means nothing, k is 1: L - Y is added to each channel, which
//! changes no difference between them.

/// Gives the pixel's channels the brightness `l`; `pedestal` is positive, in the same units.
pub(super) fn with_luminance(rgb: [f32; 3], l: f32, pedestal: f32) -> [f32; 3] {
    let y = (rgb[0] + rgb[1] + rgb[2]) / 3.0;
    let strength = (l.max(0.0) + pedestal) / (y.max(0.0) + pedestal);
    rgb.map(|c| l + strength * (c - y))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bright_pixels_keep_their_ratios_and_take_the_brightness() {
        let [r, g, b] = with_luminance([3000.0, 2000.0, 1000.0], 4000.0, 5.0);
        assert!((r / g - 1.5).abs() < 0.01 && (b / g - 0.5).abs() < 0.01);
        assert!(((r + g + b) / 3.0 - 4000.0).abs() < 1.0);
    }

    #[test]
    fn the_dark_sky_gets_no_colour_noise_from_the_ratio() {
        let [r, g, b] = with_luminance([1.0, -1.0, 0.0], 0.5, 50.0);
        assert!((r - g - 2.0).abs() < 0.05 && ((r + g + b) / 3.0 - 0.5).abs() < 1e-3);
        let [r, g, b] = with_luminance([-80.0, -90.0, -70.0], -200.0, 50.0);
        assert!(((r + g + b) / 3.0 + 200.0).abs() < 1e-3 && (b - g - 20.0).abs() < 1e-3);
        let missing = with_luminance([1.0, 2.0, 3.0], f32::NAN, 50.0);
        assert!(missing.iter().all(|v| v.is_nan()));
    }
}
