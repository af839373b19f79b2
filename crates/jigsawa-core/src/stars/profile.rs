//! One star's profile: an elliptical Moffat function (Moffat 1969, A&A 3, 455) on a constant sky,
//! fitted by Levenberg-Marquardt to the pixels around it.
//!
//! I(x, y) = sky + amplitude (1 + Q)^-beta with Q = a dx^2 + 2 b dx dy + c dy^2. Beta is given: it is
//! one number for a frame, and a free one would trade against the width. All pixels weigh alike,
//! which is best where the sky's noise rules, and keeps a slightly wrong profile from pulling the
//! centre; bright stars lose some per cent of precision by it that nobody misses. The pixel's own
//! width is part of the fitted one: FWHM is that of the star as sampled.

// Only what stands inside of a function for AVX2 is compiled for it.
#![allow(clippy::inline_always)]

use crate::number::Convert;
use multiversion::multiversion;
use nalgebra::{SMatrix, SVector};

use crate::plane::Plane;
use crate::space::{FramePx, Point};

/// A fitted profile.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Profile {
    /// The centre.
    pub at: Point<FramePx>,
    /// Height above the sky.
    pub amplitude: f64,
    /// Full width at half maximum: the geometric mean of both axes.
    pub fwhm_px: f64,
    /// Long over short axis, 1 or more.
    pub elongation: f64,
    /// Direction of the long axis from +x towards +y, in (-pi/2, pi/2].
    pub angle_rad: f64,
    /// Root mean square of what the profile leaves, in the units of the frame.
    pub residual: f64,
}

type Params = SVector<f64, 7>;

/// Rounds of the fit; well-behaved stars need five to eight.
const MOST_ROUNDS: usize = 25;

/// A round that improves the sum by less than this part, and moves the centre by less than this, is the
/// last: a hundredth of what noise leaves of any star.
const LEAST_GAIN: f64 = 1e-6;
const LEAST_STEP_PX: f64 = 1e-4;

/// Fits a star near `start` with a first guess of its width; pixels at or above `ceiling` are left
/// out, and `beta` is rounded down to a multiple of one half. `None` when fewer than 20 pixels are usable, or when the fit runs away from the start.
pub fn fit(
    plane: &Plane,
    start: Point<FramePx>,
    fwhm_px: f64,
    beta: f64,
    ceiling: f32,
) -> Option<Profile> {
    let pixels = gather(plane, start, fwhm_px, ceiling);
    if pixels.len() < 20 {
        return None;
    }
    let mut values: Vec<f32> = pixels.values.iter().map(|v| (*v).single()).collect();
    let sky = f64::from(crate::robust::quantile(&mut values, 0.25));
    let peak = pixels.values.iter().copied().fold(f64::MIN, f64::max);
    let width = (2f64.powf(1.0 / beta) - 1.0) / (fwhm_px / 2.0).powi(2);
    let mut p = Params::from([(peak - sky).max(1e-12), 0.0, 0.0, width, 0.0, width, sky]);
    let mut damping = 1e-3;
    let mut sum = residual_sum(&pixels, &p, beta);
    for _ in 0..MOST_ROUNDS {
        let (hessian, gradient) = normal_equations(&pixels, &p, beta);
        let mut damped = hessian;
        for i in 0..7 {
            damped[(i, i)] *= 1.0 + damping;
        }
        let step = damped.cholesky()?.solve(&gradient);
        let next = p + step;
        let next_sum = if is_ellipse(&next) {
            residual_sum(&pixels, &next, beta)
        } else {
            f64::INFINITY
        };
        if next_sum < sum {
            let gain = (sum - next_sum) / sum.max(f64::MIN_POSITIVE);
            p = next;
            sum = next_sum;
            damping *= 0.2;
            if gain < LEAST_GAIN && step[1].hypot(step[2]) < LEAST_STEP_PX {
                break;
            }
        } else {
            damping *= 8.0;
            if damping > 1e8 {
                break;
            }
        }
    }
    let wandered = p[1].hypot(p[2]) > 0.75 * fwhm_px + 1.0;
    if wandered || p[0] <= 0.0 || !sum.is_finite() {
        return None;
    }
    Some(describe(
        &p,
        start,
        beta,
        (sum / pixels.len().real()).sqrt(),
    ))
}

/// Pixels around the start, by coordinate: so that several are worked on at once.
#[derive(Default)]
struct Pixels {
    x: Vec<f64>,
    y: Vec<f64>,
    values: Vec<f64>,
}

impl Pixels {
    fn len(&self) -> usize {
        self.values.len()
    }

    /// So many at once, and those that are left over.
    fn lanes(&self) -> (Lanes<'_, LANES>, Lanes<'_, 1>) {
        let (x, x_rest) = self.x.as_chunks();
        let (y, y_rest) = self.y.as_chunks();
        let (values, rest) = self.values.as_chunks();
        let ones = (
            x_rest.as_chunks().0,
            y_rest.as_chunks().0,
            rest.as_chunks().0,
        );
        ((x, y, values), ones)
    }
}

