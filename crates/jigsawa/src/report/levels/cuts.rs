//! Cuts through the canvas: what patches say along a line, and the surface there.

use jigsawa_core::balance::Surface;
use jigsawa_core::space::Point;
use maud::{Markup, html};

use super::maps::Map;

/// Positions of a cut, in parts of the canvas.
pub const POSITIONS: [f64; 5] = [0.1, 0.3, 0.5, 0.7, 0.9];

/// Size of a plot, and the space for its axis.
const PLOT: (f64, f64) = (430.0, 200.0);
const LEFT: f64 = 58.0;
const LOW: f64 = 24.0;

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
        Along::X => (canvas.width() as f64, canvas.height() as f64),
        Along::Y => (canvas.height() as f64, canvas.width() as f64),
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
                    p.quiet { (words.1) " " (format!("{at:.0}")) }
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
            (off.abs() <= 0.5 * map.patch_px as f64).then_some((
                t,
                p.difference + moved,
                *kept > 0.25,
            ))
        })
        .collect();
    let line: Vec<(f64, f64)> = (0..=STEPS)
        .map(|i| {
            let t = length * i as f64 / STEPS as f64;
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
    let x = |t: f64| LEFT + (PLOT.0 - LEFT - 6.0) * t / length;
    let y = |v: f64| 6.0 + (PLOT.1 - LOW - 6.0) * (high - v) / (high - low);
    let path: Vec<String> = line
        .iter()
        .map(|(t, v)| format!("{:.1},{:.1}", x(*t), y(*v)))
        .collect();
    let digits = usize::from(high - low < 20.0)
        + usize::from(high - low < 2.0)
        + 2 * usize::from(high - low < 0.05);
    html! {
        svg viewBox=(format!("0 0 {} {}", PLOT.0, PLOT.1)) role="img" aria-label=(format!("cut along {words}s")) {
            @for i in 0..=4 {
                @let v = low + (high - low) * f64::from(i) / 4.0;
                line.grid x1=(LEFT) x2=(PLOT.0 - 6.0) y1=(format!("{:.1}", y(v))) y2=(format!("{:.1}", y(v))) {}
                text.label x=(LEFT - 5.0) y=(format!("{:.1}", y(v) + 4.0)) text-anchor="end" { (format!("{v:.digits$}")) }
            }
            @for i in 0..=4 {
                @let t = length * f64::from(i) / 4.0;
                text.label x=(format!("{:.1}", x(t))) y=(PLOT.1 - 6.0) text-anchor=(if i == 4 { "end" } else { "middle" }) { (format!("{t:.0}")) @if i == 2 { " (" (words) ")" } }
            }
            @for (t, v, kept) in &near {
                @if *v > low && *v < high {
                    circle.dot.s2.out[!kept] cx=(format!("{:.1}", x(*t))) cy=(format!("{:.1}", y(*v))) r="2.4" {}
                }
            }
            polyline.fit points=(path.join(" ")) {}
        }
    }
}
