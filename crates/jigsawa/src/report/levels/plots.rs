//! Plots of stars: the fluxes of both frames, and what the scale leaves.

use crate::report::chart::{Axis, Chart, Ink, power, range};
use jigsawa_core::balance::scale::CommonStar;
use maud::Markup;

/// Stars that are drawn.
const MOST: usize = 500;

/// Flux of the reference over flux of the frame, both in powers of ten, with the line of the scale.
pub fn fluxes(stars: &[CommonStar], scale: f64) -> Markup {
    let points: Vec<(f64, f64)> = some(stars)
        .map(|s| (s.frame.log10(), s.reference.log10()))
        .collect();
    let axis = |words, of: fn(&(f64, f64)) -> f64, aside| Axis {
        words,
        range: range(points.iter().map(of), aside, 0.1),
        marks: 6,
        label: &power,
    };
    let mut chart = Chart::new(
        "fluxes of the same stars in both frames",
        (430, 230),
        axis("flux in this frame", |p| p.0, 0.03),
        axis("in the reference", |p| p.1, 0.06),
    );
    chart.curve(|x| x + scale.log10(), Ink::class("axis"));
    chart.dots(points.iter().copied(), 2, Ink::class("dot s2"));
    chart.figure("Stars that both show, and the line of the scale")
}

/// What the scale leaves of each star's ratio, in percent, against its brightness.
pub fn left(stars: &[CommonStar], scale: f64) -> Markup {
    let points: Vec<(f64, f64)> = some(stars)
        .map(|s| {
            let off = 100.0 * (s.reference / (scale * s.frame) - 1.0);
            (s.reference.log10(), off.clamp(-40.0, 40.0))
        })
        .collect();
    let x = Axis {
        words: "flux in the reference",
        range: range(points.iter().map(|p| p.0), 0.03, 0.1),
        marks: 6,
        label: &power,
    };
    let y = Axis {
        words: "left of the ratio",
        range: range(points.iter().map(|p| p.1), 0.06, 0.1),
        marks: 5,
        label: &|v| format!("{v:.0} %"),
    };
    let mut chart = Chart::new("what the scale leaves of each star", (430, 230), x, y);
    chart.level(0.0, Ink::class("axis"));
    chart.dots(points.iter().copied(), 2, Ink::class("dot s2"));
    chart.figure("What the scale leaves of each star's ratio")
}

fn some(stars: &[CommonStar]) -> impl Iterator<Item = &CommonStar> {
    let stride = stars.len().div_ceil(MOST).max(1);
    stars.iter().step_by(stride)
}
