//! The page's markup.

use std::path::Path;

use jigsawa_core::layout::Layout;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};

use super::plots::{cut, logarithmic, response, sources};
use super::set::HdrSet;
use crate::account::HdrRow;
use crate::report::page::{Chip, Page, section};
use crate::report::table::{Table, cells};
use jigsawa_work::compose::file_name;
use jigsawa_work::trouble::Trouble;

/// What the page is about.
pub struct HdrPage<'a> {
    pub title: &'a str,
    pub sets: &'a [HdrSet],
    pub rows: &'a [HdrRow],
    pub layout: &'a Layout,
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, page: &HdrPage<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    page.made().save(path, overwrite)
}

impl HdrPage<'_> {
    fn made(&self) -> Page {
        let merged = self.sets.iter().filter(|s| s.exposures.len() > 1).count();
        let plural = if merged == 1 { "" } else { "s" };
        let lead = html! {
            p.big {
                (Chip::Good.says(format!("{} exposures", self.rows.len())))
                (Chip::Plain.says(format!("{merged} HDR frame{plural}")))
            }
            p { "Faint light is from the longest exposure, by inverse variance with all others; what is full in it is from the next shorter one, and so on." }
        };
        let heading = format!("{}: exposures merged", self.title);
        let mut page = Page::new(format!("{} – exposures", self.title), heading, lead);
        page.add(section("exposures", "Exposures", &self.exposures()));
        for s in self.sets {
            page.add(section(&s.filter, &s.filter, &self.set(s)));
        }
        page
    }

    fn exposures(&self) -> Markup {
        // A wide table: without the column that is mostly empty, where it is.
        let chained = self.rows.iter().any(|r| r.by_way_of.is_some());
        let mut columns = vec![
            "frame",
            "filter",
            "#seconds",
            "#full from",
            "known",
            "#used to",
            "#full px %",
            "#factor",
            "#±",
            "#headers say",
            "#share %",
        ];
        if chained {
            columns.push("by way of");
        }
        let mut table = Table::new(&columns);
        for r in self.rows {
            let error = (r.factor_error > 0.0).then(|| format!("{:.4}", r.factor_error));
            let told = r.factor_told.map(|t| format!("{t:.4}"));
            let way = r.by_way_of.as_deref().map(file_name);
            let mut row = cells![
                file_name(&r.file),
                r.filter,
                r.exposure_s,
                r.full.map_or("-".to_owned(), |v| format!("{v:.1}")),
                r.full_by.unwrap_or("not known"),
                r.trusted.map_or("all".to_owned(), |v| format!("{v:.1}")),
                format!("{:.3}", r.full_percent),
                format!("{:.4}", r.factor),
                error.unwrap_or_default(),
                told.unwrap_or_default(),
                format!("{:.2}", r.share_percent),
            ];
            row.extend(
                cells![way.unwrap_or_default()]
                    .into_iter()
                    .take(usize::from(chained)),
            );
            table.row("", row);
        }
        let notes = self.layout.frames.iter().flat_map(|f| {
            let of_values = f.balance.iter().flat_map(|b| &b.notes);
            let all = f.notes.iter().chain(of_values);
            all.map(move |n| (file_name(&f.file), n))
        });
        html! {
            (table)
            @for (file, note) in notes { p.doubt { b { (file) } ": " (note) } }
            p.quiet { "Full from: the value that a full pixel has. Used to: 95 % of the way there from the sky, or less where the exposure is seen to bend. Factor: what makes its values those of the longest." }
        }
    }

    fn set(&self, set: &HdrSet) -> Markup {
        let order = self.layout.canvas.row_order;
        let shares: Vec<f64> = self
            .rows
            .iter()
            .filter(|r| r.filter == set.filter)
            .map(|r| r.share_percent)
            .collect();
        let highest = |p: &jigsawa_core::plane::Plane| {
            p.data()
                .iter()
                .copied()
                .filter(|v| v.is_finite())
                .fold(0.0f32, f32::max)
        };
        let range = (
            2.0 * set.sigma.max(1e-6),
            highest(&set.after).max(10.0 * set.sigma),
        );
        let name = |k: usize| format!("{} s", set.exposures[k].1);
        html! {
            div.charts {
                @if let Some(before) = &set.before { (logarithmic(before, order, range, &format!("before: the longest alone, {}", name(0)))) }
                (logarithmic(&set.after, order, range, "after: all exposures, light in powers of ten"))
                (sources(set, order, &shares))
            }
            @if let Some(c) = &set.cut { (cut(c, set.sigma)) p.keys.quiet { span { "broad grey: the merged frame; thin lines: each exposure, in the colours of the map" } } }
            @if !set.pairs.is_empty() {
                h3 { "Responses" }
                p.quiet { "Smooth light of two exposures at the same places, above the sky, with the line of their factor; lines across: what fills the longer one, and up to where it is trusted." }
                div.charts { @for p in &set.pairs { (response(p, (&name(p.longer), &name(p.shorter)))) } }
            }
        }
    }
}
