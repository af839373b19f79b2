//! One frame brought to another: scale, then the surface between their skies.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use super::patches::{BothSkies, both_skies};
use super::samples::Samples;
use super::scale::{
    CommonStar, bend_of, common_stars, exposure_scale, noise_scale, signal_scale, star_scale,
};
use super::surface::{Choice, Fit, Judge, Patch, Shape, Surface, choose};
use super::{Balance, BalanceError, Member, ScaleBy, darkest};
use crate::filter::Band;
use crate::measured::Measured;

/// A frame with its sky at the points of the canvas.
#[derive(Debug, Clone)]
pub struct Sky<'a> {
    /// The frame.
    pub member: Member<'a>,
    /// Its sky.
    pub samples: Samples,
}

/// How frames are to be matched.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct BalanceSettings {
    /// How the scale is found; chosen by what the frames are, if absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scale_by: Option<ScaleBy>,
    /// The kind of surface; chosen by cross-validation, if absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shape: Option<Shape>,
}

/// What a balance rests on, for those who want to see.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Evidence {
    /// Stars that both frames show.
    pub stars: Vec<CommonStar>,
    /// Patches that both show, and the weight that the surface gave each.
    pub patches: Vec<(BothPatch, f64)>,
    /// What each tried shape leaves of patches that it has not seen, in the reference's pixel noise.
    pub tried: Vec<(String, f64)>,
}

/// A patch in a report: place, and what must be added to the scaled frame there.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BothPatch {
    /// Column of its middle on the canvas.
    pub x: f64,
    /// Row of its middle.
    pub y: f64,
    /// Reference less scaled frame.
    pub difference: f64,
}

/// A frame brought to another.
#[derive(Debug, Clone)]
pub struct Matched {
    /// How.
    pub balance: Balance,
    /// What it rests on.
    pub evidence: Evidence,
}

/// Brings a frame to the reference of its filter. Nebula that both show cancels in their difference, so
/// all patches without stars count.
///
/// # Errors
/// When the frames share no sky, or what the settings ask for cannot be had.
pub fn match_to(
    reference: &Sky<'_>,
    frame: &Sky<'_>,
    settings: &BalanceSettings,
) -> Result<Matched, BalanceError> {
    let patches = both_skies(&reference.samples, &frame.samples);
    if patches.is_empty() {
        return Err(BalanceError::NoCommonSky);
    }
    let stars = common_stars(&reference.member, &frame.member);
    let mut notes = Vec::new();
    let found = match settings.scale_by {
        Some(by) => asked_scale(by, reference, frame, &stars, &patches)?,
        None => own_scale(reference, frame, &stars, &patches, &mut notes),
    };
    if found.by == ScaleBy::Stars
        && let Some(bent) = bend_of(&stars, found.factor.value)
    {
        notes.push(format!(
            "the ratio of its stars to the reference's changes by {:+.1} % for stars ten times as bright: one of \
             the two is not linear (stretched, or stars near saturation)",
            100.0 * bent
        ));
    }
    let between = Between {
        reference,
        frame,
        scale: found,
        both: &patches,
        shape: settings.shape,
        dark: Dark::All,
    };
    between.find(&stars, notes)
}

/// Brings the sky of one filter's reference to that of another filter's. Nebulae differ between filters,
/// so only patches count that are dark in both, and the surface is a plane unless another is asked for.
///
/// # Errors
/// When the frames share no sky.
pub fn match_sky(
    reference: &Sky<'_>,
    frame: &Sky<'_>,
    (factor, by, stars): (Measured, ScaleBy, usize),
    shape: Option<Shape>,
) -> Result<Matched, BalanceError> {
    let scale = Scale { factor, by, stars };
    let shape = Some(shape.unwrap_or(Shape::Plane));
    surface_between(reference, frame, scale, shape, Dark::Both)
}

