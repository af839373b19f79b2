//! `jigsawa stack`: many frames of each filter into one master.

use std::path::{Path, PathBuf};

use jigsawa_core::layout::Layout;
use jigsawa_core::stack::Rule;
use jigsawa_core::survey::judge::Rules;
use jigsawa_core::verdict::Verdict;

use super::register::layout_title;
use super::survey::condition;
use crate::account::{Account, ComparedRow, Ending, MASTER_FRAME, MasterRow, master_row};
use crate::cli::{Common, StackArgs, WeighArg, by_filter};
use crate::report::{StackPage, StackSet, write_stack};
use crate::terminal::{run, tell};
use jigsawa_work::clock::Clock;
use jigsawa_work::frames::{Filters, Frame, all_filters_there};
use jigsawa_work::layout_file;
use jigsawa_work::normalize::{Across, NormalizeSettings, known_frames, normalize};
use jigsawa_work::outputs::{Names, finish_first};
use jigsawa_work::register::{SearchSettings, lay, opened_with, register_into};
use jigsawa_work::run::Run;
use jigsawa_work::stack::{Kept, Paths, Set, check, choose, compare, follow, sets};
use jigsawa_work::start::{Start, is_own_result};
use jigsawa_work::trouble::Trouble;

/// What the account calls the page to look at.
pub const REPORT: &str = "report";

