//! `jigsawa calibrate`: raw frames of some nights to masters, and to a layout through which lights are read calibrated.

use std::path::PathBuf;

use jigsawa_work::calibrate::{CalibrateSettings, Calibration, calibrate as job, written_frames};
use jigsawa_work::clock::Clock;
use jigsawa_work::layout_file;
use jigsawa_work::outputs::{are_free, finish_first, make_folder, plain_name, slug};
use jigsawa_work::trouble::Trouble;

use crate::account::{CalibrateAccount, Ending};
use crate::cli::{CalibrateArgs, Common};
use crate::report::write_calibration;
use crate::terminal::{run, tell};

/// What the account calls the report.
pub const REPORT: &str = "report";

/// Runs the command and prints its account.
pub fn calibrate(args: &CalibrateArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// Calibrates.
pub fn make(args: &CalibrateArgs, common: &Common) -> Result<CalibrateAccount, Trouble> {
    let clock = Clock::start();
    let out = &args.output.out;
    let named = args.output.name.as_deref().map(plain_name).transpose()?;
    if let Some(name) = &named {
        are_free(&results(out, name), args.output.overwrite)?;
    }
    let library = args.library.clone().unwrap_or_else(|| out.join("library"));
    let run = run(common, out, clock)?;
    let wanted = CalibrateSettings {
        paths: &args.frames,
        out,
        library: &library,
        pattern: args.pattern,
        rays: args.cosmic_rays,
        filters: &args.filters,
        uses: &args.uses,
    };
    let done = job(&wanted, &run)?;
    let name = named.unwrap_or_else(|| named_by(&done));
    let [layout_path, page] = results(out, &name);
    let mut outputs = Vec::new();
    let mut files = Vec::new();
    if let Some(layout) = &done.layout {
        make_folder(out)?;
        are_free(&[&layout_path, &page], args.output.overwrite)?;
        files.push((
            layout_file::write(&layout_path, layout, args.output.overwrite)?,
            "layout",
        ));
        if let Some(folder) = &args.write_frames {
            outputs = written_frames(folder, layout, args.output.overwrite, &run)?;
            run.clock.lap("frames written");
        }
    }
    if !args.no_report {
        make_folder(out)?;
        files.push((
            write_calibration(&page, &name, &done, args.output.overwrite)?,
            REPORT,
        ));
        run.clock.lap("report");
    }
    finish_first(files, &mut outputs)?;
    Ok(CalibrateAccount::of(&done, outputs, &run.clock))
}

/// The layout and the report.
fn results(out: &std::path::Path, name: &str) -> [PathBuf; 2] {
    [
        out.join(format!("{name}.layout.json")),
        out.join(format!("{name}-calibrate.html")),
    ]
}

/// The target's name, where lights tell one.
fn named_by(done: &Calibration) -> String {
    let object = done.raw.iter().find_map(|r| r.facts.object.clone());
    let name = object.map(|o| slug(&o)).filter(|n| !n.is_empty());
    name.unwrap_or_else(|| "night".to_owned())
}
