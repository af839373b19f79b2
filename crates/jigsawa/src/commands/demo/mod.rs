//! `jigsawa demo`: made-up frames, and the whole example run on them with the real commands.

mod masters;
mod night;
mod raw;
mod write;

use std::path::{Path, PathBuf};

use clap::Parser;
use jigsawa_sky::demo::OBJECT;
use jigsawa_sky::vane::OBJECT as VANE;
use serde_json::{Value, json};

use super::compose::{PNG, make};
use super::{calibrate, finish, hdr, mosaic, normalize, register, stack, survey};
use crate::account::{Ending, Outcome};
use crate::cli::{Cli, Command, Common, DemoArgs};
use crate::terminal::{Own, say};
use jigsawa_work::clock::Clock;
use jigsawa_work::compose::{FLIP, SHEET};
use jigsawa_work::foreign::shell_word;
use jigsawa_work::trouble::Trouble;

/// Runs the demo.
pub fn demo(args: &DemoArgs, common: &Common) -> Result<Ending, Trouble> {
    let clock = Clock::start();
    let to = args.folder.join("result");
    let talk = !common.json && !common.quiet;
    let mut files = Vec::new();
    for (part, what, object, write) in PARTS.iter().take(if args.all { PARTS.len() } else { 1 }) {
        let folder = args.folder.join(part);
        let written = write(&folder, args.overwrite, common).map_err(|e| match e {
            Trouble::Exist(_) => Trouble::DemoThere(args.folder.clone()),
            e => e,
        })?;
        if talk {
            say(&format!(
                "wrote      {} {what} of {object} and their truth into {}",
                written.len(),
                folder.display()
            ));
        }
        files.extend(written);
    }
    clock.lap("frames");
    let (mut accounts, mut pictures) = (Vec::new(), Vec::new());
    if !args.data_only {
        let mut lines = main_job(&args.folder, &to, args.overwrite);
        if args.all {
            lines.extend(the_rest(&args.folder, &to, args.overwrite));
        }
        for words in lines {
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
    let (stages, seconds) = clock.stages();
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
        if !args.all {
            say(&format!(
                "\nA night to survey, exposures for HDR, a mosaic and a second field:\n  jigsawa demo {} --all --overwrite",
                shell_word(&args.folder.display().to_string())
            ));
        }
    }
    Ok(Ending::Whole)
}

/// Writes made-up files into a folder.
type Write = fn(&Path, bool, &Common) -> Result<Vec<PathBuf>, Trouble>;

/// What is made up: the folder, what is in it, what it shows. The main job needs the first alone.
const PARTS: [(&str, &str, &str, Write); 6] = [
    ("frames", "masters", OBJECT, masters::write),
    ("raw", "raw frames", OBJECT, raw::write),
    ("night", "sub-frames and flats", OBJECT, night::write),
    ("heart", "exposures", OBJECT, masters::write_heart),
    ("panels", "panels", OBJECT, masters::write_panels),
    ("vane", "masters", VANE, masters::write_vane),
];

/// The command lines of the main job: masters to two finished pictures, lines before natural stars, and natural colours.
fn main_job(folder: &Path, to: &Path, overwrite: bool) -> Vec<Vec<String>> {
    let line = Line { to, overwrite };
    let masters = files(
        &folder.join("frames"),
        "reef_",
        &["R", "G", "B", "Ha", "OIII", "SII"],
    );
    let stars = folder.join("frames/stars.csv").display().to_string();
    let layout = vec![line.result("reef-lantern.layout.json")];
    let natural = [
        "--palette",
        "RGB",
        "--match-seeing",
        "--linear-only",
        "--name",
        "reef",
    ];
    vec![
        line.of(
            "compose",
            masters,
            &["--palette", "lantern", "--name", "reef"],
        ),
        line.of(
            "finish",
            vec![line.result("reef-lantern.fits")],
            &["--caption"],
        ),
        line.of("compose", layout, &natural),
        line.of(
            "finish",
            vec![line.result("reef-RGB.fits")],
            &["--white", &stars],
        ),
    ]
}

/// Those of the rest.
fn the_rest(folder: &Path, to: &Path, overwrite: bool) -> Vec<Vec<String>> {
    let line = Line { to, overwrite };
    let night = vec![folder.join("night").display().to_string()];
    let raw = vec![folder.join("raw").display().to_string()];
    let heart = [
        "Ha_300s",
        "Ha_030s",
        "Ha_003s",
        "OIII_300s",
        "OIII_030s",
        "OIII_003s",
    ];
    let panels = [
        "A1_Ha", "A2_Ha", "B1_Ha", "B2_Ha", "A1_OIII", "A2_OIII", "B1_OIII", "B2_OIII",
    ];
    let wide = ["Ha", "OIII"].map(|l| line.result(&format!("wide-{l}-mosaic.fits")));
    let linear_only = |palette: &'static str, name: &'static str| {
        ["--palette", palette, "--name", name, "--linear-only"]
    };
    vec![
        line.of("calibrate", raw, &["--name", "lights"]),
        line.of(
            "register",
            vec![line.result("lights.layout.json")],
            &["--name", "lights-placed"],
        ),
        line.of(
            "stack",
            vec![line.result("lights.layout.json")],
            &["--name", "lights"],
        ),
        line.of("survey", night, &["--layout", "--name", "reef"]),
        line.of(
            "stack",
            vec![line.result("reef-survey.layout.json")],
            &["--compare", "1,4,all", "--name", "night"],
        ),
        line.of(
            "normalize",
            vec![line.result("reef-survey.layout.json")],
            &["--flatten", "--name", "reef"],
        ),
        line.of(
            "compose",
            vec![line.result("reef-lantern.layout.json")],
            &["--try", "all", "--name", "reef"],
        ),
        line.of(
            "hdr",
            files(&folder.join("heart"), "heart_", &heart),
            &["--palette", "HOO", "--name", "heart"],
        ),
        line.of(
            "mosaic",
            files(&folder.join("panels"), "reef_", &panels),
            &["--name", "wide"],
        ),
        line.of("compose", wide.to_vec(), &linear_only("HOO", "wide")),
        line.of("finish", vec![line.result("wide-HOO.fits")], &[]),
        line.of(
            "compose",
            files(&folder.join("vane"), "vane_", &["L", "R", "G", "B"]),
            &linear_only("LRGB", "vane"),
        ),
        line.of("finish", vec![line.result("vane-LRGB.fits")], &[]),
    ]
}

/// Files of one folder by what their names differ in.
fn files(folder: &Path, start: &str, names: &[&str]) -> Vec<String> {
    let path = |n: &&str| {
        folder
            .join(format!("{start}{n}.fits"))
            .display()
            .to_string()
    };
    names.iter().map(path).collect()
}

/// What the example's command lines have in common.
struct Line<'a> {
    to: &'a Path,
    overwrite: bool,
}

