//! The panels of a filter joined into files: the frame, and the map if it is wanted.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::doors::{DoorError, TileSink};
use jigsawa_core::filter::Filter;
use jigsawa_core::layout::{Layout, PlacementRecord};
use jigsawa_core::merge::{Budget, Input, LeftOut, Sampling, merge};
use jigsawa_core::mosaic::blend::{Join, JoinPanels};
use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::resample::Shape;
use jigsawa_core::space::{Point, Rect, Size};
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;

use super::names::Panel;
use crate::compose::{file_name, frame_line};
use crate::frames::Frame;
use crate::outputs::{begin, canvas_cards, sky_cards, stopped};
use crate::pixels::Pixels;
use crate::run::Run;
use crate::trouble::Trouble;

/// Where the files of a filter go.
pub struct Paths {
    /// The joined frame.
    pub frame: PathBuf,
    /// The map of panels and noise, if it is wanted.
    pub map: Option<PathBuf>,
    /// A quick picture, if it is wanted.
    pub picture: Option<PathBuf>,
}

/// A filter to be joined.
pub struct ToJoin<'a> {
    /// The filter.
    pub filter: &'a Filter,
    /// Its frames by panels: (number among all frames, panel, covered part).
    pub frames: Vec<(usize, usize, &'a Coverage)>,
    /// All panels.
    pub panels: &'a [Panel],
    /// How panels share the canvas.
    pub join: &'a Join,
    /// Counts what one of several frames of a panel alone shows.
    pub left_out: &'a LeftOut,
}

/// A joined filter: files under temporary names, and a small copy.
pub struct Joined {
    /// The joined frame.
    pub frame: Unfinished,
    /// The map of panels and noise.
    pub map: Option<Unfinished>,
    /// A small copy for pictures.
    pub small: SmallCopy,
}

/// What is told of a filter in its header: panels that are averaged or joined.
const HOW: [&str; 2] = [
    "panels joined along seams, each star from one of them",
    "panels averaged by their noise where they overlap",
];

/// Joins a filter.
pub fn join_filter(
    to: &ToJoin<'_>,
    (frames, layout): (&[Frame], &Layout),
    (paths, overwrite): (&Paths, bool),
    (shape, average): (Shape, bool),
    run: &Run<'_>,
) -> Result<Joined, Trouble> {
    let size = layout.canvas.size;
    let sources: Vec<Pixels<'_>> = to
        .frames
        .iter()
        .map(|(i, ..)| frames[*i].source())
        .collect();
    let mut inputs: Vec<Input<'_>> = Vec::new();
    let mut noise = Vec::new();
    let mut counts = Vec::new();
    for ((i, panel, coverage), source) in to.frames.iter().zip(&sources) {
        let row = &layout.frames[*i];
        let placement = row.placement.as_ref().and_then(PlacementRecord::placement);
        let (Some(placement), Some(balance)) = (placement, row.balance.clone()) else {
            continue;
        };
        noise.push((balance.scale.value * balance.noise_adu).single());
        counts.push((*panel, balance.weight.single()));
        inputs.push(Input {
            mask: Some(*coverage),
            saturation: row.saturation.unwrap_or(f32::INFINITY),
            sampling: Sampling {
                shape,
                ..Sampling::default()
            }
            .for_stars(row.measured.fwhm_px),
            ..Input::new(source, placement, balance)
        });
    }
    let op = JoinPanels {
        join: to.join,
        frames: &counts,
        panels: to.panels.len(),
        noise: &noise,
        sky: inputs.first().map_or(0.0, sky_of),
        maps: paths.map.is_some(),
        left_out: to.left_out,
    };
    let create = |path: &Path, planes: usize, cards: &Cards| {
        FitsWriter::create(begin(path, overwrite)?, size, planes, Depth::Float, cards).map_err(
            |error| Trouble::Write {
                file: path.to_owned(),
                error,
            },
        )
    };
    let mut sink = Sink {
        frame: create(&paths.frame, 1, &cards(to, frames, layout, average))?,
        map: paths
            .map
            .as_ref()
            .map(|p| create(p, 3, &map_cards(to, frames, layout)))
            .transpose()?,
        small: SmallCopy::new(size),
        join: to.join,
        labels: Vec::new(),
    };
    let progress = run.begin("join", 1);
    let budget = Budget { bytes: run.memory };
    merge(&inputs, size, &op, budget, &mut sink, &|done, all| {
        progress.of(done, all);
    })
    .map_err(|e| {
        let name = |k: usize| {
            to.frames
                .get(k)
                .map_or_else(String::new, |(i, ..)| frames[*i].name())
        };
        stopped(e, name, &paths.frame)
    })?;
    let wrong = |error| Trouble::Write {
        file: paths.frame.clone(),
        error,
    };
    Ok(Joined {
        frame: sink.frame.complete().map_err(wrong)?,
        map: sink
            .map
            .map(FitsWriter::complete)
            .transpose()
            .map_err(wrong)?,
        small: sink.small,
    })
}

/// The sky of a balanced frame, in its middle.
fn sky_of(input: &Input<'_>) -> f32 {
    let middle = input.source.size().centre();
    let at = input.placement.invert().apply(middle);
    input.balance.apply(input.balance.sky_adu, at).single()
}

/// The means over blocks of the canvas, made while it goes by.
pub struct SmallCopy {
    pub step: usize,
    pub size: Size,
    sums: Vec<f32>,
    counts: Vec<u32>,
}

