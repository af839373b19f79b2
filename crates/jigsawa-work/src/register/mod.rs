//! From frames to a layout: stars, reference, places, canvas.

mod all;
mod hints;
mod lay_out;
mod measure;
mod place;
mod reference;

use std::path::Path;

use jigsawa_core::layout::{FORMAT, Layout, LayoutFrame, Reference};
use jigsawa_core::matching::Hint;
use jigsawa_core::placement::{Model, Placement};
use jigsawa_core::stars::{DetectError, Settings};
use jigsawa_formats::inputs;

pub use hints::{HintArg, PairArg, hints};
pub use measure::{Measured, Unmeasured, measure};
pub use place::Residual;

use crate::frames::Frame;
use crate::layout_file;
use crate::run::Run;
use crate::start::{Start, refuse_known};
use crate::trouble::Trouble;
use all::{MeasuredFrames, OnReference, place_all, verdict};
pub use lay_out::CanvasSettings;
pub use lay_out::Row;
use lay_out::{canvas, record, sky_of_canvas, sky_of_reference};
use place::Lost;

/// How frames are to be registered.
#[derive(Default)]
pub struct RegisterSettings<'a> {
    /// The reference that the user, or a survey, wants.
    pub reference: Option<&'a str>,
    /// The canvas.
    pub canvas: CanvasSettings,
    /// Frames that must not be left out.
    pub needed: &'a [usize],
    /// How stars and maps are looked for.
    pub search: SearchSettings,
}

/// How stars and maps are looked for.
pub struct SearchSettings {
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
pub fn usual_stars() -> Settings {
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
        ..usual_stars()
    }
}

impl Default for SearchSettings {
    fn default() -> Self {
        Self {
            model: None,
            hints: Vec::new(),
            settings: usual_stars(),
        }
    }
}

/// A layout, and what it rests on.
pub struct Registered {
    /// All frames with their places or verdicts.
    pub layout: Layout,
    /// The matched stars of each frame of the layout; none of those that were there before.
    pub residuals: Vec<Vec<Residual>>,
}

/// Measures and registers all frames. A frame that is needed and fails is an error; another
/// is left out with its reason.
pub fn register(
    frames: &[Frame],
    wanted: &RegisterSettings<'_>,
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
    let search = &wanted.search;
    let catalogues = measure(frames, wanted.needed, &search.settings, run)?;
    run.clock.lap("stars");
    // Where no frame is needed more than another, all decide on the reference.
    let among: Vec<usize> = if wanted.needed.is_empty() {
        (0..frames.len()).collect()
    } else {
        wanted.needed.to_vec()
    };
    let all = MeasuredFrames {
        frames,
        catalogues: &catalogues,
        search,
    };
    let on = place_all(&all, given, &among, run)?;
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
    let residuals = all.residuals(on.reference, &on.placed);
    let layout = lay_out(&all, on, wanted)?;
    Ok(Registered { layout, residuals })
}

/// What a command starts from, placed: the frames, how they lie, and those that a survey had left out before.
pub type Laid = (Vec<Frame>, Registered, Vec<LayoutFrame>);

/// The frames that a command starts from with their places: as their layout has them, or found now, on the reference that is
/// wanted or else on the one that a survey has proposed.
pub fn lay(start: Start, wanted: RegisterSettings<'_>, run: &Run<'_>) -> Result<Laid, Trouble> {
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
    let wanted = RegisterSettings {
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
    search: &SearchSettings,
    run: &Run<'_>,
) -> Result<Registered, Trouble> {
    let reference = layout.reference_index().unwrap_or(0);
    let mut list: Vec<usize> = vec![reference];
    list.extend(count..frames.len());
    let measured: Vec<&Frame> = list.iter().map(|i| &frames[*i]).collect();
    let found = measure(&measured, &[0], &search.settings, run)?;
    run.clock.lap("stars");
    let mut catalogues: Vec<Measured> = frames
        .iter()
        .map(|_| Err(DetectError::NoData.into()))
        .collect();
    for (i, c) in list.iter().zip(found) {
        catalogues[*i] = c;
    }
    let all = MeasuredFrames {
        frames,
        catalogues: &catalogues,
        search,
    };
    let new: Vec<usize> = (count..frames.len()).collect();
    let mut placed = all.by_stars(reference, &new);
    all.by_other_ways(reference, &new, &mut placed, run)?;
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
            hint: all.hint(*i).cloned(),
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
            .map(|(i, p)| all.of_one(reference, *i, p)),
    );
    Ok(Registered { layout, residuals })
}

/// Canvas, and placements on it.
fn lay_out(
    all: &MeasuredFrames<'_>,
    on: OnReference,
    wanted: &RegisterSettings<'_>,
) -> Result<Layout, Trouble> {
    let MeasuredFrames {
        frames, catalogues, ..
    } = *all;
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
        if i == reference && all.hint(i).is_some() {
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
            hint: all.hint(i).cloned(),
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
