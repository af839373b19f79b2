//! The sky's surface under patches of which some are nebula.
//!
//! Light adds, so nebula stands above the sky and nothing below it. From a first lower envelope (Koenker & Bassett 1978,
//! Econometrica 46, 33: the surface below which a tenth of the patches lie) patches near the surface and the surface
//! through them are found in turns, its stiffness chosen on quarters of the frame that it has not seen. A curved envelope
//! may dig into a nebula's hollows and a plane cannot reach into a curved sky's, so both are tried, and the one that
//! explains more patches as sky is right.

use super::super::darkest;
use super::super::surface::{Choice, Judge, Patch, Plain, Shape, choose};
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::{CanvasPx, Point, Size};

/// A patch that may be sky; levels in the frame's noise.
#[derive(Debug, Clone, Copy)]
pub(super) struct Candidate {
    pub(super) at: Point<CanvasPx>,
    pub(super) level: f64,
    pub(super) weight: f64,
    /// Told by hand to be sky.
    pub(super) by_hand: bool,
}

impl Candidate {
    /// As surfaces take it.
    pub(super) const fn patch(&self) -> Patch {
        Patch {
            at: self.at,
            value: self.level,
            weight: self.weight,
        }
    }
}

/// A surface through the sky.
pub(super) struct Settled {
    pub(super) choice: Choice,
    /// Height of each candidate above the surface, in noise.
    pub(super) heights: Vec<f64>,
    /// Heights from which to which a patch is sky.
    pub(super) band: (f64, f64),
    /// Scatter of the sky around the surface, from below.
    pub(super) scatter: f64,
}

impl Settled {
    pub(super) fn holds(&self, height: f64) -> bool {
        height >= self.band.0 && height <= self.band.1
    }

    /// Candidates that are sky, less those that lie where nothing can.
    fn support(&self) -> f64 {
        let inside = self
            .heights
            .iter()
            .filter(|h| self.holds(**h))
            .count()
            .real();
        let below = self
            .heights
            .iter()
            .filter(|h| **h < self.band.0)
            .count()
            .real();
        inside - BELOW * below
    }
}

/// Rounds in which sky and surface settle.
const ROUNDS: usize = 8;

/// A patch this near to the surface, in scatters of the sky, is sky.
const NEAR: f64 = 2.5;

/// What lies below the surface speaks against it as loudly as so many patches on it speak for it.
const BELOW: f64 = 3.0;

/// A curved envelope must explain so much more than a plane.
const MORE: f64 = 1.1;

/// The part of the candidates that may lie below the first envelope.
const QUANTILE: f64 = 0.1;

/// Distances count as at least this in an envelope.
const FLOOR: f64 = 0.03;

/// The surface through the sky among the candidates. `None` when they do not fix even a level.
pub(super) fn settle(
    candidates: &[Candidate],
    shapes: &[Shape],
    judge: Judge,
    canvas: Size,
) -> Option<Settled> {
    let stiff: Vec<Shape> = shapes
        .iter()
        .filter(|s| !matches!(s, Shape::Spline { .. } | Shape::Glow { .. }))
        .copied()
        .collect();
    let first = if stiff.is_empty() { shapes } else { &stiff };
    let mut best: Option<Settled> = None;
    for start in [
        Shape::Plane,
        Shape::Polynomial { degree: 2 },
        Shape::Polynomial { degree: 3 },
    ] {
        let Some(heights) = envelope(candidates, start, canvas) else {
            continue;
        };
        let Some(found) = rounds(candidates, heights, first, judge, canvas) else {
            continue;
        };
        if best
            .as_ref()
            .is_none_or(|b| found.support() > MORE * b.support().max(0.0))
        {
            best = Some(found);
        }
    }
    let best = glowing(candidates, shapes, best?, judge, canvas);
    let glows = matches!(best.choice.shape, Shape::Glow { .. });
    if !glows && first.len() == shapes.len() {
        return Some(best);
    }
    let rest: Vec<Shape> = shapes
        .iter()
        .filter(|s| !matches!(s, Shape::Glow { .. }))
        .copied()
        .collect();
    // From a glow's sky on, a softer surface may do as well without.
    match rounds(candidates, best.heights.clone(), &rest, judge, canvas) {
        Some(found) if !glows || found.support() >= LIKE_A_GLOW * best.support() => Some(found),
        _ => Some(best),
    }
}

/// A surface that explains this part of what a glow does is enough.
const LIKE_A_GLOW: f64 = 0.96;

