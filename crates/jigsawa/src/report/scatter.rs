//! Points over an axis, as SVG that follows the page's colours.

use plotters::prelude::*;

use super::svg::{AXIS, GRID, SERIES, classed, opened};

/// Size of a plot, in its own units.
const PLOT: (u32, u32) = (430, 230);

/// Steps of a line.
const STEPS: u32 = 200;

/// What stands at an axis's marks.
pub type Label<'a> = &'a dyn Fn(&f64) -> String;

/// A plot of points.
pub struct Scatter<'a> {
    /// What it shows, for those who cannot see it.
    pub about: &'a str,
    pub x_words: &'a str,
    pub x_label: Label<'a>,
    /// Nothing for no words.
    pub y_words: &'a str,
    pub y_label: Label<'a>,
    /// Lowest and highest value shown.
    pub y_range: (f64, f64),
    /// A line over all of it, if there is one.
    pub line: Option<&'a dyn Fn(f64) -> f64>,
    /// Heights that are marked by a line.
    pub levels: &'a [f64],
}

impl Scatter<'_> {
    /// As SVG; empty for no points.
    pub fn draw(&self, points: &[(f64, f64)]) -> String {
        let none = (f64::INFINITY, f64::NEG_INFINITY);
        let xs = points.iter().map(|p| p.0);
        let (x0, x1) = xs.fold(none, |(a, b), v| (a.min(v), b.max(v)));
        if !(x0.is_finite() && self.y_range.1.is_finite()) {
            return String::new();
        }
        let aside = 0.03 * (x1 - x0).max(0.1);
        let mut svg = String::new();
        if let Err(e) = self.plot(points, (x0 - aside, x1 + aside), &mut svg) {
            tracing::warn!("a plot cannot be drawn: {e}");
            return String::new();
        }
        let lines = svg.lines().map(|line| {
            let line = classed(line);
            if line.starts_with("<svg") {
                opened(&line, self.about, PLOT)
            } else {
                line
            }
        });
        lines.collect::<Vec<_>>().join("\n")
    }

    fn plot(
        &self,
        points: &[(f64, f64)],
        (x0, x1): (f64, f64),
        svg: &mut String,
    ) -> Result<(), Box<dyn std::error::Error>> {
        let area = SVGBackend::with_string(svg, PLOT).into_drawing_area();
        let wide = if self.y_words.is_empty() { 56 } else { 66 };
        let mut chart = ChartBuilder::on(&area)
            .margin(6)
            .x_label_area_size(42)
            .y_label_area_size(wide)
            .build_cartesian_2d(x0..x1, self.y_range.0..self.y_range.1)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(GRID)
            .axis_style(AXIS)
            .x_labels(6)
            .y_labels(5)
            .label_style(("sans-serif", 15))
            .x_desc(self.x_words)
            .y_desc(self.y_words)
            .x_label_formatter(self.x_label)
            .y_label_formatter(self.y_label)
            .draw()?;
        if let Some(line) = self.line {
            // What lies outside of the plot would be drawn along its edge.
            let inside = (0..=STEPS)
                .map(|i| x0 + (x1 - x0) * f64::from(i) / f64::from(STEPS))
                .map(|x| (x, line(x)))
                .filter(|(_, y)| (self.y_range.0..=self.y_range.1).contains(y));
            chart.draw_series(LineSeries::new(inside, AXIS))?;
        }
        for level in self.levels {
            chart.draw_series(LineSeries::new([(x0, *level), (x1, *level)], GRID))?;
        }
        chart.draw_series(points.iter().map(|p| Circle::new(*p, 2, SERIES.filled())))?;
        area.present()?;
        Ok(())
    }
}
