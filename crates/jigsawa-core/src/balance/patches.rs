//! The surface between two skies, from patches that are dark in both frames.
//!
//! Nebula that both frames show alike would cancel in their difference; between filters it does not,
//! so it must be kept out. Each frame's own sky is a tilted plane below nearly all its patches: the
//! plane of the 10 % quantile (Koenker & Bassett 1978, Econometrica 46, 33), which no nebula can lift
//! however bright, then refined on the patches close to it. Least squares with unequal weights for
//! both sides was tried first: a nebula of a hundred sigma lifts it by several. Patches close to the
//! plane are dark. The difference of both frames over patches dark in both is fitted by a plane,
//! outlying patches held down.

use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, mad, median};
use crate::space::{CanvasPx, Point, Size};

use super::Member;
use super::surface::{Patch, Surface};

/// The part of a frame's patches that may lie below its sky's plane by their errors.
const QUANTILE: f64 = 0.1;

/// Distances count as at least this, in pixel noise: the error of a patch's level.
const FLOOR_SIGMA: f64 = 0.03;

/// A patch this near above its frame's plane, in pixel noise, is dark.
const DARK_SIGMA: f64 = 0.35;

/// With fewer dark patches than this, the darkest third of all serves.
const LEAST_DARK: usize = 12;

pub(super) struct Fitted {
    pub(super) surface: Surface,
    pub(super) residual_sigma: f64,
    pub(super) patches: usize,
}

/// One patch of the canvas in both frames.
struct Both {
    at: Point<CanvasPx>,
    reference: f64,
    frame: f64,
}

/// What must be added to `scale x frame` to meet the reference's sky. `None` without common patches.
pub(super) fn surface(
    reference: &Member<'_>,
    frame: &Member<'_>,
    scale: f64,
    canvas: Size,
) -> Option<Fitted> {
    let to_canvas = reference.placement.invert();
    let all: Vec<Both> = reference
        .catalogue
        .sky
        .cells()
        .filter_map(|cell| {
            let at = to_canvas.apply(cell.at);
            let there = frame.placement.apply(at);
            // Level between cells, but only where the frame has data at all.
            frame.catalogue.sky.cell_at(there)?;
            Some(Both {
                at,
                reference: f64::from(cell.level),
                frame: scale * f64::from(frame.catalogue.sky.level_at(there)),
            })
        })
        .collect();
    if all.is_empty() {
        return None;
    }
    let noise = f64::from(reference.catalogue.sky.typical_sigma()).max(1e-30);
    let heights = |of: fn(&Both) -> f64, sigma| heights_above_sky(&all, of, sigma, canvas);
    let frame_noise = scale * f64::from(frame.catalogue.sky.typical_sigma()).max(1e-30);
    let in_reference = heights(|b| b.reference, noise);
    let in_frame = heights(|b| b.frame, frame_noise);
    let height: Vec<f64> = in_reference
        .iter()
        .zip(&in_frame)
        .map(|(a, b)| a.max(*b))
        .collect();
    let mut bar = DARK_SIGMA;
    let dark = height.iter().filter(|h| **h < bar).count();
    if dark < LEAST_DARK {
        let mut sorted: Vec<f32> = height.iter().map(|h| *h as f32).collect();
        bar = f64::from(crate::robust::quantile(&mut sorted, 1.0 / 3.0)) + 1e-9;
    }
    let mut patches: Vec<Patch> = all
        .iter()
        .zip(&height)
        .filter(|(_, h)| **h <= bar)
        .map(|(b, _)| Patch {
            at: b.at,
            value: b.reference - b.frame,
            weight: 1.0,
        })
        .collect();
    let mut surface = Surface::fit_plane(&patches, canvas)?;
    let mut spread = 0.0;
    for _ in 0..20 {
        let residual: Vec<f64> = patches.iter().map(|p| p.value - surface.at(p.at)).collect();
        let mut r: Vec<f32> = residual.iter().map(|v| *v as f32).collect();
        let middle = median(&mut r);
        spread = f64::from(mad(&mut r, middle)) * MAD_TO_SIGMA;
        if spread <= 0.0 {
            break;
        }
        for (p, r) in patches.iter_mut().zip(&residual) {
            p.weight = biweight(*r, BIWEIGHT_REACH * spread);
        }
        surface = Surface::fit_plane(&patches, canvas)?;
    }
    Some(Fitted {
        surface,
        residual_sigma: spread / noise,
        patches: patches.iter().filter(|p| p.weight > 0.25).count(),
    })
}

/// Height of each patch above its frame's own sky, in that frame's pixel noise `sigma`.
fn heights_above_sky(all: &[Both], of: fn(&Both) -> f64, sigma: f64, canvas: Size) -> Vec<f64> {
    let mut patches: Vec<Patch> = all
        .iter()
        .map(|b| Patch {
            at: b.at,
            value: of(b) / sigma,
            weight: 1.0,
        })
        .collect();
    let mut heights = vec![0.0; patches.len()];
    // The quantile's plane: least squares with weights renewed until it is the sum of distances,
    // those above counting less.
    for _ in 0..60 {
        measure_heights(&patches, canvas, &mut heights);
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
        measure_heights(&patches, canvas, &mut heights);
    }
    heights
}

/// Heights of the patches above the plane of their weights.
fn measure_heights(patches: &[Patch], canvas: Size, heights: &mut [f64]) {
    if let Some(plane) = Surface::fit_plane(patches, canvas) {
        for (p, h) in patches.iter().zip(heights) {
            *h = p.value - plane.at(p.at);
        }
    }
}
