//! The noise of a frame's sky over scales, measured between its stars.
//!
//! Scatter is taken from second differences along both axes at once (Immerkaer 1996, Computer Vision and Image
//! Understanding 64, 300), in which slopes and what is bent one way drop out, in the darker half of the sky's mesh, and there
//! in the cells in which distant pixels differ least more than neighbours do: noise is tied together alike everywhere, so
//! what is more is nebula. Stars are taken out before, if they are known.
//! What is left of nebulae grows with the scale ever faster, while noise that was smoothed grows ever more slowly, which
//! holds it down. A single number from differences three pixels apart was used for everything first: it made Ha smoothed
//! by two pixels five times as deep as it was; the quieter quarter of tiles was tried then, and the darkest cells alone,
//! which a bright nebula fills.

use crate::number::Convert;
use multiversion::multiversion;
use rayon::prelude::*;

use super::{Catalogue, Flag, SkyMesh};
use crate::binned::binned;
use crate::noise::{NoiseScales, SCALES_PX};
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, grouped_median};
use crate::space::Size;

/// Blocks between those whose differences are taken: far enough that what interpolation and the usual denoising tie
/// together does not reach from one to the next, as near as that allows, so that nebulae do not count.
const LAGS: [usize; 6] = [8, 4, 2, 2, 2, 1];

/// The darker part of the sky's cells that is looked at. Of these the ones tell the noise in which distant pixels differ
/// no more against neighbours than in the quietest fifth, but for chance; and the fewest that do.
const DARKER: f64 = 0.5;
const QUIET: f64 = 0.2;
const CHANCE: f32 = 1.2;
const LEAST_CELLS: usize = 8;

/// Cells that are looked at, at the most: of a large frame every few. With all of them a survey took half as long again.
const MOST_CELLS: usize = 500;

/// And for the scatter of single pixels, of which each cell has hundreds: these tell it to half a per cent.
const PIXEL_CELLS: usize = 150;

/// Fewer differences say nothing.
const LEAST: usize = 20;

/// A pixel's scatter is looked for in differences over so many pixels. Noise that is tied together makes it grow until
/// they know nothing of each other, ever more slowly, and nebulae ever faster.
const PIXEL_LAGS: [usize; 6] = [1, 2, 3, 4, 6, 8];

/// A scatter that grows by less than this until then, in parts, is that of white noise: interpolation by half a pixel
/// and the gentlest denoising make it grow by a fifth and more.
const WHITE: f64 = 0.08;

/// A pixel's scatter by those over [`PIXEL_LAGS`]; `None` for white noise, which the first one tells best.
fn tied_pixel(near: [f32; PIXEL_LAGS.len()]) -> Option<f32> {
    let grows = |i: usize| {
        let step = (PIXEL_LAGS[i + 1].real() / PIXEL_LAGS[i].real()).ln();
        f64::from(near[i + 1] / near[i]).ln() / step
    };
    let steps: Vec<f64> = (0..near.len() - 1).map(grows).collect();
    let last = steps.len() - 1;
    let top = (0..=last).max_by(|a, b| steps[*a].total_cmp(&steps[*b]))?;
    // Where it grows fastest at the end that is nebula; else what was tied has come apart since it grew fastest.
    let from = if top == last { 0 } else { top + 1 };
    let least = (from..=last).min_by(|a, b| steps[*a].total_cmp(&steps[*b]))?;
    let pixel = near[least + 1];
    (f64::from(pixel / near[0]) > 1.0 + WHITE).then_some(pixel)
}

impl NoiseScales {
    /// Measures a plane with this sky. Stars of the catalogue do not count.
    pub fn measure(plane: &Plane, sky: &SkyMesh, stars: Option<&Catalogue>) -> Self {
        let mut half = binned(plane, 2);
        if let Some(stars) = stars {
            without(&mut half, stars);
        }
        let dark = quiet(plane, &half, darker(sky));
        let mut per_side = [f32::NAN; 6];
        let some: Vec<Patch> = dark
            .par_iter()
            .step_by(dark.len().div_ceil(PIXEL_CELLS).max(1))
            .map(|cell| Patch::seen(plane, &half, *cell))
            .collect();
        let stride = pixel_stride(plane);
        let near = PIXEL_LAGS.map(|lag| {
            let sizes = some
                .par_iter()
                .flat_map_iter(|p| p.differences((lag, 1, stride)));
            robust_scatter(sizes.collect())
        });
        if near.iter().all(|v| *v > 0.0) {
            match tied_pixel(near) {
                None => return Self::white(near[0]),
                Some(pixel) => per_side[0] = pixel,
            }
        }
        let mut blocks = half;
        for (k, side) in SCALES_PX.iter().enumerate().skip(1) {
            if k > 1 {
                blocks = halved(&blocks);
            }
            per_side[k] = scatter(&blocks, (LAGS[k], *side, 1), &dark) * (*side).single();
        }
        Self::sensible(per_side, near[0], sky.typical_sigma())
    }
}

