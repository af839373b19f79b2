//! One solution for all panels of all filters: bundle adjustment over the stars that they share.
//!
//! A frame's pixel is first freed of its lens: a polynomial of the frame's place, one for each camera. Then it is
//! turned, scaled and (a little) sheared into a plane that touches the sky where the frame points, and from there
//! carried to the reference's plane (`sphere`). All those numbers are found together by weighted least squares: each
//! star's sights must meet, wherever that is. A star's own place is eliminated, since given the rest it is the weighted
//! mean of its sights (Triggs et al. 2000, Bundle Adjustment - A Modern Synthesis, LNCS 1883, 298). Sights off the
//! rest are held down by Tukey's biweight.
//!
//! What no star tells is kept small rather than left open: a frame's own scale and shear beside its camera's by a weak
//! prior of a ten-thousandth (temperature and refraction), which hundreds of stars overrule at once. Without it a
//! curved lens and scales that rise along a row of panels explain the same sights, and a chain of panels bends.
//!
//! Frames placed one after the other, each on its neighbour, were tried in a drawing first: errors add up along the
//! chain and a closed loop does not close.

use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};

use super::sphere::untilted;
use super::tracks::{Track, groups, place};
use crate::matching::{Shown, Tie};
use crate::measured::Measured;
use crate::placement::{Bend, Map, Model, Pair, Registration, powers_of, terms};
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median};
use crate::space::{FramePx, Point, ReferencePx, Size};

/// A frame's own scale and shear may differ from its camera's by this, as far as no star tells.
const OWN_SHAPE: f64 = 1e-4;

/// A lens moves a star in a corner by this part of its distance from the middle, as far as no star tells: seven pixels
/// for a camera of 24 megapixels.
const LENS: f64 = 0.002;

/// No star's place is known better than this, whatever its light: pixels have their own faults.
const FLOOR_SIGMA_PX: f64 = 0.02;

/// Degrees of a lens that are tried: none at all, a plain radial one with tilt, a higher one.
const DEGREES: [u8; 3] = [1, 3, 5];

/// A higher degree must foretell stars that it has not seen better by this part of the mean square.
const WORTH_IT: f64 = 0.03;

/// No number moves a place by more than this any longer: it is solved.
const SETTLED_PX: f64 = 3e-4;

/// Fewer tracks than this are left out all in turn when lenses are chosen.
const FEW_TRACKS: usize = 400;

/// Rounds of least squares: the first bring places together, the others hold outliers down.
const ROUNDS: usize = 12;

/// The way from a frame's pixels to the reference's plane.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Pose {
    /// From pixels, counted from the frame's centre and freed of the lens, to a plane of the reference's pixels
    /// that touches the sky at `at`.
    pub matrix: [[f64; 2]; 2],
    /// Where the frame points: a place of the reference's plane, from the reference's centre.
    pub at: [f64; 2],
}

/// What is solved.
#[derive(Debug, Clone, Copy)]
pub struct Problem<'a> {
    /// The frames.
    pub frames: &'a [Shown<'a>],
    /// The camera of each, by number from 0.
    pub cameras: &'a [usize],
    /// The frame on whose pixels all others are placed.
    pub reference: usize,
    /// 1 / (reference pixels for a radian)², if headers tell; its sigma is believed.
    pub curvature: Option<Measured>,
    /// What stays as it is: an earlier solution of some of the frames.
    pub kept: Option<&'a Kept>,
}

/// What stays as it is when frames are added.
#[derive(Debug, Clone)]
pub struct Kept {
    /// The pose of each frame that has one already.
    pub poses: Vec<Option<Pose>>,
    /// The lens of each camera that has one.
    pub lenses: Vec<Option<Bend>>,
    /// The curvature.
    pub curvature: f64,
}

