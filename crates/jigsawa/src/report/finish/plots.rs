//! Histograms of the channels with their points, and colours of stars, as SVG that follows the page's colours.

use jigsawa_core::finish::white::StarColour;
use plotters::prelude::*;

use crate::report::svg::{AXIS, GRID, classed, opened};

/// Sizes in the plots' own units.
const HISTOGRAM: (u32, u32) = (900, 260);
const COLOURS: (u32, u32) = (430, 330);

/// Red, green and blue that can be told apart on light and on dark.
const CHANNELS: [RGBColor; 3] = [
    RGBColor(217, 83, 79),
    RGBColor(76, 166, 96),
    RGBColor(74, 122, 220),
];

/// Bins of a histogram.
const BINS: usize = 240;

/// Histograms of the three channels over light above the sky, in a scale that is straight around the sky and
/// logarithmic far from it; lines where black and white lie.
pub fn histogram(sample: &[[f32; 3]], points: &[(f32, f32); 3], noise: f32) -> String {
    let unit = f64::from(noise.max(f32::MIN_POSITIVE));
    let place = |v: f32| (f64::from(v) / unit).asinh();
    let finite = || sample.iter().flatten().copied().filter(|v| v.is_finite());
    let low = place(points.iter().map(|p| p.0).fold(f32::INFINITY, f32::min)).min(-2.0) * 1.15;
    let top = finite()
        .fold(0.0f32, f32::max)
        .max(points.iter().map(|p| p.1).fold(0.0, f32::max));
    let high = place(top) * 1.02;
    if !(low.is_finite() && high.is_finite() && high > low) {
        return String::new();
    }
    let mut counts = [[0u32; BINS]; 3];
    for pixel in sample {
        for (c, v) in pixel.iter().enumerate().filter(|(_, v)| v.is_finite()) {
            let at = (place(*v) - low) / (high - low) * BINS as f64;
            if (0.0..BINS as f64).contains(&at) {
                counts[c][at as usize] += 1;
            }
        }
    }
    let line = |c: usize| -> Vec<(f64, f64)> {
        (0..BINS)
            .map(|i| {
                let x = low + (i as f64 + 0.5) * (high - low) / BINS as f64;
                (x, f64::from(counts[c][i] + 1).log10())
            })
            .collect()
    };
    let most = counts
        .iter()
        .flatten()
        .max()
        .map_or(1.0, |n| f64::from(*n + 1).log10());
    let lines: Vec<Vec<(f64, f64)>> = (0..3).map(line).collect();
    let marks: Vec<(f64, f64)> = points.iter().map(|(b, w)| (place(*b), place(*w))).collect();
    let sigma = |x: &f64| format!("{:.0}", x.sinh());
    let draw = |svg: &mut String| -> Result<(), Box<dyn std::error::Error>> {
        let area = SVGBackend::with_string(svg, HISTOGRAM).into_drawing_area();
        let mut chart = ChartBuilder::on(&area)
            .margin(8)
            .x_label_area_size(42)
            .y_label_area_size(56)
            .build_cartesian_2d(low..high, 0.0..1.08 * most)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(GRID)
            .axis_style(AXIS)
            .x_labels(9)
            .y_labels(4)
            .label_style(("sans-serif", 15))
            .x_desc("light above the sky, in noise widths")
            .y_desc("pixels")
            .x_label_formatter(&sigma)
            .y_label_formatter(&|y| format!("{:.0}", 10f64.powf(*y)))
            .draw()?;
        for (c, line) in lines.iter().enumerate() {
            chart.draw_series(LineSeries::new(
                line.iter().copied(),
                CHANNELS[c].stroke_width(2),
            ))?;
        }
        for (c, (black, white)) in marks.iter().enumerate() {
            for x in [*black, *white] {
                let foot = vec![(x, 0.0), (x, 0.3 * most)];
                chart.draw_series(std::iter::once(PathElement::new(
                    foot,
                    CHANNELS[c].stroke_width(2),
                )))?;
            }
        }
        area.present()?;
        Ok(())
    };
    drawn(
        draw,
        "histograms of red, green and blue with black and white points",
        HISTOGRAM,
    )
}

/// How far the colours of nearly all stars reach, for plots that are to be compared.
pub fn colour_reach(stars: &[StarColour]) -> f64 {
    let mut all: Vec<f32> = stars
        .iter()
        .flat_map(StarColour::magnitudes)
        .map(|m| m.abs() as f32)
        .filter(|m| m.is_finite())
        .collect();
    if all.is_empty() {
        return 1.0;
    }
    (1.4 * f64::from(jigsawa_core::robust::quantile(&mut all, 0.98))).clamp(0.3, 4.0)
}

/// Colours of the stars in magnitudes: blue against green over green against red; white is in the middle.
pub fn star_colours(stars: &[StarColour], words: &str, reach: f64) -> String {
    let points: Vec<(f64, f64)> = stars
        .iter()
        .map(|s| {
            let [red, blue] = s.magnitudes();
            (-red, blue)
        })
        .collect();
    let draw = |svg: &mut String| -> Result<(), Box<dyn std::error::Error>> {
        let area = SVGBackend::with_string(svg, COLOURS).into_drawing_area();
        let mut chart = ChartBuilder::on(&area)
            .margin(8)
            .caption(words, ("sans-serif", 16))
            .x_label_area_size(42)
            .y_label_area_size(60)
            .build_cartesian_2d(-reach..reach, -reach..reach)?;
        chart
            .configure_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(GRID)
            .axis_style(AXIS)
            .x_labels(5)
            .y_labels(5)
            .label_style(("sans-serif", 15))
            .x_desc("green - red, magnitudes")
            .y_desc("blue - green")
            .draw()?;
        for line in [[(-reach, 0.0), (reach, 0.0)], [(0.0, -reach), (0.0, reach)]] {
            chart.draw_series(LineSeries::new(line, AXIS))?;
        }
        let inside = points
            .iter()
            .filter(|(x, y)| x.abs() < reach && y.abs() < reach);
        chart.draw_series(inside.map(|p| Circle::new(*p, 2, colour_of(*p).filled())))?;
        area.present()?;
        Ok(())
    };
    drawn(draw, words, COLOURS)
}

/// The colour of a dot, as a star of these magnitudes looks, made stronger.
fn colour_of((red, blue): (f64, f64)) -> RGBColor {
    let light = |m: f64| 10f64.powf(0.4 * m);
    let (r, g, b) = (light(red), 1.0, light(-blue));
    let most = r.max(g).max(b);
    let part = |v: f64| (70.0 + 165.0 * (v / most).powf(1.2)) as u8;
    RGBColor(part(r), part(g), part(b))
}

fn drawn(
    draw: impl FnOnce(&mut String) -> Result<(), Box<dyn std::error::Error>>,
    about: &str,
    size: (u32, u32),
) -> String {
    let mut svg = String::new();
    if let Err(e) = draw(&mut svg) {
        tracing::warn!("a plot cannot be drawn: {e}");
        return String::new();
    }
    svg.lines()
        .map(|line| {
            let line = classed(line);
            if line.starts_with("<svg") {
                opened(&line, about, size)
            } else {
                line
            }
        })
        .collect::<Vec<_>>()
        .join("\n")
}
