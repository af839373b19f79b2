//! The page's markup and its pictures.

use jigsawa_core::number::Convert;
use std::path::Path;

use jigsawa_core::finish::{FinishSettings, Overview, Plan, Sources, Step, develop_part};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::space::Rect;
use jigsawa_formats::whole::Unfinished;
use maud::{Markup, html};
use rayon::prelude::*;

use super::plots::{colour_reach, histogram, star_colours};
use super::sky::skies;
use crate::account::steps;
use crate::report::page::{Page, section};
use crate::report::picture::{jpeg, shown_row};
use crate::report::table::{Table, cells};
use jigsawa_work::finish::{LinearFile, doors};
use jigsawa_work::trouble::Trouble;

/// The comparison follows the pointer, and the arrow keys.
const SCRIPT: &str = "document.querySelectorAll('.compare').forEach(c=>{const i=c.querySelector('input');\
const f=()=>c.style.setProperty('--at',i.value+'%');i.addEventListener('input',f);f();});";

/// A place that is shown at 1:1, in pixels.
const PLACE: (usize, usize) = (280, 200);

/// What the page is about.
pub struct FinishPage<'a> {
    pub title: &'a str,
    pub linear: &'a LinearFile,
    pub plan: &'a Plan,
    pub settings: &'a FinishSettings,
    pub overview: &'a Overview,
    pub starless: Option<Sources<'a>>,
    /// The finished picture made small: its width, and red, green and blue of its pixels from the top.
    pub after: (usize, &'a [f32]),
}

/// Writes the page, under a temporary name still.
pub fn write(path: &Path, page: &FinishPage<'_>, overwrite: bool) -> Result<Unfinished, Trouble> {
    made(page)?.save(path, overwrite)
}

fn made(p: &FinishPage<'_>) -> Result<Page, Trouble> {
    let before = || {
        let (width, pixels) = p.plan.small_before(p.overview);
        picture(&pixels, width, p.linear.facts.row_order)
    };
    let after = || picture(p.after.1, p.after.0, RowOrder::TopDown);
    let sheet = || -> Result<Vec<Markup>, Trouble> {
        let places = places(p);
        let shown = Step::ALL.into_par_iter().filter(|s| p.plan.acts(*s));
        shown.map(|s| step_figure(p, s, &places)).collect()
    };
    let channels = || {
        let found = &p.plan.found;
        histogram(&found.sample, &found.points, found.noise)
    };
    let ((before, after), (sheet, channels)) = rayon::join(
        || rayon::join(before, after),
        || rayon::join(sheet, channels),
    );
    let sheet = sheet?;
    let rows = steps(p.plan, p.settings, {
        let s = p.linear.file.size();
        (s.width(), s.height())
    });
    let found = &p.plan.found;
    let reach = colour_reach(&found.star_colours);
    let lead = html! { p { "Finished from " code { (p.linear.path.display()) } "." } };
    let title = format!("{}: finished", p.title);
    let mut page = Page::new(title, p.title, lead).script(SCRIPT);
    page.add(section("compare", "Before and after", &html! {
        div.compare {
            img src=(after) alt="the finished picture";
            div.over { img src=(before) alt="the picture as it comes, stretched"; }
            input type="range" min="0" max="100" value="35" aria-label="how much of the picture before is shown";
            div.bar {}
            span.tag.left { "before" } span.tag.right { "after" }
        }
    }));
    page.add(section("steps", "Step by step", &html! {
        p { "Two places at 1:1: the brightest nebula and the darkest sky. Each picture has all steps up to its own." }
        div.steps { @for f in &sheet { (f) } }
    }));
    page.add(skies(p));
    page.add(section("channels", "Channels", &html! {
        p { "Light above the sky, after white. The strokes at the foot are what becomes black and white." }
        div.wide-chart { (channels) }
    }));
    if let Some(white) = found
        .white
        .as_ref()
        .filter(|_| !found.star_colours.is_empty())
    {
        let whitened = found.star_colours.iter().map(|s| s.times(white.gains));
        let whitened: Vec<_> = whitened.collect();
        page.add(section(
            "stars",
            "Star colours",
            &html! {
                p { "Stars like the one that was made white lie in the middle." }
                div.charts {
                    (star_colours(&found.star_colours, "as they come", reach))
                    (star_colours(&whitened, "after white", reach))
                }
            },
        ));
    }
    let mut table = Table::new(&["step", "what it did"]);
    for r in rows {
        let name = html! { @if r.acts { b { (r.step) } } @else { (r.step) } };
        table.row_saying("", cells![name], r.said);
    }
    page.add(section("found", "What each step found", &html! { (table) }));
    Ok(page)
}

