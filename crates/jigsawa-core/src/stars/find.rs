//! Where stars may be: local maxima of the matched filter's response that stand out of its noise.
//!
//! The noise of the response is taken from the response itself, cell by cell, so that the correlated
//! noise of a stacked master and the texture of a nebula raise the threshold where they are.

use rayon::prelude::*;

use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad, median};

use super::filter::{FWHM_PER_SIGMA, MatchedFilter, Scratch};
use super::sky::SkyMesh;

/// Rows a band: the filter's halo of some ten rows then costs a sixth more work, and a band of a
/// 6000-pixel-wide frame still fits the second-level cache.
const BAND_ROWS: usize = 64;

/// Columns over which the noise of the response is taken.
const NOISE_COLUMNS: usize = 64;

/// A place where a star may be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Candidate {
    pub(crate) x: usize,
    pub(crate) y: usize,
    /// Amplitude of the best Gaussian there.
    pub(crate) amplitude: f32,
    /// The amplitude in units of its noise.
    pub(crate) snr: f32,
}

/// Number of bands of a frame.
pub(crate) fn bands(plane: &Plane) -> usize {
    plane.size().height().div_ceil(BAND_ROWS)
}

/// All candidates above `threshold` sigma in every `stride`-th band, in row order.
pub(crate) fn find(
    plane: &Plane,
    sky: &SkyMesh,
    filter: &MatchedFilter,
    threshold: f32,
    stride: usize,
) -> Vec<Candidate> {
    let chosen: Vec<usize> = (0..bands(plane)).step_by(stride.max(1)).collect();
    let found: Vec<Vec<Candidate>> = chosen
        .into_par_iter()
        .map_init(
            || (Scratch::default(), Vec::new(), Vec::new()),
            |(scratch, response, values), band| {
                let y0 = band * BAND_ROWS;
                let y1 = (y0 + BAND_ROWS).min(plane.size().height());
                filter.rows(
                    plane,
                    sky,
                    (y0 as i64 - 1, y1 as i64 + 1),
                    scratch,
                    response,
                );
                maxima(plane, sky, filter, threshold, (y0, y1), response, values)
            },
        )
        .collect();
    found.into_iter().flatten().collect()
}

/// Local maxima in rows `y0..y1`; `response` has one row more on each side.
fn maxima(
    plane: &Plane,
    sky: &SkyMesh,
    filter: &MatchedFilter,
    threshold: f32,
    (y0, y1): (usize, usize),
    response: &[f32],
    values: &mut Vec<f32>,
) -> Vec<Candidate> {
    let width = plane.size().width();
    let row = |y: usize| &response[(y + 1 - y0) * width..(y + 2 - y0) * width];
    let near = |y: usize, d: isize| {
        let at = (y + 1 - y0).wrapping_add_signed(d) * width;
        &response[at..at + width]
    };
    let mut found = Vec::new();
    let columns: Vec<(usize, usize)> = (0..width)
        .step_by(NOISE_COLUMNS)
        .map(|x| (x, (x + NOISE_COLUMNS).min(width)))
        .collect();
    let limits: Vec<(f32, f32)> = columns
        .iter()
        .map(|(x0, x1)| {
            values.clear();
            for y in (y0..y1).step_by(3) {
                values.extend(row(y)[*x0..*x1].iter().step_by(3));
            }
            let level = median(values);
            let spread = mad(values, level) * MAD_TO_SIGMA as f32;
            let at = crate::space::Point::new((x0 + x1) as f64 / 2.0, (y0 + y1) as f64 / 2.0);
            let white = sky.sigma_at(at) * filter.noise_gain;
            (level, spread.max(white).max(f32::MIN_POSITIVE))
        })
        .collect();
    for y in y0..y1 {
        let (above, this, below) = (near(y, -1), row(y), near(y, 1));
        for ((x0, x1), (level, noise)) in columns.iter().zip(&limits) {
            let bar = level + threshold * noise;
            for x in *x0..*x1 {
                let v = this[x];
                if v <= bar || x == 0 || x + 1 == width {
                    continue;
                }
                // Strict on one side only: of a plateau, one pixel is taken.
                let first = v > this[x - 1]
                    && v > above[x - 1]
                    && v > above[x]
                    && v > above[x + 1]
                    && v >= this[x + 1]
                    && v >= below[x - 1]
                    && v >= below[x]
                    && v >= below[x + 1];
                if first && !is_spike(plane, sky, filter, x, y, v) {
                    found.push(Candidate {
                        x,
                        y,
                        amplitude: v - level,
                        snr: (v - level) / noise,
                    });
                }
            }
        }
    }
    found
}

