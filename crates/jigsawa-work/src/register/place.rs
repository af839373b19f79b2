//! The place of one frame on the reference: by its stars, helped by headers and hints, by its pattern where
//! stars are too few, and as the user says where nothing else tells.

use std::fmt;

use jigsawa_core::matching::{
    FoundBy, Hint, MatchError, MatchErrors, MatchSettings, Matched, match_frames, match_patterns,
    pairs_under, spots,
};
use jigsawa_core::placement::{Map, Model, Registration};
use jigsawa_core::plane::Plane;
use jigsawa_core::stars::Catalogue;
use jigsawa_core::wcs;

use super::measure::{Measured, Unmeasured};
use crate::frames::Frame;

/// With fewer stars than this in one of the two, their patterns are compared when the stars do not match.
const FEW_STARS: usize = 40;

/// What a place by hand may be off by, in pixels: nobody points better than this on a screen.
const HAND_PX: f64 = 0.5;

/// A header that is off by more than this, in frame pixels, is told.
const WCS_OFF_PX: f64 = 5.0;

/// A frame's place on the reference.
pub struct Placed {
    pub map: Registration,
    pub by: FoundBy,
    pub model: Option<Model>,
    /// Stars or patches that it rests on.
    pub points: usize,
    pub errors: MatchErrors,
    pub coverage: Option<[usize; 9]>,
    /// Stars of the reference and of the frame that are the same.
    pub pairs: Vec<(usize, usize)>,
    /// What should be known of it.
    pub notes: Vec<String>,
}

/// One matched star, on the reference's grid.
#[derive(Debug, Clone, Copy)]
pub struct Residual {
    /// Where it is in the reference.
    pub at: [f64; 2],
    /// How far the frame's star lies from there, in reference pixels.
    pub off: [f64; 2],
    /// Signal-to-noise of its flux in the poorer of both frames.
    pub snr: f64,
    /// Nothing is known against it.
    pub clean: bool,
}

/// Why a frame has none.
#[derive(Debug, Clone)]
pub enum Lost {
    /// There was nothing to measure.
    Unmeasured(Unmeasured),
    /// Its stars do not match.
    Unmatched(MatchError),
}

impl fmt::Display for Lost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unmeasured(e) => e.fmt(f),
            Self::Unmatched(e) => e.fmt(f),
        }
    }
}

impl Placed {
    /// The reference itself.
    pub fn reference(stars: &Catalogue) -> Self {
        Self {
            map: Map::shift(0.0, 0.0),
            by: FoundBy::Reference,
            model: None,
            points: stars.stars.len(),
            errors: MatchErrors::default(),
            coverage: None,
            pairs: (0..stars.stars.len()).map(|i| (i, i)).collect(),
            notes: Vec::new(),
        }
    }

    /// How far each matched star lies from where the map puts it.
    pub fn residuals(&self, reference: &Catalogue, frame: &Catalogue) -> Vec<Residual> {
        if self.by == FoundBy::Reference {
            return Vec::new();
        }
        let back = self.map.invert();
        let star = |c: &Catalogue, i: usize| c.stars.get(i).copied();
        self.pairs
            .iter()
            .filter_map(|(r, f)| {
                let (r, f) = (star(reference, *r)?, star(frame, *f)?);
                let there = back.apply(f.at);
                Some(Residual {
                    at: [r.at.x, r.at.y],
                    off: [there.x - r.at.x, there.y - r.at.y],
                    snr: (r.flux / r.flux_sigma).min(f.flux / f.flux_sigma),
                    clean: r.flags.is_clean() && f.flags.is_clean(),
                })
            })
            .collect()
    }

    fn matched(matched: Matched, by: FoundBy) -> Self {
        Self {
            by,
            model: Some(matched.model),
            points: matched.points,
            errors: matched.errors,
            coverage: Some(matched.coverage),
            pairs: matched.pairs,
            map: matched.map,
            notes: Vec::new(),
        }
    }
}

/// What is known of a frame and of the reference.
#[derive(Clone, Copy)]
pub struct Both<'a> {
    pub reference: &'a Frame,
    pub reference_stars: &'a Measured,
    pub frame: &'a Frame,
    pub stars: &'a Measured,
    pub hint: Option<&'a Hint>,
    pub model: Option<Model>,
}

