//! The display stretch: an arcsinh curve that keeps colour (Lupton, Blanton, Fekete, Hogg, O'Mullane,
//! Szalay & Wherry 2004, PASP 116, 133).
//!
//! Each channel's sky is set to one level, which makes the background neutral, and its light is
//! scaled. The curve acts on the mean of the channels, and all three are multiplied by the same
//! factor, so that a faint red and a bright red are both red. The curve's strength is chosen so that
//! the sky becomes dark grey. A colour too strong for the screen at its brightness moves towards the
//! grey of that brightness, which keeps its hue and lets full light become white.

use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad, quantile};

/// A pixel for the eye: red, green and blue, 0 black to 1 full, encoded as a screen expects it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Display(pub [f32; 3]);

/// Are the channels' lights scaled alike?
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    /// All alike: colours stay as they were measured.
    Linked,
    /// Each by its own light: weak lines stand beside strong ones.
    Each,
}

/// How a picture's levels are chosen.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Tone {
    /// Are the channels' lights scaled alike?
    pub link: Link,
    /// Where the sky comes to lie between black, 0, and white, 1.
    pub sky: f32,
    /// What becomes black.
    pub black: Point,
    /// What becomes white.
    pub white: Point,
}

/// A level of the picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Point {
    /// So many noise widths from the sky: below it for black, above it for white.
    Sigma(f32),
    /// The level that so many per cent of the pixels are below.
    Percent(f64),
    /// A little above the brightest that is no star: nebulae and galaxies are bright then, and their cores not burnt. Of
    /// white only.
    Structure,
}

impl Tone {
    /// What suits nearly every picture.
    pub const fn usual(link: Link) -> Self {
        Self {
            link,
            sky: SKY_GREY,
            black: Point::Sigma(BLACK_SIGMA),
            white: Point::Percent(100.0 * WHITE_QUANTILE),
        }
    }
}

/// Where the sky comes to lie between black and white.
pub const SKY_GREY: f32 = 0.11;

/// Black lies this many noise widths below the sky. Nearer, the noise fills the dark greys; farther,
/// faint light has no contrast left.
pub(super) const BLACK_SIGMA: f32 = 4.5;

/// Full light: only this part of the pixels is brighter. Star cores are.
pub(super) const WHITE_QUANTILE: f64 = 0.9998;

/// Of light between the stars this part is fainter than what counts as the brightest, and full light lies so much above it.
const STRUCTURE_QUANTILE: f64 = 0.9995;
const STRUCTURE_BELOW: f32 = 1.35;

/// Full light lies at least so many noise widths above the sky: where there is little but noise, that stays dark.
const LEAST_FULL_SIGMA: f32 = 80.0;

/// Of `Each`: the light that is made equal lies at this part of the pixels, above most nebulae and
/// below the stars; and made equal only to this power, since full equality drowns the weakest channel
/// in its noise and the stars in its colour.
const EACH_QUANTILE: f64 = 0.93;
const EACH_POWER: f32 = 0.75;

/// How much of the colour's strength is kept. Ratios of linear light look garish on a screen where a
/// single line fills each channel.
const SATURATION_LINKED: f32 = 1.0;
const SATURATION_EACH: f32 = 0.72;

/// The curve and the levels of one picture.
#[derive(Debug, Clone, PartialEq)]
pub struct Stretch {
    black: [f32; 3],
    gain: [f32; 3],
    saturation: f32,
    /// Strength of the curve, and one over its arcsinh.
    strength: f32,
    per_full: f32,
}

impl Stretch {
    /// Measures the levels from a sample of a picture's pixels (some ten thousand or more, from all
    /// over it); those with a missing channel do not count. `None` when no pixel is complete.
    pub fn measure(sample: &[[f32; 3]], link: Link) -> Option<Self> {
        Self::toned(sample, &[], &Tone::usual(link), None)
    }

