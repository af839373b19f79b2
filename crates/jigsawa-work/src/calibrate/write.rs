//! Calibrated lights as files of their own, for other programs.

use std::path::{Path, PathBuf};

use jigsawa_core::doors::TileSink;
use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_formats::facts::{CutOut, wcs_records};
use jigsawa_formats::fits::{Cards, Depth, FitsFrame, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use jigsawa_formats::{error::FileError, facts};

use crate::clock::Output;
use crate::foreign::{name_of, path_of};
use crate::frames::stem;
use crate::outputs::{are_free, begin, creator_card, make_folder};
use crate::pixels::{Masters, read_all};
use crate::run::Run;
use crate::trouble::Trouble;

/// Writes each light of a layout into a folder, under its own name.
pub fn written_frames(
    folder: &Path,
    layout: &Layout,
    overwrite: bool,
    run: &Run<'_>,
) -> Result<Vec<Output>, Trouble> {
    make_folder(folder)?;
    let target = |file: &str| folder.join(stem(&path_of(file)) + ".fits");
    // Three planes of one file are one.
    let first = |f: &&LayoutFrame| f.plane.is_none_or(|p| p == 0);
    let rows: Vec<&LayoutFrame> = layout.frames.iter().filter(first).collect();
    let targets: Vec<PathBuf> = rows.iter().map(|f| target(&f.file)).collect();
    for (i, t) in targets.iter().enumerate() {
        if targets[..i].contains(t) {
            return Err(Trouble::SameName(t.clone()));
        }
    }
    are_free(&targets, overwrite)?;
    let progress = run.begin("frames", targets.len());
    let mut masters = Masters::default();
    let mut buffers: [Vec<f32>; 3] = Default::default();
    let mut outputs = Vec::new();
    for (row, target) in rows.into_iter().zip(&targets) {
        let path = path_of(&row.file);
        let unreadable = |e: FileError| Trouble::Files(vec![(path.clone(), e)]);
        let file = FitsFrame::open(&path).map_err(unreadable)?;
        let Some(record) = &row.calibration else {
            continue;
        };
        let calibrating = masters.open(record, row.size)?;
        let planes = if calibrating.is_colour() { 3 } else { 1 };
        let wrong = |error| Trouble::Write {
            file: target.clone(),
            error,
        };
        let begun = begin(target, overwrite)?;
        let cards = cards(&file, record, row.saturation);
        let mut out =
            FitsWriter::create(begun, row.size, planes, Depth::Float, &cards).map_err(wrong)?;
        for (plane, buffer) in buffers.iter_mut().enumerate().take(planes) {
            *buffer = file.buffer(std::mem::take(buffer)).map_err(unreadable)?;
            read_all(&calibrating.read_through(&file, plane), buffer)
                .map_err(|e| unreadable(e.into()))?;
        }
        let all: Vec<&[f32]> = buffers[..planes].iter().map(Vec::as_slice).collect();
        out.put(row.size.rect(), &all)
            .map_err(|e| wrong(FileError::Through(e)))?;
        out.complete().and_then(Unfinished::finish).map_err(wrong)?;
        outputs.push(Output {
            file: name_of(target),
            kind: "calibrated light",
        });
        progress.step();
    }
    Ok(outputs)
}

/// What the light is, and what was done to it.
fn cards(
    file: &FitsFrame,
    record: &jigsawa_core::calibrate::record::CalibrationRecord,
    saturation: Option<f32>,
) -> Cards {
    let f = facts::read(file);
    let mut cards = Cards::default();
    cards.text("IMAGETYP", "Light Frame", "");
    for (name, value) in [
        ("OBJECT", &f.object),
        ("FILTER", &f.filter_card),
        ("DATE-OBS", &f.date),
        ("INSTRUME", &f.camera),
        ("TELESCOP", &f.telescope),
    ] {
        if let Some(value) = value {
            cards.text(name, value, "");
        }
    }
    let electrons = record.gain_e_adu.is_some();
    let unit = if electrons { Some(1.0) } else { f.gain_e_adu };
    for (name, value) in [
        ("EXPTIME", f.exposure_s),
        ("CCD-TEMP", f.celsius),
        ("XPIXSZ", f.pixel_um),
        ("FOCALLEN", f.focal_mm),
        ("EGAIN", unit),
        ("SATURATE", saturation.map(f64::from)),
    ] {
        if let Some(value) = value {
            cards.number(name, value, "");
        }
    }
    let order = match f.row_order {
        jigsawa_core::frame::RowOrder::BottomUp => "BOTTOM-UP",
        jigsawa_core::frame::RowOrder::TopDown => "TOP-DOWN",
    };
    cards.text("ROWORDER", order, "");
    creator_card(&mut cards);
    if electrons {
        cards.text("BUNIT", "electron", "");
    }
    let own = |file: &str| {
        let path = path_of(file);
        name_of(path.file_name().map_or(&path, Path::new))
    };
    if let Some(dark) = &record.dark {
        let part = dark.factor.map_or(1.0, |f| f.value);
        cards.history(&format!("less {part:.4} x {}", own(&dark.file)));
    }
    for (what, file) in [
        ("less", &record.bias),
        ("over", &record.flat),
        ("defects of", &record.defects),
    ] {
        if let Some(file) = file {
            cards.history(&format!("{what} {}", own(file)));
        }
    }
    for record in wcs_records(file.header(), &CutOut::moved([0, 0])) {
        cards.record(&record);
    }
    cards
}
