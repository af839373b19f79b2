//! Green held down where nature has none.
//!
//! Hardly anything in the sky is green: what is greener than the larger of its red and blue is a cast, or noise.
//! The excess over the mean of red and blue is taken back by the wanted part, and the pixel's luminance is
//! given back to all three channels alike (coefficients of Rec. ITU-R BT.709). Noise alone makes half of all
//! dark pixels greener than their neighbours; an excess within twice the noise is left alone, since taking it
//! would turn the sky magenta.

/// Luminance of linear light with the primaries of BT.709, which are sRGB's.
pub const LUMINANCE: [f32; 3] = [0.2126, 0.7152, 0.0722];

/// Excesses up to this many times the excess's own noise stay.
const SPARED_SIGMA: f32 = 2.0;

/// How green is held down.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Green {
    /// The part of the excess that is taken away, 0 to 1.
    pub amount: f32,
    /// Noise of the excess, in the picture's units.
    pub noise: f32,
}

/// Luminance of a pixel.
pub fn luminance(rgb: [f32; 3]) -> f32 {
    LUMINANCE[0] * rgb[0] + LUMINANCE[1] * rgb[1] + LUMINANCE[2] * rgb[2]
}

impl Green {
    /// The pixel with less green; values are above the sky. Missing stays missing.
    #[inline]
    pub fn hold([r, g, b]: [f32; 3], how: Self) -> [f32; 3] {
        let excess = g - 0.5 * (r + b) - SPARED_SIGMA * how.noise;
        if excess.is_nan() || excess <= 0.0 || g <= r.max(b) {
            return [r, g, b];
        }
        let held = (g - how.amount * excess).max(r.max(b).min(g));
        let lost = LUMINANCE[1] * (g - held);
        // Luminance comes back in the pixel's own colour where there is light, as grey where there is none.
        let rest = luminance([r, held, b]).max(0.0) + how.noise;
        let k = 1.0 + lost / rest;
        let back = |v: f32| if v > 0.0 { v * k } else { v };
        [back(r), back(held), back(b)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOW: Green = Green {
        amount: 1.0,
        noise: 1.0,
    };

    #[test]
    fn an_excess_goes_and_the_luminance_stays() {
        let before = [100.0, 300.0, 80.0];
        let after = Green::hold(before, HOW);
        assert!((after[1] / after[0] - 1.0).abs() < 0.02, "{after:?}");
        assert!((luminance(after) / luminance(before) - 1.0).abs() < 0.02);
        let half = Green::hold(before, Green { amount: 0.5, ..HOW });
        assert!(half[1] > after[1] && half[1] < 300.0);
    }

    #[test]
    fn what_is_not_green_and_what_is_noise_stays() {
        for pixel in [
            [300.0, 100.0, 50.0],
            [10.0, 11.0, 9.5],
            [50.0, 60.0, 90.0],
            [-1.0, 0.5, -1.0],
        ] {
            assert_eq!(Green::hold(pixel, HOW), pixel);
        }
        assert!(Green::hold([1.0, f32::NAN, 1.0], HOW)[1].is_nan());
    }
}
