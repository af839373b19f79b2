//! `jigsawa hdr`: several exposures of a filter into one linear frame, for every filter on one canvas.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::balance::Shape;
use jigsawa_core::layout::{Layout, LevelReference, Levels};
use jigsawa_core::space::{CanvasPx, Point, Rect};
use jigsawa_formats::about::About;
use jigsawa_formats::whole::Unfinished;

use crate::account::{Account, Ending, HDR_FRAME, HdrRow, hdr_rows as rows};
use crate::cli::{Common, CropArg, ExrArg, FinishArgs, HdrArgs, SurfaceArg};
use crate::commands::colour::Colour;
use crate::commands::finish;
use crate::report::{HdrPage, HdrSet, write_hdr};
use crate::terminal::{run, tell};
use jigsawa_work::clock::{Clock, Output};
use jigsawa_work::frames::{Filters, Frame};
use jigsawa_work::hdr::{
    Exr, Measured, Merged, Numbers, Paths, Set, check, measure_set, merge_set, sets, tell_apart,
    write_exr,
};
use jigsawa_work::layout_file;
use jigsawa_work::normalize::{NormalizeSettings, known_frames};
use jigsawa_work::outputs::{self, Names, begin, finish_first};
use jigsawa_work::register::lay;
use jigsawa_work::run::Run;
use jigsawa_work::trouble::Trouble;

/// What the account calls the page to look at.
pub const REPORT: &str = "report";

/// The stiffness of a spline that is asked for.
const USUAL_STIFFNESS: f64 = 0.5;