/// All places.
#[derive(Debug, Clone)]
pub struct Solution {
    /// The pose of each frame; `None` where nothing ties it to the reference.
    pub poses: Vec<Option<Pose>>,
    /// The lens of each camera, from a frame's pixel to where it would be without; `None` for none.
    pub lenses: Vec<Option<Bend>>,
    /// 1 / (reference pixels for a radian)².
    pub curvature: f64,
    /// Degree of the lenses' polynomials, once it was chosen; 1 is none.
    pub degree: Option<u8>,
    /// The weight that each track has kept, 0 to 1.
    pub kept: Vec<f64>,
    /// Standard error of each coordinate by which a frame's place at its edges may differ from those of the frames that
    /// lie there, too, at the worst; in reference pixels.
    pub corner_px: Vec<f64>,
    /// Root mean square distance of unseen sights from where the others put them, in reference pixels.
    pub unseen_px: f64,
}

/// Where a pixel of a frame lies on the reference's plane, in reference pixels.
pub fn on_plane(
    s: &Solution,
    (frame, camera): (usize, usize),
    sizes: (Size, Size),
    p: Point<FramePx>,
) -> Option<Point<ReferencePx>> {
    let pose = s.poses[frame].as_ref()?;
    let q = freed(s.lenses[camera].as_ref(), sizes.1, p);
    let [x, y] = untilted(s.curvature, pose.at, times(pose.matrix, q));
    let centre: Point<ReferencePx> = sizes.0.centre();
    Some(Point::new(centre.x + x, centre.y + y))
}

/// A pixel from the frame's centre, without what the lens does.
pub(super) fn freed(lens: Option<&Bend>, size: Size, p: Point<FramePx>) -> (f64, f64) {
    let (x, y) = lens.map_or((p.x, p.y), |b| b.apply(p.x, p.y));
    let centre: Point<FramePx> = size.centre();
    (x - centre.x, y - centre.y)
}

fn times([[a, b], [c, d]]: [[f64; 2]; 2], (x, y): (f64, f64)) -> (f64, f64) {
    (a * x + b * y, c * x + d * y)
}

/// Half the diagonal of a frame: the unit of a lens's polynomial.
fn half(size: Size) -> f64 {
    0.5 * (size.width() as f64).hypot(size.height() as f64)
}

/// All frames that are tied to the reference, roughly: along the strongest ties, a similarity each.
pub fn rough(problem: &Problem<'_>, ties: &[Tie]) -> Solution {
    let n = problem.frames.len();
    let mut poses: Vec<Option<Pose>> = vec![None; n];
    if let Some(kept) = problem.kept {
        poses.clone_from_slice(&kept.poses);
    }
    if poses.iter().all(Option::is_none) {
        poses[problem.reference] = Some(Pose {
            matrix: [[1.0, 0.0], [0.0, 1.0]],
            at: [0.0, 0.0],
        });
    }
    let cameras = problem.cameras.iter().max().map_or(0, |m| m + 1);
    let mut solution = Solution {
        poses,
        lenses: problem
            .kept
            .map_or(vec![None; cameras], |k| k.lenses.clone()),
        curvature: problem
            .kept
            .map_or(problem.curvature.map_or(0.0, |c| c.value), |k| k.curvature),
        degree: problem.kept.map(|_| 1),
        kept: Vec::new(),
        corner_px: vec![0.0; n],
        unseen_px: 0.0,
    };
    // Each time the strongest tie from a frame with a place to one without.
    loop {
        let open = ties
            .iter()
            .filter(|t| solution.poses[t.a].is_some() != solution.poses[t.b].is_some());
        let Some(best) =
            open.max_by_key(|t| (t.matched.pairs.len(), std::cmp::Reverse((t.a, t.b))))
        else {
            return solution;
        };
        let (known, new) = if solution.poses[best.a].is_some() {
            (best.a, best.b)
        } else {
            (best.b, best.a)
        };
        solution.poses[new] = Some(solution.beside(problem, best, known, new));
    }
}

