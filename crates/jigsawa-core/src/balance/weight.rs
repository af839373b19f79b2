//! How much a frame counts when frames of its filter are averaged.
//!
//! The inverse variance of its light over an area of the canvas, after scaling, on the scales on which faint light is
//! seen: for that it is the best weight there is (Zackay & Ofek 2017, Astrophysical Journal 836, 187). For stars sharpness counts as well:
//! a star's signal over the noise goes with 1 / (noise x width), so the weight for them has the width squared, too.
//! Pixels' own noise was taken first: of two equally deep frames a denoised one got 24 times the weight.

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
    /// All alike.
    Equal,
}

/// The weight of a frame against the reference of its filter, which has weight 1.
pub fn weight(how: Weigh, reference: &Member<'_>, frame: &Member<'_>, balance: &Balance) -> f64 {
    let ratio = reference.noise_of_area() / (balance.scale.value * frame.noise_of_area());
    // On the canvas, where both are compared.
    let sharper = match how {
        Weigh::Equal => return 1.0,
        Weigh::Noise => 1.0,
        Weigh::Sharpness => reference.fwhm_on_canvas() / frame.fwhm_on_canvas(),
    };
    let weight = (ratio * sharper).powi(2);
    if weight.is_finite() && weight > 0.0 {
        weight
    } else {
        1.0
    }
}
