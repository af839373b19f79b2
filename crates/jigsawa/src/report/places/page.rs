//! The page's markup.

use jigsawa_core::number::Convert;
use std::path::Path;

use jigsawa_core::layout::{Layout, LayoutFrame, PlacementRecord};
use jigsawa_core::matching::FoundBy;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};

use super::chart::PlacedStars;
use super::star::{PLACES, SIDE, Stamped, stamped};
use crate::report::page::{Chip, Page, section, spoilt};
use crate::report::picture::data_url;
use crate::report::table::{Table, cells};
use jigsawa_work::compose::file_name;
use jigsawa_work::frames::{Frame, Spoilt};
use jigsawa_work::register::Residual;
use jigsawa_work::trouble::Trouble;

/// Frames that are shown in full; of more, those that are worst.
const MOST_SHOWN: usize = 24;

/// Below this uncertainty in the worst corner, in pixels, nobody sees anything.
const GOOD_CORNER_PX: f64 = 0.1;

/// And below this scatter of the stars.
const GOOD_RMS_PX: f64 = 0.2;

/// What the page is about.
pub struct Places<'a> {
    pub title: &'a str,
    pub layout: &'a Layout,
    pub frames: &'a [Frame],
    /// The matched stars of each frame; none of those that were placed before.
    pub residuals: &'a [Vec<Residual>],
    /// Files that could not be used.
    pub spoilt: &'a [Spoilt],
}

/// How a frame came out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Outcome {
    LeftOut,
    Doubtful,
    Good,
    Before,
    Reference,
}

impl Outcome {
    fn of(row: &LayoutFrame, stars: &[Residual]) -> Self {
        match &row.placement {
            _ if row.verdict != Verdict::Used => Self::LeftOut,
            None => Self::LeftOut,
            Some(p) if p.by == FoundBy::Reference => Self::Reference,
            Some(p) => {
                let e = &p.errors;
                let good = e.corner_sigma_px < GOOD_CORNER_PX
                    && e.rms_px < GOOD_RMS_PX
                    && row.notes.is_empty();
                match good {
                    _ if matches!(p.by, FoundBy::Hand | FoundBy::Header | FoundBy::Pattern) => {
                        Self::Doubtful
                    }
                    true if stars.is_empty() => Self::Before,
                    true => Self::Good,
                    false => Self::Doubtful,
                }
            }
        }
    }

    fn chip(self) -> Markup {
        match self {
            Self::LeftOut => Chip::Bad.says("left out"),
            Self::Doubtful => Chip::Doubt.says("look at it"),
            Self::Good => Chip::Good.says("good"),
            Self::Before => Chip::Plain.says("placed before"),
            Self::Reference => Chip::Plain.says("reference"),
        }
    }
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, places: &Places<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    made(places)?.save(path, overwrite)
}

fn made(p: &Places<'_>) -> Result<Page, Trouble> {
    let outcomes: Vec<Outcome> = p
        .layout
        .frames
        .iter()
        .zip(p.residuals.iter().chain(std::iter::repeat(&Vec::new())))
        .map(|(row, stars)| Outcome::of(row, stars))
        .collect();
    // What needs eyes first: left out is told in the table, doubtful comes before good.
    let mut shown: Vec<usize> = (0..p.frames.len())
        .filter(|i| matches!(outcomes[*i], Outcome::Doubtful | Outcome::Good))
        .collect();
    let corner = |i: usize| {
        p.layout.frames[i]
            .placement
            .as_ref()
            .map_or(0.0, |r| r.errors.corner_sigma_px)
    };
    let many = shown.len() > MOST_SHOWN;
    if many {
        shown.sort_by(|a, b| {
            outcomes[*a]
                .cmp(&outcomes[*b])
                .then(corner(*b).total_cmp(&corner(*a)))
        });
        shown.truncate(MOST_SHOWN);
    }
    let sections: Vec<Markup> = shown
        .iter()
        .map(|i| of_frame(p, *i, outcomes[*i]))
        .collect::<Result<_, _>>()?;
    let heading = format!("{}: registration", p.title);
    let title = format!("{} – registration", p.title);
    let mut page = Page::new(title, heading, lead(p, &outcomes));
    page.add(section("frames", "Frames", &table(p, &outcomes)));
    for s in sections {
        page.add(s);
    }
    if many {
        page.add(html! { p.quiet { "The " (MOST_SHOWN) " frames that are least sure are shown; all are in the table." } });
    }
    Ok(page)
}

