//! The page's markup.

use std::io::{BufWriter, Write};
use std::path::Path;

use jigsawa_core::survey::group::filter_label;
use jigsawa_core::survey::quantity::{Measure, QUANTITIES, Quantity, Value, named};
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::error::FileError;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};

use super::data;
use super::plots::{Times, plot};
use crate::report::page::{Page, section};
use crate::report::picture::data_url;
use crate::report::table::{Table, cells};
use jigsawa_work::cache::Store;
use jigsawa_work::outputs::begin;
use jigsawa_work::survey::{Night, Way, recall};
use jigsawa_work::trouble::Trouble;
use jigsawa_work::words::duration;

const SCRIPT: &str = include_str!("survey.js");

/// What is plotted over the night.
const PLOTS: [(&str, &str); 6] = [
    ("fwhm", "FWHM (px)"),
    ("elongation", "Elongation"),
    ("sky", "Sky (adu)"),
    ("noise", "Noise (adu)"),
    ("transparency", "Transparency"),
    ("snr", "Signal-to-noise of a typical star"),
];

/// Columns of the page's table.
const COLUMNS: [&str; 16] = [
    "file",
    "filter",
    "score",
    "fwhm",
    "elongation",
    "transparency",
    "sky",
    "noise",
    "snr",
    "halo",
    "stars",
    "trails",
    "altitude",
    "exposure",
    "temperature",
    "kind",
];

/// Writes the page, under a temporary name still.
pub fn write(
    path: &Path,
    title: &str,
    night: &Night,
    store: &Store,
    way: &Way,
    overwrite: bool,
) -> Result<Unfinished, Trouble> {
    let file = begin(path, overwrite)?;
    let failed = |error| Trouble::Write {
        file: path.to_owned(),
        error: FileError::Io {
            doing: "cannot write the page",
            error,
        },
    };
    let out = file.file().map_err(|error| Trouble::Write {
        file: path.to_owned(),
        error,
    })?;
    let mut out = BufWriter::new(out);
    pieces(&mut out, title, night, store, way)
        .and_then(|()| out.flush())
        .map_err(failed)?;
    Ok(file)
}

fn pieces(
    mut out: impl Write,
    title: &str,
    night: &Night,
    store: &Store,
    way: &Way,
) -> std::io::Result<()> {
    let mut page = Page::new(title, title, lead(night)).script(SCRIPT);
    page.add(said(night));
    page.add(section("groups", "Groups", &groups(night)));
    page.add(section("plots", "Over the night", &plots(night)));
    page.add(section("frames-table", "Frames", &table(night)));
    page.add(section("field", "Stars over the field", &field()));
    out.write_all(page.beginning().as_bytes())?;
    // Pictures are written one by one.
    let pictures = section(
        "pictures",
        "Pictures",
        &html! {
            p.tools {
                label { input type="checkbox" id="common" checked; " one common stretch for each filter" }
                label { input type="checkbox" id="lights-only" checked; " lights only" }
            }
            div.sheet id="sheet" {}
        },
    );
    let pictures = pictures.into_string();
    let (before, after) = pictures.split_at(pictures.rfind("</div>").unwrap_or(pictures.len()));
    out.write_all(before.as_bytes())?;
    for i in lights_first(night) {
        out.write_all(picture(night, i, store, way).into_string().as_bytes())?;
    }
    out.write_all(after.as_bytes())?;
    let flip = section("flip", "Flip through", &flip());
    out.write_all(flip.into_string().as_bytes())?;
    let frames = serde_json::to_string(&data::frames(night)).unwrap_or_default();
    out.write_all(page.end(Some(&frames)).as_bytes())?;
    out.flush()
}

fn name(night: &Night, i: usize) -> String {
    night.files[i].name.clone()
}

fn lead(night: &Night) -> Markup {
    let lights: Vec<usize> = (0..night.files.len())
        .filter(|i| data::is_light(night, *i))
        .collect();
    let used = lights
        .iter()
        .filter(|i| night.judged[**i].verdict == Verdict::Used)
        .count();
    let others = night.files.len() - lights.len();
    html! {
        p {
            b { (lights.len()) } " lights: " b { (used) } " used, "
            b { (lights.len() - used) } " left out"
            @if others > 0 { "; " (others) " calibration frames" }
            @if !night.unreadable.is_empty() { "; " (night.unreadable.len()) " files cannot be read" }
            "."
        }
        @if let Some((i, why)) = &night.reference {
            p { "Proposed reference: " b { (name(night, *i)) } ", " (why) "." }
        }
        nav aria-label="Parts of the page" {
            a href="#groups" { "Groups" } a href="#plots" { "Plots" } a href="#frames-table" { "Frames" }
            a href="#field" { "Field" } a href="#pictures" { "Pictures" } a href="#flip" { "Flip through" }
        }
    }
}

