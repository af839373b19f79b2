//! Blur taken back from the brightness, by as much as the noise allows.
//!
//! Richardson (1972, J. Opt. Soc. Am. 62, 55) and Lucy (1974, AJ 79, 745), the residual of each round being
//! cleared of what is no more than noise (after Starck & Murtagh 1994, A&A 288, 342). The profile is the Moffat
//! function measured on the stars, as a sum of Gaussians at the nodes of Gauss-Laguerre's rule, since
//! (1 + q)^-b is a mean of exp(-t q) over gamma-distributed t: so rows and columns can be smoothed one after the
//! other. Dark rings are kept away: nothing falls below the darkest of what lies within a width of it; and bright stars,
//! whose profile nobody knows well enough, stay as they are. Colours follow the brightness.

use crate::number::Convert;
use nalgebra::SMatrix;

use super::spared::Spared;
use super::tile::Tile;

use crate::stars::moffat;

/// How blur is taken back.
#[derive(Debug, Clone, PartialEq)]
pub struct Deconvolution {
    rounds: usize,
    /// Share, and half of a symmetric kernel from its middle on.
    parts: Vec<(f32, Vec<f32>)>,
    noise: f32,
    guard: usize,
}

/// What is added to all values, in their noise, so that none is below zero.
const PEDESTAL_SIGMA: f32 = 6.0;

/// A residual of so many noise widths, as a mean over its neighbours, counts as half real.
const HALF_REAL: f32 = 1.0;

/// Gaussians that make the profile: with four it is true to a hundredth of its height.
const NODES: usize = 4;

/// A Gaussian is cut where it has fallen to a thousandth, and nowhere beyond so many pixels.
const CUT: f64 = 3.7;
const LONGEST: usize = 24;

impl Deconvolution {
    /// For stars of this width and exponent, and a brightness of this noise.
    pub fn new(fwhm_px: f64, beta: f64, rounds: usize, noise: f32) -> Self {
        let alpha = moffat::alpha(fwhm_px, beta);
        let nodes = laguerre(beta - 1.0);
        // Each Gaussian has its node's share of the height, and pi alpha^2 / t of the area for it.
        let light: f64 = nodes.iter().map(|(t, w)| w / t).sum();
        let parts = nodes
            .iter()
            .map(|(t, w)| {
                let sigma = alpha / (2.0 * t).sqrt();
                ((w / t / light).single(), half_gaussian(sigma))
            })
            .collect();
        Self {
            rounds,
            parts,
            noise,
            guard: fwhm_px.round().max(1.0).index(),
        }
    }

    /// Pixels that a piece must have around it. A round sees a kernel's length; what later rounds see of more
    /// distant places falls off as their product.
    pub fn border(&self) -> usize {
        let longest = self.parts.iter().map(|(_, k)| k.len()).max().unwrap_or(0);
        4 * longest + self.guard
    }

    /// Takes blur back from a linear piece, above the sky; bright stars stay as they are.
    pub(super) fn sharpen(&self, tile: &mut Tile, bright: &Spared) {
        let width = tile.width;
        let pedestal = PEDESTAL_SIGMA * self.noise.max(f32::MIN_POSITIVE);
        let mut planes: [Vec<f32>; 6] = std::array::from_fn(|_| tile.borrow());
        let [seen, guess, blurred, residual, mean, spare] = &mut planes;
        tile.light_into(seen);
        for v in seen.iter_mut() {
            *v = (*v + pedestal).max(0.1 * pedestal);
        }
        guess.copy_from_slice(seen);
        for _ in 0..self.rounds {
            self.blur(guess, blurred, mean, spare, width);
            for i in 0..seen.len() {
                residual[i] = seen[i] - blurred[i];
            }
            energy_around(residual, mean, spare, width);
            let half = (HALF_REAL * self.noise).powi(2);
            for i in 0..seen.len() {
                let real = mean[i] / (mean[i] + half);
                residual[i] = 1.0 + residual[i] * real / blurred[i].max(0.1 * pedestal);
            }
            self.blur(residual, blurred, mean, spare, width);
            for (g, k) in guess.iter_mut().zip(blurred.iter()) {
                *g *= k.clamp(0.25, 4.0);
            }
        }
        darkest_around(seen, mean, spare, width, self.guard);
        let marks = spare;
        marks.fill(0.0);
        if let Some(rect) = tile.rect {
            bright.mark(rect, marks);
        }
        let [red, green, blue] = &mut tile.planes;
        for i in 0..seen.len() {
            let k = guess[i].max(mean[i]) / seen[i];
            let k = 1.0 + (k - 1.0) * (1.0 - marks[i]);
            for plane in [&mut *red, &mut *green, &mut *blue] {
                plane[i] = (plane[i] + pedestal) * k - pedestal;
            }
        }
        for plane in planes {
            tile.give_back(plane);
        }
    }

