//! From frames to a layout: stars, reference, places, canvas.

mod hints;
mod lay_out;
mod measure;
mod place;
mod reference;

use std::path::Path;

use jigsawa_core::layout::{FORMAT, Layout, LayoutFrame, Reference};
use jigsawa_core::matching::{Hint, MatchError};
use jigsawa_core::placement::{Model, Placement};
use jigsawa_core::stars::{DetectError, Settings};
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::inputs;
use rayon::prelude::*;

pub use hints::{HintArg, PairArg, hints};
pub use measure::{Measured, Unmeasured, measure};
pub use place::Residual;

use crate::frames::Frame;
use crate::layout_file;
use crate::run::Run;
use crate::start::{Start, refuse_known};
use crate::trouble::Trouble;
pub use lay_out::CanvasWanted;
pub use lay_out::Row;
use lay_out::{canvas, record, sky_of_canvas, sky_of_reference};
use place::{Both, Lost, Placed};
use reference::Candidates;

/// How frames are to be registered.
#[derive(Default)]
pub struct Registering<'a> {
    /// The reference that the user, or a survey, wants.
    pub reference: Option<&'a str>,
    /// The canvas.
    pub canvas: CanvasWanted,
    /// Frames that must not be left out.
    pub needed: &'a [usize],
    /// How stars and maps are looked for.
    pub looking: Looking,
}

/// How stars and maps are looked for.
pub struct Looking {
    /// The model of all maps.
    pub model: Option<Model>,
    /// What the user says of each frame's place; none at all, or one for each.
    pub hints: Vec<Option<Hint>>,
    /// How stars are found.
    pub settings: Settings,
}

/// Stars of a frame, spread over it, that fix its map to a thousandth of a pixel and its scale to a tenth
/// of a percent; more cost time only.
const ENOUGH_STARS: usize = 1000;

/// How stars are looked for where nobody says otherwise; the same for all commands, so that stars kept from one
/// serve the next.
pub fn stars_wanted() -> Settings {
    Settings {
        most: ENOUGH_STARS,
        ..Settings::default()
    }
}

/// How they are looked for in panels, which share a small part only: fainter ones, too, where there are few. A false star
/// does no harm, since no other frame shows it at the same place.
pub fn stars_of_panels() -> Settings {
    Settings {
        lowest_sigma: 3.5,
        enough: 600,
        ..stars_wanted()
    }
}

impl Default for Looking {
    fn default() -> Self {
        Self {
            model: None,
            hints: Vec::new(),
            settings: stars_wanted(),
        }
    }
}

/// All frames with what was found in them.
struct Field<'a> {
    frames: &'a [Frame],
    catalogues: &'a [Measured],
    looking: &'a Looking,
}

/// A layout, and what it rests on.
pub struct Registered {
    /// All frames with their places or verdicts.
    pub layout: Layout,
    /// The matched stars of each frame of the layout; none of those that were there before.
    pub residuals: Vec<Vec<Residual>>,
}