fn said(night: &Night) -> Markup {
    let doubtful: Vec<usize> = (0..night.files.len())
        .filter(|i| {
            let j = &night.judged[*i];
            j.verdict != Verdict::Used || !j.doubts.is_empty()
        })
        .collect();
    let events = night.events();
    html! {
        @if !doubtful.is_empty() || !events.is_empty() || !night.unreadable.is_empty() {
            (section("said", "To look at", &html! {
                ul {
                    @for e in &events { li { (e) } }
                    @for i in doubtful {
                        @let j = &night.judged[i];
                        li {
                            button.link data-go=(i) { (name(night, i)) }
                            @if let Some(why) = j.verdict.reason() { " " span.out { "left out" } ": " (why) }
                            @for d in &j.doubts { " " span.doubt { "doubtful" } ": " (d) }
                        }
                    }
                    @for (file, why) in &night.unreadable {
                        li { (file.name) " " span.out { "left out" } ": it cannot be read: " (why) }
                    }
                }
            }))
        }
    }
}

fn groups(night: &Night) -> Markup {
    let mut table = Table::new(&[
        "kind",
        "filter",
        "#exposure",
        "camera",
        "night",
        "#frames",
        "#used",
        "#total",
    ]);
    let none = || "–".to_owned();
    for g in &night.groups {
        let used = |i: &&usize| night.judged[**i].verdict == Verdict::Used;
        let master = if g.key.master { " master" } else { "" };
        table.row(
            "",
            cells![
                format!("{}{master}", g.key.kind.name()),
                g.key.filter.as_deref().unwrap_or("–"),
                g.key.exposure_s.map_or_else(none, |e| format!("{e} s")),
                g.key.camera.as_deref().unwrap_or("–"),
                g.key.night.as_deref().unwrap_or("–"),
                g.count,
                g.frames.iter().filter(used).count(),
                g.total_s.map_or_else(none, duration),
            ],
        );
    }
    html! { (table) }
}

fn plots(night: &Night) -> Markup {
    let lights: Vec<usize> = night
        .in_time()
        .into_iter()
        .filter(|i| data::is_light(night, *i))
        .collect();
    let mut filters: Vec<String> = Vec::new();
    let label = |i: usize| filter_label(&night.facts[i]).unwrap_or_else(|| "no filter".to_owned());
    for i in &lights {
        if !filters.contains(&label(*i)) {
            filters.push(label(*i));
        }
    }
    let series = |i: usize| filters.iter().position(|f| *f == label(i)).unwrap_or(0);
    let times = Times::of(night, &lights);
    html! {
        p.legend {
            @for (k, f) in filters.iter().enumerate() { span { i class={ "key s" (k % 6) } {} (f) } }
            span { i class="key out" {} "left out" }
            span { i class="key limit" {} "limit" }
            span.quiet { "across: " (times.words()) "; press a point to see its frame" }
        }
        div.plots { @for (quantity, heading) in PLOTS { (plot(night, (quantity, heading), &times, &lights, &series)) } }
    }
}

fn table(night: &Night) -> Markup {
    let columns: Vec<&Quantity> = COLUMNS.iter().filter_map(|c| named(c)).collect();
    html! {
            p.tools {
                label { "Find " input type="search" id="find" placeholder="name, filter, reason"; }
                label { "Show " select id="which" {
                    option value="" { "all" } option value="used" { "used" } option value="out" { "left out" }
                    option value="doubt" { "doubtful" }
                } }
                span.quiet id="count" role="status" {}
            }
            div.wide {
                table.sortable id="table" {
                    thead { tr {
                        @for (k, q) in columns.iter().enumerate() {
                            th class=[(q.measure != Measure::Words).then_some("n")] title=(q.what) {
                                button type="button" { (q.name) }
                            }
                            @if k == 0 { th { button type="button" { "verdict" } } }
                        }
                    } }
                    tbody {
                        @for i in lights_first(night) { (row(night, i, &columns)) }
                    }
                }
            }
            details {
                summary { "What the columns are, and what else --keep, --sort and --columns know" }
                dl { @for q in &QUANTITIES { dt { (q.name) } dd { (q.what) } } }
            }
            details {
                summary { "How the scores are made" }
                p { "100 × sharpness × roundness × transparency × quiet, each to the power of its weight, against the \
                     best of the same filter, exposure and settings. Parts of each frame:" }
                (scores(night))
            }
    }
}

