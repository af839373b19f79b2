//! Balance: how a frame's values are matched to the reference's.
//!
//! A balanced value is `(scale x value + surface(canvas x, y)) / gain(canvas x, y)`. Frames of one
//! filter are brought to that filter's own reference: the scale comes from stars that both show
//! ([`scale`](mod@scale)), the [`surface`](Surface) from star-free patches of both. The filters'
//! references are brought to one sky, and to one scale if that is asked for. A reference's own
//! gradient can be taken out ([`flatten`](mod@flatten)). References are else left as they are.

mod darkest;
pub mod flatten;
mod lattice;
mod level;
mod patches;
mod propose;
mod samples;
pub mod scale;
mod surface;
mod weight;

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use crate::filter::Filter;
use crate::measured::Measured;
use crate::placement::Placement;
use crate::space::{CanvasPx, Point, Size};
use crate::stars::Catalogue;

pub use lattice::Lattice;
pub(crate) use level::exposure_or_none;
pub use level::{
    BalanceSettings, BothPatch, Evidence, Matched, Sky, colours, match_scaled, match_sky, match_to,
};
pub use patches::{BothSkies, both_skies};
pub use propose::{Proposal, propose};
pub use samples::Samples;
pub use surface::{Domain, Glow, Polynomial, Shape, ShapeError, Spline, Surface};
pub use weight::{Weigh, weight};

/// How a frame's scale was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ScaleBy {
    /// It is the reference: 1 by definition.
    Reference,
    /// By the fluxes of common stars.
    Stars,
    /// By the noise of the sky.
    Noise,
    /// By exposures and gains.
    Exposure,
    /// By the brightness of the nebula.
    Signal,
    /// Left at 1.
    None,
}

impl ScaleBy {
    /// In a word or two.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Reference => "reference",
            Self::Stars => "stars",
            Self::Noise => "noise",
            Self::Exposure => "exposure",
            Self::Signal => "nebula",
            Self::None => "left as it is",
        }
    }
}

/// How a frame's values are matched to the reference's.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Balance {
    /// Factor on the frame's values.
    pub scale: Measured,
    /// How the factor was found.
    pub scale_by: ScaleBy,
    /// Stars behind the factor; 0 when it is not from stars.
    pub stars: usize,
    /// What is added after scaling, over the canvas.
    pub surface: Surface,
    /// What all is divided by then, over the canvas; absent for nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gain: Option<Surface>,
    /// What is added after dividing, over the canvas: absent for nothing, and without a gain.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub added: Option<Surface>,
    /// The frame's own sky level, before balancing.
    pub sky_adu: f64,
    /// The frame's own noise, before balancing.
    pub noise_adu: f64,
    /// Scatter of the patches around the surface, in the reference's noise: that which its pixels would have were they
    /// independent, and faint light as uncertain as it is.
    pub residual_sigma: f64,
    /// What the surface leaves of patches that it has not seen, in the same unit; absent where a shape was given.
    #[serde(
        default,
        skip_serializing_if = "Option::is_none",
        alias = "unseen_sigma"
    )]
    pub crossval_sigma: Option<f64>,
    /// Patches behind the surface.
    pub patches: usize,
    /// How much the frame counts when frames of its filter are averaged; the filter's reference counts 1.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub weight: f64,
    /// What should be known of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
}

const fn one() -> f64 {
    1.0
}

// Serde hands fields over by reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_one(v: &f64) -> bool {
    *v == 1.0
}

impl Balance {
    /// The balance of the reference: nothing changes.
    pub fn identity(catalogue: &Catalogue) -> Self {
        Self::unchanged(
            f64::from(catalogue.sky.typical_level()),
            catalogue.noise.pixel(),
        )
    }

    /// The balance that changes nothing, for a frame with this sky and noise.
    pub const fn unchanged(sky_adu: f64, noise_adu: f64) -> Self {
        Self {
            scale: Measured::exact(1.0),
            scale_by: ScaleBy::Reference,
            stars: 0,
            surface: Surface::zero(),
            gain: None,
            added: None,
            sky_adu,
            noise_adu,
            residual_sigma: 0.0,
            crossval_sigma: None,
            patches: 0,
            weight: 1.0,
            notes: Vec::new(),
        }
    }

    /// A value of the frame at a place of the canvas, balanced.
    pub fn apply(&self, value: f64, at: Point<CanvasPx>) -> f64 {
        let at_place = |s: &Option<Surface>, none: f64| s.as_ref().map_or(none, |s| s.at(at));
        let levelled = self.scale.value * value + self.surface.at(at);
        levelled / at_place(&self.gain, 1.0) + at_place(&self.added, 0.0)
    }

    /// Balances a row of the canvas, from column `x` on; `spare` is memory for the gain.
    pub fn apply_to_row(&self, x: i64, y: i64, row: &mut [f32], spare: &mut Vec<f32>) {
        let scale = self.scale.value.single();
        if scale != 1.0 {
            for v in row.iter_mut() {
                *v *= scale;
            }
        }
        if !self.surface.is_zero() {
            self.surface.add_to_row(x, y, row);
        }
        if let Some(gain) = &self.gain {
            spare.clear();
            spare.resize(row.len(), 0.0);
            gain.add_to_row(x, y, spare);
            for (v, g) in row.iter_mut().zip(spare.iter()) {
                *v /= g;
            }
        }
        if let Some(added) = &self.added {
            added.add_to_row(x, y, row);
        }
    }

