//! Matching without stars: by what both frames show, for nebulae with hardly a star around.
//!
//! Both frames are made small. The logarithm of their spectra on a log-polar grid is shifted by a turn
//! and by a scale, which phase correlation finds (`turn`); turned and scaled, the frames themselves are
//! shifted against each other (Reddy & Chatterji 1996, IEEE Trans. Image Process. 5, 1266). The rough map
//! is refined on patches all over what both share, first small, then at full size (`patches`), and judged
//! like one from stars: it must hold in many patches independently, and in every corner.
//!
//! Frames through different filters show different nebulae; what is common to both must outweigh the rest.

mod patches;
mod spectrum;
mod turn;

use super::pairs::shared_area;
use super::trust::{corner_error, coverage, shared_corners};
use super::{MatchError, MatchErrors, MatchSettings, Matched, gated};
use crate::binned::binned;
use crate::number::Convert;
use crate::placement::{Map, Model, Placement, Registration, choose_among};
use crate::plane::Plane;
use crate::robust::median;
use crate::space::Size;
use patches::{Patch, patches};
use spectrum::Surface;

/// Longest side of the small frames.
const SMALL_SIDE: usize = 512;

/// Side of a patch in pixels, in the small and in the full frames.
const PATCH_SMALL: usize = 64;
const PATCH_FULL: usize = 128;

/// Patches that must agree. Places of patches that show nothing common are random over 64 px: six cannot
/// agree to half a pixel by chance.
const LEAST_PATCHES: usize = 6;

/// And the part of all patches with a clear peak that they must be: scattered ones are not to be picked
/// until some agree.
const LEAST_PART: f64 = 0.4;

/// Patches farther than this from the map that most agree on are left out, in pixels.
const AGREE_PX: f64 = 1.5;

/// Scatter of the patches that is allowed: no patch is as sharp as a star, and the map is known much
/// better than each of them.
const MOST_RMS_PX: f64 = 2.0;

/// Height of a correlation's peak above its scatter from which a rough map is worth being tried.
const LEAST_PEAK: f64 = 4.5;

/// A patch's place is taken to be known to this, in each coordinate, until the scatter says more.
const PATCH_SIGMA_PX: f64 = 0.1;

/// Models that patches can tell: no patch is as sharp as a star.
const MODELS: [Model; 3] = [Model::Shift, Model::Similarity, Model::Affine];

/// Finds the map from the reference to the frame by their patterns. The guesses of the settings are tried first.
///
/// # Errors
/// When no map makes enough patches agree.
pub fn match_patterns(
    reference: &Plane,
    frame: &Plane,
    settings: &MatchSettings,
) -> Result<Matched, MatchError> {
    let longest = |p: &Plane| p.size().width().max(p.size().height());
    let factor = longest(reference).max(longest(frame)).div_ceil(SMALL_SIDE);
    let (small_reference, small_frame) = (flattened(reference, factor), flattened(frame, factor));
    let sizes = (small_reference.size(), small_frame.size());
    let nothing = MatchError::NoPattern {
        agreeing: 0,
        needed: LEAST_PATCHES,
    };
    // A strip that holds no patch has no pattern; one of a single row is not made smaller at all.
    let holds_patches = |s: Size| {
        s.width().min(s.height()) >= PATCH_SMALL && s.width().max(s.height()) <= SMALL_SIDE
    };
    if !holds_patches(sizes.0) || !holds_patches(sizes.1) {
        return Err(nothing);
    }
    let turns = if settings.guesses.is_empty() {
        turn::turns(&small_reference, &small_frame)
    } else {
        settings
            .guesses
            .iter()
            .map(|g| shrunk(g, factor))
            .collect::<Option<Vec<_>>>()
            .unwrap_or_default()
    };
    let mut rough: Vec<(f64, Registration)> = turns
        .into_iter()
        .filter_map(|turned| shifted(&small_reference, &small_frame, &turned))
        .collect();
    rough.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut best = Err(nothing);
    for (_, start) in rough.into_iter().take(3) {
        let coarse = settle(
            &small_reference,
            &small_frame,
            start,
            PATCH_SMALL,
            sizes,
            settings,
        );
        let found = coarse.and_then(|(map, _, _)| {
            let full = grown(&map, factor).ok_or(nothing)?;
            let sizes = (reference.size(), frame.size());
            let (map, model, good) = settle(reference, frame, full, PATCH_FULL, sizes, settings)?;
            let agreeing = good
                .iter()
                .filter(|p| map.apply(p.from).distance(p.to) < AGREE_PX)
                .count();
            gated(
                matched(map, model, &good, sizes),
                reference.size(),
                MOST_RMS_PX,
            )
            .map_err(|e| match e {
                MatchError::TooRough { .. } => MatchError::NoPattern {
                    agreeing,
                    needed: LEAST_PATCHES,
                },
                other => other,
            })
        });
        match found {
            Ok(found) => return Ok(found),
            Err(error) if best.is_err() => best = Err(error),
            Err(_) => {}
        }
    }
    best
}

