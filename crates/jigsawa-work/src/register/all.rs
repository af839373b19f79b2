//! Places for all frames, on the reference that most of them can be placed on.

use jigsawa_core::matching::{Hint, MatchError};
use jigsawa_core::verdict::Verdict;
use rayon::prelude::*;

use super::SearchSettings;
use super::measure::Measured;
use super::place::{Both, Lost, Placed, Residual};
use super::reference::Candidates;
use crate::frames::Frame;
use crate::run::Run;
use crate::trouble::Trouble;

/// All frames with what was found in them.
pub(super) struct MeasuredFrames<'a> {
    pub(super) frames: &'a [Frame],
    pub(super) catalogues: &'a [Measured],
    pub(super) search: &'a SearchSettings,
}

impl MeasuredFrames<'_> {
    pub(super) fn residuals(
        &self,
        reference: usize,
        placed: &[Result<Placed, Lost>],
    ) -> Vec<Vec<Residual>> {
        let all = placed.iter().enumerate();
        all.map(|(i, p)| self.of_one(reference, i, p)).collect()
    }

    pub(super) fn of_one(
        &self,
        reference: usize,
        i: usize,
        placed: &Result<Placed, Lost>,
    ) -> Vec<Residual> {
        match (placed, &self.catalogues[reference], &self.catalogues[i]) {
            (Ok(p), Ok(r), Ok(f)) => p.residuals(r, f),
            _ => Vec::new(),
        }
    }

    fn both(&self, reference: usize, frame: usize) -> Both<'_> {
        Both {
            reference: &self.frames[reference],
            reference_stars: &self.catalogues[reference],
            frame: &self.frames[frame],
            stars: &self.catalogues[frame],
            hint: self.hint(frame),
            model: self.search.model,
        }
    }

    pub(super) fn hint(&self, frame: usize) -> Option<&Hint> {
        self.search.hints.get(frame).and_then(Option::as_ref)
    }

    /// The places of the listed frames by their stars.
    pub(super) fn by_stars(&self, reference: usize, list: &[usize]) -> Vec<Result<Placed, Lost>> {
        list.par_iter()
            .map(|i| match &self.catalogues[*i] {
                Ok(stars) if *i == reference => Ok(Placed::reference(stars)),
                _ => self.both(reference, *i).by_stars(),
            })
            .collect()
    }

    /// For those that their stars have not placed: by pattern, then by hand.
    pub(super) fn by_other_ways(
        &self,
        reference: usize,
        list: &[usize],
        placed: &mut [Result<Placed, Lost>],
        run: &Run<'_>,
    ) -> Result<(), Trouble> {
        let read = |f: &Frame| {
            let plane = f.read_plane(Vec::new());
            plane.map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))
        };
        let lost: Vec<usize> = (0..list.len()).filter(|k| placed[*k].is_err()).collect();
        let by_pattern = |k: &&usize| self.both(reference, list[**k]).has_few_stars();
        let patterns: Vec<usize> = lost.iter().filter(by_pattern).copied().collect();
        if !patterns.is_empty() {
            let progress = run.begin("patterns", patterns.len());
            let of_reference = read(&self.frames[reference])?;
            for k in patterns {
                let both = self.both(reference, list[k]);
                if let Err(told) = &placed[k] {
                    let plane = read(both.frame)?;
                    placed[k] = both.by_pattern(&of_reference, &plane, told.clone());
                }
                progress.step();
            }
        }
        for k in lost {
            if placed[k].is_err()
                && let Some(by_hand) = self.both(reference, list[k]).by_hand()
            {
                placed[k] = Ok(by_hand);
            }
        }
        Ok(())
    }
}

pub(super) fn verdict(placed: &Result<Placed, Lost>) -> Verdict {
    match placed {
        Ok(_) => Verdict::Used,
        Err(Lost::Unmatched(error)) => Verdict::LeftOut(why_left_out(error)),
        Err(lost) => Verdict::LeftOut(lost.to_string()),
    }
}

/// References that are tried before it is given up that one frame places all others.
const MOST_REFERENCES: usize = 4;

/// A reference, why it is one, and the place of every frame on it.
pub(super) struct OnReference {
    pub(super) reference: usize,
    pub(super) why: String,
    pub(super) placed: Vec<Result<Placed, Lost>>,
}

/// Places all frames on the first candidate that all needed frames can be placed on, or else on the
/// one that most can: a stray frame with many stars must not decide. If another one proves to lie nearer the middle,
/// on that one.
pub(super) fn place_all(
    field: &MeasuredFrames<'_>,
    given: Option<usize>,
    among: &[usize],
    run: &Run<'_>,
) -> Result<OnReference, Trouble> {
    let candidates = Candidates {
        frames: field.frames,
        catalogues: field.catalogues,
    };
    let tried = match given {
        Some(i) => vec![(i, "as asked".to_owned())],
        None => candidates.best_first(among),
    };
    let all: Vec<usize> = (0..field.frames.len()).collect();
    let count =
        |placed: &[Result<Placed, Lost>]| among.iter().filter(|i| placed[**i].is_ok()).count();
    let mut best: Option<(usize, OnReference)> = None;
    for (nth, (reference, why)) in tried.into_iter().take(MOST_REFERENCES).enumerate() {
        if let Err(error) = &field.catalogues[reference] {
            return Err(error.of(&field.frames[reference]));
        }
        let placed = field.by_stars(reference, &all);
        let count = count(&placed);
        let why = if nth == 0 {
            why
        } else {
            format!("{why}; more frames lie on it than on the frame with the best stars")
        };
        if best.as_ref().is_none_or(|(most, _)| count > *most) {
            best = Some((
                count,
                OnReference {
                    reference,
                    why,
                    placed,
                },
            ));
        }
        if count == among.len() {
            break;
        }
    }
    let (most, mut on) = best.ok_or_else(|| Trouble::NoStars {
        file: field.frames.first().map(Frame::name).unwrap_or_default(),
    })?;
    let maps: Vec<_> = on
        .placed
        .iter()
        .map(|p| p.as_ref().ok().map(|p| p.map.clone()))
        .collect();
    if given.is_none()
        && let Some((reference, why)) = candidates.nearer_the_middle(among, on.reference, &maps)
    {
        let placed = field.by_stars(reference, &all);
        if count(&placed) >= most {
            on = OnReference {
                reference,
                why,
                placed,
            };
        }
    }
    field.by_other_ways(on.reference, &all, &mut on.placed, run)?;
    Ok(on)
}

/// Why a frame is left out, and what would help.
fn why_left_out(error: &MatchError) -> String {
    let help = match error {
        MatchError::TooFewStars { .. } | MatchError::NoPattern { .. } => {
            "lower --detect-sigma, a --hint, three times --pair, or another --reference may help"
        }
        MatchError::NoMatch { .. } => {
            "if it shows the same field, another --reference or a --hint may help"
        }
        MatchError::TooLoose { .. } => {
            "more stars (lower --detect-sigma), a stiffer --model or another --reference may help"
        }
        MatchError::TooRough { .. } => "--model smooth or another --reference may help",
    };
    format!("{error}; {help}")
}