/// Makes a frame's stars missing, as far as their light reaches, in the frame of half the size.
fn without(half: &mut Plane, stars: &Catalogue) {
    let size = half.size();
    let (w, h) = (size.width(), size.height());
    for s in &stars.stars {
        let widths = if s.flags.has(Flag::Saturated) {
            14.0
        } else {
            6.0
        };
        let reach = stars.reach_px(s, 0.1, widths).max(1.5 * stars.fwhm_px);
        let (x, y, r) = (0.5 * s.at.x - 0.25, 0.5 * s.at.y - 0.25, 0.5 * reach + 0.5);
        if !(x.is_finite() && y.is_finite() && r.is_finite()) {
            continue;
        }
        let range = |c: f64, n: usize| {
            let end = (c + r + 1.0).clamp(0.0, n.real()).index();
            (c - r).max(0.0).index().min(end)..end
        };
        for j in range(y, h) {
            let dy = j.real() - y;
            for i in range(x, w) {
                if (i.real() - x).hypot(dy) <= r {
                    half.data_mut()[j * w + i] = f32::NAN;
                }
            }
        }
    }
}

/// Means of 2 x 2 blocks; one with a missing part is missing.
fn halved(plane: &Plane) -> Plane {
    let (w, h) = (plane.size().width(), plane.size().height());
    let Some(size) = Size::new(w / 2, h / 2) else {
        return Plane::filled(plane.size(), f32::NAN);
    };
    let mut half = Plane::filled(size, 0.0);
    let rows = half.data_mut().par_chunks_mut(size.width()).enumerate();
    rows.for_each(|(y, out)| quarter([2 * y, 2 * y + 1].map(|y| plane.row(y)), out));
    half
}

#[multiversion(targets("x86_64+avx2"))]
fn quarter([above, below]: [&[f32]; 2], out: &mut [f32]) {
    let pairs = above.chunks_exact(2).zip(below.chunks_exact(2));
    for (mean, (a, b)) in out.iter_mut().zip(pairs) {
        *mean = 0.25 * ((a[0] + a[1]) + (b[0] + b[1]));
    }
}

/// A rectangle of pixels: columns and rows, from and to (exclusive).
type Cell = ([usize; 2], [usize; 2]);

/// The darker cells of the sky.
fn darker(sky: &SkyMesh) -> Vec<Cell> {
    let mut cells: Vec<(f32, Cell)> = sky
        .cells()
        .map(|c| {
            let (w, h) = sky.cell_px();
            let range = |at: f64, n: f64| {
                [
                    (at + 0.5 - 0.5 * n).max(0.0).index(),
                    (at + 0.5 + 0.5 * n).index(),
                ]
            };
            (c.level, (range(c.at.x, w), range(c.at.y, h)))
        })
        .collect();
    cells.sort_by(|a, b| a.0.total_cmp(&b.0));
    let part = (DARKER * cells.len().real()).ceil().index();
    cells.truncate(part.max(2 * LEAST_CELLS));
    let stride = cells.len().div_ceil(MOST_CELLS).max(1);
    cells.into_iter().step_by(stride).map(|c| c.1).collect()
}

/// Those of the cells in which pixels far apart differ least more than neighbours.
fn quiet(plane: &Plane, half: &Plane, cells: Vec<Cell>) -> Vec<Cell> {
    let stride = pixel_stride(plane);
    let mut ranked: Vec<(f32, Cell)> = cells
        .into_par_iter()
        .map(|cell| {
            let patch = Patch::seen(plane, half, cell);
            let scatter = |lag: usize| robust_scatter(patch.differences((lag, 1, stride)));
            let ratio = scatter(LAGS[0]) / scatter(1);
            (
                if ratio.is_finite() {
                    ratio
                } else {
                    f32::INFINITY
                },
                cell,
            )
        })
        .collect();
    ranked.sort_by(|a, b| a.0.total_cmp(&b.0));
    let fifth = (QUIET * ranked.len().real()).index();
    let most = ranked.get(fifth).map_or(f32::INFINITY, |r| CHANCE * r.0);
    let part = ranked.iter().filter(|r| r.0 <= most).count();
    ranked.truncate(part.max(LEAST_CELLS));
    ranked.into_iter().map(|c| c.1).collect()
}

