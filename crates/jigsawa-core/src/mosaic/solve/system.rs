//! The system of all numbers: what moves a sight, the normal equations, and the rounds of holding outliers down.

use crate::number::Convert;
use nalgebra::{DMatrix, DVector};

use super::{Problem, ROUNDS, SETTLED_PX, Solution, freed, half, residuals, times, weight};
use crate::mosaic::sphere::untilted;
use crate::mosaic::tracks::{Track, place};
use crate::placement::{Distortion, powers_of, terms};
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median};
use crate::space::{FramePx, Point};

/// The numbers that are looked for, and where each stands.
pub(super) struct System<'a> {
    pub(super) problem: &'a Problem<'a>,
    pub(super) tracks: &'a [Track],
    /// Frames with a pose that may move, by their place among the numbers.
    pub(super) free: Vec<Option<usize>>,
    /// Terms of a lens from the second degree on.
    pub(super) lens_terms: usize,
    degree: u8,
    pub(super) cameras: usize,
    count: usize,
    /// What a unit of the curvature's number is: it moves a corner of the mosaic by about a pixel.
    pub(super) curvature_unit: f64,
    pub(super) with_lens: bool,
}

/// What a coordinate on the plane changes with each number that it depends on.
pub(super) type Row = Vec<(usize, f64)>;

impl<'a> System<'a> {
    pub(super) fn new(
        problem: &'a Problem<'a>,
        tracks: &'a [Track],
        start: &Solution,
        degree: u8,
    ) -> Self {
        let mut next = 0;
        let free: Vec<Option<usize>> = start
            .poses
            .iter()
            .enumerate()
            .map(|(i, pose)| {
                let stays = problem.kept.is_some_and(|k| k.poses[i].is_some());
                (pose.is_some() && !stays).then(|| {
                    next += 6;
                    next - 6
                })
            })
            .collect();
        let with_lens = problem.kept.is_none();
        let lens_terms = if with_lens { terms(degree) - 3 } else { 0 };
        let cameras = start.lenses.len();
        let extent = start
            .poses
            .iter()
            .flatten()
            .map(|p| p.at[0].hypot(p.at[1]))
            .fold(half(problem.frames[problem.reference].size), f64::max);
        Self {
            problem,
            tracks,
            free,
            lens_terms,
            degree,
            cameras,
            count: next + cameras * (2 * lens_terms + 1) + 1,
            curvature_unit: 1.0 / extent.powi(3),
            with_lens,
        }
    }

    pub(super) fn lens_at(&self, camera: usize) -> usize {
        self.scale_at(0) + self.cameras + camera * 2 * self.lens_terms
    }

    pub(super) fn scale_at(&self, camera: usize) -> usize {
        6 * self.free.iter().flatten().count() + camera
    }

    pub(super) fn curvature_at(&self) -> usize {
        self.count - 1
    }

    /// Rounds of least squares from a start; tracks of weight zero are not looked at.
    pub(super) fn solved(&self, start: &Solution, seen: &[f64]) -> Solution {
        let mut s = start.clone();
        if self.with_lens {
            for (camera, lens) in s.lenses.iter_mut().enumerate() {
                let same = lens.as_ref().map_or(1, Distortion::degree) == self.degree;
                if !same {
                    *lens = self.empty_lens(camera);
                }
            }
        }
        s.kept = seen.to_vec();
        let mut scales = vec![1.0; self.cameras];
        for (camera, scale) in scales.iter_mut().enumerate() {
            *scale = self.usual_scale(&s, camera);
        }
        let mut covariance = None;
        let mut moving_px = f64::INFINITY;
        for round in 0..ROUNDS {
            let (mut normal, mut right) = self.equations(&s);
            self.priors(&s, &scales, &mut normal, &mut right);
            let Some(cholesky) = normal.cholesky() else {
                moving_px = f64::INFINITY;
                break;
            };
            let step = cholesky.solve(&right);
            moving_px = step.amax();
            self.apply(&mut s, &mut scales, &step);
            let spread = self.hold_down(&mut s, seen, round > 1);
            covariance = Some((cholesky, spread));
            if round > 3 && moving_px < SETTLED_PX {
                break;
            }
        }
        // What still moves is uncertain by as much, and what cannot be solved is not known at all.
        let unsettled = if moving_px < SETTLED_PX {
            0.0
        } else {
            moving_px
        };
        if let Some((cholesky, spread)) = covariance {
            self.uncertainty(&mut s, &cholesky.inverse(), spread.max(1.0));
        }
        for (corner, free) in s.corner_sigma_px.iter_mut().zip(&self.free) {
            if free.is_some() {
                *corner = corner.hypot(unsettled);
            }
        }
        s
    }

