//! The page's figures: responses, the cut, the map of sources, and pictures in the logarithm of light.

use jigsawa_core::frame::RowOrder;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use maud::{Markup, html};

use super::set::{Cut, HdrSet, Pair};
use crate::report::chart::{Axis, Chart, Ink, power, range};
use crate::report::picture::{As, NOTHING, figure, keys, shown_row};

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
    let (low, high) = range(ys, 0.0, 0.0);
    let slope = pair.response.slope.value.log10();
    let x = Axis {
        words: "light in the shorter one",
        range: range(points.iter().map(|p| p.0), 0.03, 0.1),
        marks: 6,
        label: &power,
    };
    let y = Axis {
        words: "in the longer one",
        range: (low.max(0.0), high + 0.1),
        marks: 5,
        label: &power,
    };
    let about = "light of the longer exposure over that of the shorter";
    let mut chart = Chart::new(about, (430, 230), x, y);
    chart.curve(|x| x + slope, Ink::class("axis"));
    for level in levels {
        chart.level(level, Ink::class("grid"));
    }
    chart.dots(points, 2, Ink::class("dot s2"));
    let slope = &pair.response.slope;
    chart.figure(format!(
        "{} against {}: x {:.4} ± {:.4}, {} places",
        names.0, names.1, slope.value, slope.sigma, pair.response.points
    ))
}

/// The map of sources with what its colours mean.
pub fn sources(set: &HdrSet, order: RowOrder, shares: &[f64]) -> Markup {
    let plane = &set.sources;
    let (w, h) = (plane.size().width(), plane.size().height());
    let mut p = Picture::filled(w, h, NOTHING);
    for y in 0..h {
        for (x, v) in plane.row(shown_row(y, h, order)).iter().enumerate() {
            let colour = match (*v).index() {
                0 => NOTHING,
                99 => FULL,
                k => COLOURS[(k - 1) % COLOURS.len()],
            };
            p.set(x.whole(), y.whole(), colour);
        }
    }
    let of_exposures = set.exposures.iter().zip(shares).enumerate();
    let mut told: Vec<([u8; 3], String)> = of_exposures
        .map(|(k, ((_, seconds), share))| {
            (
                COLOURS[k % COLOURS.len()],
                format!("{seconds} s: {share:.2} %"),
            )
        })
        .collect();
    if plane.data().contains(&99.0) {
        told.push((FULL, "full in all".to_owned()));
    }
    html! {
        div { (figure("which exposure each pixel comes from most", &p, As::Cells)) (keys(told)) }
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
        for (x, v) in plane.row(shown_row(y, h, order)).iter().enumerate() {
            let grey = (255.0 * ((v / low).max(1.0).ln() * per).clamp(0.0, 1.0)).byte();
            p.set(x.whole(), y.whole(), [grey; 3]);
        }
    }
    figure(caption, &p, As::Surface)
}

/// Light along the cut, in powers of ten: each exposure and the merged frame.
pub fn cut(cut: &Cut, sigma: f32) -> Markup {
    let known = cut.merged.iter().copied().filter(|v| v.is_finite());
    let highest = known.fold(sigma, f32::max);
    let light = |v: f32| f64::from(v.max(1e-3)).log10();
    let (low, high) = (light(sigma.max(1e-3)), light(1.5 * highest));
    let from = cut.from.real();
    let x = Axis {
        words: "column",
        range: (from, from + (cut.merged.len().max(2) - 1).real()),
        marks: 8,
        label: &|x| format!("{x:.0}"),
    };
    let y = Axis {
        words: "",
        range: (low, high),
        marks: 6,
        label: &power,
    };
    let line = |values: &[f32]| -> Vec<(f64, f64)> {
        let known = values.iter().enumerate().filter(|(_, v)| v.is_finite());
        known
            .map(|(i, v)| (from + i.real(), light(*v).clamp(low, high)))
            .collect()
    };
    let mut chart = Chart::new("cut through the core", (1180, 320), x, y);
    chart.line(line(&cut.merged), Ink::class("merged"));
    for (k, values) in cut.exposures.iter().enumerate() {
        chart.line(line(values), Ink::line(COLOURS[k % COLOURS.len()], 1.6));
    }
    html! {
        figure.cut {
            figcaption { "Light above the sky along row " (cut.row) ", through the brightest place, in the longest exposure's units" }
            (chart.drawn())
        }
    }
}