    fn blur(
        &self,
        from: &[f32],
        to: &mut [f32],
        part: &mut [f32],
        spare: &mut [f32],
        width: usize,
    ) {
        to.fill(0.0);
        for (share, kernel) in &self.parts {
            gaussian(from, part, spare, width, kernel);
            for (t, p) in to.iter_mut().zip(part.iter()) {
                *t += share * p;
            }
        }
    }
}

/// Half a Gaussian, its middle first, whose whole has the sum 1.
fn half_gaussian(sigma: f64) -> Vec<f32> {
    let length = (CUT * sigma).ceil().index().clamp(1, LONGEST);
    let value = |i: usize| (-0.5 * (i.real() / sigma).powi(2)).exp();
    let sum = value(0) + 2.0 * (1..=length).map(value).sum::<f64>();
    (0..=length).map(|i| (value(i) / sum).single()).collect()
}

/// Nodes and weights of the generalised Gauss-Laguerre rule, the weights with the sum 1: eigenvalues and first
/// components of the Jacobi matrix (Golub & Welsch 1969, Math. Comp. 23, 221).
fn laguerre(a: f64) -> Vec<(f64, f64)> {
    let jacobi = SMatrix::<f64, NODES, NODES>::from_fn(|i, j| {
        let n = i.max(j).real();
        match i.abs_diff(j) {
            0 => 2.0 * n + 1.0 + a,
            1 => (n * (n + a)).sqrt(),
            _ => 0.0,
        }
    });
    let eigen = jacobi.symmetric_eigen();
    (0..NODES)
        .map(|k| (eigen.eigenvalues[k], eigen.eigenvectors[(0, k)].powi(2)))
        .collect()
}

/// Smooths rows and columns with half a kernel; the edge's pixel goes on beyond it.
pub(crate) fn gaussian(
    from: &[f32],
    to: &mut [f32],
    spare: &mut [f32],
    width: usize,
    kernel: &[f32],
) {
    let height = from.len() / width;
    let reach = kernel.len() - 1;
    let mut wide = vec![0.0; width + 2 * reach];
    for (row, out) in from.chunks_exact(width).zip(spare.chunks_exact_mut(width)) {
        wide[..reach].fill(row[0]);
        wide[reach..reach + width].copy_from_slice(row);
        wide[reach + width..].fill(row[width - 1]);
        out.fill(0.0);
        add(&wide[reach..reach + width], kernel[0], out);
        for (d, k) in kernel.iter().enumerate().skip(1) {
            add(&wide[reach - d..reach - d + width], *k, out);
            add(&wide[reach + d..reach + d + width], *k, out);
        }
    }
    for (y, out) in to.chunks_exact_mut(width).enumerate() {
        let row = |y: usize| &spare[y * width..(y + 1) * width];
        out.fill(0.0);
        add(row(y), kernel[0], out);
        for (d, k) in kernel.iter().enumerate().skip(1) {
            add(row(y.saturating_sub(d)), *k, out);
            add(row((y + d).min(height - 1)), *k, out);
        }
    }
}

