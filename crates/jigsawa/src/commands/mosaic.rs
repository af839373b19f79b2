//! `jigsawa mosaic`: panels of all filters into one large linear frame for each filter.

use std::path::{Path, PathBuf};

use jigsawa_core::finish::Shade;
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::LeftOut;
use jigsawa_core::mosaic::blend::{Join, Share};
use jigsawa_core::quick::Picture;
use jigsawa_formats::whole::Unfinished;
use jigsawa_formats::{inputs, png};

use crate::account::{Account, Ending, MOSAIC_FRAME, mosaic_account};
use crate::cli::{Common, CropArg, ExtentArg, MosaicArgs, OutputArgs};
use crate::commands::colour::Colour;
use crate::commands::register::layout_title;
use crate::report::{MosaicPage, Plan, write_mosaic};
use crate::terminal::{run, tell_account};
use jigsawa_work::cache::Store;
use jigsawa_work::clock::{Clock, Output, round};
use jigsawa_work::frames::{Filters, Frame};
use jigsawa_work::layout_file;
use jigsawa_work::mosaic::{
    Assembled, FilterPart, Joined, Paths, Placed, ToJoin, Wanted, assemble, join_filter, place,
    write_seams,
};
use jigsawa_work::outputs::{Names, filled, finish_first, slug};
use jigsawa_work::start::{Start, refuse_known, start};
use jigsawa_work::trouble::Trouble;

/// What the account calls the page to look at.
pub const REPORT: &str = "report";

/// What it calls the plan's picture.
pub const PLAN: &str = "plan of the panels";

/// What it calls a picture of one.
pub const PICTURE: &str = "quick picture, PNG";

/// Runs the command and prints its account.
pub fn mosaic(args: &MosaicArgs, common: &Common) -> Result<Ending, Trouble> {
    let account = make(args, common)?;
    tell_account(&account, common);
    Ok(account.ending())
}

/// What is wanted of its places.
fn wanted(args: &MosaicArgs) -> Wanted<'_> {
    Wanted {
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
    let mut clock = Clock::start();
    let begun = begin_with(args)?;
    let targets = Targets::new(&begun, args)?;
    let colour = Colour::asked(
        args.palette.as_ref(),
        &targets.merged(&begun, args),
        &begun.frames,
        (&targets.folder, &targets.start),
        targets.overwrite,
    )?;
    targets.check(&begun, args)?;
    let store = Store::open(&targets.folder, !common.no_cache)?;
    let kept = begun.kept.as_ref();
    let found = place(
        &begun.frames,
        &wanted(args),
        kept,
        &store,
        &run(common),
        &mut clock,
    );
    let mut placed = found.map_err(|e| with_plan(e, &begun.frames, &targets))?;
    placed.layout.frames.extend(begun.left_out.clone());
    if args.plan {
        return planned(&begun, &placed, &targets, clock);
    }
    let mut outputs: Vec<Output> = Vec::new();
    let before = kept.map(|l| {
        (
            begun.layout.as_path(),
            grown_by(l, &placed.layout),
            l.canvas.size,
        )
    });
    let assembled = assemble(&begun.frames, &mut placed, before, &run(common))?;
    clock.lap("skies");
    let told = mosaic_account(&begun.frames, &placed, Some(&assembled));
    let plan = Plan::new(&begun.frames, &placed, &told);
    let mut files = plans(&plan, &targets)?;
    let mut page = MosaicPage::new(&targets.start, &placed, &assembled, &told, &plan);
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
            common,
        )?;
        clock.lap("join");
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
        clock.lap("picture");
    }
    if !args.no_report {
        files.push((
            write_mosaic(&targets.page, &page, targets.overwrite)?,
            REPORT,
        ));
        clock.lap("report");
    }
    drop(page);
    files.push((
        layout_file::write(&targets.layout, &placed.layout, targets.overwrite)?,
        "layout",
    ));
    let seams = write_seams(
        &targets.layout,
        &assembled.labels,
        assembled.cells,
        &placed.panels,
        targets.overwrite,
    )?;
    files.push((seams, "seams, for what is added later"));
    finish_first(files, &mut outputs)?;
    if let Some(colour) = &colour {
        outputs.extend(colour.make(CropArg::Covered, args.no_report, common)?);
        clock.lap("colour");
    }
    let mut account = Account::new("mosaic", &placed.layout, Vec::new(), outputs, clock);
    account.mosaic = Some(told);
    account.outliers_percent = left_out.part().map(|part| round(100.0 * part, 3));
    Ok(account)
}

