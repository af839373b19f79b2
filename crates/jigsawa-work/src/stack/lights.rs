//! What each frame of a set counts, and how far its values may stray.

use jigsawa_core::balance::{Balance, Surface, Weigh};
use jigsawa_core::layout::Layout;
use jigsawa_core::measured::Measured;
use jigsawa_core::number::Convert;
use jigsawa_core::resample::{DropShape, Drops};
use jigsawa_core::robust::median;
use jigsawa_core::stack::{Light, LightSource, Rejection, Rule, weigh_places};

use super::sets::Set;
use crate::frames::Frame;
use crate::normalize::KnownFrames;
use crate::trouble::Trouble;

/// How frames are stacked.
#[derive(Debug, Clone, Copy, Default)]
pub struct StackSettings {
    /// How outliers are told; by the number of frames where nothing is said.
    pub rule: Option<Rule>,
    /// Limits below and above.
    pub limits: (Option<f32>, Option<f32>),
    /// Pixels are dropped onto the canvas instead of interpolated.
    pub drops: Option<Drops>,
    /// A colour camera's own pixels are dropped, and none are made up; by the number of frames where nothing is said.
    pub own_pixels: Option<bool>,
}

/// From so many frames of a colour camera on every place has been seen in every colour.
const OWN_PIXELS: usize = 15;

impl StackSettings {
    /// How the pixels of a set are dropped, if they are, and whether they are a colour camera's own.
    pub fn drops_of(&self, set: &Set, frames: &[Frame]) -> Option<(Drops, bool)> {
        let by_count = set.frames() >= OWN_PIXELS;
        let own = set.is_raw_colour(frames) && self.own_pixels.unwrap_or(by_count);
        let whole = Drops {
            side_px: 1.0,
            shape: DropShape::Square,
        };
        match self.drops {
            Some(drops) => Some((drops, own)),
            None => own.then_some((whole, true)),
        }
    }

    /// The rejection for these frames.
    pub fn rejection(&self, lights: &[Light]) -> Rejection {
        let known = lights.iter().all(|l| l.photons_known);
        let rule = self
            .rule
            .unwrap_or(Rejection::rule_for(lights.len(), known));
        Rejection::new(rule, self.limits.0, self.limits.1)
    }
}

/// Frames of one plane of a master.
pub struct Lights {
    /// How each is matched to the others.
    pub balances: Vec<Balance>,
    /// What each counts, and how far it may stray.
    pub parts: Vec<Light>,
    /// The level of their sky.
    pub sky: f32,
    /// The frame whose units these are.
    pub units_of: usize,
}

/// The frames of one plane of a set, in its order.
pub fn lights(
    list: &[usize],
    set: &Set,
    (known, layout): (&KnownFrames<'_>, &Layout),
) -> Result<Lights, Trouble> {
    let left_out = |i: usize| Trouble::LeftOut {
        file: known.frames[i].name(),
        reason: "it shows nothing that can be measured".to_owned(),
    };
    let mut balances = Vec::with_capacity(list.len());
    let mut members = Vec::with_capacity(list.len());
    for i in list {
        let balance = layout.frames[*i].balance.clone();
        balances.push(balance.ok_or_else(|| left_out(*i))?);
        members.push(known.member(*i).ok_or_else(|| left_out(*i))?);
    }
    let units_of = own_units(list, set, layout, &mut balances);
    let mut widths: Vec<f32> = members
        .iter()
        .map(|m| m.fwhm_on_canvas().single())
        .collect();
    let fwhm_px = f64::from(median(&mut widths));
    let canvas = layout.canvas.size;
    let weigh = layout.levels.as_ref().map_or(Weigh::Noise, |l| l.weigh);
    let each = members.iter().zip(&balances).zip(list);
    let parts = each.map(|((member, balance), i)| {
        let calibration = layout.frames[*i].calibration.as_ref();
        Light::new(&LightSource {
            member: *member,
            balance,
            canvas,
            fwhm_px,
            noise: calibration.and_then(|c| c.noise),
        })
    });
    let mut parts: Vec<Light> = parts.collect();
    if weigh != Weigh::Equal {
        weigh_places(&mut parts, &members, canvas);
    }
    let middle = canvas.centre();
    let mut skies: Vec<f32> = balances
        .iter()
        .map(|b| b.apply(b.sky_adu, middle).single())
        .collect();
    Ok(Lights {
        balances,
        parts,
        sky: median(&mut skies),
        units_of,
    })
}

/// The frame of a set whose units its master has: that which all of its filter are matched to. Where that one is of another
/// exposure, the frame that counts most takes its place, and the others are matched to it: a master of short exposures
/// stays in their own units, which an HDR merge expects.
fn own_units(list: &[usize], set: &Set, layout: &Layout, balances: &mut [Balance]) -> usize {
    let references = layout.levels.iter().flat_map(|l| &l.references);
    let there = references.map(|r| r.frame).find(|r| list.contains(r));
    if let Some(reference) = there {
        return reference;
    }
    let best = (0..list.len()).max_by(|a, b| balances[*a].weight.total_cmp(&balances[*b].weight));
    let best = best.unwrap_or(0);
    if set.exposure_s.is_none() || balances[best].gain.is_some() {
        return list[best];
    }
    let own = &balances[best];
    let back = 1.0 / own.scale.value;
    let to_best = Balance {
        scale: Measured::exact(back),
        surface: own.surface.clone().scaled(-back),
        ..Balance::unchanged(own.sky_adu, own.noise_adu)
    };
    let weight = own.weight;
    for (k, b) in balances.iter_mut().enumerate() {
        *b = if k == best {
            Balance {
                surface: Surface::zero(),
                scale: Measured::exact(1.0),
                ..b.clone()
            }
        } else {
            b.clone().then(&to_best)
        };
        b.weight /= weight;
    }
    list[best]
}