#[multiversion::multiversion(targets("x86_64+avx2"))]
fn add(from: &[f32], k: f32, to: &mut [f32]) {
    for (t, f) in to.iter_mut().zip(from) {
        *t += k * f;
    }
}

/// The mean square over 5 x 5 pixels.
fn energy_around(values: &[f32], out: &mut [f32], spare: &mut [f32], width: usize) {
    const FIFTH: [f32; 3] = [0.2, 0.2, 0.2];
    for (o, v) in out.iter_mut().zip(values) {
        *o = v * v;
    }
    let squares = out.to_vec();
    gaussian(&squares, out, spare, width, &FIFTH);
}

/// The lowest value within `reach` pixels in rows and columns.
fn darkest_around(values: &[f32], out: &mut [f32], spare: &mut [f32], width: usize, reach: usize) {
    let height = values.len() / width;
    for (row, o) in values
        .chunks_exact(width)
        .zip(spare.chunks_exact_mut(width))
    {
        for (x, o) in o.iter_mut().enumerate() {
            let around = &row[x.saturating_sub(reach)..(x + reach + 1).min(width)];
            *o = around.iter().copied().fold(f32::INFINITY, f32::min);
        }
    }
    for (y, o) in out.chunks_exact_mut(width).enumerate() {
        o.fill(f32::INFINITY);
        for r in y.saturating_sub(reach)..(y + reach + 1).min(height) {
            for (o, v) in o.iter_mut().zip(&spare[r * width..(r + 1) * width]) {
                *o = o.min(*v);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIDE: usize = 121;

    #[test]
    fn a_few_gaussians_are_a_moffat() {
        for beta in [2.5, 3.5, 5.0] {
            let nodes = laguerre(beta - 1.0);
            for q in [0.0f64, 0.5, 1.0, 3.0] {
                let sum: f64 = nodes.iter().map(|(t, w)| w * (-t * q).exp()).sum();
                let truth = (1.0 + q).powf(-beta);
                assert!((sum - truth).abs() < 0.012, "{beta} {q}: {sum} {truth}");
            }
        }
    }

    /// A star of light 1e5 and width 4 on a pedestal, blurred by the profile itself.
    fn star() -> (Tile, Deconvolution) {
        let how = Deconvolution::new(4.0, 3.5, 25, 1.0);
        let mut point = vec![0.0; SIDE * SIDE];
        point[60 * SIDE + 60] = 1e5;
        let mut tile = Tile::square(SIDE);
        let (mut part, mut spare) = (point.clone(), point.clone());
        for plane in &mut tile.planes {
            how.blur(&point, plane, &mut part, &mut spare, SIDE);
        }
        (tile, how)
    }

    #[test]
    fn a_star_becomes_narrower_keeps_its_light_and_gets_no_ring() {
        let (mut tile, how) = star();
        let before = tile.planes[0].clone();
        how.sharpen(&mut tile, &Spared::default());
        let after = &tile.planes[0];
        let (sum, was): (f32, f32) = (after.iter().sum(), before.iter().sum());
        assert!((sum / was - 1.0).abs() < 0.03, "{sum} {was}");
        let middle = 60 * SIDE + 60;
        assert!(after[middle] > 2.0 * before[middle]);
        let lowest = after.iter().copied().fold(f32::INFINITY, f32::min);
        assert!(lowest > -0.5, "{lowest}");
    }

    #[test]
    fn noise_is_not_made_into_structure() {
        let (mut tile, how) = star();
        for (i, v) in tile.planes.iter_mut().flatten().enumerate() {
            *v = (((i * 7919) % 1009).single() / 1009.0 - 0.5) * 3.46;
        }
        let spread = |p: &[f32]| (p.iter().map(|v| v * v).sum::<f32>() / p.len().single()).sqrt();
        let before = spread(&tile.planes[0]);
        how.sharpen(&mut tile, &Spared::default());
        assert!(spread(&tile.planes[0]) < 1.6 * before);
    }
}
