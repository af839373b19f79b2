//! One quantity over the night as SVG. Colours are left to the page's style sheet, which knows light
//! and dark: what is drawn here in marker colours gets class names instead.

use std::fmt::Write as _;

use jigsawa_core::survey::quantity::{Measure, named};
use jigsawa_core::verdict::Verdict;
use plotters::prelude::*;

use super::svg::{AXIS, GRID, SERIES, classed, escaped, opened};
use jigsawa_work::survey::Night;

/// Size of a plot in its own units.
const SIZE: (u32, u32) = (430, 200);

/// One point: file, place on the time axis, value, series.
struct Dot {
    file: usize,
    x: f64,
    y: f64,
    series: usize,
}

/// A limit of a series.
struct Limit {
    y: f64,
    series: usize,
}

/// The time axis of all plots of a night.
pub struct Axis {
    /// Place of each file that has one.
    at: Vec<Option<f64>>,
    /// Whole nights lie side by side by the number of the frame, one night by the clock.
    by_clock: bool,
}

impl Axis {
    /// The axis of a night: by the clock when all lights have a time and are of one night.
    pub fn of(night: &Night, lights: &[usize]) -> Self {
        let start = |i: &usize| night.facts[*i].start_s;
        let first = lights
            .iter()
            .filter_map(start)
            .fold(f64::INFINITY, f64::min);
        let last = lights
            .iter()
            .filter_map(start)
            .fold(f64::NEG_INFINITY, f64::max);
        let by_clock = lights.iter().all(|i| start(i).is_some()) && last - first < 16.0 * 3600.0;
        let midnight = (first / 86_400.0).floor() * 86_400.0;
        let mut at = vec![None; night.files.len()];
        let in_time = night.in_time();
        for (number, i) in in_time.iter().filter(|i| lights.contains(i)).enumerate() {
            at[*i] = if by_clock {
                start(i).map(|s| (s - midnight) / 3600.0)
            } else {
                Some(number as f64 + 1.0)
            };
        }
        Self { at, by_clock }
    }

    /// What the axis counts.
    pub const fn words(&self) -> &'static str {
        if self.by_clock {
            "time (UTC)"
        } else {
            "frames in order of time"
        }
    }
}

/// A plot of a quantity; empty where no light has it. `series` gives the number of each light's
/// series.
pub fn plot(
    night: &Night,
    quantity: &str,
    axis: &Axis,
    lights: &[usize],
    series: &dyn Fn(usize) -> usize,
) -> String {
    let Some(q) = named(quantity) else {
        return String::new();
    };
    let percent = if q.measure == Measure::Part {
        100.0
    } else {
        1.0
    };
    let dots: Vec<Dot> = night
        .in_time()
        .into_iter()
        .filter(|i| lights.contains(i))
        .filter_map(|i| {
            Some(Dot {
                file: i,
                x: axis.at[i]?,
                y: q.number_of(&night.known_of(i))? * percent,
                series: series(i),
            })
        })
        .collect();
    let Some(first) = dots.first() else {
        return String::new();
    };
    let limits: Vec<Limit> = night
        .sets
        .iter()
        .filter_map(|set| Some((series(*set.frames.first()?), set)))
        .flat_map(|(series, set)| set.limits.iter().map(move |l| (series, l)))
        .filter_map(|(series, (name, v))| {
            let v = match *name {
                "clouds" if quantity == "transparency" => 1.0 - v,
                name if name == quantity => *v,
                _ => return None,
            };
            let y = v * percent;
            Some(Limit { y, series })
        })
        .collect();
    let fold = |v: &dyn Fn(&Dot) -> f64| {
        dots.iter()
            .map(v)
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| {
                (a.min(v), b.max(v))
            })
    };
    let (x0, x1) = fold(&|d| d.x);
    let (mut y0, mut y1) = fold(&|d| d.y);
    // Limits far from all values would squeeze them; they are drawn where they are near.
    let span = (y1 - y0).max(0.02 * first.y.abs()).max(1e-6);
    for l in &limits {
        if l.y > y0 - 0.8 * span && l.y < y1 + 0.8 * span {
            (y0, y1) = (y0.min(l.y), y1.max(l.y));
        }
    }
    let margin = 0.08 * (y1 - y0).max(span);
    let aside = 0.02 * (x1 - x0).max(0.1);
    let ranges = (x0 - aside..x1 + aside, (y0 - margin)..(y1 + margin));
    let mut svg = String::new();
    let drawn = draw(&mut svg, &ranges, &dots, &limits, axis, q.digits, percent);
    if let Err(e) = drawn {
        tracing::warn!("the plot of {quantity} cannot be drawn: {e}");
        return String::new();
    }
    let name = |d: &Dot| {
        let file = night.files[d.file].name.clone();
        let text = format!(
            "{file}: {quantity} {}{}",
            q.shown_number(d.y / percent),
            q.unit()
        );
        let used = night.judged[d.file].verdict == Verdict::Used;
        let class = if used { "used" } else { "out" };
        (
            format!(
                "class=\"dot s{} {class}\" data-i=\"{}\"",
                d.series % 6,
                d.file
            ),
            text,
        )
    };
    styled(&svg, &dots.iter().map(name).collect::<Vec<_>>(), quantity)
}

