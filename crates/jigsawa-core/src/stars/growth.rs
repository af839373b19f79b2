//! How a frame's star light grows with the aperture, so that fluxes of frames in different seeing can be compared.
//!
//! A star's flux is taken in a small aperture, where it stands out best. That holds the same part of all stars of a
//! frame, but not of two frames': a profile's core widens with the seeing while its wings (dust, mirrors, spikes) stay,
//! and the ring for the sky lies in them. So the mean profile of the bright stars is measured out to fourteen widths,
//! with their neighbours taken out, and a flux is carried from the small aperture to one that is large against both
//! seeings (aperture correction by a curve of growth: Howell 1989, PASP 101, 616; Stetson 1990, PASP 102, 932). What lies
//! beyond no seeing moves. Apertures of 1.8 widths of either frame were compared as they are first: -1.6 % between 4.9
//! and 5.4 px, -10 % at 9.9 px.

use crate::number::Convert;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::{Flag, Star};
use crate::measured::Measured;
use crate::noise::NoiseScales;
use crate::plane::Plane;

use super::flux::{APERTURE, RING_FROM, RING_TO};

/// Outer radii of the rings, in widths.
const EDGES: [f64; 14] = [
    0.9, 1.8, 2.4, 3.0, 3.75, 4.5, 5.25, 6.0, 7.0, 8.0, 9.5, 11.0, 12.5, 14.0,
];

/// Rings from this one on tell each star's own sky, which every curve is free of in the end.
const FAR: usize = 11;

/// Stars behind a curve, at most and at least.
const MOST_STARS: usize = 120;
const LEAST_STARS: usize = 4;

/// Parts that stars are taken in to tell the error.
const PARTS: usize = 10;

/// Stars this bright, in sigma, tell.
const LEAST_SNR: f64 = 40.0;

/// A star with a neighbour of this part of its light within so many widths does not tell: nearer ones cannot be taken
/// out, and of brighter ones the wings.
const NEIGHBOURS: [(f64, f64); 2] = [(0.03, 2.5), (0.6, 6.0)];

/// Least part of a ring that must be seen.
const LEAST_SEEN: f64 = 0.3;

/// The common aperture and its ring for the sky, in widths of the wider stars.
const COMMON: f64 = 4.0;
const COMMON_RING: (f64, f64) = (5.0, 6.5);

/// Brightness of a mean star in rings around it, for a flux of 1 in the small aperture.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Growth {
    fwhm_px: f64,
    /// Light for a pixel of each ring.
    rings: Vec<f64>,
    /// The same from parts of the stars, whose scatter tells the error of whatever is made of the rings.
    parts: Vec<Vec<f64>>,
    /// Stars behind it.
    pub stars: usize,
}

impl Growth {
    /// Measures it on a frame's stars, which are sorted from bright to faint. `None` with too few bright ones.
    pub(super) fn measure(
        plane: &Plane,
        stars: &[Star],
        fwhm_px: f64,
        noise: &NoiseScales,
    ) -> Option<Self> {
        let near = Neighbours::of(stars, 2.0 * EDGES[EDGES.len() - 1] * fwhm_px);
        let floor = noise.of_sum(10.0 * fwhm_px * fwhm_px);
        let is_clear = |(i, s): &(usize, &Star)| {
            let bright = s.flux >= LEAST_SNR * s.flux_sigma.max(floor);
            let whole = !s.flags.has(Flag::Saturated) && !s.flags.has(Flag::Edge);
            bright && whole && !near.around(stars, *i).any(|o| is_too_near(s, o, fwhm_px))
        };
        let row = |(i, s): &(usize, &Star)| {
            let around: Vec<&Star> = near.around(stars, *i).collect();
            Some((s.flux, profile(plane, s, &around, fwhm_px)?))
        };
        let mut clear = stars.iter().enumerate().filter(is_clear);
        let mut rows: Vec<(f64, [f64; EDGES.len()])> = Vec::new();
        while rows.len() < MOST_STARS {
            let next: Vec<_> = clear.by_ref().take(MOST_STARS - rows.len()).collect();
            if next.is_empty() {
                break;
            }
            rows.par_extend(next.par_iter().filter_map(row));
        }
        if rows.len() < LEAST_STARS {
            return None;
        }
        // What lies around a bright star is less beside its light. The very brightest do not decide alone.
        let top = rows.get(rows.len() / 8).map_or(1.0, |r| r.0);
        let middle = |rows: &mut dyn Iterator<Item = &(f64, [f64; EDGES.len()])>| -> Vec<f64> {
            let rows: Vec<_> = rows.collect();
            (0..EDGES.len())
                .map(|k| weighted_median(rows.iter().map(|r| (r.1[k], r.0.min(top))).collect()))
                .collect()
        };
        let parts = rows.len().min(PARTS);
        Some(Self {
            fwhm_px,
            rings: middle(&mut rows.iter()),
            // Bright and faint ones in each.
            parts: (0..parts)
                .map(|p| middle(&mut rows.iter().skip(p).step_by(parts)))
                .collect(),
            stars: rows.len(),
        })
    }

