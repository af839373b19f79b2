//! How well a surface is known, by what it becomes when a part of the frame is not seen.
//!
//! Patches of a frame's part share what a smooth surface does not follow, so their scatter tells too small an error.
//! Leaving out one part after the other does better (the grouped jackknife: Efron 1982, The Jackknife, the Bootstrap and
//! Other Resampling Plans).

use super::super::surface::{Fit, Patch, Shape, Surface, fit_plainly};
use crate::number::Convert;
use crate::space::{CanvasPx, Point, Size};

/// Parts along the longer side of the canvas: more for a glow, which is in one corner alone.
const PARTS: usize = 4;
const PARTS_FOR_GLOW: usize = 14;

/// Places along each side at which surfaces are compared.
const PLACES: usize = 9;

/// Places all over the canvas.
fn places(canvas: Size) -> impl Iterator<Item = Point<CanvasPx>> {
    let along = |k: usize, side: usize| (side - 1).real() * k.real() / (PLACES - 1).real();
    (0..PLACES).flat_map(move |j| {
        (0..PLACES).map(move |i| Point::new(along(i, canvas.width()), along(j, canvas.height())))
    })
}

/// The standard error of a surface, root mean square over the canvas. `None` where a single part of the frame fixes the shape.
pub(super) fn of_surface(shape: Shape, fit: &Fit, patches: &[Patch], canvas: Size) -> Option<f64> {
    let along = match shape {
        Shape::Glow { .. } => PARTS_FOR_GLOW,
        _ => PARTS,
    };
    let side = canvas.width().max(canvas.height()).real() / along.real();
    let part = |p: &Patch| (p.at.x / side).index() + (p.at.y / side).index() * along;
    let mut parts: Vec<usize> = patches.iter().map(part).collect();
    parts.sort_unstable();
    parts.dedup();
    if parts.len() < 2 {
        return None;
    }
    let kept: Vec<Patch> = patches
        .iter()
        .zip(&fit.kept)
        .map(|(p, k)| Patch {
            weight: p.weight * k,
            ..*p
        })
        .filter(|p| p.weight > 0.0)
        .collect();
    let mut squares = 0.0;
    for n in &parts {
        let rest: Vec<Patch> = kept.iter().filter(|p| part(p) != *n).copied().collect();
        let without = fit_plainly(shape, &rest, canvas)?;
        let off = |p: Point<CanvasPx>| without.at(p) - fit.surface.at(p);
        squares += places(canvas).map(|p| off(p).powi(2)).sum::<f64>();
    }
    let count = parts.len().real();
    let mean = squares / (PLACES * PLACES).real();
    Some((mean * (count - 1.0) / count).sqrt())
}

/// How much a surface goes up and down, root mean square around its mean over the canvas.
pub(super) fn swing(surface: &Surface, canvas: Size) -> f64 {
    let all: Vec<f64> = places(canvas).map(|p| surface.at(p)).collect();
    let mean = all.iter().sum::<f64>() / all.len().real();
    (all.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / all.len().real()).sqrt()
}