/// The plan alone, and the layout to go on with.
fn planned(
    begun: &Begun,
    placed: &Placed,
    targets: &Targets,
    clock: Clock,
) -> Result<Account, Trouble> {
    let told = mosaic_account(&begun.frames, placed, None);
    let mut files = plans(&Plan::new(&begun.frames, placed, &told), targets)?;
    files.push((
        layout_file::write(&targets.layout, &placed.layout, targets.overwrite)?,
        "layout",
    ));
    let mut outputs: Vec<Output> = Vec::new();
    finish_first(files, &mut outputs)?;
    let mut account = Account::new("mosaic", &placed.layout, Vec::new(), outputs, clock);
    account.mosaic = Some(told);
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

/// What a run begins with.
struct Begun {
    /// All frames, those of the earlier layout first.
    frames: Vec<Frame>,
    /// How many of them are new.
    new: usize,
    /// The layout whose frames stay.
    kept: Option<Layout>,
    /// Its file; nothing without one.
    layout: PathBuf,
    left_out: Vec<jigsawa_core::layout::LayoutFrame>,
}

/// Frames as given; those of a mosaic's layout; or both, where frames are added.
fn begin_with(args: &MosaicArgs) -> Result<Begun, Trouble> {
    let Start {
        frames,
        placed,
        left_out,
        ..
    } = start(
        &args.frames,
        &args.filters,
        if args.into.is_some() {
            &[]
        } else {
            &args.relocate
        },
        Filters::Known,
        &args.output.out,
    )?;
    if let Some(path) = &args.into {
        if placed.is_some() {
            return Err(Trouble::AlreadyPlaced(args.frames[0].clone()));
        }
        let (mut all, layout) = layout_file::open(path, &args.relocate)?;
        inputs::update(path);
        if layout.mosaic.is_none() {
            return Err(Trouble::NoMosaic(path.clone()));
        }
        refuse_canvas(args)?;
        refuse_known(path, &all, &frames)?;
        let new = frames.len();
        all.extend(frames);
        return Ok(Begun {
            frames: all,
            new,
            kept: Some(layout),
            layout: path.clone(),
            left_out,
        });
    }
    // A layout of another command says which frames there are; panels are solved all together anew.
    let kept = placed.filter(|l| l.mosaic.is_some());
    if kept.is_some() {
        refuse_canvas(args)?;
        let option = match () {
            () if args.reference.is_some() => Some("--reference"),
            () if !args.panels.is_empty() => Some("--panel"),
            () if args.panel_names.is_some() => Some("--panel-names"),
            () => None,
        };
        if let Some(option) = option {
            return Err(Trouble::NotWithLayout(option));
        }
        inputs::update(&args.frames[0]);
    }
    Ok(Begun {
        new: frames.len(),
        frames,
        layout: if kept.is_some() {
            args.frames[0].clone()
        } else {
            PathBuf::new()
        },
        kept,
        left_out,
    })
}

/// A layout has its canvas.
fn refuse_canvas(args: &MosaicArgs) -> Result<(), Trouble> {
    let option = match () {
        () if args.canvas != crate::cli::ExtentArg::default() => "--canvas",
        () if args.scale != 1.0 => "--scale",
        () if args.north_up => "--north-up",
        () if args.projection.asked().is_some() => "--projection",
        () => return Ok(()),
    };
    Err(Trouble::NotWithLayout(option))
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
            [p.x.round() as i64, p.y.round() as i64]
        });
    first.unwrap_or_default()
}

