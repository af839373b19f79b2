//! `jigsawa demo`: made-up frames, and the whole example run on them with the real commands.

mod masters;
mod night;
mod write;

use std::path::{Path, PathBuf};

use clap::Parser;
use jigsawa_sky::demo::OBJECT;
use jigsawa_sky::vane::OBJECT as VANE;
use serde_json::{Value, json};

use super::compose::{PNG, make};
use super::{finish, hdr, mosaic, normalize, survey};
use crate::account::{Clock, Ending, Output};
use crate::cli::{Cli, Command, Common, DemoArgs};
use crate::compose::{FLIP, SHEET};
use crate::finish::finish_text;
use crate::foreign::shell_word;
use crate::tell::Trouble;
use crate::terminal::{account_text, say};

/// Runs the demo.
pub fn demo(args: &DemoArgs, common: &Common) -> Result<Ending, Trouble> {
    let mut clock = Clock::start();
    let (frames, to) = (args.folder.join("frames"), args.folder.join("result"));
    let night_folder = args.folder.join("night");
    let heart = args.folder.join("heart");
    let panels = args.folder.join("panels");
    let vane = args.folder.join("vane");
    let talk = !common.json && !common.quiet;
    let mut files = Vec::new();
    for (folder, what, write) in [
        (&frames, "masters", masters::write as Write),
        (&night_folder, "sub-frames and flats", night::write as Write),
        (&heart, "exposures", masters::write_heart as Write),
        (&panels, "panels", masters::write_panels as Write),
        (&vane, "masters", masters::write_vane as Write),
    ] {
        let written = write(folder, args.overwrite, common)?;
        if talk {
            say(&format!(
                "wrote      {} {what} of {} and their truth into {}",
                written.len(),
                if folder == &vane { VANE } else { OBJECT },
                folder.display()
            ));
        }
        files.extend(written);
    }
    clock.lap("frames");
    let (mut accounts, mut pictures) = (Vec::new(), Vec::new());
    if !args.data_only {
        for words in examples(&args.folder, &to, args.overwrite) {
            if talk {
                say(&format!("\n$ jigsawa {}\n", shown(&words)));
            }
            let done = run(&words, common)?;
            if talk {
                say(done.text.trim_end());
            }
            accounts.push(done.account);
            pictures.extend(done.pictures);
        }
    }
    let (stages, seconds) = clock.stop();
    if common.json {
        let outputs: Vec<_> = files
            .iter()
            .map(|f| json!({ "file": f.display().to_string(), "kind": "made-up frame" }))
            .collect();
        let document = json!({
            "jigsawa": env!("CARGO_PKG_VERSION"), "command": "demo", "seconds": seconds,
            "outputs": outputs, "runs": accounts, "stages": stages, "warnings": [],
        });
        say(&format!("{document:#}"));
    } else if talk && !args.data_only {
        say("\nOpen these:");
        for picture in &pictures {
            say(&format!("  {picture}"));
        }
    }
    Ok(Ending::Whole)
}

/// Writes made-up files into a folder.
type Write = fn(&Path, bool, &Common) -> Result<Vec<PathBuf>, Trouble>;

