//! The merge of a set into files: the master, and the map of what is in each of its pixels.

use std::path::{Path, PathBuf};

use jigsawa_core::balance::Balance;
use jigsawa_core::doors::{DoorError, TileSink};
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::{Budget, Input, Sampling, merge, merge_parts, parts};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::resample::Shape;
use jigsawa_core::space::{Rect, Size};
use jigsawa_core::stack::{
    Group, PLANES, Pass, Rejected, Rejection, Residuals, Rule, Stacked, Streak, streaks,
};
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::drop::{DroppedHow, First};
use super::kept::picture;
use super::lights::{Lights, Stacking, lights};
use super::sets::{Set, is_even, total_s};
use crate::compose::{file_name, frame_line};
use crate::frames::Frame;
use crate::normalize::Field;
use crate::outputs::{begin, canvas_cards, sky_cards, stopped};
use crate::pixels::Pixels;
use crate::run::Run;
use crate::trouble::Trouble;

/// Where the files of a set go.
#[derive(Debug)]
pub struct Paths {
    /// The master.
    pub master: PathBuf,
    /// The map of what is in it.
    pub map: PathBuf,
}

impl Paths {
    /// For a set's files.
    pub fn new(folder: &Path, start: &str, part: &str) -> Self {
        let file = |ending: &str| folder.join(format!("{start}-{part}-master{ending}.fits"));
        Self {
            master: file(""),
            map: file("-map"),
        }
    }
}

/// A master, its files under temporary names still; or one that is kept, with what tells its files.
#[derive(Serialize, Deserialize)]
pub struct Master<F = Unfinished> {
    /// The master.
    pub file: F,
    /// The map.
    pub map: F,
    /// How outliers were told.
    pub rejection: Rejection,
    /// The frame whose units it has.
    pub units_of: usize,
    /// The frames, plane after plane.
    pub frames: Vec<OfFrame>,
    /// The noise of its sky, or of green's.
    pub noise: f64,
    /// The mean of what its map tells of all pixels' noise.
    pub(super) mean_noise: f64,
    /// Values in a pixel on average, where there are any.
    pub depth: f64,
    /// Pixels without any.
    pub empty: usize,
    /// How its pixels were dropped, where they were.
    pub dropped: Option<DroppedHow>,
}

impl<F> Master<F> {
    /// The same with other files.
    pub(super) fn with<G>(&self, file: G, map: G) -> Master<G> {
        Master {
            file,
            map,
            rejection: self.rejection,
            units_of: self.units_of,
            frames: self.frames.clone(),
            noise: self.noise,
            mean_noise: self.mean_noise,
            depth: self.depth,
            empty: self.empty,
            dropped: self.dropped,
        }
    }
}

/// A frame's part in a master.
#[derive(Clone, Serialize, Deserialize)]
pub struct OfFrame {
    /// Its number in the layout.
    pub frame: usize,
    /// How much it counts.
    pub weight: f64,
    /// The noise of its sky in the master's units.
    pub noise: f64,
    /// Its values on the canvas.
    pub values: u64,
    /// Values that were rejected.
    pub rejected: u64,
    /// Trails that were found in it.
    pub streaks: Vec<Streak>,
    /// What was rejected where: pixels of each block of the canvas.
    #[serde(with = "picture")]
    pub picture: Plane,
}

impl OfFrame {
    /// The part of its values that was rejected.
    pub fn part_rejected(&self) -> f64 {
        self.rejected.real() / self.values.max(1).real()
    }
}

/// Parts of the canvas that are merged again where something was found: small, since a trail touches many tiles and little
/// of each, and whole cells of the noise.
const AGAIN: (usize, usize) = (128, 32);