    /// The same with levels chosen; `sky` is that of all channels, where it is known, and `between` is light between the
    /// stars for [`Point::Structure`].
    pub fn toned(
        sample: &[[f32; 3]],
        between: &[[f32; 3]],
        tone: &Tone,
        sky: Option<f32>,
    ) -> Option<Self> {
        let known = sky;
        let link = tone.link;
        let complete = || sample.iter().filter(|p| p.iter().all(|v| v.is_finite()));
        let mut values: [Vec<f32>; 3] = std::array::from_fn(|c| complete().map(|p| p[c]).collect());
        if values[0].is_empty() {
            return None;
        }
        let mut sky = [0.0; 3];
        let mut noise = [0.0; 3];
        let mut light = [0.0; 3];
        for (c, v) in values.iter_mut().enumerate() {
            // Noise shows below the sky, where no nebula adds to it.
            let (level, sigma) = match known {
                Some(level) => (level, noise_below(v, level)),
                None => sky_and_noise(v),
            };
            (sky[c], noise[c]) = (level, sigma);
            light[c] = (quantile(v, EACH_QUANTILE) - level).max(3.0 * sigma);
        }
        let mut gain = [1.0; 3];
        if link == Link::Each && light.iter().all(|l| *l > 0.0) {
            let mean = light.iter().map(|l| l.ln()).sum::<f32>() / 3.0;
            gain = light.map(|l| (mean.exp() / l).powf(EACH_POWER));
        }
        let width = (0..3).map(|c| gain[c] * noise[c]).sum::<f32>() / 3.0;
        let spread = if width > 0.0 {
            width
        } else {
            f32::MIN_POSITIVE
        };
        let above = |p: &[f32; 3]| (0..3).map(|c| gain[c] * (p[c] - sky[c])).sum::<f32>() / 3.0;
        let mut above_sky: Vec<f32> = complete().map(above).collect();
        let pedestal = match tone.black {
            Point::Sigma(k) => k * spread,
            Point::Percent(p) => -quantile(&mut above_sky, p / 100.0),
            Point::Structure => BLACK_SIGMA * spread,
        };
        // Sky as black as can be still has a level: the curve needs one to be made from.
        let pedestal = pedestal.max(0.05 * spread);
        let black: [f32; 3] = std::array::from_fn(|c| sky[c] - pedestal / gain[c]);
        let full = match tone.white {
            Point::Sigma(k) => k * spread,
            Point::Percent(p) => quantile(&mut above_sky, p / 100.0),
            Point::Structure => {
                let most = quantile(&mut above_sky, WHITE_QUANTILE);
                let mut open: Vec<f32> = between
                    .iter()
                    .map(above)
                    .filter(|v| v.is_finite())
                    .collect();
                if open.is_empty() {
                    most
                } else {
                    let highest = quantile(&mut open, STRUCTURE_QUANTILE);
                    (STRUCTURE_BELOW * highest)
                        .max(LEAST_FULL_SIGMA * spread)
                        .min(most)
                }
            }
        };
        let full = (full + pedestal).max(4.0 * pedestal);
        let strength = strength_for(pedestal / full, tone.sky);
        Some(Self {
            black,
            gain: gain.map(|g| g / full),
            strength,
            per_full: 1.0 / logarithm(strength + (strength * strength + 1.0).sqrt()),
            saturation: match link {
                Link::Linked => SATURATION_LINKED,
                Link::Each => SATURATION_EACH,
            },
        })
    }

    /// The pixel as the eye gets it; black where a channel is missing.
    #[inline(always)]
    // Small, and the one definition of what rows of pixels become, which must be compiled into their loop.
    #[allow(clippy::inline_always)]
    pub fn apply(&self, pixel: [f32; 3]) -> Display {
        let sum = pixel[0] + pixel[1] + pixel[2];
        let rgb: [f32; 3] =
            std::array::from_fn(|c| (self.gain[c] * (pixel[c] - self.black[c])).max(0.0));
        let light = (rgb[0] + rgb[1] + rgb[2]) * (1.0 / 3.0);
        // Written without branches, so that eight pixels go at a time. `max` takes the other value for a missing one, so
        // the pixel itself is asked.
        let here = if sum.is_nan() || light <= 0.0 {
            0.0
        } else {
            1.0
        };
        let curved = here * self.curved(light);
        let per_light = 1.0 / light.max(f32::MIN_POSITIVE);
        let most = self.saturation * (rgb[0].max(rgb[1]).max(rgb[2]) * per_light - 1.0) * curved;
        let keep = ((1.0 - curved) / most.max(f32::MIN_POSITIVE)).min(1.0);
        let colour = self.saturation * keep * curved;
        let (grey, slope) = (curved - colour, colour * per_light);
        Display(rgb.map(|v| (grey + slope * v).clamp(0.0, 1.0)))
    }

    /// The same for rows of pixels, in place.
    pub fn apply_to_rows(&self, r: &mut [f32], g: &mut [f32], b: &mut [f32]) {
        rows(self, r, g, b);
    }

    /// Black, and the light that becomes white, of each channel: the points that a histogram shows.
    pub fn points(&self) -> [(f32, f32); 3] {
        std::array::from_fn(|c| (self.black[c], self.black[c] + 1.0 / self.gain[c]))
    }

    /// The curve at this light; 1 from full light on.
    #[inline(always)]
    #[allow(clippy::inline_always)]
    fn curved(&self, light: f32) -> f32 {
        let x = self.strength * light.min(1.0);
        logarithm(x + (x * x + 1.0).sqrt()) * self.per_full
    }
}