impl Solution {
    /// The pose of a frame by its tie to one that has a pose.
    fn beside(&self, problem: &Problem<'_>, tie: &Tie, known: usize, new: usize) -> Pose {
        let spot = |f: usize, index: usize| {
            let found = problem.frames[f].spots.iter().find(|s| s.index == index);
            found.map(|s| s.at)
        };
        let middle: Point<ReferencePx> = problem.frames[problem.reference].size.centre();
        let pairs: Vec<Pair<FramePx, ReferencePx>> = tie
            .matched
            .pairs
            .iter()
            .filter_map(|(i, k)| {
                let (own, other) = if known == tie.a { (*k, *i) } else { (*i, *k) };
                let to = self.place(problem, known, spot(known, other)?)?;
                let (x, y) = freed(
                    self.lenses[problem.cameras[new]].as_ref(),
                    problem.frames[new].size,
                    spot(new, own)?,
                );
                Some(Pair {
                    from: Point::new(x, y),
                    to: Point::new(to.x - middle.x, to.y - middle.y),
                    weight: 1.0,
                })
            })
            .collect();
        pose_of(&pairs)
    }

    /// Gives a frame the place that a map from another frame's pixels to its own says: of a frame without stars.
    pub fn place_by(
        &mut self,
        problem: &Problem<'_>,
        (known, new): (usize, usize),
        map: &Registration,
    ) {
        const STEPS: usize = 7;
        let size = problem.frames[new].size;
        let middle: Point<ReferencePx> = problem.frames[problem.reference].size.centre();
        let back = map.invert();
        let at = |k: usize, n: usize| k as f64 / (STEPS - 1) as f64 * (n as f64 - 1.0);
        let pairs: Vec<Pair<FramePx, ReferencePx>> = (0..STEPS * STEPS)
            .filter_map(|k| {
                let p = Point::new(at(k % STEPS, size.width()), at(k / STEPS, size.height()));
                let there = back.apply(p);
                let to = self.place(problem, known, Point::new(there.x, there.y))?;
                let (x, y) = freed(self.lenses[problem.cameras[new]].as_ref(), size, p);
                Some(Pair {
                    from: Point::new(x, y),
                    to: Point::new(to.x - middle.x, to.y - middle.y),
                    weight: 1.0,
                })
            })
            .collect();
        if !pairs.is_empty() {
            self.poses[new] = Some(pose_of(&pairs));
        }
    }

    /// Where a frame's pixel lies on the reference's plane.
    pub fn place(
        &self,
        problem: &Problem<'_>,
        frame: usize,
        p: Point<FramePx>,
    ) -> Option<Point<ReferencePx>> {
        let sizes = (
            problem.frames[problem.reference].size,
            problem.frames[frame].size,
        );
        on_plane(self, (frame, problem.cameras[frame]), sizes, p)
    }

    /// All spots of all frames on the reference's plane; none of a frame without a pose.
    pub fn spots_on_plane(&self, problem: &Problem<'_>) -> Vec<Vec<Point<ReferencePx>>> {
        let of = |(i, f): (usize, &Shown<'_>)| {
            let all = f.spots.iter().filter_map(|s| self.place(problem, i, s.at));
            all.collect()
        };
        problem.frames.iter().enumerate().map(of).collect()
    }
}

/// The pose that pairs of freed places and places on the plane say.
fn pose_of(pairs: &[Pair<FramePx, ReferencePx>]) -> Pose {
    let map = Map::fit(Model::Similarity, pairs, None).unwrap_or_else(|| Map::shift(0.0, 0.0));
    let [[a, b, x], [c, d, y], _] = map.rows();
    Pose {
        matrix: [[a, b], [c, d]],
        at: [x, y],
    }
}