/// The same, or one with a glow in the corner where most patches lie above it, if they come down to the sky by it.
fn glowing(
    candidates: &[Candidate],
    shapes: &[Shape],
    without: Settled,
    judge: Judge,
    canvas: Size,
) -> Settled {
    let glows: Vec<Shape> = shapes
        .iter()
        .filter(|s| matches!(s, Shape::Glow { .. }))
        .copied()
        .collect();
    let near = GLOWS_WITHIN * canvas.width().max(canvas.height()).real();
    let mut best = without;
    let above: Vec<usize> = canvas
        .corners::<CanvasPx>()
        .iter()
        .map(|corner| {
            let all = candidates.iter().zip(&best.heights);
            all.filter(|(c, h)| **h > best.band.1 && corner.distance(c.at) < near)
                .count()
        })
        .collect();
    for glow in glows {
        let Shape::Glow { corner, .. } = glow else {
            continue;
        };
        if above[corner] < GLOWS {
            continue;
        }
        // Of the corner all patches are looked at, elsewhere those that are sky.
        let at = canvas.corners::<CanvasPx>()[corner];
        let pool: Vec<Candidate> = candidates
            .iter()
            .zip(&best.heights)
            .filter(|(c, h)| best.holds(**h) || at.distance(c.at) < near)
            .map(|(c, _)| *c)
            .collect();
        let Some(start) = envelope(&pool, glow, canvas) else {
            continue;
        };
        let Some(found) = rounds(&pool, start, &[glow], judge, canvas) else {
            continue;
        };
        let surface = &found.choice.fit.surface;
        let whole = Settled {
            heights: candidates
                .iter()
                .map(|c| c.level - surface.at(c.at))
                .collect(),
            ..found
        };
        let gained = whole.support() - best.support();
        if gained >= 0.5 * above[corner].real() {
            best = whole;
        }
    }
    best
}

/// A glow is looked for where this many patches stand above the sky within this part of the canvas's longer side
/// from a corner.
const GLOWS: usize = 8;
const GLOWS_WITHIN: f64 = 0.3;

/// Heights of the candidates above the surface that [`QUANTILE`] of them lie below.
fn envelope(candidates: &[Candidate], shape: Shape, canvas: Size) -> Option<Vec<f64>> {
    if shape == Shape::Plane {
        let all = candidates.iter().map(|c| (c.at, c.level));
        return Some(darkest::heights(all, 1.0, canvas));
    }
    let patches: Vec<Patch> = candidates.iter().map(Candidate::patch).collect();
    let fit = Plain::new(shape, &patches, canvas);
    let mut weights: Vec<f64> = patches.iter().map(|p| p.weight).collect();
    let mut heights = vec![0.0; patches.len()];
    for _ in 0..40 {
        fit.heights(&weights, &mut heights)?;
        for ((w, h), c) in weights.iter_mut().zip(&heights).zip(candidates) {
            let side = if *h > 0.0 { QUANTILE } else { 1.0 - QUANTILE };
            *w = c.weight * side / h.abs().max(FLOOR);
        }
    }
    Some(heights)
}

/// Sky and surface in turns, from first heights on.
fn rounds(
    candidates: &[Candidate],
    mut heights: Vec<f64>,
    shapes: &[Shape],
    judge: Judge,
    canvas: Size,
) -> Option<Settled> {
    let mut band = (f64::NEG_INFINITY, darkest::bar(&heights));
    let mut settled = None;
    let mut before: Vec<bool> = Vec::new();
    for _ in 0..ROUNDS {
        let inside: Vec<bool> = candidates
            .iter()
            .zip(&heights)
            .map(|(c, h)| c.by_hand || (*h >= band.0 && *h <= band.1))
            .collect();
        if inside == before {
            break;
        }
        let sky: Vec<Patch> = candidates
            .iter()
            .zip(&inside)
            .filter(|(_, inside)| **inside)
            .map(|(c, _)| c.patch())
            .collect();
        before = inside;
        let Some(choice) = choose(shapes, &sky, judge, canvas) else {
            break;
        };
        for (c, h) in candidates.iter().zip(&mut heights) {
            *h = c.level - choice.fit.surface.at(c.at);
        }
        // The scatter of the sky alone: below the surface there is no nebula.
        let mut below: Vec<f32> = heights
            .iter()
            .filter(|h| **h < 0.0)
            .map(|h| (-*h).single())
            .collect();
        let scatter = f64::from(median(&mut below)) * MAD_TO_SIGMA;
        let reach = (NEAR * scatter).clamp(0.4 * darkest::DARK_SIGMA, 3.0 * darkest::DARK_SIGMA);
        band = (-2.0 * reach, reach);
        settled = Some((choice, scatter));
    }
    settled.map(|(choice, scatter)| Settled {
        choice,
        heights,
        band,
        scatter,
    })
}
