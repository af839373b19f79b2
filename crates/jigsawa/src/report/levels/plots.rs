//! Plots of stars: the fluxes of both frames, and what the scale leaves.

use super::super::scatter::Scatter;
use jigsawa_core::balance::scale::CommonStar;

/// Stars that are drawn.
const MOST: usize = 500;

/// Flux of the reference over flux of the frame, both in powers of ten, with the line of the scale.
pub fn fluxes(stars: &[CommonStar], scale: f64) -> String {
    let points: Vec<(f64, f64)> = some(stars)
        .map(|s| (s.frame.log10(), s.reference.log10()))
        .collect();
    Scatter {
        about: "fluxes of the same stars in both frames",
        x_words: "flux in this frame",
        x_label: &power,
        y_words: "in the reference",
        y_label: &power,
        y_range: range(&points),
        line: Some(&|x| x + scale.log10()),
        levels: &[],
    }
    .draw(&points)
}

/// What the scale leaves of each star's ratio, in percent, against its brightness.
pub fn left(stars: &[CommonStar], scale: f64) -> String {
    let points: Vec<(f64, f64)> = some(stars)
        .map(|s| {
            let off = 100.0 * (s.reference / (scale * s.frame) - 1.0);
            (s.reference.log10(), off.clamp(-40.0, 40.0))
        })
        .collect();
    Scatter {
        about: "what the scale leaves of each star",
        x_words: "flux in the reference",
        x_label: &power,
        y_words: "left of the ratio",
        y_label: &|v| format!("{v:.0} %"),
        y_range: range(&points),
        line: Some(&|_| 0.0),
        levels: &[],
    }
    .draw(&points)
}

/// A number whose power of ten is drawn.
// Plots hand marks over by reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn power(v: &f64) -> String {
    format!("{:.0}", 10f64.powf(*v))
}

/// From the lowest point to the highest, with some space.
fn range(points: &[(f64, f64)]) -> (f64, f64) {
    let none = (f64::INFINITY, f64::NEG_INFINITY);
    let ys = points.iter().map(|p| p.1);
    let (low, high) = ys.fold(none, |(a, b), v| (a.min(v), b.max(v)));
    let aside = 0.06 * (high - low).max(0.1);
    (low - aside, high + aside)
}

fn some(stars: &[CommonStar]) -> impl Iterator<Item = &CommonStar> {
    let stride = stars.len().div_ceil(MOST).max(1);
    stars.iter().step_by(stride)
}