/// The command lines of the example.
fn examples(folder: &Path, to: &Path, overwrite: bool) -> Vec<Vec<String>> {
    let frame = |f: &str| {
        folder
            .join(format!("frames/reef_{f}.fits"))
            .display()
            .to_string()
    };
    let night = folder.join("night").display().to_string();
    let kept = to.join("reef-survey.layout.json").display().to_string();
    let finishing = |command: &str, frames: Vec<String>, more: &[&str]| {
        let mut w = vec![command.to_owned()];
        w.extend(frames);
        w.extend(more.iter().map(|m| (*m).to_owned()));
        w.extend(["--out".to_owned(), to.display().to_string()]);
        if overwrite {
            w.push("--overwrite".to_owned());
        }
        w
    };
    let words = |command: &str, frames: Vec<String>, more: &[&str]| {
        let mut w = finishing(command, frames, more);
        w.extend(["--name".to_owned(), "reef".to_owned()]);
        w
    };
    let all: Vec<String> = ["R", "G", "B", "Ha", "OIII", "SII"].map(frame).to_vec();
    let layout = to.join("reef-variants.layout.json").display().to_string();
    let heart: Vec<String> = ["Ha", "OIII"]
        .iter()
        .flat_map(|line| ["300s", "030s", "003s"].map(|t| format!("heart/heart_{line}_{t}.fits")))
        .map(|f| folder.join(f).display().to_string())
        .collect();
    let panels: Vec<String> = ["Ha", "OIII"]
        .iter()
        .flat_map(|line| ["A1", "A2", "B1", "B2"].map(|p| format!("panels/reef_{p}_{line}.fits")))
        .map(|f| folder.join(f).display().to_string())
        .collect();
    let vane: Vec<String> = ["L", "R", "G", "B"]
        .map(|f| {
            folder
                .join(format!("vane/vane_{f}.fits"))
                .display()
                .to_string()
        })
        .to_vec();
    let wide: Vec<String> = ["Ha", "OIII"]
        .map(|line| {
            to.join(format!("wide-{line}-mosaic.fits"))
                .display()
                .to_string()
        })
        .to_vec();
    let linear = |p: &str| vec![to.join(format!("reef-{p}.fits")).display().to_string()];
    let stars = folder.join("frames/stars.csv").display().to_string();
    vec![
        words("survey", vec![night], &["--layout"]),
        words("normalize", vec![kept], &["--flatten"]),
        words("compose", all, &["--try", "all"]),
        words("compose", vec![layout.clone()], &["--palette", "lantern"]),
        words(
            "compose",
            vec![layout],
            &["--palette", "RGB", "--match-seeing", "--linear-only"],
        ),
        finishing("finish", linear("lantern"), &["--caption"]),
        finishing("finish", linear("RGB"), &["--white", &stars]),
        finishing("hdr", heart, &["--palette", "HOO", "--name", "heart"]),
        finishing("mosaic", panels, &["--name", "wide"]),
        finishing(
            "compose",
            wide,
            &["--palette", "HOO", "--name", "wide", "--linear-only"],
        ),
        finishing(
            "finish",
            vec![to.join("wide-HOO.fits").display().to_string()],
            &[],
        ),
        finishing(
            "compose",
            vane,
            &["--palette", "LRGB", "--name", "vane", "--linear-only"],
        ),
        finishing(
            "finish",
            vec![to.join("vane-LRGB.fits").display().to_string()],
            &[],
        ),
    ]
}

/// A command line as one would type it.
fn shown(words: &[String]) -> String {
    let quoted: Vec<_> = words.iter().map(|w| shell_word(w)).collect();
    quoted.join(" ")
}

/// What a command of the example gave.
struct Done {
    text: String,
    account: Value,
    /// What to look at.
    pictures: Vec<String>,
}

/// Runs a command line as if it were typed.
fn run(words: &[String], common: &Common) -> Result<Done, Trouble> {
    let typed = std::iter::once("jigsawa".to_owned()).chain(words.iter().cloned());
    match Cli::try_parse_from(typed).map(|cli| cli.command) {
        Ok(Command::Compose(args)) => {
            let account = make(&args, common)?;
            Ok(Done {
                text: account_text(&account),
                account: json!(account),
                pictures: [PNG, SHEET, FLIP]
                    .iter()
                    .flat_map(|kind| of_kind(&account.outputs, kind))
                    .collect(),
            })
        }
        Ok(Command::Finish(args)) => {
            let account = finish::make(&args, common)?;
            Ok(Done {
                text: finish_text(&account),
                pictures: [finish::PNG, finish::REPORT]
                    .iter()
                    .flat_map(|kind| of_kind(&account.outputs, kind))
                    .collect(),
                account: json!(account),
            })
        }
        Ok(Command::Hdr(args)) => {
            let account = hdr::make(&args, common)?;
            Ok(Done {
                text: account_text(&account),
                pictures: [finish::PNG, hdr::REPORT]
                    .iter()
                    .flat_map(|kind| of_kind(&account.outputs, kind))
                    .collect(),
                account: json!(account),
            })
        }
        Ok(Command::Mosaic(args)) => {
            let account = mosaic::make(&args, common)?;
            Ok(Done {
                text: account_text(&account),
                pictures: [mosaic::PLAN, mosaic::PICTURE, mosaic::REPORT]
                    .iter()
                    .flat_map(|kind| of_kind(&account.outputs, kind))
                    .collect(),
                account: json!(account),
            })
        }
        Ok(Command::Normalize(args)) => {
            let account = normalize::make(&args, common)?;
            Ok(Done {
                text: account_text(&account),
                pictures: of_kind(&account.outputs, normalize::REPORT),
                account: json!(account),
            })
        }
        Ok(Command::Survey(args)) => {
            let told = survey::make(&args, common)?;
            Ok(Done {
                text: told.text,
                pictures: of_kind(&told.account.outputs, survey::REPORT),
                account: json!(told.account),
            })
        }
        _ => {
            unreachable!(
                "the demo's own command lines are those of survey, normalize, compose, finish, hdr and mosaic"
            )
        }
    }
}

fn of_kind(outputs: &[Output], kind: &str) -> Vec<String> {
    let wanted = outputs.iter().filter(|o| o.kind == kind);
    wanted.map(|o| o.file.clone()).collect()
}
