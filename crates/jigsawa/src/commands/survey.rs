//! `jigsawa survey`: a night's files looked at, compared and judged.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use jigsawa_core::survey::condition::{Condition, ConditionError};
use jigsawa_core::survey::judge::Rules;
use jigsawa_core::survey::quantity::{Quantity, named};
use jigsawa_formats::whole::Unfinished;

use crate::account::{Ending, SurveyAccount};
use crate::cli::{Common, SurveyArgs, by_filter};
use crate::report;
use crate::terminal::{TableSettings, run, survey_text, tell, width};
use jigsawa_work::cache::Store;
use jigsawa_work::clock::{Clock, Output};
use jigsawa_work::find::{FoundFile, find};
use jigsawa_work::foreign::name_of;
use jigsawa_work::frames::{Frame, all_filters_there, twin_of, twins};
use jigsawa_work::layout_file;
use jigsawa_work::outputs::{are_free, begin, make_folder, plain_name, slug};
use jigsawa_work::start::of_layout;
use jigsawa_work::survey::{
    Journal, JudgeSettings, Night, Places, Plan, Resumed, SurveyedFile, Through, Way, carry,
    layout, plan, survey_files, write_csv,
};
use jigsawa_work::trouble::Trouble;

/// What the account calls the page to look at.
pub const REPORT: &str = "report";

/// What the account calls frames that were copied or moved.
const CARRIED: [&str; 2] = ["copied frame", "moved frame"];

/// The longest side of the report's pictures, unless full size is wanted or costs little.
const PREVIEW_SIDE: usize = 1536;

/// Pictures stay at full size where all files together are not larger: a page of some 40 MB.
const FULL_SIZE_BYTES: u64 = 300 << 20;