/// Runs the command and prints its account.
pub fn stack(args: &StackArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// Makes the masters.
pub fn make(args: &StackArgs, common: &Common) -> Result<Account, Trouble> {
    let clock = Clock::start();
    args.check().map_err(Trouble::Options)?;
    let rules = args.choice().map(|_| rules(args)).transpose()?;
    let (mut start, targets) = begun(args)?;
    let spoilt = std::mem::take(&mut start.spoilt);
    let run = run(common, &targets.folder, clock)?;
    let start = match rules {
        Some(rules) => choose(start, rules, &run),
        None => start,
    };
    let (frames, mut layout) = laid(args, start, &run)?;
    weigh_by_hand(&args.weights, &frames, &mut layout)?;
    let sets = sets(&frames, Some(&layout), args.exposures());
    check(&sets, &reasons(&layout))?;
    let mut placed = known_frames(&frames, &layout, &NormalizeSettings::default(), &run)?;
    follow(&mut placed, &layout, &args.follow)?;
    let (mut masters, mut files, mut of_page) = (Vec::new(), Vec::new(), Vec::new());
    let kept = Kept::of(&run);
    let sets_there = sets.iter().filter(|s| s.frames() > 0);
    let last = sets_there.clone().count().saturating_sub(1);
    for (k, set) in sets_there.enumerate() {
        let paths = targets.of(set);
        let place = (&paths, targets.overwrite);
        let how = (&args.stacking(set.filter.as_ref()), args.kernel.shape());
        let known = (&placed, &layout);
        let more = k < last || args.compare.is_some();
        let master = kept.merged(set, known, place, how, (&run, more))?;
        let mut row = master_row(set, &master, &frames, &layout.canvas);
        let mut compared = Vec::new();
        if let Some(counts) = args.compare.as_ref().filter(|_| set.frames() > 1) {
            compared = compare(set, known, counts, how, &run)?;
            row.compared = compared.iter().map(ComparedRow::new).collect();
        }
        masters.push(row);
        if !args.no_report {
            of_page.push(StackSet::new(set, &master, &layout, &compared)?);
        }
        files.push((master.file, MASTER_FRAME));
        files.push((master.map, "map of values, rejections and noise"));
    }
    run.clock.lap("stack");
    doubts(&mut layout, &sets, &masters);
    if !args.no_report {
        let content = StackPage {
            title: &targets.names.start,
            sets: &of_page,
            masters: &masters,
            layout: &layout,
            spoilt: &spoilt,
        };
        files.push((
            write_stack(&targets.page, &content, targets.overwrite)?,
            REPORT,
        ));
        run.clock.lap("report");
    }
    files.push((
        layout_file::write(&targets.layout, &layout, targets.overwrite)?,
        "layout",
    ));
    let mut written = Vec::new();
    finish_first(files, &mut written)?;
    kept.clear();
    let mut account = Account::of_layout("stack", &layout, Vec::new(), written, &run.clock);
    let doubts = masters.iter().flat_map(|m| {
        let told = |d: &String| format!("{}: {d}", m.name);
        m.doubts.iter().map(told)
    });
    account.warnings.extend(doubts);
    account.own.masters = masters;
    Ok(account.without(spoilt))
}

/// Where results go.
struct Targets {
    folder: PathBuf,
    names: Names,
    page: PathBuf,
    layout: PathBuf,
    overwrite: bool,
    /// Masters are of something that moves among the stars.
    moving: bool,
}

impl Targets {
    fn of(&self, set: &Set) -> Paths {
        let moving = if self.moving { "-moving" } else { "" };
        let part = format!("{}{moving}", set.part());
        Paths::new(&self.folder, &self.names.start, &part)
    }
}

/// What a stack starts from, and where it goes: checked before any work.
fn begun(args: &StackArgs) -> Result<(Start, Targets), Trouble> {
    // A stack that is there tells where its results lie, and is brought up to date.
    let there = args.into.as_ref().map(|layout| {
        let title = layout_title(layout);
        let start = title.strip_suffix("-stack").unwrap_or(&title).to_owned();
        let folder = layout.parent().unwrap_or(Path::new("")).to_owned();
        (folder, start, layout.clone())
    });
    let out = there.as_ref().map_or(&args.output.out, |t| &t.0).clone();
    let mut start = match &args.into {
        Some(_) => args.given.start_new(&args.frames, Filters::Known, &out)?,
        None => args.given.start(&args.frames, Filters::Known, &out)?,
    };
    // Masters of an earlier run are no sub-frames, unless somebody names them.
    if start.placed.is_none() {
        let is_named = |f: &Frame| args.frames.contains(&f.path);
        start.frames.retain(|f| is_named(f) || !is_own_result(f));
    }
    if args.follow.len() == 1 {
        return Err(Trouble::FollowOnce);
    }
    args.placing.refuse_if_placed(&start)?;
    if args.into.is_some() && start.placed.is_some() {
        return Err(Trouble::AlreadyPlaced(args.frames[0].clone()));
    }
    if let Some(option) = args.choice()
        && (start.placed.is_some() || start.reference.is_some())
    {
        return Err(Trouble::NotWithLayout(option));
    }
    let first = sets(&start.frames, start.placed.as_ref(), args.exposures());
    if there.is_none() {
        all_there(&args.weights, &start.frames)?;
        check(&first, &[])?;
        filters_there(args, &start.frames)?;
        refuse_colours(args, &first, &start.frames)?;
    }
    let name = there.as_ref().map(|t| t.1.as_str());
    let names = Names::new(
        (&out, name.or(args.output.name.as_deref())),
        &start.frames,
        "stack",
    )?;
    let targets = Targets {
        page: out.join(format!("{}-stack.html", names.start)),
        layout: there.as_ref().map_or(&names.layout, |t| &t.2).clone(),
        overwrite: args.output.overwrite || there.is_some(),
        moving: !args.follow.is_empty(),
        folder: out,
        names,
    };
    // By all frames, before any is left out: what will be written is among these.
    let mut all: Vec<PathBuf> = Vec::new();
    for set in &sets(&start.frames, None, args.exposures()) {
        let Paths { master, map } = targets.of(set);
        all.extend([master, map]);
    }
    if !args.no_report {
        all.push(targets.page.clone());
    }
    let all: Vec<&PathBuf> = all.iter().collect();
    targets
        .names
        .check_these(&all, targets.overwrite, there.is_none())?;
    Ok((start, targets))
}

/// A colour camera's pixels can be laid down one by one only where frames are raw.
fn refuse_colours(args: &StackArgs, sets: &[Set], frames: &[Frame]) -> Result<(), Trouble> {
    if args.colours.is_some() && !sets.iter().any(|s| s.is_raw_colour(frames)) {
        return Err(Trouble::Options(
            "--colours is for raw frames of a colour camera: a layout of jigsawa calibrate has them",
        ));
    }
    Ok(())
}

/// All frames with their places and balances.
fn laid(args: &StackArgs, start: Start, run: &Run<'_>) -> Result<(Vec<Frame>, Layout), Trouble> {
    let Some(path) = &args.into else {
        let (frames, registered, left_out) = lay(start, args.placing.registering(), run)?;
        let mut layout = balanced(args, &frames, registered.layout, run)?;
        layout.frames.extend(left_out);
        return Ok((frames, layout));
    };
    let (new, left_out) = (start.frames, start.left_out);
    let (frames, layout, count) = opened_with(path, new, &args.given.relocate)?;
    filters_there(args, &frames)?;
    let search = SearchSettings::default();
    let registered = register_into(layout, &frames, count, &search, run)?;
    let mut layout = balanced(args, &frames, registered.layout, run)?;
    layout.frames.extend(left_out);
    Ok((frames, layout))
}

/// Which frames are kept.
fn rules(args: &StackArgs) -> Result<Rules, Trouble> {
    Ok(Rules {
        keep: args.keep.as_deref().map(condition).transpose()?,
        best: by_filter(&args.keep_best).map_err(Trouble::Options)?,
    })
}

/// The layout with its frames' values matched: as it was given, or now.
fn balanced(
    args: &StackArgs,
    frames: &[Frame],
    layout: Layout,
    run: &Run<'_>,
) -> Result<Layout, Trouble> {
    let mut used = layout.frames.iter().filter(|f| f.verdict == Verdict::Used);
    if args.weigh.is_none() && used.all(|f| f.balance.is_some()) {
        return Ok(layout);
    }
    // What was asked for when they were matched before holds for those that come now.
    let before = layout.levels.clone().unwrap_or_default();
    let weigh = Some(before.weigh);
    let wanted = NormalizeSettings {
        across: Across::Apart,
        settings: before.settings,
        flatten: before.flatten,
        weigh: args
            .weigh
            .map(WeighArg::weigh)
            .or(weigh)
            .unwrap_or_default(),
        keep: args.weigh.is_none(),
        ..NormalizeSettings::default()
    };
    Ok(normalize(frames, layout, &wanted, run)?.layout)
}

/// Frames that count more or less than their noise says.
fn weigh_by_hand(
    weights: &[(String, f64)],
    frames: &[Frame],
    layout: &mut Layout,
) -> Result<(), Trouble> {
    all_there(weights, frames)?;
    for (name, factor) in weights {
        for (f, row) in frames.iter().zip(&mut layout.frames) {
            if let Some(balance) = row.balance.as_mut().filter(|_| f.is_called(name)) {
                balance.weight *= factor;
                let said = format!("its weight was multiplied by {factor}, as asked");
                balance.notes.push(said);
            }
        }
    }
    Ok(())
}

/// Every frame that is weighed by hand must be there.
fn all_there(weights: &[(String, f64)], frames: &[Frame]) -> Result<(), Trouble> {
    let is_there = |name: &str| frames.iter().any(|f| f.is_called(name));
    match weights.iter().find(|(name, _)| !is_there(name)) {
        None => Ok(()),
        Some((name, _)) => Err(Trouble::NoSuchFrame {
            option: "--weight",
            name: name.clone(),
            frames: frames.iter().map(Frame::name).collect(),
        }),
    }
}

/// Every filter that has options of its own must be there.
fn filters_there(args: &StackArgs, frames: &[Frame]) -> Result<(), Trouble> {
    all_filters_there(args.filters(), frames.iter().map(|f| &f.filter))
}

/// Frames that are left out, and why.
fn reasons(layout: &Layout) -> Vec<(String, String)> {
    let reason = |f: &jigsawa_core::layout::LayoutFrame| {
        Some((f.file.clone(), f.verdict.reason()?.to_owned()))
    };
    layout.frames.iter().filter_map(reason).collect()
}

/// More of a frame than this part is rejected, and no trail: it is not one of the others' kind.
const MUCH_PERCENT: f64 = 3.0;

/// What should be known of frames, as their notes.
fn doubts(layout: &mut Layout, sets: &[Set], masters: &[MasterRow]) {
    for (set, row) in sets.iter().filter(|s| s.frames() > 0).zip(masters) {
        let by_rank = Rule::ALL
            .iter()
            .any(|r| r.name() == row.rule && r.is_by_rank());
        let plane = &set.planes[set.planes.len() / 2];
        for (i, light) in plane.iter().zip(&row.lights).filter(|_| !by_rank) {
            let part = light.rejected_percent;
            if part > MUCH_PERCENT && light.trails.is_empty() {
                layout.frames[*i].notes.push(format!(
                    "{part:.1} % of its values were rejected: it shows something that the others do not, cloud or another \
                     gradient; look at its picture in the report"
                ));
            }
        }
    }
}
