//! How much a frame counts when frames of its filter are averaged.
//!
//! The inverse variance of its pixels after scaling: for the nebula's faint light that is the best
//! weight there is. For stars sharpness counts as well: a star's signal over the noise goes with
//! 1 / (noise x width), so the weight for them has the width squared, too.

use serde::{Deserialize, Serialize};

use super::{Balance, Member};

/// What frames are weighed by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Weigh {
    /// By the noise after scaling.
    #[default]
    Noise,
    /// And by the width of the stars.
    Sharpness,
}

/// The weight of a frame against the reference of its filter, which has weight 1.
pub fn weight(how: Weigh, reference: &Member<'_>, frame: &Member<'_>, balance: &Balance) -> f64 {
    let ratio = reference.noise() / (balance.scale.value * frame.noise());
    let width = |m: &Member<'_>| {
        let there = m.size.centre();
        let at = m.placement.invert().apply(there);
        // On the canvas, where both are compared.
        m.catalogue.fwhm_px / m.placement.area_ratio(at).sqrt()
    };
    let sharper = match how {
        Weigh::Noise => 1.0,
        Weigh::Sharpness => width(reference) / width(frame),
    };
    let weight = (ratio * sharper).powi(2);
    if weight.is_finite() && weight > 0.0 {
        weight
    } else {
        1.0
    }
}
