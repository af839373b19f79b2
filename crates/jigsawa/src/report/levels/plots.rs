//! Plots of stars: the fluxes of both frames, and what the scale leaves.

use jigsawa_core::balance::scale::CommonStar;
use plotters::prelude::*;

use super::super::svg::{AXIS, GRID, SERIES, classed, opened};

/// Size of a plot, in its own units.
const PLOT: (u32, u32) = (430, 230);

/// Stars that are drawn.
const MOST: usize = 500;

/// Flux of the reference over flux of the frame, both in powers of ten, with the line of the scale.
pub fn fluxes(stars: &[CommonStar], scale: f64) -> String {
    let points: Vec<(f64, f64)> = some(stars)
        .map(|s| (s.frame.log10(), s.reference.log10()))
        .collect();
    let line = |x: f64| x + scale.log10();
    draw(
        &points,
        &line,
        ("flux in this frame", "in the reference"),
        &|v| format!("{:.0}", 10f64.powf(*v)),
        "fluxes of the same stars in both frames",
    )
}

/// What the scale leaves of each star's ratio, in percent, against its brightness.
pub fn left(stars: &[CommonStar], scale: f64) -> String {
    let points: Vec<(f64, f64)> = some(stars)
        .map(|s| {
            let off = 100.0 * (s.reference / (scale * s.frame) - 1.0);
            (s.reference.log10(), off.clamp(-40.0, 40.0))
        })
        .collect();
    draw(
        &points,
        &|_| 0.0,
        ("flux in the reference", "left of the ratio"),
        &|v| format!("{v:.0} %"),
        "what the scale leaves of each star",
    )
}

fn some(stars: &[CommonStar]) -> impl Iterator<Item = &CommonStar> {
    let stride = stars.len().div_ceil(MOST).max(1);
    stars.iter().step_by(stride)
}

/// Points over an axis of powers of ten, and a line through them, as SVG; empty for none.
fn draw(
    points: &[(f64, f64)],
    line: &dyn Fn(f64) -> f64,
    (x_words, y_words): (&str, &str),
    y_label: &dyn Fn(&f64) -> String,
    label: &str,
) -> String {
    let fold = |of: fn(&(f64, f64)) -> f64| {
        let none = (f64::INFINITY, f64::NEG_INFINITY);
        let all = points.iter().map(of);
        all.fold(none, |(a, b), v| (a.min(v), b.max(v)))
    };
    let ((x0, x1), (y0, y1)) = (fold(|p| p.0), fold(|p| p.1));
    if !(x0.is_finite() && y0.is_finite()) {
        return String::new();
    }
    let (x0, x1) = (x0 - 0.05, x1 + 0.05);
    let aside = 0.06 * (y1 - y0).max(0.1);
    let mut svg = String::new();
    let drawn = |svg: &mut String| -> Result<(), Box<dyn std::error::Error>> {
        let area = SVGBackend::with_string(svg, PLOT).into_drawing_area();
        let mut chart = ChartBuilder::on(&area)
            .margin(6)
            .x_label_area_size(42)
            .y_label_area_size(66)
            .build_cartesian_2d(x0..x1, y0 - aside..y1 + aside)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(GRID)
            .axis_style(AXIS)
            .x_labels(6)
            .y_labels(5)
            .label_style(("sans-serif", 15))
            .x_desc(x_words)
            .y_desc(y_words)
            .x_label_formatter(&|v| format!("{:.0}", 10f64.powf(*v)))
            .y_label_formatter(y_label)
            .draw()?;
        chart.draw_series(LineSeries::new([(x0, line(x0)), (x1, line(x1))], AXIS))?;
        chart.draw_series(points.iter().map(|p| Circle::new(*p, 2, SERIES.filled())))?;
        area.present()?;
        Ok(())
    };
    if let Err(e) = drawn(&mut svg) {
        tracing::warn!("a plot cannot be drawn: {e}");
        return String::new();
    }
    let lines = svg.lines().map(|line| {
        let line = classed(line);
        if line.starts_with("<svg") {
            opened(&line, label, PLOT)
        } else {
            line
        }
    });
    lines.collect::<Vec<_>>().join("\n")
}
