//! The page's markup.

use std::path::Path;

use jigsawa_core::layout::Layout;
use jigsawa_core::number::Convert;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};

use super::set::StackSet;
use crate::account::{ComparedRow, MasterRow};
use crate::report::chart::{Axis, Chart, Ink};
use crate::report::page::{Chip, Page, section, spoilt};
use crate::report::picture::{As, figure};
use crate::report::table::{Table, cells};
use crate::tell::gathered;
use jigsawa_work::compose::file_name;
use jigsawa_work::frames::Spoilt;
use jigsawa_work::trouble::Trouble;
use jigsawa_work::words::duration;

/// What the page is about.
pub struct StackPage<'a> {
    pub title: &'a str,
    pub sets: &'a [StackSet],
    pub masters: &'a [MasterRow],
    pub layout: &'a Layout,
    pub spoilt: &'a [Spoilt],
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, page: &StackPage<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    page.made().save(path, overwrite)
}

impl StackPage<'_> {
    fn made(&self) -> Page {
        let lights: usize = self.masters.iter().map(|m| m.frames).sum();
        let left_out = self
            .layout
            .frames
            .iter()
            .filter(|f| f.verdict.reason().is_some())
            .count();
        let lead = html! {
            p.big {
                (Chip::Good.says(format!("{lights} frames")))
                (Chip::Plain.says(format!("{} masters", self.masters.len())))
                @if left_out + self.spoilt.len() > 0 { (Chip::Doubt.says(format!("{} left out", left_out + self.spoilt.len()))) }
            }
            p { "Each pixel of a master is the weighted mean of what all frames show there, without values that only single frames show." }
        };
        let mut page = Page::new(
            format!("{} – stack", self.title),
            format!("{}: frames stacked", self.title),
            lead,
        );
        page.add(section("masters", "Masters", &self.masters()));
        for (set, row) in self.sets.iter().zip(self.masters) {
            page.add(section(&set.name, &set.name, &self.set(set, row)));
        }
        page
    }

    fn masters(&self) -> Markup {
        let mut table = Table::new(&[
            "master",
            "#frames",
            "exposure",
            "rejection",
            "#rejected %",
            "#values a pixel",
            "#noise",
            "#less than the best frame's",
            "#at best",
        ]);
        for m in self.masters {
            let rule = match m.rule {
                "none" => "none".to_owned(),
                rule => format!("{rule}, {} below, {} above", m.reject_low, m.reject_high),
            };
            table.row(
                "",
                cells![
                    m.name,
                    m.frames,
                    m.total_s.map_or("-".to_owned(), duration),
                    rule,
                    format!("{:.3}", m.rejected_percent),
                    format!("{:.2}", m.depth),
                    m.noise,
                    format!("{:.2} x", m.noise_gain),
                    format!("{:.2} x", m.noise_gain_best),
                ],
            );
        }
        let left_out = self
            .layout
            .frames
            .iter()
            .filter_map(|f| Some((file_name(&f.file), f.verdict.reason()?)));
        let notes = self.layout.frames.iter().flat_map(|f| {
            let of_values = f.balance.iter().flat_map(|b| &b.notes);
            let all = f.notes.iter().chain(of_values);
            all.map(move |n| (file_name(&f.file), n.as_str()))
        });
        let notes = gathered(notes);
        html! {
            (table)
            (spoilt(self.spoilt))
            @for (file, why) in left_out { p.doubt { b { (file) } " is left out: " (why) } }
            @for m in self.masters { @for doubt in &m.doubts { p.doubt { b { (m.name) } ": " (doubt) } } }
            @for (who, note) in notes { p.doubt { b { (who) } ": " (note) } }
            p.quiet { "At best: what the best weights of frames as noisy as these would give, were nothing rejected and did all cover every pixel. The map beside each master has for every pixel how many values are in it, how many were rejected below and above, and its noise." }
        }
    }

    fn set(&self, set: &StackSet, row: &MasterRow) -> Markup {
        html! {
            div.charts {
                @if let Some(p) = &set.whole { (figure("the master, stretched", p, As::Photograph)) }
                @for (words, p) in &set.middle { (figure(words, p, As::Photograph)) }
                (growth(row))
            }
            p { (another_night(row)) }
            @if !set.compared.is_empty() {
                h3 { "How much is enough" }
                div.charts { @for (n, p) in &set.compared { (figure(&compared(row, *n), p, As::Photograph)) } }
            }
            @if !set.rejected.is_empty() {
                h3 { "What was rejected" }
                p.quiet { "Of the frames that lost most, brighter where more pixels were rejected: trails and cosmic rays should be seen here, and neither stars nor nebula." }
                div.charts {
                    @for (name, percent, p) in &set.rejected {
                        (figure(&format!("{name}: {percent:.3} % of its values"), p, As::Photograph))
                    }
                }
            }
            (self.lights(row))
        }
    }

    fn lights(&self, row: &MasterRow) -> Markup {
        let mut table = Table::new(&[
            "frame",
            "#seconds",
            "#FWHM px",
            "#noise",
            "#weight %",
            "#rejected %",
            "#trails",
        ]);
        for l in &row.lights {
            let known = self
                .layout
                .frames
                .iter()
                .find(|f| f.file == l.file && f.plane.is_none_or(|p| p == 1));
            let fwhm = known.and_then(|f| f.measured.fwhm_px);
            table.row(
                "",
                cells![
                    file_name(&l.file),
                    l.exposure_s.map_or("-".to_owned(), |s| s.to_string()),
                    fwhm.map_or("-".to_owned(), |f| format!("{f:.2}")),
                    l.noise,
                    format!("{:.2}", l.weight_percent),
                    format!("{:.4}", l.rejected_percent),
                    l.trails.len(),
                ],
            );
        }
        html! { h3 { "Frames" } (table) }
    }
}

