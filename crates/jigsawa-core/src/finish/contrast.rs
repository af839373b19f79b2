//! Local contrast: structures of eight to sixty-four pixels lifted against what surrounds them.
//!
//! They are seen as well on the picture's small copy, so the lift is worked out there once, over all of it, as
//! a map of factors for the brightness; a piece of the picture then takes its part of the map. Stars count for no more
//! than a nebula's brightest knots.

use super::factors::Factors;
use super::saturation::within_range;
use super::starlet::smooth;
use super::tile::Tile;
use crate::plane::Plane;

/// Shares of structures by size, from one pixel of the picture on, doubling.
const SHARES: [f32; 7] = [0.0, 0.0, 0.3, 0.7, 1.0, 1.0, 0.6];

/// Structures higher than this on the screen are lifted no further: stars.
const HIGHEST: f32 = 0.08;

/// A structure of so many noise widths counts as half real.
const HALF_REAL: f32 = 2.5;

/// Factors of the brightness over a picture.
#[derive(Debug, Clone, PartialEq)]
pub struct Contrast {
    factors: Factors,
}

impl Contrast {
    /// For the brightness of the picture's small copy on the screen, its pixels being `factor` of the
    /// picture's; `part` is how much of a structure is added to it, `noise` that of the copy's pixels.
    pub fn new(light: &Plane, factor: usize, part: f32, noise: f32) -> Self {
        let size = light.size();
        let width = size.width();
        let mut a: Vec<f32> = light
            .data()
            .iter()
            .map(|v| if v.is_finite() { *v } else { 0.0 })
            .collect();
        let mut map = Plane::filled(size, 0.0);
        let (mut b, mut spare) = (a.clone(), a.clone());
        let first = factor.ilog2() as usize;
        let mut noise = noise;
        for (j, share) in SHARES.iter().skip(first).enumerate() {
            smooth(&a, &mut b, &mut spare, width, 1 << j);
            let half = (HALF_REAL * noise).powi(2).max(f32::MIN_POSITIVE);
            for ((m, a), b) in map.data_mut().iter_mut().zip(&a).zip(&b) {
                let w = a - b;
                let real = w * w / (w * w + half);
                *m += part * share * real * w / (1.0 + w.abs() / HIGHEST);
            }
            noise *= 0.5;
            std::mem::swap(&mut a, &mut b);
        }
        for (m, l) in map.data_mut().iter_mut().zip(light.data()) {
            // Room to black and to white keeps both from clipping.
            let room = (4.0 * l * (1.0 - l)).clamp(0.0, 1.0);
            *m = if *l > 1e-4 {
                (1.0 + *m * room / l).clamp(0.5, 2.0)
            } else {
                1.0
            };
        }
        Self {
            factors: Factors::new(map, factor),
        }
    }

    /// The factors along a row of the picture from column `x` on.
    pub fn row(&self, x: i64, y: i64, out: &mut [f32]) {
        self.factors.row(x, y, out);
    }
}

/// Multiplies the brightness of a row by factors, less on stars; colours that leave the range are weakened.
pub(super) fn lift_row(tile: &mut Tile, from: usize, factors: &[f32]) {
    let row = from..from + factors.len();
    let stars = &tile.stars[row.clone()];
    lift(
        tile.planes.each_mut().map(|p| &mut p[row.clone()]),
        stars,
        factors,
    );
}

#[multiversion::multiversion(targets("x86_64+avx2"))]
fn lift([r, g, b]: [&mut [f32]; 3], stars: &[f32], factors: &[f32]) {
    let n = factors.len();
    let (r, g, b, stars) = (&mut r[..n], &mut g[..n], &mut b[..n], &stars[..n]);
    for i in 0..n {
        let k = 1.0 + (factors[i] - 1.0) * (1.0 - stars[i]);
        let rgb = [k * r[i], k * g[i], k * b[i]];
        let light = (rgb[0] + rgb[1] + rgb[2]) / 3.0;
        [r[i], g[i], b[i]] = within_range(rgb, light.min(1.0), 1.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn bands_are_lifted_against_each_other_and_even_light_is_not() {
        let size = Size::new(160, 80).unwrap();
        let bands = Plane::from_fn(size, |x, _| {
            0.4 + if (x / 5) % 2 == 0 { 0.03 } else { -0.03 }
        });
        let c = Contrast::new(&bands, 4, 0.5, 1e-4);
        let mut row = vec![0.0; 640];
        c.row(0, 160, &mut row);
        let (bright, dark) = (row[4 * 82], row[4 * 77]);
        assert!(bright > 1.005 && dark < 0.995, "{bright} {dark}");
        let even = Contrast::new(&Plane::filled(size, 0.3), 4, 0.5, 1e-4);
        even.row(-3, 10, &mut row);
        assert!(row.iter().all(|v| (v - 1.0).abs() < 1e-6));
    }
}
