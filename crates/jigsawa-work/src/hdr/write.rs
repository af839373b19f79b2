//! The merge of a set into files: the frame, the map of its sources, and the errors if they are wanted.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_core::hdr::{Cascade, EVERYWHERE_FULL, Reprofiled};
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::{Budget, Input, Sampling, merge};
use jigsawa_core::resample::Shape;
use jigsawa_core::space::Rect;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;

use super::measure::Measured;
use super::sets::Set;
use crate::compose::{file_name, frame_line};
use crate::frames::Frame;
use crate::outputs::{begin, canvas_cards, sky_cards, stopped};
use crate::pixels::Pixels;
use crate::run::Run;
use crate::trouble::Trouble;

/// The files of a merged set, under temporary names still, and what they hold.
pub struct Merged {
    /// The merged frame.
    pub frame: Unfinished,
    /// Where each pixel comes from.
    pub map: Unfinished,
    /// Each pixel's error, if it is wanted.
    pub sigma: Option<Unfinished>,
    /// Pixels that come mostly from each exposure, the longest first.
    pub from: Vec<usize>,
    /// Pixels that are full in every exposure.
    pub saturated: usize,
}

/// Where the files go.
pub struct Paths {
    /// The merged frame.
    pub frame: PathBuf,
    /// The map of sources.
    pub map: PathBuf,
    /// The errors, if they are wanted.
    pub sigma: Option<PathBuf>,
}

impl Paths {
    /// For a set's files.
    pub fn new(folder: &Path, start: &str, filter: &str, sigma: bool) -> Self {
        let file = |ending: &str| folder.join(format!("{start}-{filter}-hdr{ending}"));
        Self {
            frame: file(".fits"),
            map: file("-map.fits"),
            sigma: sigma.then(|| file("-sigma.fits")),
        }
    }

    /// All that are written.
    pub fn all(&self) -> Vec<PathBuf> {
        let mut all = vec![self.frame.clone(), self.map.clone()];
        all.extend(self.sigma.clone());
        all
    }
}

/// Merges a set.
pub fn merge_set(
    set: &Set,
    measured: &Measured<'_>,
    (frames, layout): (&[Frame], &Layout),
    (paths, overwrite): (&Paths, bool),
    shape: Shape,
    run: &Run<'_>,
) -> Result<Merged, Trouble> {
    let Measured { exposures, joined } = measured;
    let sources: Vec<Pixels<'_>> = set.frames.iter().map(|i| frames[*i].source()).collect();
    let changed: Vec<Option<Reprofiled<'_, Pixels<'_>>>> = joined
        .iter()
        .zip(&set.frames)
        .map(|(j, i)| Some(Reprofiled::new(frames[*i].source(), j.profile.as_ref()?)))
        .collect();
    let inputs = inputs(measured, (&sources, &changed), shape);
    let cascade = Cascade {
        parts: joined.iter().map(|j| j.part).collect(),
        sky: exposures[0].light.sky,
        with_sigma: paths.sigma.is_some(),
    };
    let size = layout.canvas.size;
    let create = |path: &Path, planes: usize, depth: Depth, cards: &Cards| {
        FitsWriter::create(begin(path, overwrite)?, size, planes, depth, cards)
            .map_err(|error| wrong(path, error))
    };
    let mut sink = Sink {
        frame: create(
            &paths.frame,
            1,
            Depth::Float,
            &cards(set, measured, frames, layout),
        )?,
        map: create(
            &paths.map,
            3,
            Depth::Sixteen,
            &map_cards(set, frames, layout),
        )?,
        sigma: paths
            .sigma
            .as_ref()
            .map(|p| create(p, 1, Depth::Float, &sigma_cards(set, frames, layout)))
            .transpose()?,
        from: vec![0; set.frames.len()],
        saturated: 0,
        thousandths: Vec::new(),
    };
    let progress = run.begin("merge", 1);
    let budget = Budget { bytes: run.memory };
    merge(&inputs, size, &cascade, budget, &mut sink, &|done, all| {
        progress.of(done, all);
    })
    .map_err(|e| stopped(e, |input| frames[set.frames[input]].name(), &paths.frame))?;
    Ok(Merged {
        frame: sink.frame.complete().map_err(|e| wrong(&paths.frame, e))?,
        map: sink.map.complete().map_err(|e| wrong(&paths.map, e))?,
        sigma: sink
            .sigma
            .map(FitsWriter::complete)
            .transpose()
            .map_err(|e| wrong(&paths.frame, e))?,
        from: sink.from,
        saturated: sink.saturated,
    })
}

/// Each exposure with how far its pixels are valid.
fn inputs<'b>(
    measured: &'b Measured<'b>,
    (sources, changed): (&'b [Pixels<'b>], &'b [Option<Reprofiled<'b, Pixels<'b>>>]),
    shape: Shape,
) -> Vec<Input<'b>> {
    let Measured { exposures, joined } = measured;
    exposures
        .iter()
        .zip(joined)
        .enumerate()
        .map(|(k, (e, j))| {
            let source: &dyn FrameSource = match &changed[k] {
                Some(c) => c,
                None => &sources[k],
            };
            Input {
                validity: Some(&e.mask),
                saturation: e.limit,
                sampling: Sampling {
                    shape,
                    ..Sampling::default()
                }
                .for_stars(Some(e.member().catalogue.fwhm_px)),
                ..Input::new(source, e.member().placement.clone(), j.balance.clone())
            }
        })
        .collect()
}

