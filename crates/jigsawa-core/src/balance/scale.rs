//! The factor between two frames: from the fluxes of the stars that both show, or from their noise.

use std::collections::HashMap;

use crate::measured::Measured;
use crate::robust::robust_ratio;
use crate::stars::{Catalogue, Star};

use super::Member;

/// Stars this bright, in sigma, enter; fainter ones add noise and the bias of their detection.
const LEAST_SNR: f64 = 15.0;

/// Fewer common stars than this say too little.
const LEAST_STARS: usize = 8;

/// The factor that brings `frame`'s star fluxes, on the canvas, to those of `anchor`, and the number
/// of stars behind it. Both are paired with the same reference. `None` with too few common stars.
pub fn star_scale(anchor: &Member<'_>, frame: &Member<'_>) -> Option<(Measured, usize)> {
    let of_anchor: HashMap<usize, usize> = anchor.pairs.iter().copied().collect();
    let fluxes: Vec<(f64, f64, f64)> = frame
        .pairs
        .iter()
        .filter_map(|(reference, mine)| {
            let a = &anchor.catalogue.stars[*of_anchor.get(reference)?];
            let f = &frame.catalogue.stars[*mine];
            (usable(a) && usable(f)).then(|| {
                let error = (a.flux_sigma / a.flux).hypot(f.flux_sigma / f.flux);
                (canvas_flux(frame, f), canvas_flux(anchor, a), error)
            })
        })
        .collect();
    if fluxes.len() < LEAST_STARS {
        return None;
    }
    let ratio = robust_ratio(&fluxes)?;
    Some((ratio.slope, ratio.used))
}

fn usable(s: &Star) -> bool {
    s.flags.is_clean() && s.flux > LEAST_SNR * s.flux_sigma
}

/// The flux that the star has after its frame is resampled onto the canvas: values stay, so a star
/// that covers fewer pixels of the frame than of the canvas gains light.
fn canvas_flux(member: &Member<'_>, star: &Star) -> f64 {
    let there = member.placement.invert().apply(star.at);
    star.flux / member.placement.area_ratio(there)
}

/// The factor that brings the noise of `frame`'s sky to that of `reference`. `None` when one of them
/// has none. Its error is that of two noise estimates from a hundred independent cells.
pub fn noise_scale(reference: &Catalogue, frame: &Catalogue) -> Option<Measured> {
    let (r, f) = (
        f64::from(reference.sky.typical_sigma()),
        f64::from(frame.sky.typical_sigma()),
    );
    let value = r / f;
    (r > 0.0 && f > 0.0 && value.is_finite()).then_some(Measured {
        value,
        sigma: 0.01 * value,
    })
}
