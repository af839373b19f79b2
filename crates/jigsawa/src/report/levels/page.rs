//! The page's markup.

use jigsawa_core::number::Convert;
use std::collections::HashMap;
use std::path::Path;

use jigsawa_core::balance::flatten::Gradient;
use jigsawa_core::balance::{Balance, BothPatch, Lattice, ScaleBy};
use jigsawa_core::filter::Filter;
use jigsawa_core::finish::Shade;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_core::space::Point;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};
use rayon::prelude::*;

use super::cuts::{Along, POSITIONS, cuts};
use super::plots;
use crate::report::map::Map;
use crate::report::page::{Chip, Page, section, spoilt};
use crate::report::picture::{As, WIDTH, figure_over};
use crate::report::table::{Table, cells};
use jigsawa_work::compose::file_name;
use jigsawa_work::frames::{Frame, Spoilt};
use jigsawa_work::normalize::{Normalized, Seen};
use jigsawa_work::small::{Small, small};
use jigsawa_work::trouble::Trouble;
use jigsawa_work::words::ground_words;

/// Width of a picture in its own pixels.
const SMALL_WIDTH: usize = 420;

/// Moves all cuts of a page together.
const SCRIPT: &str = "document.getElementById('cut')?.addEventListener('input', e => \
  document.querySelectorAll('[data-cut]').forEach(d => d.hidden = d.dataset.cut !== e.target.value));";

/// Frames that are shown in full; of more, those whose sky is matched worst.
const MOST_SHOWN: usize = 16;

/// Below this scatter of the patches, in pixel noise, nobody sees anything.
const GOOD_SIGMA: f64 = 0.3;

/// What the page is about.
pub struct LevelPage<'a> {
    pub title: &'a str,
    pub normalized: &'a Normalized,
    pub frames: &'a [Frame],
    /// Files that could not be used.
    pub spoilt: &'a [Spoilt],
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, page: &LevelPage<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    page.made()?.save(path, overwrite)
}

