//! From raw lights to masters, for a command that wants masters: calibrated, stacked, and exposures of one filter merged.

use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

use clap::Parser;
use jigsawa_core::frame::Kind;
use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;
use rayon::prelude::*;

use super::{calibrate, hdr, stack};
use crate::account::{Account, HDR_FRAME, MASTER_FRAME, several_of_a_filter};
use crate::cli::{Cli, Command, Common, ComposeArgs};
use jigsawa_work::clock::Output;
use jigsawa_work::compose::{bind, choose};
use jigsawa_work::find::find;
use jigsawa_work::layout_file;
use jigsawa_work::trouble::Trouble;

/// What became of raw lights.
pub struct FromRaw {
    /// The masters to go on with.
    pub masters: Vec<PathBuf>,
    /// What was written on the way.
    pub outputs: Vec<Output>,
    /// What was said of it.
    pub warnings: Vec<String>,
}

/// Masters of the lights that a command is given; none where these are no raw ones.
pub fn from_raw(args: &ComposeArgs, common: &Common) -> Result<Option<FromRaw>, Trouble> {
    // A word for a filter has no meaning for a layout, nor for calibration frames: the usual way says so.
    if !args.given.filters.is_empty() {
        return Ok(None);
    }
    let mut done = FromRaw {
        masters: Vec::new(),
        outputs: Vec::new(),
        warnings: Vec::new(),
    };
    let line = Line { args };
    let layout = match raw_layout(args)? {
        Some(layout) => layout,
        None if is_raw_night(&args.frames, &args.output.out)? => {
            let command = line.parsed("calibrate", &args.frames, &[])?;
            let Command::Calibrate(own) = command else {
                return Ok(None);
            };
            let account = calibrate::make(&own, common).map_err(|e| line.there(e))?;
            done.warnings.extend(account.warnings);
            let layout = account.outputs.iter().find(|o| o.kind == "layout");
            let layout = layout.map(|o| PathBuf::from(&o.file));
            done.outputs.extend(account.outputs);
            let Some(layout) = layout else {
                return Ok(None);
            };
            layout
        }
        None => return Ok(None),
    };
    // What the palettes need is known before the long work. Mixes may name masters that are not there yet.
    if args.red.is_none() && args.each.is_none() {
        let (frames, _) = layout_file::open(&layout, &args.given.relocate)?;
        for palette in choose(&args.colours(), &frames)? {
            bind(&palette, &frames, None)?;
        }
    }
    let mut options: Vec<OsString> = line.placing();
    for (old, new) in &args.given.relocate {
        options.extend(["--relocate".into(), format!("{old}={new}").into()]);
    }
    let Command::Stack(own) = line.parsed("stack", &[layout], &options)? else {
        return Ok(None);
    };
    let account = stack::make(&own, common).map_err(|e| line.there(e))?;
    let several = several_of_a_filter(&account.own.masters);
    done.take(account, MASTER_FRAME);
    if several {
        let alone = ["--linear-only".into(), "--no-report".into()];
        let masters = std::mem::take(&mut done.masters);
        let Command::Hdr(own) = line.parsed("hdr", &masters, &alone)? else {
            return Ok(None);
        };
        done.take(hdr::make(&own, common)?, HDR_FRAME);
    }
    Ok(Some(done))
}

impl FromRaw {
    /// What a command has made, and what of it is gone on with.
    fn take(&mut self, account: Account, kind: &str) {
        let made = account.outputs.iter().filter(|o| o.kind == kind);
        self.masters.extend(made.map(|o| PathBuf::from(&o.file)));
        self.outputs.extend(account.outputs);
        self.warnings.extend(account.warnings);
    }
}

/// The one layout among the arguments, if its frames are raw lights that have no place yet.
fn raw_layout(args: &ComposeArgs) -> Result<Option<PathBuf>, Trouble> {
    let [path] = args.frames.as_slice() else {
        return Ok(None);
    };
    if path
        .extension()
        .is_none_or(|e| !e.eq_ignore_ascii_case("json"))
    {
        return Ok(None);
    }
    let (_, layout) = layout_file::open(path, &args.given.relocate)?;
    let raw = layout.frames.iter().any(|f| f.calibration.is_some());
    Ok((raw && !layout.is_placed()).then(|| path.clone()))
}

/// Do the arguments mean lights together with biases, darks or flats?
fn is_raw_night(frames: &[PathBuf], out: &Path) -> Result<bool, Trouble> {
    if !frames.iter().any(|f| f.is_dir()) {
        return Ok(false);
    }
    let files = find(frames, &[out])?;
    // Masters among them, a library's say, are no raw frames.
    let kinds: Vec<Kind> = files
        .par_iter()
        .filter_map(|f| FitsFrame::open(&f.path).ok())
        .map(|file| facts::read(&file))
        .filter(|facts| !facts.master)
        .map(|facts| facts.kind)
        .collect();
    Ok(kinds.contains(&Kind::Light) && kinds.iter().any(|k| *k != Kind::Light))
}

/// What the command lines have in common.
struct Line<'a> {
    args: &'a ComposeArgs,
}

impl Line<'_> {
    /// A command with frames and options, as if it had been typed.
    fn parsed(
        &self,
        command: &str,
        frames: &[PathBuf],
        options: &[OsString],
    ) -> Result<Command, Trouble> {
        let output = &self.args.output;
        let mut words: Vec<OsString> = vec!["jigsawa".into(), command.into()];
        words.extend(options.iter().cloned());
        // In one word, whatever it begins with.
        let joined = |option: &str, value: &OsStr| {
            let mut word = OsString::from(option);
            word.push(value);
            word
        };
        words.push(joined("--out=", output.out.as_os_str()));
        if let Some(name) = &output.name {
            words.push(joined("--name=", name.as_ref()));
        }
        if output.overwrite {
            words.push("--overwrite".into());
        }
        words.push("--".into());
        words.extend(frames.iter().map(|f| f.clone().into_os_string()));
        let cli = Cli::try_parse_from(words).map_err(|_| {
            Trouble::Options("a name or a folder here cannot be handed on to stack: stack first")
        })?;
        Ok(cli.command)
    }

    /// What is there already is from an earlier run, with another palette say: there is no need to make it anew.
    fn there(&self, trouble: Trouble) -> Trouble {
        match trouble {
            Trouble::Exist(_) => Trouble::MastersThere(self.args.output.out.clone()),
            other => other,
        }
    }

    /// Where frames are to lie, as it was typed.
    fn placing(&self) -> Vec<OsString> {
        let placing = &self.args.placing;
        let mut words: Vec<OsString> = Vec::new();
        if let Some(reference) = &placing.reference {
            words.push(format!("--reference={reference}").into());
        }
        let grid = &placing.grid;
        if let Some(extent) = clap::ValueEnum::to_possible_value(&grid.canvas) {
            words.extend(["--canvas".into(), extent.get_name().into()]);
        }
        words.extend(["--scale".into(), grid.scale.to_string().into()]);
        if grid.north_up {
            words.push("--north-up".into());
        }
        words
    }
}