/// Coordinates and values, so many at once.
type Lanes<'a, const N: usize> = (&'a [[f64; N]], &'a [[f64; N]], &'a [[f64; N]]);

/// A register of AVX2 holds so many.
const LANES: usize = 4;

/// The finite pixels around the start, below the ceiling.
fn gather(plane: &Plane, start: Point<FramePx>, fwhm_px: f64, ceiling: f32) -> Pixels {
    let reach = (1.6 * fwhm_px).max(3.0);
    let r = reach.ceil().whole();
    let (cx, cy) = (start.x.round().whole(), start.y.round().whole());
    let mut pixels = Pixels::default();
    for y in cy - r..=cy + r {
        for x in cx - r..=cx + r {
            let v = plane.at(x, y);
            let (dx, dy) = (x.real() - start.x, y.real() - start.y);
            if v.is_finite() && v < ceiling && dx * dx + dy * dy <= (reach + 0.5).powi(2) {
                pixels.x.push(dx);
                pixels.y.push(dy);
                pixels.values.push(f64::from(v));
            }
        }
    }
    pixels
}

fn is_ellipse(p: &Params) -> bool {
    p[3] > 1e-6 && p[5] > 1e-6 && p[3] * p[5] > p[4] * p[4] && p.iter().all(|v| v.is_finite())
}

/// u^-beta for a beta that is a multiple of one half, given twice: a root and some products, a tenth of the time of the
/// general power.
#[inline(always)]
fn moffat<const N: usize>(u: [f64; N], twice: i32) -> [f64; N] {
    let r = u.map(|u| 1.0 / u.sqrt());
    // The exponents that frames have are known to the compiler.
    let power = |r: f64| -> f64 {
        let (r2, r5) = (r * r, r * r * r * r * r);
        match twice {
            5 => r5,
            7 => r5 * r2,
            10 => r5 * r5,
            20 => (r5 * r5) * (r5 * r5),
            n => r.powi(n),
        }
    };
    r.map(power)
}

/// Offsets from the centre, and one more than the quadratic form.
#[inline(always)]
fn offsets<const N: usize>(p: &Params, x: &[f64; N], y: &[f64; N]) -> [[f64; N]; 3] {
    let (mut dx, mut dy, mut u) = ([0.0; N], [0.0; N], [0.0; N]);
    for k in 0..N {
        (dx[k], dy[k]) = (x[k] - p[1], y[k] - p[2]);
        u[k] = 1.0 + p[3] * dx[k] * dx[k] + 2.0 * p[4] * dx[k] * dy[k] + p[5] * dy[k] * dy[k];
    }
    [dx, dy, u]
}

#[multiversion(targets("x86_64+avx2"))]
fn residual_sum(pixels: &Pixels, p: &Params, beta: f64) -> f64 {
    let (many, ones) = pixels.lanes();
    squares(many, p, beta) + squares(ones, p, beta)
}

#[inline(always)]
fn squares<const N: usize>((xs, ys, values): Lanes<'_, N>, p: &Params, beta: f64) -> f64 {
    let twice = (2.0 * beta).i32();
    let mut sums = [0.0; N];
    for ((x, y), v) in xs.iter().zip(ys).zip(values) {
        let [_, _, u] = offsets(p, x, y);
        let m = moffat(u, twice);
        for k in 0..N {
            let r = v[k] - p[6] - p[0] * m[k];
            sums[k] += r * r;
        }
    }
    sums.iter().sum()
}

/// The terms of the normal equations: the lower half of the matrix, row by row, and the gradient.
const TERMS: usize = 28;

fn normal_equations(pixels: &Pixels, p: &Params, beta: f64) -> (SMatrix<f64, 7, 7>, Params) {
    let mut sums = [0.0; TERMS + 7];
    add_terms(pixels, p, beta, &mut sums);
    let mut hessian = SMatrix::<f64, 7, 7>::zeros();
    let mut terms = sums.iter();
    for i in 0..7 {
        for (j, term) in (0..=i).zip(terms.by_ref()) {
            hessian[(i, j)] = *term;
            hessian[(j, i)] = *term;
        }
    }
    (hessian, Params::from_iterator(terms.copied()))
}

#[multiversion(targets("x86_64+avx2"))]
fn add_terms(pixels: &Pixels, p: &Params, beta: f64, sums: &mut [f64; TERMS + 7]) {
    let (many, ones) = pixels.lanes();
    add_lanes(many, p, beta, sums);
    add_lanes(ones, p, beta, sums);
}

