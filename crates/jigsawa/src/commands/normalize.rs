//! `jigsawa normalize`: the values of placed frames matched to each other.

use std::path::{Path, PathBuf};

use jigsawa_core::layout::Layout;
use jigsawa_core::merge::Sampling;
use jigsawa_formats::inputs;

use super::register::{layout_title, new_layout};
use crate::account::{Account, Ending};
use crate::cli::{Common, NormalizeArgs};
use crate::report::{LevelPage, write_levels};
use crate::terminal::{run, tell};
use jigsawa_work::clock::{Clock, Output};
use jigsawa_work::frames::{Filters, Frame};
use jigsawa_work::layout_file;
use jigsawa_work::normalize::{
    Across, NormalizeSettings, Normalized, normalize as level, surfaces_are_new, write_surfaces,
};
use jigsawa_work::outputs::{are_free, finish_first};
use jigsawa_work::placed_frames;
use jigsawa_work::register::{RegisterSettings, lay};
use jigsawa_work::run::Run;
use jigsawa_work::start::Start;
use jigsawa_work::trouble::Trouble;

/// Runs the command and prints its account.
pub fn normalize(args: &NormalizeArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// What the account calls the page to look at.
pub const REPORT: &str = "report";

/// Matches the frames and writes what is asked for.
pub fn make(args: &NormalizeArgs, common: &Common) -> Result<Account, Trouble> {
    let clock = Clock::start();
    let settings = args.settings().map_err(Trouble::Options)?;
    let out = &args.output.out;
    let mut start = args.given.start(&args.frames, Filters::Any, out)?;
    let spoilt = std::mem::take(&mut start.spoilt);
    let path = target(args, &start)?;
    // A layout that stands is brought up to date; a new one replaces nothing unasked.
    let overwrite = start.placed.is_some() || args.output.overwrite;
    let page = path.with_file_name(format!("{}-normalize.html", layout_title(&path)));
    if !args.no_report {
        are_free(&[&page], overwrite)?;
    }
    if let Some(folder) = &args.write_frames {
        placed_frames::targets(folder, &start.frames, args.output.overwrite)?;
    }
    if let Some(folder) = &args.write_surfaces {
        surfaces_are_new(folder, &start.frames, args.output.overwrite)?;
    }
    let folder = path.parent().unwrap_or(Path::new(""));
    let run = run(common, folder, clock)?;
    let (frames, registered, left_out) = lay(start, RegisterSettings::default(), &run)?;
    let layout = registered.layout;
    let size = layout.canvas.size;
    if let Some((option, place)) = args.off_canvas(size) {
        return Err(Trouble::OffCanvas {
            option,
            place,
            canvas: (size.width(), size.height()),
        });
    }
    let wanted = NormalizeSettings {
        references: &args.reference,
        settings,
        across: Across::AsItIs,
        flatten: args.flatten(),
        weigh: args.weigh(),
        needed: &[],
        keep: false,
    };
    let mut normalized = level(&frames, layout, &wanted, &run)?;
    normalized.leave_out(left_out);
    let mut outputs = extras(args, &normalized.layout, &frames, &run)?;
    let mut files = vec![(
        layout_file::write(&path, &normalized.layout, overwrite)?,
        "layout",
    )];
    if !args.no_report {
        let levels = LevelPage {
            title: &layout_title(&path),
            normalized: &normalized,
            frames: &frames,
            spoilt: &spoilt,
        };
        files.push((write_levels(&page, &levels, true)?, REPORT));
        run.clock.lap("report");
    }
    let Normalized { layout, .. } = normalized;
    finish_first(files, &mut outputs)?;
    let account = Account::of_layout("normalize", &layout, Vec::new(), outputs, &run.clock);
    Ok(account.without(spoilt))
}

/// The layout that is brought up to date, or where the new one goes.
fn target(args: &NormalizeArgs, start: &Start) -> Result<PathBuf, Trouble> {
    if start.placed.is_none() {
        return new_layout(&args.output, &start.frames);
    }
    if args.output.name.is_some() {
        return Err(Trouble::NotWithLayout("--name"));
    }
    if args.output.out != Path::new(".") {
        return Err(Trouble::NotWithLayout("--out"));
    }
    inputs::update(&args.frames[0]);
    Ok(args.frames[0].clone())
}

/// Frames and surfaces that are asked for.
fn extras(
    args: &NormalizeArgs,
    layout: &Layout,
    frames: &[Frame],
    run: &Run<'_>,
) -> Result<Vec<Output>, Trouble> {
    let mut outputs = Vec::new();
    let overwrite = args.output.overwrite;
    if let Some(folder) = &args.write_frames {
        let targets = placed_frames::targets(folder, frames, overwrite)?;
        let sampling = Sampling {
            shape: args.kernel.shape(),
            ..Sampling::default()
        };
        outputs = placed_frames::write(&targets, layout, frames, (sampling, overwrite), run)?;
        run.clock.lap("frames");
    }
    if let Some(folder) = &args.write_surfaces {
        outputs.extend(write_surfaces(folder, layout, frames, overwrite)?);
        run.clock.lap("surfaces");
    }
    Ok(outputs)
}
