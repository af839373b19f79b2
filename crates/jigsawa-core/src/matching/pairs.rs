//! From a rough map to the final one: pair all stars, fit, pair again more strictly.
//!
//! Pairs are mutual: each star of a pair is the other's nearest. The reach starts at what a map from
//! four stars may be off by and shrinks with the scatter; the model grows from similarity to affine
//! as soon as the pairs carry it, so that a stretched or distorted corner is followed rather than
//! cut off. Last, the model is chosen by cross-validation.

use std::collections::HashMap;

use crate::placement::{Map, Model, Pair, Registration, choose};
use crate::robust::median;
use crate::space::{FramePx, ReferencePx};

use super::consensus::{Field, LEAST_LOG_ODDS, log_odds};
use super::trust::{corner_error, coverage};
use super::{LEAST_STARS, MatchError, MatchErrors, Matched};

/// First reach of a pair, then the least: below, clipping would only sharpen the figures.
const FIRST_REACH_PX: f64 = 6.0;
const LEAST_REACH_PX: f64 = 0.3;

/// No star's place is known better than this, whatever its light: pixels have their own faults.
const FLOOR_SIGMA_PX: f64 = 0.02;

/// Pairs beyond this many of their own standard deviations (scatter included) are left out.
const CLIP_SIGMA: f64 = 4.0;

/// With this many clean pairs, blended stars are not needed.
const ENOUGH_CLEAN: usize = 30;

type Pairs = Vec<Pair<ReferencePx, FramePx>>;

pub(super) fn refine(field: &Field<'_>, start: Registration) -> Result<Matched, MatchError> {
    let mut map = start;
    let mut reach = FIRST_REACH_PX;
    let mut pairs = Vec::new();
    for _ in 0..8 {
        pairs = mutual(field, &map, reach);
        let model = if pairs.len() >= 12 {
            Model::Affine
        } else {
            Model::Similarity
        };
        let fitted = Map::fit(model, &weighted(field, &pairs))
            .or_else(|| Map::fit(Model::Similarity, &weighted(field, &pairs)));
        let Some(fitted) = fitted else {
            return Err(too_few(field, pairs.len()));
        };
        map = fitted;
        let mut distances: Vec<f32> = pairs
            .iter()
            .map(|(r, f)| distance(field, &map, *r, *f) as f32)
            .collect();
        // Distances of true pairs are Rayleigh distributed: their 99.9 % point is 3.2 medians.
        let next = (4.0 * f64::from(median(&mut distances))).clamp(LEAST_REACH_PX, reach);
        let settled = next > 0.9 * reach;
        reach = next;
        if settled {
            break;
        }
    }
    let clean = |(r, f): &(usize, usize)| field.reference[*r].clean && field.frame[*f].clean;
    if pairs.iter().filter(|p| clean(p)).count() >= ENOUGH_CLEAN {
        pairs.retain(clean);
    }
    // A freer final model may take back pairs that the affine one left out, so pair once more.
    for _ in 0..3 {
        let Some(chosen) = choose(&weighted(field, &pairs)) else {
            return Err(too_few(field, pairs.len()));
        };
        map = chosen.map;
        let kept = clipped(field, &map, &pairs);
        if kept.len() == pairs.len() || kept.len() < LEAST_STARS {
            break;
        }
        pairs = kept;
    }
    let chance = field.chance(reach.max(1.0));
    let tried = in_frame(field, &map);
    if pairs.len() < LEAST_STARS
        || log_odds(pairs.len(), tried.max(pairs.len()), chance) < LEAST_LOG_ODDS
    {
        return Err(too_few(field, pairs.len()));
    }
    let weighted_pairs = weighted(field, &pairs);
    let chosen = choose(&weighted_pairs).ok_or_else(|| too_few(field, pairs.len()))?;
    let size = field.frame_size;
    let errors = MatchErrors {
        unseen_rms_px: chosen.unseen_rms_px,
        corner_px: corner_error(&chosen.map, chosen.model, &weighted_pairs, size),
        ..errors(&chosen.map, &weighted_pairs)
    };
    Ok(Matched {
        map: chosen.map,
        model: chosen.model,
        pairs: pairs
            .iter()
            .map(|(r, f)| (field.reference[*r].index, field.frame[*f].index))
            .collect(),
        errors,
        coverage: coverage(&weighted_pairs, size),
    })
}