/// All files.
struct Targets {
    folder: PathBuf,
    start: String,
    layout: PathBuf,
    page: PathBuf,
    plan_png: PathBuf,
    plan_svg: PathBuf,
    overwrite: bool,
    /// Is the layout that is given one of them? A plan's own may be gone on with in the same folder.
    own: bool,
    names: Names,
}

impl Targets {
    fn new(begun: &Begun, args: &MosaicArgs) -> Result<Self, Trouble> {
        // What is added goes beside the layout, under its names.
        let (output, overwrite) = if let Some(path) = &args.into {
            let title = layout_title(path);
            let name = title.strip_suffix("-mosaic").unwrap_or(&title).to_owned();
            let output = OutputArgs {
                out: path.parent().unwrap_or(Path::new("")).to_owned(),
                name: Some(name),
                overwrite: true,
            };
            (output, true)
        } else {
            let output = OutputArgs {
                out: args.output.out.clone(),
                name: args.output.name.clone().or_else(|| Self::name_of(begun)),
                overwrite: args.output.overwrite,
            };
            (output, args.output.overwrite)
        };
        let names = Names::new(output.place(), &begun.frames, "mosaic")?;
        let file = |ending: &str| output.out.join(format!("{}-mosaic{ending}", names.start));
        let own =
            begun.kept.is_some() && args.into.is_none() && same_file(&begun.layout, &names.layout);
        Ok(Self {
            folder: output.out.clone(),
            layout: names.layout.clone(),
            page: file(".html"),
            plan_png: file("-plan.png"),
            plan_svg: file("-plan.svg"),
            start: names.start.clone(),
            overwrite: overwrite || own,
            own,
            names,
        })
    }

    /// Makes the folder and checks that no result would be replaced unasked.
    fn check(&self, begun: &Begun, args: &MosaicArgs) -> Result<(), Trouble> {
        let all = self.all(begun, args);
        let all: Vec<&PathBuf> = all.iter().collect();
        let overwrite = args.output.overwrite || args.into.is_some();
        self.names.check_these(&all, overwrite, !self.own)
    }

    /// The name that a layout's file has.
    fn name_of(begun: &Begun) -> Option<String> {
        begun.kept.as_ref()?;
        let title = layout_title(&begun.layout);
        Some(title.strip_suffix("-mosaic").unwrap_or(&title).to_owned())
    }

    fn of(&self, filter: &str, args: &MosaicArgs) -> Paths {
        let file = |ending: &str| {
            self.folder
                .join(format!("{}-{}-mosaic{ending}", self.start, slug(filter)))
        };
        Paths {
            frame: file(".fits"),
            map: args.map.then(|| file("-map.fits")),
            picture: (!args.linear_only).then(|| file(".png")),
        }
    }

    /// The frames that the filters will be.
    fn merged(&self, begun: &Begun, args: &MosaicArgs) -> Vec<PathBuf> {
        let all = filters(begun).into_iter();
        all.map(|filter| self.of(filter, args).frame).collect()
    }

    /// What must not be there already.
    fn all(&self, begun: &Begun, args: &MosaicArgs) -> Vec<PathBuf> {
        let goes_on = begun.kept.is_some() && same_file(&begun.layout, &self.layout);
        let mut all = Vec::new();
        if !goes_on {
            all.extend([self.plan_png.clone(), self.plan_svg.clone()]);
        }
        if args.plan {
            return all;
        }
        for filter in filters(begun) {
            let paths = self.of(filter, args);
            all.push(paths.frame);
            all.extend(paths.map);
            all.extend(paths.picture);
        }
        if !args.no_report {
            all.push(self.page.clone());
        }
        all
    }
}

/// The filters of all frames.
fn filters(begun: &Begun) -> Vec<&str> {
    let mut filters: Vec<&str> = begun.frames.iter().map(|f| f.filter.name()).collect();
    filters.sort_unstable();
    filters.dedup();
    filters
}

fn same_file(a: &Path, b: &Path) -> bool {
    let real = |p: &Path| p.canonicalize().ok();
    real(a).is_some() && real(a) == real(b)
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
    common: &Common,
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
    join_filter(
        &to,
        (frames, &placed.layout),
        (paths, overwrite),
        how,
        &run(common),
    )
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