/// A picture in the page.
fn picture(rgb: &[f32], width: usize, order: RowOrder) -> String {
    let height = rgb.len() / (3 * width).max(1);
    let row = |y| {
        let from = 3 * width * shown_row(y, height, order);
        &rgb[from..from + 3 * width]
    };
    let mut bytes: Vec<u8> = Vec::with_capacity(rgb.len());
    for y in 0..height {
        bytes.extend(
            row(y)
                .iter()
                .map(|v| (255.0 * v.clamp(0.0, 1.0) + 0.5).byte()),
        );
    }
    jpeg(&bytes, (width, height))
}

fn step_figure(p: &FinishPage<'_>, step: Step, places: &[Rect]) -> Result<Markup, Trouble> {
    let plan = p.plan.until(step);
    let planes = p.linear.planes();
    let sources = doors(&planes);
    let starless = p.starless.filter(|_| step >= Step::Stars);
    let mut pictures = Vec::new();
    for place in places {
        let rgb =
            develop_part(&plan, sources, starless, *place).map_err(|e| Trouble::Unreadable {
                file: p.linear.path.display().to_string(),
                error: e.to_string(),
            })?;
        pictures.push(picture(&rgb, place.width, p.linear.facts.row_order));
    }
    Ok(html! {
        figure {
            div.pair { @for src in &pictures { img src=(src) alt=(format!("after {}", step.name())); } }
            figcaption { b { (step.name()) } }
        }
    })
}

/// The places that are shown: where the picture is brightest on a large scale, and where it is darkest.
fn places(p: &FinishPage<'_>) -> Vec<Rect> {
    let rect = p.plan.rect;
    let (w, h) = (PLACE.0.min(rect.width), PLACE.1.min(rect.height));
    let k = p.overview.factor;
    let level = |x: i64, y: i64| {
        let (mut values, size) = (Vec::new(), p.overview.small[0].size());
        for v in y / k.whole()..((y + h.whole()) / k.whole()).min(size.height().whole()) {
            for u in x / k.whole()..((x + w.whole()) / k.whole()).min(size.width().whole()) {
                values.push(
                    p.overview
                        .small
                        .iter()
                        .map(|s| s.row(v.index())[u.index()])
                        .sum::<f32>(),
                );
            }
        }
        values.retain(|v| v.is_finite());
        if values.is_empty() {
            f32::NAN
        } else {
            jigsawa_core::robust::median(&mut values)
        }
    };
    let along = |from: i64, n: usize, piece: usize, i: usize| from + ((n - piece) * i / 8).whole();
    let all: Vec<(f32, Rect)> = (0..=8)
        .flat_map(|j| (0..=8).map(move |i| (i, j)))
        .map(|(i, j)| Rect {
            x: along(rect.x, rect.width, w, i),
            y: along(rect.y, rect.height, h, j),
            width: w,
            height: h,
        })
        .map(|r| (level(r.x, r.y), r))
        .filter(|(l, _)| l.is_finite())
        .collect();
    let brightest = all.iter().max_by(|a, b| a.0.total_cmp(&b.0));
    let darkest = all.iter().min_by(|a, b| a.0.total_cmp(&b.0));
    brightest
        .into_iter()
        .chain(darkest)
        .map(|(_, r)| *r)
        .collect()
}
