//! `jigsawa register`: frames of one field onto one canvas.

use std::path::{Path, PathBuf};

use jigsawa_core::merge::{Keep, Sampling};
use jigsawa_core::stars::Settings;

use crate::account::{Account, Ending};
use crate::cli::{Common, OutputArgs, RegisterArgs};
use crate::report::{Places, write_places};
use crate::terminal::{run, tell};
use jigsawa_work::clock::Clock;
use jigsawa_work::frames::{Filters, Frame};
use jigsawa_work::layout_file;
use jigsawa_work::outputs::folder_name;
use jigsawa_work::outputs::{are_free, begin, finish_first, make_folder, plain_name, slug};
use jigsawa_work::placed_frames;
use jigsawa_work::register::{
    RegisterSettings, Registered, SearchSettings, hints, lay, opened_with, register_into,
    usual_stars,
};
use jigsawa_work::run::Run;
use jigsawa_work::start::Start;
use jigsawa_work::trouble::Trouble;

/// Runs the command and prints its account.
pub fn register(args: &RegisterArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// Registers.
pub fn make(args: &RegisterArgs, common: &Common) -> Result<Account, Trouble> {
    let clock = Clock::start();
    let (given, out) = (&args.given, &args.output.out);
    let mut start = match &args.into {
        Some(_) => given.start_new(&args.frames, Filters::Any, out)?,
        None => given.start(&args.frames, Filters::Any, out)?,
    };
    let spoilt = std::mem::take(&mut start.spoilt);
    if start.placed.is_some() {
        return Err(Trouble::AlreadyPlaced(args.frames[0].clone()));
    }
    let (path, overwrite) = match &args.into {
        Some(path) => (path.clone(), true),
        None => (
            new_layout(&args.output, &start.frames)?,
            args.output.overwrite,
        ),
    };
    let folder = path.parent().unwrap_or(Path::new(""));
    let run = run(common, folder, clock)?;
    let page = report_path(&path);
    if !args.no_report {
        are_free(&[&page], args.into.is_some() || args.output.overwrite)?;
    }
    let (frames, registered) = match &args.into {
        Some(path) => into(path, start, args, &run)?,
        None => alone(start, args, &run)?,
    };
    let Registered { layout, residuals } = registered;
    let mut outputs = Vec::new();
    if let Some(folder) = &args.write_frames {
        let targets = placed_frames::targets(folder, &frames, args.output.overwrite)?;
        let sampling = Sampling {
            shape: args.kernel.shape(),
            keep: if args.keep_flux {
                Keep::Flux
            } else {
                Keep::Brightness
            },
            ..Sampling::default()
        };
        let how = (sampling, args.output.overwrite);
        outputs = placed_frames::write(&targets, &layout, &frames, how, &run)?;
        run.clock.lap("frames");
    }
    let mut files = vec![(layout_file::write(&path, &layout, overwrite)?, "layout")];
    if !args.no_report {
        let places = Places {
            title: &layout_title(&path),
            layout: &layout,
            frames: &frames,
            residuals: &residuals,
            spoilt: &spoilt,
        };
        files.push((write_places(&page, &places, true)?, "report"));
        run.clock.lap("report");
    }
    finish_first(files, &mut outputs)?;
    let account = Account::of_layout("register", &layout, Vec::new(), outputs, &run.clock);
    Ok(account.without(spoilt))
}

/// The start of the layout's name.
pub fn layout_title(layout: &Path) -> String {
    let name = layout.file_name().map(|n| n.to_string_lossy().into_owned());
    let name = name.unwrap_or_default();
    name.strip_suffix(".layout.json")
        .map_or(name.clone(), str::to_owned)
}

/// Where the report goes: beside the layout.
fn report_path(layout: &Path) -> PathBuf {
    layout.with_file_name(format!("{}-register.html", layout_title(layout)))
}

/// How stars and maps are to be looked for.
fn search(args: &RegisterArgs, frames: &[Frame]) -> Result<SearchSettings, Trouble> {
    let settings = usual_stars();
    Ok(SearchSettings {
        model: args.model.model(),
        hints: hints(&args.hint, &args.pair, frames)?,
        settings: Settings {
            threshold_sigma: args.detect_sigma,
            lowest_sigma: settings.lowest_sigma.min(args.detect_sigma),
            ..settings
        },
    })
}

/// Where the layout goes, checked before any work.
pub fn new_layout(out: &OutputArgs, frames: &[Frame]) -> Result<PathBuf, Trouble> {
    let object = frames.iter().find_map(|f| f.facts.object.clone());
    let start = match &out.name {
        Some(name) => plain_name(name)?,
        None => object
            .or_else(|| folder_name(frames))
            .map(|n| slug(&n))
            .filter(|n| !n.is_empty())
            .unwrap_or_else(|| "frames".to_owned()),
    };
    let path = out.out.join(format!("{start}.layout.json"));
    are_free(&[&path], out.overwrite)?;
    make_folder(&out.out)?;
    begin(&path, out.overwrite)?;
    Ok(path)
}

/// The frames by themselves: on the best of them, or on the one that the user or a survey names.
fn alone(
    start: Start,
    args: &RegisterArgs,
    run: &Run<'_>,
) -> Result<(Vec<Frame>, Registered), Trouble> {
    // What would be replaced is seen before the work is done.
    if let Some(folder) = &args.write_frames {
        placed_frames::targets(folder, &start.frames, args.output.overwrite)?;
    }
    let wanted = RegisterSettings {
        search: search(args, &start.frames)?,
        ..args.placing.registering()
    };
    let (frames, mut registered, left_out) = lay(start, wanted, run)?;
    registered.layout.frames.extend(left_out);
    Ok((frames, registered))
}

/// The frames added to a layout. All its frames come with them, those that were there first.
fn into(
    path: &Path,
    start: Start,
    args: &RegisterArgs,
    run: &Run<'_>,
) -> Result<(Vec<Frame>, Registered), Trouble> {
    let (frames, layout, count) = opened_with(path, start.frames, &args.given.relocate)?;
    if let Some(folder) = &args.write_frames {
        placed_frames::targets(folder, &frames, args.output.overwrite)?;
    }
    let search = search(args, &frames)?;
    let registered = register_into(layout, &frames, count, &search, run)?;
    Ok((frames, registered))
}
