//! What all made-up files have in common.

use std::path::{Path, PathBuf};

use jigsawa_core::doors::TileSink;
use jigsawa_core::space::{FramePx, Point};
use jigsawa_core::wcs::{Fields, Projection, Sky, Wcs, fit_flat};
use jigsawa_formats::error::FileError;
use jigsawa_formats::facts::wcs_cards;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use jigsawa_sky::camera::Numbers;
use jigsawa_sky::demo::DemoFrame;
use jigsawa_sky::shot::{Shot, Taken};
use jigsawa_sky::stars::Crowd;
use serde_json::json;

use jigsawa_work::outputs::{are_free, filled};
use jigsawa_work::outputs::{begin, make_folder};
use jigsawa_work::trouble::Trouble;

/// Pixel and focal length of the demo's telescope: 1.45 arc seconds for a unit of the plane.
pub const PIXEL_UM: f64 = 3.76;
pub const FOCAL_MM: f64 = 535.0;

/// Where the invented field stands, and degrees for a unit of its plane.
const FIELD_DEG: (f64, f64) = (153.2, 28.4);
const UNIT_DEG: f64 = 1.45 / 3600.0;

const TRUTH: &str = "truth.json";

/// Makes the folder; the paths of its files, none of which may be there unless they are to be
/// replaced.
pub fn new_files<'a>(
    folder: &Path,
    names: impl Iterator<Item = &'a str>,
    overwrite: bool,
) -> Result<Vec<PathBuf>, Trouble> {
    make_folder(folder)?;
    let paths: Vec<PathBuf> = names.map(|n| folder.join(n)).collect();
    let truth = folder.join(TRUTH);
    let all: Vec<&PathBuf> = paths.iter().chain([&truth]).collect();
    are_free(&all, overwrite)?;
    Ok(paths)
}

/// Writes what is true of a folder's frames.
pub fn write_truth(
    folder: &Path,
    object: &str,
    truths: &serde_json::Map<String, serde_json::Value>,
    overwrite: bool,
) -> Result<(), Trouble> {
    let path = folder.join(TRUTH);
    let text =
        serde_json::to_string(&json!({ "object": object, "frames": truths })).unwrap_or_default();
    filled(&path, text.as_bytes(), overwrite)?
        .finish()
        .map_err(|error| Trouble::Write { file: path, error })?;
    Ok(())
}

/// Stars of the catalogue are as bright as this, in magnitudes.
const FAINTEST: f64 = 15.0;

/// Writes a catalogue of the field's brighter stars with their colours, as a survey of the sky would list them.
pub fn write_star_list(
    folder: &Path,
    frames: &[DemoFrame],
    overwrite: bool,
) -> Result<(), Trouble> {
    let path = folder.join("stars.csv");
    let wrong = |error: &dyn std::fmt::Display| Trouble::Write {
        file: path.clone(),
        error: FileError::Picture(error.to_string()),
    };
    let (Some(frame), Some(wcs)) = (frames.first(), plane_wcs()) else {
        return Ok(());
    };
    let file = begin(&path, overwrite)?;
    let mut out = csv::Writer::from_writer(file.file().map_err(|e| wrong(&e))?);
    out.write_record(["ra", "dec", "B", "V"])
        .map_err(|e| wrong(&e))?;
    for s in Crowd::lantern_reef().over(frame.shot.extent()) {
        if s.magnitude < FAINTEST {
            let at = wcs.sky(Point::<FramePx>::new(s.x, s.y));
            let row = [
                format!("{:.6}", at.ra_deg),
                format!("{:.6}", at.dec_deg),
                format!("{:.3}", s.magnitude + s.colour),
                format!("{:.3}", s.magnitude),
            ];
            out.write_record(&row).map_err(|e| wrong(&e))?;
        }
    }
    out.flush().map_err(|e| wrong(&e))?;
    drop(out);
    file.finish()
        .map_err(|error| Trouble::Write { file: path, error })?;
    Ok(())
}

