//! Matching: which star of a frame is which star of the reference, without any hint.
//!
//! Small groups of stars are described by numbers that no shift, turn, mirror or scale changes
//! (`asterism`); groups alike in both frames propose a map, which the other stars confirm or refute
//! (`consensus`); the confirmed map is refined on all stars, and the simplest sufficient model
//! chosen (`pairs`). Guesses of turn and scale, from headers or from a user, go first (`guess`). A
//! proposal that chance could explain is never accepted, wherever it comes from.

mod among;
mod asterism;
mod consensus;
mod grid;
mod guess;
mod hint;
mod pairs;
mod pattern;
mod trust;

use serde::{Deserialize, Serialize};

pub use among::{FrameSpots, Tie, tie_by_guess, ties};
pub use guess::Guess;
pub use hint::{Hint, LEAST_HAND_PAIRS};
pub use pattern::match_patterns;

use crate::placement::{Model, Registration};
use crate::space::{FramePx, Point, ReferencePx, Size};
use crate::stars::{Catalogue, Flag};

/// A star as matching sees it.
#[derive(Debug)]
pub struct Spot<S> {
    /// Its centre.
    pub at: Point<S>,
    /// Standard error of each coordinate.
    pub sigma_px: f64,
    /// Nothing is known against its position.
    pub clean: bool,
    /// Its place in the catalogue.
    pub index: usize,
}

impl<S> Clone for Spot<S> {
    fn clone(&self) -> Self {
        *self
    }
}
impl<S> Copy for Spot<S> {}

impl<S> Spot<S> {
    /// The same star on a grid that is called something else.
    pub(crate) fn retyped<T>(self) -> Spot<T> {
        Spot {
            at: Point::new(self.at.x, self.at.y),
            sigma_px: self.sigma_px,
            clean: self.clean,
            index: self.index,
        }
    }
}

/// The stars of a catalogue that can be matched, from bright to faint: all but saturated and cut ones.
pub fn spots<S>(catalogue: &Catalogue) -> Vec<Spot<S>> {
    catalogue
        .stars
        .iter()
        .enumerate()
        .filter(|(_, s)| !s.flags.has(Flag::Saturated) && !s.flags.has(Flag::Edge))
        .map(|(index, s)| Spot {
            at: Point::new(s.at.x, s.at.y),
            sigma_px: s.position_sigma_px,
            clean: s.flags.is_clean(),
            index,
        })
        .collect()
}

/// A frame found on the reference.
#[derive(Debug, Clone)]
pub struct Matched {
    /// Reference pixels to frame pixels.
    pub map: Registration,
    /// The model that was justified.
    pub model: Model,
    /// Matched stars as (index in the reference's catalogue, index in the frame's); none when the frames
    /// were matched by their pattern.
    pub pairs: Vec<(usize, usize)>,
    /// How many pairs, or patches of pattern, the map rests on.
    pub points: usize,
    /// Errors over them.
    pub errors: MatchErrors,
    /// Pairs in each ninth of the frame, row after row.
    pub coverage: [usize; 9],
    /// One of the guesses of the settings led to it.
    pub guided: bool,
}

/// How well the pairs agree, in pixels of the frame or of the reference, whichever are larger on the
/// sky.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct MatchErrors {
    /// Root mean square distance over the pairs, each weighted by its precision.
    pub rms_px: f64,
    /// The largest distance.
    pub max_px: f64,
    /// Root mean square distance on pairs that the fit has not seen.
    #[serde(alias = "unseen_rms_px")]
    pub crossval_rms_px: f64,
    /// Standard error of each coordinate of the map itself, at the worst corner of the frame.
    #[serde(default, alias = "corner_px")]
    pub corner_sigma_px: f64,
}

