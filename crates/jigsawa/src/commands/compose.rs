//! `jigsawa compose`: masters of several filters into a colour picture.

use std::path::{Path, PathBuf};

use jigsawa_core::balance::ScaleBy;
use jigsawa_core::colour::White;
use jigsawa_core::finish::Link;
use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_core::merge::{Budget, Input, MergeError, Sampling, merge};
use jigsawa_core::resample::Shape;
use jigsawa_core::space::Size;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::about::About;
use jigsawa_formats::fits::{Depth, FitsPlane, FitsWriter};
use jigsawa_formats::whole::Unfinished;

use crate::account::{Account, Clock, Ending, Output};
use crate::cache::Store;
use crate::cli::{Common, ComposeArgs, StretchArg};
use crate::compose::{Bound, bind, cards, palette};
use crate::frames::{Filters, Frame};
use crate::layout_file;
use crate::normalize::{Across, Settled as Normalizing, normalize};
use crate::outputs::{self, Names};
use crate::picture::{self, Tone};
use crate::register::{Looking, Settled, register};
use crate::start::{Start, start};
use crate::tell::Trouble;
use crate::terminal::{Progress, tell_account};

/// What the account calls the picture to look at.
pub const PNG: &str = "stretched, 8 bits";

/// Runs the command and prints its account.
pub fn compose(args: &ComposeArgs, common: &Common) -> Result<Ending, Trouble> {
    let account = make(args, common)?;
    tell_account(&account, common);
    Ok(account.ending())
}

/// Options that say how frames are placed have no effect on a layout whose frames are.
fn refuse_placing(args: &ComposeArgs) -> Result<(), Trouble> {
    if args.reference.is_some() {
        return Err(Trouble::NotWithLayout("--reference"));
    }
    match args.grid.used() {
        Some(option) => Err(Trouble::NotWithLayout(option)),
        None => Ok(()),
    }
}

/// Makes the composite.
pub fn make(args: &ComposeArgs, common: &Common) -> Result<Account, Trouble> {
    let mut clock = Clock::start();
    let palette = palette(args)?;
    let start = start(
        &args.frames,
        &args.filters,
        &args.relocate,
        Filters::OneEach,
    )?;
    if start.placed.is_some() {
        refuse_placing(args)?;
    }
    let bound = bind(&palette, &start.frames)?;
    let names = Names::new(&args.output, &start.frames, &palette.name)?;
    let fresh = start.placed.as_ref().is_none_or(|l| !has_colours(l));
    names.check(args.output.overwrite, fresh)?;
    let (frames, layout) = lay_out(start, &bound.inputs, args, common, &mut clock)?;
    let linear = merge_into(&names, &layout, &frames, &bound, &palette, args, common)?;
    clock.lap("merge");
    let tone = match args.stretch {
        Some(StretchArg::None) => Tone::Straight,
        Some(StretchArg::Linked) => Tone::Stretched(Link::Linked),
        Some(StretchArg::Each) => Tone::Stretched(Link::Each),
        None => Tone::Stretched(bound.link),
    };
    let begin = |path: &Path| outputs::begin(path, args.output.overwrite);
    let pictures = picture::write(
        linear.path(),
        layout.canvas.row_order,
        tone,
        &About::titled(&names.title),
        begin(&names.tiff)?,
        begin(&names.png)?,
    )?;
    clock.lap("picture");
    let kinds = if matches!(tone, Tone::Straight) {
        ["linear 32-bit float", PNG]
    } else {
        ["stretched, 16 bits", PNG]
    };
    let mut files = vec![(linear, "linear 32-bit float, 3 planes")];
    files.extend(pictures.into_iter().zip(kinds));
    if fresh {
        files.push((
            layout_file::write(&names.layout, &layout, args.output.overwrite)?,
            "layout",
        ));
    }
    let mut written = Vec::new();
    for (file, kind) in files {
        let path = file.target().to_owned();
        file.finish().map_err(|error| Trouble::Write {
            file: path.clone(),
            error,
        })?;
        written.push(Output {
            file: path.display().to_string(),
            kind,
        });
    }
    Ok(Account::new(
        "compose",
        &layout,
        bound.channels,
        written,
        clock,
    ))
}

/// The frames with their places and balances: as the layout has them, or found now.
fn lay_out(
    start: Start,
    needed: &[usize],
    args: &ComposeArgs,
    common: &Common,
    clock: &mut Clock,
) -> Result<(Vec<Frame>, Layout), Trouble> {
    let Start {
        frames,
        placed,
        reference,
        left_out,
    } = start;
    let store = Store::open(&args.output.out, !common.no_cache)?;
    if let Some(layout) = placed {
        let layout = if has_colours(&layout) {
            layout
        } else {
            in_colour(&frames, layout, needed, &store, common, clock)?
        };
        return Ok((frames, layout));
    }
    let proposed = reference.as_ref().map(|(file, _)| file.as_str());
    let settled = Settled {
        reference: args.reference.as_deref().or(proposed),
        grid: &args.grid,
        needed,
        looking: Looking::default(),
    };
    let mut layout = register(&frames, &settled, &store, common, clock)?.layout;
    layout = in_colour(&frames, layout, needed, &store, common, clock)?;
    layout.frames.extend(left_out);
    if let Some((file, why)) = reference
        && layout.reference.file == file
    {
        layout.reference.why = why;
    }
    Ok((frames, layout))
}

