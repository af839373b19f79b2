//! One solution for all panels of all filters: bundle adjustment over the stars that they share.
//!
//! A frame's pixel is first freed of its lens: a polynomial of the frame's place, one for each camera. Then it is
//! turned, scaled and (a little) sheared into a plane that touches the sky where the frame points, and from there
//! carried to the reference's plane (`sphere`). All those numbers are found together by weighted least squares: each
//! star's sights must meet, wherever that is. A star's own place is eliminated, since given the rest it is the weighted
//! mean of its sights (Triggs et al. 2000, Bundle Adjustment - A Modern Synthesis, LNCS 1883, 298). A star
//! whose sights do not meet is held down as a whole by Tukey's biweight: which of two sights is the wrong one nobody knows.
//!
//! What no star tells is kept small rather than left open: a frame's own scale and shear beside its camera's by a weak
//! prior of a ten-thousandth (temperature and refraction), which hundreds of stars overrule at once. Without it a
//! curved lens and scales that rise along a row of panels explain the same sights, and a chain of panels bends.
//!
//! Frames placed one after the other, each on its neighbour, were tried in a drawing first: errors add up along the
//! chain and a closed loop does not close.

mod certainty;
mod priors;
mod system;

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::sphere::untilted;
use super::tracks::{Track, groups, place};
use crate::matching::{FrameSpots, Tie};
use crate::measured::Measured;
use crate::placement::{Distortion, Map, Model, Pair, Registration};
use crate::space::{FramePx, Point, ReferencePx, Size};
use system::System;

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
    pub frames: &'a [FrameSpots<'a>],
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
    pub lenses: Vec<Option<Distortion>>,
    /// The curvature.
    pub curvature: f64,
}

/// All places.
#[derive(Debug, Clone)]
pub struct Solution {
    /// The pose of each frame; `None` where nothing ties it to the reference.
    pub poses: Vec<Option<Pose>>,
    /// The lens of each camera, from a frame's pixel to where it would be without; `None` for none.
    pub lenses: Vec<Option<Distortion>>,
    /// 1 / (reference pixels for a radian)².
    pub curvature: f64,
    /// Degree of the lenses' polynomials, once it was chosen; 1 is none.
    pub degree: Option<u8>,
    /// The weight that each track has kept, 0 to 1.
    pub kept: Vec<f64>,
    /// Standard error of each coordinate by which a frame's place at its edges may differ from those of the frames that
    /// lie there, too, at the worst; in reference pixels.
    pub corner_sigma_px: Vec<f64>,
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
pub(super) fn freed(lens: Option<&Distortion>, size: Size, p: Point<FramePx>) -> (f64, f64) {
    let (x, y) = lens.map_or((p.x, p.y), |b| b.apply(p.x, p.y));
    let centre: Point<FramePx> = size.centre();
    (x - centre.x, y - centre.y)
}

fn times([[a, b], [c, d]]: [[f64; 2]; 2], (x, y): (f64, f64)) -> (f64, f64) {
    (a * x + b * y, c * x + d * y)
}

/// Half the diagonal of a frame: the unit of a lens's polynomial.
fn half(size: Size) -> f64 {
    0.5 * size.width().real().hypot(size.height().real())
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
        corner_sigma_px: vec![0.0; n],
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
        let at = |k: usize, n: usize| k.real() / (STEPS - 1).real() * (n.real() - 1.0);
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
        let of = |(i, f): (usize, &FrameSpots<'_>)| {
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
        let system = System::new(problem, tracks, start, degree);
        let mut s = system.solved(start, &counted);
        // Frames added to a solution: how well the new ones foretell stars was not found out yet.
        if s.unseen_px == 0.0 {
            let seen: Vec<f64> = (0..tracks.len())
                .map(|i| f64::from(u8::from(i % 5 != 0)))
                .collect();
            s.unseen_px = system.unseen(&system.solved(start, &seen), &seen).sqrt();
        }
        return s;
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
            all += system.unseen(&found, &seen) / folds.real();
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
