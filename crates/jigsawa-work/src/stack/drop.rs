//! Pixels dropped onto the canvas, once a first stack has told which of them are to be believed.

use jigsawa_core::layout::Layout;
use jigsawa_core::merge::{Budget, Input, merge};
use jigsawa_core::number::Convert;
use jigsawa_core::resample::{DropShape, Drops};
use jigsawa_core::stack::{DROPPED_PLANES, Dropped, Group, Stacked, Vetted};
use jigsawa_formats::fits::{Cards, FitsFrame, FitsPlane};

use super::cards::map_cards;
use super::master::{DroppedHow, Master, Paths};
use super::sets::Set;
use super::sink::{Sink, wrong};
use crate::frames::Frame;
use crate::outputs::stopped;
use crate::pixels::Pixels;
use crate::run::Run;
use crate::trouble::Trouble;

/// A first stack, and what it was made of.
pub(super) struct First<'a, 'b> {
    pub(super) master: Master,
    pub(super) op: Stacked,
    pub(super) inputs: &'a [Input<'b>],
    pub(super) order: &'a [usize],
}

/// What the planes of the map hold, for each plane of the master.
const MAP: [&str; DROPPED_PLANES - 1] = ["values in the mean by the area that they cover", "noise"];

/// Places between pixels are told apart by so many parts of a pixel's side.
const PHASES: usize = 4;

impl First<'_, '_> {
    /// Drops the frames' pixels, without those that the first stack refutes: its files are replaced.
    pub(super) fn dropped(
        self,
        (drops, own_pixels): (Drops, bool),
        (set, frames, layout): (&Set, &[Frame], &Layout),
        (paths, overwrite): (&Paths, bool),
        run: &Run<'_>,
    ) -> Result<Master, Trouble> {
        let Self {
            mut master,
            op,
            inputs,
            order,
        } = self;
        let size = layout.canvas.size;
        let scale = layout.canvas.scale;
        let file = FitsFrame::open(master.file.path()).map_err(|e| wrong(&paths.master, e))?;
        let firsts: Vec<FitsPlane<'_>> = (0..set.planes.len()).map(|p| file.plane(p)).collect();
        let vetted = vetted(&op, (&master, inputs, order), (frames, &firsts), own_pixels);
        let of_input: Vec<Input<'_>> = vetted
            .iter()
            .zip(inputs)
            .map(|(source, input)| Input {
                drops: Some(drops),
                ..Input::new(source, input.placement.clone(), input.balance.clone())
            })
            .collect();
        let how = DroppedHow {
            drops,
            own_pixels,
            holes: 0,
            phases: phases(inputs, layout, own_pixels),
            tied: drops.tied(scale),
        };
        let mut head = Cards::default();
        for record in file.header().carried() {
            head.record(record);
        }
        head.history(&said(&how, scale));
        head.number(
            "NOISETIE",
            how.tied,
            "noise on large scales over that of pixels",
        );
        let heads = [head, map_cards(set, &MAP, (frames, layout))];
        let of_each = (set.planes.len(), DROPPED_PLANES);
        let mut sink = Sink::create((paths, overwrite), of_each, size, heads)?;
        let method = Dropped {
            spreads: spreads(&op, (&drops, scale), own_pixels),
            groups: op.groups.iter().map(same).collect(),
        };
        let progress = run.begin("drops", 1);
        let budget = Budget { bytes: run.memory };
        merge(&of_input, size, &method, budget, &mut sink, &|done, all| {
            progress.of(done, all);
        })
        .map_err(|e| stopped(e, |i| frames[order[i]].name(), &paths.master))?;
        drop(of_input);
        let counts: Vec<(u64, u64)> = vetted.iter().map(Vetted::counted).collect();
        drop(vetted);
        for (f, (values, rejected)) in master.frames.iter_mut().zip(counts) {
            (f.values, f.rejected) = (values, rejected);
        }
        let covered = (sink.pixels - sink.empty).max(1).real();
        // Both stacks tell every pixel's noise, of the same light.
        let noisier = sink.mean_noise() / master.mean_noise;
        Ok(Master {
            noise: master.noise * noisier,
            dropped: Some(DroppedHow {
                holes: sink.empty.saturating_sub(master.empty),
                ..how
            }),
            depth: sink.values / covered,
            empty: sink.empty,
            file: sink
                .master
                .complete()
                .map_err(|e| wrong(&paths.master, e))?,
            map: sink.map.complete().map_err(|e| wrong(&paths.map, e))?,
            ..master
        })
    }
}

/// The frames' pixels, held against the first stack.
fn vetted<'a>(
    op: &'a Stacked,
    (master, inputs, order): (&'a Master, &'a [Input<'a>], &[usize]),
    (frames, firsts): (&'a [Frame], &'a [FitsPlane<'a>]),
    own_pixels: bool,
) -> Vec<Vetted<'a, Pixels<'a>>> {
    let mut all = Vec::with_capacity(inputs.len());
    for (group, first) in op.groups.iter().zip(firsts) {
        for (light, k) in group.lights.iter().zip(group.inputs.clone()) {
            let frame = &frames[order[k]];
            all.push(Vetted {
                source: if own_pixels {
                    frame.own_source()
                } else {
                    frame.source()
                },
                placement: &inputs[k].placement,
                balance: &inputs[k].balance,
                light,
                first,
                sky: group.sky,
                limits: group.rejection.against_a_stack(),
                streaks: &master.frames[k].streaks,
                counts: Default::default(),
            });
        }
    }
    all
}

/// The variance of what falls on a pixel from each input. Of a colour camera's own pixels green lies like a chessboard's fields,
/// and of the other two every second one in every second row.
fn spreads(op: &Stacked, (drops, scale): (&Drops, f64), own_pixels: bool) -> Vec<f32> {
    let of_group = |p: usize| {
        let there = move |x: i64, y: i64| match p {
            _ if !own_pixels => true,
            1 => (x + y) % 2 == 0,
            _ => x % 2 == 0 && y % 2 == 0,
        };
        drops.spread(scale, there).single()
    };
    let groups = op.groups.iter().enumerate();
    groups
        .flat_map(|(p, g)| vec![of_group(p); g.inputs.len()])
        .collect()
}

/// The same group once more.
fn same(group: &Group) -> Group {
    Group {
        inputs: group.inputs.clone(),
        lights: group.lights.clone(),
        ..*group
    }
}

/// The part of the places between pixels that some frame's pixels have their middles at: of a colour camera's own between
/// pixels of one colour, which are two apart.
fn phases(inputs: &[Input<'_>], layout: &Layout, own_pixels: bool) -> f64 {
    let middle = layout.canvas.size.centre();
    let period = if own_pixels { 2.0 } else { 1.0 };
    let mut seen = [false; PHASES * PHASES];
    for input in inputs {
        let at = input.placement.apply(middle);
        let part = |v: f64| {
            ((v / period).rem_euclid(1.0) * PHASES.real())
                .index()
                .min(PHASES - 1)
        };
        seen[part(at.y) * PHASES + part(at.x)] = true;
    }
    seen.iter().filter(|s| **s).count().real() / seen.len().real()
}

/// How pixels were dropped, for the history.
fn said(how: &DroppedHow, scale: f64) -> String {
    let shape = match how.drops.shape {
        DropShape::Square => "square",
        DropShape::Gaussian => "Gaussian",
    };
    let own = if how.own_pixels {
        ", a colour camera's own pixels"
    } else {
        ""
    };
    format!(
        "pixels dropped: {shape} drops of {} px on a canvas of {scale} for one pixel{own}",
        how.drops.side_px
    )
}