/// The best places for all tracks, from rough ones: with the simplest lens that stars left out in turn call for, or with
/// that of the start.
pub fn solve(problem: &Problem<'_>, tracks: &[Track], start: &Solution) -> Solution {
    let counted: Vec<f64> = vec![1.0; tracks.len()];
    if let Some(degree) = start.degree {
        return System::new(problem, tracks, start, degree).solved(start, &counted);
    }
    // With few stars each is left out in turn, else one in five decides.
    let folds = if tracks.len() < FEW_TRACKS { 5 } else { 1 };
    let unseen = |degree: u8| {
        let mut all = 0.0;
        let mut found = start.clone();
        for fold in 0..folds {
            let seen: Vec<f64> = (0..tracks.len())
                .map(|i| f64::from(u8::from(i % 5 != fold)))
                .collect();
            let system = System::new(problem, tracks, start, degree);
            found = system.solved(start, &seen);
            all += system.unseen(&found, &seen) / folds as f64;
        }
        (found, all)
    };
    let mut best = (DEGREES[0], unseen(DEGREES[0]));
    for degree in &DEGREES[1..] {
        let next = unseen(*degree);
        if next.1 < best.1.1 * (1.0 - WORTH_IT) {
            best = (*degree, next);
        }
    }
    let (degree, (start, off)) = best;
    Solution {
        unseen_px: off.sqrt(),
        degree: Some(degree),
        ..System::new(problem, tracks, &start, degree).solved(&start, &counted)
    }
}

/// Distances of a track's sights from their weighted mean on the plane, in reference pixels.
pub fn residuals(problem: &Problem<'_>, s: &Solution, track: &Track) -> Vec<[f64; 2]> {
    let places: Vec<Option<Point<ReferencePx>>> = track
        .iter()
        .map(|sight| s.place(problem, sight.frame, place(problem.frames, *sight)))
        .collect();
    let weights: Vec<f64> = track
        .iter()
        .zip(&places)
        .map(|(sight, p)| p.map_or(0.0, |_| weight(problem, s, sight.frame, sight.spot)))
        .collect();
    let all: f64 = weights.iter().sum();
    let mean = |of: fn(&Point<ReferencePx>) -> f64| {
        let sum = places
            .iter()
            .zip(&weights)
            .map(|(p, w)| p.as_ref().map_or(0.0, |p| w * of(p)));
        sum.sum::<f64>() / all.max(1e-30)
    };
    let (x, y) = (mean(|p| p.x), mean(|p| p.y));
    places
        .iter()
        .map(|p| p.map_or([f64::NAN; 2], |p| [p.x - x, p.y - y]))
        .collect()
}

/// 1 / variance of a sight's coordinate in reference pixels.
pub fn weight(problem: &Problem<'_>, s: &Solution, frame: usize, spot: usize) -> f64 {
    let scale = s.poses[frame].as_ref().map_or(1.0, |p| {
        let [[a, b], [c, d]] = p.matrix;
        (a * d - b * c).abs().sqrt()
    });
    let sigma = problem.frames[frame].spots[spot]
        .sigma_px
        .hypot(FLOOR_SIGMA_PX);
    1.0 / (scale * sigma).powi(2)
}

/// The numbers that are looked for, and where each stands.
struct System<'a> {
    problem: &'a Problem<'a>,
    tracks: &'a [Track],
    /// Frames with a pose that may move, by their place among the numbers.
    free: Vec<Option<usize>>,
    /// Terms of a lens from the second degree on.
    lens_terms: usize,
    degree: u8,
    cameras: usize,
    count: usize,
    /// What a unit of the curvature's number is: it moves a corner of the mosaic by about a pixel.
    curvature_unit: f64,
    with_lens: bool,
}

/// What a coordinate on the plane changes with each number that it depends on.
type Row = Vec<(usize, f64)>;