    fn empty_lens(&self, camera: usize) -> Option<Distortion> {
        let frame = self.problem.cameras.iter().position(|c| *c == camera)?;
        let size = self.problem.frames[frame].size;
        let centre: Point<FramePx> = size.centre();
        let none = vec![0.0; terms(self.degree)];
        if self.degree < 2 {
            return None;
        }
        Distortion::new([centre.x, centre.y], [half(size); 2], none.clone(), none)
    }

    fn usual_scale(&self, s: &Solution, camera: usize) -> f64 {
        let mut all: Vec<f32> = s
            .poses
            .iter()
            .zip(self.problem.cameras)
            .filter(|(_, c)| **c == camera)
            .filter_map(|(p, _)| p.as_ref())
            .map(|p| {
                let [[a, b], [c, d]] = p.matrix;
                (a * d - b * c).abs().sqrt().single()
            })
            .collect();
        if all.is_empty() {
            return 1.0;
        }
        f64::from(median(&mut all))
    }

    /// Where a sight lies on the plane (from the reference's centre), and what moves it.
    pub(super) fn sight(
        &self,
        s: &Solution,
        frame: usize,
        p: Point<FramePx>,
    ) -> Option<([f64; 2], [Row; 2])> {
        let pose = s.poses[frame].as_ref()?;
        let camera = self.problem.cameras[frame];
        let size = self.problem.frames[frame].size;
        let q = freed(s.lenses[camera].as_ref(), size, p);
        let k = s.curvature;
        let r = times(pose.matrix, q);
        let at = untilted(k, pose.at, r);
        let slope = |plus: [f64; 2], minus: [f64; 2], step: f64| {
            [0, 1].map(|i| (plus[i] - minus[i]) / (2.0 * step))
        };
        let by_r = [
            slope(
                untilted(k, pose.at, (r.0 + 1.0, r.1)),
                untilted(k, pose.at, (r.0 - 1.0, r.1)),
                1.0,
            ),
            slope(
                untilted(k, pose.at, (r.0, r.1 + 1.0)),
                untilted(k, pose.at, (r.0, r.1 - 1.0)),
                1.0,
            ),
        ];
        let mut rows: [Row; 2] = [Vec::new(), Vec::new()];
        if let Some(first) = self.free[frame] {
            let [u, v] = pose.at;
            let by_at = [
                slope(
                    untilted(k, [u + 1.0, v], r),
                    untilted(k, [u - 1.0, v], r),
                    1.0,
                ),
                slope(
                    untilted(k, [u, v + 1.0], r),
                    untilted(k, [u, v - 1.0], r),
                    1.0,
                ),
            ];
            let h = half(size);
            for (i, row) in rows.iter_mut().enumerate() {
                // The matrix's numbers count in pixels at the frame's corner.
                row.extend([
                    (first, by_r[0][i] * q.0 / h),
                    (first + 1, by_r[0][i] * q.1 / h),
                    (first + 2, by_r[1][i] * q.0 / h),
                    (first + 3, by_r[1][i] * q.1 / h),
                    (first + 4, by_at[0][i]),
                    (first + 5, by_at[1][i]),
                ]);
            }
        }
        if self.lens_terms > 0 {
            let centre: Point<FramePx> = size.centre();
            let mut powers = [0.0; 32];
            let h = half(size);
            powers_of(
                (p.x - centre.x) / h,
                (p.y - centre.y) / h,
                self.degree,
                &mut powers,
            );
            let first = self.lens_at(camera);
            let [[a, b], [c, d]] = pose.matrix;
            for (i, row) in rows.iter_mut().enumerate() {
                let by_x = by_r[0][i] * a + by_r[1][i] * c;
                let by_y = by_r[0][i] * b + by_r[1][i] * d;
                for t in 0..self.lens_terms {
                    row.push((first + t, by_x * powers[t + 3]));
                    row.push((first + self.lens_terms + t, by_y * powers[t + 3]));
                }
            }
        }
        if self.with_lens {
            let step = 1e-2 * self.curvature_unit;
            let low = (k - step).max(0.0);
            let (plus, minus) = (untilted(k + step, pose.at, r), untilted(low, pose.at, r));
            for (i, row) in rows.iter_mut().enumerate() {
                let slope = (plus[i] - minus[i]) / (k + step - low) * self.curvature_unit;
                row.push((self.curvature_at(), slope));
            }
        }
        Some((at, rows))
    }

