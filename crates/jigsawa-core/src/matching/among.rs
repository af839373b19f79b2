//! Which frames of many show the same stars, all against all.
//!
//! One index holds the asterisms of all frames; each frame's asterisms are looked up in it once, and what is
//! found there proposes maps to the frames that it came from. Frames that share nothing get a few proposals by chance,
//! which the consensus refutes at once, so that the work goes with the number of frames and not with that of
//! their pairs. A frame whose stars were matched to each other frame's in turn was the simpler way: for 48 frames
//! that is 1128 searches among 20 000 proposals.

use crate::number::Convert;
use std::collections::BTreeMap;

use rayon::prelude::*;
use rstar::RTree;
use rstar::primitives::GeomWithData;

use super::asterism::{CODE_REACH2, Group, alike, groups, sorted};
use super::consensus::{self, Proposal};
use super::{LEAST_STARS, LEAST_STARS_GUIDED, MOST_RMS_PX, Matched, Spot, guess, pairs};
use crate::placement::Registration;
use crate::space::{FramePx, ReferencePx, Size};

/// A frame with its stars, from bright to faint.
#[derive(Debug, Clone, Copy)]
pub struct FrameSpots<'a> {
    /// The stars.
    pub spots: &'a [Spot<FramePx>],
    /// The frame's pixels.
    pub size: Size,
}

/// Two frames that show the same stars.
#[derive(Debug, Clone)]
pub struct Tie {
    /// The first, which stands for the reference in `matched`.
    pub a: usize,
    /// The other.
    pub b: usize,
    /// What ties them; its model is that of the part which both share, and no more.
    pub matched: Matched,
}

/// A pair of frames gets this many proposals at the most, those of the likest asterisms.
const MOST_PROPOSALS: usize = 600;

/// Pairs with fewer proposals share nothing.
const LEAST_PROPOSALS: usize = 2;

/// All pairs of frames that share stars, by their asterisms alone; in order of their frames.
pub fn ties(frames: &[FrameSpots<'_>]) -> Vec<Tie> {
    let described: Vec<Vec<Group>> = frames.par_iter().map(|f| of_frame(f, 1.0)).collect();
    let tree = RTree::bulk_load(
        described
            .iter()
            .enumerate()
            .flat_map(|(k, of)| {
                let all = of.iter().enumerate();
                all.map(move |(i, g)| GeomWithData::new(g.code, (k.u32(), i.u32())))
            })
            .collect(),
    );
    let references: Vec<Vec<Spot<ReferencePx>>> = frames.iter().map(as_reference).collect();
    let of_frame = |b: usize| -> Vec<Tie> {
        let mut found: BTreeMap<usize, Vec<(f64, Registration)>> = BTreeMap::new();
        for hand in [1.0, -1.0] {
            for g in &of_frame(&frames[b], hand) {
                for hit in tree.locate_within_distance(g.code, CODE_REACH2) {
                    let (a, i) = (hit.data.0 as usize, hit.data.1 as usize);
                    if a < b {
                        let like = (references[a].as_slice(), &described[a][i]);
                        let proposed = alike(like, (frames[b].spots, g));
                        found.entry(a).or_default().extend(proposed);
                    }
                }
            }
        }
        let tie = |(a, mut proposed): (usize, Vec<(f64, Registration)>)| {
            if proposed.len() < LEAST_PROPOSALS {
                return None;
            }
            let mut proposals = sorted(&mut proposed);
            proposals.truncate(MOST_PROPOSALS);
            let (reference, sizes) = (&references[a], (frames[a].size, frames[b].size));
            let matched = judged(reference, frames[b].spots, sizes, &proposals, LEAST_STARS)?;
            Some(Tie { a, b, matched })
        };
        found.into_iter().filter_map(tie).collect()
    };
    let mut all: Vec<Tie> = (0..frames.len())
        .into_par_iter()
        .flat_map_iter(of_frame)
        .collect();
    all.sort_by_key(|t| (t.a, t.b));
    all
}

/// The tie between two frames, near a map that may be true of turn and scale. One that somebody has `told`, as headers
/// do, needs fewer stars.
pub fn tie_by_guess(
    frames: &[FrameSpots<'_>],
    (a, b): (usize, usize),
    guess: &Registration,
    told: bool,
) -> Option<Tie> {
    let reference = as_reference(&frames[a]);
    let sizes = (frames[a].size, frames[b].size);
    let proposals = guess::proposals(guess, &reference, frames[b].spots, frames[a].size);
    let least = if told {
        LEAST_STARS_GUIDED
    } else {
        LEAST_STARS
    };
    let matched = judged(&reference, frames[b].spots, sizes, &proposals, least)?;
    Some(Tie {
        a,
        b,
        matched: Matched {
            guided: told,
            ..matched
        },
    })
}

fn of_frame(frame: &FrameSpots<'_>, hand: f64) -> Vec<Group> {
    let places: Vec<[f64; 2]> = frame.spots.iter().map(|s| [s.at.x, s.at.y]).collect();
    groups(&places, hand)
}

fn as_reference(frame: &FrameSpots<'_>) -> Vec<Spot<ReferencePx>> {
    frame.spots.iter().map(|s| s.retyped()).collect()
}

/// What the best proposal leads to, if chance cannot explain it and its stars meet well.
fn judged(
    reference: &[Spot<ReferencePx>],
    frame: &[Spot<FramePx>],
    (reference_size, frame_size): (Size, Size),
    proposals: &[Proposal],
    least: usize,
) -> Option<Matched> {
    if reference.len() < least || frame.len() < least {
        return None;
    }
    let field = consensus::BothFrames::new(reference, frame, reference_size, frame_size);
    let start = consensus::best(&field, proposals, least).ok()?;
    let terms = pairs::Terms { model: None, least };
    let matched = pairs::refine(&field, start, terms).ok()?;
    (matched.errors.rms_px < MOST_RMS_PX).then_some(matched)
}
