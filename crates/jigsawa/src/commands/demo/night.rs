//! The demo's night of sub-frames as files.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use jigsawa_core::frame::{Kind, Pier};
use jigsawa_formats::fits::Cards;
use jigsawa_sky::demo::OBJECT;
use jigsawa_sky::night::{NightFrame, frames, take};
use serde_json::json;

use super::write::{frame_cards, new_files, place_cards, write_frame, write_truth};
use crate::cli::Common;
use crate::terminal::watch;
use jigsawa_work::trouble::Trouble;

/// The first light's start: 2026-03-14 20:48 UTC.
const START_S: i64 = 1_773_521_280;

/// Where the made-up observer stands.
const SITE: (f64, f64) = (47.2, 9.1);

/// Writes the night's lights and flats and `truth.json` into a folder.
pub fn write(folder: &Path, overwrite: bool, common: &Common) -> Result<Vec<PathBuf>, Trouble> {
    let list = frames();
    let paths = new_files(folder, list.iter().map(|f| f.file.as_str()), overwrite)?;
    let progress = watch(common).begin("night", list.len());
    let (mut truths, mut done) = (serde_json::Map::new(), Ok(()));
    take(&list, |frame, taken| {
        if done.is_ok() {
            let path = folder.join(&frame.file);
            done = write_frame(&path, &frame.shot, &taken, &header(frame), overwrite);
            truths.insert(
                frame.file.clone(),
                json!({ "fault": frame.fault, "frame": taken.truth }),
            );
            progress.step();
        }
    });
    done?;
    write_truth(folder, jigsawa_sky::demo::OBJECT, &truths, overwrite)?;
    Ok(paths)
}

/// The header that a capture program would have written.
fn header(frame: &NightFrame) -> Cards {
    let mut c = Cards::default();
    let light = frame.kind == Kind::Light;
    if light {
        c.text("OBJECT", OBJECT, "made-up target");
    }
    c.text(
        "IMAGETYP",
        if light { "Light Frame" } else { "Flat Field" },
        "",
    );
    c.text("FILTER", frame.filter_card, "");
    c.number("EXPTIME", frame.exposure_s, "[s]");
    let start = Timestamp::from_millisecond(1000 * START_S + (1000.0 * frame.after_s).whole());
    if let Ok(start) = start {
        c.text(
            "DATE-OBS",
            start.to_string().trim_end_matches('Z'),
            "[UTC] start",
        );
    }
    c.number("GAIN", 100.0, "setting");
    c.number("OFFSET", 50.0, "setting");
    c.number("SET-TEMP", -10.0, "[C]");
    c.number(
        "CCD-TEMP",
        -10.0 + 0.1 * (0.7 * frame.after_s).sin().round(),
        "[C]",
    );
    c.number("FOCUSPOS", frame.focus, "");
    c.text("TELESCOP", "Cairn 76 refractor", "");
    if light {
        c.text(
            "PIERSIDE",
            match frame.pier {
                Pier::East => "EAST",
                Pier::West => "WEST",
            },
            "",
        );
        c.number("SITELAT", SITE.0, "[deg]");
        c.number("SITELONG", SITE.1, "[deg] east");
    }
    frame_cards(&frame.shot, "Pebble 24", &mut c);
    place_cards(&frame.shot, &mut c);
    c
}
