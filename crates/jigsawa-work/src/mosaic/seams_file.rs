//! The seams as a small file beside the layout: which panel each cell of the canvas comes from. Adding a panel or a filter
//! later reads it, so that no seam moves; and it can be edited by hand.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::doors::TileSink;
use jigsawa_core::mosaic::cells::Cells;
use jigsawa_core::mosaic::seams::Labels;
use jigsawa_core::space::Size;
use jigsawa_formats::fits::{Cards, Depth, FitsFrame, FitsWriter};
use jigsawa_formats::inputs;
use jigsawa_formats::whole::Unfinished;

use super::names::Panel;
use crate::outputs::{begin, creator_card};
use crate::trouble::Trouble;

/// The seams beside a layout: brought up to date in their place when panels are added.
fn opened(layout: &Path) -> Option<FitsFrame> {
    let path = path_beside(layout);
    let file = FitsFrame::open(&path).ok()?;
    inputs::update(&path);
    Some(file)
}

/// The seams that belong to a layout.
fn path_beside(layout: &Path) -> PathBuf {
    let name = layout
        .file_name()
        .map(|n| n.to_string_lossy().into_owned())
        .unwrap_or_default();
    let start = name.strip_suffix(".layout.json").unwrap_or(&name);
    layout.with_file_name(format!("{start}-seams.fits"))
}

/// Pixels along a cell's side, as the seams beside a layout have them.
pub fn seams_side(layout: &Path) -> Option<usize> {
    let file = opened(layout)?;
    let side = file.header().number("CELL")?;
    (1.0..=4096.0).contains(&side).then_some(side.index())
}

/// The labels beside a layout, for cells of a canvas whose first pixel is the pixel `first` of the layout's own; labels are
/// those of the panels by their names. `None` where there are none that fit.
pub fn read_seams(
    layout: &Path,
    cells: Cells,
    first: [i64; 2],
    own: Size,
    panels: &[Panel],
) -> Option<Labels> {
    let file = opened(layout)?;
    let side = seams_side(layout)?;
    let old = Cells::of_side(own, side);
    if (file.size().width(), file.size().height()) != (old.columns, old.rows) {
        return None;
    }
    let names: Vec<Option<u8>> = (1..=255)
        .map(|k| {
            let name = file.header().text(&format!("PANEL{k}"))?;
            let at = panels.iter().position(|p| p.name == name)?;
            Some(at.byte() + 1)
        })
        .collect();
    let plane = file.read_plane(0, Vec::new()).ok()?;
    let label = |i: usize| {
        let m = cells.middle(i % cells.columns, i / cells.columns);
        let cell = |v: f64, first: i64| {
            v.round()
                .whole()
                .saturating_add(first)
                .div_euclid(side.whole())
        };
        let v = plane.at(cell(m.x, first[0]), cell(m.y, first[1]));
        let k = if v >= 1.0 { v.index() } else { return 0 };
        names.get(k - 1).copied().flatten().unwrap_or(0)
    };
    Some((0..cells.count()).map(label).collect())
}

/// Writes the labels, under a temporary name still.
pub fn write_seams(
    layout: &Path,
    labels: &Labels,
    cells: Cells,
    panels: &[Panel],
    overwrite: bool,
) -> Result<Unfinished, Trouble> {
    let path = path_beside(layout);
    let wrong = |error| Trouble::Write {
        file: path.clone(),
        error,
    };
    let mut cards = Cards::default();
    creator_card(&mut cards);
    cards.number(
        "CELL",
        cells.side.real(),
        "canvas pixels along a cell's side",
    );
    for (k, p) in panels.iter().enumerate() {
        cards.text(&format!("PANEL{}", k + 1), &p.name, "");
    }
    cards.history("number of the panel that each cell of the canvas comes from, 0 for none");
    let size =
        Size::new(cells.columns, cells.rows).unwrap_or_else(|| unreachable!("a canvas has cells"));
    let mut out = FitsWriter::create(begin(&path, overwrite)?, size, 1, Depth::Sixteen, &cards)
        .map_err(wrong)?;
    let values: Vec<f32> = labels.iter().map(|l| f32::from(*l)).collect();
    out.put(size.rect(), &[&values])
        .map_err(|e| wrong(jigsawa_formats::error::FileError::Picture(e.to_string())))?;
    out.complete().map_err(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::garble::{Garble, runs};

    #[test]
    fn spoilt_seams_are_read_or_made_anew() {
        let dir = tempfile::tempdir_in("/dev/shm").unwrap_or_else(|_| tempfile::tempdir().unwrap());
        let layout = dir.path().join("x.layout.json");
        let own = Size::new(300, 200).unwrap();
        let cells = Cells::of_side(own, 8);
        let panel = |name: &str| Panel {
            name: name.to_owned(),
            frames: Vec::new(),
        };
        let panels = [panel("A"), panel("B")];
        let labels: Labels = (0..cells.count()).map(|i| (i % 3).byte()).collect();
        write_seams(&layout, &labels, cells, &panels, false)
            .unwrap()
            .finish()
            .unwrap();
        let path = path_beside(&layout);
        assert_eq!(
            read_seams(&layout, cells, [0, 0], own, &panels),
            Some(labels)
        );
        let mut garble = Garble::new(vec![std::fs::read(&path).unwrap()]);
        let (runs, mut taken) = (runs(3_000), 0);
        for number in 0..runs {
            std::fs::write(&path, garble.bytes(number)).unwrap();
            let first = [i64::MAX, i64::MIN, 16][number.index() % 3];
            if let Some(labels) = read_seams(&layout, cells, [first, -8], own, &panels) {
                assert_eq!(labels.len(), cells.count());
                assert!(labels.iter().all(|l| *l <= 2), "{number}");
                taken += 1;
            }
        }
        assert!(taken > runs / 20, "{taken} of {runs}");
    }
}