/// Why a frame could not be matched.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
pub enum MatchError {
    /// One of both has fewer stars than any match needs.
    #[error("{found} usable stars in the {}, {needed} are needed", if *in_reference { "reference" } else { "frame" })]
    TooFewStars {
        /// Stars that could be used.
        found: usize,
        /// Stars that are needed.
        needed: usize,
        /// It is the reference that lacks them.
        in_reference: bool,
    },
    /// No map makes more stars meet than chance would.
    #[error(
        "no shift, turn, mirror or scale brings its stars onto the reference's (at best {best} of {tried} met)"
    )]
    NoMatch {
        /// Stars that met under the best map.
        best: usize,
        /// Stars that could have met.
        tried: usize,
    },
    /// No map makes the patterns of both agree.
    #[error("nor do the patterns of both frames agree ({agreeing} patches, {needed} are needed)")]
    NoPattern {
        /// Patches that agree under the best map.
        agreeing: usize,
        /// Patches that must.
        needed: usize,
    },
    /// Stars met, but they do not agree well enough.
    #[error(
        "its stars meet the reference's only to {rms_px:.2} px rms ({pairs} pairs), {allowed_px} px is allowed"
    )]
    TooRough {
        /// Pairs found.
        pairs: usize,
        /// Their root mean square distance.
        rms_px: f64,
        /// What would have been accepted.
        allowed_px: f64,
    },
    /// The stars agree, but they leave the map uncertain where there are none.
    #[error(
        "its {pairs} matched stars leave its place in a corner uncertain by {corner_sigma_px:.2} px, {allowed_px} px is allowed"
    )]
    TooLoose {
        /// Pairs found.
        pairs: usize,
        /// The standard error in the worst corner.
        corner_sigma_px: f64,
        /// What would have been accepted.
        allowed_px: f64,
    },
}

/// Fewer stars than this cannot prove a match: four propose the map, two more confirm it.
pub const LEAST_STARS: usize = 6;

/// Fewer than this cannot when turn and scale are known: one proposes the shift, two confirm it.
pub const LEAST_STARS_GUIDED: usize = 3;

/// A match rougher than this is not used, nor one that foretells unseen stars 1.6 times worse: half a
/// pixel doubles every star visibly.
pub const MOST_RMS_PX: f64 = 0.5;

/// Nor is one whose worst corner may be off by this: stars would be doubled there alone, where nobody
/// looks first.
const MOST_CORNER_PX: f64 = 0.35;

/// What is known or wanted beforehand.
#[derive(Debug, Clone, Default)]
pub struct MatchSettings {
    /// The model of the map; by default the simplest that the stars justify.
    pub model: Option<Model>,
    /// Maps that may be near the true one, at least in turn and scale.
    pub guesses: Vec<Registration>,
    /// Short lists are searched through, a second for each frame that does not match: for frames that are known to show
    /// one field, not for sorting out which do.
    pub thorough: bool,
}

/// The stars of both that meet under a map that is known, to within two pixels, as (index in the
/// reference's catalogue, index in the frame's).
pub fn pairs_under(
    map: &Registration,
    reference: &[Spot<ReferencePx>],
    frame: &[Spot<FramePx>],
    (reference_size, frame_size): (Size, Size),
) -> Vec<(usize, usize)> {
    let field = consensus::BothFrames::new(reference, frame, reference_size, frame_size);
    pairs::meeting(&field, map)
}

/// How a frame's place was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FoundBy {
    /// By its stars alone.
    #[default]
    Stars,
    /// By its stars, near where its header says.
    Wcs,
    /// By its stars or its pattern, near where the user says.
    Hint,
    /// By the pattern of its nebula.
    Pattern,
    /// Where its header says, checked by nothing.
    Header,
    /// Where the user says, checked by nothing.
    Hand,
    /// It lies on the reference's pixels already.
    Canvas,
    /// It is the reference.
    Reference,
}

impl FoundBy {
    /// The way in a word or two.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Stars => "stars",
            Self::Wcs => "WCS, stars",
            Self::Hint => "hint, stars",
            Self::Pattern => "pattern",
            Self::Header => "WCS alone",
            Self::Hand => "hand",
            Self::Canvas => "same canvas",
            Self::Reference => "reference",
        }
    }
}

