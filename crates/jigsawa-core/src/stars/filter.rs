//! The matched filter: a frame, less its sky, correlated with a Gaussian as wide as its stars, which
//! is the best linear detector of a point in white noise. Works on bands of rows, so that memory
//! does not grow with the frame.

use crate::number::Convert;
use multiversion::multiversion;

use crate::plane::Plane;

use super::shape::Shape;
use super::sky::SkyMesh;

/// Full width at half maximum over sigma of a Gaussian: 2 sqrt(2 ln 2).
pub(crate) const FWHM_PER_SIGMA: f64 = 2.354_820_045_030_949;

/// A separable Gaussian whose response at a star's centre is the star's amplitude.
#[derive(Debug, Clone)]
pub(crate) struct MatchedFilter {
    /// Taps from the centre outwards; the same in x and y.
    taps: Vec<f32>,
    /// Noise of the response for white noise of 1 a pixel.
    pub(crate) noise_gain: f32,
    /// For long stars: weights of (2 r + 1)^2 pixels, row by row.
    long: Option<Vec<f32>>,
}

impl MatchedFilter {
    /// A filter for stars of this full width at half maximum.
    pub(crate) fn new(fwhm_px: f64) -> Self {
        let sigma = (fwhm_px / FWHM_PER_SIGMA).max(0.45);
        let radius = (3.0 * sigma).ceil().index();
        let g: Vec<f64> = (0..=radius)
            .map(|i| (-0.5 * (i.real() / sigma).powi(2)).exp())
            .collect();
        let energy = 2.0 * g.iter().map(|v| v * v).sum::<f64>() - 1.0;
        Self {
            taps: g.iter().map(|v| (v / energy).single()).collect(),
            noise_gain: (1.0 / energy).single(),
            long: None,
        }
    }

    /// A filter for stars of this width (the geometric mean of both axes) and shape. Up to an elongation of
    /// [`LONG`] the round one loses less than a fiftieth of a star's height over the noise, and is a tenth of the work.
    pub(super) fn shaped(fwhm_px: f64, shape: Shape) -> Self {
        if shape.elongation() < LONG {
            return Self::new(fwhm_px);
        }
        let sigma = (fwhm_px / FWHM_PER_SIGMA).max(0.45);
        let stretch = shape.elongation().min(MOST_LONG).sqrt();
        let (a, b) = (sigma * stretch, (sigma / stretch).max(0.4));
        let r = (2.6 * a).ceil().whole();
        let (s, c) = shape.angle_rad().sin_cos();
        let at = |x: i64, y: i64| {
            let (x, y) = (x.real(), y.real());
            let (u, v) = (x * c + y * s, y * c - x * s);
            (-0.5 * ((u / a).powi(2) + (v / b).powi(2))).exp()
        };
        let all: Vec<f64> = (-r..=r)
            .flat_map(|y| (-r..=r).map(move |x| at(x, y)))
            .collect();
        // A response of 1 to itself: a sum of squares of 1 for a peak of 1.
        let energy: f64 = all.iter().map(|v| v * v).sum();
        Self {
            taps: vec![0.0; r.index() + 1],
            noise_gain: (1.0 / energy.sqrt()).single(),
            long: Some(all.iter().map(|v| (v / energy).single()).collect()),
        }
    }

    /// Pixels that the filter reaches to each side.
    pub(crate) fn radius(&self) -> usize {
        self.taps.len() - 1
    }

    /// Distance at which a star of this width has no light left in the response: two full widths.
    pub(crate) fn ring(&self) -> usize {
        // The filter reaches three sigma, or 1.3 full widths: 1.6 reaches are two of them; a long one reaches less.
        (1.6 * self.radius().real()).ceil().index() + 1
    }

    /// The response in rows `from..to` (which may reach outside: rows of zeros there), into `out`,
    /// row after row of the plane's width. Missing pixels count as sky.
    pub(crate) fn rows(
        &self,
        plane: &Plane,
        sky: &SkyMesh,
        (from, to): (i64, i64),
        scratch: &mut Scratch,
        out: &mut Vec<f32>,
    ) {
        let width = plane.size().width();
        let r = self.radius();
        let tall = (to - from).index() + 2 * r;
        scratch.across.resize(tall * width, 0.0);
        // The margins must be zero, whatever a filter of another width has left there.
        scratch.padded.clear();
        scratch.padded.resize(width + 2 * r, 0.0);
        scratch.sky.resize(width, 0.0);
        for (i, across) in scratch.across.chunks_exact_mut(width).enumerate() {
            let y = from - r.whole() + i.whole();
            if y < 0 || y >= plane.size().height().whole() {
                across.fill(0.0);
                continue;
            }
            sky.level_row(y.index(), &mut scratch.sky);
            let middle = &mut scratch.padded[r..r + width];
            above(plane.row(y.index()), &scratch.sky, middle);
            if self.long.is_some() {
                across.copy_from_slice(&scratch.padded[r..r + width]);
            } else {
                correlate_row(&scratch.padded, &self.taps, across);
            }
        }
        out.resize((to - from).index() * width, 0.0);
        if let Some(long) = &self.long {
            correlate(&scratch.across, long, (width, r), &mut scratch.padded, out);
            return;
        }
        for (i, row) in out.chunks_exact_mut(width).enumerate() {
            for (c, part) in row.chunks_mut(CHUNK).enumerate() {
                let n = part.len();
                let across = |j: usize| &scratch.across[j * width + c * CHUNK..][..n];
                weigh(&self.taps, |k| across((i + r).wrapping_add_signed(k)), part);
            }
        }
    }
}

