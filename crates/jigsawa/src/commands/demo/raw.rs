//! The demo's night of raw frames as files.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use jigsawa_core::doors::TileSink;
use jigsawa_core::frame::Kind;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use jigsawa_sky::demo::OBJECT;
use jigsawa_sky::raw_night::{RawFrame, RawNight};
use serde_json::json;

use super::write::{FOCAL_MM, PIXEL_UM, new_files, place_cards, write_truth};
use crate::cli::Common;
use crate::terminal::watch;
use jigsawa_work::outputs::begin;
use jigsawa_work::trouble::Trouble;

/// The first light's start: 2026-04-09 20:30 UTC.
const START_S: i64 = 1_775_766_600;

/// Writes the frames and `truth.json` into a folder.
pub fn write(folder: &Path, overwrite: bool, common: &Common) -> Result<Vec<PathBuf>, Trouble> {
    let nights = [RawNight::demo(), RawNight::colour()];
    let all = || nights.iter().flat_map(|n| &n.frames);
    let paths = new_files(folder, all().map(|f| f.file.as_str()), overwrite)?;
    let progress = watch(common).begin("raw frames", all().count());
    let (mut truths, mut done) = (serde_json::Map::new(), Ok(()));
    for night in &nights {
        night.take(|frame, plane, stars| {
            if done.is_ok() {
                let path = folder.join(&frame.file);
                done = write_one(&path, &plane, &header(night, frame), overwrite);
                let told = json!({ "even_e": frame.even_e, "stars": stars });
                truths.insert(frame.file.clone(), told);
                progress.step();
            }
        });
    }
    done?;
    write_truth(folder, OBJECT, &truths, overwrite)?;
    Ok(paths)
}

fn write_one(path: &Path, plane: &Plane, cards: &Cards, overwrite: bool) -> Result<(), Trouble> {
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let (file, size) = (begin(path, overwrite)?, plane.size());
    let mut out = FitsWriter::create(file, size, 1, Depth::Sixteen, cards).map_err(wrong)?;
    out.put(size.rect(), &[plane.data()])
        .map_err(|e| wrong(FileError::Through(e)))?;
    out.complete().and_then(Unfinished::finish).map_err(wrong)?;
    Ok(())
}

/// The header that a capture program would have written.
fn header(night: &RawNight, frame: &RawFrame) -> Cards {
    let mut c = Cards::default();
    let kind = match frame.kind {
        Kind::Light => "Light Frame",
        Kind::Flat => "Flat Field",
        Kind::Dark => "Dark Frame",
        Kind::Bias => "Bias Frame",
        Kind::DarkFlat => "Dark Flat",
    };
    c.text("IMAGETYP", kind, "");
    if frame.kind == Kind::Light {
        c.text("OBJECT", OBJECT, "made-up target");
    }
    if let Some(card) = frame.filter_card {
        c.text("FILTER", card, "");
    }
    c.number("EXPTIME", frame.exposure.seconds, "[s]");
    let start = Timestamp::from_millisecond(1000 * START_S + (1000.0 * frame.after_s).whole());
    if let Ok(start) = start {
        let start = start.to_string();
        c.text("DATE-OBS", start.trim_end_matches('Z'), "[UTC] start");
    }
    c.text("INSTRUME", night.camera, "");
    if let Some(pattern) = night.pattern {
        c.text("BAYERPAT", &pattern.letters(), "from the first pixel");
    }
    c.text("TELESCOP", "Cairn 76 refractor", "");
    for (name, value, comment) in [
        ("GAIN", 100.0, "setting"),
        ("OFFSET", 50.0, "setting"),
        ("SET-TEMP", frame.exposure.celsius, "[C]"),
        ("CCD-TEMP", frame.exposure.celsius, "[C]"),
        ("EGAIN", night.chip.gain_e_adu, "[e-/adu]"),
        ("XBINNING", 1.0, ""),
        ("YBINNING", 1.0, ""),
        ("XPIXSZ", PIXEL_UM, "[um]"),
        ("FOCALLEN", FOCAL_MM, "[mm]"),
        ("SATURATE", night.chip.full_adu(), "[adu]"),
    ] {
        c.number(name, value, comment);
    }
    c.text("ROWORDER", "BOTTOM-UP", "");
    if let Some(shot) = frame.shots.first() {
        place_cards(shot, &mut c);
    }
    c
}
