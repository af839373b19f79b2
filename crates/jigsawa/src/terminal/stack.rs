//! Masters and their frames as tables.

use comfy_table::Table;

use super::table::{label, table};
use crate::account::{FrameRow, LightRow, MasterRow};
use jigsawa_work::words::duration;

/// How to read the tables.
pub(super) const MASTERS_READ: &str = "
 noise: of a pixel of the master's sky; less: by how many times that is less than its best frame's, and what the best weights
 would give without any rejection; values: in a pixel on average";

pub(super) fn masters(all: &[MasterRow]) -> Table {
    let mut t = table(&[
        "master",
        "rejection",
        "frames",
        "exposure",
        "rejected %",
        "values",
        "noise",
        "less",
        "at best",
    ]);
    for m in all {
        t.add_row(vec![
            m.name.clone(),
            match m.rule {
                "none" => "none".to_owned(),
                rule => format!("{rule} {} {}", m.reject_low, m.reject_high),
            },
            m.frames.to_string(),
            m.total_s.map_or("-".to_owned(), duration),
            format!("{:.3}", m.rejected_percent),
            format!("{:.2}", m.depth),
            m.noise.to_string(),
            format!("{:.2} x", m.noise_gain),
            format!("{:.2} x", m.noise_gain_best),
        ]);
    }
    t
}

/// More frames than this are told in the page and by --json only: those that lost most stand here.
const MOST: usize = 30;

/// The frames of all masters, or those that lost most, and how many there are in all.
pub(super) fn lights(all: &[MasterRow], frames: &[FrameRow]) -> (Table, usize) {
    let mut t = table(&[
        "frame",
        "master",
        "FWHM px",
        "matched",
        "rms px",
        "factor",
        "noise",
        "weight %",
        "rejected %",
        "trails",
    ]);
    let mut rows: Vec<(&MasterRow, &LightRow)> = all
        .iter()
        .flat_map(|m| m.lights.iter().map(move |l| (m, l)))
        .collect();
    let count = rows.len();
    if count > MOST {
        rows.sort_by(|a, b| b.1.rejected_percent.total_cmp(&a.1.rejected_percent));
        rows.truncate(MOST);
    }
    for (m, l) in rows {
        let row = frames
            .iter()
            .find(|f| f.file == l.file && f.plane.is_none_or(|p| p == 1));
        let place = row.and_then(|f| f.placement.as_ref());
        let balance = row.and_then(|f| f.balance.as_ref());
        t.add_row(vec![
            label(&l.file, None),
            m.name.clone(),
            row.and_then(|f| f.fwhm_px)
                .map_or("-".to_owned(), |v| format!("{v:.2}")),
            place.map_or("-".to_owned(), |p| p.pairs.to_string()),
            place.map_or("-".to_owned(), |p| format!("{:.3}", p.rms_px)),
            balance.map_or("-".to_owned(), |b| format!("{:.4}", b.scale)),
            l.noise.to_string(),
            format!("{:.2}", l.weight_percent),
            format!("{:.3}", l.rejected_percent),
            match l.trails.len() {
                0 => String::new(),
                n => n.to_string(),
            },
        ]);
    }
    (t, count)
}