impl LevelPage<'_> {
    fn layout(&self) -> &Layout {
        &self.normalized.layout
    }

    /// Is this frame the one that those of its filter are matched to?
    fn is_level(&self, i: usize) -> bool {
        let levels = self.layout().levels.iter().flat_map(|l| &l.references);
        levels.into_iter().any(|r| r.frame == i)
    }

    fn made(&self) -> Result<Page, Trouble> {
        let rows = &self.layout().frames;
        let left = |i: usize| rows[i].balance.as_ref().map_or(0.0, |b| b.residual_sigma);
        let mut shown: Vec<usize> = (0..rows.len())
            .filter(|i| rows[*i].balance.is_some() && self.normalized.seen[*i].is_some())
            .filter(|i| !self.is_untouched(*i))
            .collect();
        let many = shown.len() > MOST_SHOWN;
        if many {
            // References first: what is left in them is left in all.
            let later = |i: usize| !self.is_level(i);
            shown.sort_by(|a, b| {
                later(*a)
                    .cmp(&later(*b))
                    .then(left(*b).total_cmp(&left(*a)))
            });
            shown.truncate(MOST_SHOWN);
            shown.sort_unstable();
        }
        let pictures = self.pictures(&shown)?;
        let sections: Vec<Markup> = shown
            .par_iter()
            .map(|i| self.section(*i, &pictures))
            .collect();
        let mut page = self.begun();
        page.add(section("frames", "Frames", &self.table(&shown)));
        if !sections.is_empty() {
            page.add(html! {
                p.tools { label for="cut" { "Cuts through the canvas at" }
                    input id="cut" type="range" min="0" max=(POSITIONS.len() - 1) value=(POSITIONS.len() / 2) aria-label="position of all cuts"; }
            });
        }
        for s in sections {
            page.add(s);
        }
        if many {
            page.add(html! { p.quiet { "The " (MOST_SHOWN) " frames whose sky is matched worst are shown; all are in the table." } });
        }
        Ok(page)
    }

    /// The frames that are shown, and those that they are matched to, made small; each is read once.
    fn pictures(&self, shown: &[usize]) -> Result<HashMap<usize, Small>, Trouble> {
        let layout = self.layout();
        let against = |i: &usize| self.normalized.seen[*i].as_ref().map(|s| s.against);
        let mut all: Vec<usize> = shown.to_vec();
        all.extend(shown.iter().filter_map(against));
        all.sort_unstable();
        all.dedup();
        let read = |i: &usize| match small(layout, self.frames, *i, SMALL_WIDTH) {
            Ok(picture) => Ok(picture.map(|p| (*i, p))),
            Err(error) => Err(Trouble::Merge {
                file: Some(layout.frames[*i].file.clone()),
                message: format!("'{}' cannot be read: {error}", layout.frames[*i].file),
            }),
        };
        let found: Vec<Option<(usize, Small)>> =
            all.par_iter().map(read).collect::<Result<_, _>>()?;
        Ok(found.into_iter().flatten().collect())
    }

    /// A reference that was left as it is has nothing to show.
    fn is_untouched(&self, i: usize) -> bool {
        let seen = self.normalized.seen[i].as_ref();
        seen.is_none_or(|s| s.gradient.is_none() && s.evidence.patches.is_empty())
    }

    fn begun(&self) -> Page {
        let rows = &self.layout().frames;
        let out = rows.iter().filter(|r| r.verdict != Verdict::Used).count();
        let worst = rows
            .iter()
            .filter_map(|r| r.balance.as_ref())
            .map(|b| b.residual_sigma)
            .fold(0.0, f64::max);
        let matched = rows.iter().filter(|r| r.balance.is_some()).count();
        let many = |filter: &Filter| {
            rows.iter()
                .filter(|r| r.balance.is_some() && r.filter == *filter)
                .count()
                > 1
        };
        let lead = html! {
            p.big {
                (Chip::Good.says(format!("{matched} matched")))
                @if out > 0 { (Chip::Bad.says(format!("{out} left out"))) }
            }
            @for r in self.layout().levels.iter().flat_map(|l| &l.references).filter(|r| many(&r.filter)) {
                p { (r.filter) " is matched to " b { (file_name(&rows[r.frame].file)) } ": " (r.why) "." }
            }
            p { "Patches of sky scatter by at most " b { (format!("{worst:.2}")) " of a pixel's noise" } " around the sky that they are matched to." }
            (spoilt(self.spoilt))
        };
        let heading = format!("{}: normalizing", self.title);
        Page::new(format!("{} – normalizing", self.title), heading, lead).script(SCRIPT)
    }

    fn table(&self, shown: &[usize]) -> Markup {
        let mut table = Table::new(&[
            "frame", "filter", "verdict", "#scale", "#±", "by", "surface", "#uneven", "#unseen",
            "#patches", "#weight",
        ]);
        for (i, row) in self.layout().frames.iter().enumerate() {
            let name = file_name(&row.file);
            let name = html! {
                @if shown.contains(&i) { a href={ "#f" (i) } { (name) } } @else { (name) }
                @if let Some(k) = row.plane { " plane " (k + 1) }
            };
            let mut first = cells![name, row.filter, self.chip(i, row)];
            match (&row.balance, row.verdict.reason()) {
                (_, Some(reason)) => table.row_saying("out", first, reason),
                (Some(b), _) => {
                    first.extend(figures(b));
                    table.row("", first);
                }
                _ => table.row("", first),
            }
            for note in row.balance.iter().flat_map(|b| &b.notes) {
                table.row_saying("note", cells![""], note);
            }
        }
        html! {
            (table)
            p.quiet { "Uneven: scatter of the patches around the surface; unseen: what it leaves of patches that were left out when it was fitted; both in the pixel noise of the frame that it is matched to. Weight: how much the frame counts in an average, its filter's reference being 1." }
        }
    }

    fn chip(&self, i: usize, row: &LayoutFrame) -> Markup {
        match &row.balance {
            _ if row.verdict != Verdict::Used => Chip::Bad.says("left out"),
            Some(b) if b.residual_sigma > GOOD_SIGMA || !b.notes.is_empty() => {
                Chip::Doubt.says("look at it")
            }
            Some(_) if self.is_level(i) => Chip::Plain.says("reference"),
            Some(_) => Chip::Good.says("good"),
            None => html! {},
        }
    }

    fn section(&self, i: usize, pictures: &HashMap<usize, Small>) -> Markup {
        let layout = self.layout();
        let row = &layout.frames[i];
        let (Some(balance), Some(seen)) = (&row.balance, &self.normalized.seen[i]) else {
            return html! {};
        };
        let (reference, frame) = (pictures.get(&seen.against), pictures.get(&i));
        let of_reference = layout.frames[seen.against].balance.as_ref();
        let shade = reference.zip(of_reference).and_then(|(r, b)| r.shade(b));
        let map = Map {
            canvas: layout.canvas.size,
            order: layout.canvas.row_order,
            full: 1.0,
            patch_px: Lattice::over(layout.canvas.size).patch_px(),
            patches: &seen.evidence.patches,
        };
        let heading = html! { (file_name(&row.file)) " (" (row.filter) ") " (self.chip(i, row)) };
        section(
            &format!("f{i}"),
            heading,
            &html! {
                p { (in_words(balance, seen, &layout.frames[seen.against])) }
                @for note in &balance.notes { p.doubt { (note) } }
                @if seen.evidence.tried.len() > 1 {
                    details {
                        summary { "Why this surface: what each shape leaves of patches that it has not seen" }
                        p.quiet { (tried(seen)) }
                    }
                }
                div.charts {
                    @if let (Some(r), Some(f), Some(b), Some(shade)) = (reference, frame, of_reference, &shade) {
                        @let view = View { shade, order: layout.canvas.row_order, height: map.height() };
                        (view.pictures((r, b, seen.against), (f, balance, i)))
                    }
                    @if !seen.evidence.patches.is_empty() { (between(&map, seen, self.noise(seen.against))) }
                    @if let (Some(g), Some(f)) = (&seen.gradient, frame) { (own_gradient(&map, g, f, self.noise(i))) }
                }
            },
        )
    }

    /// Pixel noise of a frame that others are matched to.
    fn noise(&self, i: usize) -> f64 {
        self.layout().frames[i].measured.noise_adu.max(1e-30)
    }
}

