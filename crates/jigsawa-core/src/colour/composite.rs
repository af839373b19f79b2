//! The merge that makes a colour composite: one mix a channel, on light above the sky.
//!
//! Balanced frames all have the reference's sky level. It is taken off before mixing and put back
//! after, so that "2 R" doubles stars and nebula and leaves the sky's level alone, ratios are ratios
//! of light, and any mix leaves a neutral sky neutral.

use crate::merge::TileOp;

use super::luminance::with_luminance;
use super::mix::BoundMix;

/// Pedestal of the luminance, in the noise of the reference's pixels.
const PEDESTAL_SIGMA: f32 = 8.0;

/// Levels that a composite needs, in the reference's units.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct White {
    /// The sky's level.
    pub sky: f32,
    /// Noise of the sky's pixels.
    pub noise: f32,
    /// The level of full light, above the sky: the reference's saturation, or its brightest star.
    pub full: f32,
}

/// A composite of three mixes, with a luminance if there is a fourth.
pub struct Composite {
    /// Red, green, blue.
    pub channels: [BoundMix; 3],
    /// Brightness from a mix of its own.
    pub luminance: Option<BoundMix>,
    /// Levels.
    pub white: White,
}

impl TileOp for Composite {
    fn planes(&self) -> usize {
        3
    }

    fn run(&self, inputs: &[&[f32]], out: &mut [&mut [f32]]) {
        let White { sky, noise, full } = self.white;
        let above: Vec<Vec<f32>> = inputs
            .iter()
            .map(|i| i.iter().map(|v| v - sky).collect())
            .collect();
        let above: Vec<&[f32]> = above.iter().map(Vec::as_slice).collect();
        for (mix, channel) in self.channels.iter().zip(out.iter_mut()) {
            mix.eval(&above, full, channel);
        }
        if let Some(mix) = &self.luminance {
            let mut brightness = vec![0.0; out[0].len()];
            mix.eval(&above, full, &mut brightness);
            let pedestal = (PEDESTAL_SIGMA * noise).max(f32::MIN_POSITIVE);
            for (i, l) in brightness.iter().enumerate() {
                let rgb = [out[0][i], out[1][i], out[2][i]];
                let [r, g, b] = with_luminance(rgb, *l, pedestal);
                (out[0][i], out[1][i], out[2][i]) = (r, g, b);
            }
        }
        for channel in out.iter_mut() {
            for v in channel.iter_mut() {
                *v += sky;
            }
        }
    }
}
