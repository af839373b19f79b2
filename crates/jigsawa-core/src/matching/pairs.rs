//! From a rough map to the final one: pair all stars, fit, pair again more strictly.
//!
//! Pairs are mutual: each star of a pair is the other's nearest. The reach starts at what a map from
//! four stars may be off by and shrinks with the scatter; the model grows from similarity to affine to
//! a smooth one as soon as the pairs carry it, so that a stretched or distorted corner is followed
//! rather than cut off. Last, the model is chosen by cross-validation.

use crate::number::Convert;
use std::collections::HashMap;

use crate::placement::{Chosen, Map, Model, Pair, Registration, choose, choose_among};
use crate::robust::median;
use crate::space::{FramePx, Rect, ReferencePx, Size};

use super::consensus::{BothFrames, LEAST_LOG_ODDS, log_odds};
use super::trust::{corner_error, coverage, shared_corners};
use super::{MatchError, MatchErrors, Matched};

/// First reach of a pair, then the least: below, clipping would only sharpen the figures. In pixels of
/// the coarser grid, as all lengths here.
const FIRST_REACH_PX: f64 = 6.0;
const LEAST_REACH_PX: f64 = 0.3;

/// No star's place is known better than this, whatever its light: pixels have their own faults.
const FLOOR_SIGMA_PX: f64 = 0.02;

/// Pairs beyond this many of their own standard deviations (scatter included) are left out.
const CLIP_SIGMA: f64 = 4.0;

/// With this many clean pairs, blended stars are not needed.
const ENOUGH_CLEAN: usize = 30;

/// Pairs from which on an affine map, and a smooth one, is followed.
const ENOUGH_AFFINE: usize = 12;
const ENOUGH_SMOOTH: usize = 60;

/// No optics distort a frame by more than this many pixels beyond a plane's map: a larger distortion follows
/// false pairs.
const MOST_DISTORTION_PX: f64 = 40.0;

type Pairs = Vec<Pair<ReferencePx, FramePx>>;

/// What a match must hold to.
#[derive(Debug, Clone, Copy)]
pub(super) struct Terms {
    /// The model that the user wants.
    pub(super) model: Option<Model>,
    /// Pairs without which nothing is proven.
    pub(super) least: usize,
}

pub(super) fn refine(
    field: &BothFrames<'_>,
    start: Registration,
    terms: Terms,
) -> Result<Matched, MatchError> {
    let (unit, _) = field.units(&start);
    let mut map = start;
    let mut reach = FIRST_REACH_PX * unit;
    let mut pairs = Vec::new();
    let mut smooth_once = false;
    for _ in 0..10 {
        pairs = mutual(field, &map, reach);
        let Some((fitted, is_smooth)) = follow(field, &map, &pairs, terms) else {
            return Err(too_few(field, pairs.len()));
        };
        map = fitted;
        let mut distances: Vec<f32> = pairs
            .iter()
            .map(|(r, f)| distance(field, &map, *r, *f).single())
            .collect();
        // Distances of true pairs are Rayleigh distributed: their 99.9 % point is 3.2 medians.
        let next = 4.0 * f64::from(median(&mut distances));
        let next = next.clamp(LEAST_REACH_PX * unit, reach);
        // The first smooth map brings back stars of the corners that were out of reach before it.
        let grown = is_smooth && !smooth_once;
        smooth_once |= is_smooth;
        let settled = next > 0.9 * reach && !grown;
        reach = if grown { reach } else { next };
        if settled {
            break;
        }
    }
    let clean = |(r, f): &(usize, usize)| field.reference[*r].clean && field.frame[*f].clean;
    if pairs.iter().filter(|p| clean(p)).count() >= ENOUGH_CLEAN {
        pairs.retain(clean);
    }
    let area = shared_area(&map, field.reference_size, field.frame_size);
    let fit = |pairs: &[(usize, usize)], map: &Registration| {
        let weighted = weighted(field, pairs, map);
        final_fit(&weighted, terms.model, area).ok_or_else(|| too_few(field, pairs.len()))
    };
    let mut chosen = fit(&pairs, &map)?;
    for _ in 0..3 {
        let kept = clipped(field, &chosen.map, &pairs);
        if kept.len() == pairs.len() || kept.len() < terms.least {
            break;
        }
        pairs = kept;
        chosen = fit(&pairs, &chosen.map)?;
    }
    let chance = field.chance(reach.max(unit));
    let tried = in_frame(field, &chosen.map);
    if pairs.len() < terms.least
        || log_odds(pairs.len(), tried.max(pairs.len()), chance) < LEAST_LOG_ODDS
    {
        return Err(too_few(field, pairs.len()));
    }
    let weighted_pairs = weighted(field, &pairs, &chosen.map);
    let corners = shared_corners(&chosen.map, field.reference_size, field.frame_size);
    let (rms, max) = errors(&chosen.map, &weighted_pairs);
    let corner = corner_error(&chosen.map, chosen.model, &weighted_pairs, &corners);
    Ok(Matched {
        points: pairs.len(),
        guided: false,
        pairs: pairs
            .iter()
            .map(|(r, f)| (field.reference[*r].index, field.frame[*f].index))
            .collect(),
        errors: MatchErrors {
            rms_px: rms / unit,
            max_px: max / unit,
            crossval_rms_px: chosen.crossval_rms_px / unit,
            corner_sigma_px: corner / unit,
        },
        coverage: coverage(&weighted_pairs, field.frame_size),
        map: chosen.map,
        model: chosen.model,
    })
}

