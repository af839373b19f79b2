//! A bright star's own light: the profile that it alone has, and the rays that stand out of it.
//!
//! A star that is hundreds of times as bright as the noise shows what the common profile does not hold: a halo of the
//! filter, spikes of the spider, columns that its charge has run along. Its own profile is the median around it in rings,
//! on a sky that the farthest ring tells; medians do not see rays, nor stars beside it. What stands out of a ring and hangs
//! together with the star is a ray, and hides what lies behind it.

use crate::number::Convert;
use std::ops::Range;

use super::MARGIN;
use super::profile::Profile;
use super::window::Window;
use crate::robust::{MAD_TO_SIGMA, mad, median, quantile};
use crate::space::{FramePx, Point};

/// A star's own light in all planes.
#[derive(Debug, Clone, Default)]
pub(super) struct Halo {
    planes: Vec<Rings>,
    /// Within this distance its pixels are full, or as high as those in its middle.
    pub(super) core: f64,
    /// Within this distance nothing behind it is known.
    pub(super) hole: f64,
    /// Beyond this distance it has no light.
    pub(super) reach: f64,
}

/// Light over distance in one plane.
#[derive(Debug, Clone)]
struct Rings {
    heights: Vec<f32>,
    light: Vec<f32>,
    scatter: Vec<f32>,
    /// Scatter of the sky around it.
    even: f32,
    /// How much darker the darkest of the sky around it is than its middle.
    low: f32,
    noise: f32,
}

/// How high pixels of a square around a star stand over their rings, in the rings' scatter: the highest of all planes.
#[derive(Debug, Clone, Default)]
pub(super) struct Over {
    /// The first of them.
    place: (i64, i64),
    side: usize,
    far: f64,
    heights: Vec<f32>,
}

/// Rings are a pixel wide out to here, and then this part of their distance.
const NARROW_PX: f64 = 16.0;
const WIDER: f64 = 0.06;

/// The ring of a distance.
fn ring(r: f64) -> usize {
    if r < NARROW_PX {
        return r.index();
    }
    (NARROW_PX + (r / NARROW_PX).ln() / WIDER).index()
}

/// The middle of a ring.
fn middle(k: usize) -> f64 {
    let k = k.real() + 0.5;
    if k < NARROW_PX {
        k
    } else {
        NARROW_PX * ((k - NARROW_PX) * WIDER).exp()
    }
}

/// Less light than this, in noise, is none.
const LEAST_SIGMA: f32 = 0.15;

/// Where a ring scatters more than the sky does by this, in noise, the star is not known.
const UNEVEN_SIGMA: f32 = 1.0;

/// The same where it falls by so much over this way: its middle is not known better, nor what it does within a ring.
const STEEP_PX: f32 = 0.15;

/// Of what is looked at, at least the rest must show the sky around it.
const MOST_HOLE: f64 = 0.7;

/// So many rings of a halo are so much higher than they are uneven.
const ROUND_RINGS: usize = 3;
const ROUND: f32 = 4.0;

/// Rings this near to the highest are its core, and it hides so many widths more.
const FLAT: f32 = 0.85;
const FLAT_AND: f64 = 0.7;

/// A pixel this high above its ring, in the ring's scatter, is a ray's; of these the first by which rays hide less than this
/// part of the surroundings, since what hides more is nebula.
const RAY_SIGMA: [f32; 3] = [5.0, 20.0, 80.0];
const MOST_RAYS: f64 = 0.1;

/// The darkest of the sky around a star is this quantile of it; a star's height is held by it out to so many holes.
const DARK: f64 = 0.1;
const TWICE: f64 = 2.0;

/// Pixels of a ring that tell its middle.
const LEAST_PIXELS: usize = 8;

