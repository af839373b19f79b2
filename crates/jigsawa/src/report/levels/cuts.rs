//! Cuts through the canvas: what patches say along a line, and the surface there.

use jigsawa_core::balance::Surface;
use jigsawa_core::number::Convert;
use jigsawa_core::space::Point;
use maud::{Markup, html};

use crate::report::chart::{Axis, Chart, Ink};
use crate::report::map::Map;

/// Positions of a cut, in parts of the canvas.
pub const POSITIONS: [f64; 5] = [0.1, 0.3, 0.5, 0.7, 0.9];

/// Size of a chart, in its own units.
const SIZE: (u32, u32) = (430, 200);

/// Places along the line at which the surface is drawn.
const STEPS: usize = 80;

/// A line across the canvas.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Along {
    /// From left to right.
    X,
    /// From the first row to the last.
    Y,
}

/// All positions of one cut, of which the page shows one.
pub fn cuts(caption: &str, along: Along, map: &Map<'_>, surface: &Surface, noise: f64) -> Markup {
    let canvas = map.canvas;
    let (length, across) = match along {
        Along::X => (canvas.width().real(), canvas.height().real()),
        Along::Y => (canvas.height().real(), canvas.width().real()),
    };
    let words = match along {
        Along::X => ("column", "row"),
        Along::Y => ("row", "column"),
    };
    html! {
        figure.cut {
            figcaption { (caption) " along a " @if along == Along::X { "row" } @else { "column" } ", patches and surface" }
            @for (k, part) in POSITIONS.iter().enumerate() {
                @let at = part * across;
                div data-cut=(k) hidden[k != POSITIONS.len() / 2] {
                    p.quiet { (words.1) " " (format!("{at:.0}")) ", across: " (words.0) "s" }
                    (one(along, (length, at), map, surface, noise, words.0))
                }
            }
        }
    }
}

fn one(
    along: Along,
    (length, at): (f64, f64),
    map: &Map<'_>,
    surface: &Surface,
    noise: f64,
    words: &str,
) -> Markup {
    let place = |t: f64| match along {
        Along::X => Point::new(t, at),
        Along::Y => Point::new(at, t),
    };
    // The patch's own place is half a patch off the line: its value is moved to it along the surface.
    let near: Vec<(f64, f64, bool)> = map
        .patches
        .iter()
        .filter_map(|(p, kept)| {
            let (t, off) = match along {
                Along::X => (p.x, p.y - at),
                Along::Y => (p.y, p.x - at),
            };
            let moved = surface.at(place(t)) - surface.at(Point::new(p.x, p.y));
            (off.abs() <= 0.5 * map.patch_px.real()).then_some((
                t,
                p.difference + moved,
                *kept > 0.25,
            ))
        })
        .collect();
    let line: Vec<(f64, f64)> = (0..=STEPS)
        .map(|i| {
            let t = length * i.real() / STEPS.real();
            (t, surface.at(place(t)))
        })
        .collect();
    // Outliers may lie outside of the picture; what counts must not.
    let values = line
        .iter()
        .map(|l| l.1)
        .chain(near.iter().filter(|n| n.2).map(|n| n.1));
    let (low, high) = values.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| {
        (a.min(v), b.max(v))
    });
    // Nothing finer than half of the noise is worth a look.
    let aside = (0.08 * (high - low)).max(0.5 * (0.5 * noise - (high - low)));
    let (low, high) = (low - aside, high + aside);
    let digits = usize::from(high - low < 20.0)
        + usize::from(high - low < 2.0)
        + 2 * usize::from(high - low < 0.05);
    let about = format!("cut along {words}s");
    let x = Axis {
        words: "",
        range: (0.0, length),
        marks: 5,
        label: &|t| format!("{t:.0}"),
    };
    let y = Axis {
        words: "",
        range: (low, high),
        marks: 5,
        label: &|v| format!("{v:.digits$}"),
    };
    let mut chart = Chart::new(&about, SIZE, x, y);
    for (counts, class) in [(false, "dot s2 out"), (true, "dot s2")] {
        let own = near.iter().filter(|n| n.2 == counts);
        chart.dots(own.map(|n| (n.0, n.1)), 2, Ink::class(class));
    }
    chart.line(line, Ink::class("fit"));
    chart.drawn()
}
