//! The page itself: doubts first, then the tables.

use std::path::Path;

use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};

use super::{hot, lights, masters};
use crate::account::{CalibrateAccount, Calibrated, LightsRow};
use crate::report::page::{Chip, Page, section, spoilt};
use crate::report::table::{Table, cells};
use jigsawa_work::calibrate::Calibration;
use jigsawa_work::clock::Clock;
use jigsawa_work::compose::file_name;
use jigsawa_work::trouble::Trouble;

/// Writes the page, under a temporary name still.
pub fn write(
    path: &Path,
    title: &str,
    c: &Calibration,
    overwrite: bool,
) -> Result<Unfinished, Trouble> {
    // The page says what the account says.
    let account = CalibrateAccount::of(c, Vec::new(), &Clock::start()).own;
    let heading = format!("{title}: calibration");
    let mut page = Page::new(format!("{title} – calibration"), heading, lead(&account));
    if !account.lights.is_empty() {
        page.add(section(
            "lights",
            "What the lights get",
            &of_lights(&account),
        ));
    }
    page.add(section("groups", "Frames", &groups(&account)));
    if let Some(shown) = lights::before_and_after(c)? {
        page.add(section("light", "A light before and after", &shown));
    }
    if let Some(shown) = hot::shown(c) {
        page.add(section("hot", "Hot pixels", &shown));
    }
    for part in masters::shown(c)? {
        page.add(part);
    }
    page.save(path, overwrite)
}

fn lead(a: &Calibrated) -> Markup {
    let frames: usize = a.lights.iter().map(|l| l.frames).sum();
    let doubts: usize = a.lights.iter().map(|l| l.doubts.len()).sum();
    let whole = a
        .lights
        .iter()
        .filter(|l| l.dark.is_some() && l.flat.is_some());
    let whole: usize = whole.map(|l| l.frames).sum();
    html! {
        p.big {
            @if whole > 0 { (Chip::Good.says(format!("{whole} of {frames} lights have dark and flat"))) }
            @if whole < frames { (Chip::Doubt.says(format!("{} lack one", frames - whole))) }
            @if doubts > 0 { (Chip::Doubt.says(format!("{doubts} to look at"))) }
            @if !a.left_out.is_empty() {
                (Chip::Bad.says(match a.left_out.len() { 1 => "1 frame left out".to_owned(), n => format!("{n} frames left out") }))
            }
        }
        p { "Nothing was written but masters and a layout: every command that is given the layout reads the lights calibrated." }
        @for l in &a.lights {
            @for d in &l.doubts { p.doubt { b { (l.group) } ": " (d) } }
        }
        @for s in &a.doubtful { p.doubt { b { (s.file) } ": " (s.reason) } }
        @for s in &a.left_out { p.doubt { b { (s.file) } " is left out: " (s.reason) } }
        (spoilt(&a.spoilt))
    }
}

fn of_lights(a: &Calibrated) -> Markup {
    let mut table = Table::new(&[
        "lights",
        "#frames",
        "colours",
        "dark",
        "#part",
        "#by hot pixels",
        "bias",
        "flat",
        "#hot",
        "#cold",
        "#wavering",
        "#rays",
        "#noise",
        "in",
    ]);
    let word = |name: &Option<String>| {
        html! {
            @if let Some(name) = name { a href={ "#" (name) } { (name) } } @else { (Chip::Doubt.says("none")) }
        }
    };
    let flaw_of_one = |l: &LightsRow| l.own_defects.get("ray").copied().unwrap_or(0);
    for l in &a.lights {
        let flaw = |name: &str| l.defects.get(name).copied().unwrap_or(0);
        let measured = l.measured_factor.zip(l.measured_factor_error);
        let measured = measured.map_or("–".to_owned(), |(f, e)| format!("{f:.4} ± {e:.4}"));
        let glow = l.glow_factor.zip(l.glow_factor_error);
        let part = match (l.dark_factor, glow) {
            (Some(f), Some((g, e))) => format!("{f}, its glow {g:.3} ± {e:.3}"),
            (Some(f), None) => f.to_string(),
            (None, _) => "–".to_owned(),
        };
        let bias = match (&l.bias, &l.dark) {
            (None, Some(_)) => html! { "dark's" },
            (bias, _) => word(bias),
        };
        table.row(
            "",
            cells![
                l.group,
                l.frames,
                l.pattern.clone().unwrap_or_default(),
                word(&l.dark),
                part,
                measured,
                bias,
                word(&l.flat),
                flaw("hot"),
                flaw("cold"),
                flaw("wavering"),
                // Blooms are told in words.
                flaw_of_one(l),
                l.noise_ratio.map_or("–".to_owned(), |r| format!("{r:.2}")),
                if l.electrons { "e⁻" } else { "units" },
            ],
        );
        for d in &l.doubts {
            table.row_saying("note", cells![""], d);
        }
    }
    html! {
        (table)
        p { "Part: of the dark's current that is taken off. Noise: that of the lights over what their gain and the masters make. In: electrons, or the file's units." }
    }
}

fn groups(a: &Calibrated) -> Markup {
    let mut table = Table::new(&[
        "group",
        "#frames",
        "filter",
        "#seconds",
        "#°C",
        "camera",
        "size",
        "first and last",
    ]);
    for g in &a.groups {
        let name = |f: Option<&String>| f.map(|f| file_name(f)).unwrap_or_default();
        let (first, last) = (name(g.files.first()), name(g.files.last()));
        let number = |v: Option<f64>| v.map_or("–".to_owned(), |v| v.to_string());
        let files = if first == last {
            first
        } else {
            format!("{first} … {last}")
        };
        table.row(
            "",
            cells![
                g.group,
                g.files.len(),
                g.filter.clone().unwrap_or_default(),
                number(g.exposure_s),
                number(g.celsius),
                g.camera.clone().unwrap_or_default(),
                format!("{} × {}", g.width, g.height),
                files,
            ],
        );
    }
    html! { (table) }
}
