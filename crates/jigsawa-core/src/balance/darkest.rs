//! Which patches of a frame are dark: sky, and no nebula.
//!
//! Each frame's own sky is a tilted plane below nearly all its patches: the
//! plane of the 10 % quantile (Koenker & Bassett 1978, Econometrica 46, 33), which no nebula can lift
//! however bright, then refined on the patches close to it. Least squares with unequal weights for
//! both sides was tried first: a nebula of a hundred sigma lifts it by several. Patches close to the
//! plane are dark.

use super::surface::{Patch, fit_plane};
use crate::number::Convert;
use crate::robust::biweight;
use crate::space::{CanvasPx, Point, Size};

/// The part of a frame's patches that may lie below its sky's plane by their errors.
const QUANTILE: f64 = 0.1;

/// Distances count as at least this, in pixel noise: the error of a patch's level.
const FLOOR_SIGMA: f64 = 0.03;

/// A patch this near above its frame's plane, in pixel noise, is dark.
pub(super) const DARK_SIGMA: f64 = 0.35;

/// With fewer dark patches than this, the darkest third of all serves.
pub(super) const LEAST_DARK: usize = 12;

/// Height of each patch (place, level) above its frame's own sky, in that frame's pixel noise `sigma`.
pub(super) fn heights(
    patches: impl Iterator<Item = (Point<CanvasPx>, f64)>,
    sigma: f64,
    canvas: Size,
) -> Vec<f64> {
    let mut patches: Vec<Patch> = patches
        .map(|(at, level)| Patch {
            at,
            value: level / sigma,
            weight: 1.0,
        })
        .collect();
    let mut heights = vec![0.0; patches.len()];
    // The quantile's plane: least squares with weights renewed until it is the sum of distances,
    // those above counting less.
    for _ in 0..60 {
        measure(&patches, canvas, &mut heights);
        for (p, h) in patches.iter_mut().zip(&heights) {
            let side = if *h > 0.0 { QUANTILE } else { 1.0 - QUANTILE };
            p.weight = side / h.abs().max(FLOOR_SIGMA);
        }
    }
    // Its tilt rests on few patches; all that lie close to it know better.
    for _ in 0..5 {
        if heights.iter().filter(|h| h.abs() < DARK_SIGMA).count() < LEAST_DARK {
            break;
        }
        for (p, h) in patches.iter_mut().zip(&heights) {
            p.weight = biweight(*h, 2.0 * DARK_SIGMA);
        }
        measure(&patches, canvas, &mut heights);
    }
    heights
}

/// The height up to which patches are dark: [`DARK_SIGMA`], or what the darkest third keeps to.
pub(super) fn bar(heights: &[f64]) -> f64 {
    if heights.iter().filter(|h| **h < DARK_SIGMA).count() >= LEAST_DARK {
        return DARK_SIGMA;
    }
    let mut sorted: Vec<f32> = heights.iter().map(|h| (*h).single()).collect();
    f64::from(crate::robust::quantile(&mut sorted, 1.0 / 3.0)) + 1e-9
}

/// Heights of the patches above the plane of their weights.
fn measure(patches: &[Patch], canvas: Size, heights: &mut [f64]) {
    if let Some(plane) = fit_plane(patches, canvas) {
        for (p, h) in patches.iter().zip(heights) {
            *h = p.value - plane.at(p.at);
        }
    }
}
