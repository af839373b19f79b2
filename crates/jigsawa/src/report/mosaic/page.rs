//! The page's markup.

use std::path::Path;

use jigsawa_core::finish::Shade;
use jigsawa_core::layout::LayoutFrame;
use jigsawa_core::mosaic::seams::worst_places;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, PreEscaped, html};

use super::super::levels::image;
use super::super::save::{save, whole};
use super::maps::{after, before, coverage, seams, shown_as, vectors};
use super::plan::Plan;
use crate::account::{MosaicAccount, OverlapRow};
use jigsawa_work::compose::file_name;
use jigsawa_work::mosaic::{Assembled, FilterPart, Joined, Placed};
use jigsawa_work::trouble::Trouble;

const OWN_STYLE: &str = include_str!("mosaic.css");

/// Sides of a crop in pixels, and how many there are at the most in a filter.
const CROP: (usize, usize) = (260, 180);
const MOST_CROPS: usize = 18;

/// What the page is about.
pub struct MosaicPage<'a> {
    title: &'a str,
    placed: &'a Placed,
    assembled: &'a Assembled,
    told: MosaicAccount,
    plan: String,
    filters: Vec<Markup>,
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, page: &MosaicPage<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    let title = format!("{} – mosaic", page.title);
    save(path, whole(&title, OWN_STYLE, &page.body()), overwrite)
}

/// What is told of a frame's balance.
fn own_notes(f: &LayoutFrame) -> impl Iterator<Item = &String> {
    f.balance.iter().flat_map(|b| &b.notes)
}

impl<'a> MosaicPage<'a> {
    /// The page but for its filters.
    pub fn new(
        title: &'a str,
        placed: &'a Placed,
        assembled: &'a Assembled,
        told: &MosaicAccount,
        plan: &Plan,
    ) -> Self {
        Self {
            title,
            placed,
            assembled,
            told: told.clone(),
            plan: plan.svg(),
            filters: Vec::new(),
        }
    }

    /// Adds a joined filter.
    pub fn add(&mut self, part: &FilterPart, joined: &Joined) -> Result<(), Trouble> {
        let (cells, order) = (self.assembled.cells, self.placed.layout.canvas.row_order);
        let crops = self.crops(part, joined)?;
        let name = part.filter.name();
        let markup = html! {
            section aria-labelledby=(format!("h-{name}")) {
                h2 id=(format!("h-{name}")) { (name) }
                div.charts {
                    (shown_as(before(part, cells, order), "before: the files as they are, cut where the mosaic cuts them"))
                    (shown_as(after(&joined.small.plane(), order), "after: one scale, one sky, joined"))
                    (coverage(part, cells, order))
                }
                @if !crops.is_empty() {
                    h3 { "The hardest place of every seam, at 1:1" }
                    div.crops {
                        @for (p, words) in &crops {
                            figure { figcaption { (words) } svg viewBox=(format!("0 0 420 {:.0}", 420.0 * p.height() as f64 / p.width() as f64)) role="img" aria-label=(words) { (PreEscaped(image(p, words, true).replace("HEIGHT", &format!("{:.1}", 420.0 * p.height() as f64 / p.width() as f64)))) } }
                        }
                    }
                }
            }
        };
        self.filters.push(markup);
        Ok(())
    }

