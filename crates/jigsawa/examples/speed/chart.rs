//! Two plots beside each other: time over megapixels, and memory over frames.

use std::error::Error;
use std::path::Path;

use jigsawa_core::number::Convert;
use plotters::prelude::*;

use super::page::Page;

const COLOURS: [RGBColor; 3] = [
    RGBColor(0, 114, 178),
    RGBColor(213, 94, 0),
    RGBColor(0, 158, 115),
];

/// A line by its name and its points.
type Line<'a> = (&'a str, Vec<(f64, f64)>);

pub fn draw(page: &Page, path: &Path) -> Result<(), Box<dyn Error>> {
    let area = SVGBackend::new(path, (1000, 380)).into_drawing_area();
    area.fill(&WHITE)?;
    let (left, right) = area.split_horizontally(500);
    let sizes: Vec<Line<'_>> = (0..page.of_sizes.len())
        .map(|k| {
            let points = page
                .sizes
                .iter()
                .map(|(n, on)| (f64::from(*n), on[k].seconds));
            (page.of_sizes[k], points.collect())
        })
        .collect();
    plot(&left, "seconds over megapixels of a frame", &sizes)?;
    let numbers: Vec<Line<'_>> = (0..page.of_numbers.len())
        .map(|k| {
            let points = page
                .numbers
                .iter()
                .map(|(n, on)| (n.real(), on[k].megabytes.real()));
            (page.of_numbers[k], points.collect())
        })
        .collect();
    plot(
        &right,
        "memory in megabytes over frames of 6 megapixels",
        &numbers,
    )?;
    area.present()?;
    Ok(())
}

fn plot<B: DrawingBackend>(
    area: &DrawingArea<B, plotters::coord::Shift>,
    title: &str,
    lines: &[Line<'_>],
) -> Result<(), Box<dyn Error>>
where
    B::ErrorType: 'static,
{
    let most = |of: fn(&(f64, f64)) -> f64| {
        let all = lines.iter().flat_map(|l| &l.1).map(of);
        1.08 * all.fold(0.0, f64::max)
    };
    let mut chart = ChartBuilder::on(area)
        .caption(title, ("sans-serif", 17))
        .margin(12)
        .x_label_area_size(28)
        .y_label_area_size(46)
        .build_cartesian_2d(0.0..most(|p| p.0), 0.0..most(|p| p.1))?;
    chart
        .configure_mesh()
        .light_line_style(TRANSPARENT)
        .x_label_formatter(&|v| format!("{v:.0}"))
        .y_label_formatter(&|v| format!("{v:.0}"))
        .x_labels(8)
        .y_labels(8)
        .draw()?;
    for ((name, points), colour) in lines.iter().zip(COLOURS) {
        chart
            .draw_series(LineSeries::new(points.clone(), colour.stroke_width(2)))?
            .label(*name)
            .legend(move |(x, y)| PathElement::new([(x, y), (x + 18, y)], colour.stroke_width(2)));
        let marks = points.iter().map(|p| Circle::new(*p, 3, colour.filled()));
        chart.draw_series(marks)?;
    }
    chart
        .configure_series_labels()
        .position(SeriesLabelPosition::UpperLeft)
        .background_style(WHITE.mix(0.8))
        .draw()?;
    Ok(())
}