impl Halo {
    /// Measures it in a window without the light of others, out to `far` pixels, for stars of this width, and what stands out
    /// of its rings. `core` is the least radius that is not known.
    pub(super) fn measure(
        at: Point<FramePx>,
        window: &Window,
        noise: &[f32],
        (core, fwhm_px, far): (f64, f64, f64),
    ) -> Option<(Self, Over)> {
        let reach = far.ceil().whole();
        let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
        let side = (2 * reach + 1).index();
        let mut halo = Self {
            hole: core,
            ..Self::default()
        };
        let seen = Seen::new(at, (cx - reach, cy - reach), side, far);
        let mut above = vec![0.0f32; side * side];
        let mut values = vec![f32::NAN; side * side];
        for (p, sigma) in noise.iter().enumerate() {
            values.fill(f32::NAN);
            for (y, line) in (cy - reach..).zip(values.chunks_exact_mut(side)) {
                let (first, row) = window.row(p, y, (cx - reach, cx + reach + 1));
                if !row.is_empty() {
                    let from = (first - (cx - reach)).index();
                    line[from..from + row.len()].copy_from_slice(row);
                }
            }
            let found = seen.rings(&mut values, *sigma)?;
            halo.reach = halo.reach.max(found.reach);
            halo.core = halo.core.max(found.flat + FLAT_AND * fwhm_px);
            halo.hole = halo.hole.max(found.uneven).max(halo.core);
            for ((v, ring), above) in values.iter().zip(&seen.ring).zip(&mut above) {
                let ring = usize::from(*ring);
                if ring < seen.count && v.is_finite() {
                    let over = (v - found.heights[ring]) / found.scatter[ring];
                    *above = above.max(over);
                }
            }
            halo.planes.push(Rings {
                light: by_distance(&found.heights),
                heights: found.heights,
                scatter: found.scatter,
                even: found.even,
                low: found.low,
                noise: *sigma,
            });
        }
        halo.hole = halo.hole.min((MOST_HOLE * far).min(0.45 * MARGIN.real()));
        let over = Over {
            place: (cx - reach, cy - reach),
            side,
            far,
            heights: above,
        };
        Some((halo, over))
    }

    /// Scatter of the sky around it in each plane: its noise, and the folds of what shines there.
    pub(super) fn skies(&self) -> impl Iterator<Item = f32> + '_ {
        self.planes.iter().map(|p| p.even)
    }

    /// The most height that a star of this profile can have without leaving a darker place beyond `hole` than any around.
    pub(super) fn most_height(&self, plane: usize, profile: &Profile, hole: f64) -> f32 {
        let rings = &self.planes[plane];
        let from = ring(hole) + 1;
        (from..rings.heights.len())
            .take_while(|k| middle(*k) < TWICE * hole)
            .map(|k| (rings.heights[k] + rings.low) / profile.at(middle(k)))
            .fold(f32::INFINITY, f32::min)
    }

    /// Does it surely shine beyond a distance? A halo is round; a nebula is not.
    pub(super) fn shines_beyond(&self, r: f64) -> bool {
        self.planes.iter().any(|p| {
            let rings = ring(r) + 1..(ring(r) + 1 + ROUND_RINGS).min(p.heights.len());
            rings.len() == ROUND_RINGS
                && rings.into_iter().all(|k| {
                    let folds = (p.scatter[k] * p.scatter[k] - p.noise * p.noise).max(0.0);
                    p.heights[k] > p.noise && p.heights[k] > ROUND * folds.sqrt()
                })
        })
    }

    /// Its light at a distance.
    #[inline]
    pub(super) fn light(&self, plane: usize, r: f64) -> f32 {
        let light = &self.planes[plane].light;
        let t = r * STEPS;
        let i = t.index();
        match (light.get(i), light.get(i + 1)) {
            (Some(a), Some(b)) => a + (t - i.real()).single() * (b - a),
            _ => 0.0,
        }
    }
}

/// Steps of a pixel in which light over distance is kept.
const STEPS: f64 = 4.0;

/// Light over distance from the heights of rings: straight between their middles.
fn by_distance(heights: &[f32]) -> Vec<f32> {
    let at = |k: usize| heights.get(k).copied().unwrap_or(0.0);
    let steps = (middle(heights.len()) * STEPS).index();
    (0..=steps)
        .map(|i| {
            let r = i.real() / STEPS;
            let k = ring(r);
            let (a, b) = if r < middle(k) && k > 0 {
                (k - 1, k)
            } else {
                (k, k + 1)
            };
            let t = ((r - middle(a)) / (middle(b) - middle(a)))
                .clamp(0.0, 1.0)
                .single();
            at(a) + t * (at(b) - at(a))
        })
        .collect()
}

