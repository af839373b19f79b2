//! The merge of a set into files: the master, and the map of what is in each of its pixels.

use jigsawa_core::balance::Balance;
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::{Budget, Input, Sampling, merge, merge_parts, parts};
use jigsawa_core::number::Convert;
use jigsawa_core::resample::Shape;
use jigsawa_core::space::Rect;
use jigsawa_core::stack::{
    Group, PLANES, Pass, Rejected, Rejection, Residuals, Rule, Stacked, Streak, streaks,
};
use rayon::prelude::*;

use super::cards::{cards, map_cards};
use super::drop::First;
use super::lights::{Lights, StackSettings, lights};
use super::master::{Master, OfFrame, Paths};
use super::sets::Set;
use super::sink::{Sink, wrong};
use crate::normalize::KnownFrames;
use crate::outputs::stopped;
use crate::pixels::Pixels;
use crate::run::Run;
use crate::trouble::Trouble;

/// Parts of the canvas that are merged again where something was found: small, since a trail touches many tiles and little
/// of each, and whole cells of the noise.
const AGAIN: (usize, usize) = (128, 32);

/// Merges a set.
pub fn merge_set(
    set: &Set,
    (known, layout): (&KnownFrames<'_>, &Layout),
    (paths, overwrite): (&Paths, bool),
    (how, shape): (&StackSettings, Shape),
    run: &Run<'_>,
) -> Result<Master, Trouble> {
    let frames = known.frames;
    let planes: Vec<Lights> = set
        .planes
        .iter()
        .map(|list| lights(list, set, (known, layout)))
        .collect::<Result<_, _>>()?;
    let rejection = how.rejection(&planes[planes.len() / 2].parts);
    let order: Vec<usize> = set.all().collect();
    let sources: Vec<Pixels<'_>> = order.iter().map(|i| frames[*i].source()).collect();
    let balances = planes.iter().flat_map(|p| &p.balances);
    let each = order.iter().zip(&sources).zip(balances);
    let inputs: Vec<Input<'_>> = each
        .map(|((i, source), balance)| input((known, layout), *i, source, balance, shape))
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
    (known, layout): (&KnownFrames<'_>, &Layout),
    i: usize,
    source: &'b Pixels<'b>,
    balance: &Balance,
    shape: Shape,
) -> Result<Input<'b>, Trouble> {
    let row = &layout.frames[i];
    let placement = known.placements[i].clone();
    let placement = placement.ok_or_else(|| Trouble::LeftOut {
        file: known.frames[i].name(),
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

/// The value above which a pixel of the master may have been full in some frame.
fn saturation(inputs: &[Input<'_>]) -> Option<f64> {
    let full = inputs.iter().filter(|i| i.saturation.is_finite()).map(|i| {
        let middle = i.placement.invert().apply(i.source.size().centre());
        i.balance.apply(f64::from(i.saturation), middle)
    });
    full.min_by(f64::total_cmp)
}
