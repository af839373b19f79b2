//! Trails of satellites and aircraft: straight lines of light across a frame.
//!
//! In: a frame made smaller, with its fine light only. Out: the lines that stand out, each with its
//! ends. Every pixel above its surroundings votes for all lines through it (the transform of Hough, in
//! the angle-and-distance form of Duda & Hart 1972, Comm. ACM 15, 11); a line counts when it has many
//! more votes than lines of its length have by chance, and when it is lit along most of the way: rows
//! of stars and filaments of nebula have gaps and bends. Stars of any brightness have one vote a pixel.

use crate::number::Convert;
use multiversion::multiversion;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad, median};

/// A trail, with its ends in pixels of the plane that was searched.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Trail {
    /// One end.
    pub from: (f64, f64),
    /// The other.
    pub to: (f64, f64),
    /// Mean height over its surroundings, in noise widths of the searched plane.
    pub height_sigma: f64,
}

/// Half a box over which a pixel's surroundings are taken.
const AROUND: usize = 5;

/// A pixel so much above its surroundings votes.
const VOTE_SIGMA: f32 = 2.0;

/// Steps over half a turn: at the ends of a line across 700 pixels the half step is off by a pixel.
const ANGLES: usize = 540;

/// A line has so many more votes than chance, in widths of the distribution over all lines.
const LEAST_VOTES_SIGMA: f64 = 8.0;

/// Pieces along a line; most of them in a row must be lit.
const PIECES: usize = 24;
const LEAST_LIT: f64 = 0.6;

/// A piece is lit when its mean stands so many of its own errors over what is beside it.
const LIT_SIGMA: f64 = 2.0;

/// Shorter lines, in parts of the short side, are no trails.
const LEAST_LENGTH: f64 = 0.35;

/// More trails are not told apart.
const MOST: usize = 6;

/// Trails on a plane of some hundred pixels a side.
pub fn trails(plane: &Plane) -> Vec<Trail> {
    let (w, h) = (plane.size().width(), plane.size().height());
    if w.min(h) < 4 * AROUND {
        return Vec::new();
    }
    let (mut fine, noise) = fine_light(plane);
    if noise <= 0.0 || !noise.is_finite() {
        return Vec::new();
    }
    let mut found = Vec::new();
    while found.len() < MOST {
        let Some(line) = strongest(&fine, (w, h), VOTE_SIGMA * noise) else {
            break;
        };
        let lit = follow(&fine, (w, h), line, f64::from(noise));
        erase(&mut fine, (w, h), line);
        match lit {
            Some(trail) => found.push(trail),
            None => break,
        }
    }
    found
}

/// Each pixel less the mean of the box around it, taken twice: the second time without the pixels
/// that stood out. And the noise of what is left.
fn fine_light(plane: &Plane) -> (Vec<f32>, f32) {
    let (w, h) = (plane.size().width(), plane.size().height());
    let mut around = vec![0.0; w * h];
    box_mean(plane.data(), (w, h), &mut around);
    let noise_of = |around: &[f32]| {
        let mut off: Vec<f32> = plane
            .data()
            .iter()
            .zip(around)
            .map(|(v, a)| v - a)
            .filter(|v| v.is_finite())
            .step_by(3)
            .collect();
        let middle = median(&mut off);
        (middle, mad(&mut off, middle) * MAD_TO_SIGMA.single())
    };
    let (_, noise) = noise_of(&around);
    let clipped: Vec<f32> = plane
        .data()
        .iter()
        .zip(&around)
        .map(|(v, a)| if v - a > 2.0 * noise { *a } else { *v })
        .collect();
    box_mean(&clipped, (w, h), &mut around);
    let (middle, noise) = noise_of(&around);
    let fine = plane
        .data()
        .iter()
        .zip(&around)
        .map(|(v, a)| v - a - middle)
        .collect();
    (fine, noise)
}

