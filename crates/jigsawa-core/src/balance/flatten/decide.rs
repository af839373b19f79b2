//! What is sky in frames of one place, and the surface through it, weighed by how sure that is.

use crate::number::Convert;
use rayon::prelude::*;

use super::super::Sky;
use super::super::darkest::LEAST_DARK;
use super::super::surface::{Fit, Judge, Patch, Shape, Surface};
use super::evidence::{self, Grid};
use super::patch::{self, OwnPatch};
use super::settle::{Candidate, Settled, settle};
use super::{Gradient, Ground, Hints, error};
use crate::robust::{median, quantile};
use crate::space::{CanvasPx, Point, Size};

/// Quarters of the frame are left out together.
const BLOCKS: usize = 4;

/// A softer shape must foretell sky better by this part of the pixel noise: less is what a nebula's faint edges
/// feign, and a curve runs on under the rest of it unchecked.
const SLACK_SIGMA: f64 = 0.06;

/// A place given by hand counts as much as so many found.
const BY_HAND: f64 = 4.0;

/// Shapes that a frame's own gradient may have. Softer ones would follow the nebula.
fn shapes() -> Vec<Shape> {
    let mut all = vec![
        Shape::Level,
        Shape::Plane,
        Shape::Polynomial { degree: 2 },
        Shape::Polynomial { degree: 3 },
    ];
    let glow = |corner| [0.07, 0.11, 0.16].map(move |reach| Shape::Glow { corner, reach });
    all.extend((0..4).flat_map(glow));
    all.extend([1.4, 1.0].map(|stiffness| Shape::Spline { stiffness }));
    all
}

/// Sky must be at least this part of what a frame covers.
const LEAST_PART: f64 = 0.03;

/// Where it is less than this part, its surface must be known to this part of what it does.
const FEW_PART: f64 = 0.09;
const VAGUE: f64 = 0.2;

/// Of the patches up to twice as high as the sky's band, at least this part must lie in it: a sky is a crowd at its level,
/// a nebula's slope goes on evenly.
const CROWD: f64 = 0.45;

/// The sky's scatter around its surface, in pixel noise, beyond which it is none.
const MOST_SCATTER: f64 = 0.15;

/// And in errors of a patch's mean.
const MOST_ERRORS: f64 = 3.5;

/// A surface is worth taking off if it is known to this part of what it does, or to this many pixel noises.
const KNOWN: (f64, f64) = (0.35, 0.25);

/// The gradients of frames of one place in several filters, on one lattice. `None` for a frame that shows nothing at all.
pub fn gradients(skies: &[&Sky<'_>], shape: Option<Shape>, hints: &Hints) -> Vec<Option<Gradient>> {
    let Some(first) = skies.first() else {
        return Vec::new();
    };
    let lattice = first.samples.lattice();
    let (columns, rows) = lattice.patches();
    let grid = Grid { columns, rows };
    let reach = 0.75 * lattice.patch_px().real();
    let near =
        |at: Point<CanvasPx>, list: &[Point<CanvasPx>]| list.iter().any(|q| q.distance(at) < reach);
    let frames: Vec<Vec<Option<OwnPatch>>> = skies
        .iter()
        .map(|sky| {
            let mut all = patch::patches(sky);
            for p in &mut all {
                let none = p.is_some_and(|p| {
                    near(p.at, &hints.drop)
                        || hints.protect.iter().any(|(c, r)| c.distance(p.at) < *r)
                });
                if none {
                    *p = None;
                }
            }
            all
        })
        .collect();
    let field = Frames {
        patches: &frames,
        noises: skies.iter().map(|s| s.member.noise().max(1e-30)).collect(),
        grid,
        canvas: lattice.canvas(),
        shapes: shape.map_or_else(shapes, |s| vec![s]),
        by_hand: (0..columns * rows)
            .map(|k| near(lattice.middle((k % columns, k / columns)), &hints.add))
            .collect(),
    };
    field.gradients(shape.is_some())
}

/// Frames of one place, as patches.
struct Frames<'a> {
    /// Of each frame, all patches of the grid.
    patches: &'a [Vec<Option<OwnPatch>>],
    noises: Vec<f64>,
    grid: Grid,
    canvas: Size,
    shapes: Vec<Shape>,
    by_hand: Vec<bool>,
}

/// Patches of a frame that may be sky, and the surface through them.
struct Found {
    numbers: Vec<usize>,
    settled: Settled,
}