#[multiversion::multiversion(targets("x86_64+avx2"))]
fn rows(s: &Stretch, r: &mut [f32], g: &mut [f32], b: &mut [f32]) {
    let n = r.len();
    let (g, b) = (&mut g[..n], &mut b[..n]);
    for i in 0..n {
        let Display(rgb) = s.apply([r[i], g[i], b[i]]);
        (r[i], g[i], b[i]) = (rgb[0], rgb[1], rgb[2]);
    }
}

/// The natural logarithm of a number from 1 on, to 1e-6: its exponent, and a series of the arctanh for the rest. The
/// library's own cannot go eight at a time.
#[inline(always)]
#[allow(clippy::inline_always)]
fn logarithm(x: f32) -> f32 {
    let bits = x.to_bits();
    let exponent = (bits >> 23).i32() - 127;
    // From 1 to 2; then around 1, where the series is short.
    let m = f32::from_bits((bits & 0x007f_ffff) | 0x3f80_0000);
    let t = (m - std::f32::consts::SQRT_2) / (m + std::f32::consts::SQRT_2);
    let t2 = t * t;
    let series = 2.0 * t * (1.0 + t2 * (1.0 / 3.0 + t2 * (0.2 + t2 * (1.0 / 7.0))));
    (exponent.single() + 0.5) * std::f32::consts::LN_2 + series
}

/// Level and noise of the sky where nothing else tells them: the quarter point, and the scatter of the values below it. Both are
/// right where sky is half of the picture; where it is all of it, the level is 0.7 noise widths low and the noise 0.7 of what
/// it is: a stretch by them is a little too bright, and never too dark.
pub fn sky_and_noise(values: &mut [f32]) -> (f32, f32) {
    // The lowest values are noise of the darkest sky. Where nebula covers half the frame the median
    // is nebula; the 25 % point is a level that dark sky has in nearly every picture.
    let level = quantile(values, 0.25);
    (level, noise_below(values, level))
}

/// The scatter of the values below a level.
fn noise_below(values: &[f32], level: f32) -> f32 {
    let mut below: Vec<f32> = values.iter().copied().filter(|v| *v <= level).collect();
    if below.is_empty() {
        return 0.0;
    }
    mad(&mut below, level) * MAD_TO_SIGMA.single()
}

/// The strength at which `sky` (in units of full light) becomes the usual dark grey.
pub(super) fn strength(sky: f32) -> f32 {
    strength_for(sky, SKY_GREY)
}

/// The strength at which `sky` becomes a grey.
fn strength_for(sky: f32, wanted: f32) -> f32 {
    let grey = |s: f32| (s * sky).asinh() / s.asinh();
    let (mut low, mut high) = (1e-3f32, 1e7f32);
    for _ in 0..60 {
        let middle = (low * high).sqrt();
        if grey(middle) < wanted {
            low = middle;
        } else {
            high = middle;
        }
    }
    (low * high).sqrt()
}

/// A straight ramp between two levels: linear values shown as they are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ramp {
    low: f32,
    high: f32,
}

impl Ramp {
    /// From the darkest to the brightest value of a sample, one in ten thousand left out on each
    /// side. `None` when no value is there.
    pub fn measure(sample: &[[f32; 3]]) -> Option<Self> {
        let mut all: Vec<f32> = sample
            .iter()
            .flatten()
            .copied()
            .filter(|v| v.is_finite())
            .collect();
        if all.is_empty() {
            return None;
        }
        let low = quantile(&mut all, 1e-4);
        let high = quantile(&mut all, 1.0 - 1e-4);
        let high = if high > low { high } else { low + 1.0 };
        Some(Self { low, high })
    }

