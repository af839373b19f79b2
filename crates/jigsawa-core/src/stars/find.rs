//! Where stars may be: local maxima of the matched filter's response that stand out of their ring.
//!
//! A maximum's height is taken above the median of a ring two widths around it, and the noise of the
//! response from its second differences over the same distance, cell by cell: so the smooth light of
//! a nebula counts neither as height nor as noise, while the correlated noise of a stacked master and
//! fine texture raise the threshold where they are.

use crate::number::Convert;
use std::cell::RefCell;

use multiversion::multiversion;
use rayon::prelude::*;

use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::Point;

use super::candidate::Candidate;
use super::filter::{FWHM_PER_SIGMA, MatchedFilter, Scratch};
use super::sky::SkyMesh;
use super::spike::is_spike;

/// Rows a band: the filter's halo of some ten rows then costs a sixth more work, and a band of a
/// 6000-pixel-wide frame still fits the second-level cache.
const BAND_ROWS: usize = 64;

/// Columns over which the noise of the response is taken.
const NOISE_COLUMNS: usize = 64;

/// Number of bands of a frame.
pub(crate) fn bands(plane: &Plane) -> usize {
    plane.size().height().div_ceil(BAND_ROWS)
}

/// Memory of a band's work.
#[derive(Default)]
struct Buffers {
    scratch: Scratch,
    response: Vec<f32>,
    values: Vec<f32>,
}

thread_local! {
    // Kept from frame to frame: touching fresh memory would cost more than the filter.
    static BUFFERS: RefCell<Buffers> = RefCell::default();
}

/// All candidates above `threshold` sigma in every `stride`-th band, in row order.
pub(crate) fn find(
    plane: &Plane,
    sky: &SkyMesh,
    filter: &MatchedFilter,
    threshold: f32,
    stride: usize,
) -> Vec<Candidate> {
    let mut found = maxima(plane, sky, filter, threshold, stride);
    found.retain(|c| !is_spike(plane, filter, c));
    found
}

/// The candidates before single bright pixels are taken out.
pub(super) fn maxima(
    plane: &Plane,
    sky: &SkyMesh,
    filter: &MatchedFilter,
    threshold: f32,
    stride: usize,
) -> Vec<Candidate> {
    let chosen: Vec<usize> = (0..bands(plane)).step_by(stride.max(1)).collect();
    let ring = filter.ring();
    let found: Vec<Vec<Candidate>> = chosen
        .into_par_iter()
        .map(|band| {
            BUFFERS.with_borrow_mut(|buffers| {
                let y0 = band * BAND_ROWS;
                let y1 = (y0 + BAND_ROWS).min(plane.size().height());
                let reach = (y0.whole() - ring.whole(), (y1 + ring).whole());
                filter.rows(
                    plane,
                    sky,
                    reach,
                    &mut buffers.scratch,
                    &mut buffers.response,
                );
                let band = Band {
                    width: plane.size().width(),
                    rows: (y0, y1),
                    ring,
                    response: &buffers.response,
                };
                band.maxima(sky, filter, threshold, &mut buffers.values)
            })
        })
        .collect();
    found.into_iter().flatten().collect()
}

/// The response over some rows, and `ring` more on each side.
struct Band<'a> {
    width: usize,
    rows: (usize, usize),
    ring: usize,
    response: &'a [f32],
}

