//! Which proposal is true: the one under which far more stars meet than chance allows.
//!
//! Random sample consensus (Fischler & Bolles 1981, CACM 24, 381) with proposals from asterisms
//! instead of random samples. A proposal's score is the logarithm of how much better "it is true"
//! explains the stars that met and those that did not than "they met by chance" (Lang et al. 2010).

use rstar::RTree;
use rstar::primitives::GeomWithData;

use crate::placement::Registration;
use crate::space::{FramePx, ReferencePx, Size};

use super::{LEAST_STARS, MatchError, Spot};

/// Brightest reference stars that judge a proposal.
const JUDGES: usize = 200;

/// A map from four stars is off by some pixels at the far end of a frame.
const MEET_PX: f64 = 5.0;

/// If the proposal is true, at least this part of the stars is taken to be in both frames: filters
/// and depths differ.
const SHARED: f64 = 0.4;

/// Odds of a billion to one: some 10 000 proposals are judged for each frame, and hundreds of frames.
pub(super) const LEAST_LOG_ODDS: f64 = 20.7;

/// Odds so high that no better proposal needs to be looked for.
const CERTAIN_LOG_ODDS: f64 = 150.0;

/// Proposals that are judged at the most.
const MOST_PROPOSALS: usize = 20_000;

/// The stars of both frames, ready to be asked which lies near a place.
pub(super) struct Field<'a> {
    pub(super) reference: &'a [Spot<ReferencePx>],
    pub(super) frame: &'a [Spot<FramePx>],
    pub(super) frame_size: Size,
    tree: RTree<GeomWithData<[f64; 2], usize>>,
}

impl<'a> Field<'a> {
    pub(super) fn new(
        reference: &'a [Spot<ReferencePx>],
        frame: &'a [Spot<FramePx>],
        frame_size: Size,
    ) -> Self {
        let tree = RTree::bulk_load(
            frame
                .iter()
                .enumerate()
                .map(|(i, s)| GeomWithData::new([s.at.x, s.at.y], i))
                .collect(),
        );
        Self {
            reference,
            frame,
            frame_size,
            tree,
        }
    }

    /// The frame's star nearest to a place, with its squared distance.
    pub(super) fn nearest(&self, x: f64, y: f64) -> Option<(usize, f64)> {
        self.tree
            .nearest_neighbor_iter_with_distance_2([x, y])
            .next()
            .map(|(p, d2)| (p.data, d2))
    }

    /// The chance that some star of the frame lies within `radius` of a place by accident.
    pub(super) fn chance(&self, radius: f64) -> f64 {
        let expected = self.frame.len() as f64 * std::f64::consts::PI * radius * radius
            / self.frame_size.area() as f64;
        (1.0 - (-expected).exp()).clamp(1e-6, 0.9)
    }
}

/// Log odds of "true" against "chance" when `met` of `tried` stars met with this chance of each.
pub(super) fn log_odds(met: usize, tried: usize, chance: f64) -> f64 {
    // When chance alone makes this many meet, a true map must do better still.
    let shared = SHARED + (1.0 - SHARED) * chance;
    met as f64 * (shared / chance).ln()
        + (tried - met) as f64 * ((1.0 - shared) / (1.0 - chance)).ln()
}

/// The best proposal, if it beats chance.
pub(super) fn best(
    field: &Field<'_>,
    proposals: &[super::asterism::Proposal],
) -> Result<Registration, MatchError> {
    let chance = field.chance(MEET_PX);
    let mut best: Option<(f64, usize, usize, Registration)> = None;
    for p in proposals.iter().take(MOST_PROPOSALS) {
        let (met, tried) = judge(field, &p.map);
        let odds = log_odds(met, tried, chance);
        if best.as_ref().is_none_or(|b| odds > b.0) {
            best = Some((odds, met, tried, p.map));
        }
        if odds > CERTAIN_LOG_ODDS {
            break;
        }
    }
    match best {
        // The four stars of a proposal meet by construction; the odds of the rest must do.
        Some((odds, met, _, map))
            if met >= LEAST_STARS && odds - 4.0 * (SHARED / chance).ln() > LEAST_LOG_ODDS / 2.0 =>
        {
            Ok(map)
        }
        Some((_, met, tried, _)) => Err(MatchError::NoMatch { best: met, tried }),
        None => Err(MatchError::NoMatch {
            best: 0,
            tried: field.reference.len().min(field.frame.len()),
        }),
    }
}

/// How many of the brightest reference stars that fall into the frame meet one of its stars.
fn judge(field: &Field<'_>, map: &Registration) -> (usize, usize) {
    let (mut met, mut tried) = (0, 0);
    for s in field.reference.iter().take(JUDGES) {
        let p = map.apply(s.at);
        if !field.frame_size.holds(p) {
            continue;
        }
        tried += 1;
        met += usize::from(
            field
                .nearest(p.x, p.y)
                .is_some_and(|(_, d2)| d2 < MEET_PX * MEET_PX),
        );
        // A wrong map shows early; three quarters of the work of judging is saved here.
        if tried == 40 && met < 6 && field.chance(MEET_PX) < 0.1 {
            break;
        }
    }
    (met, tried)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn odds_rise_with_every_star_that_meets_and_fall_with_every_one_that_does_not() {
        assert!(log_odds(9, 20, 0.01) > log_odds(8, 20, 0.01));
        assert!(log_odds(8, 21, 0.01) < log_odds(8, 20, 0.01));
        assert!(log_odds(2, 60, 0.05) < 0.0);
        assert!(log_odds(60, 60, 0.05) > LEAST_LOG_ODDS);
    }
}
