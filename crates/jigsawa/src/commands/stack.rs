//! `jigsawa stack`: many frames of each filter into one master.

use std::path::PathBuf;

use jigsawa_core::layout::Layout;
use jigsawa_core::verdict::Verdict;

use crate::account::{Account, Ending, MASTER_FRAME, MasterRow, master_row};
use crate::cli::{Common, StackArgs, WeighArg};
use crate::report::{StackPage, StackSet, write_stack};
use crate::terminal::{run, tell};
use jigsawa_work::clock::Clock;
use jigsawa_work::frames::{Filters, Frame};
use jigsawa_work::layout_file;
use jigsawa_work::normalize::{Across, Normalizing, field, normalize};
use jigsawa_work::outputs::{Names, finish_first};
use jigsawa_work::register::lay;
use jigsawa_work::run::Run;
use jigsawa_work::stack::{Paths, Set, check, merge_set, sets};
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
    let out = &args.output.out;
    let mut start = args.given.start(&args.frames, Filters::Known, out)?;
    args.placing.refuse_if_placed(&start)?;
    let spoilt = std::mem::take(&mut start.spoilt);
    check(
        &sets(&start.frames, start.placed.as_ref(), args.exposures()),
        &[],
    )?;
    let names = Names::new(args.output.place(), &start.frames, "stack")?;
    let page = out.join(format!("{}-stack.html", names.start));
    // By all frames, before any is left out: what will be written is among these.
    let paths = |set: &Set| Paths::new(out, &names.start, &set.part());
    let first = sets(&start.frames, None, args.exposures());
    let mut all: Vec<PathBuf> = Vec::new();
    for set in &first {
        let Paths { master, map } = paths(set);
        all.extend([master, map]);
    }
    if !args.no_report {
        all.push(page.clone());
    }
    names.check_these(&all.iter().collect::<Vec<_>>(), args.output.overwrite, true)?;
    let run = run(common, out, clock)?;
    let (frames, registered, left_out) = lay(start, args.placing.registering(), &run)?;
    let mut layout = balanced(args, &frames, registered.layout, &run)?;
    layout.frames.extend(left_out);
    let sets = sets(&frames, Some(&layout), args.exposures());
    check(&sets, &reasons(&layout))?;
    let field = field(&frames, &layout, &Normalizing::default(), &run)?;
    let (mut masters, mut files, mut of_page) = (Vec::new(), Vec::new(), Vec::new());
    let pixels = layout.canvas.size.area();
    for set in sets.iter().filter(|s| s.frames() > 0) {
        let paths = paths(set);
        let place = (&paths, args.output.overwrite);
        let how = (&args.stacking(), args.kernel.shape());
        let master = merge_set(set, (&field, &layout), place, how, &run)?;
        masters.push(master_row(set, &master, &frames, pixels));
        if !args.no_report {
            of_page.push(StackSet::new(set, &master, &layout)?);
        }
        files.push((master.file, MASTER_FRAME));
        files.push((master.map, "map of values, rejections and noise"));
    }
    run.clock.lap("stack");
    doubts(&mut layout, &sets, &masters);
    if !args.no_report {
        let content = StackPage {
            title: &names.start,
            sets: &of_page,
            masters: &masters,
            layout: &layout,
            spoilt: &spoilt,
        };
        files.push((write_stack(&page, &content, args.output.overwrite)?, REPORT));
        run.clock.lap("report");
    }
    files.push((
        layout_file::write(&names.layout, &layout, args.output.overwrite)?,
        "layout",
    ));
    let mut written = Vec::new();
    finish_first(files, &mut written)?;
    let mut account = Account::of_layout("stack", &layout, Vec::new(), written, &run.clock);
    account.own.masters = masters;
    Ok(account.without(spoilt))
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
    let wanted = Normalizing {
        across: Across::AsItIs,
        weigh: args.weigh.map(WeighArg::weigh).unwrap_or_default(),
        ..Normalizing::default()
    };
    Ok(normalize(frames, layout, &wanted, run)?.layout)
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
        if let 1 | 2 = set.frames() {
            let i = set.planes[0][0];
            layout.frames[i].notes.push(format!(
                "{} has {} only: nobody knows which is right where they differ, so trails and cosmic rays stay in its master",
                row.name,
                if set.frames() == 1 { "one frame" } else { "two frames" },
            ));
        }
        let by_rank = matches!(row.rule, "percentile" | "extremes");
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
