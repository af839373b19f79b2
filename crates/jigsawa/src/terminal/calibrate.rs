//! The account of `calibrate` as text: what is missing or doubtful first.

use std::fmt::Write as _;

use comfy_table::{CellAlignment, ContentArrangement, Table, presets};
use jigsawa_work::foreign::shell_word;

use super::{Own, written};
use crate::account::{CalibrateAccount, Calibrated, Ending, LightsRow};

impl Own for Calibrated {
    fn text(account: &CalibrateAccount) -> String {
        account_text(account)
    }

    fn ending(&self) -> Ending {
        Ending::of(!self.left_out.is_empty() || !self.spoilt.is_empty())
    }
}

/// The account as text.
fn account_text(a: &CalibrateAccount) -> String {
    let mut out = String::new();
    for l in &a.own.lights {
        for d in &l.doubts {
            let _ = writeln!(out, "doubt      {}: {d}", l.group);
        }
    }
    for s in &a.own.doubtful {
        let _ = writeln!(out, "doubt      {}: {}", s.file, s.reason);
    }
    for s in a.own.left_out.iter().chain(&a.own.spoilt) {
        let _ = writeln!(out, "left out   {}: {}", s.file, s.reason);
    }
    for g in a.own.groups.iter().filter(|g| g.by_name > 0) {
        let _ = writeln!(
            out,
            "note       {}: no card says what {} of its {} frames are; their names do",
            g.group,
            g.by_name,
            g.files.len()
        );
    }
    for g in a.own.groups.iter().filter(|g| g.by_pixels > 0) {
        let _ = writeln!(
            out,
            "note       {}: neither card nor name says what {} of its {} frames are: {} by their pixels, which is a guess; a folder's \
             name settles it (lights/, darks/, flats/, biases/)",
            g.group,
            g.by_pixels,
            g.files.len(),
            g.kind
        );
    }
    if !out.is_empty() {
        out.push('\n');
    }
    if !a.own.lights.is_empty() {
        let _ = writeln!(out, "{}{LIGHTS_READ}\n", lights(a));
    }
    if !a.own.masters.is_empty() {
        let _ = writeln!(out, "{}{MASTERS_READ}\n", masters(a));
    }
    let used = |name: &str| {
        let of = |l: &LightsRow| {
            [&l.bias, &l.dark, &l.flat]
                .into_iter()
                .flatten()
                .any(|n| n == name)
        };
        a.own.lights.iter().any(of) || a.own.masters.iter().any(|m| m.group == name)
    };
    let idle: Vec<&str> = a
        .own
        .groups
        .iter()
        .filter(|g| g.kind != "light" && !used(&g.group))
        .map(|g| g.group.as_str())
        .collect();
    if !idle.is_empty() {
        let _ = writeln!(out, "unused     {}\n", idle.join(", "));
    }
    out.push_str(&written(&a.outputs, &a.stages, a.seconds));
    if let Some(layout) = a.outputs.iter().find(|o| o.kind == "layout") {
        let folder = std::path::Path::new(&layout.file).parent();
        let folder = folder.map(|f| f.display().to_string()).unwrap_or_default();
        let folder = if folder.is_empty() {
            ".".to_owned()
        } else {
            folder
        };
        let _ = writeln!(
            out,
            "next       jigsawa stack {} --out {}",
            shell_word(&layout.file),
            shell_word(&folder)
        );
    }
    out
}

/// How to read the table of lights.
const LIGHTS_READ: &str = "
 x: the part of the dark that is taken off (its amplifier's glow apart where that is another one), and what hot pixels of the
 lights say of it; made up: pixels that are filled from their neighbours at reading, in all lights and, behind the +, in
 single ones (rays, blooms)";

fn lights(a: &CalibrateAccount) -> Table {
    let mut t = table(&[
        "lights",
        "frames",
        "colours",
        "dark",
        "x",
        "by hot pixels",
        "bias",
        "flat",
        "made up",
        "values",
    ]);
    let word = |name: &Option<String>| name.clone().unwrap_or_else(|| "-".to_owned());
    for l in &a.own.lights {
        t.add_row(vec![
            l.group.clone(),
            l.frames.to_string(),
            word(&l.pattern),
            word(&l.dark),
            match (l.dark_factor, l.glow_factor) {
                (Some(f), Some(glow)) => format!("{f}, glow {glow}"),
                (Some(f), None) => format!("{f}"),
                (None, _) => "-".to_owned(),
            },
            match l.measured_factor.zip(l.measured_factor_error) {
                Some((f, e)) => format!("{f:.4} \u{b1} {e:.4}"),
                None => "-".to_owned(),
            },
            word(&l.bias),
            word(&l.flat),
            made_up(l),
            if l.electrons {
                "electrons"
            } else {
                "the file's"
            }
            .to_owned(),
        ]);
    }
    t
}

/// Pixels that are made up in all lights, and those in single ones.
fn made_up(l: &LightsRow) -> String {
    let chip: usize = l.defects.values().sum();
    let own: usize = l.own_defects.values().sum();
    if own > 0 {
        format!("{chip} + {own}")
    } else {
        chip.to_string()
    }
}

/// How to read the table of masters.
const MASTERS_READ: &str = "
 noise: of a pixel of the master; clipped: values of cosmic rays and stars that were left out, '-' where the library had the
 master already";

fn masters(a: &CalibrateAccount) -> Table {
    let mut t = table(&["master", "frames", "level", "noise", "clipped %", "file"]);
    for m in &a.own.masters {
        t.add_row(vec![
            m.group.clone(),
            m.frames.to_string(),
            format!("{}", m.level),
            m.noise.map_or("-".to_owned(), short),
            m.clipped_percent
                .map_or("-".to_owned(), |c| format!("{c:.3}")),
            m.file.clone(),
        ]);
    }
    t
}

fn table(head: &[&str]) -> Table {
    let mut t = Table::new();
    t.load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Disabled)
        .set_header(head.to_vec());
    for (i, name) in head.iter().enumerate() {
        let is_number = matches!(
            *name,
            "frames" | "x" | "by hot pixels" | "made up" | "level" | "noise" | "clipped %"
        );
        if let Some(c) = t.column_mut(i).filter(|_| is_number) {
            c.set_cell_alignment(CellAlignment::Right);
        }
    }
    t
}

/// A noise: of flats it is a part of one, of darks some units.
fn short(noise: f64) -> String {
    if noise < 0.1 {
        format!("{noise:.5}")
    } else {
        format!("{noise:.3}")
    }
}