/// The frame made small, its slow slopes taken off and its range compressed: stars must not outshout the rest.
fn flattened(plane: &Plane, factor: usize) -> Plane {
    let mut small = binned(plane, factor);
    spectrum::flatten(&mut small);
    small
}

/// The map between frames made smaller by a factor, and back: centres of blocks are not those of pixels.
fn shrunk(map: &Registration, factor: usize) -> Option<Registration> {
    conjugated(map, factor.real())
}

fn grown(map: &Registration, factor: usize) -> Option<Registration> {
    conjugated(map, 1.0 / factor.real())
}

fn conjugated(map: &Registration, factor: f64) -> Option<Registration> {
    let by = |k: f64| {
        let offset = 0.5 * k - 0.5;
        [[k, 0.0, offset], [0.0, k, offset], [0.0, 0.0, 1.0]]
    };
    let large = Map::from_rows(by(factor))?;
    let small = Map::from_rows(by(1.0 / factor))?;
    large.then(map)?.then(&small)
}

/// The map with the shift that correlates the turned frame best, and the height of its peak.
fn shifted(reference: &Plane, frame: &Plane, turned: &Registration) -> Option<(f64, Registration)> {
    let there: Placement = turned.retyped();
    let rect = reference.size().rect();
    let moved = crate::resample::resampled(frame, &there, rect, f32::INFINITY)?;
    let (a, b) = (Surface::of(reference, rect), Surface::of(&moved, rect));
    let peak = a.correlate(&b);
    let back = Map::shift(peak.x, peak.y);
    (peak.height > LEAST_PEAK).then_some((peak.height, back.then(turned)?))
}

/// The map that most patches agree on, from a rough one: twice over, since the first time the patches do
/// not cover the same sky yet.
fn settle(
    reference: &Plane,
    frame: &Plane,
    start: Registration,
    side: usize,
    (reference_size, frame_size): (Size, Size),
    settings: &MatchSettings,
) -> Result<(Registration, Model, Vec<Patch>), MatchError> {
    let models: Vec<Model> = match settings.model {
        Some(m @ (Model::Shift | Model::Similarity | Model::Affine)) => vec![m],
        _ => MODELS.to_vec(),
    };
    let mut map = start;
    let mut last = None;
    for _ in 0..3 {
        let area = shared_area(&map, reference_size, frame_size);
        let mut good = patches(reference, frame, &map, side);
        let needed = LEAST_PATCHES.max((LEAST_PART * good.len().real()).ceil().index());
        let too_few = |agreeing: usize| MatchError::NoPattern { agreeing, needed };
        for _ in 0..6 {
            if good.len() < needed {
                return Err(too_few(good.len()));
            }
            let chosen = choose_among(&models, &good, Some(area)).ok_or(too_few(good.len()))?;
            let off = |p: &Patch| chosen.map.apply(p.from).distance(p.to);
            let mut distances: Vec<f32> = good.iter().map(|p| off(p).single()).collect();
            let typical = f64::from(median(&mut distances));
            let kept: Vec<Patch> = good
                .iter()
                .copied()
                .filter(|p| off(p) < (3.0 * typical).max(AGREE_PX))
                .collect();
            let done = kept.len() == good.len();
            if kept.len() < needed {
                return Err(too_few(kept.len()));
            }
            good = kept;
            map = chosen.map;
            last = Some((chosen.model, good.clone()));
            if done {
                break;
            }
        }
    }
    let (model, good) = last.ok_or(MatchError::NoPattern {
        agreeing: 0,
        needed: LEAST_PATCHES,
    })?;
    Ok((map, model, good))
}

/// The match that the patches make.
fn matched(
    map: Registration,
    model: Model,
    good: &[Patch],
    (reference, frame): (Size, Size),
) -> Matched {
    let unit = map.area_ratio(reference.centre()).sqrt().max(1.0);
    let corners = shared_corners(&map, reference, frame);
    let distances: Vec<f64> = good
        .iter()
        .map(|p| map.apply(p.from).distance(p.to))
        .collect();
    let mean = distances.iter().map(|d| d * d).sum::<f64>() / distances.len().max(1).real();
    let unseen = choose_among(&[model], good, None).map_or(mean.sqrt(), |c| c.crossval_rms_px);
    Matched {
        errors: MatchErrors {
            rms_px: mean.sqrt() / unit,
            max_px: distances.iter().copied().fold(0.0, f64::max) / unit,
            crossval_rms_px: unseen / unit,
            corner_sigma_px: corner_error(&map, model, good, &corners) / unit,
        },
        coverage: coverage(good, frame),
        points: good.len(),
        pairs: Vec::new(),
        guided: false,
        map,
        model,
    }
}