fn too_few(field: &Field<'_>, best: usize) -> MatchError {
    MatchError::NoMatch {
        best,
        tried: field.reference.len().min(field.frame.len()),
    }
}

/// How many stars could have met: those of the reference that fall into the frame, or all of the
/// frame's if they are fewer.
fn in_frame(field: &Field<'_>, map: &Registration) -> usize {
    let inside = field
        .reference
        .iter()
        .filter(|s| field.frame_size.holds(map.apply(s.at)))
        .count();
    inside.min(field.frame.len())
}

fn distance(field: &Field<'_>, map: &Registration, r: usize, f: usize) -> f64 {
    map.apply(field.reference[r].at).distance(field.frame[f].at)
}

/// Pairs under a final map, by their places in the catalogues.
pub(super) fn meeting(field: &Field<'_>, map: &Registration) -> Vec<(usize, usize)> {
    const REACH_PX: f64 = 2.0;
    mutual(field, map, REACH_PX)
        .into_iter()
        .map(|(r, f)| (field.reference[r].index, field.frame[f].index))
        .collect()
}

/// Pairs in which each is the other's nearest within the reach, as places in both lists.
fn mutual(field: &Field<'_>, map: &Registration, reach: f64) -> Vec<(usize, usize)> {
    let mut suitor: HashMap<usize, (usize, f64)> = HashMap::new();
    for (r, s) in field.reference.iter().enumerate() {
        let p = map.apply(s.at);
        let Some((f, d2)) = field.nearest(p.x, p.y) else {
            continue;
        };
        if d2 > reach * reach {
            continue;
        }
        let best = suitor.entry(f).or_insert((r, d2));
        if d2 < best.1 {
            *best = (r, d2);
        }
    }
    let mut pairs: Vec<(usize, usize)> = suitor.into_iter().map(|(f, (r, _))| (r, f)).collect();
    pairs.sort_unstable();
    pairs
}

fn weighted(field: &Field<'_>, pairs: &[(usize, usize)]) -> Pairs {
    pairs
        .iter()
        .map(|(r, f)| {
            let (a, b) = (&field.reference[*r], &field.frame[*f]);
            let variance = a.sigma_px.powi(2) + b.sigma_px.powi(2) + FLOOR_SIGMA_PX.powi(2);
            Pair {
                from: a.at,
                to: b.at,
                weight: 1.0 / variance,
            }
        })
        .collect()
}

/// The pairs whose distance their errors and the common scatter explain.
fn clipped(field: &Field<'_>, map: &Registration, pairs: &[(usize, usize)]) -> Vec<(usize, usize)> {
    let all = weighted(field, pairs);
    let normal =
        |p: &Pair<ReferencePx, FramePx>| map.apply(p.from).distance(p.to) * p.weight.sqrt();
    let mut sizes: Vec<f32> = all.iter().map(|p| normal(p) as f32).collect();
    // The median of a Rayleigh distribution of sigma 1 is 1.177.
    let excess = (f64::from(median(&mut sizes)) / 1.177).max(1.0);
    pairs
        .iter()
        .zip(&all)
        .filter(|(_, p)| normal(p) < CLIP_SIGMA * excess * std::f64::consts::SQRT_2)
        .map(|(p, _)| *p)
        .collect()
}

fn errors(map: &Registration, pairs: &[Pair<ReferencePx, FramePx>]) -> MatchErrors {
    let (mut sum, mut weights, mut max) = (0.0, 0.0, 0.0f64);
    for p in pairs {
        let d = map.apply(p.from).distance(p.to);
        sum += p.weight * d * d;
        weights += p.weight;
        max = max.max(d);
    }
    MatchErrors {
        rms_px: (sum / weights).sqrt(),
        max_px: max,
        unseen_rms_px: 0.0,
        corner_px: 0.0,
    }
}