/// The surroundings of a star: the ring of each pixel, and how many rings there are; pixels beyond have a higher one.
struct Seen {
    ring: Vec<u16>,
    count: usize,
    /// The pixels of each ring, one ring after the other, and where each begins.
    order: Vec<u32>,
    starts: Vec<usize>,
}

impl Seen {
    fn new(at: Point<FramePx>, (left, top): (i64, i64), side: usize, far: f64) -> Self {
        // The ring of a distance, in eighths of a pixel.
        let rings: Vec<u16> = (0..=(8.0 * far).index())
            .map(|i| ring((i.real() + 0.5) / 8.0).u16())
            .collect();
        let of = |k: usize| {
            let (x, y) = ((k % side).whole() + left, (k / side).whole() + top);
            let (dx, dy) = (x.real() - at.x, y.real() - at.y);
            let r = (dx * dx + dy * dy).sqrt();
            rings.get((8.0 * r).index()).copied().unwrap_or(u16::MAX)
        };
        let ring: Vec<u16> = (0..side * side).map(of).collect();
        let count = rings.last().map_or(0, |r| usize::from(*r)) + 1;
        let within = || ring.iter().enumerate().map(|(k, r)| (k, usize::from(*r)));
        let mut starts = vec![0usize; count + 1];
        for (_, r) in within().filter(|(_, r)| *r < count) {
            starts[r + 1] += 1;
        }
        for r in 0..count {
            starts[r + 1] += starts[r];
        }
        let (mut next, mut order) = (starts.clone(), vec![0u32; starts[count]]);
        for (k, r) in within().filter(|(_, r)| *r < count) {
            order[next[r]] = k.u32();
            next[r] += 1;
        }
        Self {
            ring,
            count,
            order,
            starts,
        }
    }

    /// The known pixels of all rings, one ring after the other, and where each ring's are.
    fn sorted(&self, values: &[f32]) -> (Vec<f32>, Vec<Range<usize>>) {
        let mut all = Vec::with_capacity(self.order.len());
        let mut ranges = Vec::with_capacity(self.count);
        for of_ring in self.starts.windows(2) {
            let from = all.len();
            let own = self.order[of_ring[0]..of_ring[1]].iter();
            all.extend(own.map(|k| values[*k as usize]).filter(|v| v.is_finite()));
            ranges.push(from..all.len());
        }
        (all, ranges)
    }
}

/// What its rings tell.
struct Found {
    heights: Vec<f32>,
    scatter: Vec<f32>,
    reach: f64,
    uneven: f64,
    flat: f64,
    even: f32,
    low: f32,
}

impl Seen {
    /// Measures the rings, and takes the sky under the star off the values.
    fn rings(&self, values: &mut [f32], noise: f32) -> Option<Found> {
        let count = self.count;
        let (mut all, rings) = self.sorted(values);
        // The sky is level: what the last two rings show. A tilt drops out of every whole ring's median.
        let mut outer = all[rings[count.saturating_sub(2)].start..].to_vec();
        if outer.len() < LEAST_PIXELS {
            return None;
        }
        let sky = median(&mut outer);
        let low = sky - quantile(&mut outer, DARK);
        for v in values.iter_mut().chain(&mut all) {
            *v -= sky;
        }
        let mut heights = Vec::with_capacity(count);
        let mut scatter = Vec::with_capacity(count);
        for ring in rings {
            let r = &mut all[ring];
            if r.len() < LEAST_PIXELS.min(4) {
                heights.push(f32::NAN);
                scatter.push(f32::NAN);
                continue;
            }
            let level = median(r);
            heights.push(level);
            scatter.push((mad(r, level) * MAD_TO_SIGMA.single()).max(noise));
        }
        let last = scatter[count.saturating_sub(3)..].iter().copied();
        let even = last.filter(|v| v.is_finite()).fold(noise, f32::max);
        // Light falls outwards; rings without pixels are as the one before.
        let first = heights.iter().copied().find(|h| h.is_finite())?;
        let (mut below, mut known) = (first, noise);
        for (h, s) in heights.iter_mut().zip(&mut scatter) {
            if h.is_nan() {
                *h = below;
            }
            if s.is_nan() {
                *s = known;
            }
            known = *s;
            *h = h.min(below).max(0.0);
            below = *h;
        }
        let last = heights.iter().rposition(|h| *h > LEAST_SIGMA * noise);
        let uneven = (0..count)
            .rev()
            .find(|k| {
                let over = scatter[*k] * scatter[*k] - even * even;
                let uneven = heights[*k] > noise && over > (UNEVEN_SIGMA * noise).powi(2);
                let next = heights.get(k + 1).copied().unwrap_or(0.0);
                let slope = (heights[*k] - next) / (middle(k + 1) - middle(*k)).single();
                uneven || slope * STEEP_PX > UNEVEN_SIGMA * noise
            })
            .map_or(0.0, |k| middle(k) + 1.0);
        let flat = heights.iter().rposition(|h| *h >= FLAT * heights[0]);
        Some(Found {
            low,
            flat: flat.map_or(0.0, middle),
            even,
            reach: last.map_or(0.0, middle),
            uneven,
            heights,
            scatter,
        })
    }
}

