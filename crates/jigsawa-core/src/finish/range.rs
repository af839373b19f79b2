//! Range compression: a bright core and the faint light around it brought into one picture.
//!
//! A curve for all of the picture that shows the shell burns the core, and one that shows the core drowns the shell.
//! Here light is multiplied by a factor that depends on how bright the surroundings are, seen at several scales: what
//! is bright over a wide area is held back, and its structures keep their contrast, since all of one place are
//! multiplied alike. The surroundings are smoothed without crossing edges (edge-avoiding à trous wavelets: Fattal 2009,
//! ACM TOG 28, 22; Dammertz, Sewtz, Hanika & Lensch 2010, HPG), in the logarithm of light, so that no halo is left
//! around the core; and the factor falls more slowly than light rises, so that a core stays the brightest there is.
//! Stars are taken out of the surroundings by a grey opening before: they keep their light relative to their place.

use crate::number::Convert;
use rayon::prelude::*;

use super::factors::Factors;
use super::opening::opened;
use crate::plane::Plane;
use crate::robust::quantile;

/// What is left as it is: light up to that of this part of the picture.
const SHELL: f64 = 0.90;

/// Steps of the logarithm of light larger than this are edges.
const EDGE: f32 = 0.6;

/// Scales, each twice as wide, and how much the surroundings of each count.
const SHARES: [f32; 7] = [0.0, 0.15, 0.25, 0.25, 0.2, 0.1, 0.05];

/// How soon the holding back sets in, in the logarithm of light above that of the shell.
const KNEE: f32 = 0.5;

/// Factors that hold bright surroundings back.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct RangeCompression {
    factors: Factors,
}

impl RangeCompression {
    /// For the light of the picture's small copy above its sky, its pixels being `factor` of the picture's; `part` is how
    /// far bright surroundings are held back, `noise` that of the copy's pixels, `fwhm_px` the width of stars in the
    /// picture, 0 without any. `None` where nothing is brighter than the shell.
    pub(super) fn new(
        light: &Plane,
        factor: usize,
        (part, noise, fwhm_px): (f32, f32, f64),
    ) -> Option<Self> {
        let size = light.size();
        let width = size.width();
        let mut known: Vec<f32> = light
            .data()
            .iter()
            .copied()
            .filter(|v| v.is_finite())
            .collect();
        if known.is_empty() {
            return None;
        }
        let shell = quantile(&mut known, SHELL).max(10.0 * noise);
        let brightest = quantile(&mut known, 1.0 - 1e-4);
        if part <= 0.0 || shell.is_nan() || shell <= 0.0 || brightest < 2.0 * shell {
            return None;
        }
        let mut around: Vec<f32> = light
            .data()
            .iter()
            .map(|v| if *v > 0.0 { *v } else { 0.0 })
            .collect();
        if fwhm_px > 0.0 {
            opened(&mut around, width, fwhm_px / factor.real());
        }
        let mut a: Vec<f32> = around.iter().map(|v| (1.0 + v / shell).ln()).collect();
        let (mut b, mut spare) = (a.clone(), a.clone());
        let mut map = Plane::filled(size, 0.0);
        for (j, share) in SHARES.iter().enumerate() {
            smooth_within(&a, &mut b, &mut spare, width, 1 << j);
            for (m, b) in map.data_mut().iter_mut().zip(&b) {
                *m += share * held(*b, part);
            }
            std::mem::swap(&mut a, &mut b);
        }
        for m in map.data_mut() {
            *m = m.exp();
        }
        Some(Self {
            factors: Factors::new(map, factor),
        })
    }

    /// The factors along a row of the picture from column `x` on.
    pub(super) fn row(&self, x: i64, y: i64, out: &mut [f32]) {
        self.factors.row(x, y, out);
    }

    /// The factor of a pixel of the small copy.
    pub(super) fn of_small(&self, i: usize) -> f32 {
        self.factors.of_small(i)
    }
}

/// The logarithm of the factor for surroundings of this brightness, a logarithm too: 0 for the shell, and growing with
/// the logarithm of what is above it.
fn held(around: f32, part: f32) -> f32 {
    let above = (around - std::f32::consts::LN_2).max(0.0);
    part * (KNEE * (1.0 + above / KNEE).ln() - above)
}

/// The weights of the starlet's smoothing.
const TAPS: [f32; 5] = [1.0 / 16.0, 0.25, 0.375, 0.25, 1.0 / 16.0];