/// The final map: of the model asked for, or of the simplest that the pairs justify.
fn final_fit(
    pairs: &[Pair<ReferencePx, FramePx>],
    asked: Option<Model>,
    area: Rect,
) -> Option<Chosen<ReferencePx, FramePx>> {
    match asked {
        None => choose(pairs, Some(area)),
        Some(Model::Smooth(_)) => {
            let degrees = [2, 3, 4, 5].map(Model::Smooth);
            choose_among(&degrees, pairs, Some(area))
        }
        Some(model) => choose_among(&[model], pairs, Some(area)),
    }
}

/// The frame's part that it shares with the reference: what a distortion is fitted for. A little more, so that
/// where the displacement ceases to grow lies outside.
pub(super) fn shared_area(map: &Registration, reference: Size, frame: Size) -> Rect {
    const MARGIN_PX: usize = 16;
    let r = Rect::around(shared_corners(map, reference, frame));
    Rect {
        x: r.x - MARGIN_PX.whole(),
        y: r.y - MARGIN_PX.whole(),
        width: r.width + 2 * MARGIN_PX,
        height: r.height + 2 * MARGIN_PX,
    }
}

/// The freest map that so many pairs carry safely, and whether it is a smooth one.
fn follow(
    field: &BothFrames<'_>,
    before: &Registration,
    pairs: &[(usize, usize)],
    terms: Terms,
) -> Option<(Registration, bool)> {
    let pairs = weighted(field, pairs, before);
    let by = |model| Map::fit(model, &pairs, None);
    let stiff = |model| by(model).map(|m| (m, false));
    match terms.model {
        Some(Model::Smooth(_)) | None => {}
        Some(model) => return stiff(model).or_else(|| stiff(Model::Shift)),
    }
    if pairs.len() >= ENOUGH_SMOOTH {
        let area = shared_area(before, field.reference_size, field.frame_size);
        let distorted = Map::fit(Model::Smooth(3), &pairs, Some(area));
        if let Some(map) = distorted.filter(|m| {
            m.distortion()
                .is_some_and(|b| b.most() < MOST_DISTORTION_PX)
        }) {
            return Some((map, true));
        }
    }
    let free = if pairs.len() >= ENOUGH_AFFINE {
        stiff(Model::Affine)
    } else {
        None
    };
    free.or_else(|| stiff(Model::Similarity))
}

