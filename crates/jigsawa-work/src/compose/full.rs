//! The merge of a composite at full size.

use jigsawa_core::number::Convert;
use std::path::Path;

use jigsawa_core::colour::{Composite, Luminance, Part, Source, White};
use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_core::layout::{Layout, LayoutFrame, PlacementRecord};
use jigsawa_core::merge::{Budget, Input, LeftOut, Sampling, merge};
use jigsawa_core::resample::Shape;
use jigsawa_core::space::Rect;
use jigsawa_core::stars::Catalogue;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;

use super::bind::Bound;
use super::strengths::Strengths;
use crate::frames::Frame;
use crate::outputs;
use crate::pixels::Pixels;
use crate::run::Run;
use crate::seeing::Softened;
use crate::trouble::Trouble;

/// What a merge reads frames through.
pub struct Inputs<'a> {
    /// All frames.
    pub frames: &'a [Frame],
    /// The kernel that places them.
    pub shape: Shape,
    /// The frames made as soft as the softest, around stars; empty where seeing is left as it is.
    pub softened: Vec<Option<Softened<'a>>>,
    /// Stars of each frame, where they are known.
    pub catalogues: Vec<Option<Catalogue>>,
}

impl Inputs<'_> {
    /// A frame as the merge reads it.
    pub fn input<'b>(
        &'b self,
        f: &LayoutFrame,
        i: usize,
        source: &'b Pixels<'b>,
    ) -> Result<Input<'b>, Trouble> {
        let left_out = |reason: &str| Trouble::LeftOut {
            file: f.file.clone(),
            reason: reason.to_owned(),
        };
        if let Verdict::LeftOut(reason) = &f.verdict {
            return Err(left_out(reason));
        }
        let placement = f
            .placement
            .as_ref()
            .and_then(PlacementRecord::placement)
            .ok_or_else(|| left_out("it has no placement"))?;
        let balance = f
            .balance
            .clone()
            .ok_or_else(|| left_out("it has no balance"))?;
        let soft = self.softened.get(i).and_then(Option::as_ref);
        let source: &dyn FrameSource = match soft {
            Some(s) => s,
            None => source,
        };
        Ok(Input {
            saturation: f.saturation.unwrap_or(f32::INFINITY),
            sampling: Sampling {
                shape: self.shape,
                ..Sampling::default()
            }
            .for_stars(f.measured.fwhm_px),
            ..Input::new(source, placement, balance)
        })
    }
}

/// The composite of a bound palette, over inputs in the order of `bound.inputs()`. `stars` asks for that of its
/// stars.
pub fn composite(
    bound: &Bound,
    layout: &Layout,
    strengths: &Strengths,
    luminance: Luminance,
    stars: bool,
) -> Option<Composite> {
    let inputs = bound.inputs();
    let at = |i: &usize| inputs.iter().position(|k| k == i);
    let weight = |i: usize| {
        layout.frames[i]
            .balance
            .as_ref()
            .map_or(1.0, |b| b.weight.single())
    };
    let noise = |i: usize| {
        let balance = layout.frames[i].balance.as_ref();
        balance.map_or(0.0, |b| (b.scale.value * b.noise_adu).single())
    };
    let sources = bound
        .sources
        .iter()
        .map(|frames| {
            let taken_off = strengths.taken_off(frames);
            Some(Source {
                inputs: frames
                    .iter()
                    .map(|i| {
                        Some(Part {
                            input: at(i)?,
                            weight: weight(*i),
                            noise: noise(*i),
                        })
                    })
                    .collect::<Option<_>>()?,
                factor: strengths.factor(frames),
                continuum: taken_off.and_then(|(broad, k)| {
                    Some((bound.sources.iter().position(|s| s == broad)?, k))
                }),
            })
        })
        .collect::<Option<_>>()?;
    let reference = layout.level_index().unwrap_or(0);
    Some(Composite {
        sources,
        channels: if stars {
            bound.stars.clone()?
        } else {
            bound.mixes.clone()
        },
        luminance: bound
            .luminance
            .clone()
            .filter(|_| !stars)
            .map(|m| (m, luminance)),
        white: white(&layout.frames[reference]),
        left_out: LeftOut::default(),
    })
}

/// The levels of a composite, from its reference.
pub fn white(reference: &LayoutFrame) -> White {
    let m = &reference.measured;
    let sky = m.sky_adu.single();
    White {
        sky,
        noise: m.noise_adu.single(),
        // A layout without any star has no placements either, so the last resort is never shown.
        full: reference
            .saturation
            .or(m.brightest_adu)
            .map_or(1.0, |white| white - sky)
            .max(f32::MIN_POSITIVE),
    }
}

/// Reads, places, balances and mixes the frames into a linear file, still under a temporary name.
pub fn linear(
    path: &Path,
    overwrite: bool,
    cards: &Cards,
    (bound, composite): (&Bound, &Composite),
    layout: &Layout,
    inputs: &Inputs<'_>,
    run: &Run<'_>,
) -> Result<Unfinished, Trouble> {
    let list = bound.inputs();
    let sources: Vec<Pixels<'_>> = list.iter().map(|i| inputs.frames[*i].source()).collect();
    let all: Vec<Input<'_>> = list
        .iter()
        .zip(&sources)
        .map(|(i, source)| inputs.input(&layout.frames[*i], *i, source))
        .collect::<Result<_, _>>()?;
    let size = layout.canvas.size;
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let file = outputs::begin(path, overwrite)?;
    let mut sink = Counted {
        file: FitsWriter::create(file, size, 3, Depth::Float, cards).map_err(wrong)?,
        valued: [false; 3],
    };
    let progress = run.begin("merge", 1);
    let budget = Budget { bytes: run.memory };
    merge(&all, size, composite, budget, &mut sink, &|done, all| {
        progress.of(done, all);
    })
    .map_err(|e| outputs::stopped(e, |input| inputs.frames[list[input]].name(), path))?;
    let names = ["red", "green", "blue"];
    if let Some(empty) = sink.valued.iter().position(|has| !has) {
        return Err(Trouble::EmptyChannel(names[empty]));
    }
    sink.file.complete().map_err(wrong)
}

/// A file whose channels are asked whether any pixel of theirs has a value.
struct Counted {
    file: FitsWriter,
    valued: [bool; 3],
}

impl TileSink for Counted {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        for (has, plane) in self.valued.iter_mut().zip(planes) {
            *has |= plane.iter().any(|v| v.is_finite());
        }
        self.file.put(rect, planes)
    }
}
