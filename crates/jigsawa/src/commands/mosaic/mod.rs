//! `jigsawa mosaic`: panels of all filters into one large linear frame for each filter.

mod begun;
mod targets;

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::finish::Shade;
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::LeftOut;
use jigsawa_core::mosaic::blend::{Join, Share};
use jigsawa_core::quick::Picture;
use jigsawa_formats::png;
use jigsawa_formats::whole::Unfinished;

use begun::{Begun, begin_with};
use targets::Targets;

use crate::account::{Account, Ending, MOSAIC_FRAME, mosaic_account};
use crate::cli::{Common, CropArg, ExtentArg, MosaicArgs};
use crate::commands::colour::Colour;
use crate::report::{MosaicPage, Plan, write_mosaic};
use crate::terminal::{run, tell};
use jigsawa_work::clock::{Clock, Output, round};
use jigsawa_work::frames::Frame;
use jigsawa_work::layout_file;
use jigsawa_work::mosaic::{
    Assembled, FilterPart, Joined, MosaicSettings, Paths, Placed, ToJoin, assemble, join_filter,
    place, write_seams,
};
use jigsawa_work::outputs::{filled, finish_first};
use jigsawa_work::run::Run;
use jigsawa_work::trouble::Trouble;

/// What the account calls the page to look at.
pub const REPORT: &str = "report";

/// What it calls the plan's picture.
pub const PLAN: &str = "plan of the panels";

/// What it calls a picture of one.
pub const PICTURE: &str = "quick picture, PNG";

/// Runs the command and prints its account.
pub fn mosaic(args: &MosaicArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// What is wanted of its places.
fn settings(args: &MosaicArgs) -> MosaicSettings<'_> {
    MosaicSettings {
        reference: args.reference.as_deref(),
        panels: &args.panels,
        panel_names: args.panel_names.as_deref(),
        into: args.into.as_deref(),
        inner: args.canvas == ExtentArg::Inner,
        scale: args.scale,
        north_up: args.north_up,
        projection: args.projection.asked(),
    }
}

/// Makes the mosaic.
pub fn make(args: &MosaicArgs, common: &Common) -> Result<Account, Trouble> {
    let clock = Clock::start();
    let begun = begin_with(args)?;
    let targets = Targets::new(&begun, args)?;
    let colour = Colour::asked(
        args.palette.as_ref(),
        &targets.merged(&begun, args),
        &begun.frames,
        (&targets.folder, &targets.names.start),
        targets.overwrite,
    )?;
    targets.check(&begun, args)?;
    let run = run(common, &targets.folder, clock)?;
    let kept = begun.kept.as_ref();
    let found = place(&begun.frames, &settings(args), kept, &run);
    let mut placed = found.map_err(|e| with_plan(e, &begun.frames, &targets))?;
    placed.layout.frames.extend(begun.left_out.clone());
    if args.plan {
        return planned(&begun, &placed, &targets, &run);
    }
    let mut outputs: Vec<Output> = Vec::new();
    let before = kept.map(|l| {
        (
            begun.layout.as_path(),
            grown_by(l, &placed.layout),
            l.canvas.size,
        )
    });
    let assembled = assemble(&begun.frames, &mut placed, before, &run)?;
    run.clock.lap("skies");
    let told = mosaic_account(&begun.frames, &placed, Some(&assembled));
    let plan = Plan::new(&begun.frames, &placed, &told);
    let mut files = plans(&plan, &targets)?;
    let title = &targets.names.start;
    let mut page = MosaicPage::new(title, &placed, &assembled, &told, &plan, &begun.spoilt);
    let stays = Unchanged::new(args, &begun, &placed);
    let left_out = LeftOut::default();
    for part in &assembled.filters {
        let paths = targets.of(part.filter.name(), args);
        if stays.filter(part) && paths.frame.exists() {
            continue;
        }
        let joined = joined(
            part,
            &assembled,
            &placed,
            (&begun.frames, &left_out),
            (&paths, targets.overwrite),
            args,
            &run,
        )?;
        run.clock.lap("join");
        if !args.no_report {
            page.add(part, &joined)?;
        }
        if let Some(path) = &paths.picture {
            files.push((
                picture(path, &joined, &placed.layout, targets.overwrite)?,
                PICTURE,
            ));
        }
        files.push((joined.frame, MOSAIC_FRAME));
        files.extend(joined.map.map(|f| (f, "map of panels, noise and frames")));
        run.clock.lap("picture");
    }
    if !args.no_report {
        files.push((
            write_mosaic(&targets.page, &page, targets.overwrite)?,
            REPORT,
        ));
        run.clock.lap("report");
    }
    drop(page);
    files.push((
        layout_file::write(&targets.names.layout, &placed.layout, targets.overwrite)?,
        "layout",
    ));
    let seams = write_seams(
        &targets.names.layout,
        &assembled.labels,
        assembled.cells,
        &placed.panels,
        targets.overwrite,
    )?;
    files.push((seams, "seams, for what is added later"));
    finish_first(files, &mut outputs)?;
    if let Some(colour) = &colour {
        outputs.extend(colour.make(CropArg::Covered, args.no_report, common)?);
        run.clock.lap("colour");
    }
    let account = Account::of_layout("mosaic", &placed.layout, Vec::new(), outputs, &run.clock);
    let mut account = account.without(begun.spoilt.clone());
    account.own.mosaic = Some(told);
    account.own.outliers_percent = left_out.part().map(|part| round(100.0 * part, 3));
    Ok(account)
}

