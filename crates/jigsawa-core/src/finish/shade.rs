//! One plane for the eye: the display stretch without colour, for quick looks.
//!
//! The curve is that of [`Stretch`](super::Stretch): sky dark grey, black 4.5 noise widths below it. A
//! shade can be undone, so that a picture made with one can be shown with another.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::stretch::{BLACK_SIGMA, WHITE_QUANTILE, sky_and_noise, strength};
use crate::robust::quantile;

/// Levels and curve of one plane.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Shade {
    black: f32,
    white: f32,
    strength: f32,
}

/// A shade as a table, for many pixels.
pub struct ShadeTable {
    black: f32,
    gain: f32,
    steps: Vec<u8>,
}

/// Steps of the table over the root of the light: fine enough that no grey of 256 is passed over
/// where the curve is steepest, just above black.
const STEPS: usize = 2048;

impl Shade {
    /// The shade for a sample of a plane's values; missing ones do not count. `None` for no values.
    pub fn measure(sample: &[f32]) -> Option<Self> {
        let mut values: Vec<f32> = sample.iter().copied().filter(|v| v.is_finite()).collect();
        if values.is_empty() {
            return None;
        }
        let (sky, noise) = sky_and_noise(&mut values);
        let pedestal = BLACK_SIGMA * noise.max(f32::MIN_POSITIVE);
        let black = sky - pedestal;
        let bright = quantile(&mut values, WHITE_QUANTILE) - black;
        let full = bright.max(4.0 * pedestal);
        Some(Self {
            black,
            white: black + full,
            strength: strength(pedestal / full),
        })
    }

    /// The grey of a value, 0 black to 1 white; 0 for a missing one.
    pub fn apply(&self, value: f32) -> f32 {
        let light = (value - self.black) / (self.white - self.black);
        if light > 0.0 {
            ((self.strength * light.min(1.0)).asinh() / self.strength.asinh()).min(1.0)
        } else {
            0.0
        }
    }

    /// The value that has this grey.
    pub fn undo(&self, grey: f32) -> f32 {
        let light = (grey.clamp(0.0, 1.0) * self.strength.asinh()).sinh() / self.strength;
        self.black + light * (self.white - self.black)
    }

    /// The shade as a table.
    pub fn table(&self) -> ShadeTable {
        let steps = (0..=STEPS)
            .map(|i| {
                let light = (i.single() / STEPS.single()).powi(2);
                let value = self.black + light * (self.white - self.black);
                (255.0 * self.apply(value)).round().byte()
            })
            .collect();
        ShadeTable {
            black: self.black,
            gain: 1.0 / (self.white - self.black),
            steps,
        }
    }
}

impl ShadeTable {
    /// The greys of a row; 0 for missing pixels.
    pub fn apply(&self, row: &[f32], out: &mut [u8]) {
        for (o, v) in out.iter_mut().zip(row) {
            let light = ((v - self.black) * self.gain).clamp(0.0, 1.0);
            // A missing value becomes 0 in the cast.
            *o = self.steps[(light.sqrt() * STEPS.single() + 0.5).index().min(STEPS)];
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Vec<f32> {
        (0..20_000)
            .map(|i| {
                let (u, v) = (
                    (i * 7 % 997).single() / 997.0,
                    (i * 217 % 991).single() / 991.0,
                );
                let star = if i % 900 == 0 { 9_000.0 } else { 0.0 };
                1000.0 + 12.0 * (u + v - 1.0) + star
            })
            .collect()
    }

    #[test]
    fn the_sky_is_dark_grey_and_the_shade_can_be_undone() {
        let s = Shade::measure(&sample()).unwrap();
        assert!((0.07..0.16).contains(&s.apply(999.0)), "{}", s.apply(999.0));
        for v in [990.0, 1000.0, 1500.0, 9000.0] {
            assert!((s.undo(s.apply(v)) / v - 1.0).abs() < 1e-3, "{v}");
        }
        assert_eq!(s.apply(f32::NAN), 0.0);
        assert!(Shade::measure(&[f32::NAN]).is_none());
    }

    #[test]
    fn a_sky_under_a_gradient_stays_dark() {
        // A broad master under a town's light, twenty noise widths from end to end, most of it bright; black borders.
        let sample: Vec<f32> = sample()
            .iter()
            .enumerate()
            .map(|(i, v)| {
                if i % 35 == 0 {
                    return 0.0;
                }
                let along = (i.single() / 20_000.0).sqrt();
                v - 150.0 + 150.0 * along
            })
            .collect();
        let s = Shade::measure(&sample).unwrap();
        let mut greys: Vec<f32> = sample.iter().map(|v| s.apply(*v)).collect();
        greys.sort_by(f32::total_cmp);
        let at = |part: f32| greys[(part * 20_000.0).index()];
        assert!(
            (0.05..0.3).contains(&at(0.5)) && at(0.9) < 0.4,
            "{} {}",
            at(0.5),
            at(0.9)
        );
    }

    #[test]
    fn the_table_is_the_shade() {
        let s = Shade::measure(&sample()).unwrap();
        let values: Vec<f32> = (0..3000).map(|i| 980.0 + 3.0 * i.single()).collect();
        let mut greys = vec![0; values.len()];
        s.table().apply(&values, &mut greys);
        for (v, g) in values.iter().zip(greys) {
            assert!((255.0 * s.apply(*v) - f32::from(g)).abs() <= 1.6, "{v}");
        }
        let mut missing = [7];
        s.table().apply(&[f32::NAN], &mut missing);
        assert_eq!(missing, [0]);
    }

    #[test]
    fn an_even_plane_has_a_shade() {
        let s = Shade::measure(&[5.0; 50]).unwrap();
        assert!(s.apply(5.0).is_finite());
    }
}
