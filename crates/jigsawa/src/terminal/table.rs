//! The account as text.

use std::borrow::Cow;
use std::fmt::Write as _;

use comfy_table::{CellAlignment, ContentArrangement, Table, presets};

use jigsawa_core::matching::FoundBy;
use jigsawa_core::survey::quantity::in_units;

use super::{Own, written};
use crate::account::{Account, Ending, FrameRow, HDR_FRAME, LaidOut, MOSAIC_FRAME};
use crate::account::{MosaicAccount, OverlapRow};
use jigsawa_work::foreign::shell_word;

impl Own for LaidOut {
    fn text(account: &Account) -> String {
        account_text(account)
    }

    fn ending(&self) -> Ending {
        let left_out = self.frames.iter().any(|f| f.reason.is_some());
        Ending::of(left_out || !self.spoilt.is_empty())
    }
}

/// The account as text.
fn account_text(a: &Account) -> String {
    let mut out = String::new();
    let _ = writeln!(
        out,
        "reference  {} ({})",
        label(&a.own.reference.file, a.own.reference.plane),
        a.own.reference.why
    );
    let _ = writeln!(
        out,
        "canvas     {} x {} pixels{}",
        a.own.canvas.width,
        a.own.canvas.height,
        canvas_told(a)
    );
    if let Some(m) = &a.own.mosaic {
        let _ = writeln!(out, "mosaic     {}", mosaic_told(m));
    }
    // A filter's only frame is matched to nothing.
    let many = |filter: &str| {
        let of = |f: &&FrameRow| f.filter == filter && f.reason.is_none();
        a.own.frames.iter().filter(of).count() > 1
    };
    for l in a.own.levels.iter().filter(|l| many(&l.filter)) {
        let _ = writeln!(
            out,
            "level      {} is matched to {} ({})",
            l.filter,
            label(&l.file, l.plane),
            l.why
        );
    }
    if a.command == "normalize" && a.own.levels.len() > 1 {
        let _ = writeln!(out, "filters    {}", across(a));
    }
    if a.own.mosaic.is_some() {
        out.push_str(&doubtful(a));
    }
    // What was placed before is told by the command that placed it.
    if a.command != "normalize" || a.own.frames.iter().all(|f| f.balance.is_none()) {
        let _ = writeln!(out, "\n{}{PLACEMENTS_READ}", placements(a));
    }
    if let Some(m) = &a.own.mosaic {
        let _ = writeln!(out, "\n{}", overlaps(m));
    }
    if !a.own.exposures.is_empty() {
        let _ = writeln!(out, "\n{}{EXPOSURES_READ}", exposures(a));
    } else if a.own.frames.iter().any(|f| f.balance.is_some()) {
        let _ = writeln!(out, "\n{}{BALANCES_READ}", balances(a));
    }
    out.push_str(&mixes(a));
    if let Some(percent) = a.own.outliers_percent {
        let _ = writeln!(
            out,
            "outliers   {percent} % of the values were left out where three or more frames of a filter overlap and one \
             alone shows something (trails, cosmic rays)"
        );
    }
    if a.own.mosaic.is_none() {
        out.push_str(&doubtful(a));
    }
    let _ = writeln!(out);
    out.push_str(&written(&a.outputs, &a.stages, a.seconds));
    if let Some(next) = next(a) {
        let _ = writeln!(out, "next       {next}");
    }
    out
}

/// What channels are made of, and how strong lines were made for it.
fn mixes(a: &Account) -> String {
    let mut out = String::new();
    if !a.own.channels.is_empty() {
        let _ = writeln!(out);
    }
    let widest = a.own.channels.iter().map(|c| c.mix.chars().count()).max();
    let named = a
        .own
        .channels
        .iter()
        .map(|c| c.name.len())
        .max()
        .unwrap_or(0);
    for c in &a.own.channels {
        let _ = writeln!(
            out,
            "{:<named$} {:<width$}  from {}",
            c.name,
            c.mix,
            c.frames.join(", "),
            named = named.max(10),
            width = widest.unwrap_or(0)
        );
    }
    if a.command == "compose" && a.own.channels.len() > 1 {
        let _ = writeln!(
            out,
            "white      not set here: frames are matched to the reference, and 'finish' sets white and says what by"
        );
    }
    for l in &a.own.lines {
        let off = l.continuum.as_ref().map_or(String::new(), |(broad, k)| {
            format!(", less {k} of {broad} by {} stars", l.stars.unwrap_or(0))
        });
        let _ = writeln!(
            out,
            "line       {:<5} x {} ({}){off}",
            l.filter, l.factor, l.by
        );
    }
    out
}

/// What is left out and what is doubtful: of mosaics first, since one look at the picture does not show it.
fn doubtful(a: &Account) -> String {
    let mut out = String::new();
    for f in a.own.frames.iter().filter(|f| f.reason.is_some()) {
        let _ = writeln!(
            out,
            "left out   {}: {}",
            label(&f.file, f.plane),
            f.reason.as_deref().unwrap_or_default()
        );
    }
    for s in &a.own.spoilt {
        let _ = writeln!(
            out,
            "left out   {}: it cannot be used: {}",
            s.file, s.reason
        );
    }
    for f in &a.own.frames {
        for note in &f.notes {
            let _ = writeln!(out, "note       {}: {note}", label(&f.file, f.plane));
        }
    }
    let overlaps = a.own.mosaic.iter().flat_map(|m| &m.overlaps);
    for doubt in overlaps.filter_map(OverlapRow::doubted) {
        let _ = writeln!(out, "doubt      {doubt}");
    }
    out
}