/// Is all the light in one pixel? A hot pixel or a cosmic ray's point gives the filter a response of
/// a small part of its height, where a star's centre gives about its own.
fn is_spike(
    plane: &Plane,
    sky: &SkyMesh,
    filter: &MatchedFilter,
    x: usize,
    y: usize,
    response: f32,
) -> bool {
    let at = crate::space::Point::new(x as f64, y as f64);
    let level = sky.level_at(at);
    let noise = sky.sigma_at(at);
    let (x, y) = (x as i64, y as i64);
    let mut brightest = f32::NEG_INFINITY;
    for dy in -1..=1 {
        for dx in -1..=1 {
            let v = plane.at(x + dx, y + dy);
            if v.is_finite() {
                brightest = brightest.max(v - level);
            }
        }
    }
    // A lone pixel of height h gives the response h x noise_gain; a star of the filter's width gives
    // its height. Halfway between the two, in ratio, is the bar; noise may lift a faint star's pixel.
    let bar = 1.0 / filter.noise_gain.sqrt();
    brightest - 4.0 * noise > bar.max(1.6) * response
}

/// The brightest candidates, at most `most` of them, spread over the frame: each cell of a grid gives
/// its best in turn, so that a dense corner does not empty the others. Of two closer than `apart`
/// pixels the brighter stays. Ordered from bright to faint.
pub(crate) fn spread(
    mut all: Vec<Candidate>,
    plane: &Plane,
    apart: f64,
    most: usize,
) -> Vec<Candidate> {
    all.sort_by(|a, b| b.snr.total_cmp(&a.snr).then((a.y, a.x).cmp(&(b.y, b.x))));
    let (w, h) = (plane.size().width(), plane.size().height());
    let bucket = apart.max(1.0);
    let columns = (w as f64 / bucket) as usize + 1;
    let mut taken: Vec<Vec<(usize, usize)>> = vec![Vec::new(); columns * ((h as f64 / bucket) as usize + 1)];
    all.retain(|c| {
        let (bx, by) = ((c.x as f64 / bucket) as usize, (c.y as f64 / bucket) as usize);
        let near = |c2: &(usize, usize)| {
            let (dx, dy) = (c2.0.abs_diff(c.x) as f64, c2.1.abs_diff(c.y) as f64);
            dx.hypot(dy) < apart
        };
        let rows = by.saturating_sub(1)..=(by + 1).min(taken.len() / columns - 1);
        for r in rows {
            for b in bx.saturating_sub(1)..=(bx + 1).min(columns - 1) {
                if taken[r * columns + b].iter().any(near) {
                    return false;
                }
            }
        }
        taken[by * columns + bx].push((c.x, c.y));
        true
    });
    if all.len() <= most {
        return all;
    }
    const SIDE: usize = 10;
    let mut rank_in_cell = [0usize; SIDE * SIDE];
    let mut ranked: Vec<(usize, Candidate)> = all
        .into_iter()
        .map(|c| {
            let cell = &mut rank_in_cell[c.y * SIDE / h * SIDE + c.x * SIDE / w];
            *cell += 1;
            (*cell, c)
        })
        .collect();
    // Stable: within a round the order stays from bright to faint.
    ranked.sort_by_key(|(rank, _)| *rank);
    let mut best: Vec<Candidate> = ranked.into_iter().take(most).map(|(_, c)| c).collect();
    best.sort_by(|a, b| b.snr.total_cmp(&a.snr).then((a.y, a.x).cmp(&(b.y, b.x))));
    best
}

/// A first guess of the stars' width before any is measured: the usual seeing on the usual scale.
pub(crate) const FIRST_FWHM_PX: f64 = 3.0;

/// The narrowest and widest stars that are looked for. Below, a star is one pixel; above, a frame is
/// so oversampled that its noise, not its pixels, sets the limit.
pub(crate) const FWHM_RANGE_PX: (f64, f64) = (0.5 * FWHM_PER_SIGMA, 16.0);