impl Field<'_> {
    fn residuals(&self, reference: usize, placed: &[Result<Placed, Lost>]) -> Vec<Vec<Residual>> {
        let all = placed.iter().enumerate();
        all.map(|(i, p)| self.of_one(reference, i, p)).collect()
    }

    fn of_one(&self, reference: usize, i: usize, placed: &Result<Placed, Lost>) -> Vec<Residual> {
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
            model: self.looking.model,
        }
    }

    fn hint(&self, frame: usize) -> Option<&Hint> {
        self.looking.hints.get(frame).and_then(Option::as_ref)
    }

    /// The places of the listed frames by their stars.
    fn by_stars(&self, reference: usize, list: &[usize]) -> Vec<Result<Placed, Lost>> {
        list.par_iter()
            .map(|i| match &self.catalogues[*i] {
                Ok(stars) if *i == reference => Ok(Placed::reference(stars)),
                _ => self.both(reference, *i).by_stars(),
            })
            .collect()
    }

    /// For those that their stars have not placed: by pattern, then by hand.
    fn by_other_ways(
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

/// Measures and registers all frames. A frame that is needed and fails is an error; another
/// is left out with its reason.
pub fn register(
    frames: &[Frame],
    wanted: &Registering<'_>,
    run: &Run<'_>,
) -> Result<Registered, Trouble> {
    let given = wanted
        .reference
        .map(|name| {
            frames
                .iter()
                .position(|f| f.is_called(name))
                .ok_or_else(|| Trouble::NoSuchFrame {
                    option: "--reference",
                    name: name.to_owned(),
                    frames: frames.iter().map(Frame::name).collect(),
                })
        })
        .transpose()?;
    let looking = &wanted.looking;
    let catalogues = measure(frames, wanted.needed, &looking.settings, run)?;
    run.clock.lap("stars");
    // Where no frame is needed more than another, all decide on the reference.
    let among: Vec<usize> = if wanted.needed.is_empty() {
        (0..frames.len()).collect()
    } else {
        wanted.needed.to_vec()
    };
    let field = Field {
        frames,
        catalogues: &catalogues,
        looking,
    };
    let on = place_all(&field, given, &among, run)?;
    for i in wanted.needed {
        if let Err(Lost::Unmatched(error)) = &on.placed[*i] {
            return Err(Trouble::Match {
                file: frames[*i].name(),
                reference: frames[on.reference].name(),
                error: *error,
            });
        }
    }
    run.clock.lap("register");
    let residuals = field.residuals(on.reference, &on.placed);
    let layout = lay_out(&field, on, wanted)?;
    Ok(Registered { layout, residuals })
}

/// What a command starts from, placed: the frames, how they lie, and those that a survey had left out before.
pub type Laid = (Vec<Frame>, Registered, Vec<LayoutFrame>);

/// The frames that a command starts from with their places: as their layout has them, or found now, on the reference that is
/// wanted or else on the one that a survey has proposed.
pub fn lay(start: Start, wanted: Registering<'_>, run: &Run<'_>) -> Result<Laid, Trouble> {
    let Start {
        frames,
        placed,
        reference,
        left_out,
        ..
    } = start;
    if let Some(layout) = placed {
        let residuals = Vec::new();
        return Ok((frames, Registered { layout, residuals }, left_out));
    }
    let proposed = reference.as_ref().map(|(file, _)| file.as_str());
    let wanted = Registering {
        reference: wanted.reference.or(proposed),
        ..wanted
    };
    let mut registered = register(&frames, &wanted, run)?;
    let own = &mut registered.layout.reference;
    if let Some((_, why)) = reference.filter(|(file, _)| *file == own.file) {
        own.why = why;
    }
    Ok((frames, registered, left_out))
}

/// A layout that is there and the frames that are to come into it: all frames, the layout's first, and how many these are.
pub fn opened_with(
    path: &Path,
    new: Vec<Frame>,
    relocate: &[(String, String)],
) -> Result<(Vec<Frame>, Layout, usize), Trouble> {
    let (mut frames, layout) = layout_file::open(path, relocate)?;
    inputs::update(path);
    if !layout.is_placed() {
        return Err(Trouble::NotPlaced(path.to_owned()));
    }
    refuse_known(path, &frames, &new)?;
    let count = frames.len();
    frames.extend(new);
    Ok((frames, layout, count))
}

/// Places further frames on the reference of a layout, whose own frames are the first `count` and stay
/// where they are. A frame that cannot be placed is added as left out.
pub fn register_into(
    mut layout: Layout,
    frames: &[Frame],
    count: usize,
    looking: &Looking,
    run: &Run<'_>,
) -> Result<Registered, Trouble> {
    let reference = layout.reference_index().unwrap_or(0);
    let mut list: Vec<usize> = vec![reference];
    list.extend(count..frames.len());
    let measured: Vec<&Frame> = list.iter().map(|i| &frames[*i]).collect();
    let found = measure(&measured, &[0], &looking.settings, run)?;
    run.clock.lap("stars");
    let mut catalogues: Vec<Measured> = frames
        .iter()
        .map(|_| Err(DetectError::NoData.into()))
        .collect();
    for (i, c) in list.iter().zip(found) {
        catalogues[*i] = c;
    }
    let field = Field {
        frames,
        catalogues: &catalogues,
        looking,
    };
    let new: Vec<usize> = (count..frames.len()).collect();
    let mut placed = field.by_stars(reference, &new);
    field.by_other_ways(reference, &new, &mut placed, run)?;
    let to_reference = layout.canvas.to_reference();
    for (i, placed) in new.iter().zip(&placed) {
        let map = placed.as_ref().ok().map(|p| &p.map);
        let placement: Option<Placement> =
            to_reference.as_ref().zip(map).and_then(|(c, m)| c.then(m));
        let row = Row {
            frame: &frames[*i],
            catalogue: catalogues[*i].as_ref().ok(),
            verdict: verdict(placed),
            record: placed
                .as_ref()
                .ok()
                .zip(placement.as_ref())
                .map(|(p, map)| record(map, &layout.canvas, p)),
            hint: field.hint(*i).cloned(),
            notes: placed
                .as_ref()
                .map_or_else(|_| Vec::new(), |p| p.notes.clone()),
        };
        layout.frames.push(row.write());
    }
    run.clock.lap("register");
    let mut residuals = vec![Vec::new(); count];
    residuals.extend(
        new.iter()
            .zip(&placed)
            .map(|(i, p)| field.of_one(reference, *i, p)),
    );
    Ok(Registered { layout, residuals })
}

fn verdict(placed: &Result<Placed, Lost>) -> Verdict {
    match placed {
        Ok(_) => Verdict::Used,
        Err(Lost::Unmatched(error)) => Verdict::LeftOut(why_left_out(error)),
        Err(lost) => Verdict::LeftOut(lost.to_string()),
    }
}

/// References that are tried before it is given up that one frame places all others.
const MOST_REFERENCES: usize = 4;

/// A reference, why it is one, and the place of every frame on it.
struct OnReference {
    reference: usize,
    why: String,
    placed: Vec<Result<Placed, Lost>>,
}

/// Places all frames on the first candidate that all needed frames can be placed on, or else on the
/// one that most can: a stray frame with many stars must not decide. If another one proves to lie nearer the middle,
/// on that one.
fn place_all(
    field: &Field<'_>,
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

/// Canvas, and placements on it.
fn lay_out(
    field: &Field<'_>,
    on: OnReference,
    wanted: &Registering<'_>,
) -> Result<Layout, Trouble> {
    let Field {
        frames, catalogues, ..
    } = *field;
    let OnReference {
        reference,
        why,
        placed,
    } = on;
    let (sky, disagreeing) = sky_of_reference(frames, &placed, reference);
    let canvas = canvas(wanted.canvas, frames, &placed, reference, sky.as_ref())?;
    let to_reference = canvas.to_reference();
    let placements: Vec<Option<Placement>> = placed
        .iter()
        .map(|p| to_reference.as_ref()?.then(&p.as_ref().ok()?.map))
        .collect();
    let mut rows = Vec::with_capacity(frames.len());
    for (i, f) in frames.iter().enumerate() {
        let mut notes = placed[i]
            .as_ref()
            .map_or_else(|_| Vec::new(), |p| p.notes.clone());
        if i == reference && field.hint(i).is_some() {
            notes.push("it is the reference, which your hint is not needed for".to_owned());
        }
        let said = disagreeing.iter().filter(|(k, _)| *k == i);
        notes.extend(said.map(|(_, said)| said.clone()));
        let row = Row {
            frame: f,
            catalogue: catalogues[i].as_ref().ok(),
            verdict: verdict(&placed[i]),
            record: placed[i]
                .as_ref()
                .ok()
                .zip(placements[i].as_ref())
                .map(|(p, map)| record(map, &canvas, p)),
            hint: field.hint(i).cloned(),
            notes,
        };
        rows.push(row.write());
    }
    Ok(Layout {
        format: FORMAT,
        reference: Reference {
            file: frames[reference].name(),
            plane: frames[reference].plane,
            why,
        },
        wcs: sky_of_canvas(&canvas, sky.as_ref(), &frames[reference]),
        levels: None,
        mosaic: None,
        canvas,
        frames: rows,
    })
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