/// Brings the sky of a frame to that of the reference of its filter where its scale is known already. Nebula that
/// both show cancels in their difference, so all patches without stars count.
///
/// # Errors
/// When the frames share no sky.
pub fn match_scaled(
    reference: &Sky<'_>,
    frame: &Sky<'_>,
    (factor, by, stars): (Measured, ScaleBy, usize),
    shape: Option<Shape>,
) -> Result<Matched, BalanceError> {
    let scale = Scale { factor, by, stars };
    surface_between(reference, frame, scale, shape, Dark::All)
}

/// The surface between two skies where the scale is known.
fn surface_between(
    reference: &Sky<'_>,
    frame: &Sky<'_>,
    scale: Scale,
    shape: Option<Shape>,
    dark: Dark,
) -> Result<Matched, BalanceError> {
    let patches = both_skies(&reference.samples, &frame.samples);
    if patches.is_empty() {
        return Err(BalanceError::NoCommonSky);
    }
    let between = Between {
        reference,
        frame,
        scale,
        both: &patches,
        shape,
        dark,
    };
    between.find(&[], Vec::new())
}

/// Which patches tell of the sky.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Dark {
    /// All: what both show cancels.
    All,
    /// Those that are dark in both.
    Both,
}

#[derive(Clone, Copy)]
struct Scale {
    factor: Measured,
    by: ScaleBy,
    stars: usize,
}

/// The best of what two frames of one filter offer.
fn own_scale(
    reference: &Sky<'_>,
    frame: &Sky<'_>,
    stars: &[CommonStar],
    patches: &[BothSkies],
    notes: &mut Vec<String>,
) -> Scale {
    let few = "too few bright stars in common with the reference for a scale";
    for by in [
        ScaleBy::Stars,
        ScaleBy::Signal,
        ScaleBy::Exposure,
        ScaleBy::Noise,
    ] {
        if let Ok(found) = asked_scale(by, reference, frame, stars, patches) {
            match by {
                ScaleBy::Stars => {}
                ScaleBy::Signal => notes.push(format!(
                    "{few}: it is from {} patches of nebula",
                    found.stars
                )),
                ScaleBy::Exposure => {
                    notes.push(format!("{few}, and no nebula: exposures and gains decide"));
                }
                _ => notes.push(format!(
                    "{few}, no nebula and no exposure: its noise decides"
                )),
            }
            return found;
        }
    }
    notes.push(format!(
        "{few}, nor anything else that tells one: it is left as it is"
    ));
    Scale {
        factor: Measured::exact(1.0),
        by: ScaleBy::None,
        stars: 0,
    }
}

fn asked_scale(
    by: ScaleBy,
    reference: &Sky<'_>,
    frame: &Sky<'_>,
    stars: &[CommonStar],
    patches: &[BothSkies],
) -> Result<Scale, BalanceError> {
    let (r, f) = (&reference.member, &frame.member);
    let (factor, count) = match by {
        ScaleBy::Stars => star_scale(stars).ok_or(BalanceError::FewStars(stars.len()))?,
        ScaleBy::Signal => {
            let canvas = reference.samples.lattice().canvas();
            signal_scale(patches, canvas).ok_or(BalanceError::NoSignal)?
        }
        ScaleBy::Exposure => (exposure_scale(r, f).ok_or(BalanceError::NoExposure)?, 0),
        ScaleBy::Noise => (
            noise_scale(r.catalogue, f.catalogue).ok_or(BalanceError::NoNoise)?,
            0,
        ),
        ScaleBy::Reference | ScaleBy::None => (Measured::exact(1.0), 0),
    };
    Ok(Scale {
        factor,
        by,
        stars: count,
    })
}

/// The scale of a frame by exposures and gains, if headers tell.
pub(crate) fn exposure_or_none(reference: &Member<'_>, frame: &Member<'_>) -> Option<Measured> {
    exposure_scale(reference, frame)
}