impl Line<'_> {
    /// A result of an earlier command.
    fn result(&self, name: &str) -> String {
        self.to.join(name).display().to_string()
    }

    /// A command with its frames and options.
    fn of(&self, command: &str, frames: Vec<String>, options: &[&str]) -> Vec<String> {
        let mut words = vec![command.to_owned()];
        words.extend(frames);
        words.extend(options.iter().map(|o| (*o).to_owned()));
        words.extend(["--out".to_owned(), self.to.display().to_string()]);
        if self.overwrite {
            words.push("--overwrite".to_owned());
        }
        words
    }
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

impl Done {
    /// What a command did; `kinds` of its outputs are to be looked at.
    fn of<T: Own>(outcome: &Outcome<T>, kinds: &[&str]) -> Self {
        let all = kinds
            .iter()
            .flat_map(|kind| outcome.outputs.iter().filter(move |o| o.kind == *kind));
        Self {
            text: T::text(outcome),
            account: json!(outcome),
            pictures: all.map(|o| o.file.clone()).collect(),
        }
    }
}

/// Runs a command line as if it were typed.
fn run(words: &[String], common: &Common) -> Result<Done, Trouble> {
    let typed = std::iter::once("jigsawa".to_owned()).chain(words.iter().cloned());
    match Cli::try_parse_from(typed).map(|cli| cli.command) {
        Ok(Command::Calibrate(args)) => Ok(Done::of(
            &calibrate::make(&args, common)?,
            &[calibrate::REPORT],
        )),
        Ok(Command::Register(args)) => Ok(Done::of(&register::make(&args, common)?, &[])),
        Ok(Command::Compose(args)) => Ok(Done::of(&make(&args, common)?, &[PNG, SHEET, FLIP])),
        Ok(Command::Finish(args)) => Ok(Done::of(
            &finish::make(&args, common)?,
            &[finish::PNG, finish::REPORT],
        )),
        Ok(Command::Hdr(args)) => Ok(Done::of(
            &hdr::make(&args, common)?,
            &[finish::PNG, hdr::REPORT],
        )),
        Ok(Command::Mosaic(args)) => Ok(Done::of(
            &mosaic::make(&args, common)?,
            &[mosaic::PLAN, mosaic::PICTURE, mosaic::REPORT],
        )),
        Ok(Command::Normalize(args)) => Ok(Done::of(
            &normalize::make(&args, common)?,
            &[normalize::REPORT],
        )),
        Ok(Command::Stack(args)) => Ok(Done::of(&stack::make(&args, common)?, &[stack::REPORT])),
        Ok(Command::Survey(args)) => Ok(Done::of(&survey::make(&args, common)?, &[survey::REPORT])),
        _ => {
            unreachable!(
                "the demo's own command lines are those of calibrate, register, stack, survey, normalize, compose, finish, hdr and mosaic"
            )
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_examples_are_command_lines_and_need_only_what_came_before() {
        let (folder, to) = (Path::new("demo"), Path::new("demo/result"));
        let mut there: Vec<String> = Vec::new();
        let lines = [main_job(folder, to, true), the_rest(folder, to, true)].concat();
        for words in lines {
            let typed = std::iter::once("jigsawa").chain(words.iter().map(String::as_str));
            let cli = Cli::try_parse_from(typed).unwrap_or_else(|e| panic!("{words:?}: {e}"));
            let handled = matches!(
                cli.command,
                Command::Calibrate(_)
                    | Command::Register(_)
                    | Command::Compose(_)
                    | Command::Finish(_)
                    | Command::Hdr(_)
                    | Command::Mosaic(_)
                    | Command::Normalize(_)
                    | Command::Stack(_)
                    | Command::Survey(_)
            );
            assert!(handled, "{words:?}");
            // What lies among the results was named by a command before.
            let results = words.iter().filter_map(|w| w.strip_prefix("demo/result/"));
            for result in results {
                let start = result.split(['-', '.']).next().unwrap_or_default();
                assert!(
                    there.iter().any(|t| t.starts_with(start)),
                    "{result}: {there:?}"
                );
            }
            if let Some(k) = words.iter().position(|w| w == "--name") {
                there.push(words[k + 1].clone());
            }
        }
    }
}