/// The mean over a box of `2 AROUND + 1` pixels a side, missing pixels not counted.
fn box_mean(from: &[f32], (w, h): (usize, usize), out: &mut [f32]) {
    let mut sums = vec![(0.0f64, 0u32); (w + 1) * (h + 1)];
    for y in 0..h {
        let (mut sum, mut count) = (0.0, 0);
        for x in 0..w {
            let v = from[y * w + x];
            if v.is_finite() {
                sum += f64::from(v);
                count += 1;
            }
            let above = sums[y * (w + 1) + x + 1];
            sums[(y + 1) * (w + 1) + x + 1] = (above.0 + sum, above.1 + count);
        }
    }
    for y in 0..h {
        let (y0, y1) = (y.saturating_sub(AROUND), (y + AROUND + 1).min(h));
        for x in 0..w {
            let (x0, x1) = (x.saturating_sub(AROUND), (x + AROUND + 1).min(w));
            let at = |x: usize, y: usize| sums[y * (w + 1) + x];
            let (a, b, c, d) = (at(x1, y1), at(x0, y1), at(x1, y0), at(x0, y0));
            let sum = a.0 - b.0 - c.0 + d.0;
            let count = (a.1 + d.1) - (b.1 + c.1);
            out[y * w + x] = (sum / f64::from(count)).single();
        }
    }
}

/// A line: the points with `x cos(angle) + y sin(angle) = distance`, from the plane's middle.
#[derive(Debug, Clone, Copy)]
struct Line {
    /// Cosine and sine of the angle.
    c: f64,
    s: f64,
    distance: f64,
}

impl Line {
    /// The part of the line on the plane, in pixels along it from its foot; `None` when it misses.
    fn ends(self, (w, h): (usize, usize)) -> Option<(f64, f64)> {
        let (s, c) = (self.s, self.c);
        let (mx, my) = ((w - 1).real() / 2.0, (h - 1).real() / 2.0);
        let (mut from, mut to) = (f64::NEG_INFINITY, f64::INFINITY);
        // The point at t is foot + t (-s, c).
        for (foot, along, half) in [(self.distance * c, -s, mx), (self.distance * s, c, my)] {
            if along.abs() < 1e-12 {
                if foot.abs() > half {
                    return None;
                }
                continue;
            }
            let (a, b) = ((-half - foot) / along, (half - foot) / along);
            from = from.max(a.min(b));
            to = to.min(a.max(b));
        }
        (to > from).then_some((from, to))
    }

    fn point(self, t: f64, aside: f64, (w, h): (usize, usize)) -> (f64, f64) {
        let (s, c) = (self.s, self.c);
        let d = self.distance + aside;
        (
            (w - 1).real() / 2.0 + d * c - t * s,
            (h - 1).real() / 2.0 + d * s + t * c,
        )
    }
}

/// The line with the most votes over chance, if any stands out.
fn strongest(fine: &[f32], (w, h): (usize, usize), bar: f32) -> Option<Line> {
    // Twice the distance from the middle, in whole numbers: with millions of votes the change from float
    // to whole numbers would be the main cost.
    let (mx, my) = (w.i32() - 1, h.i32() - 1);
    let (mut xs, mut ys): (Vec<i32>, Vec<i32>) = (Vec::new(), Vec::new());
    for (i, _) in fine.iter().enumerate().filter(|(_, v)| **v > bar) {
        xs.push(2 * (i % w).i32() - mx);
        ys.push(2 * (i / w).i32() - my);
    }
    let part = xs.len().real() / (w * h).real();
    let half = (0.5 * f64::from(mx).hypot(f64::from(my))).ceil().index() + 1;
    let least = LEAST_LENGTH * w.min(h).real();
    let scores: Vec<(Vec<f32>, Line)> = (0..ANGLES)
        .into_par_iter()
        .map_init(
            || (Vec::new(), Vec::new()),
            |(votes, places), a| {
                let angle = a.real() / ANGLES.real() * std::f64::consts::PI;
                let (s, c) = angle.sin_cos();
                distances(&xs, &ys, (c, s), half, places);
                votes.clear();
                votes.resize(2 * half + 2, 0u32);
                for p in places.iter() {
                    votes[*p as usize] += 1;
                }
                let mut best = (f64::NEG_INFINITY, 0.0);
                // Two neighbours together: a trail is as wide as that, wherever the grid falls.
                let of_lines: Vec<f32> = votes
                    .windows(2)
                    .enumerate()
                    .filter_map(|(i, two)| {
                        let distance = i.real() + 0.5 - half.real();
                        let line = Line { c, s, distance };
                        let (from, to) = line.ends((w, h))?;
                        let length = to - from;
                        if length < least {
                            return None;
                        }
                        let expected = 2.0 * length * part;
                        let score =
                            (f64::from(two[0] + two[1]) - expected) / expected.max(1.0).sqrt();
                        if score > best.0 {
                            best = (score, line.distance);
                        }
                        Some(score.single())
                    })
                    .collect();
                (
                    of_lines,
                    Line {
                        c,
                        s,
                        distance: best.1,
                    },
                )
            },
        )
        .collect();
    let mut sample: Vec<f32> = scores
        .iter()
        .flat_map(|(s, _)| s.iter().step_by(7).copied())
        .collect();
    let middle = median(&mut sample);
    let width = f64::from(mad(&mut sample, middle)) * MAD_TO_SIGMA;
    let (best, line) = scores
        .iter()
        .map(|(s, line)| (s.iter().copied().fold(f32::NEG_INFINITY, f32::max), *line))
        .max_by(|a, b| a.0.total_cmp(&b.0))?;
    (f64::from(best - middle) > LEAST_VOTES_SIGMA * width.max(1.0)).then_some(line)
}