/// Runs the command and prints what it says.
pub fn survey(args: &SurveyArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// Surveys.
pub fn make(args: &SurveyArgs, common: &Common) -> Result<SurveyAccount, Trouble> {
    let settings = JudgeSettings {
        rules: Rules {
            keep: args.keep.as_deref().map(condition).transpose()?,
            best: by_filter(&args.keep_best).map_err(Trouble::Options)?,
        },
        weights: args.weights.unwrap_or_default(),
    };
    let table = table_settings(args)?;
    if args.dry_run && args.copy.is_none() && args.move_rest.is_none() {
        return Err(Trouble::DryRunOfNothing);
    }
    // What an interrupted run has decided is done first: its verdicts compared frames that have moved since.
    let resumed = match &args.move_rest {
        Some(folder) => resume(folder, args.dry_run)?,
        None => None,
    };
    let told = surveyed(args, common, &settings, &table, resumed.as_ref());
    match (&args.move_rest, resumed) {
        (Some(folder), Some(Gone { moved, .. })) => {
            told.map_err(|e| after_moving(e, moved, folder))
        }
        _ => told,
    }
}

/// What became of the moves of an interrupted run, in words, and how many were done now.
struct Gone {
    words: String,
    moved: usize,
}

/// An error after originals have moved says so.
fn after_moving(trouble: Trouble, moved: usize, folder: &Path) -> Trouble {
    if moved == 0 {
        return trouble;
    }
    Trouble::AfterMoving {
        moved,
        folder: folder.to_owned(),
        trouble: Box::new(trouble),
    }
}

/// Looks at the frames, compares and judges them, and writes what is asked for.
fn surveyed(
    args: &SurveyArgs,
    common: &Common,
    settings: &JudgeSettings,
    table: &TableSettings,
    resumed: Option<&Gone>,
) -> Result<SurveyAccount, Trouble> {
    let clock = Clock::start();
    let apart: Vec<&Path> = [&args.copy, &args.move_rest]
        .into_iter()
        .flatten()
        .map(PathBuf::as_path)
        .collect();
    let (files, through) = files_of(args, &apart)?;
    make_folder(&args.output.out)?;
    let way = Way {
        area: args.area,
        preview_side: (!args.no_report).then(|| preview_side(args, &files)),
    };
    // A name that the user gives is checked, and results that are there already are seen, before any
    // frame is read.
    let named = args.output.name.as_deref().map(plain_name).transpose()?;
    if let Some(name) = &named {
        Names::new(args, name).check(args.output.overwrite)?;
    }
    let run = run(common, &args.output.out, clock)?;
    let (mut looked, measured) = survey_files(&files, &way, &through, &run);
    leave_out_twins(&files, &mut looked, &run.store);
    run.clock.lap("frames");
    let mut night = Night::new(files, looked, settings, &Places::new(&run.store, args.area));
    if night.files.is_empty() {
        return Err(Trouble::NoneReadable(
            night
                .unreadable
                .iter()
                .map(|(f, why)| (name_of(&f.path), why.clone()))
                .collect(),
        ));
    }
    let best = args.keep_best.iter().filter_map(|o| o.filter.as_ref());
    let there = night.facts.iter().filter_map(|f| f.filter.as_ref());
    all_filters_there(best.map(|f| ("--keep-best", f)), there)?;
    run.clock.lap("compare");
    let object = night.facts.iter().find_map(|f| f.object.clone());
    let name = named.unwrap_or_else(|| start_of_names(object.as_deref(), args));
    let names = Names::new(args, &name);
    names.check(args.output.overwrite)?;
    let carried = [(&args.copy, false), (&args.move_rest, true)]
        .into_iter()
        .filter(|_| resumed.is_none())
        .find_map(|(folder, moves)| Some(plan(&night, folder.as_ref()?, moves)))
        .transpose()?;
    let title = format!("{} survey", object.as_deref().unwrap_or(&name));
    let files = pages(
        &names,
        &title,
        &night,
        (&run.store, &way),
        args.output.overwrite,
    )?;
    let mut outputs = Vec::new();
    let mut carried_text = resumed.map_or(String::new(), |r| format!("{}\n", r.words));
    let mut moved = 0;
    if let Some(plan) = &carried {
        carried_text = carry_out(plan, args.dry_run, &mut outputs)?;
        if plan.moves && !args.dry_run {
            moved = plan.files.len();
            night.moved(&plan.files);
        }
    }
    let finished = finish(files, &names, &night, args.output.overwrite, &mut outputs);
    if let (Err(trouble), folder) = (finished, carried.as_ref().map(|p| p.folder.as_path())) {
        return Err(after_moving(
            trouble,
            moved,
            folder.unwrap_or(Path::new("")),
        ));
    }
    run.clock.lap("results");
    let mut text = survey_text(&night, table);
    text.push_str(&carried_text);
    // Copied and moved frames are named in the account; a line for each would bury the rest.
    for o in outputs.iter().filter(|o| !CARRIED.contains(&o.kind)) {
        let _ = writeln!(text, "wrote      {}  {}", o.file, o.kind);
    }
    let mut account = SurveyAccount::of_night(&night, measured, outputs, &run.clock);
    account.warnings.extend(resumed.map(|r| r.words.clone()));
    let known = account.own.frames.len() - account.own.measured.min(account.own.frames.len());
    let known = if known > 0 {
        format!(", {known} frames known from before")
    } else {
        String::new()
    };
    let _ = writeln!(text, "took       {:.2} s{known}", account.seconds);
    account.own.text = text;
    Ok(account)
}

/// The files that are meant; those of a layout are read through it.
fn files_of(args: &SurveyArgs, apart: &[&Path]) -> Result<(Vec<FoundFile>, Through), Trouble> {
    let Some(frames) = of_layout(&args.frames)? else {
        return Ok((find(&args.frames, apart)?, Through::new()));
    };
    let file = |f: &Frame| {
        let name = f.path.file_name().map(PathBuf::from);
        FoundFile::new(f.path.clone(), name.unwrap_or_default())
    };
    let files = frames.iter().map(file).collect();
    let raw = frames.into_iter().filter(|f| f.calibration.is_some());
    Ok((files, raw.map(|f| (f.path.clone(), f)).collect()))
}

/// The same frame under a second name is left out.
fn leave_out_twins(files: &[FoundFile], looked: &mut [SurveyedFile], store: &Store) {
    let paths: Vec<&Path> = files.iter().map(|f| f.path.as_path()).collect();
    let twins = twins(&paths, |p| store.fingerprint(p));
    for (found, first) in looked.iter_mut().zip(twins) {
        if let (Some(first), true) = (first, found.facts.is_some()) {
            found.measures = Err(twin_of(&files[first].name));
        }
    }
}

/// Report and table, under temporary names still. What keeps a layout from being made is said here, too, before any
/// file is moved.
fn pages(
    names: &Names,
    title: &str,
    night: &Night,
    (store, way): (&Store, &Way),
    overwrite: bool,
) -> Result<Vec<(Unfinished, &'static str)>, Trouble> {
    let mut files = Vec::new();
    if let Some(path) = &names.report {
        let page = report::write_survey(path, title, night, store, way, overwrite)?;
        files.push((page, REPORT));
    }
    if let Some(path) = &names.csv {
        files.push((write_csv(path, night, overwrite)?, "table"));
    }
    if names.layout.is_some() {
        layout(night)?;
    }
    Ok(files)
}

/// Goes on with the moves of an interrupted run, and tells of it; `None` when there was none.
fn resume(folder: &Path, dry: bool) -> Result<Option<Gone>, Trouble> {
    let Some(journal) = Journal::left_in(folder)? else {
        return Ok(None);
    };
    let place = name_of(folder);
    if dry {
        let waiting = journal.waiting();
        return Ok(Some(Gone {
            words: format!(
                "an interrupted run has {waiting} frames still to move to {place}: they would be moved, and no others"
            ),
            moved: 0,
        }));
    }
    let Resumed { of, moved, gone } = journal.carry_out()?;
    let mut words = format!(
        "an earlier run was interrupted while it moved {of} frames to {place}: the last {} are there now. No others were \
         moved: run it again to sort what is left",
        moved.len()
    );
    if !gone.is_empty() {
        let names: Vec<String> = gone.iter().map(|p| name_of(p)).collect();
        let _ = write!(words, ". Somebody else has taken away {}", names.join(", "));
    }
    Ok(Some(Gone {
        words,
        moved: moved.len(),
    }))
}

/// Writes the layout, which names files where they are now, and gives all results their names.
fn finish(
    mut files: Vec<(Unfinished, &'static str)>,
    names: &Names,
    night: &Night,
    overwrite: bool,
    outputs: &mut Vec<Output>,
) -> Result<(), Trouble> {
    if let Some(path) = &names.layout {
        let file = layout_file::write(path, &layout(night)?, overwrite)?;
        files.push((file, "layout"));
    }
    for (file, kind) in files {
        let path = file.target().to_owned();
        let done = file
            .finish()
            .map_err(|error| Trouble::Write { file: path, error })?;
        outputs.push(Output {
            file: name_of(&done),
            kind,
        });
    }
    Ok(())
}

/// A condition as it was typed.
pub(super) fn condition(text: &str) -> Result<Condition, Trouble> {
    Condition::parse(text).map_err(|error: ConditionError| Trouble::Keep {
        text: text.to_owned(),
        error,
    })
}

fn table_settings(args: &SurveyArgs) -> Result<TableSettings, Trouble> {
    let column = |option: &'static str, name: &str| -> Result<&'static Quantity, Trouble> {
        named(name.trim()).ok_or_else(|| Trouble::Column {
            option,
            name: name.trim().to_owned(),
        })
    };
    Ok(TableSettings {
        columns: args
            .columns
            .iter()
            .map(|c| column("--columns", c))
            .collect::<Result<_, _>>()?,
        sort: args
            .sort
            .as_deref()
            .map(|s| {
                let (name, down) = s.strip_prefix('-').map_or((s, false), |n| (n, true));
                column("--sort", name).map(|q| (q, down))
            })
            .transpose()?,
        width: width(),
    })
}

/// Full size where that is wanted or cheap, else what fills a screen.
fn preview_side(args: &SurveyArgs, files: &[FoundFile]) -> usize {
    let bytes: u64 = files
        .iter()
        .filter_map(|f| std::fs::metadata(&f.path).ok())
        .map(|m| m.len())
        .sum();
    if args.full_size || bytes <= FULL_SIZE_BYTES {
        usize::from(u16::MAX)
    } else {
        PREVIEW_SIDE
    }
}

fn start_of_names(object: Option<&str>, args: &SurveyArgs) -> String {
    let folder = || {
        let first = args.frames.first()?.canonicalize().ok()?;
        let folder = if first.is_dir() {
            first
        } else {
            first.parent()?.to_owned()
        };
        Some(folder.file_name()?.to_string_lossy().into_owned())
    };
    object
        .map(str::to_owned)
        .or_else(folder)
        .map(|n| slug(&n))
        .filter(|n| !n.is_empty())
        .unwrap_or_else(|| "night".to_owned())
}

/// The results that are wanted.
struct Names {
    report: Option<PathBuf>,
    csv: Option<PathBuf>,
    layout: Option<PathBuf>,
}

impl Names {
    fn new(args: &SurveyArgs, start: &str) -> Self {
        let file = |wanted: bool, ending: &str| {
            wanted.then(|| args.output.out.join(format!("{start}-survey.{ending}")))
        };
        Self {
            report: file(!args.no_report, "html"),
            csv: file(args.csv, "csv"),
            layout: file(args.layout, "layout.json"),
        }
    }

    /// No result may be there already, unless it is to be replaced, and the folder must take files.
    fn check(&self, overwrite: bool) -> Result<(), Trouble> {
        let all: Vec<&PathBuf> = [&self.report, &self.csv, &self.layout]
            .into_iter()
            .flatten()
            .collect();
        are_free(&all, overwrite)?;
        all.first()
            .map_or(Ok(()), |p| begin(p, overwrite).map(drop))
    }
}

/// Copies or moves, or says what would be done.
fn carry_out(plan: &Plan, dry: bool, outputs: &mut Vec<Output>) -> Result<String, Trouble> {
    let mut text = String::new();
    let verb = match (plan.moves, dry) {
        (false, true) => "would copy",
        (true, true) => "would move",
        (false, false) => "copied",
        (true, false) => "moved",
    };
    if !dry {
        carry(plan)?;
        outputs.extend(plan.files.iter().map(|(_, to)| Output {
            file: to.display().to_string(),
            kind: CARRIED[usize::from(plan.moves)],
        }));
    }
    if dry {
        for (from, to) in &plan.files {
            let _ = writeln!(text, "{verb} {} to {}", name_of(from), name_of(to));
        }
    }
    let _ = write!(
        text,
        "{verb} {} frames to {}",
        plan.files.len(),
        name_of(&plan.folder)
    );
    let _ = match plan.copied {
        0 => writeln!(text),
        n => writeln!(text, "; {n} were there already"),
    };
    Ok(text)
}
