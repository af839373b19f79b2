//! `jigsawa demo`: made-up frames, and the whole example run on them with the real commands.

use std::fs;
use std::path::{Path, PathBuf};

use clap::Parser;
use jigsawa_core::doors::TileSink;
use jigsawa_core::space::{FramePx, Point};
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_sky::camera::Numbers;
use jigsawa_sky::demo::{DemoFrame, OBJECT, frames, take};
use jigsawa_sky::shot::Taken;
use serde_json::json;

use super::compose::{PNG, make};
use crate::account::{Account, Clock, Ending};
use crate::cli::{Cli, Command, Common, DemoArgs};
use crate::outputs::{begin, make_folder};
use crate::tell::Trouble;
use crate::terminal::{Progress, account_text, say};

/// Pixel and focal length of the demo's telescope: 1.45 arc seconds for a unit of the plane.
const PIXEL_UM: f64 = 3.76;
const FOCAL_MM: f64 = 535.0;

/// Where the invented field stands, and degrees for a unit of its plane.
const FIELD_DEG: (f64, f64) = (153.2, 28.4);
const UNIT_DEG: f64 = 1.45 / 3600.0;

/// Runs the demo.
pub fn demo(args: &DemoArgs, common: &Common) -> Result<Ending, Trouble> {
    let mut clock = Clock::start();
    let (from, to) = (args.folder.join("frames"), args.folder.join("result"));
    make_folder(&from)?;
    let files = write_frames(&from, args.overwrite, common)?;
    clock.lap("frames");
    let talk = !common.json && !common.quiet;
    if talk {
        say(&format!(
            "wrote      {} frames of {OBJECT} and their truth into {}",
            files.len(),
            from.display()
        ));
    }
    let mut accounts = Vec::new();
    if !args.data_only {
        for words in examples(&from, &to, args.overwrite) {
            if talk {
                say(&format!("\n$ jigsawa {}\n", shown(&words)));
            }
            let account = run(&words, common)?;
            if talk {
                say(account_text(&account).trim_end());
            }
            accounts.push(account);
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
        for a in &accounts {
            for o in a.outputs.iter().filter(|o| o.kind == PNG) {
                say(&format!("  {}", o.file));
            }
        }
    }
    Ok(Ending::Whole)
}

/// The command lines of the example.
fn examples(from: &Path, to: &Path, overwrite: bool) -> Vec<Vec<String>> {
    let frame = |f: &str| from.join(format!("reef_{f}.fits")).display().to_string();
    let words = |filters: &[&str], more: &[&str]| {
        let mut w = vec!["compose".to_owned()];
        w.extend(filters.iter().map(|f| frame(f)));
        w.extend(more.iter().map(|m| (*m).to_owned()));
        w.extend(["--out".to_owned(), to.display().to_string()]);
        w.extend(["--name".to_owned(), "reef".to_owned()]);
        if overwrite {
            w.push("--overwrite".to_owned());
        }
        w
    };
    vec![
        words(&["Ha", "OIII", "SII"], &["--palette", "SHO"]),
        words(
            &["R", "G", "B", "Ha"],
            &["--red", "90% R + 10% Ha", "--green", "G", "--blue", "B"],
        ),
    ]
}

/// A command line as one would type it.
fn shown(words: &[String]) -> String {
    let quoted = |w: &String| {
        if w.contains([' ', '%']) {
            format!("\"{w}\"")
        } else {
            w.clone()
        }
    };
    words.iter().map(quoted).collect::<Vec<_>>().join(" ")
}

/// Runs a command line as if it were typed.
fn run(words: &[String], common: &Common) -> Result<Account, Trouble> {
    let typed = std::iter::once("jigsawa".to_owned()).chain(words.iter().cloned());
    match Cli::try_parse_from(typed).map(|cli| cli.command) {
        Ok(Command::Compose(args)) => make(&args, common),
        _ => unreachable!("the demo's own command lines are those of compose"),
    }
}

/// Writes all frames and `truth.json`.
fn write_frames(folder: &Path, overwrite: bool, common: &Common) -> Result<Vec<PathBuf>, Trouble> {
    let list = frames();
    let truth_path = folder.join("truth.json");
    let paths: Vec<PathBuf> = list.iter().map(|f| folder.join(f.file)).collect();
    let there: Vec<PathBuf> = paths
        .iter()
        .chain([&truth_path])
        .filter(|p| p.exists())
        .cloned()
        .collect();
    if !there.is_empty() && !overwrite {
        return Err(Trouble::Exist(there));
    }
    let progress = Progress::begin("frames", list.len(), common);
    let (mut truths, mut done) = (serde_json::Map::new(), Ok(()));
    take(&list, |frame, taken| {
        if done.is_ok() {
            done = write_frame(&folder.join(frame.file), frame, &taken, overwrite);
            truths.insert(frame.file.to_owned(), json!(taken.truth));
            progress.step();
        }
    });
    done?;
    let file = begin(&truth_path, overwrite)?;
    let text =
        serde_json::to_string(&json!({ "object": OBJECT, "frames": truths })).unwrap_or_default();
    fs::write(file.path(), text).map_err(|error| Trouble::Folder {
        folder: folder.to_owned(),
        error,
    })?;
    file.finish().map_err(|error| Trouble::Write {
        file: truth_path,
        error,
    })?;
    Ok(paths)
}

fn write_frame(
    path: &Path,
    frame: &DemoFrame,
    taken: &Taken,
    overwrite: bool,
) -> Result<(), Trouble> {
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let shot = &frame.shot;
    let depth = match shot.camera.numbers {
        Numbers::Float => Depth::Float,
        Numbers::Sixteen => Depth::Sixteen,
    };
    let file = begin(path, overwrite)?;
    let mut out = FitsWriter::create(file, shot.size, 1, depth, &header(frame)).map_err(wrong)?;
    out.put(shot.size.rect(), &[taken.plane.data()])
        .map_err(|e| wrong(jigsawa_formats::error::FileError::Picture(e.to_string())))?;
    out.complete()
        .and_then(jigsawa_formats::whole::Unfinished::finish)
        .map_err(wrong)?;
    Ok(())
}

/// The header that a capture program would have written.
fn header(frame: &DemoFrame) -> Cards {
    let shot = &frame.shot;
    let mut c = Cards::default();
    c.text("OBJECT", OBJECT, "made-up target");
    c.text("IMAGETYP", "Master Light", "");
    c.text("FILTER", frame.filter_card, "");
    c.number("EXPTIME", frame.exposure_s, "[s] of a sub-frame");
    c.number("NCOMBINE", f64::from(shot.subs), "sub-frames");
    c.text("DATE-OBS", "2026-03-14T21:30:00", "");
    c.text("INSTRUME", frame.camera_card, "");
    c.number("EGAIN", shot.camera.gain_e_adu, "[e-/adu]");
    c.number("XBINNING", 1.0, "");
    c.number("YBINNING", 1.0, "");
    // The second camera's larger pixels are what makes its scale 0.9.
    c.number("XPIXSZ", PIXEL_UM / shot.pointing.scale, "[um]");
    c.number("FOCALLEN", FOCAL_MM, "[mm]");
    c.number("SATURATE", shot.camera.full_adu, "[adu]");
    c.text("ROWORDER", "BOTTOM-UP", "");
    // The plane's x runs against right ascension, as the sky does for who looks up at it.
    let map = shot.map();
    let back = map.invert();
    let middle = shot.size.centre::<FramePx>();
    let [[a, b], [d, e]] = back.jacobian(middle);
    let origin = (960.0, 640.0);
    c.text("CTYPE1", "RA---TAN", "");
    c.text("CTYPE2", "DEC--TAN", "");
    let at = map.apply(Point::new(origin.0, origin.1));
    c.number("CRPIX1", at.x + 1.0, "");
    c.number("CRPIX2", at.y + 1.0, "");
    c.number("CRVAL1", FIELD_DEG.0, "[deg]");
    c.number("CRVAL2", FIELD_DEG.1, "[deg]");
    c.number("CD1_1", -UNIT_DEG * a, "");
    c.number("CD1_2", -UNIT_DEG * b, "");
    c.number("CD2_1", UNIT_DEG * d, "");
    c.number("CD2_2", UNIT_DEG * e, "");
    c.number("EQUINOX", 2000.0, "");
    c
}