    /// The normal equations of all tracks, each star's own place eliminated.
    fn equations(&self, s: &Solution) -> (DMatrix<f64>, DVector<f64>) {
        let mut normal = DMatrix::<f64>::zeros(self.count, self.count);
        let mut right = DVector::zeros(self.count);
        let mut mean = vec![0.0; self.count];
        let mut touched: Vec<usize> = Vec::new();
        for (track, kept) in self.tracks.iter().zip(&s.kept) {
            if *kept <= 0.0 {
                continue;
            }
            let sights: Vec<([f64; 2], [Row; 2], f64)> = track
                .iter()
                .filter_map(|sight| {
                    let p = place(self.problem.frames, *sight);
                    let (at, rows) = self.sight(s, sight.frame, p)?;
                    let w = kept * weight(self.problem, s, sight.frame, sight.spot);
                    Some((at, rows, w))
                })
                .collect();
            let all: f64 = sights.iter().map(|x| x.2).sum();
            if sights.len() < 2 || all <= 0.0 {
                continue;
            }
            for i in 0..2 {
                let middle = sights.iter().map(|(at, _, w)| w * at[i]).sum::<f64>() / all;
                touched.clear();
                for (at, rows, w) in &sights {
                    let off = middle - at[i];
                    for (a, x) in &rows[i] {
                        right[*a] += w * x * off;
                        for (b, y) in &rows[i] {
                            normal[(*a, *b)] += w * x * y;
                        }
                        if mean[*a] == 0.0 {
                            touched.push(*a);
                        }
                        mean[*a] += w * x / all;
                    }
                }
                touched.sort_unstable();
                touched.dedup();
                for a in &touched {
                    for b in &touched {
                        normal[(*a, *b)] -= all * mean[*a] * mean[*b];
                    }
                }
                for a in &touched {
                    mean[*a] = 0.0;
                }
            }
        }
        (normal, right)
    }

    fn apply(&self, s: &mut Solution, scales: &mut [f64], step: &DVector<f64>) {
        for (frame, first) in self.free.iter().enumerate() {
            let (Some(first), Some(pose)) = (first, &mut s.poses[frame]) else {
                continue;
            };
            let h = half(self.problem.frames[frame].size);
            for (i, v) in pose.matrix.as_flattened_mut().iter_mut().enumerate() {
                *v += step[first + i] / h;
            }
            pose.at[0] += step[first + 4];
            pose.at[1] += step[first + 5];
        }
        for camera in 0..self.cameras {
            let frame = self.problem.cameras.iter().position(|c| *c == camera);
            let h = frame.map_or(1.0, |f| half(self.problem.frames[f].size));
            scales[camera] += step[self.scale_at(camera)] / h;
            if let Some(lens) = s.lenses[camera].as_mut().filter(|_| self.lens_terms > 0) {
                let first = self.lens_at(camera);
                let add = |from: usize, c: &[f64]| -> Vec<f64> {
                    let terms = c.iter().enumerate();
                    terms
                        .map(|(t, v)| if t < 3 { *v } else { v + step[from + t - 3] })
                        .collect()
                };
                let (x, y) = lens.coefficients();
                let moved = lens.with(add(first, x), add(first + self.lens_terms, y));
                if let Some(moved) = moved.filter(Distortion::is_gentle) {
                    *lens = moved;
                }
            }
        }
        if self.with_lens {
            s.curvature = (s.curvature + step[self.curvature_at()] * self.curvature_unit).max(0.0);
        }
    }