/// What a composite is for: the command that goes on with it.
fn next(a: &Account) -> Option<String> {
    if a.command == "hdr" {
        return after_hdr(a);
    }
    if a.command == "mosaic" {
        return after_mosaic(a);
    }
    if a.command != "compose" {
        return None;
    }
    let file = |ending: &str| a.outputs.iter().find(|o| o.file.ends_with(ending));
    if file("-variants.html").is_some() {
        return Some(
            "the same command with --pick N makes the full picture of number N".to_owned(),
        );
    }
    let linear = &file(".fits")?.file;
    let folder = std::path::Path::new(linear).parent()?.display().to_string();
    let folder = if folder.is_empty() {
        ".".to_owned()
    } else {
        folder
    };
    Some(format!(
        "jigsawa finish {} --out {}",
        shell_word(linear),
        shell_word(&folder)
    ))
}

/// Several merged filters go on to a colour picture.
fn after_hdr(a: &Account) -> Option<String> {
    let merged: Vec<Cow<'_, str>> = a
        .outputs
        .iter()
        .filter(|o| o.kind == HDR_FRAME)
        .map(|o| shell_word(&o.file))
        .collect();
    let coloured = a.outputs.iter().any(|o| o.kind.starts_with("linear"));
    (merged.len() > 1 && !coloured)
        .then(|| format!("jigsawa compose {} --palette ...", merged.join(" ")))
}

/// A plan goes on to the mosaic, mosaics of several filters to a colour picture, one alone to be finished.
fn after_mosaic(a: &Account) -> Option<String> {
    let of_kind = |kind: &str| -> Vec<Cow<'_, str>> {
        let all = a.outputs.iter().filter(|o| o.kind == kind);
        all.map(|o| shell_word(&o.file)).collect()
    };
    if a.outputs.iter().any(|o| o.kind.starts_with("linear")) {
        return None;
    }
    let joined = of_kind(MOSAIC_FRAME);
    match joined.as_slice() {
        [] => of_kind("layout")
            .first()
            .map(|l| format!("jigsawa mosaic {l} makes it")),
        [one] => Some(format!("jigsawa finish {one}")),
        all => Some(format!("jigsawa compose {} --palette ...", all.join(" "))),
    }
}

/// A mosaic in a line.
fn mosaic_told(m: &MosaicAccount) -> String {
    let field = m.field_deg.map_or(String::new(), |[w, h]| {
        format!(", {w:.2}\u{b0} x {h:.2}\u{b0} of the sky")
    });
    let mut filters: Vec<&str> = Vec::new();
    for f in m.panels.iter().flat_map(|p| &p.filters) {
        if !filters.contains(&f.as_str()) {
            filters.push(f);
        }
    }
    format!(
        "{} panels in {}{field}, on a {} plane",
        m.panels.len(),
        filters.join(", "),
        m.projection.trim_end_matches(" plane")
    )
}

/// Where panels overlap: stars, how well they meet, and the steps before and after.
fn overlaps(m: &MosaicAccount) -> Table {
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

/// What was done between filters.
fn across(a: &Account) -> &'static str {
    use jigsawa_core::balance::ScaleBy;
    let left = |f: &FrameRow| {
        f.balance
            .as_ref()
            .is_some_and(|b| b.scale_by == ScaleBy::None)
    };
    if a.own.frames.iter().any(left) {
        "their skies are matched through patches that are dark in both; their scales are left as they are (--match)"
    } else {
        "their skies are matched through patches that are dark in both"
    }
}

/// What is unusual about the canvas.
fn canvas_told(a: &Account) -> String {
    let mut told = String::new();
    let [x, y] = a.own.canvas.origin;
    if a.own.canvas.scale != 1.0 {
        let _ = write!(told, ", {} for one of the reference", a.own.canvas.scale);
    }
    if a.own.canvas.turn_deg != 0.0 {
        let _ = write!(told, ", turned by {}", degrees(a.own.canvas.turn_deg));
    }
    if (x, y) != (0.0, 0.0) && told.is_empty() {
        let _ = write!(told, ", its first pixel is the reference's ({x}, {y})");
    }
    told
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

fn label(file: &str, plane: Option<usize>) -> String {
    let name = std::path::Path::new(file)
        .file_name()
        .map_or(file.into(), |n| n.to_string_lossy());
    match plane {
        Some(p) => format!("{name} plane {}", p + 1),
        None => name.into_owned(),
    }
}

fn table(head: &[&str]) -> Table {
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
const PLACEMENTS_READ: &str = "
 rms: how far apart matched stars lie, bright ones counting most; max: the two farthest apart, often faint ones;
 corner: how uncertain the place itself is in the frame's worst corner";

fn placements(a: &Account) -> Table {
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
fn degrees(turn: f64) -> String {
    let rounded = (turn * 100.0).round() / 100.0 + 0.0;
    format!("{rounded:.2}\u{b0}")
}

/// How to read a table of balances.
const BALANCES_READ: &str = "
 a frame's values x factor, and what is added in the middle, bring it to its reference; uneven: what skies still differ by
 from patch to patch, in the noise of a pixel; weight: how much the frame counts in an average";

fn balances(a: &Account) -> Table {
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
const EXPOSURES_READ: &str = "
 full from: the value at which a pixel is full; used to: above it a shorter exposure is used; full px: pixels that are full;
 headers say: the factor by exposures and gains; share: the part of the canvas that comes from it most";

/// Exposures: what fills each, what its values are multiplied by, and how much of the result is from it.
fn exposures(a: &Account) -> Table {
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