/// A pixel in nine of a large frame is plenty.
fn pixel_stride(plane: &Plane) -> usize {
    if plane.size().area() > 1_000_000 {
        3
    } else {
        1
    }
}

/// A cell of a plane, and so much around it that all differences can be taken.
struct Patch {
    plane: Plane,
    cell: Cell,
}

impl Patch {
    /// What is missing at half the size is missing here.
    fn seen(plane: &Plane, half: &Plane, (columns, rows): Cell) -> Self {
        let around = |[from, to]: [usize; 2], n: usize| {
            let end = (to + FARTHEST).min(n);
            (from.saturating_sub(FARTHEST).min(end), end)
        };
        let (x0, x1) = around(columns, plane.size().width());
        let (y0, y1) = around(rows, plane.size().height());
        let mut data = Vec::with_capacity((x1 - x0) * (y1 - y0));
        for y in y0..y1 {
            let at = data.len();
            data.extend_from_slice(&plane.row(y)[x0..x1]);
            let row = &mut data[at..];
            if y / 2 >= half.size().height() {
                row.fill(f32::NAN);
                continue;
            }
            // A column beyond an odd width has no half.
            let halves = &half.row(y / 2)[x0 / 2..x1.div_ceil(2).min(half.size().width())];
            let missing = |k: usize| halves.get(k).is_none_or(|v| !v.is_finite());
            for k in (0..x1.div_ceil(2) - x0 / 2).filter(|k| missing(*k)) {
                for x in [x0 / 2 * 2 + 2 * k, x0 / 2 * 2 + 2 * k + 1] {
                    if (x0..x1).contains(&x) {
                        row[x - x0] = f32::NAN;
                    }
                }
            }
        }
        let size = Size::new(x1 - x0, y1 - y0);
        Self {
            // A cell lies within its plane.
            plane: size
                .and_then(|size| Plane::new(size, data))
                .unwrap_or_else(|| Plane::filled(plane.size(), f32::NAN)),
            cell: (columns.map(|x| x - x0), rows.map(|y| y - y0)),
        }
    }

    /// See [`differences`].
    fn differences(&self, how: (usize, usize, usize)) -> Vec<f32> {
        let mut sizes = Vec::new();
        differences(&self.plane, how, self.cell, &mut sizes);
        sizes
    }
}

/// The farthest pixels whose differences are taken.
const FARTHEST: usize = 8;

/// Standard deviation of blocks of `side` pixels in the dark cells, by second differences along both axes of blocks
/// `lag` apart, on every `stride`-th of them.
fn scatter(plane: &Plane, how: (usize, usize, usize), dark: &[Cell]) -> f32 {
    let sizes = dark.par_iter().flat_map_iter(|cell| {
        let mut sizes = Vec::new();
        differences(plane, how, *cell, &mut sizes);
        sizes
    });
    robust_scatter(sizes.collect())
}

/// The sizes of a cell's second differences, as they are for a scatter of 1.
fn differences(
    plane: &Plane,
    (lag, side, stride): (usize, usize, usize),
    (columns, rows): Cell,
    sizes: &mut Vec<f32>,
) {
    let (width, height) = (plane.size().width(), plane.size().height());
    if width <= 2 * lag || height <= 2 * lag {
        return;
    }
    let range = |[from, to]: [usize; 2], n: usize| {
        let end = to.div_ceil(side).min(n - lag);
        (from / side).max(lag).min(end)..end
    };
    let (columns, rows) = (range(columns, width), range(rows, height));
    let mut bent = vec![0.0; columns.len()];
    for y in rows.step_by(stride) {
        let three =
            [y - lag, y, y + lag].map(|y| &plane.row(y)[columns.start - lag..columns.end + lag]);
        bends(three, lag, &mut bent);
        let every = bent.iter().step_by(stride);
        sizes.extend(every.filter(|d| d.is_finite()));
    }
}

/// The size of the second difference along both axes at each place.
#[multiversion(targets("x86_64+avx2"))]
fn bends(rows: [&[f32]; 3], lag: usize, out: &mut [f32]) {
    let n = out.len();
    let parts = |row: usize| [0, lag, 2 * lag].map(|from| &rows[row][from..from + n]);
    let ([a, b, c], [d, e, f], [g, h, k]) = (parts(0), parts(1), parts(2));
    for i in 0..n {
        let above = a[i] - 2.0 * b[i] + c[i];
        let middle = d[i] - 2.0 * e[i] + f[i];
        let below = g[i] - 2.0 * h[i] + k[i];
        out[i] = ((above - 2.0 * middle + below) / 6.0).abs();
    }
}