/// How noise falls with every frame that is added, the best first, against the root of their number.
fn growth(row: &MasterRow) -> Markup {
    let gains = gains(row);
    let n = gains.len().real();
    let label = |v: &f64| format!("{v:.0}");
    let axis = |words, range| Axis {
        words,
        range,
        marks: 6,
        label: &label,
    };
    let highest = n.sqrt().max(1.0) * 1.08;
    let mut chart = Chart::new(
        "noise over the number of frames",
        (560, 360),
        axis("frames, the best first", (0.0, n.max(2.0) * 1.04)),
        axis("times less noise than the best frame", (0.0, highest)),
    );
    chart.curve(f64::sqrt, Ink::line([120, 130, 150], 1.0));
    let points = (1u32..).map(f64::from).zip(gains.iter().copied());
    chart.line(points, Ink::class("fit"));
    chart.dots([(n, row.noise_gain)], 5, Ink::dot([240, 180, 70]));
    // What was measured, against the noise of the fewest frames, which stand on the line.
    if let Some(first) = row.compared.first() {
        let on_line = gains.get(first.frames.max(1) - 1).copied().unwrap_or(1.0);
        let dots = |of: fn(&ComparedRow) -> f64| {
            let point = move |c: &ComparedRow| (c.frames.real(), on_line * of(first) / of(c));
            row.compared.iter().map(point).collect::<Vec<_>>()
        };
        chart.dots(dots(|c| c.noise), 4, Ink::dot([90, 150, 230]));
        chart.dots(dots(|c| c.deep_noise), 4, Ink::dot([210, 90, 90]));
        let of_star = |c: &ComparedRow| c.deep_noise * c.fwhm_px.unwrap_or(f64::NAN);
        if row.compared.iter().all(|c| c.fwhm_px.is_some()) {
            chart.dots(dots(of_star), 3, Ink::dot([240, 220, 120]));
        }
    }
    let measured = if row.compared.is_empty() {
        ""
    } else {
        "; measured: pixels blue, faint light red, faint stars yellow"
    };
    chart.figure(format!(
        "times less noise with every frame: by their noise (line), were all as good as the best (thin), and reached (dot){measured}"
    ))
}

/// What so many frames give, in words.
fn compared(row: &MasterRow, frames: usize) -> String {
    let of = row.compared.iter().find(|c| c.frames == frames);
    let first = row.compared.first();
    let words = of.zip(first).map(|(c, first)| {
        let (light, stars) = c.clearer_than(first);
        let stars = stars.map_or(String::new(), |s| format!(" and stars {s:.1} times"));
        let clear = format!(
            ", faint light {light:.1} times{stars} as clear as from {}",
            first.frames
        );
        let clear = if c.frames == first.frames { "" } else { &clear };
        format!(": noise {}{clear}", c.noise)
    });
    let plural = if frames == 1 { "" } else { "s" };
    format!("{frames} frame{plural}{}", words.unwrap_or_default())
}

/// Times less noise than the best frame's, of the best one, two and so on.
fn gains(row: &MasterRow) -> Vec<f64> {
    let mut noises: Vec<f64> = row
        .lights
        .iter()
        .map(|l| l.noise)
        .filter(|n| *n > 0.0)
        .collect();
    noises.sort_by(f64::total_cmp);
    let best = noises.first().copied().unwrap_or(1.0);
    let mut sum = 0.0;
    let gain = |n: &f64| {
        sum += (best / n).powi(2);
        sum.sqrt()
    };
    noises.iter().map(gain).collect()
}

/// What more frames would bring.
fn another_night(row: &MasterRow) -> String {
    let again = match row.frames {
        1 => "One frame more, as good as this one,".to_owned(),
        n => format!("{n} frames more, as good as these,"),
    };
    format!(
        "{again} would take 29 % of the noise off; to halve it takes {}.",
        3 * row.frames
    )
}