fn lead(p: &Places<'_>, outcomes: &[Outcome]) -> Markup {
    let count = |o: Outcome| outcomes.iter().filter(|x| **x == o).count();
    let (good, doubtful, out) = (
        count(Outcome::Good),
        count(Outcome::Doubtful),
        count(Outcome::LeftOut),
    );
    let worst = p
        .layout
        .frames
        .iter()
        .filter_map(|f| f.placement.as_ref())
        .map(|r| r.errors.corner_sigma_px)
        .fold(0.0, f64::max);
    let canvas = &p.layout.canvas;
    let frames = |n: usize| {
        if n == 1 {
            "1 frame".to_owned()
        } else {
            format!("{n} frames")
        }
    };
    html! {
        p.big {
            @if good > 0 { (Chip::Good.says(format!("{} good", frames(good)))) }
            @if doubtful > 0 { (Chip::Doubt.says(format!("{} to look at", frames(doubtful)))) }
            @if out > 0 { (Chip::Bad.says(format!("{} left out", frames(out)))) }
        }
        p { "All lie on " b { (file_name(&p.layout.reference.file)) } ": " (p.layout.reference.why) "." }
        p { "The map of every frame is known to " b { (format!("{worst:.3}")) " px or better" } " in its worst corner. Canvas: "
            (canvas.size.width()) " × " (canvas.size.height()) " pixels"
            @if canvas.scale != 1.0 { ", " (canvas.scale) " for one of the reference" }
            @if p.layout.wcs.is_some() { ", with its place on the sky" }
            "." }
        (spoilt(p.spoilt))
    }
}

fn table(p: &Places<'_>, outcomes: &[Outcome]) -> Markup {
    let mut table = Table::new(&[
        "frame",
        "filter",
        "verdict",
        "#turn",
        "#scale",
        "mirrored",
        "#matched",
        "#rms px",
        "#max px",
        "#corner px",
        "model",
        "found by",
        "where",
    ]);
    for (i, (row, outcome)) in p.layout.frames.iter().zip(outcomes).enumerate() {
        let linked = matches!(outcome, Outcome::Doubtful | Outcome::Good);
        let name = file_name(&row.file);
        let name = html! {
            @if linked { a href={ "#f" (i) } { (name) } } @else { (name) }
            @if let Some(k) = row.plane { " plane " (k + 1) }
        };
        let mut first = cells![name, row.filter, outcome.chip()];
        match (&row.placement, row.verdict.reason()) {
            (_, Some(reason)) => {
                let class = if *outcome == Outcome::LeftOut {
                    "out"
                } else {
                    ""
                };
                table.row_saying(class, first, reason);
            }
            (Some(r), _) if r.by != FoundBy::Reference => {
                first.extend(figures(r));
                table.row("", first);
            }
            _ => table.row("", first),
        }
        for note in &row.notes {
            table.row_saying("note", cells![""], note);
        }
        for fact in &row.facts {
            table.row_saying("fact", cells![""], fact);
        }
    }
    html! {
        (table)
        p.quiet { "Matched: stars that both frames show. Rms and max: how far single stars are off, mostly their own noise. Corner: how far the map itself may be off in the corner where it is known least; above 0.1 px look at the stars there, above 0.35 px a frame is left out." }
    }
}

fn figures(r: &PlacementRecord) -> Vec<Markup> {
    cells![
        format!("{:.3}°", r.described.rotation_deg + 0.0),
        format!("{:.5}", r.described.scale),
        if r.described.mirrored { "yes" } else { "no" },
        r.pairs,
        format!("{:.3}", r.errors.rms_px),
        format!("{:.3}", r.errors.max_px),
        format!("{:.3}", r.errors.corner_sigma_px),
        r.model.map_or("–", jigsawa_core::placement::Model::name),
        r.by.name(),
        ninths(r.coverage),
    ]
}