/// Columns taken at a time: with all that goes into them they stay in the first-level cache, which
/// whole rows of a large frame do not.
const CHUNK: usize = 1024;

/// Memory of [`MatchedFilter::rows`], kept from band to band.
#[derive(Default)]
pub(crate) struct Scratch {
    padded: Vec<f32>,
    sky: Vec<f32>,
    across: Vec<f32>,
}

/// From this elongation on stars are looked for with a filter of their own shape, up to this one.
const LONG: f64 = 1.5;
const MOST_LONG: f64 = 3.5;

/// Each row of `out` from the 2 r + 1 rows of `from` around it, with weights for all of their pixels.
fn correlate(
    from: &[f32],
    weights: &[f32],
    (width, r): (usize, usize),
    padded: &mut Vec<f32>,
    out: &mut [f32],
) {
    out.fill(0.0);
    padded.clear();
    padded.resize(width + 2 * r, 0.0);
    let side = 2 * r + 1;
    for (j, row) in from.chunks_exact(width).enumerate() {
        padded[r..r + width].copy_from_slice(row);
        for (k, weights) in weights.chunks_exact(side).enumerate() {
            // Row j lies k - r below the row that it counts for.
            let Some(i) = j.checked_sub(k).filter(|i| *i < out.len() / width) else {
                continue;
            };
            let out = &mut out[i * width..(i + 1) * width];
            for (x, w) in weights.iter().enumerate() {
                add_scaled(&padded[x..x + width], *w, out);
            }
        }
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn add_scaled(from: &[f32], by: f32, out: &mut [f32]) {
    for (o, v) in out.iter_mut().zip(from) {
        *o += by * v;
    }
}

/// `out[x] = sum of taps[|k|] * padded[x + r + k]` over k in -r..=r.
fn correlate_row(padded: &[f32], taps: &[f32], out: &mut [f32]) {
    let r = taps.len() - 1;
    for (c, part) in out.chunks_mut(CHUNK).enumerate() {
        let (n, middle) = (part.len(), r + c * CHUNK);
        weigh(
            taps,
            |k| &padded[middle.wrapping_add_signed(k)..][..n],
            part,
        );
    }
}

/// `out = sum of taps[|k|] * run(k)` over k in -r..=r, four pairs of runs at a time: what is summed up
/// goes to memory and back a quarter as often.
fn weigh<'a>(taps: &[f32], run: impl Fn(isize) -> &'a [f32], out: &mut [f32]) {
    let mut fours = taps[1..].chunks_exact(4);
    let rest = fours.remainder();
    let mut k = 1isize;
    let four = |four: &[f32], k: isize| {
        let pair = |i: isize| (run(-k - i), run(k + i));
        let weights = [four[0], four[1], four[2], four[3]];
        ([pair(0), pair(1), pair(2), pair(3)], weights)
    };
    if let Some(first) = fours.next() {
        let (pairs, weights) = four(first, k);
        set_four((run(0), taps[0]), pairs, weights, out);
        k += 4;
    } else {
        scale_row(run(0), taps[0], out);
    }
    for next in fours {
        let (pairs, weights) = four(next, k);
        add_four(pairs, weights, out);
        k += 4;
    }
    for tap in rest {
        add_pair(run(-k), run(k), *tap, out);
        k += 1;
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn scale_row(from: &[f32], by: f32, out: &mut [f32]) {
    for (o, v) in out.iter_mut().zip(from) {
        *o = by * v;
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn add_pair(a: &[f32], b: &[f32], by: f32, out: &mut [f32]) {
    for ((o, a), b) in out.iter_mut().zip(a).zip(b) {
        *o += by * (a + b);
    }
}

/// A row above its sky, 0 where it is missing.
#[multiversion(targets("x86_64+avx2"))]
fn above(row: &[f32], sky: &[f32], out: &mut [f32]) {
    for ((d, v), s) in out.iter_mut().zip(row).zip(sky) {
        let above = v - s;
        *d = if above.is_finite() { above } else { 0.0 };
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn set_four(
    (middle, own): (&[f32], f32),
    pairs: [(&[f32], &[f32]); 4],
    by: [f32; 4],
    out: &mut [f32],
) {
    let n = out.len();
    let [(a, b), (c, d), (e, f), (g, h)] = pairs.map(|(a, b)| (&a[..n], &b[..n]));
    let middle = &middle[..n];
    for i in 0..n {
        out[i] = own * middle[i]
            + (by[0] * (a[i] + b[i])
                + by[1] * (c[i] + d[i])
                + by[2] * (e[i] + f[i])
                + by[3] * (g[i] + h[i]));
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn add_four(pairs: [(&[f32], &[f32]); 4], by: [f32; 4], out: &mut [f32]) {
    let n = out.len();
    let [(a, b), (c, d), (e, f), (g, h)] = pairs.map(|(a, b)| (&a[..n], &b[..n]));
    for i in 0..n {
        out[i] += by[0] * (a[i] + b[i])
            + by[1] * (c[i] + d[i])
            + by[2] * (e[i] + f[i])
            + by[3] * (g[i] + h[i]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn memory_that_another_filter_has_used_changes_nothing() {
        let size = Size::new(80, 70).unwrap();
        let plane = Plane::from_fn(size, |x, y| 500.0 + ((x * 31 + y * 17) % 23).single());
        let sky = SkyMesh::measure(&plane).unwrap();
        let rows = |fwhm: f64, scratch: &mut Scratch| {
            let mut out = vec![7.0; 12];
            MatchedFilter::new(fwhm).rows(&plane, &sky, (-3, 72), scratch, &mut out);
            out
        };
        let fresh = rows(2.4, &mut Scratch::default());
        let mut used = Scratch::default();
        rows(6.5, &mut used);
        assert_eq!(rows(2.4, &mut used), fresh);
        rows(1.2, &mut used);
        assert_eq!(rows(2.4, &mut used), fresh);
    }

    #[test]
    fn a_long_star_gives_a_filter_of_its_shape_its_height() {
        let (fwhm, size) = (3.4, Size::new(90, 80).unwrap());
        let shape = Shape::of(2.5, 0.6);
        let (s, c) = 0.6f64.sin_cos();
        let (a, b) = (
            fwhm / FWHM_PER_SIGMA * 2.5f64.sqrt(),
            fwhm / FWHM_PER_SIGMA / 2.5f64.sqrt(),
        );
        let plane = Plane::from_fn(size, |x, y| {
            let (dx, dy) = (x.real() - 40.0, y.real() - 33.0);
            let (u, v) = (dx * c + dy * s, dy * c - dx * s);
            (500.0 + 90.0 * (-0.5 * ((u / a).powi(2) + (v / b).powi(2))).exp()).single()
        });
        let sky = SkyMesh::measure(&Plane::filled(size, 500.0)).unwrap();
        let at = |filter: &MatchedFilter| {
            let mut out = Vec::new();
            filter.rows(&plane, &sky, (-2, 82), &mut Scratch::default(), &mut out);
            f64::from(out[(33 + 2) * 90 + 40])
        };
        let (long, round) = (MatchedFilter::shaped(fwhm, shape), MatchedFilter::new(fwhm));
        assert!((at(&long) - 90.0).abs() < 0.1, "{}", at(&long));
        let gain = |f: &MatchedFilter| at(f) / f64::from(f.noise_gain);
        assert!(
            gain(&long) > 1.08 * gain(&round),
            "{} {}",
            gain(&long),
            gain(&round)
        );
    }

    #[test]
    fn the_response_at_a_gaussian_star_is_its_amplitude() {
        let (fwhm, size) = (3.2, Size::new(80, 70).unwrap());
        let s = fwhm / FWHM_PER_SIGMA;
        let plane = Plane::from_fn(size, |x, y| {
            let d2 = (x.real() - 40.0).powi(2) + (y.real() - 33.0).powi(2);
            (500.0 + 90.0 * (-0.5 * d2 / (s * s)).exp()).single()
        });
        let sky = SkyMesh::measure(&Plane::filled(size, 500.0)).unwrap();
        let filter = MatchedFilter::new(fwhm);
        let mut out = Vec::new();
        filter.rows(&plane, &sky, (-2, 72), &mut Scratch::default(), &mut out);
        let at = |x: usize, y: usize| out[(y + 2) * 80 + x];
        assert!((at(40, 33) - 90.0).abs() < 0.1, "{}", at(40, 33));
        assert!(at(0, 0).abs() < 1e-3);
    }
}
