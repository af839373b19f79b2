//! Tables of placements, balances, exposures and overlaps, each with how to read it.

use comfy_table::{CellAlignment, ContentArrangement, Table, presets};

use jigsawa_core::matching::FoundBy;
use jigsawa_core::survey::quantity::in_units;

use crate::account::{Account, FrameRow, MosaicAccount};

/// Where panels overlap: stars, how well they meet, and the steps before and after.
pub(super) fn overlaps(m: &MosaicAccount) -> Table {
    let mut filters: Vec<&str> = Vec::new();
    for l in m.overlaps.iter().flat_map(|o| &o.levels) {
        if !filters.contains(&l.filter.as_str()) {
            filters.push(&l.filter);
        }
    }
    let mut head = vec![
        "panels".to_owned(),
        String::new(),
        "stars".to_owned(),
        "rms px".to_owned(),
    ];
    for f in &filters {
        head.push(format!("{f} step, sigma"));
        head.push("left".to_owned());
    }
    let words: Vec<&str> = head.iter().map(String::as_str).collect();
    let mut t = table(&words);
    for o in &m.overlaps {
        let mut row = vec![
            o.panels[0].clone(),
            o.panels[1].clone(),
            o.stars.to_string(),
            format!("{:.3}", o.rms_px),
        ];
        for f in &filters {
            match o.levels.iter().find(|l| l.filter == *f) {
                Some(l) => row.extend([
                    format!("{:.1}", l.before_sigma),
                    format!("{:.2}", l.after_sigma),
                ]),
                None => row.extend(["-".to_owned(), "-".to_owned()]),
            }
        }
        t.add_row(row);
    }
    t
}

/// A value in the units of a file, with its sign.
fn signed(v: f64) -> String {
    let shown = in_units(v, 1);
    if shown.starts_with('-') {
        shown
    } else {
        format!("+{shown}")
    }
}

pub(super) fn label(file: &str, plane: Option<usize>) -> String {
    let name = std::path::Path::new(file)
        .file_name()
        .map_or(file.into(), |n| n.to_string_lossy());
    match plane {
        Some(p) => format!("{name} plane {}", p + 1),
        None => name.into_owned(),
    }
}

pub(super) fn table(head: &[&str]) -> Table {
    let mut t = Table::new();
    t.load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Disabled)
        .set_header(head.to_vec());
    for i in 2..head.len() {
        if let Some(c) = t.column_mut(i) {
            c.set_cell_alignment(CellAlignment::Right);
        }
    }
    t
}

/// How to read a table of placements.
pub(super) const PLACEMENTS_READ: &str = "
 rms: how far apart matched stars lie, bright ones counting most; max: the two farthest apart, often faint ones;
 corner: how uncertain the place itself is in the frame's worst corner";

pub(super) fn placements(a: &Account) -> Table {
    let mut t = table(&[
        "frame",
        "filter",
        "size",
        "stars",
        "matched",
        "turn",
        "scale",
        "mirrored",
        "rms px",
        "max px",
        "corner px",
        "model",
        "by",
    ]);
    for f in &a.own.frames {
        let mut row = vec![
            label(&f.file, f.plane),
            f.filter.clone(),
            format!("{} x {}", f.width, f.height),
            f.stars.to_string(),
        ];
        match &f.placement {
            Some(p) if p.by != FoundBy::Reference.name() => row.extend([
                p.pairs.to_string(),
                degrees(p.rotation_deg),
                format!("{:.4}", p.scale),
                if p.mirrored { "yes" } else { "no" }.to_owned(),
                format!("{:.3}", p.rms_px),
                format!("{:.3}", p.max_px),
                format!("{:.3}", p.corner_sigma_px),
                p.model.unwrap_or("-").to_owned(),
                p.by.to_owned(),
            ]),
            Some(_) => row.push("reference".to_owned()),
            None => row.push("left out".to_owned()),
        }
        t.add_row(row);
    }
    t
}

/// A turn in degrees, without a minus before zero.
pub(super) fn degrees(turn: f64) -> String {
    let rounded = (turn * 100.0).round() / 100.0 + 0.0;
    format!("{rounded:.2}\u{b0}")
}

/// How to read a table of balances.
pub(super) const BALANCES_READ: &str = "
 a frame's values x factor, and what is added in the middle, bring it to its reference; uneven: what skies still differ by
 from patch to patch, in the noise of a pixel; weight: how much the frame counts in an average";

pub(super) fn balances(a: &Account) -> Table {
    let mut t = table(&[
        "frame", "filter", "FWHM px", "sky", "noise", "factor", "by", "added", "surface", "uneven",
        "weight",
    ]);
    for f in &a.own.frames {
        t.add_row(balance_row(f));
    }
    t
}

/// How to read a table of exposures.
pub(super) const EXPOSURES_READ: &str = "
 full from: the value at which a pixel is full; used to: above it a shorter exposure is used; full px: pixels that are full;
 headers say: the factor by exposures and gains; share: the part of the canvas that comes from it most";

/// Exposures: what fills each, what its values are multiplied by, and how much of the result is from it.
pub(super) fn exposures(a: &Account) -> Table {
    let mut t = table(&[
        "frame",
        "filter",
        "seconds",
        "full from",
        "used to",
        "full px %",
        "factor",
        "headers say",
        "share %",
        "known",
    ]);
    for e in &a.own.exposures {
        let number = |v: Option<f64>| v.map_or("-".to_owned(), |v| format!("{v:.1}"));
        t.add_row(vec![
            label(&e.file, None),
            e.filter.clone(),
            format!("{}", e.exposure_s),
            number(e.full),
            number(e.trusted),
            format!("{:.3}", e.full_percent),
            if e.factor_error > 0.0 {
                format!("{:.4} \u{b1} {:.4}", e.factor, e.factor_error)
            } else {
                "1".to_owned()
            },
            e.factor_told.map_or("-".to_owned(), |v| format!("{v:.4}")),
            format!("{:.2}", e.share_percent),
            e.full_by.unwrap_or("not known").to_owned(),
        ]);
    }
    t
}

fn balance_row(f: &FrameRow) -> Vec<String> {
    let mut row = vec![
        label(&f.file, f.plane),
        f.filter.clone(),
        f.fwhm_px.map_or("-".to_owned(), |v| format!("{v:.2}")),
        in_units(f.sky, 1),
        in_units(f.noise, 2),
    ];
    if let Some(b) = &f.balance {
        use jigsawa_core::balance::ScaleBy;
        let factor = if b.scale_error > 0.0 {
            format!("{:.4} \u{b1} {:.4}", b.scale, b.scale_error)
        } else {
            format!("{:.4}", b.scale)
        };
        let by = match b.stars {
            0 if b.scale_by == ScaleBy::Exposure && b.scale == 1.0 => "equal exposure".to_owned(),
            0 => b.scale_by.words().to_owned(),
            n => format!("{n} {}", b.scale_by.words()),
        };
        let left = if b.scale_by == ScaleBy::Reference && b.patches == 0 {
            "-".to_owned()
        } else {
            format!("{:.3}", b.residual_sigma)
        };
        row.extend([
            factor,
            by,
            signed(b.offset),
            b.surface.clone(),
            left,
            format!("{:.3}", b.weight),
        ]);
    }
    row
}