/// Matched stars in each ninth of the frame, as a small map.
fn ninths(coverage: Option<[usize; 9]>) -> Markup {
    let Some(counts) = coverage else {
        return html! {};
    };
    let most = counts.iter().copied().max().unwrap_or(0).max(1);
    let words = counts.map(|n| n.to_string()).join(", ");
    html! {
        svg.ninths viewBox="0 0 30 21" role="img" aria-label={ "stars in each ninth: " (words) } {
            title { "matched stars in each ninth of the frame, rows as they are stored: " (words) }
            @for (k, n) in counts.iter().enumerate() {
                rect.cell x=(10 * (k % 3)) y=(7 * (k / 3)) width="9" height="6"
                    fill-opacity=(format!("{:.2}", if *n == 0 { 0.0 } else { 0.25 + 0.75 * ((*n).real() / most.real()).sqrt() })) {}
            }
        }
    }
}

fn of_frame(p: &Places<'_>, i: usize, outcome: Outcome) -> Result<Markup, Trouble> {
    let row = &p.layout.frames[i];
    let none = Vec::new();
    let residuals = p.residuals.get(i).unwrap_or(&none);
    let stars = stamped(p.layout, p.frames, i, residuals).map_err(|error| Trouble::Merge {
        file: Some(row.file.clone()),
        message: format!("'{}' cannot be read: {error}", row.file),
    })?;
    let shown = PlacedStars::of(p.layout, i, residuals).filter(|_| !residuals.is_empty());
    let heading = html! { (file_name(&row.file)) " (" (row.filter) ") " (outcome.chip()) };
    let body = html! {
        p { (in_words(row)) }
        @for note in &row.notes { p.doubt { (note) } }
        @for fact in &row.facts { p.quiet { (fact) } }
        @if stars.iter().any(Option::is_some) { (stamp_sheet(&stars)) }
        @if let Some(shown) = shown {
            div.charts {
                (shown.vectors())
                (shown.coverage())
                (shown.against_brightness())
                (shown.against_radius())
            }
        }
    };
    Ok(section(&format!("f{i}"), heading, &body))
}

/// The placement in words.
fn in_words(row: &LayoutFrame) -> String {
    let Some(r) = &row.placement else {
        return String::new();
    };
    let d = &r.described;
    let turned = if d.rotation_deg.abs() < 0.005 {
        "not turned".to_owned()
    } else {
        format!("turned by {:.2}°", d.rotation_deg)
    };
    let mirrored = if d.mirrored { ", mirrored" } else { "" };
    let how = match r.by {
        FoundBy::Hand => {
            return format!(
                "It is {turned}{mirrored}, scale {:.4}, as you say.",
                d.scale
            );
        }
        FoundBy::Pattern => format!("{} patches of its pattern agree", r.pairs),
        _ => format!("{} stars match", r.pairs),
    };
    let distortion = r.distortion.as_ref().map_or(String::new(), |b| {
        format!(
            " Its optics distort it by up to {:.1} px against the reference, which the map follows.",
            b.most()
        )
    });
    format!(
        "{how}. It is {turned}{mirrored}, scale {:.4}. Stars the map has not seen are foretold to {:.3} px; in the worst \
         corner the map is known to {:.3} px.{distortion}",
        d.scale, r.errors.crossval_rms_px, r.errors.corner_sigma_px
    )
}

fn stamp_sheet(stars: &[Option<Stamped>]) -> Markup {
    let image = |png: &[u8], alt: String| {
        html! { img width=(4 * SIDE) height=(4 * SIDE) alt=(alt) src=(data_url("png", png)); }
    };
    html! {
        div.stamps {
            table {
                thead { tr { th {} @for (name, _, _) in PLACES { th { (name) } } } }
                tbody {
                    @for (words, which) in [("reference", 0), ("this frame, placed", 1), ("difference", 2)] {
                        tr {
                            th { (words) }
                            @for (star, (name, _, _)) in stars.iter().zip(PLACES) {
                                td {
                                    @match star {
                                        Some(s) => { (image([&s.reference, &s.frame, &s.difference][which], format!("{words}, {name}"))) }
                                        None => { span.quiet { @if which == 0 { "no star to show here" } } }
                                    }
                                }
                            }
                        }
                    }
                }
            }
        }
        p.quiet { "Stars at 4:1, each from its own sky to its own peak. A difference is grey where both are alike; one dark and one light side mean that the star is off, even rings that its width differs." }
    }
}
