//! The surface between two skies, from patches that are dark in both frames.
//!
//! Nebula that both frames show alike would cancel in their difference; between filters it does not,
//! so it must be kept out. Each frame's own sky is a tilted plane below all its patches: the plane of
//! asymmetric least squares (Newey & Powell 1987, Econometrica 55, 819) with 3 % of the pull from
//! above. Patches that lie close to it are dark. The difference of both frames over patches dark in
//! both is fitted by a plane, outlying patches held down.

use crate::robust::{MAD_TO_SIGMA, mad, median};
use crate::space::{CanvasPx, Point, Size};

use super::Member;
use super::surface::{Patch, Surface};

/// Weight of a patch above the plane against one below it.
const PULL_FROM_ABOVE: f64 = 0.03;

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
    let heights = |of: fn(&Both) -> f64| heights_above_sky(&all, of, canvas);
    let (in_reference, in_frame) = (heights(|b| b.reference), heights(|b| b.frame));
    let height: Vec<f64> = in_reference
        .iter()
        .zip(&in_frame)
        .map(|(a, b)| a.max(*b) / noise)
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
            let u2 = (r / (4.685 * spread)).powi(2);
            p.weight = if u2 < 1.0 {
                (1.0 - u2) * (1.0 - u2)
            } else {
                0.0
            };
        }
        surface = Surface::fit_plane(&patches, canvas)?;
    }
    Some(Fitted {
        surface,
        residual_sigma: spread / noise,
        patches: patches.iter().filter(|p| p.weight > 0.25).count(),
    })
}

/// Height of each patch above the tilted plane below all patches.
fn heights_above_sky(all: &[Both], of: fn(&Both) -> f64, canvas: Size) -> Vec<f64> {
    let mut patches: Vec<Patch> = all
        .iter()
        .map(|b| Patch {
            at: b.at,
            value: of(b),
            weight: 1.0,
        })
        .collect();
    let mut heights = vec![0.0; patches.len()];
    for _ in 0..40 {
        let Some(plane) = Surface::fit_plane(&patches, canvas) else {
            break;
        };
        for (p, h) in patches.iter_mut().zip(&mut heights) {
            *h = p.value - plane.at(p.at);
            p.weight = if *h > 0.0 { PULL_FROM_ABOVE } else { 1.0 };
        }
    }
    heights
}
