//! How noisy sources are, and the brightness that is taken from a mix of its own.

use jigsawa_core::colour::Luminance;
use jigsawa_core::colour::mix::Mix;
use jigsawa_core::layout::Layout;
use jigsawa_core::number::Convert;

use super::bind::{Bound, bind, blend_of_all, find};
use super::full::Inputs;
use super::strengths::Strengths;
use crate::frames::Frame;
use crate::trouble::Trouble;

/// How much of the brightness a luminance gives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum LuminanceWeight {
    /// This part.
    Part(f32),
    /// By the noise of both.
    Noise,
}

/// Everything that the palettes are made from.
pub struct Ground<'a> {
    /// All frames with places and balances.
    pub layout: &'a Layout,
    /// What the merge reads.
    pub inputs: &'a Inputs<'a>,
    /// Factors of lines.
    pub strengths: Strengths,
}

/// Noise of a source after matching and line balance.
fn noise_of(source: &[usize], ground: &Ground<'_>) -> f32 {
    let of = |i: &usize| {
        let f = &ground.layout.frames[*i];
        let scale = f.balance.as_ref().map_or(1.0, |b| b.scale.value);
        let sigma = scale * f.measured.noise_adu;
        if sigma > 0.0 {
            1.0 / (sigma * sigma)
        } else {
            0.0
        }
    };
    let weight: f64 = source.iter().map(of).sum();
    let sigma = if weight > 0.0 {
        weight.sqrt().recip()
    } else {
        0.0
    };
    sigma.single() * ground.strengths.factor(source)
}

/// A palette whose brightness is the noise-weighted mean of all that it uses.
pub fn with_blend(bound: &Bound, ground: &Ground<'_>, frames: &[Frame]) -> Result<Bound, Trouble> {
    let noise: Vec<f32> = bound
        .palette
        .needs()
        .iter()
        .map(|n| noise_of(&find(frames, n, 0), ground))
        .collect();
    let Some((_, mix)) = blend_of_all(bound, &noise) else {
        return Err(Trouble::Nothing);
    };
    let mut palette = bound.palette.clone();
    palette.luminance = Some(mix);
    let mut blended = bind(&palette, frames, Some(ground.layout))?;
    ground.strengths.complete(&mut blended);
    Ok(blended)
}

/// How much of the brightness the luminance gives.
pub fn luminance(wanted: LuminanceWeight, bound: &Bound, ground: &Ground<'_>) -> Luminance {
    let weight = match wanted {
        LuminanceWeight::Part(part) => part,
        LuminanceWeight::Noise => {
            // The noise of mixes of one name each; others are as noisy as the mean of their names.
            let of = |mix: &Mix| -> f32 {
                let names = mix.names();
                let all = names
                    .iter()
                    .map(|n| noise_of(&find(ground.inputs.frames, &n.text, 0), ground));
                let n = names.len().max(1).single();
                (all.map(|s| s * s).sum::<f32>() / n).sqrt()
            };
            let own = bound.palette.luminance.as_ref().map(of);
            let channels: Vec<f32> = bound.palette.channels.iter().map(of).collect();
            let y = jigsawa_core::finish::LUMINANCE
                .iter()
                .zip(&channels)
                .map(|(k, s)| (k * s).powi(2))
                .sum::<f32>();
            own.map_or(1.0, |l| {
                if l * l + y > 0.0 {
                    y / (l * l + y)
                } else {
                    1.0
                }
            })
        }
    };
    Luminance { weight }
}