/// The whole distances of places (twice their offsets from the middle) along a direction, plus `half`,
/// rounded. Fixed point with 14 bits: off by a tenth of a pixel at most on planes of a thousand.
#[multiversion(targets("x86_64+avx2"))]
fn distances(xs: &[i32], ys: &[i32], (c, s): (f64, f64), half: usize, out: &mut Vec<u32>) {
    const BITS: u32 = 14;
    let fixed = |v: f64| (v * f64::from(1u32 << BITS)).round().i32();
    let (c, s) = (fixed(c), fixed(s));
    let start = ((2 * half.i32()) << BITS) + (1 << BITS);
    out.clear();
    out.extend(
        xs.iter()
            .zip(ys)
            .map(|(x, y)| ((x * c + y * s + start) >> (BITS + 1)).u32()),
    );
}

/// Mean of the fine light along a piece of a line, `aside` pixels from it, each value cut at three
/// noise widths so that a star counts as a pixel and not as a piece.
fn along(
    fine: &[f32],
    size: (usize, usize),
    line: Line,
    (t0, t1): (f64, f64),
    aside: f64,
    noise: f64,
) -> (f64, usize) {
    let (mut sum, mut count) = (0.0, 0);
    let mut t = t0;
    while t < t1 {
        let (x, y) = line.point(t, aside, size);
        let (x, y) = (x.round(), y.round());
        if x >= 0.0 && y >= 0.0 && x.index() < size.0 && y.index() < size.1 {
            let v = f64::from(fine[y.index() * size.0 + x.index()]);
            if v.is_finite() {
                sum += v.clamp(-3.0 * noise, 3.0 * noise);
                count += 1;
            }
        }
        t += 1.0;
    }
    (sum / f64::from(count.max(1)), count.index())
}

/// Where the line is lit, if that is long enough.
fn follow(fine: &[f32], size: (usize, usize), line: Line, noise: f64) -> Option<Trail> {
    let (from, to) = line.ends(size)?;
    let piece = (to - from) / PIECES.real();
    let mut heights = [0.0; PIECES];
    let lit: Vec<bool> = (0..PIECES)
        .map(|i| {
            let range = (from + piece * i.real(), from + piece * (i + 1).real());
            // A line that is a little off its angle leaves the middle row.
            let (middle, count) = [-1.0, 0.0, 1.0]
                .map(|aside| along(fine, size, line, range, aside, noise))
                .into_iter()
                .max_by(|a, b| a.0.total_cmp(&b.0))
                .unwrap_or((0.0, 0));
            let beside = [-5.0, -4.0, 4.0, 5.0]
                .map(|aside| along(fine, size, line, range, aside, noise).0)
                .iter()
                .sum::<f64>()
                / 4.0;
            heights[i] = middle - beside;
            // The best of three rows of noise stands 0.85 errors high by itself.
            let error = noise / count.max(1).real().sqrt();
            count > 0 && middle - beside > (LIT_SIGMA + 0.85) * error
        })
        .collect();
    // The longest run, one dark piece in it forgiven.
    let (mut best, mut start, mut dark) = ((0, 0), 0, 0);
    for (i, lit) in lit.into_iter().enumerate() {
        if !lit {
            dark += 1;
            if dark > 1 {
                (start, dark) = (i + 1, 0);
            }
        }
        if lit && i + 1 - start > best.1 - best.0 {
            best = (start, i + 1);
        }
    }
    let pieces = best.1 - best.0;
    let length = pieces.real() * piece;
    let enough = pieces.real() >= LEAST_LIT * PIECES.real()
        && length >= LEAST_LENGTH * size.0.min(size.1).real();
    enough.then(|| Trail {
        from: line.point(from + piece * best.0.real(), 0.0, size),
        to: line.point(from + piece * best.1.real(), 0.0, size),
        height_sigma: heights[best.0..best.1].iter().sum::<f64>() / pieces.real() / noise,
    })
}