    /// The curve of a frame that was made smaller by `factor` before, in the frame's own pixels.
    #[must_use]
    pub fn enlarged(mut self, factor: f64) -> Self {
        self.fwhm_px *= factor;
        for v in self.parts.iter_mut().flatten().chain(&mut self.rings) {
            *v /= factor * factor;
        }
        self
    }

    /// Light within a radius above the sky of a ring, in pixels.
    fn light(&self, rings: &[f64], radius: f64, ring: (f64, f64)) -> f64 {
        let area = |a: f64, b: f64| std::f64::consts::PI * (b * b - a * a).max(0.0);
        let whole = area(ring.0, ring.1);
        let (mut sum, mut from) = (0.0, 0.0);
        for (edge, v) in EDGES.iter().zip(rings) {
            let to = edge * self.fwhm_px;
            let inside = area(from, to.min(radius));
            let beside = area(from.max(ring.0), to.min(ring.1));
            sum += (inside - area(0.0, radius) * beside / whole) * v;
            from = to;
        }
        sum
    }

    /// What a flux of the small aperture becomes in the aperture that is common to frames whose stars are at most
    /// `widest_px` wide in this frame's pixels.
    pub fn carried(&self, widest_px: f64) -> Measured {
        let own = self.fwhm_px;
        // Beyond its last ring the curve says nothing.
        let wide = widest_px.clamp(own, own * EDGES[EDGES.len() - 1] / COMMON_RING.1);
        let of = |rings: &[f64]| {
            let small = self.light(rings, APERTURE * own, (RING_FROM * own, RING_TO * own));
            let ring = (COMMON_RING.0 * wide, COMMON_RING.1 * wide);
            self.light(rings, COMMON * wide, ring) / small
        };
        let value = of(&self.rings);
        let n = self.parts.len().real();
        let square = |p: &Vec<f64>| (of(p) - value).powi(2);
        let sigma = (self.parts.iter().map(square).sum::<f64>() / (n * (n - 1.0))).sqrt();
        if !(value.is_finite() && value > 0.0 && sigma.is_finite()) {
            return Measured {
                value: 1.0,
                sigma: UNKNOWN,
            };
        }
        Measured { value, sigma }
    }
}

/// Is another star so bright and so near that its light cannot be taken out?
fn is_too_near(s: &Star, other: &Star, fwhm_px: f64) -> bool {
    let d = other.at.distance(s.at) / fwhm_px;
    NEIGHBOURS
        .iter()
        .any(|(part, within)| other.flux > part * s.flux && d < *within)
}

/// The value that half of the weight lies below.
fn weighted_median(mut values: Vec<(f64, f64)>) -> f64 {
    values.sort_by(|a, b| a.0.total_cmp(&b.0));
    let half = 0.5 * values.iter().map(|v| v.1).sum::<f64>();
    let mut sum = 0.0;
    for (v, w) in &values {
        sum += w;
        if sum >= half {
            return *v;
        }
    }
    values.last().map_or(0.0, |v| v.0)
}

/// What fluxes of two frames must be multiplied by to hold the same part of a star, and the relative error of their
/// ratio that all stars then share. `widths` are those of their stars (the geometric mean of both axes) in one and the
/// same unit, `longs` how much longer than that their long axes are.
pub fn profiles(of: [Option<&Growth>; 2], widths: [f64; 2], longs: [f64; 2]) -> ([f64; 2], f64) {
    let [a, b] = [widths[0] * longs[0], widths[1] * longs[1]];
    let wider = a.max(b);
    let apart = (wider / a.min(b)).ln() + (longs[0] / longs[1]).ln().abs();
    let prior = UNKNOWN * apart;
    let [Some(a), Some(b)] = of else {
        return ([1.0; 2], FLOOR.hypot(prior));
    };
    let [a, b] = [(a, widths[0]), (b, widths[1])].map(|(g, w)| g.carried(g.fwhm_px * wider / w));
    let known = COMMON_STARS * (a.sigma / a.value).hypot(b.sigma / b.value);
    // Curves of few or faint stars say less than that profiles of like widths are alike.
    let trust = prior * prior / (prior * prior + known * known).max(f64::MIN_POSITIVE);
    let half = (0.5 * trust * (b.value / a.value).ln()).exp();
    let left = known * trust.sqrt();
    (
        [1.0 / half, half],
        left.hypot(FLOOR * (1.0 + apart / APART)),
    )
}

/// How far a common aperture holds the same part of a star in two seeings; twice that where they differ by this much.
const FLOOR: f64 = 0.0006;
const APART: f64 = 0.1;

/// Both curves are told by much the same stars with the same surroundings: so much of their errors differs.
const COMMON_STARS: f64 = 0.5;