impl Over {
    /// Spans of rows that its rays hide beyond a hole: row, first column and the one behind the last; from top to bottom.
    pub(super) fn rays(&self, at: Point<FramePx>, hole: f64) -> Vec<(i64, i64, i64)> {
        let mut bars = RAY_SIGMA.into_iter();
        bars.find_map(|bar| self.spans(bar, at, hole))
            .unwrap_or_default()
    }

    /// Spans of pixels above their rings by `bar` that hang together with the hole, a pixel wider than they are. `None` where
    /// they hide too much.
    fn spans(&self, bar: f32, at: Point<FramePx>, hole: f64) -> Option<Vec<(i64, i64, i64)>> {
        let (side, far) = (self.side, self.far);
        let above: Vec<bool> = self.heights.iter().map(|v| *v > bar).collect();
        let place = |k: usize| {
            let (left, top) = self.place;
            (left + (k % side).whole(), top + (k / side).whole())
        };
        let distance = |k: usize| {
            let (x, y) = place(k);
            at.distance(Point::new(x.real(), y.real()))
        };
        let mut taken = vec![false; above.len()];
        let mut open: Vec<usize> = (0..above.len())
            .filter(|k| {
                let rim = hole - 1.0..hole + 2.5;
                above[*k] && rim.contains(&distance(*k))
            })
            .collect();
        for k in &open {
            taken[*k] = true;
        }
        let mut count = open.len();
        while let Some(k) = open.pop() {
            for n in around(k, side) {
                // A gap of one pixel does not end a ray.
                for m in std::iter::once(n).chain(around(n, side)) {
                    if above[m] && !taken[m] && distance(m) > hole - 1.0 && distance(m) < far {
                        taken[m] = true;
                        count += 1;
                        open.push(m);
                    }
                }
            }
        }
        let area = std::f64::consts::PI * (far * far - hole * hole);
        if count.real() > MOST_RAYS * area {
            return None;
        }
        let mut spans = Vec::new();
        if count == 0 {
            return Some(spans);
        }
        let mut wide = taken.clone();
        for k in (0..taken.len()).filter(|k| taken[*k]) {
            around(k, side).for_each(|n| wide[n] = true);
        }
        for row in 0..side {
            let mut x = 0;
            while x < side {
                if !wide[row * side + x] {
                    x += 1;
                    continue;
                }
                let from = x;
                while x < side && wide[row * side + x] {
                    x += 1;
                }
                let (a, y) = place(row * side + from);
                spans.push((y, a, a + (x - from).whole()));
            }
        }
        Some(spans)
    }
}

/// The neighbours of a pixel in a square.
fn around(k: usize, side: usize) -> impl Iterator<Item = usize> {
    let (x, y) = ((k % side).whole(), (k / side).whole());
    let inside = move |v: i64| v >= 0 && v < side.whole();
    (-1..=1).flat_map(move |dy| {
        (-1..=1)
            .filter(move |dx| (*dx, dy) != (0, 0) && inside(x + dx) && inside(y + dy))
            .map(move |dx| (y + dy).index() * side + (x + dx).index())
    })
}