/// The factors that bring filters' references to the first of them as a picture wants them: broad filters by
/// their stars, so that colours stay true; lines by their noise, since no star tells how bright a nebula
/// is in a line. `of` are the members, `to` the number of the one that keeps its scale.
///
/// # Errors
/// One for each member that has no such factor.
pub fn colours(
    of: &[Member<'_>],
    to: usize,
) -> Vec<Result<(Measured, ScaleBy, usize), BalanceError>> {
    let is_broad = |i: usize| of[i].filter.band() == Band::Broad;
    let by_noise = |i: usize| {
        noise_scale(of[to].catalogue, of[i].catalogue)
            .map(|s| (s, ScaleBy::Noise, 0))
            .ok_or(BalanceError::NoNoise)
    };
    // The broad frame that the other broad ones are scaled to.
    let anchor = if is_broad(to) {
        to
    } else {
        (0..of.len())
            .filter(|i| is_broad(*i))
            .max_by_key(|i| (of[*i].catalogue.clean().count(), usize::MAX - i))
            .unwrap_or(to)
    };
    (0..of.len())
        .map(|i| {
            if i == to {
                return Ok((Measured::exact(1.0), ScaleBy::Reference, 0));
            }
            if !is_broad(i) || i == anchor {
                return by_noise(i);
            }
            // Too few common stars: the noise is the next best.
            match star_scale(&common_stars(&of[anchor], &of[i])) {
                Some((ratio, used)) if anchor == to => Ok((ratio, ScaleBy::Stars, used)),
                Some((ratio, used)) => Ok((by_noise(anchor)?.0.times(ratio), ScaleBy::Stars, used)),
                None => by_noise(i),
            }
        })
        .collect()
}

/// Neighbouring patches are left out together, an eighth of the canvas at a time.
const BLOCKS: usize = 8;

/// A softer shape that foretells patches better by less than this part of the pixel noise is not worth it.
const SLACK_SIGMA: f64 = 0.01;

/// Patches over less than this part of the frame say nothing sure of the rest: a plane at the most.
const LEAST_COVERED: f64 = 0.5;

/// A shape's error must be so much smaller than that of the frame as it is before anything is done.
const WORTH: f64 = 0.98;

/// What the surface between two skies is found from.
struct Between<'a> {
    reference: &'a Sky<'a>,
    frame: &'a Sky<'a>,
    scale: Scale,
    both: &'a [BothSkies],
    shape: Option<Shape>,
    dark: Dark,
}

