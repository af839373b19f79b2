//! Each master: its picture, the spread of its values, and a flat's shape with the dust in it.

use jigsawa_core::binned;
use jigsawa_core::calibrate::defects::Flaw;
use jigsawa_core::calibrate::dust::{Mote, motes};
use jigsawa_core::finish::Shade;
use jigsawa_core::frame::{Kind, RowOrder};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::robust::quantile;
use maud::{Markup, html};

use crate::report::chart::{Axis, Chart, Ink, power};
use crate::report::map::colour;
use crate::report::page::section;
use crate::report::picture::{As, WIDTH, figure, figure_over};
use jigsawa_work::calibrate::{Calibration, Master};
use jigsawa_work::foreign::name_of;
use jigsawa_work::trouble::Trouble;

/// Longest side of a master's picture.
const SIDE: usize = 640;

/// Bars of a histogram.
const BARS: usize = 120;

/// Steps of a flat's map: lines of equal light are where one colour ends.
const STEP: f64 = 0.02;

/// Light that a flat lacks at full colour.
const FULL: f64 = 0.3;

/// A section for each master.
pub fn shown(c: &Calibration) -> Result<Vec<Markup>, Trouble> {
    let all = c.masters.iter().enumerate();
    all.filter_map(|(i, m)| Some((i, m.as_ref()?)))
        .map(|(i, m)| {
            let plane = m
                .file
                .read_plane(0, Vec::new())
                .map_err(|e| Trouble::Files(vec![(m.path.clone(), e)]))?;
            let order = c.groups[i]
                .members
                .first()
                .map(|k| c.raw[*k].facts.row_order);
            let order = order.unwrap_or_default();
            let body = if c.groups[i].kind == Kind::Flat {
                of_flat(m, &plane, order)
            } else {
                of_dark(m, &plane, order)
            };
            Ok(section(&c.names[i], &c.names[i], &body))
        })
        .collect()
}

fn about(m: &Master) -> Markup {
    html! {
        p {
            b { (name_of(&m.path)) } ": " (m.frames) @if m.frames == 1 { " frame" } @else { " frames" }
            @if m.noise > 0.0 { ", noise of a pixel " (format!("{:.3e}", m.noise)) " (of a single frame " (format!("{:.3e}", m.frame_noise)) ")" }
            @match m.clipped_percent {
                Some(p) => { ", " (format!("{p:.3}")) " % of the values left out" }
                None => { "; the library had it" }
            }
            "."
        }
    }
}

fn of_dark(m: &Master, plane: &Plane, order: RowOrder) -> Markup {
    let small = smaller(plane);
    let picture = Shade::measure(small.data()).map(|s| Picture::grey(&small, order, &s));
    let count = |f: Flaw| m.flaws.iter().filter(|d| d.2 == f).count();
    let flaws: Vec<String> = Flaw::ALL
        .into_iter()
        .filter(|f| count(*f) > 0)
        .map(|f| format!("{} {}", count(f), f.name()))
        .collect();
    html! {
        (about(m))
        @if !flaws.is_empty() {
            p { "Pixels that it cannot correct: " (flaws.join(", ")) ", " (format!("{:.3}", 100.0 * m.flaws.len().real() / plane.size().area().real())) " % of the chip." }
        }
        div.charts {
            @if let Some(p) = &picture { (figure("stretched", p, As::Photograph)) }
            (histogram(plane, "value"))
        }
    }
}

fn of_flat(m: &Master, plane: &Plane, order: RowOrder) -> Markup {
    let small = smaller(plane);
    let factor = plane.size().width().real() / small.size().width().real();
    let dust = motes(plane);
    let k = WIDTH / small.size().width().real();
    let height = k * small.size().height().real();
    let over = html! {
        @for d in &dust {
            @let (x, y) = place(d, factor * 1.0, k, height, order);
            circle.sample cx=(format!("{x:.1}")) cy=(format!("{y:.1}")) r=(format!("{:.1}", (k * d.radius_px / factor).max(4.0))) {}
        }
    };
    let shade = Shade::measure(small.data()).map(|s| Picture::grey(&small, order, &s));
    let lines = contours(&small, order);
    html! {
        (about(m))
        p {
            @if dust.is_empty() { "No dust was found in it." }
            @else {
                (dust.len()) " shadows of dust, the deepest takes " (format!("{:.1}", 100.0 * dust.iter().map(|d| d.depth).fold(0.0, f64::max))) " % of the light."
            }
        }
        div.charts {
            (figure_over("light at each place: a colour for every 2 %, white where it is usual, blue below", (&lines, As::Cells), height, &over))
            @if let Some(p) = &shade { (figure("stretched", p, As::Photograph)) }
            (histogram(plane, "part of the usual light"))
        }
    }
}

/// Where a mote is drawn.
fn place(d: &Mote, factor: f64, k: f64, height: f64, order: RowOrder) -> (f64, f64) {
    let y = k * d.at.1 / factor;
    let y = if order == RowOrder::BottomUp {
        height - y
    } else {
        y
    };
    (k * d.at.0 / factor, y)
}

fn smaller(plane: &Plane) -> Plane {
    let longest = plane.size().width().max(plane.size().height());
    binned(plane, longest.div_ceil(SIDE))
}

/// A flat in steps of colour.
fn contours(small: &Plane, order: RowOrder) -> Picture {
    let (w, h) = (small.size().width(), small.size().height());
    let mut picture = Picture::filled(w, h, [0; 3]);
    for y in 0..h {
        let shown = match order {
            RowOrder::BottomUp => h - 1 - y,
            RowOrder::TopDown => y,
        };
        for (x, v) in small.row(y).iter().enumerate() {
            let off = ((f64::from(*v) - 1.0) / STEP).round() * STEP;
            picture.set(x.whole(), shown.whole(), colour(off / FULL));
        }
    }
    picture
}

/// How often each value comes, on a scale of powers of ten, from the thousandth lowest pixel to the hottest.
fn histogram(plane: &Plane, what: &str) -> Markup {
    let known = plane.data().iter().copied().filter(|v| v.is_finite());
    let mut values: Vec<f32> = known.collect();
    if values.is_empty() {
        return html! {};
    }
    let low = f64::from(quantile(&mut values, 0.0005));
    let high = f64::from(quantile(&mut values, 0.9995));
    let step = ((high - low) / BARS.real()).max(f64::MIN_POSITIVE);
    let mut counts = vec![0usize; BARS + 1];
    for v in &values {
        let at = (f64::from(*v) - low) / step;
        if (0.0..=BARS.real()).contains(&at) {
            counts[at.index()] += 1;
        }
    }
    let most = counts.iter().copied().max().unwrap_or(1).real().log10();
    let digits = if high - low > 5.0 { 0 } else { 2 };
    let label = |v: &f64| format!("{v:.digits$}");
    let mut chart = Chart::new(
        "histogram",
        (560, 360),
        Axis {
            words: what,
            range: (low, low + step * BARS.real()),
            marks: 6,
            label: &label,
        },
        Axis {
            words: "pixels",
            range: (0.0, most.max(0.5) * 1.05),
            marks: 5,
            label: &power,
        },
    );
    let points = counts.iter().enumerate().map(|(k, n)| {
        let x = low + (k.real() + 0.5) * step;
        (x, (*n).max(1).real().log10())
    });
    chart.line(points, Ink::class("fit"));
    chart.figure("how often each value comes")
}
