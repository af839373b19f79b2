//! The demo's six masters as files.

use std::path::{Path, PathBuf};

use jigsawa_formats::fits::Cards;
use jigsawa_sky::demo::{DemoFrame, OBJECT, exposures, frames, take, take_exposures};
use jigsawa_sky::panels::panels;
use jigsawa_sky::shot::Taken;
use serde_json::json;

use super::write::{
    frame_cards, new_files, place_cards, write_frame, write_star_list, write_truth,
};
use crate::cli::Common;
use crate::tell::Trouble;
use crate::terminal::Progress;

/// Writes all masters and `truth.json` into a folder.
pub fn write(folder: &Path, overwrite: bool, common: &Common) -> Result<Vec<PathBuf>, Trouble> {
    let list = frames();
    let paths = write_all(folder, &list, take, overwrite, common)?;
    write_star_list(folder, &list, overwrite)?;
    Ok(paths)
}

/// Writes the exposures of the lantern's heart and `truth.json` into a folder.
pub fn write_heart(
    folder: &Path,
    overwrite: bool,
    common: &Common,
) -> Result<Vec<PathBuf>, Trouble> {
    write_all(folder, &exposures(), take_exposures, overwrite, common)
}

/// Takes frames and hands each over.
type Take = fn(&[DemoFrame], &mut dyn FnMut(&DemoFrame, Taken));

/// The oxygen panels of the mosaic say nothing of where they lie.
const WITHOUT_PLACE: [&str; 4] = ["reef_A1_O", "reef_A2_O", "reef_B1_O", "reef_B2_O"];

/// Writes the panels of the mosaic and `truth.json` into a folder.
pub fn write_panels(
    folder: &Path,
    overwrite: bool,
    common: &Common,
) -> Result<Vec<PathBuf>, Trouble> {
    write_all(folder, &panels(), take, overwrite, common)
}

fn write_all(
    folder: &Path,
    list: &[DemoFrame],
    take: Take,
    overwrite: bool,
    common: &Common,
) -> Result<Vec<PathBuf>, Trouble> {
    let paths = new_files(folder, list.iter().map(|f| f.file), overwrite)?;
    let progress = Progress::begin("masters", list.len(), common);
    let (mut truths, mut done) = (serde_json::Map::new(), Ok(()));
    take(list, &mut |frame, taken| {
        if done.is_ok() {
            let path = folder.join(frame.file);
            done = write_frame(&path, &frame.shot, &taken, &header(frame), overwrite);
            truths.insert(frame.file.to_owned(), json!(taken.truth));
            progress.step();
        }
    });
    done?;
    write_truth(folder, &truths, overwrite)?;
    Ok(paths)
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
    frame_cards(shot, frame.camera_card, &mut c);
    if !WITHOUT_PLACE.iter().any(|w| frame.file.starts_with(w)) {
        place_cards(shot, &mut c);
    }
    c
}
