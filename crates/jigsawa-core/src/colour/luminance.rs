//! Brightness from one mix, colour from three others, in linear light.
//!
//! All values are above the sky. Each channel c becomes (c + p) (L + p) / (Y + p) - p, where Y is the
//! mean of the channels, L the new brightness and p a pedestal of some noise widths. Where the light is
//! well above the noise, channels are multiplied by L / Y: their ratios, so hue and saturation, stay.
//! In the dark, where the ratio of two noises means nothing, the formula goes over to adding L - Y to
//! each channel, which changes no difference between channels.

/// Gives the pixel's channels the brightness `l`; `pedestal` is positive, in the same units.
pub(super) fn with_luminance(rgb: [f32; 3], l: f32, pedestal: f32) -> [f32; 3] {
    let y = (rgb[0] + rgb[1] + rgb[2]) / 3.0;
    // Far below the sky there is no colour: the pixel keeps to the pedestal.
    let base = (y + pedestal).max(0.1 * pedestal);
    let ratio = (l + pedestal).max(0.0) / base;
    rgb.map(|c| (c + pedestal) * ratio - pedestal)
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
        let deep = with_luminance([-80.0, -90.0, -70.0], 0.0, 50.0);
        assert!(deep.iter().all(|v| v.is_finite()));
    }
}