/// The parts of all scores.
fn scores(night: &Night) -> Table {
    let mut table = Table::new(&[
        "file",
        "#score",
        "#sharpness",
        "#roundness",
        "#transparency",
        "#quiet",
    ]);
    for (i, score) in night.scores.iter().enumerate() {
        if let Some(s) = score {
            let mut row = cells![name(night, i), format!("{:.1}", s.total)];
            for part in [s.sharpness, s.roundness, s.transparency, s.quiet] {
                row.extend(cells![format!("{part:.3}")]);
            }
            table.row("", row);
        }
    }
    table
}

/// Lights in order of time, then the rest.
fn lights_first(night: &Night) -> Vec<usize> {
    let (lights, rest): (Vec<usize>, Vec<usize>) = night
        .in_time()
        .into_iter()
        .partition(|i| data::is_light(night, *i));
    lights.into_iter().chain(rest).collect()
}

fn row(night: &Night, i: usize, columns: &[&Quantity]) -> Markup {
    let (known, judged) = (night.known_of(i), &night.judged[i]);
    let used = judged.verdict == Verdict::Used;
    let class = if used { "used" } else { "out" };
    html! {
        tr data-i=(i) class=(class) data-doubt=[(!judged.doubts.is_empty()).then_some("1")] {
            @for (k, q) in columns.iter().enumerate() {
                @let value = (q.of)(&known);
                @let sort = match &value { Some(Value::Number(v)) => Some(v.to_string()), _ => None };
                td class=[(q.measure != Measure::Words).then_some("n")] data-v=[sort] {
                    @if k == 0 { button.link data-go=(i) { (q.shown(&known)) } } @else { (q.shown(&known)) }
                }
                @if k == 0 {
                    td.verdict {
                        @if used { "used" } @else { span.out { "left out" } ": " (judged.verdict.reason().unwrap_or_default()) }
                        @for d in &judged.doubts { " " span.doubt { "doubtful" } ": " (d) }
                    }
                }
            }
        }
    }
}

fn field() -> Markup {
    html! {
        p.tools { label { "Frame " select id="field-frame" {} } span.quiet { "as the picture shows it; the ellipses' shapes are drawn three times as long as they are" } }
        div id="field-map" {}
    }
}

fn picture(night: &Night, i: usize, store: &Store, way: &Way) -> Markup {
    let used = night.judged[i].verdict == Verdict::Used;
    let reading = night.through[i].as_ref().map(|c| c.key.as_str());
    let kept = recall(store, &night.files[i].path, way, reading).and_then(|l| l.preview);
    let class = format!(
        "stamp {} {}",
        if used { "used" } else { "out" },
        night.facts[i].kind.name()
    );
    html! {
        @if let Some(p) = kept {
            figure class=(class) data-i=(i) {
                button type="button" data-go=(i) aria-label={ "Flip through from " (name(night, i)) } {
                    img decoding="async" alt={ "Quick look of " (name(night, i)) } width=(p.width) height=(p.height)
                        src=(data_url("jpeg", &p.jpeg));
                }
                figcaption { (name(night, i)) @if !used { " " span.out { "left out" } } }
            }
        }
    }
}

fn flip() -> Markup {
    html! {
            p.tools {
                button type="button" id="back" aria-label="Frame before" { "←" }
                button type="button" id="play" aria-pressed="false" { "Play" }
                button type="button" id="next" aria-label="Next frame" { "→" }
                label { "Speed " input type="range" id="speed" min="1" max="12" value="3"; }
                button type="button" id="fit" { "Whole frame" }
                button type="button" id="one" { "1:1" }
                label { input type="checkbox" id="register"; " stars in place" }
                button type="button" id="mark" aria-pressed="false" { "Leave this frame out" }
            }
            div.stage id="stage" tabindex="0" role="application" aria-label="Frame. Arrow keys: frame before, next frame. Space: play. Plus, minus: zoom. 1: one to one. 0: whole frame. X: leave out." {
                canvas id="view" {}
                p.caption id="caption" role="status" {}
            }
            p.quiet { "Keys: ← → other frame, space play, + − zoom where the pointer is, 1 one to one, 0 whole frame, x leave out or take back; drag to move. The place stays when the frame changes." }
            h3 { "What you have chosen" }
            p { span id="chosen" {} }
            textarea id="keep" readonly rows="3" aria-label="Command line with the frames that you left out" {}
            p { button type="button" id="copy" { "Copy" } " " span.quiet id="copied" role="status" {} }
    }
}
