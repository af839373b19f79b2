//! Which proposal is true: the one under which far more stars meet than chance allows.
//!
//! Random sample consensus (Fischler & Bolles 1981, CACM 24, 381) with proposals from asterisms
//! instead of random samples. A proposal's score is the logarithm of how much better "it is true"
//! explains the stars that met and those that did not than "they met by chance" (Lang et al. 2010).
//! The shorter list is the judge: a narrowband frame shows few of a broadband reference's stars, but
//! nearly all that it shows are there, too.

use crate::number::Convert;
use crate::placement::Registration;
use crate::space::{FramePx, ReferencePx, Size};

use super::grid::Grid;
use super::{MatchError, Spot};

/// Brightest stars that judge a proposal.
const JUDGES: usize = 200;

/// Brightest stars of the other frame that they can meet: among many thousands, chance meetings would
/// say nothing.
const MOST_MET: usize = 3000;

/// A map from four stars is off by some pixels at the far end of a frame. In pixels of the coarser grid.
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

/// A map that may be true.
#[derive(Debug, Clone)]
pub(super) struct Proposal {
    pub(super) map: Registration,
    /// Stars that meet by construction, and prove nothing.
    pub(super) spent: f64,
}

/// The stars of both frames, ready to be asked which lies near a place.
pub(super) struct BothFrames<'a> {
    pub(super) reference: &'a [Spot<ReferencePx>],
    pub(super) frame: &'a [Spot<FramePx>],
    pub(super) reference_size: Size,
    pub(super) frame_size: Size,
    frame_grid: Grid,
    bright_frame: Grid,
    bright_reference: Grid,
}

impl<'a> BothFrames<'a> {
    pub(super) fn new(
        reference: &'a [Spot<ReferencePx>],
        frame: &'a [Spot<FramePx>],
        reference_size: Size,
        frame_size: Size,
    ) -> Self {
        let bright = |n: usize| n.min(MOST_MET);
        Self {
            reference,
            frame,
            reference_size,
            frame_size,
            frame_grid: Grid::new(frame.iter().map(|s| s.at), frame_size),
            bright_frame: Grid::new(
                frame[..bright(frame.len())].iter().map(|s| s.at),
                frame_size,
            ),
            bright_reference: Grid::new(
                reference[..bright(reference.len())].iter().map(|s| s.at),
                reference_size,
            ),
        }
    }

    /// The frame's star nearest to a place within a reach, with its squared distance.
    pub(super) fn nearest(&self, x: f64, y: f64, reach: f64) -> Option<(usize, f64)> {
        self.frame_grid.nearest(x, y, reach)
    }

    /// The chance that some star of the frame lies within `radius` of a place by accident.
    pub(super) fn chance(&self, radius: f64) -> f64 {
        chance(self.frame.len(), self.frame_size, radius)
    }

    /// Frame pixels to a pixel of the coarser grid, and reference pixels to one.
    pub(super) fn units(&self, map: &Registration) -> (f64, f64) {
        let scale = map.area_ratio(self.reference_size.centre()).sqrt();
        (scale.max(1.0), (1.0 / scale).max(1.0))
    }
}

fn chance(stars: usize, size: Size, radius: f64) -> f64 {
    let expected = stars.real() * std::f64::consts::PI * radius * radius / size.area().real();
    (1.0 - (-expected).exp()).clamp(1e-6, 0.9)
}

/// Log odds of "true" against "chance" when `met` of `tried` stars met with this chance of each.
pub(super) fn log_odds(met: usize, tried: usize, chance: f64) -> f64 {
    // When chance alone makes this many meet, a true map must do better still.
    let shared = SHARED + (1.0 - SHARED) * chance;
    met.real() * (shared / chance).ln()
        + (tried - met).real() * ((1.0 - shared) / (1.0 - chance)).ln()
}

/// How a proposal did.
struct Judged {
    met: usize,
    tried: usize,
    odds: f64,
    /// Odds without the stars that prove nothing.
    honest: f64,
}

/// The best proposal, if it beats chance; `least` stars must meet.
pub(super) fn best(
    field: &BothFrames<'_>,
    proposals: &[Proposal],
    least: usize,
) -> Result<Registration, MatchError> {
    let mut best: Option<(Judged, &Registration)> = None;
    for p in proposals.iter().take(MOST_PROPOSALS) {
        let judged = judge(field, p);
        let certain = judged.odds > CERTAIN_LOG_ODDS;
        if best.as_ref().is_none_or(|b| judged.odds > b.0.odds) {
            best = Some((judged, &p.map));
        }
        if certain {
            break;
        }
    }
    match best {
        Some((j, map)) if j.met >= least && j.honest > LEAST_LOG_ODDS / 2.0 => Ok(map.clone()),
        Some((j, _)) => Err(MatchError::NoMatch {
            best: j.met,
            tried: j.tried,
        }),
        None => Err(MatchError::NoMatch {
            best: 0,
            tried: field.reference.len().min(field.frame.len()),
        }),
    }
}

/// How many of the brightest stars of the shorter list that fall into the other frame meet a star there.
fn judge(field: &BothFrames<'_>, p: &Proposal) -> Judged {
    let (frame_unit, reference_unit) = field.units(&p.map);
    let by_frame = field.frame.len() < field.reference.len();
    let (others, size, radius) = if by_frame {
        (
            field.reference.len(),
            field.reference_size,
            MEET_PX * reference_unit,
        )
    } else {
        (field.frame.len(), field.frame_size, MEET_PX * frame_unit)
    };
    let chance = chance(others.min(MOST_MET), size, radius);
    let (mut met, mut tried) = (0, 0);
    let mut meet = |x: f64, y: f64, grid: &Grid| {
        tried += 1;
        met += usize::from(grid.nearest(x, y, radius).is_some());
        // A wrong map shows early; three quarters of the work of judging is saved here.
        let hopeless = tried == 40 && met < 6 && chance < 0.1;
        tried < JUDGES && !hopeless
    };
    if by_frame {
        let back = p.map.invert();
        for s in field.frame {
            let at = back.apply(s.at);
            if size.holds(at) && !meet(at.x, at.y, &field.bright_reference) {
                break;
            }
        }
    } else {
        for s in field.reference {
            let at = p.map.apply(s.at);
            if size.holds(at) && !meet(at.x, at.y, &field.bright_frame) {
                break;
            }
        }
    }
    let odds = log_odds(met, tried, chance);
    Judged {
        met,
        tried,
        odds,
        honest: odds - p.spent * (SHARED / chance).ln(),
    }
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