/// And how far the small apertures may differ, for widths that differ by a factor of e: 1.6 % for 10 % of width was
/// seen, 10 % for a factor of two.
const UNKNOWN: f64 = 0.17;

/// The mean light of a pixel in each ring around a star, above that of the outermost ones, for a flux of 1.
fn profile(plane: &Plane, s: &Star, around: &[&Star], fwhm_px: f64) -> Option<[f64; EDGES.len()]> {
    let reach = EDGES[EDGES.len() - 1] * fwhm_px;
    let r = reach.ceil().whole();
    let (cx, cy) = (s.at.x.round().whole(), s.at.y.round().whole());
    let mut sums = [(0.0f64, 0.0f64); EDGES.len()];
    // Neighbours as far as they matter: to the noise of a bright star a hundredth of its own light a ring.
    let masks: Vec<(f64, f64, f64)> = around
        .iter()
        .filter(|o| o.flux > 0.002 * s.flux)
        .map(|o| {
            let reach = fwhm_px * (1.5 + 1.5 * (o.flux / (0.01 * s.flux)).max(1.0).log10());
            (o.at.x - s.at.x, o.at.y - s.at.y, reach * reach)
        })
        .collect();
    let edges = EDGES.map(|edge| edge * fwhm_px + 0.5);
    // Masks that a row crosses: their middle and half of their chord, squared.
    let mut chords: Vec<(f64, f64)> = Vec::new();
    for y in cy - r..=cy + r {
        let dy = y.real() - s.at.y;
        chords.clear();
        let crossed = masks
            .iter()
            .map(|(mx, my, r2)| (*mx, r2 - (dy - my).powi(2)));
        chords.extend(crossed.filter(|c| c.1 > 0.0));
        for x in cx - r..=cx + r {
            let dx = x.real() - s.at.x;
            let d = (dx * dx + dy * dy).sqrt();
            if d >= reach + 0.5 {
                continue;
            }
            let v = plane.at(x, y);
            let inner = d < 2.0 * fwhm_px;
            if !v.is_finite() {
                if inner {
                    return None;
                }
                continue;
            }
            if !inner && chords.iter().any(|(mx, half)| (dx - mx).powi(2) < *half) {
                continue;
            }
            // A pixel on a rim counts for both rings by its parts, to first order.
            let first = edges.partition_point(|edge| *edge <= d);
            let mut before = 0.0;
            for (edge, (sum, area)) in edges.iter().zip(&mut sums).skip(first) {
                let part = (edge - d).clamp(0.0, 1.0) - before;
                if part <= 0.0 {
                    break;
                }
                *sum += part * f64::from(v);
                *area += part;
                before += part;
            }
        }
    }
    let mut out = [0.0; EDGES.len()];
    let mut from = 0.0;
    for (k, ((sum, area), edge)) in sums.iter().zip(&EDGES).enumerate() {
        let to = edge * fwhm_px;
        let whole = std::f64::consts::PI * (to * to - from * from);
        if *area < LEAST_SEEN * whole {
            return None;
        }
        out[k] = sum / area;
        from = to;
    }
    let far = out[FAR..].iter().sum::<f64>() / (EDGES.len() - FAR).real();
    for v in &mut out {
        *v = (*v - far) / s.flux;
    }
    Some(out)
}

/// Stars in cells, so that those near another are found at once.
struct Neighbours {
    cell: f64,
    columns: usize,
    rows: usize,
    cells: Vec<Vec<u32>>,
}

impl Neighbours {
    fn of(stars: &[Star], cell: f64) -> Self {
        let far = |of: fn(&Star) -> f64| stars.iter().map(of).fold(0.0, f64::max);
        let count = |v: f64| (v / cell).index().min(4000) + 1;
        let (columns, rows) = (count(far(|s| s.at.x)), count(far(|s| s.at.y)));
        let mut made = Self {
            cell,
            columns,
            rows,
            cells: vec![Vec::new(); columns * rows],
        };
        for (i, s) in stars.iter().enumerate() {
            let (c, r) = made.cell(s);
            made.cells[r * columns + c].push(i.u32());
        }
        made
    }

    fn cell(&self, s: &Star) -> (usize, usize) {
        let at = |v: f64, n: usize| (v.max(0.0) / self.cell).index().min(n - 1);
        (at(s.at.x, self.columns), at(s.at.y, self.rows))
    }

    /// All others in the cells around.
    fn around<'a>(&'a self, stars: &'a [Star], i: usize) -> impl Iterator<Item = &'a Star> + 'a {
        let (c, r) = self.cell(&stars[i]);
        let rows = r.saturating_sub(1)..(r + 2).min(self.rows);
        rows.flat_map(move |r| {
            let columns = c.saturating_sub(1)..(c + 2).min(self.columns);
            columns.flat_map(move |c| &self.cells[r * self.columns + c])
        })
        .filter(move |k| **k as usize != i)
        .map(|k| &stars[*k as usize])
    }
}