impl Both<'_> {
    fn sizes(&self) -> (jigsawa_core::space::Size, jigsawa_core::space::Size) {
        (self.reference.facts.size, self.frame.facts.size)
    }

    /// Frame pixels for a reference pixel, as headers tell.
    fn usual_scale(&self) -> f64 {
        let arcsec = |f: &Frame| f.facts.arcsec_per_px();
        let ratio = arcsec(self.reference)
            .zip(arcsec(self.frame))
            .map(|(r, f)| r / f);
        ratio.filter(|r| (0.1..10.0).contains(r)).unwrap_or(1.0)
    }

    /// Where the user says; and near to it, since no hand is exact.
    fn hinted(&self) -> Vec<Registration> {
        let (reference, frame) = self.sizes();
        self.hint
            .map(|h| h.maps(reference, frame, self.usual_scale()))
            .unwrap_or_default()
    }

    /// Where to look first: where the user says, or else the headers.
    fn guesses(&self) -> Vec<Registration> {
        let hinted = self.hinted();
        if hinted.is_empty() {
            self.by_headers().into_iter().collect()
        } else {
            hinted
        }
    }

    fn by_headers(&self) -> Option<Registration> {
        let (reference, frame) = self.sizes();
        let wcs = (
            self.reference.facts.wcs.as_ref()?,
            self.frame.facts.wcs.as_ref()?,
        );
        wcs::guess((wcs.0, reference), (wcs.1, frame))
    }

    /// By the stars of both; near where the user or the headers say, if they do.
    pub fn by_stars(&self) -> Result<Placed, Lost> {
        let reference_stars = self
            .reference_stars
            .as_ref()
            .map_err(|e| Lost::Unmeasured(e.clone()))?;
        let of_frame = self.stars.as_ref();
        let stars = of_frame.map_err(|e| Lost::Unmeasured(e.clone()))?;
        let settings = MatchSettings {
            model: self.model,
            guesses: self.guesses(),
            thorough: true,
        };
        let found = match_frames(
            &spots(reference_stars),
            &spots(stars),
            self.sizes(),
            &settings,
        );
        let matched = found.map_err(Lost::Unmatched)?;
        let by = match (matched.guided, self.hint.is_some()) {
            (true, true) => FoundBy::Hint,
            (true, false) => FoundBy::Wcs,
            _ => FoundBy::Stars,
        };
        let mut placed = Placed::matched(matched, by);
        placed.notes.extend(self.header_is_off(&placed.map));
        if self.hint.is_some() && by == FoundBy::Stars {
            let said = "your hint led to no match; its stars alone did, and lie elsewhere";
            placed.notes.push(said.to_owned());
        }
        placed.notes.extend(uncovered(&placed));
        Ok(placed)
    }

    /// What is said of a header that puts the frame elsewhere than its stars do.
    fn header_is_off(&self, map: &Registration) -> Option<String> {
        let centre = self.reference.facts.size.centre();
        let off = self.by_headers()?.apply(centre).distance(map.apply(centre));
        (off > WCS_OFF_PX).then(|| {
            format!(
                "the headers' WCS puts it {off:.0} px from where its stars are, which are believed"
            )
        })
    }

    /// Are stars too few for a match, so that patterns may be asked?
    pub fn has_few_stars(&self) -> bool {
        if let Err(Unmeasured::Unreadable(_)) = self.stars {
            return false;
        }
        let few = |m: &Measured| m.as_ref().map_or(0, |c| c.stars.len()) < FEW_STARS;
        few(self.stars) || few(self.reference_stars)
    }

    /// By the patterns of both; what the stars told is kept when that fails, too.
    pub fn by_pattern(&self, reference: &Plane, frame: &Plane, told: Lost) -> Result<Placed, Lost> {
        let settings = MatchSettings {
            model: self.model,
            guesses: self.guesses(),
            thorough: false,
        };
        let alone = MatchSettings {
            guesses: Vec::new(),
            ..settings.clone()
        };
        let guided = || match_patterns(reference, frame, &settings).ok();
        let guided = if settings.guesses.is_empty() {
            None
        } else {
            guided()
        };
        let matched = match guided {
            Some(matched) => matched,
            None => match_patterns(reference, frame, &alone).map_err(|_| told)?,
        };
        let mut placed = Placed::matched(matched, FoundBy::Pattern);
        placed.pairs = self.pairs_under(&placed.map);
        Ok(placed)
    }

    /// As the user says, when that is all of the map.
    pub fn by_hand(&self) -> Option<Placed> {
        let hint = self.hint.filter(|h| h.is_complete())?;
        let map = self.hinted().into_iter().next()?;
        let (rms_px, max_px) = hint.errors(&map);
        Some(Placed {
            pairs: self.pairs_under(&map),
            by: FoundBy::Hand,
            model: None,
            points: hint.pairs.len(),
            errors: MatchErrors {
                rms_px,
                max_px,
                crossval_rms_px: rms_px.max(HAND_PX),
                corner_sigma_px: rms_px.max(HAND_PX),
            },
            coverage: None,
            notes: vec![
                "it lies where you say: neither its stars nor its pattern could check that"
                    .to_owned(),
            ],
            map,
        })
    }

    fn pairs_under(&self, map: &Registration) -> Vec<(usize, usize)> {
        match (self.reference_stars, self.stars) {
            (Ok(r), Ok(f)) => pairs_under(map, &spots(r), &spots(f), self.sizes()),
            _ => Vec::new(),
        }
    }
}

/// What is said where a good part of the frame has no pair: nobody knows how it lies there.
fn uncovered(placed: &Placed) -> Option<String> {
    const NAMES: [&str; 9] = [
        "first corner",
        "first rows",
        "end of the first rows",
        "first columns",
        "middle",
        "last columns",
        "start of the last rows",
        "last rows",
        "last corner",
    ];
    let coverage = placed.coverage?;
    let empty: Vec<&str> = (0..9)
        .filter(|i| coverage[*i] == 0)
        .map(|i| NAMES[i])
        .collect();
    // Where frames share only a part, the rest has no pairs of course, and no counterpart either.
    let shared_whole = coverage.iter().filter(|n| **n > 0).count() >= 6;
    (shared_whole && !empty.is_empty() && placed.points < 100).then(|| {
        format!(
            "no matched star in its {}: the place there rests on the others",
            empty.join(", ")
        )
    })
}