/// Finds the map from the reference's stars to the frame's: by the guesses, if there are any, else by
/// asterisms (of neighbours, in short lists then of all stars), last as if the frame were turned by nothing or by half a turn. Both lists run from bright
/// to faint.
///
/// # Errors
/// When there are too few stars, when chance could explain the best map, or when it is too rough.
pub fn match_frames(
    reference: &[Spot<ReferencePx>],
    frame: &[Spot<FramePx>],
    (reference_size, frame_size): (Size, Size),
    settings: &MatchSettings,
) -> Result<Matched, MatchError> {
    for (found, in_reference) in [(reference.len(), true), (frame.len(), false)] {
        if found < LEAST_STARS_GUIDED {
            return Err(MatchError::TooFewStars {
                found,
                needed: LEAST_STARS,
                in_reference,
            });
        }
    }
    let field = consensus::BothFrames::new(reference, frame, reference_size, frame_size);
    let guided = |guesses: &[Registration]| -> Vec<consensus::Proposal> {
        let of = |map| guess::proposals(map, reference, frame, reference_size);
        guesses.iter().flat_map(of).collect()
    };
    let attempt = |proposals: &[consensus::Proposal], least: usize| {
        let start = consensus::best(&field, proposals, least)?;
        let terms = pairs::Terms {
            model: settings.model,
            least,
        };
        gated(
            pairs::refine(&field, start, terms)?,
            reference_size,
            MOST_RMS_PX,
        )
    };
    if let Ok(matched) = attempt(&guided(&settings.guesses), LEAST_STARS_GUIDED) {
        return Ok(Matched {
            guided: true,
            ..matched
        });
    }
    let told = match reference.len().min(frame.len()) {
        found if found < LEAST_STARS => Err(MatchError::TooFewStars {
            found,
            needed: LEAST_STARS,
            in_reference: reference.len() < frame.len(),
        }),
        _ => attempt(&asterism::proposals(reference, frame), LEAST_STARS).or_else(|told| {
            if !settings.thorough {
                return Err(told);
            }
            attempt(&asterism::exhaustive(reference, frame), LEAST_STARS).map_err(|_| told)
        }),
    };
    // A rough match by asterisms is a match: nothing better is to be expected from the stars.
    let hopeless = matches!(
        told,
        Err(MatchError::NoMatch { .. } | MatchError::TooFewStars { .. })
    );
    if !hopeless {
        return told;
    }
    let usual: Vec<Registration> = [0.0, 180.0]
        .into_iter()
        .filter_map(|turn_deg| {
            let guess = Guess {
                turn_deg,
                ..Guess::default()
            };
            guess.map(reference_size, frame_size)
        })
        .collect();
    attempt(&guided(&usual), LEAST_STARS_GUIDED).or(told)
}

/// The match, if it is good enough to be used.
fn gated(matched: Matched, reference: Size, most_rms_px: f64) -> Result<Matched, MatchError> {
    let (errors, pairs) = (matched.errors, matched.points);
    if !matched.map.is_sound_on(reference) {
        return Err(MatchError::NoMatch {
            best: pairs,
            tried: pairs,
        });
    }
    gate(&errors, pairs, most_rms_px)?;
    Ok(matched)
}

/// Is a placement that rests on so many pairs good enough to be used? The one rule, whoever found it.
///
/// # Errors
/// Says which limit it does not keep.
pub fn gate(errors: &MatchErrors, pairs: usize, most_rms_px: f64) -> Result<(), MatchError> {
    let rough = |rms_px: f64, allowed_px: f64| {
        (rms_px > allowed_px).then_some(MatchError::TooRough {
            pairs,
            rms_px,
            allowed_px,
        })
    };
    if let Some(error) =
        rough(errors.rms_px, most_rms_px).or(rough(errors.crossval_rms_px, 1.6 * most_rms_px))
    {
        return Err(error);
    }
    // A solution that failed knows no error.
    if errors.corner_sigma_px.is_nan() || errors.corner_sigma_px > MOST_CORNER_PX {
        return Err(MatchError::TooLoose {
            pairs,
            corner_sigma_px: errors.corner_sigma_px,
            allowed_px: MOST_CORNER_PX,
        });
    }
    Ok(())
}