/// The plan alone, and the layout to go on with.
fn planned(
    begun: &Begun,
    placed: &Placed,
    targets: &Targets,
    run: &Run<'_>,
) -> Result<Account, Trouble> {
    let told = mosaic_account(&begun.frames, placed, None);
    let mut files = plans(&Plan::new(&begun.frames, placed, &told), targets)?;
    files.push((
        layout_file::write(&targets.names.layout, &placed.layout, targets.overwrite)?,
        "layout",
    ));
    let mut outputs: Vec<Output> = Vec::new();
    finish_first(files, &mut outputs)?;
    let account = Account::of_layout("mosaic", &placed.layout, Vec::new(), outputs, &run.clock);
    let mut account = account.without(begun.spoilt.clone());
    account.own.mosaic = Some(told);
    Ok(account)
}

/// The plan as a picture and as a drawing, under temporary names still.
fn plans(plan: &Plan, targets: &Targets) -> Result<Vec<(Unfinished, &'static str)>, Trouble> {
    Ok(vec![
        (plan.picture(&targets.plan_png, targets.overwrite)?, PLAN),
        (
            plan.drawing(&targets.plan_svg, targets.overwrite)?,
            "plan of the panels, SVG",
        ),
    ])
}

/// Draws how panels lie that do not hang together, as far as their headers say.
fn with_plan(trouble: Trouble, frames: &[Frame], targets: &Targets) -> Trouble {
    let Trouble::NothingTied { files, refused, .. } = trouble else {
        return trouble;
    };
    let drawn = || -> Option<PathBuf> {
        let plan = Plan::apart(frames)?;
        let files = plans(&plan, targets).ok()?;
        finish_first(files, &mut Vec::new()).ok()?;
        Some(targets.plan_png.clone())
    };
    Trouble::NothingTied {
        files,
        refused,
        plan: drawn(),
    }
}

/// Where the first pixel of a canvas lies on the one that it has grown from.
fn grown_by(before: &Layout, now: &Layout) -> [i64; 2] {
    let first = now
        .canvas
        .to_reference()
        .zip(before.canvas.to_reference())
        .map(|(now, before)| {
            let p = before
                .invert()
                .apply(now.apply(jigsawa_core::space::Point::new(0.0, 0.0)));
            [p.x.round().whole(), p.y.round().whole()]
        });
    first.unwrap_or_default()
}

/// Which filters' files stay as they are when frames are added.
struct Unchanged {
    /// Frames were added, and the canvas and its panels are what they were.
    may: bool,
    first_new: usize,
}

impl Unchanged {
    fn new(args: &MosaicArgs, begun: &Begun, placed: &Placed) -> Self {
        let panels = begun.kept.as_ref().filter(|l| l.mosaic.is_some());
        let panels = panels.map(|l| l.panels().len());
        let canvas = begun.kept.as_ref().map(|l| l.canvas.size);
        Self {
            may: args.into.is_some()
                && panels == Some(placed.panels.len())
                && canvas == Some(placed.layout.canvas.size),
            first_new: begun.frames.len() - begun.new,
        }
    }

    fn filter(&self, part: &FilterPart) -> bool {
        self.may && part.frames.iter().all(|i| *i < self.first_new)
    }
}

/// Joins a filter.
fn joined(
    part: &FilterPart,
    assembled: &Assembled,
    placed: &Placed,
    (frames, left_out): (&[Frame], &LeftOut),
    (paths, overwrite): (&Paths, bool),
    args: &MosaicArgs,
    run: &Run<'_>,
) -> Result<Joined, Trouble> {
    let share = args.overlap.share();
    let join = Join::new(
        (assembled.cells, share),
        &part.labels,
        part.covers.clone(),
        &assembled.stars,
        (&part.levelled.overlaps, &part.panel_of, assembled.patch_px),
    );
    let to = ToJoin {
        filter: &part.filter,
        frames: part
            .frames
            .iter()
            .zip(&part.panel_of)
            .zip(&part.coverage)
            .map(|((i, p), coverage)| (*i, *p, coverage))
            .collect(),
        panels: &placed.panels,
        join: &join,
        left_out,
    };
    let how = (args.kernel.shape(), share == Share::Average);
    join_filter(&to, (frames, &placed.layout), (paths, overwrite), how, run)
}

/// A joined frame as a picture to look at.
fn picture(
    path: &Path,
    joined: &Joined,
    layout: &Layout,
    overwrite: bool,
) -> Result<Unfinished, Trouble> {
    let plane = joined.small.plane();
    let shade = Shade::measure(plane.data()).ok_or(Trouble::Nothing)?;
    let p = Picture::grey(&plane, layout.canvas.row_order, &shade);
    let bytes =
        png::in_memory((p.width(), p.height()), p.rgb()).map_err(|error| Trouble::Write {
            file: path.to_owned(),
            error,
        })?;
    filled(path, &bytes, overwrite)
}
