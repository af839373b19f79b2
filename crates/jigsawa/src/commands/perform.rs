//! A step done: its command, as if it had been typed.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use clap::Parser;
use jigsawa_formats::inputs as known;
use jigsawa_work::clock::Output;
use jigsawa_work::trouble::Trouble;

use super::{calibrate, compose, finish, hdr, mosaic, normalize, register, stack, survey};
use crate::account::{Account, Outcome};
use crate::cli::{Cli, Command, Common};
use crate::steps::Step;

/// What came of a step.
#[derive(Debug, Default)]
pub struct Done {
    /// What was written.
    pub outputs: Vec<Output>,
    /// What was said.
    pub warnings: Vec<String>,
    /// The frame that others were brought to.
    pub reference: Option<String>,
    /// Masters: name, frames, noise of a pixel.
    pub masters: Vec<(String, usize, f64)>,
    /// Frames that went into a picture, and the width of their stars.
    pub widths: Vec<(String, f64)>,
}

/// Does a step on some files. No result gets the name of an original.
pub fn perform(
    step: &Step,
    (inputs, originals): (&[PathBuf], &[&Path]),
    more: &[OsString],
    (out, overwrite): (&Path, bool),
    common: &Common,
) -> Result<Done, Trouble> {
    // What an earlier step of this process has read may be written anew by this one.
    known::forget();
    for file in originals {
        known::remember(file);
    }
    let mut words: Vec<OsString> = vec!["jigsawa".into(), step.command.into()];
    words.extend(step.options.iter().chain(more).cloned());
    if !updates(step, inputs) {
        let mut folder = OsString::from("--out=");
        folder.push(out);
        words.push(folder);
        words.push(format!("--name={}", step.name).into());
        if overwrite {
            words.push("--overwrite".into());
        }
    }
    words.push("--".into());
    words.extend(inputs.iter().map(|p| p.clone().into_os_string()));
    let cli = Cli::try_parse_from(words).map_err(|e| Trouble::StepOptions {
        step: step.id.clone(),
        error: e.to_string(),
    })?;
    let laid = |account: Account| {
        let masters = account.own.masters.iter();
        let of_picture = step.command == "compose";
        let frames = account.own.frames.iter().filter(|_| of_picture);
        let widths = frames.filter_map(|f| Some((f.file.clone(), f.fwhm_px?)));
        let widths = widths.collect();
        Done {
            widths,
            reference: Some(account.own.reference.file.clone()),
            masters: masters
                .map(|m| (m.name.clone(), m.frames, m.noise))
                .collect(),
            ..plain(account)
        }
    };
    Ok(match &cli.command {
        Command::Calibrate(args) => plain(calibrate::make(args, common)?),
        Command::Survey(args) => plain(survey::make(args, common)?),
        Command::Register(args) => laid(register::make(args, common)?),
        Command::Normalize(args) => laid(normalize::make(args, common)?),
        Command::Stack(args) => laid(stack::make(args, common)?),
        Command::Hdr(args) => laid(hdr::make(args, common)?),
        Command::Mosaic(args) => laid(mosaic::make(args, common)?),
        Command::Compose(args) => laid(compose::make(args, common)?),
        Command::Finish(args) => plain(finish::make(args, common)?),
        _ => Done::default(),
    })
}

/// Does a step bring the layout that it reads up to date in its place?
pub fn updates(step: &Step, inputs: &[PathBuf]) -> bool {
    let is_layout = |p: &PathBuf| {
        p.extension()
            .is_some_and(|e| e.eq_ignore_ascii_case("json"))
    };
    step.command == "normalize" && inputs.iter().any(is_layout)
}

fn plain<T>(outcome: Outcome<T>) -> Done {
    Done {
        outputs: outcome.outputs,
        warnings: outcome.warnings,
        ..Done::default()
    }
}