    /// Crops of the joined frame where seams cost most.
    fn crops(&self, part: &FilterPart, joined: &Joined) -> Result<Vec<(Picture, String)>, Trouble> {
        let cells = self.assembled.cells;
        let mut places = worst_places(&part.labels, &self.assembled.costs);
        places.sort_by(|a, b| b.cost.total_cmp(&a.cost));
        places.truncate(MOST_CROPS);
        let Some(shade) = Shade::measure(joined.small.plane().data()) else {
            return Ok(Vec::new());
        };
        let path = joined.frame.path();
        let unreadable = |e| Trouble::Files(vec![(joined.frame.target().to_owned(), e)]);
        let file = FitsFrame::open(path).map_err(unreadable)?;
        let canvas = cells.canvas;
        let name = |k: usize| self.placed.panels.get(k).map_or("?", |p| p.name.as_str());
        places
            .iter()
            .map(|w| {
                let m = cells.middle(w.at.0, w.at.1);
                let (wide, tall) = (CROP.0.min(canvas.width()), CROP.1.min(canvas.height()));
                let from = |v: f64, side: usize, n: usize| {
                    (v as i64 - side as i64 / 2).clamp(0, (n - side) as i64)
                };
                let rect = Rect {
                    x: from(m.x, wide, canvas.width()),
                    y: from(m.y, tall, canvas.height()),
                    width: wide,
                    height: tall,
                };
                let mut values = vec![0.0; rect.area()];
                file.read(0, rect, &mut values).map_err(unreadable)?;
                let size =
                    Size::new(wide, tall).unwrap_or_else(|| unreachable!("a crop has pixels"));
                let plane =
                    Plane::new(size, values).unwrap_or_else(|| Plane::filled(size, f32::NAN));
                let order = self.placed.layout.canvas.row_order;
                let words = format!(
                    "{} | {} at ({:.0}, {:.0})",
                    name(w.between.0),
                    name(w.between.1),
                    m.x,
                    m.y
                );
                Ok((Picture::grey(&plane, order, &shade), words))
            })
            .collect()
    }

    fn body(&self) -> Markup {
        let layout = &self.placed.layout;
        let left_out = layout
            .frames
            .iter()
            .filter(|f| f.verdict.reason().is_some())
            .count();
        let weak = self.told.overlaps.iter().filter(|o| !o.doubts.is_empty());
        let weak = weak.count();
        let good = left_out == 0 && weak == 0;
        let order = layout.canvas.row_order;
        html! {
            header {
                h1 { (self.title) ": mosaic" }
                p.big {
                    span.chip.good[good] { (self.told.panels.len()) " panels" } " "
                    span.chip { (layout.canvas.size.width()) " x " (layout.canvas.size.height()) " pixels" } " "
                    span.chip { (self.told.projection) }
                    @if let Some([w, h]) = self.told.field_deg { " " span.chip { (w) "° x " (h) "°" } }
                    @if left_out > 0 { " " span.chip.bad { (left_out) " left out" } }
                    @if weak > 0 { " " span.chip.bad { (weak) " weak ties" } }
                }
                p { "All panels of all filters were placed together by the stars that they share, and brought to one scale and one sky over all overlaps together. Seams keep away from stars and are the same in all filters." }
            }
            (self.doubts())
            section aria-labelledby="plan-h" {
                h2 id="plan-h" { "Plan" }
                div.plan { (PreEscaped(&self.plan)) }
                p.quiet { "Lines between panels: stars that both show, all filters together, and the part of one that lies on the other. What holds badly is red, few stars are orange and dashed." }
            }
            (self.overlaps())
            (self.frames())
            section aria-labelledby="off-h" {
                h2 id="off-h" { "Places and seams" }
                (vectors(&self.placed.vectors, layout.canvas.size, order))
                div.charts { (seams(&self.assembled.labels, self.assembled.cells, order, &self.placed.panels)) }
            }
            @for f in &self.filters { (f) }
        }
    }

