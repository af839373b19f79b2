//! The frames of a night against each other.
//!
//! In: facts and measures of every light. Out: for each, on which field it lies and where, how
//! transparent the air was against the best frame of its set, and how well a typical star stands out.
//! Frames are compared within their set (same filter, exposure, camera settings and size) and field;
//! fields are found by matching stars: the frame with the most and sharpest stars collects all that
//! match it, the best of the rest collects further, as on a mosaic.

use crate::number::Convert;
use std::collections::{HashMap, HashSet};

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::group::{filter_label, same_exposure};
use super::measure::{Measures, Spot};
use crate::frame::{FrameFacts, Kind};
use crate::matching::{self, MatchSettings, match_frames};
use crate::robust::{median, quantile, robust_ratio};
use crate::space::{FramePx, Point};
use crate::stars::profiles;

/// One light with what is known of it.
#[derive(Debug, Clone, Copy)]
pub struct Light<'a> {
    /// Its facts.
    pub facts: &'a FrameFacts,
    /// Its measures.
    pub measures: &'a Measures,
}

/// What the comparison says of one light.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Compared {
    /// Number of its set: lights of the same filter, exposure, settings and size.
    pub set: usize,
    /// Number of its field, the one with most frames first.
    pub field: Option<usize>,
    /// Stars that it has in common with the best frame of its field.
    pub pairs: usize,
    /// Where its middle lies, in pixels of the field's best frame, from the middle of all middles.
    pub dither_px: Option<(f64, f64)>,
    /// How it is turned against the field's best frame, in degrees.
    pub turn_deg: Option<f64>,
    /// Part of the light that came through, against the best frame of its set and field.
    pub transparency: Option<f64>,
    /// Change of that over the frame, in parts of it: patchy cloud.
    pub patchiness: Option<f64>,
    /// Flux of a typical star over its error.
    pub star_snr: Option<f64>,
}

/// Fields that are told apart, at the most: a mosaic has a dozen.
const MOST_FIELDS: usize = 24;

/// Stars this bright, in sigma, enter the transparency.
const LEAST_SNR: f64 = 12.0;

/// Fewer common stars than this say nothing of the transparency.
const LEAST_STARS: usize = 8;

/// A typical star is the median of so many of the brightest that a set has in common.
const TYPICAL_OF: usize = 100;

/// Stars of one part of the field that tell its transparency.
const LEAST_IN_PART: usize = 5;

/// Where a light lies on the field of another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct OnField {
    /// Where its middle lies, in pixels of the other.
    pub middle: (f64, f64),
    /// How it is turned against the other, in degrees.
    pub turn_deg: f64,
    /// (star of the other, star of this one), by their numbers among the spots.
    pub pairs: Vec<(usize, usize)>,
}

impl OnField {
    /// Finds it by their stars; `None` when they have too few in common.
    pub fn find(anchor: &Light<'_>, light: &Light<'_>) -> Option<Self> {
        let found = match_frames(
            &spots(anchor.measures),
            &spots(light.measures),
            (anchor.facts.size, light.facts.size),
            &MatchSettings::default(),
        )
        .ok()?;
        let middle = found.map.invert().apply(light.facts.size.centre());
        let turn = found.map.describe(anchor.facts.size.centre()).rotation_deg;
        Some(Self {
            middle: (middle.x, middle.y),
            turn_deg: turn,
            pairs: found.pairs,
        })
    }

    /// A light on its own field.
    fn of_anchor(anchor: &Light<'_>) -> Self {
        let middle: Point<FramePx> = anchor.facts.size.centre();
        Self {
            middle: (middle.x, middle.y),
            turn_deg: 0.0,
            pairs: (0..anchor.measures.spots.len()).map(|i| (i, i)).collect(),
        }
    }
}

/// Gives the place of a light (second number) on the field of another (first): from where it is kept, or by the search
/// that is handed to it.
pub type Memory<'a> =
    dyn Fn(usize, usize, &dyn Fn() -> Option<OnField>) -> Option<OnField> + Sync + 'a;

/// A memory that keeps nothing.
pub fn anew(_: usize, _: usize, find: &dyn Fn() -> Option<OnField>) -> Option<OnField> {
    find()
}

