//! The account of frames on a canvas as text: what stands around its tables.

use std::borrow::Cow;
use std::fmt::Write as _;

use super::stack::{MASTERS_READ, lights, masters};
use super::table::{
    BALANCES_READ, EXPOSURES_READ, PLACEMENTS_READ, balances, degrees, exposures, label, overlaps,
    placements,
};
use super::{Own, written};
use crate::account::{
    Account, ComparedRow, Ending, FrameRow, HDR_FRAME, LaidOut, MASTER_FRAME, MOSAIC_FRAME,
};
use crate::account::{MosaicAccount, OverlapRow, several_of_a_filter};
use crate::tell::gathered;
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
        canvas_line(a)
    );
    if let Some(m) = &a.own.mosaic {
        let _ = writeln!(out, "mosaic     {}", mosaic_line(m));
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
    out.push_str(&if a.own.masters.is_empty() {
        tables(a)
    } else {
        stacked(a)
    });
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

/// Where frames lie, and how their values are matched.
fn tables(a: &Account) -> String {
    let mut out = String::new();
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
    out
}

/// How much clearer faint light and stars are than in what was made of the fewest frames.
fn clearer(c: &ComparedRow, first: &ComparedRow) -> String {
    if c.frames == first.frames {
        return String::new();
    }
    match c.clearer_than(first) {
        (light, _) if !light.is_finite() => String::new(),
        (light, None) => format!("; {light:.1} times as clear"),
        (light, Some(stars)) => {
            format!("; {light:.1} times as clear, faint stars {stars:.1} times")
        }
    }
}

/// Masters and their frames: a stack has its own tables, since a night has many frames.
fn stacked(a: &Account) -> String {
    let mut out = String::new();
    let (frames, count) = lights(&a.own.masters, &a.own.frames);
    let _ = writeln!(out, "\n{frames}");
    if frames.row_count() < count {
        let _ = writeln!(
            out,
            " of {count} frames those that lost most; the report and --json have all"
        );
    }
    let _ = writeln!(out, "\n{}{MASTERS_READ}", masters(&a.own.masters));
    for m in &a.own.masters {
        for c in &m.compared {
            let plural = if c.frames == 1 { "" } else { "s" };
            let _ = writeln!(
                out,
                "compare    {}: noise {} from {} frame{plural}, {} for faint light{}",
                m.name,
                c.noise,
                c.frames,
                c.deep_noise,
                clearer(c, &m.compared[0])
            );
        }
    }
    for (m, d) in a
        .own
        .masters
        .iter()
        .filter_map(|m| Some((m, m.drops.as_ref()?)))
    {
        let own = if d.own_pixels {
            ", each colour's own pixels"
        } else {
            ""
        };
        let _ = writeln!(
            out,
            "drops      {}: {} px, {}{own}; noise on large scales {:.2} times that of pixels",
            m.name, d.side_px, d.shape, d.noise_tied
        );
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
    let notes = a.own.frames.iter().flat_map(|f| {
        let name = label(&f.file, f.plane);
        f.notes.iter().map(move |n| (name.clone(), n.as_str()))
    });
    for (who, note) in gathered(notes) {
        let _ = writeln!(out, "note       {who}: {note}");
    }
    for m in &a.own.masters {
        for doubt in &m.doubts {
            let _ = writeln!(out, "doubt      {}: {doubt}", m.name);
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
    if a.command == "stack" {
        return after_stack(a);
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

/// Masters of several filters go on to a colour picture, one alone to be finished; several exposures to an HDR merge.
fn after_stack(a: &Account) -> Option<String> {
    let masters = a.outputs.iter().filter(|o| o.kind == MASTER_FRAME);
    let files: Vec<Cow<'_, str>> = masters.map(|o| shell_word(&o.file)).collect();
    match files.as_slice() {
        [] => None,
        [one] => Some(format!("jigsawa finish {one}")),
        all if several_of_a_filter(&a.own.masters) => {
            Some(format!("jigsawa hdr {}", all.join(" ")))
        }
        all => Some(format!("jigsawa compose {} --palette ...", all.join(" "))),
    }
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
fn mosaic_line(m: &MosaicAccount) -> String {
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
fn canvas_line(a: &Account) -> String {
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