impl Between<'_> {
    /// Which patches tell of the sky.
    fn dark(&self) -> Vec<bool> {
        if self.dark == Dark::All {
            return vec![true; self.both.len()];
        }
        let canvas = self.reference.samples.lattice().canvas();
        let scale = self.scale.factor.value;
        let noise = self.reference.member.noise().max(1e-30);
        let own = (scale * self.frame.member.noise()).max(1e-30);
        let of = |b: &BothSkies| (b.at, b.reference);
        let a = darkest::heights(self.both.iter().map(of), noise, canvas);
        let b = darkest::heights(
            self.both.iter().map(|b| (b.at, scale * b.frame)),
            own,
            canvas,
        );
        let heights: Vec<f64> = a.iter().zip(&b).map(|(a, b)| a.max(*b)).collect();
        let bar = darkest::bar(&heights);
        heights.iter().map(|h| *h <= bar).collect()
    }

    fn patches(&self) -> Vec<Patch> {
        let of = |b: &BothSkies| Patch {
            at: b.at,
            value: b.reference - self.scale.factor.value * b.frame,
            weight: b.filled,
        };
        let all = self.both.iter().zip(self.dark());
        all.filter(|(_, dark)| *dark).map(|(b, _)| of(b)).collect()
    }

    /// The shapes that may be chosen from.
    fn shapes(&self, covered: f64, notes: &mut Vec<String>) -> Vec<Shape> {
        if let Some(asked) = self.shape {
            return vec![asked];
        }
        let mut shapes = Shape::candidates();
        if covered < LEAST_COVERED {
            shapes.truncate(3);
            notes.push(format!(
                "only {:.0} % of it lies on sky that the reference shows: no more than a plane is taken out",
                100.0 * covered
            ));
        }
        shapes
    }

    fn find(&self, stars: &[CommonStar], mut notes: Vec<String>) -> Result<Matched, BalanceError> {
        let lattice = self.reference.samples.lattice();
        let canvas = lattice.canvas();
        let noise = self.reference.member.noise().max(1e-30);
        let patches = self.patches();
        let covered = covered_part(&patches, self.frame, lattice.patch_px());
        let shapes = self.shapes(covered, &mut notes);
        let judge = Judge {
            blocks: BLOCKS,
            slack: SLACK_SIGMA * noise,
        };
        let choice = choose(&shapes, &patches, judge, canvas)
            .or_else(|| choose(&[Shape::Level], &patches, judge, canvas))
            .ok_or(BalanceError::NoCommonSky)?;
        let Choice { fit, shape, tried } = choice;
        if let Some(asked) = self.shape
            && shape != asked
        {
            notes.push(format!(
                "its patches do not fix {}: {} is taken",
                asked.words(),
                shape.words()
            ));
        }
        let spread = fit.spread / noise;
        let unseen = tried
            .iter()
            .find(|(s, _)| self.shape.is_none() && *s == shape)
            .map(|(_, rms)| rms / noise);
        let surface = better_than_none(&fit, &patches, self.shape.is_some(), &mut notes);
        let sky = &self.frame.member.catalogue.sky;
        let (level, own_noise) = (
            f64::from(sky.typical_level()),
            self.frame.member.catalogue.noise.pixel(),
        );
        Ok(Matched {
            balance: Balance {
                scale: self.scale.factor,
                scale_by: self.scale.by,
                stars: self.scale.stars,
                surface,
                residual_sigma: spread,
                crossval_sigma: unseen,
                notes,
                patches: fit.kept.iter().filter(|k| **k > 0.25).count(),
                ..Balance::unchanged(level, own_noise)
            },
            evidence: Evidence {
                stars: stars.to_vec(),
                patches: patches
                    .iter()
                    .zip(&fit.kept)
                    .map(|(p, k)| evident(p, *k))
                    .collect(),
                tried: tried
                    .iter()
                    .map(|(s, rms)| (s.words(), rms / noise))
                    .collect(),
            },
        })
    }
}

/// A patch for a report.
const fn evident(p: &Patch, kept: f64) -> (BothPatch, f64) {
    let patch = BothPatch {
        x: p.at.x,
        y: p.at.y,
        difference: p.value,
    };
    (patch, kept)
}

/// The surface, unless it leaves the patches no nearer to the reference than they are without.
fn better_than_none(fit: &Fit, patches: &[Patch], asked: bool, notes: &mut Vec<String>) -> Surface {
    let square = |with: &dyn Fn(&Patch) -> f64| {
        let all = patches.iter().zip(&fit.kept);
        all.map(|(p, k)| k * p.weight * (p.value - with(p)).powi(2))
            .sum::<f64>()
    };
    let surface = fit.surface.clone();
    let (with, without) = (square(&|p| surface.at(p.at)), square(&|_| 0.0));
    if surface.is_zero() || with < WORTH * without || without == 0.0 {
        return surface;
    }
    if asked {
        notes.push(
            "the surface changes nothing that can be measured: its sky is the reference's already"
                .to_owned(),
        );
    }
    Surface::zero()
}

/// The part of the frame, as far as it lies on the canvas, that patches cover.
fn covered_part(patches: &[Patch], frame: &Sky<'_>, patch_px: usize) -> f64 {
    let at = frame
        .member
        .placement
        .invert()
        .apply(frame.member.size.centre());
    let frame_area = frame.member.size.area().real() / frame.member.placement.area_ratio(at);
    let patch_area = (patch_px * patch_px).real();
    patches.len().real() * patch_area
        / frame_area.min(frame.samples.lattice().canvas().area().real())
}
