//! The page's markup.

use jigsawa_core::number::Convert;
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

use super::maps::{after, before, coverage, seams, shown_as, vectors};
use super::plan::Plan;
use crate::account::{MosaicAccount, OverlapRow};
use crate::report::page::{Chip, Page, section, spoilt};
use crate::report::picture::{As, figure};
use crate::report::table::{Table, cells};
use jigsawa_work::compose::file_name;
use jigsawa_work::frames::Spoilt;
use jigsawa_work::mosaic::{Assembled, FilterPart, Joined, Placed};
use jigsawa_work::trouble::Trouble;

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
    spoilt: &'a [Spoilt],
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, page: &MosaicPage<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    page.made().save(path, overwrite)
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
        spoilt: &'a [Spoilt],
    ) -> Self {
        Self {
            title,
            placed,
            assembled,
            told: told.clone(),
            plan: plan.svg(),
            filters: Vec::new(),
            spoilt,
        }
    }

    /// Adds a joined filter.
    pub fn add(&mut self, part: &FilterPart, joined: &Joined) -> Result<(), Trouble> {
        let (cells, order) = (self.assembled.cells, self.placed.layout.canvas.row_order);
        let crops = self.crops(part, joined)?;
        let name = part.filter.name();
        let body = html! {
            div.charts.four {
                (shown_as(before(part, cells, order), "before: the files as they are, cut where the mosaic cuts them"))
                (shown_as(after(&joined.small.plane(), order), "after: one scale, one sky, joined"))
                (coverage(part, cells, order))
            }
            @if !crops.is_empty() {
                h3 { "The hardest place of every seam, at 1:1" }
                div.crops { @for (p, words) in &crops { (figure(words, p, As::Cells)) } }
            }
        };
        self.filters.push(section(name, name, &body));
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
                    (v.whole() - side.whole() / 2).clamp(0, (n - side).whole())
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

    fn made(&self) -> Page {
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
        let panels = if good { Chip::Good } else { Chip::Plain };
        let lead = html! {
            p.big {
                (panels.says(format!("{} panels", self.told.panels.len())))
                (Chip::Plain.says(format!("{} x {} pixels", layout.canvas.size.width(), layout.canvas.size.height())))
                (Chip::Plain.says(self.told.projection))
                @if let Some([w, h]) = self.told.field_deg { (Chip::Plain.says(format!("{w}° x {h}°"))) }
                @if left_out > 0 { (Chip::Bad.says(format!("{left_out} left out"))) }
                @if weak > 0 { (Chip::Bad.says(format!("{weak} weak ties"))) }
            }
            p { "All panels of all filters were placed together by the stars that they share, and brought to one scale and one sky over all overlaps together. Seams keep away from stars and are the same in all filters." }
            (spoilt(self.spoilt))
        };
        let heading = format!("{}: mosaic", self.title);
        let mut page = Page::new(format!("{} – mosaic", self.title), heading, lead);
        page.add(self.doubts());
        page.add(section("plan", "Plan", &html! {
            div.plan { (PreEscaped(&self.plan)) }
            p.quiet { "Lines between panels: stars that both show, all filters together, and the part of one that lies on the other. What holds badly is red, few stars are orange and dashed." }
        }));
        page.add(section("overlaps", "Overlaps", &self.overlaps()));
        page.add(section("frames", "Frames", &self.frames()));
        page.add(section("off", "Places and seams", &html! {
            (vectors(&self.placed.vectors, layout.canvas.size, order))
            div.charts { (seams(&self.assembled.labels, self.assembled.cells, order, &self.placed.panels)) }
        }));
        for f in &self.filters {
            page.add(f.clone());
        }
        page
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
                (section("doubts", "What to look at", &html! {
                    @for (file, why) in left_out { p { b { (file) } " " span.out { "left out" } ": " (why) } }
                    @for tie in ties { p { span.doubt { "weak" } " " (tie) } }
                    @for (file, note) in notes { p { b { (file) } " " span.doubt { "doubtful" } ": " (note) } }
                }))
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
        let mut columns = ["panels", "#stars", "#rms px"].map(str::to_owned).to_vec();
        for f in &filters {
            columns.extend([format!("#{f} step before"), "#after".to_owned()]);
        }
        let mut table = Table::new(&columns);
        for o in &self.told.overlaps {
            let mut row = cells![
                format!("{} | {}", o.panels[0], o.panels[1]),
                o.stars,
                format!("{:.3}", o.rms_px),
            ];
            for f in &filters {
                let level = o.levels.iter().find(|l| l.filter == *f);
                let told = |v: Option<String>| v.unwrap_or_default();
                row.extend(cells![
                    told(level.map(|l| format!("{:.1} σ", l.before_sigma))),
                    told(level.map(|l| format!("{:.2} σ", l.after_sigma))),
                ]);
            }
            table.row("", row);
        }
        html! {
            (table)
            p.quiet { "Steps: median difference of patches of sky that both panels show, in widths of the pixel noise, as the files are and with scales and surfaces; what is left then is spread over the overlap." }
        }
    }

    fn frames(&self) -> Markup {
        let mut table = Table::new(&[
            "frame",
            "filter",
            "panel",
            "#stars matched",
            "#rms px",
            "#max px",
            "#corner px",
            "#turn",
            "by",
            "#factor",
            "#±",
            "surface",
            "#uneven",
        ]);
        for (i, f) in self.placed.layout.frames.iter().enumerate() {
            let panel = self.placed.panels.iter().find(|p| p.frames.contains(&i));
            let panel = panel.map_or("", |p| p.name.as_str());
            let mut row = cells![file_name(&f.file), f.filter.name(), panel];
            match (&f.placement, f.verdict.reason()) {
                (_, Some(why)) => table.row_saying("out", row, format!("left out: {why}")),
                (Some(p), None) => {
                    row.extend(cells![
                        p.pairs,
                        format!("{:.3}", p.errors.rms_px),
                        format!("{:.3}", p.errors.max_px),
                        format!("{:.3}", p.errors.corner_sigma_px),
                        format!("{:.2}°", p.described.rotation_deg),
                        p.by.name(),
                    ]);
                    row.extend(f.balance.iter().flat_map(|b| {
                        cells![
                            format!("{:.4}", b.scale.value),
                            format!("{:.4}", b.scale.sigma),
                            b.surface.words(),
                            format!("{:.3}", b.residual_sigma),
                        ]
                    }));
                    table.row("", row);
                }
                _ => table.row("", row),
            }
        }
        html! { (table) }
    }
}