/// The scatter that sizes of differences tell; NaN for too few.
fn robust_scatter(mut sizes: Vec<f32>) -> f32 {
    if sizes.len() < LEAST {
        return f32::NAN;
    }
    // Stars that are too faint to be found, and knots, make the tail long; once more without it. The cut takes 0.2 %
    // from the median of pure noise.
    let first = grouped_median(&mut sizes) * MAD_TO_SIGMA.single();
    sizes.retain(|d| *d <= 3.0 * first);
    grouped_median(&mut sizes) * MAD_TO_SIGMA.single()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use jigsawa_sky::chance::normal;
    use rstest::rstest;

    const SIDE: usize = 640;

    /// White noise of 10 about 500.
    fn white() -> Vec<f32> {
        (0..(SIDE * SIDE) as u64)
            .map(|i| 500.0 + 10.0 * normal(i, 0).single())
            .collect()
    }

    fn smoothed(data: &[f32], sigma: f32) -> Vec<f32> {
        let r = (4.0 * sigma).ceil().whole();
        let taps: Vec<f32> = (-r..=r)
            .map(|k| (-0.5 * (k.single() / sigma).powi(2)).exp())
            .collect();
        let sum: f32 = taps.iter().sum();
        let wrap = |v: i64| v.rem_euclid(SIDE.whole()).index();
        let along = |from: &[f32], dx: i64, dy: i64| -> Vec<f32> {
            (0..SIDE * SIDE)
                .map(|i| {
                    let (x, y) = ((i % SIDE).whole(), (i / SIDE).whole());
                    (-r..=r)
                        .zip(&taps)
                        .map(|(k, t)| t / sum * from[wrap(y + k * dy) * SIDE + wrap(x + k * dx)])
                        .sum()
                })
                .collect()
        };
        along(&along(data, 1, 0), 0, 1)
    }

    fn measured(data: Vec<f32>) -> NoiseScales {
        let plane = Plane::new(Size::new(SIDE, SIDE).unwrap(), data).unwrap();
        NoiseScales::measure(&plane, &SkyMesh::measure(&plane).unwrap(), None)
    }

    #[test]
    fn white_noise_is_one_number() {
        let n = measured(white());
        for side in SCALES_PX {
            let off = n.at(side.real()) / 10.0 - 1.0;
            assert!(
                off.abs() < if side < 16 { 0.06 } else { 0.12 },
                "{side}: {off}"
            );
        }
        assert!((n.deep() / 10.0 - 1.0).abs() < 0.08, "{}", n.deep());
        assert!((n.tied() - 1.0).abs() < 0.1);
    }

    #[rstest]
    #[case(0.8)]
    #[case(1.2)]
    #[case(2.0)]
    fn smoothing_does_not_make_a_frame_deeper(#[case] sigma: f32) {
        let n = measured(smoothed(&white(), sigma));
        // Independent samples a pixel: 1 / (2 sqrt(pi) sigma) of the scatter.
        let pixel = 10.0 / (2.0 * std::f64::consts::PI.sqrt() * f64::from(sigma));
        assert!(
            (n.pixel() / pixel - 1.0).abs() < 0.15,
            "{} for {pixel}",
            n.pixel()
        );
        assert!((n.deep() / 10.0 - 1.0).abs() < 0.15, "{n:?}");
        assert!(n.tied() > 2.0);
    }

    #[test]
    fn a_nebula_over_half_of_the_frame_and_its_slopes_count_nothing() {
        let mut data = white();
        for (i, v) in data.iter_mut().enumerate() {
            let (x, y) = ((i % SIDE).single(), (i / SIDE).single());
            *v += 0.2 * x + 0.1 * y;
            if x < 320.0 {
                *v += 60.0 * (x / 9.0).sin() * (y / 11.0).cos();
            }
        }
        let n = measured(data);
        for side in [1.0, 4.0, 8.0, 16.0] {
            // The darkest part is where the nebula is.
            assert!((n.at(side) / 10.0 - 1.0).abs() < 0.2, "{side}: {n:?}");
        }
    }

    #[test]
    fn frames_of_few_pixels_have_their_pixels_noise() {
        let small = Plane::filled(Size::new(3, 2).unwrap(), 4.0);
        let sky = SkyMesh::measure(&small).unwrap();
        let n = NoiseScales::measure(&small, &sky, None);
        assert_eq!(n, NoiseScales::white(sky.typical_sigma()));
    }
}