fn wrong(path: &Path, error: jigsawa_formats::error::FileError) -> Trouble {
    Trouble::Write {
        file: path.to_owned(),
        error,
    }
}

/// Pixels that are counted at a time, while they lie in the cache.
const COUNTED: usize = 4096;

/// How many have this number.
fn count(sources: &[f32], number: f32) -> usize {
    let each = sources.iter().map(|s| u32::from(*s == number));
    each.sum::<u32>() as usize
}

/// Takes the merge's planes apart into files, and counts where pixels come from.
struct Sink {
    frame: FitsWriter,
    map: FitsWriter,
    sigma: Option<FitsWriter>,
    from: Vec<usize>,
    saturated: usize,
    thousandths: Vec<f32>,
}

impl TileSink for Sink {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        self.frame.put(rect, &planes[..1])?;
        for sources in planes[1].chunks(COUNTED) {
            self.saturated += count(sources, EVERYWHERE_FULL);
            for (k, from) in self.from.iter_mut().enumerate() {
                *from += count(sources, (k + 1).single());
            }
        }
        self.thousandths.clear();
        self.thousandths
            .extend(planes[2].iter().map(|w| 1000.0 * w));
        self.map
            .put(rect, &[planes[1], &self.thousandths, planes[3]])?;
        match (&mut self.sigma, planes.get(4)) {
            (Some(file), Some(sigma)) => file.put(rect, &[sigma]),
            _ => Ok(()),
        }
    }
}

/// What all files of a set say.
fn common_cards(set: &Set, frames: &[Frame], layout: &Layout) -> Cards {
    let first = &frames[set.frames[0]];
    let mut cards = Cards::default();
    let object = set
        .frames
        .iter()
        .find_map(|i| frames[*i].facts.object.as_deref());
    if let Some(object) = object {
        cards.text("OBJECT", object, "target");
    }
    cards.text("FILTER", set.filter.name(), "");
    if let Some(camera) = &first.facts.camera {
        cards.text("INSTRUME", camera, "");
    }
    canvas_cards(layout, &mut cards);
    sky_cards(layout, frames, &mut cards);
    cards
}

/// What a merged frame is, and what it was made of.
fn cards(set: &Set, measured: &Measured<'_>, frames: &[Frame], layout: &Layout) -> Cards {
    let mut cards = common_cards(set, frames, layout);
    let facts = |i: &usize| &frames[*i].facts;
    let numbers = [
        (
            "EXPTIME",
            facts(&set.frames[0]).exposure_s,
            "[s] of the longest, whose units these are",
        ),
        (
            "EGAIN",
            facts(&set.frames[0]).gain_e_adu,
            "[e-/adu] of the longest",
        ),
    ];
    for (name, value, words) in numbers {
        if let Some(value) = value {
            cards.number(name, value, words);
        }
    }
    let total: Option<f64> = set.frames.iter().map(|i| facts(i).total_s).sum();
    if let Some(total) = total {
        cards.number("EXPTOTAL", total, "all exposures together, in seconds");
    }
    if let Some(date) = set
        .frames
        .iter()
        .filter_map(|i| facts(i).date.as_ref())
        .min()
    {
        cards.text("DATE-OBS", date, "start of the first");
    }
    // What fills the shortest exposure fills the merged frame.
    if let (Some(e), Some(j)) = (measured.exposures.last(), measured.joined.last())
        && e.limit.is_finite()
    {
        let middle = layout.canvas.size.centre();
        cards.number("SATURATE", j.balance.apply(f64::from(e.limit), middle), "");
    }
    cards.history("exposures merged by inverse variance, each where it is not full");
    cards.history(&format!("reference: {}", file_name(&layout.reference.file)));
    for (i, e) in set.frames.iter().zip(&measured.exposures) {
        let seconds = facts(i).exposure_s.unwrap_or(0.0);
        cards.history(&format!(
            "{}, {seconds} s, up to {:.1}",
            frame_line(&layout.frames[*i]),
            e.limit
        ));
    }
    cards
}

fn map_cards(set: &Set, frames: &[Frame], layout: &Layout) -> Cards {
    let mut cards = common_cards(set, frames, layout);
    cards.history("plane 1: number of the exposure that a pixel comes from most");
    for (k, i) in set.frames.iter().enumerate() {
        let seconds = frames[*i].facts.exposure_s.unwrap_or(0.0);
        cards.history(&format!(
            "{} is {}, {seconds} s",
            k + 1,
            file_name(&frames[*i].name())
        ));
    }
    cards.history("99 is full in every exposure, 0 is no data");
    cards.history("plane 2: its weight in thousandths");
    cards.history("plane 3: how many exposures count at all");
    cards
}

fn sigma_cards(set: &Set, frames: &[Frame], layout: &Layout) -> Cards {
    let mut cards = common_cards(set, frames, layout);
    cards.history("standard error of each pixel; infinite where every exposure is full");
    cards
}