    /// The pixel on the ramp; black where a channel is missing.
    #[inline]
    pub fn apply(&self, pixel: [f32; 3]) -> Display {
        if pixel.iter().any(|v| v.is_nan()) {
            return Display([0.0; 3]);
        }
        Display(pixel.map(|v| ((v - self.low) / (self.high - self.low)).clamp(0.0, 1.0)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Sky of 100, 130 and 90 with noise 2, a third of it nebula of ratio 8 : 2 : 1, some stars.
    fn sample() -> Vec<[f32; 3]> {
        (0..30_000)
            .map(|i| {
                let noise = |k: usize| {
                    let u = ((i * k) % 997).single() / 997.0;
                    let v = ((i * k * 31) % 991).single() / 991.0;
                    2.0 * (u + v - 1.0) * 2.449
                };
                let nebula = if i % 3 == 0 { 100.0 } else { 0.0 };
                let star = if i % 500 == 0 { 20_000.0 } else { 0.0 };
                [
                    100.0 + 0.8 * nebula + star + noise(7),
                    130.0 + 0.2 * nebula + star + noise(11),
                    90.0 + 0.1 * nebula + star + noise(13),
                ]
            })
            .collect()
    }

    #[rstest]
    fn the_sky_becomes_a_neutral_dark_grey(#[values(Link::Linked, Link::Each)] link: Link) {
        let s = Stretch::measure(&sample(), link).unwrap();
        let Display(grey) = s.apply([100.0, 130.0, 90.0]);
        for v in grey {
            assert!((0.08..0.16).contains(&v), "{grey:?}");
            assert!((v - grey[0]).abs() < 0.03, "{grey:?}");
        }
    }

    #[test]
    fn the_brightest_nebula_is_shown_bright_and_not_burnt() {
        let tone = Tone {
            white: Point::Structure,
            ..Tone::usual(Link::Linked)
        };
        let nebula = [980.0, 350.0, 200.0];
        let between: Vec<[f32; 3]> = (0..5000)
            .map(|i| {
                if i % 4 == 0 {
                    nebula
                } else {
                    [100.0, 130.0, 90.0]
                }
            })
            .collect();
        let light = |s: &Stretch| s.apply(nebula).0.iter().sum::<f32>() / 3.0;
        let sky = Some(100.0);
        let shown = light(&Stretch::toned(&sample(), &between, &tone, sky).unwrap());
        let usual =
            light(&Stretch::toned(&sample(), &between, &Tone::usual(Link::Linked), sky).unwrap());
        assert!(shown > 0.85 && shown < 0.99, "{shown}");
        assert!(usual < 0.75 * shown, "{usual} {shown}");
        // Without anything between the stars they decide.
        assert_eq!(
            Stretch::toned(&sample(), &[], &tone, sky),
            Stretch::toned(&sample(), &[], &Tone::usual(Link::Linked), sky)
        );
    }

    #[test]
    fn the_logarithm_is_that_of_the_library() {
        for i in 0..4000 {
            let x = 1.0 + (i.single() * 0.01).powi(4);
            assert!((logarithm(x) - x.ln()).abs() < 2e-6 * (1.0 + x.ln()), "{x}");
        }
    }

    #[test]
    fn rows_are_what_pixels_are() {
        let s = Stretch::measure(&sample(), Link::Each).unwrap();
        let mut pixels: Vec<[f32; 3]> = sample()[..999].to_vec();
        pixels[7] = [f32::NAN, 130.0, 90.0];
        pixels[8] = [-1e9; 3];
        let mut planes: [Vec<f32>; 3] =
            std::array::from_fn(|c| pixels.iter().map(|p| p[c]).collect());
        let [r, g, b] = &mut planes;
        s.apply_to_rows(r, g, b);
        for (i, p) in pixels.iter().enumerate() {
            assert_eq!(
                s.apply(*p),
                Display([planes[0][i], planes[1][i], planes[2][i]])
            );
        }
        assert_eq!((planes[0][7], planes[1][8]), (0.0, 0.0));
    }

    #[test]
    fn the_hue_of_faint_and_bright_light_is_the_same() {
        let s = Stretch::measure(&sample(), Link::Linked).unwrap();
        let ratio = |k: f32| {
            let Display([r, g, b]) = s.apply([100.0 + 8.0 * k, 130.0 + 2.0 * k, 90.0 + k]);
            (r - b) / (r - g)
        };
        assert!((ratio(20.0) / ratio(200.0) - 1.0).abs() < 0.02);
    }

    #[test]
    fn each_lifts_the_weak_channel() {
        let weak = |link| {
            let Display([r, _, b]) = Stretch::measure(&sample(), link)
                .unwrap()
                .apply([180.0, 150.0, 100.0]);
            b / r
        };
        assert!(weak(Link::Each) > 1.3 * weak(Link::Linked));
    }

    #[test]
    fn white_is_white_and_missing_is_black() {
        let s = Stretch::measure(&sample(), Link::Linked).unwrap();
        let Display(star) = s.apply([90_000.0, 70_000.0, 80_000.0]);
        assert!(star.iter().all(|v| *v > 0.99), "{star:?}");
        assert_eq!(s.apply([f32::NAN, 200.0, 200.0]), Display([0.0; 3]));
        assert!(Stretch::measure(&[[f32::NAN; 3]], Link::Linked).is_none());
    }

    #[test]
    fn a_constant_picture_is_stretched_without_a_fault() {
        let s = Stretch::measure(&[[5.0; 3]; 100], Link::Each).unwrap();
        let Display(v) = s.apply([5.0; 3]);
        assert!(v.iter().all(|v| v.is_finite()));
    }

    #[test]
    fn a_ramp_is_straight() {
        let values: Vec<[f32; 3]> = (0..=1000).map(|i| [i.single(); 3]).collect();
        let ramp = Ramp::measure(&values).unwrap();
        assert!((ramp.apply([500.0; 3]).0[0] - 0.5).abs() < 1e-3);
        assert_eq!(ramp.apply([2000.0; 3]).0, [1.0; 3]);
        assert!(Ramp::measure(&[]).is_none());
    }
}