/// The longer side of the copy.
const LONGEST: usize = 2400;

impl SmallCopy {
    fn new(canvas: Size) -> Self {
        let step = canvas.width().max(canvas.height()).div_ceil(LONGEST).max(1);
        let side = |n: usize| n.div_ceil(step);
        let size = Size::new(side(canvas.width()), side(canvas.height()));
        let size = size.unwrap_or_else(|| unreachable!("a canvas has pixels"));
        Self {
            step,
            size,
            sums: vec![0.0; size.area()],
            counts: vec![0; size.area()],
        }
    }

    fn put(&mut self, rect: Rect, values: &[f32]) {
        for (y, row) in (rect.y.index()..).zip(values.chunks_exact(rect.width)) {
            let at = (y / self.step) * self.size.width();
            for (x, v) in (rect.x.index()..).zip(row) {
                if v.is_finite() {
                    let i = at + x / self.step;
                    self.sums[i] += v;
                    self.counts[i] += 1;
                }
            }
        }
    }

    /// The copy; NaN where there is nothing.
    pub fn plane(&self) -> jigsawa_core::plane::Plane {
        let w = self.size.width();
        jigsawa_core::plane::Plane::from_fn(self.size, |x, y| {
            let i = y * w + x;
            self.sums[i] / self.counts[i].single()
        })
    }
}

struct Sink<'a> {
    frame: FitsWriter,
    map: Option<FitsWriter>,
    small: SmallCopy,
    join: &'a Join,
    labels: Vec<f32>,
}

impl TileSink for Sink<'_> {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        self.frame.put(rect, &planes[..1])?;
        self.small.put(rect, planes[0]);
        if let (Some(map), [value, noise, count]) = (&mut self.map, planes) {
            self.labels.clear();
            self.labels.extend((0..rect.area()).map(|k| {
                let (x, y) = (
                    rect.x.index() + k % rect.width,
                    rect.y.index() + k / rect.width,
                );
                let label = self.join.label(x, y).filter(|_| value[k].is_finite());
                label.map_or(0.0, |p| p.single() + 1.0)
            }));
            map.put(rect, &[&self.labels, noise, count])?;
        }
        Ok(())
    }
}

fn common_cards(to: &ToJoin<'_>, frames: &[Frame], layout: &Layout) -> Cards {
    let mut cards = Cards::default();
    let facts = || to.frames.iter().map(|(i, ..)| &frames[*i].facts);
    if let Some(object) = facts().find_map(|f| f.object.as_deref()) {
        cards.text("OBJECT", object, "target");
    }
    cards.text("FILTER", to.filter.name(), "");
    if let Some(camera) = facts().find_map(|f| f.camera.as_deref()) {
        cards.text("INSTRUME", camera, "");
    }
    canvas_cards(layout, &mut cards);
    sky_cards(layout, frames, &mut cards);
    cards
}

fn cards(to: &ToJoin<'_>, frames: &[Frame], layout: &Layout, average: bool) -> Cards {
    let mut cards = common_cards(to, frames, layout);
    // The values are in the units of the frame that the others were brought to.
    let levels = layout.levels.iter().flat_map(|l| &l.references);
    let unit = to
        .frames
        .iter()
        .map(|(i, ..)| *i)
        .find(|i| levels.clone().any(|l| l.frame == *i));
    let numbers = unit.map(|i| &frames[i].facts).map(|f| {
        [
            (
                "EXPTIME",
                f.exposure_s,
                "[s] of the panel whose units these are",
            ),
            (
                "EGAIN",
                f.gain_e_adu,
                "[e-/adu] of the panel whose units these are",
            ),
        ]
    });
    for (name, value, words) in numbers.into_iter().flatten() {
        if let Some(value) = value {
            cards.number(name, value, words);
        }
    }
    let dates = to.frames.iter().map(|(i, ..)| &frames[*i].facts);
    if let Some(date) = dates.filter_map(|f| f.date.as_ref()).min() {
        cards.text("DATE-OBS", date, "start of the first");
    }
    // The lowest value that is full in any panel.
    let full = to.frames.iter().filter_map(|(i, ..)| {
        let row = &layout.frames[*i];
        let (full, balance) = (row.saturation?, row.balance.as_ref()?);
        let middle: Point<_> = row
            .placement
            .as_ref()?
            .placement()?
            .invert()
            .apply(row.size.centre());
        Some(balance.apply(f64::from(full), middle))
    });
    if let Some(full) = full.reduce(f64::min).filter(|f| f.is_finite()) {
        cards.number("SATURATE", full, "");
    }
    cards.history(HOW[usize::from(average)]);
    cards.history(&format!("reference: {}", file_name(&layout.reference.file)));
    for (i, panel, _) in &to.frames {
        cards.history(&format!(
            "panel {}: {}",
            to.panels[*panel].name,
            frame_line(&layout.frames[*i])
        ));
    }
    cards
}

fn map_cards(to: &ToJoin<'_>, frames: &[Frame], layout: &Layout) -> Cards {
    let mut cards = common_cards(to, frames, layout);
    cards.history("plane 1: number of the panel that a pixel comes from, 0 for none");
    for (k, p) in to.panels.iter().enumerate() {
        cards.history(&format!("{} is {}", k + 1, p.name));
    }
    cards.history("plane 2: noise of a pixel of empty sky");
    cards.history("plane 3: frames that it is the mean of");
    cards
}