fn too_few(field: &BothFrames<'_>, best: usize) -> MatchError {
    MatchError::NoMatch {
        best,
        tried: field.reference.len().min(field.frame.len()),
    }
}

/// How many stars could have met: those of the reference that fall into the frame, or all of the
/// frame's if they are fewer.
fn in_frame(field: &BothFrames<'_>, map: &Registration) -> usize {
    let inside = field
        .reference
        .iter()
        .filter(|s| field.frame_size.holds(map.apply(s.at)))
        .count();
    inside.min(field.frame.len())
}

fn distance(field: &BothFrames<'_>, map: &Registration, r: usize, f: usize) -> f64 {
    map.apply(field.reference[r].at).distance(field.frame[f].at)
}

/// Pairs under a final map, by their places in the catalogues.
pub(super) fn meeting(field: &BothFrames<'_>, map: &Registration) -> Vec<(usize, usize)> {
    const REACH_PX: f64 = 2.0;
    mutual(field, map, REACH_PX * field.units(map).0)
        .into_iter()
        .map(|(r, f)| (field.reference[r].index, field.frame[f].index))
        .collect()
}

/// Pairs in which each is the other's nearest within the reach, as places in both lists.
fn mutual(field: &BothFrames<'_>, map: &Registration, reach: f64) -> Vec<(usize, usize)> {
    let mut suitor: HashMap<usize, (usize, f64)> = HashMap::new();
    for (r, s) in field.reference.iter().enumerate() {
        let p = map.apply(s.at);
        let Some((f, d2)) = field.nearest(p.x, p.y, reach) else {
            continue;
        };
        let best = suitor.entry(f).or_insert((r, d2));
        if d2 < best.1 {
            *best = (r, d2);
        }
    }
    let mut pairs: Vec<(usize, usize)> = suitor.into_iter().map(|(f, (r, _))| (r, f)).collect();
    pairs.sort_unstable();
    pairs
}

/// The pairs with their weights under a map near the true one: errors of the reference's stars count in
/// frame pixels.
fn weighted(field: &BothFrames<'_>, pairs: &[(usize, usize)], map: &Registration) -> Pairs {
    let (unit, _) = field.units(map);
    let scale = map.area_ratio(field.reference_size.centre()).sqrt();
    pairs
        .iter()
        .map(|(r, f)| {
            let (a, b) = (&field.reference[*r], &field.frame[*f]);
            let variance =
                (scale * a.sigma_px).powi(2) + b.sigma_px.powi(2) + (unit * FLOOR_SIGMA_PX).powi(2);
            Pair {
                from: a.at,
                to: b.at,
                weight: 1.0 / variance,
            }
        })
        .collect()
}

/// The pairs whose distance their errors and the common scatter explain.
fn clipped(
    field: &BothFrames<'_>,
    map: &Registration,
    pairs: &[(usize, usize)],
) -> Vec<(usize, usize)> {
    let all = weighted(field, pairs, map);
    let normal =
        |p: &Pair<ReferencePx, FramePx>| map.apply(p.from).distance(p.to) * p.weight.sqrt();
    let mut sizes: Vec<f32> = all.iter().map(|p| normal(p).single()).collect();
    // The median of a Rayleigh distribution of sigma 1 is 1.177.
    let excess = (f64::from(median(&mut sizes)) / 1.177).max(1.0);
    pairs
        .iter()
        .zip(&all)
        .filter(|(_, p)| normal(p) < CLIP_SIGMA * excess * std::f64::consts::SQRT_2)
        .map(|(p, _)| *p)
        .collect()
}

/// Weighted root mean square distance and the largest.
fn errors(map: &Registration, pairs: &[Pair<ReferencePx, FramePx>]) -> (f64, f64) {
    let (mut sum, mut weights, mut max) = (0.0, 0.0, 0.0f64);
    for p in pairs {
        let d = map.apply(p.from).distance(p.to);
        sum += p.weight * d * d;
        weights += p.weight;
        max = max.max(d);
    }
    ((sum / weights).sqrt(), max)
}
