//! The height of a star that fits its pixels best.

use crate::number::Convert;
use multiversion::multiversion;

use super::ellipse::Ellipse;
use super::profile::Profile;
use super::window::Window;
use crate::space::{FramePx, Point};
use crate::stars::Star;

/// Sky comes from a ring around what is fitted, out to so many of its radii, so that star and sky do not trade.
pub(super) const SKY_RING: f64 = 1.8;

/// With fewer pixels nothing is fitted.
const LEAST_PIXELS: usize = 12;

/// The pixels around a star: the same in every plane, for every fit.
pub(super) struct Surroundings {
    /// Rows of it: where they lie, their first column, and how many pixels they have.
    rows: Vec<(i64, i64, usize)>,
    /// Of each pixel the way from the star's middle, and the distance along its ellipse.
    x: Vec<f64>,
    y: Vec<f64>,
    r: Vec<f64>,
    at: (f64, f64),
}

/// Something else that shines there.
pub(super) trait Shines {
    fn at(&self) -> Point<FramePx>;

    /// Is its light known?
    fn is_measured(&self) -> bool;

    /// Its light in a plane at a place, from its middle.
    fn light_at(&self, plane: usize, profile: &Profile, dx: f64, dy: f64) -> f32;
}

/// What they show in one plane.
pub(super) struct Seen<'a> {
    around: &'a Surroundings,
    /// Each pixel less the light of others; NaN for one that does not count.
    values: Vec<f64>,
    /// The profile at each.
    heights: Vec<f64>,
}

impl Surroundings {
    /// Of a star whose pixels are fitted out to a radius.
    pub(super) fn new(star: &Star, ellipse: Ellipse, to: f64) -> Self {
        let far = SKY_RING * to;
        let reach = far.ceil().whole();
        let (cx, cy) = (star.at.x.round().whole(), star.at.y.round().whole());
        let mut all = Self {
            rows: Vec::new(),
            x: Vec::new(),
            y: Vec::new(),
            r: Vec::new(),
            at: (star.at.x, star.at.y),
        };
        for y in cy - reach..=cy + reach {
            let dy = y.real() - star.at.y;
            let (mut first, mut count) = (0, 0);
            for x in cx - reach..=cx + reach {
                let dx = x.real() - star.at.x;
                let r = ellipse.distance(dx, dy);
                if r <= far {
                    if count == 0 {
                        first = x;
                    }
                    count += 1;
                    all.x.push(dx);
                    all.y.push(dy);
                    all.r.push(r);
                }
            }
            if count > 0 {
                all.rows.push((y, first, count));
            }
        }
        all
    }

    /// What a plane shows there. The light of `near` ones is taken off; of those that are not measured yet, pixels nearer to
    /// them do not count.
    pub(super) fn seen<'a>(
        &'a self,
        window: &Window,
        (plane, profile): (usize, &Profile),
        near: &[&impl Shines],
    ) -> Seen<'a> {
        let mut values = Vec::with_capacity(self.r.len());
        for (y, first, count) in &self.rows {
            let (left, row) = window.row(plane, *y, (*first, first + (*count).whole()));
            let end = values.len() + count;
            if !row.is_empty() {
                values.resize(values.len() + (left - first).index(), f64::NAN);
                values.extend(row.iter().map(|v| f64::from(*v)));
            }
            values.resize(end, f64::NAN);
        }
        for s in near {
            let (ox, oy) = (self.at.0 - s.at().x, self.at.1 - s.at().y);
            let places = self.x.iter().zip(&self.y).zip(&mut values);
            if s.is_measured() {
                for ((dx, dy), v) in places {
                    *v -= f64::from(s.light_at(plane, profile, dx + ox, dy + oy));
                }
            } else {
                for ((dx, dy), v) in places {
                    let (x, y) = (dx + ox, dy + oy);
                    if x * x + y * y < dx * dx + dy * dy {
                        *v = f64::NAN;
                    }
                }
            }
        }
        Seen {
            around: self,
            values,
            heights: self.r.iter().map(|r| f64::from(profile.at(*r))).collect(),
        }
    }
}

