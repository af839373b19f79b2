//! The page's figures: responses, the cut, the map of sources, and pictures in the logarithm of light.

use jigsawa_core::frame::RowOrder;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use maud::{Markup, PreEscaped, html};

use super::super::levels::{figure, image};
use super::super::scatter::Scatter;
use super::set::{Cut, HdrSet, Pair};

/// Width of pictures, as `figure` draws them.
const WIDTH: f64 = 420.0;

/// Colours of exposures in the map, the longest first; they begin again after the last.
const COLOURS: [[u8; 3]; 8] = [
    [38, 70, 110],
    [42, 157, 143],
    [233, 196, 106],
    [231, 111, 81],
    [148, 103, 189],
    [140, 86, 75],
    [227, 119, 194],
    [127, 127, 127],
];

/// Full in every exposure.
const FULL: [u8; 3] = [255, 255, 255];
const NOTHING: [u8; 3] = [0, 0, 0];

/// Light of the longer exposure over that of the shorter, both in powers of ten.
pub fn response(pair: &Pair, names: (&str, &str)) -> Markup {
    let points: Vec<(f64, f64)> = pair
        .response
        .seen
        .iter()
        .map(|s| {
            (
                f64::from(s.shorter - pair.skies[1]),
                f64::from(s.longer - pair.skies[0]),
            )
        })
        .filter(|(x, y)| *x > 0.0 && *y > 0.0)
        .map(|(x, y)| (x.log10(), y.log10()))
        .collect();
    let light = |v: f32| f64::from((v - pair.skies[0]).max(1.0)).log10();
    let mut levels = Vec::new();
    if pair.limit.is_finite() {
        levels.push(light(pair.limit));
    }
    levels.extend(pair.full.map(light));
    let ys = points.iter().map(|p| p.1).chain(levels.iter().copied());
    let (low, high) = ys.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| {
        (a.min(v), b.max(v))
    });
    let slope = pair.response.slope.value.log10();
    let plot = Scatter {
        about: "light of the longer exposure over that of the shorter",
        x_words: "light in the shorter one",
        x_label: &power,
        y_words: "in the longer one",
        y_label: &power,
        y_range: (low.max(0.0), high + 0.1),
        line: Some(&|x| x + slope),
        levels: &levels,
    }
    .draw(&points);
    html! {
        figure {
            figcaption { (names.0) " against " (names.1) ": x " (format!("{:.4}", pair.response.slope.value)) " ± " (format!("{:.4}", pair.response.slope.sigma)) ", " (pair.response.points) " places" }
            (PreEscaped(plot))
        }
    }
}

/// A number whose power of ten is drawn.
// Plots hand marks over by reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn power(v: &f64) -> String {
    let n = 10f64.powf(*v);
    if n >= 99_999.0 {
        format!("{:.0}k", n / 1000.0)
    } else if n < 0.99 {
        format!("{n:.1}")
    } else {
        format!("{n:.0}")
    }
}

/// The map of sources with what its colours mean.
pub fn sources(set: &HdrSet, order: RowOrder, shares: &[f64]) -> Markup {
    let plane = &set.sources;
    let (w, h) = (plane.size().width(), plane.size().height());
    let mut p = Picture::filled(w, h, NOTHING);
    for y in 0..h {
        let stored = match order {
            RowOrder::BottomUp => h - 1 - y,
            RowOrder::TopDown => y,
        };
        for (x, v) in plane.row(stored).iter().enumerate() {
            let colour = match *v as usize {
                0 => NOTHING,
                99 => FULL,
                k => COLOURS[(k - 1) % COLOURS.len()],
            };
            p.set(x as i64, y as i64, colour);
        }
    }
    let css = |c: [u8; 3]| format!("background:rgb({},{},{})", c[0], c[1], c[2]);
    html! {
        div {
            (figure("which exposure each pixel comes from most", &image(&p, "sources", true), WIDTH * h as f64 / w as f64, &html! {}))
            p.keys {
                @for (k, ((_, seconds), share)) in set.exposures.iter().zip(shares).enumerate() {
                    span { span.key style=(css(COLOURS[k % COLOURS.len()])) {} " " (seconds) " s: " (format!("{share:.2} %")) }
                }
                @if plane.data().contains(&99.0) { span { span.key style=(css(FULL)) {} " full in all" } }
            }
        }
    }
}