/// Are values matched, between filters too? What `normalize` leaves as it is between filters, a picture wants
/// brought together, unless the user has said to leave it.
fn has_colours(layout: &Layout) -> bool {
    let asked = layout
        .levels
        .as_ref()
        .is_some_and(|l| l.wish.scale_by.is_some());
    let left = |f: &LayoutFrame| {
        let by = f.balance.as_ref().map(|b| b.scale_by);
        f.verdict == Verdict::Used && by == Some(ScaleBy::None)
    };
    layout.is_balanced() && (asked || !layout.frames.iter().any(left))
}

/// Values matched as a picture wants them, and else as the layout's own normalizing was asked to.
fn in_colour(
    frames: &[Frame],
    layout: Layout,
    needed: &[usize],
    store: &Store,
    common: &Common,
    clock: &mut Clock,
) -> Result<Layout, Trouble> {
    let before = layout.levels.clone().unwrap_or_default();
    let references: Vec<String> = before
        .references
        .iter()
        .filter(|r| {
            layout
                .frames
                .get(r.frame)
                .is_some_and(|f| f.verdict == Verdict::Used)
        })
        .filter_map(|r| frames.get(r.frame).map(Frame::name))
        .collect();
    let settled = Normalizing {
        references: &references,
        wish: before.wish,
        across: Across::Colours,
        flatten: before.flatten,
        weigh: before.weigh,
        needed,
    };
    normalize(frames, layout, &settled, store, common, clock).map(|n| n.layout)
}

/// Reads, places, balances and mixes the frames into the linear result, still under a temporary name.
fn merge_into(
    names: &Names,
    layout: &Layout,
    frames: &[Frame],
    bound: &Bound,
    palette: &jigsawa_core::colour::Palette,
    args: &ComposeArgs,
    common: &Common,
) -> Result<Unfinished, Trouble> {
    let sources: Vec<FitsPlane<'_>> = bound.inputs.iter().map(|i| frames[*i].source()).collect();
    let inputs: Vec<Input<'_>> = bound
        .inputs
        .iter()
        .zip(&sources)
        .map(|(i, source)| input(&layout.frames[*i], source, args.kernel.shape()))
        .collect::<Result<_, _>>()?;
    let reference = layout.level_index().unwrap_or(0);
    let composite = bound
        .composite(white(&layout.frames[reference]))
        .ok_or(Trouble::Nothing)?;
    let mut cards = cards(palette, bound, layout, names.object.as_deref());
    outputs::sky_cards(layout, frames, &mut cards);
    let size: Size = layout.canvas.size;
    let wrong = |error| Trouble::Write {
        file: names.linear.clone(),
        error,
    };
    let file = outputs::begin(&names.linear, args.output.overwrite)?;
    let mut sink = FitsWriter::create(file, size, 3, Depth::Float, &cards).map_err(wrong)?;
    let progress = Progress::begin("merge", 1, common);
    merge(
        &inputs,
        size,
        &composite,
        Budget {
            bytes: common.memory,
        },
        &mut sink,
        &|done, all| progress.of(done, all),
    )
    .map_err(|e| Trouble::Merge {
        file: match &e {
            MergeError::Source { input, .. } => Some(frames[bound.inputs[*input]].name()),
            MergeError::Sink(_) => Some(names.linear.display().to_string()),
        },
        message: match &e {
            MergeError::Source { input, error } => {
                format!(
                    "'{}' cannot be read: {error}",
                    frames[bound.inputs[*input]].name()
                )
            }
            MergeError::Sink(error) => {
                format!("'{}' cannot be written: {error}", names.linear.display())
            }
        },
    })?;
    sink.complete().map_err(wrong)
}

fn input<'a>(
    f: &LayoutFrame,
    source: &'a FitsPlane<'a>,
    shape: Shape,
) -> Result<Input<'a>, Trouble> {
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
        .and_then(jigsawa_core::layout::PlacementRecord::placement)
        .ok_or_else(|| left_out("it has no placement"))?;
    let balance = f
        .balance
        .clone()
        .ok_or_else(|| left_out("it has no balance"))?;
    Ok(Input {
        source,
        placement,
        balance,
        saturation: f.saturation.unwrap_or(f32::INFINITY),
        sampling: Sampling {
            shape,
            ..Sampling::default()
        },
    })
}

/// The levels of a composite, from its reference.
fn white(reference: &LayoutFrame) -> White {
    let m = &reference.measured;
    let sky = m.sky_adu as f32;
    White {
        sky,
        noise: m.noise_adu as f32,
        // A layout without any star has no placements either, so the last resort is never shown.
        full: reference
            .saturation
            .or(m.brightest_adu)
            .map_or(1.0, |white| white - sky)
            .max(f32::MIN_POSITIVE),
    }
}

/// The folder that a frame lies in, by name: the target's name where no header tells it.
pub fn folder_name(frames: &[Frame]) -> Option<String> {
    let path: PathBuf = frames.first()?.path.canonicalize().ok()?;
    Some(path.parent()?.file_name()?.to_string_lossy().into_owned())
}
