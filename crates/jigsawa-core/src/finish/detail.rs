//! Small detail on the picture for the eye, sharpened.
//!
//! The brightness (the mean of the channels) is taken apart into starlet scales; the finest are added once more by
//! a part. What is smaller than the noise that is left is not, nor are stars, which ring when they are sharpened.
//! Colours follow the brightness, so that hue and saturation stay.

use super::saturation::within_range;
use super::starlet::{reach, smooth};
use super::stream::Stream;
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
        let [mut light, mut more] = [tile.borrow(), tile.borrow()];
        tile.light_into(&mut light);
        more.fill(0.0);
        let mut noise = self.noise;
        let scales = SCALES.map(|share| {
            let half = (HALF_REAL * noise).powi(2).max(f32::MIN_POSITIVE);
            noise *= FALL;
            (self.part * share, half)
        });
        let mut stream = Stream::new(SCALES.len(), (width, light.len() / width.max(1)));
        for row in light.chunks_exact(width) {
            stream.take(row);
            stream.smooth(&mut |scale, y, rough, smooth| {
                let (gain, half) = scales[scale];
                add_real(&mut more[y * width..][..width], rough, smooth, gain, half);
            });
        }
        lift(tile, &light, &mut more);
        for plane in [light, more] {
            tile.give_back(plane);
        }
    }
}

/// Brings the brightness `light` of a piece to what `more` is added to it, colours with it.
fn lift(tile: &mut Tile, light: &[f32], more: &mut [f32]) {
    wanted(light, &tile.stars, more);
    let wanted = more;
    let [red, green, blue] = &mut tile.planes;
    if brighten([red, green, blue], light, wanted) {
        return;
    }
    // Few are brighter than the screen, and were left as they are.
    for (i, wanted) in wanted.iter().enumerate().filter(|(_, w)| **w >= 0.0) {
        let k = wanted / light[i];
        let lifted = [red[i] * k, green[i] * k, blue[i] * k];
        [red[i], green[i], blue[i]] = within_range(lifted, *wanted, 1.0);
    }
}

/// Turns what is to be added to the brightness into what it shall be.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn wanted(light: &[f32], stars: &[f32], more: &mut [f32]) {
    for ((m, l), star) in more.iter_mut().zip(light).zip(stars) {
        // Room to black and to white keeps both from clipping.
        let room = (4.0 * l * (1.0 - l)).clamp(0.0, 1.0);
        *m = (l + *m * room * (1.0 - star)).clamp(0.0, 1.0);
    }
}

/// Multiplies the channels by what brings their brightness to `wanted`, where none becomes brighter than the screen; what is
/// done becomes -1. Is that all?
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn brighten([red, green, blue]: [&mut [f32]; 3], light: &[f32], wanted: &mut [f32]) -> bool {
    let n = wanted.len();
    let (red, green, blue, light) = (&mut red[..n], &mut green[..n], &mut blue[..n], &light[..n]);
    let mut left = 0u32;
    for i in 0..n {
        let l = light[i];
        let k = if l > 1e-6 { wanted[i] / l } else { 1.0 };
        let lifted = [red[i] * k, green[i] * k, blue[i] * k];
        let most = lifted[0].max(lifted[1]).max(lifted[2]);
        // A colour that is not asked to change keeps what it has, even beyond the screen.
        let over = most > 1.0 && l > 1e-6 && wanted[i] != l;
        left += u32::from(over);
        red[i] = if over { red[i] } else { lifted[0] };
        green[i] = if over { green[i] } else { lifted[1] };
        blue[i] = if over { blue[i] } else { lifted[2] };
        wanted[i] = if over { wanted[i] } else { -1.0 };
    }
    left == 0
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