/// Merges a set.
pub fn merge_set(
    set: &Set,
    (field, layout): (&Field<'_>, &Layout),
    (paths, overwrite): (&Paths, bool),
    (how, shape): (&Stacking, Shape),
    run: &Run<'_>,
) -> Result<Master, Trouble> {
    let frames = field.frames;
    let planes: Vec<Lights> = set
        .planes
        .iter()
        .map(|list| lights(list, set, (field, layout)))
        .collect::<Result<_, _>>()?;
    let rejection = how.rejection(&planes[planes.len() / 2].parts);
    let order: Vec<usize> = set.all().collect();
    let sources: Vec<Pixels<'_>> = order.iter().map(|i| frames[*i].source()).collect();
    let balances = planes.iter().flat_map(|p| &p.balances);
    let each = order.iter().zip(&sources).zip(balances);
    let inputs: Vec<Input<'_>> = each
        .map(|((i, source), balance)| input((field, layout), *i, source, balance, shape))
        .collect::<Result<_, _>>()?;
    let size = layout.canvas.size;
    let mut head = cards(set, &planes, &rejection, (frames, layout));
    if let Some(full) = saturation(&inputs) {
        head.number("SATURATE", full, "what is brighter may be full in a frame");
    }
    let heads = [head, map_cards(set, &MAP, (frames, layout))];
    let mut sink = Sink::create((paths, overwrite), (planes.len(), PLANES), size, heads)?;
    let units_of = planes[0].units_of;
    let mut op = Stacked {
        groups: groups(planes, rejection),
        rejected: Rejected::new(size, order.len()),
        pass: Pass::First(Residuals::new(size, order.len())),
    };
    let budget = Budget { bytes: run.memory };
    let wrong = |e| stopped(e, |input| frames[order[input]].name(), &paths.master);
    let progress = run.begin("stack", 1);
    let done = |done, all| progress.of(done, all);
    merge(&inputs, size, &op, budget, &mut sink, &done).map_err(wrong)?;
    drop(progress);
    let found = trails(&op, &rejection);
    if found.iter().any(|f| !f.is_empty()) {
        let touched = |r: &Rect| found.iter().flatten().any(|s| s.touches(*r));
        let again: Vec<Rect> = parts(size, AGAIN).into_iter().filter(touched).collect();
        op.pass = Pass::Without(found.clone());
        sink.again = true;
        let progress = run.begin("trails", 1);
        let done = |done, all| progress.of(done, all);
        merge_parts(&inputs, &again, &op, budget, &mut sink, &done).map_err(wrong)?;
    }
    let master = finished((&op, units_of), &order, found, sink, paths)?;
    let Some(drops) = how.drops_of(set, frames) else {
        return Ok(master);
    };
    let first = First {
        master,
        op,
        inputs: &inputs,
        order: &order,
    };
    first.dropped(drops, (set, frames, layout), (paths, overwrite), run)
}

/// Trails in each input, where enough of them tell what is usual.
fn trails(op: &Stacked, rejection: &Rejection) -> Vec<Vec<Streak>> {
    let inputs: usize = op.groups.iter().map(|g| g.inputs.len()).sum();
    match &op.pass {
        Pass::First(residuals) if rejection.rule != Rule::None => (0..inputs)
            .into_par_iter()
            .map(|k| streaks(&residuals.plane(k)))
            .collect(),
        _ => vec![Vec::new(); inputs],
    }
}

/// A frame as it is merged.
pub(super) fn input<'b>(
    (field, layout): (&Field<'_>, &Layout),
    i: usize,
    source: &'b Pixels<'b>,
    balance: &Balance,
    shape: Shape,
) -> Result<Input<'b>, Trouble> {
    let row = &layout.frames[i];
    let placement = field.placements[i].clone();
    let placement = placement.ok_or_else(|| Trouble::LeftOut {
        file: field.frames[i].name(),
        reason: "it has no placement".to_owned(),
    })?;
    let sampling = Sampling {
        shape,
        ..Sampling::default()
    };
    Ok(Input {
        saturation: row.saturation.unwrap_or(f32::INFINITY),
        sampling: sampling.for_stars(row.measured.fwhm_px),
        ..Input::new(source, placement, balance.clone())
    })
}

/// The frames of each plane as the method takes them.
fn groups(planes: Vec<Lights>, rejection: Rejection) -> Vec<Group> {
    let mut first = 0;
    let group = |plane: Lights| {
        let inputs = first..first + plane.parts.len();
        first = inputs.end;
        Group {
            inputs,
            lights: plane.parts,
            sky: plane.sky,
            rejection,
        }
    };
    planes.into_iter().map(group).collect()
}