fn figures(b: &Balance) -> Vec<Markup> {
    let by = match b.stars {
        0 => b.scale_by.words().to_owned(),
        n => format!("{n} {}", b.scale_by.words()),
    };
    let if_known = |known: bool, text: String| if known { text } else { String::new() };
    cells![
        format!("{:.4}", b.scale.value),
        if_known(b.scale.sigma > 0.0, format!("{:.4}", b.scale.sigma)),
        by,
        if b.surface.is_zero() {
            "none".to_owned()
        } else {
            b.surface.words()
        },
        if_known(b.patches > 0, format!("{:.3}", b.residual_sigma)),
        b.crossval_sigma
            .map_or(String::new(), |u| format!("{u:.3}")),
        if_known(b.patches > 0, b.patches.to_string()),
        format!("{:.3}", b.weight),
    ]
}

/// The balance in words.
fn in_words(b: &Balance, seen: &Seen, against: &LayoutFrame) -> String {
    let scale = match b.scale_by {
        ScaleBy::Reference => "Its scale is its own.".to_owned(),
        ScaleBy::None => "Its scale is left as it is.".to_owned(),
        by => format!(
            "It is multiplied by {:.4} ± {:.4}, by {}.",
            b.scale.value,
            b.scale.sigma,
            match by {
                ScaleBy::Stars => format!("{} stars", b.stars),
                ScaleBy::Signal => format!("{} patches of nebula", b.stars),
                ScaleBy::Exposure => "exposure, gain and transparency".to_owned(),
                _ => "its noise".to_owned(),
            }
        ),
    };
    if seen.evidence.patches.is_empty() {
        return scale;
    }
    format!(
        "{scale} {} patches of sky are matched to {}.",
        b.patches,
        file_name(&against.file)
    )
}

/// What each shape leaves of patches that it has not seen.
fn tried(seen: &Seen) -> String {
    let all: Vec<String> = seen
        .evidence
        .tried
        .iter()
        .map(|(s, sigma)| format!("{s}: {sigma:.3}"))
        .collect();
    format!(
        "{}; in the pixel noise. The stiffest that foretells them about as well as the best is taken.",
        all.join(", ")
    )
}

/// How pictures are shown.
struct View<'a> {
    shade: &'a Shade,
    order: RowOrder,
    height: f64,
}

