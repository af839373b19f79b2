//! Small detail on the picture for the eye, sharpened.
//!
//! The brightness (the mean of the channels) is taken apart into starlet scales; the finest are added once more by
//! a part. What is smaller than the noise that is left is not, nor are stars, which ring when they are sharpened.
//! Colours follow the brightness, so that hue and saturation stay.

use super::saturation::within_range;
use super::starlet::{reach, smooth};
use super::tile::Tile;
use crate::robust::quantile;

/// How much is added of each scale.
#[derive(Debug, Clone, PartialEq)]
pub struct Detail {
    /// The part that is added.
    part: f32,
    /// Noise of the finest scale on the screen.
    noise: f32,
}

/// Scales that are sharpened, finest first, with their shares: structures of one to four pixels.
const SCALES: [f32; 3] = [1.0, 0.8, 0.3];

/// A structure of so many noise widths counts as half real.
const HALF_REAL: f32 = 3.0;

/// Noise falls by about this factor from scale to scale, once the finest is passed.
const FALL: f32 = 0.45;

impl Detail {
    /// Small structures lifted by a part of themselves.
    pub const fn sharper(part: f32, noise: f32) -> Self {
        Self { part, noise }
    }

    /// Is anything to be done?
    pub fn acts(&self) -> bool {
        self.part != 0.0
    }

    /// Pixels that a piece must have around it.
    pub const fn border() -> usize {
        reach(SCALES.len())
    }

    /// Lifts the detail of a piece of the picture for the eye.
    pub fn lift(&self, tile: &mut Tile) {
        if self.part == 0.0 {
            return;
        }
        let width = tile.width;
        let [mut light, mut a, mut b] = [tile.borrow(), tile.borrow(), tile.borrow()];
        let [mut more, mut spare] = [tile.borrow(), tile.borrow()];
        tile.light_into(&mut light);
        a.copy_from_slice(&light);
        more.fill(0.0);
        let mut noise = self.noise;
        for (j, share) in SCALES.iter().enumerate() {
            let gain = self.part * share;
            smooth(&a, &mut b, &mut spare, width, 1 << j);
            let half = (HALF_REAL * noise).powi(2).max(f32::MIN_POSITIVE);
            add_real(&mut more, &a, &b, gain, half);
            noise *= FALL;
            std::mem::swap(&mut a, &mut b);
        }
        let [red, green, blue] = &mut tile.planes;
        for i in 0..more.len() {
            let l = light[i];
            // Room to black and to white keeps both from clipping.
            let room = (4.0 * l * (1.0 - l)).clamp(0.0, 1.0);
            let wanted = (l + more[i] * room * (1.0 - tile.stars[i])).clamp(0.0, 1.0);
            if l > 1e-6 && wanted != l {
                let k = wanted / l;
                let lifted = [red[i] * k, green[i] * k, blue[i] * k];
                let most = lifted[0].max(lifted[1]).max(lifted[2]);
                [red[i], green[i], blue[i]] = if most <= 1.0 {
                    lifted
                } else {
                    within_range(lifted, wanted, 1.0)
                };
            }
        }
        for plane in [light, a, b, more, spare] {
            tile.give_back(plane);
        }
    }
}

/// Adds a scale's structure by the part of it that is real.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn add_real(more: &mut [f32], a: &[f32], b: &[f32], gain: f32, half: f32) {
    let n = more.len();
    let (a, b) = (&a[..n], &b[..n]);
    for i in 0..n {
        let w = a[i] - b[i];
        let square = w * w;
        more[i] += gain * w * square / (square + half);
    }
}

/// The finest structure of the brightness of the darker third of a piece on the screen.
pub(super) fn finest_in_the_dark(tile: &mut Tile) -> Vec<f32> {
    let mut light = tile.borrow();
    let [mut a, mut spare] = [tile.borrow(), tile.borrow()];
    tile.light_into(&mut light);
    smooth(&light, &mut a, &mut spare, tile.width, 1);
    let bar = quantile(&mut a.clone(), 0.33);
    let dark = (0..a.len())
        .step_by(5)
        .filter(|i| a[*i] <= bar && tile.stars[*i] < 0.01)
        .map(|i| light[i] - a[i])
        .collect();
    for plane in [light, a, spare] {
        tile.give_back(plane);
    }
    dark
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number::Convert;

    const SIDE: usize = 200;

    fn waves(length: f32, height: f32) -> Tile {
        let mut tile = Tile::square(SIDE);
        for i in 0..SIDE * SIDE {
            let v = 0.5 + height * (std::f32::consts::TAU * (i % SIDE).single() / length).sin();
            for (plane, k) in tile.planes.iter_mut().zip([1.1, 1.0, 0.9]) {
                plane[i] = k * v;
            }
        }
        tile
    }

    fn height(tile: &Tile) -> f32 {
        let row = &tile.planes[1][100 * SIDE + 70..100 * SIDE + 130];
        let most = row.iter().copied().fold(0.0, f32::max);
        0.5 * (most - row.iter().copied().fold(1.0, f32::min))
    }

    #[test]
    fn small_structures_are_lifted_and_keep_their_hue() {
        let how = Detail::sharper(0.8, 1e-4);
        let mut tile = waves(4.0, 0.05);
        how.lift(&mut tile);
        assert!(height(&tile) > 0.065, "{}", height(&tile));
        let i = 100 * SIDE + 100;
        assert!((tile.planes[0][i] / tile.planes[2][i] - 1.1 / 0.9).abs() < 1e-3);
        let mut tile = waves(60.0, 0.05);
        how.lift(&mut tile);
        assert!(height(&tile) < 0.053, "{}", height(&tile));
    }

    #[test]
    fn noise_and_stars_are_not_lifted() {
        let how = Detail::sharper(0.8, 0.05);
        let mut tile = waves(4.0, 0.01);
        how.lift(&mut tile);
        assert!(height(&tile) < 0.0105);
        let mut tile = waves(4.0, 0.05);
        tile.stars.fill(1.0);
        Detail::sharper(0.8, 1e-4).lift(&mut tile);
        assert!((height(&tile) - height(&waves(4.0, 0.05))).abs() < 1e-6);
    }
}
