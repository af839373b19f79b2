//! The used frames of a layout as files of their own, each on the canvas, for use elsewhere.

use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use jigsawa_core::balance::Balance;
use jigsawa_core::layout::{Layout, LayoutFrame, PlacementRecord};
use jigsawa_core::merge::{Budget, Input, Sampling, SideBySide, merge};
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;

use crate::clock::Output;
use crate::compose::{file_name, frame_line};
use crate::frames::{Frame, stem};
use crate::outputs::{are_free, begin, canvas_cards, make_folder, sky_cards, stopped};
use crate::pixels::Pixels;
use crate::run::Run;
use crate::trouble::Trouble;

/// One file to be written: the frames that are its planes.
pub struct Target {
    file: PathBuf,
    /// Numbers of the frames: one, or the three of a colour image.
    planes: Vec<usize>,
}

/// Where the frames go: one file for each file read, by its name. None may be there already unless it
/// is to be replaced, no two may become one, and none may be one of those read.
pub fn targets(folder: &Path, frames: &[Frame], overwrite: bool) -> Result<Vec<Target>, Trouble> {
    make_folder(folder)?;
    let mut targets: Vec<Target> = Vec::new();
    for (i, f) in frames.iter().enumerate() {
        let file = folder.join(stem(&f.path) + ".fits");
        if i > 0 && f.plane.is_some_and(|p| p > 0) && frames[i - 1].path == f.path {
            if let Some(last) = targets.last_mut() {
                last.planes.push(i);
            }
            continue;
        }
        if targets.iter().any(|t| t.file == file) {
            return Err(Trouble::SameName(file));
        }
        targets.push(Target {
            file,
            planes: vec![i],
        });
    }
    let files: Vec<&PathBuf> = targets.iter().map(|t| &t.file).collect();
    are_free(&files, overwrite)?;
    Ok(targets)
}

/// Frames written at once: one waits for the disk while the other is computed. More would only share
/// the same cores.
const AT_ONCE: usize = 2;

/// Writes all that are used.
pub fn write(
    targets: &[Target],
    layout: &Layout,
    frames: &[Frame],
    (sampling, overwrite): (Sampling, bool),
    run: &Run<'_>,
) -> Result<Vec<Output>, Trouble> {
    let is_used = |t: &&Target| layout.frames[t.planes[0]].verdict == Verdict::Used;
    let used: Vec<&Target> = targets.iter().filter(is_used).collect();
    let progress = run.begin("frames", used.len());
    let next = AtomicUsize::new(0);
    let finished: Vec<Mutex<Option<Result<Output, Trouble>>>> =
        used.iter().map(|_| Mutex::default()).collect();
    let work = || {
        while let Some(target) = used.get(next.fetch_add(1, Ordering::Relaxed)) {
            let done = write_one(target, layout, frames, (sampling, overwrite), run)
                .and_then(|file| finish(file, target));
            if done.is_err() {
                // No further frame is begun.
                next.store(used.len(), Ordering::Relaxed);
            }
            if let Some(k) = used.iter().position(|t| std::ptr::eq(*t, *target))
                && let Ok(mut slot) = finished[k].lock()
            {
                *slot = Some(done);
            }
            progress.step();
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE.min(used.len()) {
            scope.spawn(work);
        }
    });
    finished
        .into_iter()
        .filter_map(|slot| slot.into_inner().ok().flatten())
        .collect()
}

fn finish(file: Unfinished, target: &Target) -> Result<Output, Trouble> {
    let path = file.finish().map_err(|error| Trouble::Write {
        file: target.file.clone(),
        error,
    })?;
    Ok(Output {
        file: path.display().to_string(),
        kind: "placed frame",
    })
}

fn write_one(
    target: &Target,
    layout: &Layout,
    frames: &[Frame],
    (sampling, overwrite): (Sampling, bool),
    run: &Run<'_>,
) -> Result<Unfinished, Trouble> {
    let sources: Vec<Pixels<'_>> = target.planes.iter().map(|i| frames[*i].source()).collect();
    let inputs: Vec<Input<'_>> = target
        .planes
        .iter()
        .zip(&sources)
        .filter_map(|(i, source)| input(&layout.frames[*i], source, sampling))
        .collect();
    let wrong = |error| Trouble::Write {
        file: target.file.clone(),
        error,
    };
    let size = layout.canvas.size;
    let cards = cards(target, layout, frames);
    let mut sink = FitsWriter::create(
        begin(&target.file, overwrite)?,
        size,
        inputs.len(),
        Depth::Float,
        &cards,
    )
    .map_err(wrong)?;
    let how = SideBySide {
        inputs: inputs.len(),
    };
    let budget = Budget { bytes: run.memory };
    merge(&inputs, size, &how, budget, &mut sink, &|_, _| {})
        .map_err(|e| stopped(e, |_| frames[target.planes[0]].name(), &target.file))?;
    sink.complete().map_err(wrong)
}

/// A frame as it is merged: placed, and balanced when the layout has a balance.
fn input<'a>(f: &LayoutFrame, source: &'a Pixels<'a>, sampling: Sampling) -> Option<Input<'a>> {
    let placement = f.placement.as_ref().and_then(PlacementRecord::placement)?;
    let unchanged = || Balance::unchanged(f.measured.sky_adu, f.measured.noise_adu);
    let balance = f.balance.clone().unwrap_or_else(unchanged);
    Some(Input {
        saturation: f.saturation.unwrap_or(f32::INFINITY),
        sampling: sampling.for_stars(f.measured.fwhm_px),
        ..Input::new(source, placement, balance)
    })
}

/// What the frame is, what was done to it, and where the canvas lies on the sky.
fn cards(target: &Target, layout: &Layout, frames: &[Frame]) -> Cards {
    let (first, row) = (&frames[target.planes[0]], &layout.frames[target.planes[0]]);
    let facts = &first.facts;
    let mut cards = Cards::default();
    let mut text = |name: &str, value: Option<&str>| {
        if let Some(value) = value {
            cards.text(name, value, "");
        }
    };
    text("OBJECT", facts.object.as_deref());
    text(
        "FILTER",
        (target.planes.len() == 1).then_some(row.filter.name()),
    );
    text("DATE-OBS", facts.date.as_deref());
    text("INSTRUME", facts.camera.as_deref());
    for (name, value) in [
        ("EXPTIME", facts.exposure_s),
        ("EGAIN", facts.gain_e_adu),
        ("SATURATE", row.saturation.map(f64::from)),
    ] {
        if let Some(value) = value {
            cards.number(name, value, "");
        }
    }
    canvas_cards(layout, &mut cards);
    cards.history(&format!("reference: {}", file_name(&layout.reference.file)));
    for i in &target.planes {
        cards.history(&frame_line(&layout.frames[*i]));
    }
    sky_cards(layout, frames, &mut cards);
    cards
}