/// What has come out.
fn finished(
    (op, units_of): (&Stacked, usize),
    order: &[usize],
    found: Vec<Vec<Streak>>,
    sink: Sink,
    paths: &Paths,
) -> Result<Master, Trouble> {
    let lights = op.groups.iter().flat_map(|g| &g.lights);
    let frames = order.iter().zip(lights).zip(found).enumerate();
    let frames = frames.map(|(k, ((frame, light), streaks))| OfFrame {
        frame: *frame,
        weight: f64::from(light.weight),
        noise: f64::from(light.noise.typical()),
        values: op.rejected.values(k),
        rejected: op.rejected.of(k),
        streaks,
        picture: op.rejected.picture(k),
    });
    let frames: Vec<OfFrame> = frames.collect();
    // Of three colours the middle one speaks for all.
    let middle = &frames[op.groups[op.groups.len() / 2].inputs.clone()];
    let covered = sink.pixels - sink.empty;
    let depth = sink.values / covered.max(1).real();
    let weights: f64 = middle.iter().map(|f| f.weight).sum();
    let variance: f64 = middle.iter().map(|f| (f.weight * f.noise).powi(2)).sum();
    let all = middle.len().real();
    Ok(Master {
        rejection: op.groups[0].rejection,
        units_of,
        noise: variance.sqrt() / weights * (all / depth.max(1.0)).sqrt(),
        mean_noise: sink.mean_noise(),
        depth,
        empty: sink.empty,
        dropped: None,
        frames,
        file: sink
            .master
            .complete()
            .map_err(|e| wrong(&paths.master, e))?,
        map: sink.map.complete().map_err(|e| wrong(&paths.map, e))?,
    })
}

/// What the planes of the map hold, for each plane of the master.
const MAP: [&str; PLANES - 1] = [
    "values in the mean",
    "rejected below",
    "rejected above",
    "noise",
];

pub(super) fn wrong(path: &Path, error: FileError) -> Trouble {
    Trouble::Write {
        file: path.to_owned(),
        error,
    }
}

/// Takes the merge's planes apart into files.
pub(super) struct Sink {
    pub(super) master: FitsWriter,
    pub(super) map: FitsWriter,
    /// Planes that the method gives for one of the master: the mean, the values in it, and others.
    of_each: usize,
    pub(super) values: f64,
    /// Sum of the errors of pixels that have any.
    errors: f64,
    pub(super) pixels: usize,
    pub(super) empty: usize,
    /// Parts are written over what is there.
    again: bool,
}

impl Sink {
    /// The files of a master of so many planes, begun.
    pub(super) fn create(
        (paths, overwrite): (&Paths, bool),
        (planes, of_each): (usize, usize),
        size: Size,
        [cards, map_cards]: [Cards; 2],
    ) -> Result<Self, Trouble> {
        let create = |path: &Path, planes: usize, cards: &Cards| {
            FitsWriter::create(begin(path, overwrite)?, size, planes, Depth::Float, cards)
                .map_err(|error| wrong(path, error))
        };
        Ok(Self {
            master: create(&paths.master, planes, &cards)?,
            map: create(&paths.map, (of_each - 1) * planes, &map_cards)?,
            of_each,
            values: 0.0,
            errors: 0.0,
            pixels: size.area(),
            empty: 0,
            again: false,
        })
    }
}

impl Sink {
    /// The mean of what is told of all pixels' noise.
    pub(super) fn mean_noise(&self) -> f64 {
        self.errors / (self.pixels - self.empty).max(1).real()
    }
}

impl TileSink for Sink {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        let (mut masters, mut maps) = (Vec::new(), Vec::new());
        for of_one in planes.chunks_exact(self.of_each) {
            masters.push(of_one[0]);
            maps.extend_from_slice(&of_one[1..]);
        }
        if self.again {
            self.master.patch(rect, &masters).map_err(boxed)?;
            return self.map.patch(rect, &maps).map_err(boxed);
        }
        // Of three colours the middle one speaks for all.
        let middle = masters.len() / 2 * self.of_each;
        let (counts, errors) = (planes[middle + 1], planes[middle + self.of_each - 1]);
        for (count, error) in counts.iter().zip(errors) {
            self.values += f64::from(*count);
            self.empty += usize::from(*count == 0.0);
            self.errors += if error.is_finite() {
                f64::from(*error)
            } else {
                0.0
            };
        }
        self.master.put(rect, &masters)?;
        self.map.put(rect, &maps)
    }
}