/// Runs the command and prints its account.
pub fn hdr(args: &HdrArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// Merges the exposures.
pub fn make(args: &HdrArgs, common: &Common) -> Result<Account, Trouble> {
    let clock = Clock::start();
    let out = &args.output.out;
    let mut start = args.given.start(&args.frames, Filters::All, out)?;
    tell_apart(&mut start.frames, &args.exposures, &args.saturations)?;
    args.placing.refuse_if_placed(&start)?;
    let first = sets(&start.frames, start.placed.as_ref());
    check(&start.frames, &first, &start.left_out, false)?;
    let names = Names::new(args.output.place(), &start.frames, "hdr")?;
    let targets = Targets::new(args, &names, &first);
    // Before the folder is made: a palette that does not exist leaves nothing behind.
    let colour = Colour::asked(
        args.palette.as_ref(),
        &targets.merged(),
        &start.frames,
        (&args.output.out, &targets.start),
        args.output.overwrite,
    )?;
    let all = targets.all(args);
    names.check_these(&all.iter().collect::<Vec<_>>(), args.output.overwrite, true)?;
    let run = run(common, &args.output.out, clock)?;
    let (frames, registered, left_out) = lay(start, args.placing.registering(), &run)?;
    let mut layout = registered.layout;
    layout.frames.extend(left_out);
    let sets = sets(&frames, Some(&layout));
    check(&frames, &sets, &layout.frames, true)?;
    let placed = known_frames(&frames, &layout, &NormalizeSettings::default(), &run)?;
    let all: usize = sets.iter().map(|s| s.frames.len()).sum();
    let progress = run.begin("exposures", all);
    let mut measured: Vec<Measured<'_>> = Vec::new();
    for set in &sets {
        let shape = args.surface.map(shape);
        measured.push(measure_set(
            set,
            &frames,
            &layout,
            &placed,
            &args.saturations,
            shape,
            &*progress,
        )?);
    }
    drop(progress);
    run.clock.lap("exposures");
    balance(&mut layout, &sets, &measured);
    let (mut told, mut files, mut of_page) = (Vec::new(), Vec::new(), Vec::new());
    for (set, m) in sets.iter().zip(&measured) {
        let done = merged(set, m, (&frames, &layout), &targets, args, &run)?;
        run.clock.lap("merge");
        told.extend(done.rows);
        files.extend(done.files);
        of_page.extend(done.of_page);
    }
    doubts(&mut layout, &sets, &told);
    if !args.no_report {
        let page = HdrPage {
            title: &names.start,
            sets: &of_page,
            rows: &told,
            layout: &layout,
        };
        files.push((
            write_hdr(&targets.page, &page, args.output.overwrite)?,
            REPORT,
        ));
        run.clock.lap("report");
    }
    // A layout that was given stays as it is; this one has balances for these exposures.
    files.push((
        layout_file::write(&names.layout, &layout, args.output.overwrite)?,
        "layout",
    ));
    let mut written: Vec<Output> = Vec::new();
    finish_first(files, &mut written)?;
    if let Some(colour) = &colour {
        let crop = crop(&layout, &sets.iter().collect::<Vec<_>>());
        written.extend(colour.make(crop, args.no_report, common)?);
        run.clock.lap("colour");
    } else if !args.linear_only {
        for set in &sets {
            let crop = crop(&layout, &[set]);
            written.extend(picture(&targets.of(set), crop, args, common)?);
        }
        run.clock.lap("picture");
    }
    let mut account = Account::of_layout("hdr", &layout, Vec::new(), written, &run.clock);
    account.own.exposures = told;
    Ok(account)
}

/// A merged set.
struct Done {
    rows: Vec<HdrRow>,
    files: Vec<(Unfinished, &'static str)>,
    of_page: Option<HdrSet>,
}

/// Merges a set: its files, and what is told of it.
fn merged(
    set: &Set,
    m: &Measured<'_>,
    (frames, layout): (&[Frame], &Layout),
    targets: &Targets,
    args: &HdrArgs,
    run: &Run<'_>,
) -> Result<Done, Trouble> {
    let paths = targets.of(set);
    let merged = merge_set(
        set,
        m,
        (frames, layout),
        (&paths.files, args.output.overwrite),
        args.kernel.shape(),
        run,
    )?;
    let rows = rows(set, m, &merged, frames);
    let exr = paths
        .exr
        .as_ref()
        .map(|path| exr(path, &merged, m, layout, args))
        .transpose()?;
    let of_page = (!args.no_report)
        .then(|| HdrSet::new(set, m, &merged, (frames, layout)))
        .transpose()?;
    let mut files = vec![(merged.frame, HDR_FRAME)];
    files.extend(exr.map(|f| (f, "HDR frame, EXR")));
    files.push((merged.map, "map of sources and weights"));
    files.extend(merged.sigma.map(|f| (f, "error of each pixel")));
    Ok(Done {
        rows,
        files,
        of_page,
    })
}

fn shape(surface: SurfaceArg) -> Shape {
    match surface {
        SurfaceArg::Level => Shape::Level,
        SurfaceArg::Plane => Shape::Plane,
        SurfaceArg::Polynomial(degree) => Shape::Polynomial { degree },
        SurfaceArg::Spline => Shape::Spline {
            stiffness: USUAL_STIFFNESS,
        },
    }
}

/// The files of a set.
struct SetPaths {
    files: Paths,
    exr: Option<PathBuf>,
    pictures: Vec<PathBuf>,
}

/// All files.
struct Targets {
    folder: PathBuf,
    start: String,
    filters: Vec<String>,
    page: PathBuf,
    sigma: bool,
    exr: bool,
}

impl Targets {
    fn new(args: &HdrArgs, names: &Names, sets: &[Set]) -> Self {
        let folder = args.output.out.clone();
        Self {
            page: folder.join(format!("{}-hdr.html", names.start)),
            folder,
            start: names.start.clone(),
            filters: sets.iter().map(part).collect(),
            sigma: args.sigma,
            exr: args.exr.is_some(),
        }
    }

    fn of(&self, set: &Set) -> SetPaths {
        self.named(&part(set))
    }

    /// The frames that the filters will be.
    fn merged(&self) -> Vec<PathBuf> {
        let all = self.filters.iter();
        all.map(|f| self.named(f).files.frame.clone()).collect()
    }

    fn named(&self, filter: &str) -> SetPaths {
        let files = Paths::new(&self.folder, &self.start, filter, self.sigma);
        SetPaths {
            exr: self.exr.then(|| files.frame.with_extension("exr")),
            pictures: ["png", "tif"]
                .map(|e| files.frame.with_extension(e))
                .to_vec(),
            files,
        }
    }

    /// What must not be there already.
    fn all(&self, args: &HdrArgs) -> Vec<PathBuf> {
        let mut all: Vec<PathBuf> = Vec::new();
        for filter in &self.filters {
            let paths = self.named(filter);
            all.extend(paths.files.all());
            all.extend(paths.exr);
            if !args.linear_only && args.palette.is_none() {
                all.extend(paths.pictures);
            }
        }
        if !args.no_report {
            all.push(self.page.clone());
        }
        all
    }
}

/// A filter's name as part of a file's name.
fn part(set: &Set) -> String {
    outputs::slug(set.filter.name())
}

/// Writes what was found into the layout.
fn balance(layout: &mut Layout, sets: &[Set], measured: &[Measured<'_>]) {
    let mut references = Vec::new();
    for f in &mut layout.frames {
        f.balance = None;
    }
    for (set, m) in sets.iter().zip(measured) {
        for (i, (e, j)) in set.frames.iter().zip(m.exposures.iter().zip(&m.joined)) {
            let row = &mut layout.frames[*i];
            row.balance = Some(j.balance.clone());
            row.saturation = e.saturation.map(|f| f.level).or(row.saturation);
        }
        references.push(LevelReference {
            filter: set.filter.clone(),
            frame: set.frames[0],
            why: "the longest exposure".to_owned(),
        });
    }
    layout.levels = Some(Levels {
        references,
        ..Levels::default()
    });
}

/// What should be known of frames, as their notes.
fn doubts(layout: &mut Layout, sets: &[Set], told: &[HdrRow]) {
    let mut rows = told.iter();
    for set in sets {
        let of_set: Vec<&HdrRow> = rows.by_ref().take(set.frames.len()).collect();
        if let [_] = of_set[..] {
            layout.frames[set.frames[0]].notes.push(format!(
                "it is the only exposure of {}: there is nothing to merge it with, and what is full in it stays full",
                set.filter
            ));
        }
        let equal = of_set
            .windows(2)
            .all(|w| w[0].exposure_s == w[1].exposure_s);
        if of_set.len() > 1 && equal {
            layout.frames[set.frames[0]].notes.push(format!(
                "all exposures of {} are equally long: they become a plain weighted mean, and what is full in one is full \
                 in all",
                set.filter
            ));
        }
        for (i, row) in set.frames.iter().zip(&of_set) {
            if row.full.is_none() {
                layout.frames[*i].notes.push(
                    "nothing tells from which value its pixels are full: none is taken to be. --saturation HDR_FRAME=VALUE says so"
                        .to_owned(),
                );
            }
            if let Some(shoulder) = row.shoulder {
                layout.frames[*i].notes.push(format!(
                    "it is not linear from {shoulder:.0} on, below what fills it: brighter light is from shorter exposures"
                ));
            }
        }
        if let (Some(i), Some(row)) = (set.frames.last(), of_set.last())
            && of_set.len() > 1
            && row.full_percent > 0.0
        {
            layout.frames[*i].notes.push(format!(
                "{:.3} % of its pixels are full, though it is the shortest: there the merged frame is too dark, and its map \
                 says 99. A shorter exposure would help",
                row.full_percent
            ));
        }
    }
}

/// A merged frame as EXR, too.
fn exr(
    path: &Path,
    merged: &Merged,
    m: &Measured<'_>,
    layout: &Layout,
    args: &HdrArgs,
) -> Result<Unfinished, Trouble> {
    let sky = m.exposures[0].light.sky;
    // Where nothing is known to be full, units stay.
    let full = m.exposures[0].saturation.map_or(1.0, |f| f.level - sky);
    let how = Exr {
        numbers: match args.exr {
            Some(ExrArg::Half) => Numbers::Half,
            _ => Numbers::Float,
        },
        sky,
        full,
        order: layout.canvas.row_order,
        about: About {
            lines: vec![(
                "Values".to_owned(),
                format!("light above the sky at {sky}, in units of {full}"),
            )],
            ..About::titled(&format!("HDR frame of {}", path.display()))
        },
    };
    write_exr(
        merged.frame.path(),
        begin(path, args.output.overwrite)?,
        &how,
    )
}

/// What a picture keeps: the part that the longest exposures cover. Beyond their edges there is only the noise of the
/// short ones.
fn crop(layout: &Layout, sets: &[&Set]) -> CropArg {
    let longest = sets.iter().filter_map(|s| {
        let row = &layout.frames[s.frames[0]];
        let back = row.placement.as_ref()?.placement()?.invert();
        Some((back, row.size))
    });
    let rect = longest.fold(layout.canvas.size.rect(), |kept, (back, size)| {
        kept.intersect(inside(size.corners().map(|p| back.apply(p))))
    });
    if rect.is_empty() {
        CropArg::Covered
    } else {
        CropArg::To(rect)
    }
}

/// The pixels inside of a frame that is turned little, or by right angles.
fn inside(corners: [Point<CanvasPx>; 4]) -> Rect {
    let middle = |of: fn(&Point<CanvasPx>) -> f64| {
        let mut v = corners.each_ref().map(of);
        v.sort_by(f64::total_cmp);
        (v[1].ceil(), v[2].floor())
    };
    let ((left, right), (top, bottom)) = (middle(|p| p.x), middle(|p| p.y));
    Rect {
        x: left.whole(),
        y: top.whole(),
        width: (right - left + 1.0).max(0.0).index(),
        height: (bottom - top + 1.0).max(0.0).index(),
    }
}

/// A merged frame as a picture: core and faint light together.
fn picture(
    paths: &SetPaths,
    crop: CropArg,
    args: &HdrArgs,
    common: &Common,
) -> Result<Vec<Output>, Trouble> {
    let finishing = FinishArgs {
        crop,
        frames: vec![paths.files.frame.clone()],
        out: paths.pictures.clone(),
        overwrite: args.output.overwrite,
        no_report: true,
        compress_range: 1.0,
        ..FinishArgs::usual()
    };
    Ok(finish::make(&finishing, common)?.outputs)
}