type Ranges = (std::ops::Range<f64>, std::ops::Range<f64>);

fn draw(
    svg: &mut String,
    (xs, ys): &Ranges,
    dots: &[Dot],
    limits: &[Limit],
    axis: &Axis,
    digits: usize,
    percent: f64,
) -> Result<(), Box<dyn std::error::Error>> {
    let area = SVGBackend::with_string(svg, SIZE).into_drawing_area();
    let mut chart = ChartBuilder::on(&area)
        .margin(6)
        .x_label_area_size(28)
        .y_label_area_size(56)
        .build_cartesian_2d(xs.clone(), ys.clone())?;
    let clock = |x: &f64| {
        let minutes = (x * 60.0).round() as i64;
        format!("{:02}:{:02}", (minutes / 60) % 24, minutes % 60)
    };
    let number = |x: &f64| format!("{x:.0}");
    let digits = if percent > 1.0 { 0 } else { digits };
    let value = |y: &f64| format!("{y:.digits$}{}", if percent > 1.0 { "%" } else { "" });
    let x_label: &dyn Fn(&f64) -> String = if axis.by_clock { &clock } else { &number };
    chart
        .configure_mesh()
        .disable_x_mesh()
        .light_line_style(TRANSPARENT)
        .bold_line_style(GRID)
        .axis_style(AXIS)
        .x_labels(7)
        .y_labels(5)
        .label_style(("sans-serif", 15))
        .x_label_formatter(x_label)
        .y_label_formatter(&value)
        .draw()?;
    for l in limits.iter().filter(|l| ys.contains(&l.y)) {
        let line = vec![(xs.start, l.y), (xs.end, l.y)];
        let colour = RGBColor(1, 3, (l.series % 6) as u8);
        chart.draw_series(std::iter::once(PathElement::new(line, colour)))?;
    }
    chart.draw_series(
        dots.iter()
            .map(|d| Circle::new((d.x, d.y), 4, SERIES.filled())),
    )?;
    area.present()?;
    Ok(())
}

/// Class names for colours, and for each dot its file, so that the page can show and find it.
fn styled(svg: &str, dots: &[(String, String)], quantity: &str) -> String {
    let mut out = String::with_capacity(svg.len() + 200 * dots.len());
    let mut next = dots.iter();
    for line in svg.lines() {
        if let (true, Some((attributes, text))) = (line.starts_with("<circle"), next.clone().next())
        {
            next.next();
            let place: String = line
                .split(' ')
                .filter(|a| a.starts_with("cx=") || a.starts_with("cy="))
                .collect::<Vec<_>>()
                .join(" ");
            let _ = writeln!(
                out,
                "<circle {place} r=\"4\" {attributes}><title>{}</title></circle>",
                escaped(text)
            );
            continue;
        }
        let styled = (0..6).fold(classed(line), |line, k| {
            line.replace(
                &format!("stroke=\"#01030{k}\""),
                &format!("class=\"limit s{k}\""),
            )
        });
        let styled = if styled.starts_with("<svg") {
            opened(&styled, &format!("{quantity} over the night"), SIZE)
        } else {
            styled
        };
        out.push_str(&styled);
        out.push('\n');
    }
    out
}