#[inline(always)]
fn add_lanes<const N: usize>(
    (xs, ys, values): Lanes<'_, N>,
    p: &Params,
    beta: f64,
    sums: &mut [f64; TERMS + 7],
) {
    let twice = (2.0 * beta).i32();
    let mut lanes = [[0.0; N]; TERMS + 7];
    for ((x, y), v) in xs.iter().zip(ys).zip(values) {
        let [dx, dy, u] = offsets(p, x, y);
        let m = moffat(u, twice);
        let mut row = [[1.0; N]; 7];
        let mut left = [0.0; N];
        for k in 0..N {
            let slope = -beta * p[0] * m[k] / u[k];
            row[0][k] = m[k];
            row[1][k] = slope * -2.0 * (p[3] * dx[k] + p[4] * dy[k]);
            row[2][k] = slope * -2.0 * (p[4] * dx[k] + p[5] * dy[k]);
            row[3][k] = slope * dx[k] * dx[k];
            row[4][k] = slope * 2.0 * dx[k] * dy[k];
            row[5][k] = slope * dy[k] * dy[k];
            left[k] = v[k] - p[6] - p[0] * m[k];
        }
        let mut at = 0;
        for i in 0..7 {
            for j in 0..=i {
                for k in 0..N {
                    lanes[at][k] += row[i][k] * row[j][k];
                }
                at += 1;
            }
        }
        for (i, row) in row.iter().enumerate() {
            for k in 0..N {
                lanes[TERMS + i][k] += row[k] * left[k];
            }
        }
    }
    for (sum, lanes) in sums.iter_mut().zip(&lanes) {
        *sum += lanes.iter().sum::<f64>();
    }
}

fn describe(p: &Params, start: Point<FramePx>, beta: f64, residual: f64) -> Profile {
    let (a, b, c) = (p[3], p[4], p[5]);
    let mean = 0.5 * (a + c);
    let half = (0.25 * (a - c) * (a - c) + b * b).sqrt();
    let (small, large) = ((mean - half).max(1e-9), mean + half);
    let full = |lambda: f64| 2.0 * ((2f64.powf(1.0 / beta) - 1.0) / lambda).sqrt();
    // The long axis belongs to the smaller eigenvalue.
    let angle = 0.5 * (-2.0 * b).atan2(c - a);
    Profile {
        at: Point::new(start.x + p[1], start.y + p[2]),
        amplitude: p[0],
        fwhm_px: (full(small) * full(large)).sqrt(),
        elongation: (large / small).sqrt(),
        angle_rad: angle,
        residual,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use rstest::rstest;

    fn star(at: (f64, f64), long: f64, short: f64, angle: f64, beta: f64) -> Plane {
        let k = 4.0 * (2f64.powf(1.0 / beta) - 1.0);
        Plane::from_fn(Size::new(41, 39).unwrap(), |x, y| {
            let (dx, dy) = (x.real() - at.0, y.real() - at.1);
            let u = dx * angle.cos() + dy * angle.sin();
            let v = dy * angle.cos() - dx * angle.sin();
            let q = k * ((u / long).powi(2) + (v / short).powi(2));
            (50.0 + 800.0 * (1.0 + q).powf(-beta)).single()
        })
    }

    #[rstest]
    #[case::round(3.0, 3.0, 0.0, 3.5)]
    #[case::leaning(4.0, 3.0, 0.6, 3.5)]
    #[case::leaning_back(5.0, 3.0, -1.1, 2.5)]
    #[case::narrow(2.0, 1.8, 0.2, 5.0)]
    fn a_noiseless_star_is_recovered(
        #[case] long: f64,
        #[case] short: f64,
        #[case] angle: f64,
        #[case] beta: f64,
    ) {
        let plane = star((20.3, 18.8), long, short, angle, beta);
        let p = fit(&plane, Point::new(20.0, 19.0), 3.0, beta, f32::INFINITY).unwrap();
        assert!(p.at.distance(Point::new(20.3, 18.8)) < 1e-4, "{p:?}");
        assert!((p.fwhm_px - (long * short).sqrt()).abs() < 1e-3, "{p:?}");
        assert!((p.elongation - long / short).abs() < 1e-3, "{p:?}");
        assert!((p.amplitude - 800.0).abs() < 0.5);
        if long > short {
            assert!((p.angle_rad - angle).abs() < 1e-3, "{p:?}");
        }
    }

    #[test]
    fn a_cut_core_is_bridged_and_an_empty_place_is_refused() {
        let plane = star((20.3, 18.8), 4.0, 4.0, 0.0, 3.5);
        let p = fit(&plane, Point::new(20.0, 19.0), 4.0, 3.5, 600.0).unwrap();
        assert!(p.at.distance(Point::new(20.3, 18.8)) < 1e-2);
        let missing = Plane::filled(Size::new(20, 20).unwrap(), f32::NAN);
        assert!(fit(&missing, Point::new(9.0, 9.0), 3.0, 3.5, f32::INFINITY).is_none());
    }
}