    /// This balance and then another, that of the frame which this one was matched to; what should be
    /// known of the other stays with it. Of two gains, which no frame has had, the first is kept.
    #[must_use]
    pub fn then(self, next: &Self) -> Self {
        let k = next.scale.value;
        let scale = self.scale.times(next.scale);
        if self.gain.is_none() {
            // (k (s v + a) + b) / g + c
            return Self {
                scale,
                surface: self.surface.scaled(k).plus(next.surface.clone()),
                gain: next.gain.clone(),
                added: next.added.clone(),
                ..self
            };
        }
        // k ((s v + a) / g + c) + b
        let own = self.added.unwrap_or_else(Surface::zero).scaled(k);
        let added = own.plus(next.surface.clone());
        Self {
            scale,
            surface: self.surface.scaled(k),
            added: (!added.is_zero()).then_some(added),
            ..self
        }
    }

    /// With something that should be known of it.
    #[must_use]
    pub fn noting(mut self, said: String) -> Self {
        self.notes.push(said);
        self
    }

    /// Are its numbers possible on a canvas of this size? Files edited by hand may say anything.
    pub fn is_sound_on(&self, size: Size) -> bool {
        self.scale.value < MOST_LIGHT
            && self.scale.value > 0.0
            && self.weight < MOST_LIGHT
            && self.weight >= 0.0
            && self.surface.is_sound_on(size, MOST_LIGHT)
            && [&self.gain, &self.added]
                .into_iter()
                .flatten()
                .all(|g| g.is_sound_on(size, MOST_LIGHT))
    }
}

/// No level, scale or weight is larger: what is measured ends at 1e18.
const MOST_LIGHT: f64 = 1e18;

/// A frame as balancing sees it.
#[derive(Debug, Clone, Copy)]
pub struct Member<'a> {
    /// Its stars and sky.
    pub catalogue: &'a Catalogue,
    /// Where it lies.
    pub placement: &'a Placement,
    /// Its pixels.
    pub size: Size,
    /// Its filter.
    pub filter: &'a Filter,
    /// Exposure of a sub-frame, if known.
    pub exposure_s: Option<f64>,
    /// Electrons for one unit, if known.
    pub gain_e_adu: Option<f64>,
}

impl Member<'_> {
    /// Its noise as faint light sees it: that of white noise as strong on large scales.
    pub(crate) fn noise(&self) -> f64 {
        self.catalogue.noise.deep()
    }

    /// Frame pixels for one of the canvas in length, in the frame's middle.
    pub(crate) fn pixels(&self) -> f64 {
        let middle = self.placement.invert().apply(self.size.centre());
        self.placement.area_ratio(middle).sqrt()
    }

    /// The width of its stars in canvas pixels.
    pub fn fwhm_on_canvas(&self) -> f64 {
        self.catalogue.fwhm_px / self.pixels()
    }

    /// Its noise over the area of a canvas pixel, on scales of 8 to 16 of these: cameras with larger pixels have no
    /// less of it, nor have frames that were smoothed.
    pub(crate) fn noise_of_area(&self) -> f64 {
        let pixels = self.pixels();
        self.catalogue.noise.at(WEIGHED_AT_PX * pixels) / pixels
    }
}

/// Frames are weighed by their noise on this scale, in canvas pixels: what is fainter than a pixel's noise is seen on
/// such.
const WEIGHED_AT_PX: f64 = 11.0;

/// Why a frame cannot be balanced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BalanceError {
    /// No patch of sky is covered by both frames.
    #[error("it shares no patch of sky with the reference")]
    NoCommonSky,
    /// Its noise or that of the reference is zero.
    #[error("its sky has no noise to compare")]
    NoNoise,
    /// Too few common stars.
    #[error("it has only {0} bright stars in common with the reference")]
    FewStars(usize),
    /// There is no nebula in both.
    #[error("there is too little nebula that both it and the reference show")]
    NoSignal,
    /// Its sky is near zero.
    #[error("its sky is too near zero to be divided by: it seems to have been taken off already")]
    NoLevel,
    /// A header does not tell the exposure.
    #[error("its exposure or the reference's is not known")]
    NoExposure,
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A tilted surface.
    fn tilt(level: f64, across: f64) -> Surface {
        let patches: Vec<surface::Patch> = (0..36)
            .map(|i| (f64::from(i % 6) * 20.0, f64::from(i / 6) * 20.0))
            .map(|(x, y)| surface::Patch {
                at: Point::new(x, y),
                value: level + across * (x - 0.3 * y),
                weight: 1.0,
            })
            .collect();
        surface::fit_plane(&patches, Size::new(101, 101).unwrap()).unwrap()
    }

    #[rstest::rstest]
    #[case::flattened_first(Some(tilt(1.1, 0.002)), None)]
    #[case::flattened_after(None, Some(tilt(0.9, -0.001)))]
    #[case::never(None, None)]
    fn one_balance_and_then_another_is_both(
        #[case] gain: Option<Surface>,
        #[case] next_gain: Option<Surface>,
    ) {
        let balance = |scale, surface, gain| Balance {
            scale: Measured::exact(scale),
            surface,
            gain,
            ..Balance::unchanged(100.0, 5.0)
        };
        let first = balance(1.7, tilt(-40.0, 0.3), gain);
        let next = balance(0.6, tilt(12.0, -0.2), next_gain);
        let third = balance(2.0, tilt(3.0, 0.1), None);
        let all = first.clone().then(&next).then(&third);
        for (x, y) in [(0, 0), (97, 3), (50, 80)] {
            let at = Point::new(f64::from(x), f64::from(y));
            let want = third.apply(next.apply(first.apply(220.0, at), at), at);
            assert!((all.apply(220.0, at) - want).abs() < 1e-9, "{at:?}");
            let mut row = [220.0f32];
            all.apply_to_row(i64::from(x), i64::from(y), &mut row, &mut Vec::new());
            assert!(
                (f64::from(row[0]) / want - 1.0).abs() < 1e-5,
                "{row:?} for {want}"
            );
        }
    }
}