/// Compares lights. One answer for each, in the same order.
pub fn compare(lights: &[Light<'_>], memory: &Memory<'_>) -> Vec<Compared> {
    let mut out = vec![Compared::default(); lights.len()];
    for (i, set) in sets(lights).into_iter().enumerate() {
        out[i].set = set;
    }
    let fields = fields(lights, memory);
    for (number, field) in fields.iter().enumerate() {
        let middle = |of: fn((f64, f64)) -> f64| {
            let mut v: Vec<f32> = field.iter().map(|m| of(m.on.middle).single()).collect();
            f64::from(median(&mut v))
        };
        let (mx, my) = (middle(|p| p.0), middle(|p| p.1));
        for m in field {
            let c = &mut out[m.light];
            c.field = Some(number);
            c.pairs = m.on.pairs.len();
            c.dither_px = Some((m.on.middle.0 - mx, m.on.middle.1 - my));
            c.turn_deg = Some(m.on.turn_deg);
        }
        let count = out.iter().map(|c| c.set + 1).max().unwrap_or(0);
        for set in 0..count {
            let members: Vec<&Member> = field.iter().filter(|m| out[m.light].set == set).collect();
            let seen = transparencies(lights, &members);
            for (m, seen) in members.iter().zip(seen) {
                let c = &mut out[m.light];
                c.transparency = seen.as_ref().map(|s| s.transparency);
                c.patchiness = seen.as_ref().and_then(|s| s.patchiness);
                c.star_snr = seen.map(|s| s.star_snr);
            }
        }
    }
    out
}

/// The number of each light's set.
fn sets(lights: &[Light<'_>]) -> Vec<usize> {
    let mut firsts: Vec<&FrameFacts> = Vec::new();
    lights
        .iter()
        .map(|l| {
            let alike = |a: &FrameFacts| {
                let b = l.facts;
                filter_label(a) == filter_label(b)
                    && same_exposure(a.exposure_s, b.exposure_s)
                    && a.camera == b.camera
                    && a.gain_setting == b.gain_setting
                    && a.binning == b.binning
                    && a.size == b.size
                    && a.planes == b.planes
                    && a.colour_pattern == b.colour_pattern
                    && a.master == b.master
            };
            firsts.iter().position(|f| alike(f)).unwrap_or_else(|| {
                firsts.push(l.facts);
                firsts.len() - 1
            })
        })
        .collect()
}

/// A light on its field.
struct Member {
    light: usize,
    /// Its place on that of the field's best frame.
    on: OnField,
}

/// Fields with their members, the best frame first; the field with most members first.
fn fields(lights: &[Light<'_>], memory: &Memory<'_>) -> Vec<Vec<Member>> {
    let promise = |i: usize| {
        let m = lights[i].measures;
        let clean = m.spots.iter().filter(|s| s.clean).count().real();
        m.fwhm_px.map_or(0.0, |w| clean.sqrt() / w.median)
    };
    let mut rest: Vec<usize> = (0..lights.len())
        .filter(|i| lights[*i].facts.kind == Kind::Light)
        .filter(|i| lights[*i].measures.spots.len() >= matching::LEAST_STARS)
        .collect();
    rest.sort_by(|a, b| promise(*b).total_cmp(&promise(*a)).then(a.cmp(b)));
    let mut fields = Vec::new();
    while !rest.is_empty() && fields.len() < MOST_FIELDS {
        let best = rest.remove(0);
        let matched: Vec<Option<Member>> = rest
            .par_iter()
            .map(|i| {
                let find = || OnField::find(&lights[best], &lights[*i]);
                let on = memory(best, *i, &find)?;
                Some(Member { light: *i, on })
            })
            .collect();
        let mut field = vec![Member {
            light: best,
            on: OnField::of_anchor(&lights[best]),
        }];
        field.extend(matched.into_iter().flatten());
        let found: HashSet<usize> = field.iter().map(|m| m.light).collect();
        rest.retain(|i| !found.contains(i));
        fields.push(field);
    }
    fields.sort_by_key(|f| std::cmp::Reverse(f.len()));
    fields
}

fn spots<S>(m: &Measures) -> Vec<matching::Spot<S>> {
    m.spots
        .iter()
        .enumerate()
        .map(|(index, s)| matching::Spot {
            at: Point::new(f64::from(s.at.0), f64::from(s.at.1)),
            sigma_px: f64::from(s.position_sigma_px),
            clean: s.clean,
            index,
        })
        .collect()
}

struct Seen {
    transparency: f64,
    patchiness: Option<f64>,
    star_snr: f64,
}

/// What each member of one set on one field lets through, against the clearest.
fn transparencies(lights: &[Light<'_>], members: &[&Member]) -> Vec<Option<Seen>> {
    let Some(base) = members
        .iter()
        .max_by_key(|m| (m.on.pairs.len(), std::cmp::Reverse(m.light)))
    else {
        return Vec::new();
    };
    let of_base: HashMap<usize, usize> = base.on.pairs.iter().copied().collect();
    let base_spots = &lights[base.light].measures.spots;
    let usable = |s: &Spot| s.clean && f64::from(s.flux) > LEAST_SNR * f64::from(s.flux_sigma);
    let mut seen: Vec<Option<Seen>> = members
        .par_iter()
        .map(|m| {
            let mine = &lights[m.light].measures.spots;
            let mut common: Vec<(&Spot, &Spot)> =
                m.on.pairs
                    .iter()
                    .filter_map(|(anchor, i)| Some((&base_spots[*of_base.get(anchor)?], &mine[*i])))
                    .filter(|(a, b)| usable(a) && usable(b))
                    .collect();
            if common.len() < LEAST_STARS {
                return None;
            }
            let triples: Vec<(f64, f64, f64)> = common.iter().map(triple).collect();
            let raw = robust_ratio(&triples)?.slope.value;
            let ratio = raw * seeing(lights[base.light].measures, lights[m.light].measures);
            let patchiness = patchiness(&common, raw, lights[base.light].facts);
            common.sort_by(|a, b| b.0.flux.total_cmp(&a.0.flux));
            let mut snr: Vec<f32> = common
                .iter()
                .take(TYPICAL_OF)
                .map(|(_, s)| s.flux / s.flux_sigma)
                .collect();
            Some(Seen {
                transparency: ratio,
                patchiness,
                star_snr: f64::from(median(&mut snr)),
            })
        })
        .collect();
    let best = seen
        .iter()
        .flatten()
        .map(|s| s.transparency)
        .fold(0.0, f64::max);
    for s in seen.iter_mut().flatten() {
        s.transparency /= best;
    }
    seen
}

/// What a ratio of fluxes (second over first) must be multiplied by, since the frames' apertures hold other parts of a
/// star. Frames of a set have pixels of one size.
fn seeing(base: &Measures, own: &Measures) -> f64 {
    let Some((a, b)) = base.fwhm_px.zip(own.fwhm_px) else {
        return 1.0;
    };
    let curves = [base.growth.as_ref(), own.growth.as_ref()];
    let longs = [base, own].map(|m| m.elongation.map_or(1.0, |e| e.median.max(1.0).sqrt()));
    let ([first, second], _) = profiles(curves, [a.median, b.median], longs);
    second / first
}

fn triple((a, b): &(&Spot, &Spot)) -> (f64, f64, f64) {
    let error = (a.flux_sigma / a.flux).hypot(b.flux_sigma / b.flux);
    (f64::from(a.flux), f64::from(b.flux), f64::from(error))
}

/// The spread of the flux ratio over nine parts of the field, in parts of it: from the second lowest to
/// the second highest, since the outermost of nine are mostly noise.
fn patchiness(common: &[(&Spot, &Spot)], ratio: f64, base: &FrameFacts) -> Option<f64> {
    let third = |v: f32, n: usize| (3.0 * (v + 0.5) / n.single()).index().min(2);
    let mut parts: [Vec<f32>; 9] = std::array::from_fn(|_| Vec::new());
    for (a, b) in common {
        let i = 3 * third(a.at.1, base.size.height()) + third(a.at.0, base.size.width());
        parts[i].push(b.flux / a.flux);
    }
    let mut ratios: Vec<f32> = parts
        .iter_mut()
        .filter(|p| p.len() >= LEAST_IN_PART)
        .map(|p| median(p))
        .collect();
    (ratios.len() >= 6).then(|| {
        let (low, high) = (quantile(&mut ratios, 0.125), quantile(&mut ratios, 0.875));
        f64::from(high - low) / ratio
    })
}