impl Band<'_> {
    /// Row `y + d` of the frame.
    fn row(&self, y: usize, d: isize) -> &[f32] {
        let at = (y + self.ring - self.rows.0).wrapping_add_signed(d) * self.width;
        &self.response[at..at + self.width]
    }

    /// Noise of the response in columns `x0..x1`, from differences between a place and the mean of
    /// two `ring` pixels to its sides: 1.5 times the variance, and blind to any slope.
    fn noise(&self, (x0, x1): (usize, usize), values: &mut Vec<f32>) -> f32 {
        let d = self.ring;
        values.clear();
        for y in (self.rows.0..self.rows.1).step_by(3) {
            let row = self.row(y, 0);
            let inside = x0.max(d)..x1.min(self.width.saturating_sub(d));
            values.extend(
                inside
                    .step_by(3)
                    .map(|x| (row[x] - 0.5 * (row[x - d] + row[x + d])).abs()),
            );
        }
        if values.is_empty() {
            return 0.0;
        }
        median(values) * (MAD_TO_SIGMA / 1.5f64.sqrt()).single()
    }

    /// Height of (x, y) above the median of eight places around it.
    fn height(&self, x: usize, y: usize) -> f32 {
        let d = self.ring.isize();
        let diagonal = (d.single() * 0.7).round().isize();
        let at = |dx: isize, dy: isize| {
            let x = (x.isize() + dx).clamp(0, self.width.isize() - 1);
            self.row(y, dy)[x.index()]
        };
        let mut around = [
            at(-d, 0),
            at(d, 0),
            at(0, -d),
            at(0, d),
            at(-diagonal, -diagonal),
            at(diagonal, -diagonal),
            at(-diagonal, diagonal),
            at(diagonal, diagonal),
        ];
        at(0, 0) - median(&mut around)
    }

    fn maxima(
        &self,
        sky: &SkyMesh,
        filter: &MatchedFilter,
        threshold: f32,
        values: &mut Vec<f32>,
    ) -> Vec<Candidate> {
        let (y0, y1) = self.rows;
        let columns: Vec<(usize, usize, f32)> = (0..self.width)
            .step_by(NOISE_COLUMNS)
            .map(|x0| {
                let x1 = (x0 + NOISE_COLUMNS).min(self.width);
                let at = Point::new((x0 + x1).real() / 2.0, (y0 + y1).real() / 2.0);
                let white = sky.sigma_at(at) * filter.noise_gain;
                let noise = self.noise((x0, x1), values).max(white);
                (x0, x1, noise.max(f32::MIN_POSITIVE))
            })
            .collect();
        let mut found = Vec::new();
        // No cell has less noise: a bar that all candidates of the band pass.
        let quietest = columns.iter().map(|c| c.2).fold(f32::INFINITY, f32::min);
        let d = self.ring;
        let mut maybe = vec![0u8; self.width];
        for y in y0..y1 {
            let down = d.isize();
            let rows = [self.row(y, -1), self.row(y, 0), self.row(y, 1)];
            let ring = [self.row(y, -down), self.row(y, down)];
            mark(rows, ring, d, PREFILTER * threshold * quietest, &mut maybe);
            for (chunk, marks) in maybe.chunks(8).enumerate() {
                // Eight at a glance: nearly all places hold no maximum.
                if <[u8; 8]>::try_from(marks).is_ok_and(|eight| u64::from_ne_bytes(eight) == 0) {
                    continue;
                }
                for i in (0..marks.len()).filter(|i| marks[*i] != 0) {
                    let x = 8 * chunk + i;
                    let noise = columns[x / NOISE_COLUMNS].2;
                    let height = self.height(x, y);
                    if height > threshold * noise {
                        found.push(Candidate {
                            x,
                            y,
                            amplitude: height,
                            snr: height / noise,
                        });
                    }
                }
            }
        }
        found
    }
}

/// A maximum must rise above the lowest of four places of its ring by this part of the threshold
/// before the whole ring is looked at.
const PREFILTER: f32 = 0.9;

/// Marks the local maxima of the middle row that rise above the lowest of four places around them by
/// `bar`. Strict on one side only: of a plateau, one pixel is taken. All comparisons are made, without
/// a branch between them, so that they become vector instructions.
#[allow(clippy::needless_bitwise_bool)]
#[multiversion(targets("x86_64+avx2"))]
fn mark(rows: [&[f32]; 3], ring: [&[f32]; 2], d: usize, bar: f32, out: &mut [u8]) {
    let n = out.len();
    out.fill(0);
    if n < 2 * d + 1 || d < 1 {
        return;
    }
    let [above, this, below] = rows;
    let inner = n - 2 * d;
    let (v, l, r) = (
        &this[d..][..inner],
        &this[d - 1..][..inner],
        &this[d + 1..][..inner],
    );
    let (u, ul, ur) = (
        &above[d..][..inner],
        &above[d - 1..][..inner],
        &above[d + 1..][..inner],
    );
    let (b, bl, br) = (
        &below[d..][..inner],
        &below[d - 1..][..inner],
        &below[d + 1..][..inner],
    );
    let (west, east) = (&this[..inner], &this[2 * d..][..inner]);
    let (north, south) = (&ring[0][d..][..inner], &ring[1][d..][..inner]);
    let out = &mut out[d..][..inner];
    let least = |a: f32, b: f32| if a < b { a } else { b };
    for i in 0..inner {
        let low = least(least(west[i], east[i]), least(north[i], south[i]));
        let peak = (v[i] > l[i])
            & (v[i] >= r[i])
            & (v[i] > u[i])
            & (v[i] >= b[i])
            & (v[i] > ul[i])
            & (v[i] > ur[i])
            & (v[i] >= bl[i])
            & (v[i] >= br[i])
            & (v[i] > low + bar);
        out[i] = u8::from(peak);
    }
}

/// Buckets in which candidates near each other are found are at least so many pixels wide.
const LEAST_BUCKET: f64 = 32.0;

/// Cells along each side of the grid that spreads the candidates.
const GRID_SIDE: usize = 10;

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
    // Wider than need be: candidates are few, and a bucket for each star's width of a large frame is megabytes.
    let bucket = apart.max(LEAST_BUCKET);
    let columns = (w.real() / bucket).index() + 1;
    let mut taken: Vec<Vec<(usize, usize)>> =
        vec![Vec::new(); columns * ((h.real() / bucket).index() + 1)];
    all.retain(|c| {
        let (bx, by) = ((c.x.real() / bucket).index(), (c.y.real() / bucket).index());
        let near = |c2: &(usize, usize)| {
            let (dx, dy) = (c2.0.abs_diff(c.x).real(), c2.1.abs_diff(c.y).real());
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
    let mut rank_in_cell = [0usize; GRID_SIDE * GRID_SIDE];
    let mut ranked: Vec<(usize, Candidate)> = all
        .into_iter()
        .map(|c| {
            let cell = &mut rank_in_cell[c.y * GRID_SIDE / h * GRID_SIDE + c.x * GRID_SIDE / w];
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