impl Frames<'_> {
    fn gradients(&self, asked: bool) -> Vec<Option<Gradient>> {
        let own: Vec<Vec<bool>> = self
            .patches
            .par_iter()
            .map(|f| evidence::smooth(f, self.grid))
            .collect();
        let in_all: Vec<bool> = (0..self.by_hand.len())
            .map(|k| own.iter().all(|f| f[k]))
            .collect();
        let first: Vec<Option<Found>> = (0..self.patches.len())
            .into_par_iter()
            .map(|f| self.find(f, &[&in_all, &own[f]]))
            .collect();
        // What stands above the sky in one filter is not sky in the others.
        let mut dark = in_all.clone();
        for found in first.iter().flatten() {
            for (k, h) in found.numbers.iter().zip(&found.settled.heights) {
                dark[*k] &= *h <= found.settled.band.1;
            }
        }
        // A shape that is asked for is had from whatever there is.
        let any = vec![asked; self.by_hand.len()];
        let mut all: Vec<Option<Gradient>> = (0..self.patches.len())
            .into_par_iter()
            .map(|f| {
                let found = self.find(f, &[&dark, &in_all, &own[f], &any]);
                self.gradient(f, found, asked)
            })
            .collect();
        // Where one filter shows no sky, little of it in another is chance.
        if !asked && all.iter().flatten().any(|g| g.ground.is_unsure()) {
            for (f, g) in all.iter_mut().enumerate() {
                let Some(found) = g else { continue };
                if found.ground == Ground::Sky && self.is_few(f, found.samples.len()) {
                    *g = self.nothing(f, Ground::Scattered);
                }
            }
        }
        all
    }

    /// Is this too little sky to be sure of?
    fn is_few(&self, frame: usize, patches: usize) -> bool {
        let covered = self.patches[frame].iter().flatten().count();
        patches.real() < FEW_PART * covered.real()
    }

    /// No gradient: what is taken off where nothing is surely sky.
    fn nothing(&self, frame: usize, ground: Ground) -> Option<Gradient> {
        let covered = self.patches[frame].iter().flatten();
        let mut levels: Vec<f32> = covered.map(|p| p.level.single()).collect();
        (!levels.is_empty()).then(|| Gradient {
            surface: Surface::zero(),
            level: f64::from(quantile(&mut levels, 0.1)),
            samples: Vec::new(),
            residual_sigma: 0.0,
            shape: Shape::Level,
            error: 0.0,
            error_sigma: 0.0,
            ground,
        })
    }

    /// The fewest patches that make a sky of a frame.
    fn least(&self, frame: usize) -> usize {
        let covered = self.patches[frame].iter().flatten().count();
        (LEAST_PART * covered.real()).index().max(LEAST_DARK)
    }

    /// The surface through a frame's sky: of the patches that may be some, without those beside others, if they are
    /// enough; the first such set counts.
    fn find(&self, frame: usize, sets: &[&Vec<bool>]) -> Option<Found> {
        for set in sets {
            for may in [evidence::inner(set, self.grid), (*set).clone()] {
                let numbers: Vec<usize> = (0..may.len())
                    .filter(|k| self.patches[frame][*k].is_some() && (may[*k] || self.by_hand[*k]))
                    .collect();
                if numbers.len() < self.least(frame) {
                    continue;
                }
                let candidates = self.candidates(frame, &numbers);
                if let Some(settled) = settle(&candidates, &self.shapes, Self::judge(), self.canvas)
                {
                    return Some(Found { numbers, settled });
                }
            }
        }
        None
    }

    const fn judge() -> Judge {
        Judge {
            blocks: BLOCKS,
            slack: SLACK_SIGMA,
        }
    }

    fn candidates(&self, frame: usize, numbers: &[usize]) -> Vec<Candidate> {
        let noise = self.noises[frame];
        numbers
            .iter()
            .filter_map(|k| Some((self.by_hand[*k], self.patches[frame][*k]?)))
            .map(|(by_hand, p)| Candidate {
                at: p.at,
                level: p.level / noise,
                weight: p.filled * if by_hand { BY_HAND } else { 1.0 },
                by_hand,
            })
            .collect()
    }

    /// A frame's gradient, after what was found is weighed.
    fn gradient(&self, frame: usize, found: Option<Found>, asked: bool) -> Option<Gradient> {
        let covered: Vec<OwnPatch> = self.patches[frame].iter().flatten().copied().collect();
        if covered.is_empty() {
            return None;
        }
        let by_hand: Vec<usize> = (0..self.by_hand.len())
            .filter(|k| self.by_hand[*k] && self.patches[frame][*k].is_some())
            .collect();
        let (mut ground, mut sky, mut tried, mut scatter) =
            (Ground::Rough, Vec::new(), self.shapes.clone(), 0.0);
        if let Some(Found { numbers, settled }) = found {
            ground = self.weigh(frame, &settled);
            let candidates = self.candidates(frame, &numbers);
            let inside = candidates.iter().zip(&settled.heights);
            sky = inside
                .filter(|(c, h)| c.by_hand || settled.holds(**h))
                .map(|(c, _)| *c)
                .collect();
            scatter = settled.choice.fit.spread;
            let softest = settled.choice.shape;
            let end = tried.iter().position(|s| *s == softest).unwrap_or(0);
            tried.truncate(end + 1);
            // Nobody falls back from one glow on another.
            tried.retain(|s| *s == softest || !matches!(s, Shape::Glow { .. }));
        }
        if ground.is_unsure() && !by_hand.is_empty() {
            ground = Ground::Told;
            sky = self.candidates(frame, &by_hand);
            tried.clone_from(&self.shapes);
            tried.retain(|s| !matches!(s, Shape::Glow { .. }));
        }
        let known = (!ground.is_unsure() || asked)
            .then(|| self.known(&sky, &tried, asked))
            .flatten();
        let noise = self.noises[frame];
        let few = self.is_few(frame, sky.len());
        let known = known.filter(|(_, surface, error)| {
            let vague = *error > VAGUE * error::swing(surface, self.canvas);
            let doubted = ground == Ground::Sky && few && vague && !asked;
            if doubted {
                ground = Ground::Scattered;
            }
            !doubted
        });
        let Some((shape, surface, error_sigma)) = known else {
            return self.nothing(frame, ground);
        };
        let surface = surface.scaled(noise);
        // The middle over the canvas is kept, so that the sky's level stays what it was.
        let mut levels: Vec<f32> = covered.iter().map(|p| surface.at(p.at).single()).collect();
        let level = f64::from(median(&mut levels));
        Some(Gradient {
            // Of a level nothing is left, not even what rounding leaves.
            surface: if shape == Shape::Level {
                Surface::zero()
            } else {
                surface.plus(Surface::constant(-level))
            },
            level,
            samples: sky
                .iter()
                .map(|c| (c.at, c.level * noise - level))
                .collect(),
            residual_sigma: scatter,
            shape,
            error: error_sigma * noise,
            error_sigma,
            ground,
        })
    }

    /// Is what was taken for sky surely some?
    fn weigh(&self, frame: usize, settled: &Settled) -> Ground {
        let (low, high) = settled.band;
        let inside = settled
            .heights
            .iter()
            .filter(|h| settled.holds(**h))
            .count();
        let above = |h: &&f64| **h > high && **h <= 2.0 * high - low;
        let near = settled.heights.iter().filter(above).count();
        let crowd = inside.real() / (inside + near).max(1).real();
        let mut errors: Vec<f32> = self.patches[frame]
            .iter()
            .flatten()
            .map(|p| p.error.single())
            .collect();
        let error = f64::from(median(&mut errors)) / self.noises[frame];
        let most = MOST_SCATTER.max(MOST_ERRORS * error);
        if inside < self.least(frame) || crowd < CROWD || settled.scatter > most {
            return Ground::Scattered;
        }
        Ground::Sky
    }

    /// How far a softer surface through the same patches lies off: what their places leave open.
    fn softer(&self, shape: Shape, patches: &[Patch], surface: &Surface) -> f64 {
        let next = match shape {
            Shape::Level => Shape::Plane,
            Shape::Plane => Shape::Polynomial { degree: 2 },
            Shape::Polynomial { degree: 2 } => Shape::Polynomial { degree: 3 },
            _ => return 0.0,
        };
        let other = Fit::new(next, patches, self.canvas);
        other.map_or(0.0, |o| {
            let off = o.surface.plus(surface.clone().scaled(-1.0));
            error::swing(&off, self.canvas)
        })
    }

    /// The softest of the shapes, which come from stiff to soft, that the sky's patches hold. Of a shape that was asked for
    /// they must only fix it.
    fn known(
        &self,
        sky: &[Candidate],
        shapes: &[Shape],
        asked: bool,
    ) -> Option<(Shape, Surface, f64)> {
        let patches: Vec<Patch> = sky.iter().map(Candidate::patch).collect();
        for shape in shapes.iter().rev() {
            if !asked && shape.numbers() * 2 > patches.len() + 1 {
                continue;
            }
            let Some(fit) = Fit::new(*shape, &patches, self.canvas) else {
                continue;
            };
            let error = error::of_surface(*shape, &fit, &patches, self.canvas);
            if asked || *shape == Shape::Level {
                return Some((*shape, fit.surface, error.unwrap_or(0.0)));
            }
            let Some(error) = error else { continue };
            if error
                <= KNOWN
                    .1
                    .max(KNOWN.0 * error::swing(&fit.surface, self.canvas))
            {
                let other = self.softer(*shape, &patches, &fit.surface);
                return Some((*shape, fit.surface, error.hypot(other)));
            }
        }
        None
    }
}