    /// Gives each track the weight that its sights deserve; by how much they scatter beyond their errors.
    fn hold_down(&self, s: &mut Solution, seen: &[f64], firmly: bool) -> f64 {
        let off: Vec<f64> = self.tracks.iter().map(|t| self.normal_size(s, t)).collect();
        let mut sizes: Vec<f32> = off
            .iter()
            .zip(seen)
            .filter(|(o, w)| **w > 0.0 && o.is_finite())
            .map(|(o, _)| (*o).single())
            .collect();
        if sizes.is_empty() {
            return 1.0;
        }
        // Sizes are those of two-dimensional scatter: their median is 1.177 sigma.
        let spread = f64::from(median(&mut sizes)) / 1.177;
        let reach = if firmly {
            BIWEIGHT_REACH
        } else {
            10.0 * MAD_TO_SIGMA
        };
        // At first a frame may lie roughly, and all of its stars be far off while those of others meet.
        let own = if firmly {
            vec![0.0; self.problem.frames.len()]
        } else {
            self.spread_of_frames(&off)
        };
        for (((k, o), w), track) in s.kept.iter_mut().zip(&off).zip(seen).zip(self.tracks) {
            let rough = track.iter().map(|sight| own[sight.frame]);
            let spread = rough.fold(spread, f64::max);
            *k = if o.is_finite() {
                w * biweight(*o, reach * spread.max(0.3))
            } else {
                0.0
            };
        }
        spread
    }

    /// The usual scatter of each frame's tracks.
    fn spread_of_frames(&self, off: &[f64]) -> Vec<f64> {
        let mut sizes: Vec<Vec<f32>> = vec![Vec::new(); self.problem.frames.len()];
        for (track, o) in self.tracks.iter().zip(off).filter(|(_, o)| o.is_finite()) {
            for sight in track {
                sizes[sight.frame].push((*o).single());
            }
        }
        let middle = |own: &mut Vec<f32>| {
            if own.is_empty() {
                0.0
            } else {
                f64::from(median(own)) / 1.177
            }
        };
        sizes.iter_mut().map(middle).collect()
    }

    /// How far a track's sights lie apart, in their own standard errors.
    fn normal_size(&self, s: &Solution, track: &Track) -> f64 {
        let off = residuals(self.problem, s, track);
        let mut sum = 0.0;
        for (sight, r) in track.iter().zip(&off) {
            sum += weight(self.problem, s, sight.frame, sight.spot) * (r[0] * r[0] + r[1] * r[1]);
        }
        (sum / (track.len().real() - 1.0)).sqrt()
    }

    /// Mean square distance of sights in tracks that were not looked at.
    pub(super) fn unseen(&self, s: &Solution, seen: &[f64]) -> f64 {
        let mut all: Vec<f32> = Vec::new();
        for (track, w) in self.tracks.iter().zip(seen) {
            if *w == 0.0 {
                let off = residuals(self.problem, s, track);
                let sum: f64 = off.iter().map(|r| r[0] * r[0] + r[1] * r[1]).sum();
                all.push((sum / (track.len().real() - 1.0)).single());
            }
        }
        all.retain(|v| v.is_finite());
        all.sort_by(f32::total_cmp);
        // The worst are no stars of this field.
        all.truncate((all.len() * 19).div_ceil(20));
        all.iter().map(|v| f64::from(*v)).sum::<f64>() / all.len().max(1).real()
    }
}