    /// What is left out and what is doubtful, before all else.
    fn doubts(&self) -> Markup {
        let frames = &self.placed.layout.frames;
        let left_out = frames
            .iter()
            .filter_map(|f| Some((file_name(&f.file), f.verdict.reason()?)));
        let notes = frames.iter().flat_map(|f| {
            f.notes
                .iter()
                .chain(own_notes(f))
                .map(move |n| (file_name(&f.file), n))
        });
        let ties: Vec<String> = self
            .told
            .overlaps
            .iter()
            .filter_map(OverlapRow::doubted)
            .collect();
        let (left_out, notes): (Vec<_>, Vec<_>) = (left_out.collect(), notes.collect());
        html! {
            @if left_out.len() + notes.len() + ties.len() > 0 {
                section aria-labelledby="doubts-h" {
                    h2 id="doubts-h" { "What to look at" }
                    @for (file, why) in left_out { p { b { (file) } " " span.out { "left out" } ": " (why) } }
                    @for tie in ties { p { span.doubt { "weak" } " " (tie) } }
                    @for (file, note) in notes { p { b { (file) } " " span.doubt { "doubtful" } ": " (note) } }
                }
            }
        }
    }

    fn overlaps(&self) -> Markup {
        let mut filters: Vec<&str> = Vec::new();
        for l in self.told.overlaps.iter().flat_map(|o| &o.levels) {
            if !filters.contains(&l.filter.as_str()) {
                filters.push(&l.filter);
            }
        }
        html! {
            section aria-labelledby="overlaps-h" {
                h2 id="overlaps-h" { "Overlaps" }
                div.wide {
                    table {
                        thead { tr { th { "panels" } th.n { "stars" } th.n { "rms px" } @for f in &filters { th.n { (f) " step before" } th.n { "after" } } } }
                        tbody {
                            @for o in &self.told.overlaps {
                                tr {
                                    td { (o.panels[0]) " | " (o.panels[1]) } td.n { (o.stars) } td.n { (format!("{:.3}", o.rms_px)) }
                                    @for f in &filters {
                                        @match o.levels.iter().find(|l| l.filter == *f) {
                                            Some(l) => { td.n { (format!("{:.1} σ", l.before_sigma)) } td.n { (format!("{:.2} σ", l.after_sigma)) } }
                                            None => { td.n {} td.n {} }
                                        }
                                    }
                                }
                            }
                        }
                    }
                }
                p.quiet { "Steps: median difference of patches of sky that both panels show, in widths of the pixel noise, as the files are and with scales and surfaces; what is left then is spread over the overlap." }
            }
        }
    }

    fn frames(&self) -> Markup {
        let panel = |i: usize| self.placed.panels.iter().find(|p| p.frames.contains(&i));
        html! {
            section aria-labelledby="frames-h" {
                h2 id="frames-h" { "Frames" }
                div.wide {
                    table {
                        thead { tr {
                            th { "frame" } th { "filter" } th { "panel" } th.n { "stars matched" } th.n { "rms px" } th.n { "max px" } th.n { "corner px" } th.n { "turn" }
                            th.n { "factor" } th.n { "±" } th { "surface" } th.n { "uneven" } th { "by" }
                        } }
                        tbody {
                            @for (i, f) in self.placed.layout.frames.iter().enumerate() {
                                tr {
                                    td { (file_name(&f.file)) } td { (f.filter.name()) }
                                    td { @if let Some(p) = panel(i) { (p.name) } }
                                    @match (&f.placement, f.verdict.reason()) {
                                        (_, Some(why)) => { td colspan="10" { "left out: " (why) } }
                                        (Some(p), None) => {
                                            td.n { (p.pairs) } td.n { (format!("{:.3}", p.errors.rms_px)) } td.n { (format!("{:.3}", p.errors.max_px)) }
                                            td.n { (format!("{:.3}", p.errors.corner_sigma_px)) } td.n { (format!("{:.2}°", p.described.rotation_deg)) }
                                            @match &f.balance {
                                                Some(b) => { td.n { (format!("{:.4}", b.scale.value)) } td.n { (format!("{:.4}", b.scale.sigma)) } td { (b.surface.words()) } td.n { (format!("{:.3}", b.residual_sigma)) } }
                                                None => { td.n {} td.n {} td {} td.n {} }
                                            }
                                            td { (p.by.name()) }
                                        }
                                        _ => { td colspan="10" {} }
                                    }
                                }
                            }
                        }
                    }
                }
            }
        }
    }
}
