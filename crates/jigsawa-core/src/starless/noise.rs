//! The noise of a picture's planes, and noise that is made up in its likeness.

use super::Planes;
use crate::doors::DoorError;
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad};
use crate::space::Rect;
use crate::stars::Catalogue;

/// Noise that is made up where nothing like it can be taken: as strong as the plane's, and tied to its neighbours as much.
#[derive(Debug, Clone, Copy)]
pub(super) struct Grain {
    sigma: f32,
    /// What each of the four neighbours adds to a pixel's own.
    share: f32,
}

impl Grain {
    /// The noise of a pixel: a normal deviate that belongs to its place.
    pub(super) fn at(self, x: i64, y: i64, plane: usize) -> f32 {
        let own = |dx: i64, dy: i64| normal(x + dx, y + dy, plane);
        let near = own(1, 0) + own(-1, 0) + own(0, 1) + own(0, -1);
        let norm = (1.0 + 4.0 * self.share * self.share).sqrt();
        self.sigma * (own(0, 0) + self.share * near) / norm
    }

    /// From the scatter of differences of neighbours, and of pixels further apart.
    fn new(next: f32, apart: f32) -> Self {
        // Sums with neighbours in this share tie next pixels together by 2 a / (1 + 4 a^2), by a half at the most.
        let tied = (1.0 - (next / apart.max(f32::MIN_POSITIVE)).powi(2)).clamp(0.0, 0.49);
        let share = if tied < 0.02 {
            0.0
        } else {
            (1.0 - (1.0 - 4.0 * tied * tied).sqrt()) / (4.0 * tied)
        };
        Self {
            sigma: apart.clamp(next, 2.0 * next),
            share,
        }
    }
}

/// Noise of a pixel in each plane, from differences of neighbours in pieces of the picture.
pub(super) fn noise(
    planes: Planes<'_>,
    catalogue: &Catalogue,
) -> Result<(Vec<f32>, Vec<Grain>), DoorError> {
    const SIDE: usize = 160;
    let size = planes[0].size();
    let (w, h) = (SIDE.min(size.width()), SIDE.min(size.height()));
    let typical = catalogue.sky.typical_sigma();
    planes
        .iter()
        .map(|plane| {
            let mut sigmas: Vec<(f32, f32)> = Vec::new();
            let mut values = vec![0.0; w * h];
            for k in 0..16 {
                let rect = Rect {
                    x: ((size.width() - w) * (k % 4) / 3).whole(),
                    y: ((size.height() - h) * (k / 4) / 3).whole(),
                    width: w,
                    height: h,
                };
                plane.read(rect, &mut values)?;
                let steps = |lag: usize| -> Option<f32> {
                    let mut steps: Vec<f32> = values
                        .chunks_exact(w)
                        .flat_map(|row| row.iter().zip(&row[lag.min(w)..]).map(|(a, b)| b - a))
                        .filter(|v| v.is_finite())
                        .collect();
                    let to_sigma = (MAD_TO_SIGMA * std::f64::consts::FRAC_1_SQRT_2).single();
                    (steps.len() > w * h / 2).then(|| mad(&mut steps, 0.0) * to_sigma)
                };
                sigmas.extend(steps(1).zip(steps(APART)));
            }
            // The quieter half: bright nebula has noise of its own.
            sigmas.sort_by(|a, b| a.0.total_cmp(&b.0));
            let (next, apart) = sigmas
                .get(sigmas.len() / 4)
                .copied()
                .unwrap_or((typical, typical));
            Ok(if next > 0.0 {
                (next, Grain::new(next, apart))
            } else {
                let sigma = typical.max(f32::MIN_POSITIVE);
                (sigma, Grain::new(sigma, sigma))
            })
        })
        .collect::<Result<Vec<_>, DoorError>>()
        .map(|all| all.into_iter().unzip())
}

/// Pixels so far apart know nothing of each other, unless nebula ties them.
const APART: usize = 4;

/// A normal deviate that belongs to a pixel: the sum of four numbers from 0 to 1 hashed from its place.
fn normal(x: i64, y: i64, plane: usize) -> f32 {
    let mut h = x.u64().wrapping_mul(0x9e37_79b9_7f4a_7c15)
        ^ y.u64().wrapping_mul(0xc2b2_ae3d_27d4_eb4f)
        ^ (plane as u64).wrapping_mul(0x1656_67b1_9e37_79f9);
    let mut sum = 0.0;
    for _ in 0..4 {
        h ^= h >> 31;
        h = h.wrapping_mul(0xbf58_476d_1ce4_e5b9);
        h ^= h >> 29;
        sum += (h >> 40).single() / (1u64 << 24).single();
    }
    // Four such numbers have a spread of the root of a third.
    (sum - 2.0) * 1.732
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn made_noise_is_as_strong_and_as_tied_as_that_it_stands_for() {
        for (next, apart, tied) in [(2.0f32, 2.0f32, 0.0f64), (1.5, 2.0, 0.44)] {
            let grain = Grain::new(next, apart);
            let row: Vec<f64> = (0..40_000)
                .map(|k| f64::from(grain.at(k % 200, k / 200, 1)))
                .collect();
            let n = row.len().real();
            let square = row.iter().map(|v| v * v).sum::<f64>() / n;
            let both = row.windows(2).map(|p| p[0] * p[1]).sum::<f64>() / n;
            assert!(
                (square.sqrt() / f64::from(apart) - 1.0).abs() < 0.03,
                "{square}"
            );
            assert!((both / square - tied).abs() < 0.04, "{both} of {square}");
        }
    }
}
