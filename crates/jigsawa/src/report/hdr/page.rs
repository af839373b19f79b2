//! The page's markup.

use std::path::Path;

use jigsawa_core::layout::Layout;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};

use super::super::save::{save, whole};
use super::plots::{cut, logarithmic, response, sources};
use super::set::HdrSet;
use crate::account::HdrRow;
use jigsawa_work::compose::file_name;
use jigsawa_work::trouble::Trouble;

const OWN_STYLE: &str = include_str!("hdr.css");

/// What the page is about.
pub struct HdrPage<'a> {
    pub title: &'a str,
    pub sets: &'a [HdrSet],
    pub rows: &'a [HdrRow],
    pub layout: &'a Layout,
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, page: &HdrPage<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    let title = format!("{} – exposures", page.title);
    save(path, whole(&title, OWN_STYLE, &page.body()), overwrite)
}

impl HdrPage<'_> {
    fn body(&self) -> Markup {
        let merged = self.sets.iter().filter(|s| s.exposures.len() > 1).count();
        html! {
            header {
                h1 { (self.title) ": exposures merged" }
                p.big { span.chip.good { (self.rows.len()) " exposures" } " " span.chip { (merged) " HDR frame" @if merged != 1 { "s" } } }
                p { "Faint light is from the longest exposure, by inverse variance with all others; what is full in it is from the next shorter one, and so on." }
            }
            (self.table())
            @for s in self.sets { (self.section(s)) }
        }
    }

    fn table(&self) -> Markup {
        // A wide table: without the column that is mostly empty, where it is.
        let chained = self.rows.iter().any(|r| r.by_way_of.is_some());
        let notes = self.layout.frames.iter().flat_map(|f| {
            let of_values = f.balance.iter().flat_map(|b| &b.notes);
            f.notes
                .iter()
                .chain(of_values)
                .map(move |n| (file_name(&f.file), n))
        });
        html! {
            section aria-labelledby="exposures-h" {
                h2 id="exposures-h" { "Exposures" }
                div.wide {
                    table {
                        thead { tr {
                            th { "frame" } th { "filter" } th.n { "seconds" } th.n { "full from" } th { "known" } th.n { "used to" } th.n { "full px %" }
                            th.n { "factor" } th.n { "±" } th.n { "headers say" } @if chained { th { "by way of" } } th.n { "share %" }
                        } }
                        tbody {
                            @for r in self.rows {
                                tr {
                                    td { (file_name(&r.file)) } td { (r.filter) } td.n { (r.exposure_s) }
                                    td.n { @match r.full { Some(v) => (format!("{v:.1}")), None => "-" } }
                                    td { (r.full_by.unwrap_or("not known")) }
                                    td.n { @match r.trusted { Some(v) => (format!("{v:.1}")), None => "all" } }
                                    td.n { (format!("{:.3}", r.full_percent)) }
                                    td.n { (format!("{:.4}", r.factor)) }
                                    td.n { @if r.factor_error > 0.0 { (format!("{:.4}", r.factor_error)) } }
                                    td.n { @if let Some(t) = r.factor_told { (format!("{t:.4}")) } }
                                    @if chained { td { @if let Some(w) = &r.by_way_of { (file_name(w)) } } }
                                    td.n { (format!("{:.2}", r.share_percent)) }
                                }
                            }
                        }
                    }
                }
                @for (file, note) in notes { p.doubt { b { (file) } ": " (note) } }
                p.quiet { "Full from: the value that a full pixel has. Used to: 95 % of the way there from the sky, or less where the exposure is seen to bend. Factor: what makes its values those of the longest." }
            }
        }
    }

    fn section(&self, set: &HdrSet) -> Markup {
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
            section aria-labelledby=(format!("h-{}", set.filter)) {
                h2 id=(format!("h-{}", set.filter)) { (set.filter) }
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
}
