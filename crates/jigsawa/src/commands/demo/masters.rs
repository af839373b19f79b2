//! The demo's six masters as files.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_formats::fits::Cards;
use jigsawa_sky::camera::Numbers;
use jigsawa_sky::demo::{DemoFrame, exposures, frames, take, take_exposures};
use jigsawa_sky::master::{bordered, smoothed};
use jigsawa_sky::panels::panels;
use jigsawa_sky::shot::Taken;
use jigsawa_sky::vane;
use serde_json::json;

use super::write::{
    frame_cards, new_files, place_cards, write_frame, write_star_list, write_truth,
};
use crate::cli::Common;
use crate::terminal::watch;
use jigsawa_work::trouble::Trouble;

/// Writes all masters and `truth.json` into a folder.
pub fn write(folder: &Path, overwrite: bool, common: &Common) -> Result<Vec<PathBuf>, Trouble> {
    let list = frames();
    let paths = write_all(folder, &list, (take, stacked), overwrite, common)?;
    write_star_list(folder, &list, overwrite)?;
    Ok(paths)
}

/// Writes the exposures of the lantern's heart and `truth.json` into a folder.
pub fn write_heart(
    folder: &Path,
    overwrite: bool,
    common: &Common,
) -> Result<Vec<PathBuf>, Trouble> {
    let how: How = (take_exposures, |_, taken| taken);
    write_all(folder, &exposures(), how, overwrite, common)
}

/// Writes the masters of the second field and `truth.json` into a folder.
pub fn write_vane(
    folder: &Path,
    overwrite: bool,
    common: &Common,
) -> Result<Vec<PathBuf>, Trouble> {
    let how: How = (vane::take, |_, taken| taken);
    write_all(folder, &vane::frames(), how, overwrite, common)
}

/// Takes frames and hands each over.
type Take = fn(&[DemoFrame], &mut dyn FnMut(&DemoFrame, Taken));

/// How frames are taken, and what is made of each then.
type How = (Take, fn(&DemoFrame, Taken) -> Taken);

/// What stacking makes of a master: its sub-frames were placed on each other, which ties the noise of neighbours
/// together, and where too few lay it is black.
fn stacked(frame: &DemoFrame, taken: Taken) -> Taken {
    let number = frame.shot.seed.index();
    let border = [
        7 + 3 * (number % 4),
        5 + 4 * (number % 3),
        12,
        6 + number % 5,
    ];
    let mut plane = smoothed(&taken.plane, TIED_PX);
    if frame.shot.camera.numbers == Numbers::Sixteen {
        for v in plane.data_mut() {
            *v = v.round();
        }
    }
    Taken {
        plane: bordered(plane, border, 0.0),
        ..taken
    }
}

/// Standard deviation of the Gaussian that does as much to noise as interpolating by all parts of a pixel.
const TIED_PX: f64 = 0.5;

/// The oxygen panels of the mosaic say nothing of where they lie.
const WITHOUT_PLACE: [&str; 4] = ["reef_A1_O", "reef_A2_O", "reef_B1_O", "reef_B2_O"];

/// Writes the panels of the mosaic and `truth.json` into a folder.
pub fn write_panels(
    folder: &Path,
    overwrite: bool,
    common: &Common,
) -> Result<Vec<PathBuf>, Trouble> {
    write_all(
        folder,
        &panels(),
        (take, |_, taken| taken),
        overwrite,
        common,
    )
}

fn write_all(
    folder: &Path,
    list: &[DemoFrame],
    (take, hands): How,
    overwrite: bool,
    common: &Common,
) -> Result<Vec<PathBuf>, Trouble> {
    let paths = new_files(folder, list.iter().map(|f| f.file), overwrite)?;
    let progress = watch(common).begin("masters", list.len());
    let (mut truths, mut done) = (serde_json::Map::new(), Ok(()));
    take(list, &mut |frame, taken| {
        if done.is_ok() {
            let taken = hands(frame, taken);
            let path = folder.join(frame.file);
            done = write_frame(&path, &frame.shot, &taken, &header(frame), overwrite);
            truths.insert(frame.file.to_owned(), json!(taken.truth));
            progress.step();
        }
    });
    done?;
    let object = list.first().map_or("", |f| f.object);
    write_truth(folder, object, &truths, overwrite)?;
    Ok(paths)
}

/// The header that a capture program would have written.
fn header(frame: &DemoFrame) -> Cards {
    let shot = &frame.shot;
    let mut c = Cards::default();
    c.text("OBJECT", frame.object, "made-up target");
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