impl View<'_> {
    fn pictures(
        &self,
        (r, of_reference, against): (&Small, &Balance, usize),
        (f, balance, own): (&Small, &Balance, usize),
    ) -> Markup {
        let show =
            |caption: &str, p| figure_over(caption, (&p, As::Photograph), self.height, &html! {});
        html! {
            @if against != own { (show("the frame that it is matched to", r.after(of_reference, self.shade, self.order))) }
            (show("before: scaled and brought to its level", f.before(balance, self.shade, self.order)))
            (show("after, with the same stretch", f.after(balance, self.shade, self.order)))
        }
    }
}

/// What lies between a frame and the one that it is matched to.
fn between(map: &Map<'_>, seen: &Seen, noise: f64) -> Markup {
    let patches = map.patches;
    let surface = &seen.own.surface;
    let mut sorted: Vec<f64> = patches.iter().map(|(p, _)| p.difference).collect();
    sorted.sort_by(f64::total_cmp);
    let part = |q: f64| sorted[((sorted.len() - 1).real() * q).index()];
    let middle = part(0.5);
    let full = (part(0.98) - middle)
        .max(middle - part(0.02))
        .max(0.5 * noise);
    let before = Map { full, ..*map };
    let after = Map { full: 0.5, ..*map };
    html! {
        (before.of_patches(&format!("patches before, against their middle: ±{:.1} noise widths", full / noise), |p| p.difference - middle))
        @if surface.as_level().is_none() { (map.of_surface("the surface", surface, "units")) }
        (after.of_patches("patches after: ±0.5 noise widths", |p| (p.difference - surface.at(Point::new(p.x, p.y))) / noise))
        @for along in [Along::X, Along::Y] { (cuts("Reference less scaled frame", along, map, surface, noise)) }
        @if !seen.evidence.stars.is_empty() {
            (plots::fluxes(&seen.evidence.stars, seen.own.scale.value))
            (plots::left(&seen.evidence.stars, seen.own.scale.value))
        }
    }
}

/// What a gradient rests on, and how well it is known.
fn ground(g: &Gradient, patches: usize) -> String {
    let words = ground_words(g.ground);
    if g.surface.is_zero() && g.ground.is_unsure() {
        return format!("the frame as it is: {words}");
    }
    format!(
        "the frame as it is, and {patches} patches of sky: {words}. The surface through them is known to {:.2} noise widths",
        g.error_sigma
    )
}

/// A reference's own gradient and where its sky was found.
fn own_gradient(map: &Map<'_>, g: &Gradient, frame: &Small, noise: f64) -> Markup {
    let k = WIDTH / map.canvas.width().real();
    let samples: Vec<(f64, f64)> = g
        .samples
        .iter()
        .map(|(p, _)| {
            let y = k * (p.y + 0.5);
            let y = match map.order {
                RowOrder::BottomUp => map.height() - y,
                RowOrder::TopDown => y,
            };
            (k * (p.x + 0.5), y)
        })
        .collect();
    let places: Vec<(BothPatch, f64)> = g
        .samples
        .iter()
        .map(|(p, v)| {
            let patch = BothPatch {
                x: p.x,
                y: p.y,
                difference: *v,
            };
            (patch, 1.0)
        })
        .collect();
    let same = Balance::unchanged(0.0, 0.0);
    let picture = frame
        .shade(&same)
        .map(|s| frame.after(&same, &s, map.order));
    let half = 0.5 * k * map.patch_px.real();
    html! {
        @if let Some(p) = picture {
            (figure_over(
                &ground(g, samples.len()),
                (&p, As::Photograph),
                map.height(),
                &html! { @for (x, y) in samples { rect.sample x=(format!("{:.1}", x - half)) y=(format!("{:.1}", y - half)) width=(format!("{:.1}", 2.0 * half)) height=(format!("{:.1}", 2.0 * half)) {} } },
            ))
        }
        @if !g.surface.is_zero() { (map.of_surface("its own gradient", &g.surface, "units")) }
        @for along in [Along::X, Along::Y] { (cuts("The frame's own sky, less its middle", along, &Map { patches: &places, ..*map }, &g.surface, noise)) }
    }
}