fn boxed(error: FileError) -> DoorError {
    DoorError(Box::new(error))
}

/// The value above which a pixel of the master may have been full in some frame.
fn saturation(inputs: &[Input<'_>]) -> Option<f64> {
    let full = inputs.iter().filter(|i| i.saturation.is_finite()).map(|i| {
        let middle = i.placement.invert().apply(i.source.size().centre());
        i.balance.apply(f64::from(i.saturation), middle)
    });
    full.min_by(f64::total_cmp)
}

/// What both files say.
fn common_cards(set: &Set, (frames, layout): (&[Frame], &Layout)) -> Cards {
    let mut cards = Cards::default();
    let mut facts = set.all().map(|i| &frames[i].facts);
    let first = facts.next();
    let object = first
        .into_iter()
        .chain(facts)
        .find_map(|f| f.object.as_deref());
    if let Some(object) = object {
        cards.text("OBJECT", object, "target");
    }
    if let Some(filter) = &set.filter {
        cards.text("FILTER", filter.name(), "");
    }
    let texts = first.map(|f| [("INSTRUME", &f.camera), ("TELESCOP", &f.telescope)]);
    for (name, text) in texts.into_iter().flatten() {
        if let Some(text) = text {
            cards.text(name, text, "");
        }
    }
    canvas_cards(layout, &mut cards);
    sky_cards(layout, frames, &mut cards);
    cards
}

/// What a master is, and what it was made of.
fn cards(
    set: &Set,
    planes: &[Lights],
    rejection: &Rejection,
    (frames, layout): (&[Frame], &Layout),
) -> Cards {
    let mut cards = common_cards(set, (frames, layout));
    let units_of = &frames[planes[0].units_of].facts;
    cards.number("NCOMBINE", set.frames().real(), "frames in it");
    if let Some(seconds) = units_of.exposure_s {
        let words = if is_even(set, frames) {
            "[s] of each frame"
        } else {
            "[s] of the frame whose units these are"
        };
        cards.number("EXPTIME", seconds, words);
    }
    if let Some(total) = total_s(set, frames) {
        cards.number("EXPTOTAL", total, "all exposures together, in seconds");
    }
    if let Some(gain) = gain(&planes[planes.len() / 2]).filter(|_| units_of.gain_e_adu.is_some()) {
        cards.number("EGAIN", gain, "[e-/adu] of the mean of all frames");
    }
    if let Some(date) = set
        .all()
        .filter_map(|i| frames[i].facts.date.as_ref())
        .min()
    {
        cards.text("DATE-OBS", date, "start of the first");
    }
    cards.history(&format!(
        "stack: weighted mean, rejection {} {} below, {} above",
        rejection.rule.name(),
        rejection.low,
        rejection.high
    ));
    cards.history(&format!("reference: {}", file_name(&layout.reference.file)));
    for (list, plane) in set.planes.iter().zip(planes) {
        for (i, light) in list.iter().zip(&plane.parts) {
            let line = frame_line(&layout.frames[*i]);
            cards.history(&format!("{line}, weight {:.4}", light.weight));
        }
    }
    cards
}

/// Electrons for a unit of the mean: its photons' variance is their number over it.
fn gain(plane: &Lights) -> Option<f64> {
    let (mut weight, mut variance) = (0.0, 0.0);
    for l in &plane.parts {
        weight += f64::from(l.weight);
        variance += f64::from(l.weight).powi(2) * f64::from(l.photons);
    }
    let gain = weight * weight / variance;
    (gain.is_finite() && gain > 0.0).then_some(gain)
}

/// What a map says of its planes.
pub(super) fn map_cards(set: &Set, planes: &[&str], of: (&[Frame], &Layout)) -> Cards {
    let mut cards = common_cards(set, of);
    let colours = ["red", "green", "blue"];
    for p in 0..set.planes.len() {
        let what = if set.planes.len() > 1 {
            format!("{}: ", colours[p.min(2)])
        } else {
            String::new()
        };
        let first = planes.len() * p + 1;
        cards.history(&format!(
            "planes {first} to {}: {what}{}",
            first + planes.len() - 1,
            planes.join(", ")
        ));
    }
    cards
}