/// Where the plane of the made-up sky lies on the real one.
fn plane_wcs() -> Option<Wcs> {
    Wcs::new(Fields {
        touches: Sky {
            ra_deg: FIELD_DEG.0,
            dec_deg: FIELD_DEG.1,
        },
        at: [ORIGIN.0, ORIGIN.1],
        matrix: [[-UNIT_DEG, 0.0], [0.0, UNIT_DEG]],
        pole_deg: 180.0,
        sip: None,
        system: None,
        equinox: Some(2000.0),
        projection: Projection::Tangent,
    })
}

/// The place of the plane where the sky touches it.
const ORIGIN: (f64, f64) = (960.0, 640.0);

/// Writes one frame.
pub fn write_frame(
    path: &Path,
    shot: &Shot,
    taken: &Taken,
    cards: &Cards,
    overwrite: bool,
) -> Result<(), Trouble> {
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let depth = match shot.camera.numbers {
        Numbers::Float => Depth::Float,
        Numbers::Sixteen => Depth::Sixteen,
    };
    let file = begin(path, overwrite)?;
    let mut out = FitsWriter::create(file, shot.size, 1, depth, cards).map_err(wrong)?;
    out.put(shot.size.rect(), &[taken.plane.data()])
        .map_err(|e| wrong(FileError::Picture(e.to_string())))?;
    out.complete().and_then(Unfinished::finish).map_err(wrong)?;
    Ok(())
}

/// The cards of camera and optics.
pub fn frame_cards(shot: &Shot, camera: &str, c: &mut Cards) {
    c.text("INSTRUME", camera, "");
    c.number("EGAIN", shot.camera.gain_e_adu, "[e-/adu]");
    c.number("XBINNING", 1.0, "");
    c.number("YBINNING", 1.0, "");
    // The second camera's larger pixels are what makes its scale 0.9.
    c.number("XPIXSZ", PIXEL_UM / shot.pointing.scale, "[um]");
    c.number("FOCALLEN", FOCAL_MM, "[mm]");
    c.number("SATURATE", shot.camera.full_adu, "[adu]");
    c.text("ROWORDER", "BOTTOM-UP", "");
}

/// The cards of a frame's place on the sky.
pub fn place_cards(shot: &Shot, c: &mut Cards) {
    if shot.pointing.sphere.is_some() {
        return beside(shot, c);
    }
    // The plane's x runs against right ascension, as the sky does for who looks up at it.
    let map = shot.map();
    let back = map.invert();
    let middle = shot.size.centre::<FramePx>();
    let [[a, b], [d, e]] = back.jacobian(middle);
    c.text("CTYPE1", "RA---TAN", "");
    c.text("CTYPE2", "DEC--TAN", "");
    let at = map.apply(Point::new(ORIGIN.0, ORIGIN.1));
    c.number("CRPIX1", at.x + 1.0, "");
    c.number("CRPIX2", at.y + 1.0, "");
    c.number("CRVAL1", FIELD_DEG.0, "[deg]");
    c.number("CRVAL2", FIELD_DEG.1, "[deg]");
    c.number("CD1_1", -UNIT_DEG * a, "");
    c.number("CD1_2", -UNIT_DEG * b, "");
    c.number("CD2_1", UNIT_DEG * d, "");
    c.number("CD2_2", UNIT_DEG * e, "");
    c.number("EQUINOX", 2000.0, "");
}

/// For a frame that points beside the place where the plane touches: the tangent plane of its own middle.
fn beside(shot: &Shot, c: &mut Cards) {
    let Some(plane) = plane_wcs() else { return };
    let back = shot.map().invert();
    let middle = shot.size.centre::<FramePx>();
    // A hundred pixels around the middle, where no lens distorts.
    let places: Vec<(Point<FramePx>, Sky)> = (-3..=3)
        .flat_map(|i| (-3..=3).map(move |j| (30.0 * f64::from(i), 30.0 * f64::from(j))))
        .map(|(dx, dy)| Point::new(middle.x + dx, middle.y + dy))
        .map(|p| {
            let at = back.apply(p);
            (p, plane.sky(Point::<FramePx>::new(at.x, at.y)))
        })
        .collect();
    if let Some(wcs) = fit_flat(&places, middle, Projection::Tangent, plane.fields()) {
        wcs_cards(&wcs, shot.size, c);
    }
}