/// Takes the light near a line away, so that the next one can be seen.
fn erase(fine: &mut [f32], (w, h): (usize, usize), line: Line) {
    let (s, c) = (line.s, line.c);
    let (mx, my) = ((w - 1).real() / 2.0, (h - 1).real() / 2.0);
    for (i, v) in fine.iter_mut().enumerate() {
        let (x, y) = ((i % w).real() - mx, (i / w).real() - my);
        if (x * c + y * s - line.distance).abs() < 4.0 {
            *v = 0.0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use jigsawa_sky::chance::normal;
    use rstest::rstest;

    fn noise(i: usize) -> f32 {
        normal(i as u64, 0).single()
    }

    fn sky(light: impl Fn(f64, f64) -> f64) -> Plane {
        Plane::from_fn(Size::new(420, 300).unwrap(), |x, y| {
            100.0 + 0.1 * x.single() + noise(y * 420 + x) + light(x.real(), y.real()).single()
        })
    }

    fn line(angle_deg: f64, height: f64) -> impl Fn(f64, f64) -> f64 {
        let (s, c) = angle_deg.to_radians().sin_cos();
        move |x, y| {
            let away = (x - 190.0) * s - (y - 160.0) * c;
            height * (-0.5 * away * away / 0.6).exp()
        }
    }

    #[rstest]
    #[case(12.3, 2.0)]
    #[case(77.0, 1.5)]
    #[case(121.7, 4.0)]
    #[case(0.0, 30.0)]
    fn a_line_is_found_with_its_angle(#[case] angle: f64, #[case] height: f64) {
        let found = trails(&sky(line(angle, height)));
        assert_eq!(found.len(), 1, "{found:?}");
        let t = found[0];
        let seen = (t.to.1 - t.from.1).atan2(t.to.0 - t.from.0).to_degrees();
        let off = (seen - angle).rem_euclid(180.0);
        assert!(off.min(180.0 - off) < 0.6, "{seen} for {angle}");
        let (dx, dy) = (190.0 - t.from.0, 160.0 - t.from.1);
        let (s, c) = angle.to_radians().sin_cos();
        assert!((dx * s - dy * c).abs() < 2.0);
    }

    #[test]
    fn two_lines_are_two_and_noise_rows_of_stars_and_arcs_are_none() {
        let (a, b) = (line(20.0, 3.0), line(100.0, 3.0));
        assert_eq!(trails(&sky(move |x, y| a(x, y) + b(x, y))).len(), 2);
        assert_eq!(trails(&sky(|_, _| 0.0)), []);
        let row = |x: f64, y: f64| {
            let near = (x % 40.0 - 20.0).powi(2) + (y - 150.0).powi(2);
            200.0 * (-0.5 * near / 2.0).exp()
        };
        assert_eq!(trails(&sky(row)), []);
        let arc = |x: f64, y: f64| {
            let away = (x - 210.0).hypot(y - 400.0) - 260.0;
            6.0 * (-0.5 * away * away / 2.0).exp()
        };
        assert_eq!(trails(&sky(arc)), []);
    }

    #[test]
    fn missing_pixels_and_tiny_planes_do_no_harm() {
        let mut p = sky(line(30.0, 4.0));
        for v in &mut p.data_mut()[..420 * 60] {
            *v = f32::NAN;
        }
        assert_eq!(trails(&p).len(), 1);
        assert_eq!(trails(&Plane::filled(Size::new(9, 9).unwrap(), 1.0)), []);
        assert_eq!(trails(&Plane::filled(Size::new(90, 90).unwrap(), 1.0)), []);
    }
}
