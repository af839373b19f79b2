//! How a camera counts light, and what averaging sub-frames leaves of its noise.

use jigsawa_core::number::Convert;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use rayon::prelude::*;
use serde::Serialize;

/// The numbers of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Numbers {
    /// 32-bit float.
    Float,
    /// Whole numbers from 0 to 65535.
    Sixteen,
}

/// A camera and its settings.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Camera {
    /// Electrons for one unit of the file.
    pub gain_e_adu: f64,
    /// Read noise of one sub-frame.
    pub read_noise_e: f64,
    /// Units that a dark pixel has.
    pub offset_adu: f64,
    /// Units at which a pixel is full.
    pub full_adu: f64,
    /// What the file holds.
    pub numbers: Numbers,
    /// The part of the charge above a full pixel that flows up and down its column; the rest is drained off.
    pub bloom: f64,
}

impl Camera {
    /// A usual 16-bit camera that writes float masters.
    pub const fn usual() -> Self {
        Self {
            gain_e_adu: 0.8,
            read_noise_e: 1.8,
            offset_adu: 500.0,
            full_adu: 62_000.0,
            numbers: Numbers::Float,
            bloom: 0.0,
        }
    }

    /// Units for this many electrons, without noise.
    pub fn units(&self, electrons: f64) -> f64 {
        self.offset_adu + electrons / self.gain_e_adu
    }

    /// Noise in units of a mean of `subs` sub-frames where a pixel gets this many electrons.
    pub fn noise(&self, electrons: f64, subs: u32) -> f64 {
        let variance = electrons.max(0.0) + self.read_noise_e * self.read_noise_e;
        (variance / f64::from(subs)).sqrt() / self.gain_e_adu
    }

    /// Electrons at which a pixel is full.
    pub fn full_electrons(&self) -> f64 {
        (self.full_adu - self.offset_adu) * self.gain_e_adu
    }

    /// Lets the charge of full pixels flow along their columns.
    pub(crate) fn overflow(&self, electrons: &mut [f32], width: usize) {
        if self.bloom <= 0.0 {
            return;
        }
        let full = self.full_electrons().single();
        let height = electrons.len() / width;
        for x in 0..width {
            let mut y = 0;
            while y < height {
                if electrons[y * width + x] <= full {
                    y += 1;
                    continue;
                }
                let from = y;
                let mut excess = 0.0;
                while y < height && electrons[y * width + x] > full {
                    excess += electrons[y * width + x] - full;
                    y += 1;
                }
                // Pixels of the run itself stay above full, and are counted as such.
                let flows = 0.5 * self.bloom.single() * excess;
                let (mut up, mut down) = (flows, flows);
                for row in (0..from).rev() {
                    pour(&mut electrons[row * width + x], full, &mut up);
                }
                for row in y..height {
                    pour(&mut electrons[row * width + x], full, &mut down);
                }
            }
        }
    }

    /// Turns electrons into the units of a mean of `subs` sub-frames, with noise.
    pub(crate) fn count(&self, electrons: &mut [f32], width: usize, subs: u32, seed: u64) {
        electrons
            .par_chunks_mut(width)
            .enumerate()
            .for_each(|(y, row)| {
                let mut rng = ChaCha8Rng::seed_from_u64(seed);
                rng.set_stream(y as u64);
                for v in row {
                    let e = f64::from(*v);
                    let noise: f64 = StandardNormal.sample(&mut rng);
                    // A full pixel is full in every sub-frame: no noise is left above.
                    let u = (self.units(e) + noise * self.noise(e, subs)).min(self.full_adu);
                    *v = match self.numbers {
                        Numbers::Float => u.single(),
                        Numbers::Sixteen => u.round().clamp(0.0, 65_535.0).single(),
                    };
                }
            });
    }
}

/// Fills a pixel up from what flows.
fn pour(pixel: &mut f32, full: f32, flows: &mut f32) {
    let room = (full - *pixel).clamp(0.0, *flows);
    *pixel += room;
    *flows -= room;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn charge_flows_along_the_column_until_it_is_spent() {
        let camera = Camera {
            bloom: 0.5,
            ..Camera::usual()
        };
        let full = camera.full_electrons().single();
        let mut pixels = vec![0.0f32; 5 * 41];
        pixels[20 * 5 + 2] = 11.0 * full;
        camera.overflow(&mut pixels, 5);
        let column: Vec<f32> = (0..41).map(|y| pixels[y * 5 + 2]).collect();
        // Ten full pixels too many, half of which flow: two and a half each way.
        assert_eq!(column[18..20], [full, full]);
        assert_eq!(column[17], 0.5 * full);
        assert_eq!(column[16], 0.0);
        assert_eq!(column[23], 0.5 * full);
        assert!(
            pixels
                .iter()
                .enumerate()
                .all(|(i, v)| i % 5 == 2 || *v == 0.0)
        );
    }

    #[test]
    fn level_and_noise_are_as_said() {
        let camera = Camera::usual();
        let mut pixels = vec![400.0f32; 40_000];
        camera.count(&mut pixels, 200, 16, 7);
        let n = pixels.len().real();
        let mean = pixels.iter().map(|v| f64::from(*v)).sum::<f64>() / n;
        let var = pixels
            .iter()
            .map(|v| (f64::from(*v) - mean).powi(2))
            .sum::<f64>()
            / n;
        assert!((mean - 1000.0).abs() < 0.15, "{mean}");
        assert!((var.sqrt() / camera.noise(400.0, 16) - 1.0).abs() < 0.015);
    }

    #[test]
    fn sixteen_bits_are_whole_and_full_pixels_are_flat() {
        let camera = Camera {
            numbers: Numbers::Sixteen,
            ..Camera::usual()
        };
        let mut pixels = vec![300.0f32, 1e6, 2e6];
        camera.count(&mut pixels, 3, 4, 1);
        assert_eq!(pixels[0].fract(), 0.0);
        assert_eq!(pixels[1..], [62_000.0, 62_000.0]);
    }
}