impl<'a> System<'a> {
    fn new(problem: &'a Problem<'a>, tracks: &'a [Track], start: &Solution, degree: u8) -> Self {
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

    fn lens_at(&self, camera: usize) -> usize {
        self.scale_at(0) + self.cameras + camera * 2 * self.lens_terms
    }

    fn scale_at(&self, camera: usize) -> usize {
        6 * self.free.iter().flatten().count() + camera
    }

    fn curvature_at(&self) -> usize {
        self.count - 1
    }

    /// Rounds of least squares from a start; tracks of weight zero are not looked at.
    fn solved(&self, start: &Solution, seen: &[f64]) -> Solution {
        let mut s = start.clone();
        if self.with_lens {
            for (camera, lens) in s.lenses.iter_mut().enumerate() {
                let same = lens.as_ref().map_or(1, Bend::degree) == self.degree;
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
        for round in 0..ROUNDS {
            let (mut normal, mut right) = self.equations(&s);
            self.priors(&s, &scales, &mut normal, &mut right);
            let Some(cholesky) = normal.cholesky() else {
                break;
            };
            let step = cholesky.solve(&right);
            self.apply(&mut s, &mut scales, &step);
            let spread = self.hold_down(&mut s, seen, round > 1);
            covariance = Some((cholesky, spread));
            if round > 3 && step.amax() < SETTLED_PX {
                break;
            }
        }
        if let Some((cholesky, spread)) = covariance {
            self.uncertainty(&mut s, &cholesky.inverse(), spread.max(1.0));
        }
        s
    }

    fn empty_lens(&self, camera: usize) -> Option<Bend> {
        let frame = self.problem.cameras.iter().position(|c| *c == camera)?;
        let size = self.problem.frames[frame].size;
        let centre: Point<FramePx> = size.centre();
        let none = vec![0.0; terms(self.degree)];
        if self.degree < 2 {
            return None;
        }
        Bend::new([centre.x, centre.y], [half(size); 2], none.clone(), none)
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
                (a * d - b * c).abs().sqrt() as f32
            })
            .collect();
        if all.is_empty() {
            return 1.0;
        }
        f64::from(median(&mut all))
    }

    /// Where a sight lies on the plane (from the reference's centre), and what moves it.
    fn sight(&self, s: &Solution, frame: usize, p: Point<FramePx>) -> Option<([f64; 2], [Row; 2])> {
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

    /// What is known without stars.
    fn priors(
        &self,
        s: &Solution,
        scales: &[f64],
        normal: &mut DMatrix<f64>,
        right: &mut DVector<f64>,
    ) {
        let mut add = |row: &[(usize, f64)], off: f64, sigma: f64| {
            let w = 1.0 / (sigma * sigma);
            for (a, x) in row {
                right[*a] += w * x * off;
                for (b, y) in row {
                    normal[(*a, *b)] += w * x * y;
                }
            }
        };
        for (frame, first) in self.free.iter().enumerate() {
            let (Some(first), Some(pose)) = (first, &s.poses[frame]) else {
                continue;
            };
            let camera = self.problem.cameras[frame];
            let h = half(self.problem.frames[frame].size);
            let [[a, b], [c, d]] = pose.matrix;
            // The matrix is a turn (perhaps of a mirror image) of something nearly even: what is left after
            // turning back, by how each number changes it.
            let hand = (a * d - b * c).signum();
            let turn = (c - hand * b).atan2(a + hand * d);
            let (sin, cos) = turn.sin_cos();
            // Rows of (turn back) (matrix) (mirror).
            let xx = [(0, cos), (2, sin)];
            let yy = [(1, -sin * hand), (3, cos * hand)];
            let xy = [(1, cos * hand), (3, sin * hand)];
            let yx = [(0, -sin), (2, cos)];
            let m = [a, b, c, d];
            let value = |row: &[(usize, f64)]| row.iter().map(|(i, k)| k * m[*i]).sum::<f64>();
            let number = |parts: &[(&[(usize, f64)], f64)]| -> Row {
                let all = parts
                    .iter()
                    .flat_map(|(row, k)| row.iter().map(move |(i, v)| (*i, k * v / h)));
                all.map(|(i, v)| (first + i, v)).collect()
            };
            let (x, y) = (value(&xx), value(&yy));
            let stretch = number(&[(&xx, 0.5), (&yy, -0.5)]);
            add(&stretch, -0.5 * (x - y), OWN_SHAPE);
            let shear = number(&[(&xy, 0.5), (&yx, 0.5)]);
            add(&shear, -0.5 * (value(&xy) + value(&yx)), OWN_SHAPE);
            let mut scale = number(&[(&xx, 0.5), (&yy, 0.5)]);
            scale.push((self.scale_at(camera), -1.0 / h));
            add(&scale, scales[camera] - 0.5 * (x + y), OWN_SHAPE);
            if frame == self.problem.reference {
                // It lies on its own pixels.
                const SURE: f64 = 1e-7;
                add(&[(first + 4, 1.0)], -pose.at[0], SURE);
                add(&[(first + 5, 1.0)], -pose.at[1], SURE);
                add(
                    &[(first + 1, -0.5), (first + 2, 0.5)],
                    0.5 * h * (b - c),
                    SURE,
                );
                add(
                    &[(*first, 0.5), (first + 3, 0.5)],
                    h - 0.5 * h * (a + d),
                    SURE,
                );
            }
        }
        for camera in 0..self.cameras {
            // A camera's scale is open, unless frames that stay tell it.
            let told = self.problem.kept.is_some_and(|k| {
                let own = self.problem.cameras.iter().zip(&k.poses);
                own.into_iter()
                    .any(|(c, pose)| *c == camera && pose.is_some())
            });
            let frame = self.problem.cameras.iter().position(|c| *c == camera);
            let h = frame.map_or(1.0, |f| half(self.problem.frames[f].size));
            let sigma = if told { h * OWN_SHAPE } else { 1e6 };
            add(&[(self.scale_at(camera), 1.0)], 0.0, sigma);
            if let Some(lens) = s.lenses[camera].as_ref().filter(|_| self.lens_terms > 0) {
                let (x, y) = lens.coefficients();
                let frame = self.problem.cameras.iter().position(|c| *c == camera);
                let usual = LENS * frame.map_or(1.0, |f| half(self.problem.frames[f].size));
                for t in 0..self.lens_terms {
                    add(&[(self.lens_at(camera) + t, 1.0)], -x[t + 3], usual);
                    add(
                        &[(self.lens_at(camera) + self.lens_terms + t, 1.0)],
                        -y[t + 3],
                        usual,
                    );
                }
            }
        }
        let at = self.curvature_at();
        if self.with_lens {
            // Without a word from a header: a flat sky, or pixels of some two seconds of arc.
            let known = self.problem.curvature.unwrap_or(Measured {
                value: 0.0,
                sigma: 1e-10,
            });
            let unit = self.curvature_unit;
            add(
                &[(at, 1.0)],
                (known.value - s.curvature) / unit,
                known.sigma.max(1e-16) / unit,
            );
        } else {
            add(&[(at, 1.0)], 0.0, 1e-6);
        }
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
                if let Some(moved) = moved.filter(Bend::is_gentle) {
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
            .map(|(o, _)| *o as f32)
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
        for ((k, o), w) in s.kept.iter_mut().zip(&off).zip(seen) {
            *k = if o.is_finite() {
                w * biweight(*o, reach * spread.max(0.3))
            } else {
                0.0
            };
        }
        spread
    }

    /// How far a track's sights lie apart, in their own standard errors.
    fn normal_size(&self, s: &Solution, track: &Track) -> f64 {
        let off = residuals(self.problem, s, track);
        let mut sum = 0.0;
        for (sight, r) in track.iter().zip(&off) {
            sum += weight(self.problem, s, sight.frame, sight.spot) * (r[0] * r[0] + r[1] * r[1]);
        }
        (sum / (track.len() as f64 - 1.0)).sqrt()
    }

    /// Mean square distance of sights in tracks that were not looked at.
    fn unseen(&self, s: &Solution, seen: &[f64]) -> f64 {
        let mut all: Vec<f32> = Vec::new();
        for (track, w) in self.tracks.iter().zip(seen) {
            if *w == 0.0 {
                let off = residuals(self.problem, s, track);
                let sum: f64 = off.iter().map(|r| r[0] * r[0] + r[1] * r[1]).sum();
                all.push((sum / (track.len() as f64 - 1.0)) as f32);
            }
        }
        all.retain(|v| v.is_finite());
        all.sort_by(f32::total_cmp);
        // The worst are no stars of this field.
        all.truncate((all.len() * 19).div_ceil(20));
        all.iter().map(|v| f64::from(*v)).sum::<f64>() / all.len().max(1) as f64
    }

    fn uncertainty(&self, s: &mut Solution, covariance: &DMatrix<f64>, spread: f64) {
        let frames = self.problem.frames;
        let middle: Point<ReferencePx> = frames[self.problem.reference].size.centre();
        let variance = |rows: &[Row; 2]| -> f64 {
            let of = |row: &Row| -> f64 {
                let one = |(a, x): &(usize, f64)| {
                    row.iter()
                        .map(|(b, y)| x * y * covariance[(*a, *b)])
                        .sum::<f64>()
                };
                row.iter().map(one).sum()
            };
            (0.5 * (of(&rows[0]) + of(&rows[1]))).max(0.0)
        };
        for frame in 0..frames.len() {
            let (w, h) = (
                frames[frame].size.width() as f64 - 1.0,
                frames[frame].size.height() as f64 - 1.0,
            );
            let edge = (0..9)
                .filter(|k| *k != 4)
                .map(|k| (f64::from(k % 3) * 0.5 * w, f64::from(k / 3) * 0.5 * h));
            let mut worst = 0.0f64;
            for (x, y) in edge {
                let Some((at, own)) = self.sight(s, frame, Point::new(x, y)) else {
                    continue;
                };
                let at = Point::new(middle.x + at[0], middle.y + at[1]);
                for other in (0..frames.len()).filter(|k| *k != frame) {
                    let there = self
                        .frame_place(s, other, at)
                        .filter(|p| frames[other].size.holds(*p));
                    let Some((_, rows)) = there.and_then(|p| self.sight(s, other, p)) else {
                        continue;
                    };
                    let less = |i: usize| -> Row {
                        let negative = rows[i].iter().map(|(a, v)| (*a, -v));
                        own[i].iter().copied().chain(negative).collect()
                    };
                    worst = worst.max(variance(&[less(0), less(1)]));
                }
            }
            s.corner_px[frame] = spread * worst.sqrt();
        }
    }

    /// The pixel of a frame that shows a place of the plane.
    fn frame_place(
        &self,
        s: &Solution,
        frame: usize,
        at: Point<ReferencePx>,
    ) -> Option<Point<FramePx>> {
        let pose = s.poses[frame].as_ref()?;
        let [[a, b], [c, d]] = pose.matrix;
        let det = a * d - b * c;
        let mut p: Point<FramePx> = self.problem.frames[frame].size.centre();
        for _ in 0..6 {
            let here = s.place(self.problem, frame, p)?;
            let (dx, dy) = (at.x - here.x, at.y - here.y);
            p = Point::new(p.x + (d * dx - b * dy) / det, p.y + (a * dy - c * dx) / det);
        }
        (p.x.is_finite() && p.y.is_finite()).then_some(p)
    }
}

/// Frames that nothing ties to the reference, by groups that hang together among themselves.
pub fn untied(problem: &Problem<'_>, ties: &[Tie]) -> Vec<Vec<usize>> {
    let kept = problem.kept.map(|k| {
        let all: Vec<usize> = (0..k.poses.len())
            .filter(|i| k.poses[*i].is_some())
            .collect();
        all
    });
    let together = kept
        .into_iter()
        .flat_map(|all| all.windows(2).map(|w| (w[0], w[1])).collect::<Vec<_>>());
    let all = groups(
        problem.frames.len(),
        ties.iter().map(|t| (t.a, t.b)).chain(together),
    );
    all.into_iter()
        .filter(|g| !g.contains(&problem.reference))
        .collect()
}