/// Smooths with taps `step` pixels apart, along rows and then along columns; what differs counts less.
fn smooth_within(from: &[f32], to: &mut [f32], spare: &mut [f32], width: usize, step: usize) {
    let height = from.len() / width;
    let at = |k: usize, i: usize, n: usize| -> usize {
        // Mirrored at the edges.
        let i = i.whole() + (k.whole() - 2) * step.whole();
        let last = n.whole() - 1;
        let i = i.rem_euclid((2 * last).max(1));
        i.min(2 * last - i).clamp(0, last).index()
    };
    let rows = spare.par_chunks_mut(width).zip(from.par_chunks(width));
    rows.for_each(|(out, row)| {
        let inner = (2 * step).min(width)..width.saturating_sub(2 * step).max(2 * step).min(width);
        for x in (0..inner.start).chain(inner.end..width) {
            let five: [[f32; 1]; 5] = std::array::from_fn(|k| [row[at(k, x, width)]]);
            means(five.each_ref().map(|v| &v[..]), &mut out[x..=x]);
        }
        let part = |k: usize| &row[inner.start + k * step - 2 * step..][..inner.len()];
        if !inner.is_empty() {
            means(std::array::from_fn(part), &mut out[inner.clone()]);
        }
    });
    to.par_chunks_mut(width).enumerate().for_each(|(y, out)| {
        let row = |k: usize| &spare[at(k, y, height) * width..][..width];
        means(std::array::from_fn(row), out);
    });
}

/// Means of five rows, of which the third counts most; what differs from it counts less.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn means(rows: [&[f32]; 5], out: &mut [f32]) {
    let n = out.len();
    let rows = rows.map(|r| &r[..n]);
    for i in 0..n {
        let (mut sum, mut all) = (0.0, 0.0);
        for (row, tap) in rows.iter().zip(TAPS) {
            let v = row[i];
            let off = (v - rows[2][i]) / EDGE;
            let less = 1.0 + off * off;
            let w = tap / (less * less);
            sum += w * v;
            all += w;
        }
        out[i] = sum / all;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    /// A shell of 1 with structures, and a core of up to 1000 with structures.
    fn light() -> Plane {
        Plane::from_fn(Size::new(240, 200).unwrap(), |x, y| {
            let r = (x.single() - 120.0).hypot(y.single() - 100.0);
            let core = 1000.0 / (1.0 + (r / 12.0).powi(2)).powf(1.5);
            let folds = 1.0 + 0.2 * (x.single() * 0.9).sin();
            (1.0 + core) * folds
        })
    }

    fn toned(part: f32) -> (Plane, Vec<f32>) {
        let plane = light();
        let range = RangeCompression::new(&plane, 1, (part, 0.01, 0.0)).unwrap();
        let mut out = Vec::new();
        for y in 0..200 {
            let mut row = vec![0.0; 240];
            range.row(0, y, &mut row);
            out.extend(row.iter().zip(plane.row(y.index())).map(|(f, v)| f * v));
        }
        (plane, out)
    }

    #[test]
    fn the_core_comes_near_the_shell_and_stays_the_brightest() {
        let (plane, out) = toned(1.0);
        let at = |x: usize| out[100 * 240 + x];
        // Five hundred to one becomes a hundred to one or less: with the stretch that follows both are seen.
        let (before, after) = (plane.at(120, 100) / plane.at(8, 100), at(120) / at(8));
        assert!(
            before > 400.0 && (4.0..100.0).contains(&after),
            "{before} {after}"
        );
        // Along a row light falls from the core outwards, but for the folds: no halo.
        let mean = |x: usize| (x - 7..x + 7).map(at).sum::<f32>() / 14.0;
        for x in (120..224).step_by(7) {
            assert!(
                mean(x + 7) < 1.05 * mean(x),
                "{x}: {} {}",
                mean(x),
                mean(x + 7)
            );
        }
    }

    #[test]
    fn structures_keep_their_contrast_and_faint_light_stays() {
        let (plane, out) = toned(1.0);
        let contrast = |v: &dyn Fn(usize) -> f32| {
            let values: Vec<f32> = (116..124).map(v).collect();
            let (low, high) = values
                .iter()
                .fold((f32::MAX, f32::MIN), |(a, b), v| (a.min(*v), b.max(*v)));
            high / low
        };
        let (before, after) = (
            contrast(&|x| plane.at(x.whole(), 100)),
            contrast(&|x| out[100 * 240 + x]),
        );
        assert!(after.ln() > 0.6 * before.ln(), "{before} {after}");
        let corner = out[5 * 240 + 5] / plane.at(5, 5);
        assert!((corner - 1.0).abs() < 0.02, "{corner}");
        assert!(RangeCompression::new(&plane, 1, (0.0, 0.01, 0.0)).is_none());
        let even = Plane::filled(plane.size(), 3.0);
        assert!(RangeCompression::new(&even, 1, (1.0, 0.01, 0.0)).is_none());
    }

    #[test]
    fn a_star_on_the_shell_is_not_surroundings() {
        let mut plane = Plane::from_fn(Size::new(120, 100).unwrap(), |x, _| {
            if x < 10 { 40.0 } else { 1.0 }
        });
        for (dx, dy) in [(0i64, 0i64), (1, 0), (0, 1), (-1, 0), (0, -1)] {
            plane.data_mut()[((50 + dy) * 120 + 60 + dx).index()] = 500.0;
        }
        let range = RangeCompression::new(&plane, 1, (1.0, 0.01, 3.0)).unwrap();
        let mut row = vec![0.0; 120];
        range.row(0, 50, &mut row);
        assert!((row[60] - row[90]).abs() < 1e-3, "{} {}", row[60], row[90]);
        assert!(row[3] < 0.5 * row[90]);
    }
}
