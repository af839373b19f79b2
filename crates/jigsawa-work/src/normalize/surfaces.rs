//! The surfaces of a layout as FITS images on the canvas, for those who want to look at them elsewhere.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::balance::Surface;
use jigsawa_core::doors::TileSink;
use jigsawa_core::layout::Layout;
use jigsawa_core::space::Rect;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};

use crate::clock::Output;
use crate::frames::{Frame, stem};
use crate::outputs::are_free;
use crate::outputs::{begin, creator_card, make_folder, sky_cards};
use crate::trouble::Trouble;

/// Rows that are worked out at a time.
const ROWS: usize = 128;

/// The file of a frame's surface, or of its gain.
fn target(folder: &Path, f: &Frame, what: &str) -> PathBuf {
    let plane = f
        .plane
        .map_or(String::new(), |p| format!("-{}", ["R", "G", "B"][p.min(2)]));
    folder.join(format!("{}{plane}-{what}.fits", stem(&f.path)))
}

/// None of the files may be there already unless it is to be replaced.
pub fn surfaces_are_new(folder: &Path, frames: &[Frame], overwrite: bool) -> Result<(), Trouble> {
    let all = frames
        .iter()
        .flat_map(|f| ["surface", "gain", "added"].map(|what| target(folder, f, what)));
    are_free(&all.collect::<Vec<_>>(), overwrite)
}

/// Writes the surface of each used frame as `FOLDER/<the file's stem>-surface.fits`, in the reference's units;
/// what it is divided by as `…-gain.fits`, and what is added then as `…-added.fits`.
pub fn write_surfaces(
    folder: &Path,
    layout: &Layout,
    frames: &[Frame],
    overwrite: bool,
) -> Result<Vec<Output>, Trouble> {
    make_folder(folder)?;
    let mut outputs = Vec::new();
    for (f, row) in frames.iter().zip(&layout.frames) {
        let Some(balance) = row
            .balance
            .as_ref()
            .filter(|_| row.verdict == Verdict::Used)
        else {
            continue;
        };
        let target = |what: &str| target(folder, f, what);
        let mut parts: Vec<(PathBuf, &Surface, &'static str)> =
            vec![(target("surface"), &balance.surface, "surface")];
        let others = [(&balance.gain, "gain"), (&balance.added, "added")];
        for (surface, kind) in others {
            parts.extend(surface.iter().map(|s| (target(kind), s, kind)));
        }
        for (path, surface, kind) in parts {
            write_one(&path, surface, layout, frames, overwrite)?;
            outputs.push(Output {
                file: path.display().to_string(),
                kind,
            });
        }
    }
    Ok(outputs)
}

fn write_one(
    path: &Path,
    surface: &Surface,
    layout: &Layout,
    frames: &[Frame],
    overwrite: bool,
) -> Result<(), Trouble> {
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let size = layout.canvas.size;
    let mut cards = Cards::default();
    creator_card(&mut cards);
    cards.history(&format!("surface: {}", surface.words()));
    sky_cards(layout, frames, &mut cards);
    let file = begin(path, overwrite)?;
    let mut sink = FitsWriter::create(file, size, 1, Depth::Float, &cards).map_err(wrong)?;
    let mut band = Vec::new();
    for y in (0..size.height()).step_by(ROWS) {
        let height = ROWS.min(size.height() - y);
        band.clear();
        band.resize(size.width() * height, 0.0f32);
        for (r, row) in band.chunks_exact_mut(size.width()).enumerate() {
            surface.add_to_row(0, (y + r).whole(), row);
        }
        let rect = Rect {
            x: 0,
            y: y.whole(),
            width: size.width(),
            height,
        };
        sink.put(rect, &[&band]).map_err(|e| Trouble::Merge {
            message: format!("'{}' cannot be written: {e}", path.display()),
            file: Some(path.display().to_string()),
        })?;
    }
    sink.complete()
        .and_then(jigsawa_formats::whole::Unfinished::finish)
        .map(drop)
        .map_err(wrong)
}