/// A small picture of light in powers of ten, from one noise width to the brightest there is.
pub fn logarithmic(
    plane: &Plane,
    order: RowOrder,
    (low, high): (f32, f32),
    caption: &str,
) -> Markup {
    let (w, h) = (plane.size().width(), plane.size().height());
    let per = 1.0 / (high / low).ln();
    let mut p = Picture::filled(w, h, NOTHING);
    for y in 0..h {
        let stored = match order {
            RowOrder::BottomUp => h - 1 - y,
            RowOrder::TopDown => y,
        };
        for (x, v) in plane.row(stored).iter().enumerate() {
            let grey = (255.0 * ((v / low).max(1.0).ln() * per).clamp(0.0, 1.0)) as u8;
            p.set(x as i64, y as i64, [grey; 3]);
        }
    }
    figure(
        caption,
        &image(&p, caption, false),
        WIDTH * h as f64 / w as f64,
        &html! {},
    )
}

/// Size of the cut, and the space for its axes.
const PLOT: (f64, f64) = (880.0, 300.0);
const LEFT: f64 = 70.0;
const LOW: f64 = 30.0;

/// Light along the cut, in powers of ten: each exposure and the merged frame.
pub fn cut(cut: &Cut, sigma: f32) -> Markup {
    let highest = cut
        .merged
        .iter()
        .copied()
        .filter(|v| v.is_finite())
        .fold(sigma, f32::max);
    let (low, high) = (
        f64::from(sigma.max(1e-3)).log10(),
        f64::from(highest * 1.5).log10(),
    );
    let n = cut.merged.len().max(2) as f64;
    let x = |i: usize| LEFT + (PLOT.0 - LEFT - 8.0) * i as f64 / (n - 1.0);
    let y = |v: f32| {
        let v = f64::from(v.max(1e-3)).log10().clamp(low, high);
        8.0 + (PLOT.1 - LOW - 8.0) * (high - v) / (high - low)
    };
    let path = |line: &[f32]| -> String {
        let all = line.iter().enumerate().filter(|(_, v)| v.is_finite());
        all.map(|(i, v)| format!("{:.1},{:.1}", x(i), y(*v)))
            .collect::<Vec<_>>()
            .join(" ")
    };
    let decades = low.ceil() as i32..=high.floor() as i32;
    html! {
        figure.cut {
            figcaption { "Light above the sky along row " (cut.row) ", through the brightest place, in the longest exposure's units" }
            svg viewBox=(format!("0 0 {} {}", PLOT.0, PLOT.1)) role="img" aria-label="cut through the core" {
                @for d in decades {
                    @let at = 10f32.powi(d);
                    line.grid x1=(LEFT) x2=(PLOT.0 - 8.0) y1=(format!("{:.1}", y(at))) y2=(format!("{:.1}", y(at))) {}
                    text.label x=(LEFT - 6.0) y=(format!("{:.1}", y(at) + 4.0)) text-anchor="end" { (power(&f64::from(d))) }
                }
                @for k in 0..=4 {
                    @let i = ((n - 1.0) * f64::from(k) / 4.0) as usize;
                    text.label x=(format!("{:.1}", x(i))) y=(PLOT.1 - 8.0) text-anchor=(if k == 4 { "end" } else { "middle" }) { (cut.from + i) @if k == 2 { " (column)" } }
                }
                polyline.merged points=(path(&cut.merged)) {}
                @for (k, line) in cut.exposures.iter().enumerate() {
                    @let c = COLOURS[k % COLOURS.len()];
                    polyline.one points=(path(line)) style=(format!("stroke:rgb({},{},{})", c[0], c[1], c[2])) {}
                }
            }
        }
    }
}