impl Seen<'_> {
    /// The height that fits the pixels between two distances best, on a sky that may be tilted. `None` for too few pixels.
    pub(super) fn fitted(&self, (from, to): (f64, f64)) -> Option<f32> {
        let Surroundings { x, y, r, .. } = self.around;
        let sums = sums(
            [&self.values, &self.heights, x, y, r],
            (from, SKY_RING * to, 1.0 / to),
        );
        // The pixels' own number is the sum of the level's squares.
        if sums[ROW[1] + 1] < LEAST_PIXELS.real() {
            return None;
        }
        // The matrix is symmetric: its lower half is enough for the solution.
        let entry = |i: usize, j: usize| if j <= i { sums[ROW[i] + j] } else { 0.0 };
        let normal = nalgebra::SMatrix::<f64, TERMS, TERMS>::from_fn(entry);
        let right = nalgebra::SVector::<f64, TERMS>::from_fn(|i, _| sums[ROW[TERMS] + i]);
        let solved = normal.cholesky()?.solve(&right);
        solved[0].is_finite().then_some(solved[0].single())
    }
}

/// The fit has height, level and tilt.
const TERMS: usize = 4;

/// Where the rows of the lower half of its matrix begin among the sums, and behind them its right side.
const ROW: [usize; TERMS + 1] = [0, 1, 3, 6, 10];
const SUMS: usize = ROW[TERMS] + TERMS;

/// So many pixels go at a time.
const LANES: usize = 4;

/// The sums of a fit over the pixels between two distances: values, heights of the profile, the way from the middle, and the
/// distance; the last number is the unit of the way.
#[multiversion(targets("x86_64+avx2"))]
fn sums(pixels: [&[f64]; 5], (from, far, unit): (f64, f64, f64)) -> [f64; SUMS] {
    let mut sums = [[0.0f64; LANES]; SUMS];
    let mut chunks = pixels.map(|p| p.chunks_exact(LANES));
    let n = pixels[0].len() / LANES;
    for _ in 0..n {
        let [v, h, x, y, r] = chunks
            .each_mut()
            .map(|c| lanes(c.next().unwrap_or_default()));
        add(&mut sums, [v, h, x, y, r], (from, far, unit));
    }
    let rest = chunks.map(|c| lanes(c.remainder()));
    add(&mut sums, rest, (from, far, unit));
    sums.map(|lanes| lanes.iter().sum())
}

/// Pixels as lanes; missing ones are NaN and do not count.
#[inline(always)]
#[allow(clippy::inline_always)] // Into the versions of its callers.
fn lanes(pixels: &[f64]) -> [f64; LANES] {
    std::array::from_fn(|k| pixels.get(k).copied().unwrap_or(f64::NAN))
}

/// Adds some pixels to the sums.
#[inline(always)]
#[allow(clippy::inline_always)] // Into the versions of its callers.
fn add(
    sums: &mut [[f64; LANES]; SUMS],
    [v, h, x, y, r]: [[f64; LANES]; 5],
    (from, far, unit): (f64, f64, f64),
) {
    let mut terms = [[0.0; LANES]; TERMS];
    let mut values = [0.0; LANES];
    for k in 0..LANES {
        // A missing value is no number, and no comparison holds for it.
        let counts = r[k] >= from && r[k] <= far && v[k].abs() <= f64::MAX;
        let one = if counts { 1.0 } else { 0.0 };
        values[k] = if counts { v[k] } else { 0.0 };
        terms[0][k] = if counts { h[k] } else { 0.0 };
        terms[1][k] = one;
        terms[2][k] = if counts { x[k] * unit } else { 0.0 };
        terms[3][k] = if counts { y[k] * unit } else { 0.0 };
    }
    for i in 0..TERMS {
        for j in 0..=i {
            for k in 0..LANES {
                sums[ROW[i] + j][k] += terms[i][k] * terms[j][k];
            }
        }
        for k in 0..LANES {
            sums[ROW[TERMS] + i][k] += terms[i][k] * values[k];
        }
    }
}
