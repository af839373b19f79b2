//! Charts: lines and points over two axes, as SVG that follows the page's colours, light or dark.
//!
//! Everything drawn gets a number for its colour. The number then becomes what the ink is: a class of the page's style sheet,
//! or a colour of its own, with words that the pointer shows.

use jigsawa_core::number::Convert;
use std::fmt::Write as _;
use std::ops::Range;

use maud::{Markup, PreEscaped, Render, html};
use plotters::prelude::*;

/// What stands at an axis's marks.
pub type Label<'a> = &'a dyn Fn(&f64) -> String;

/// Steps of a curve.
const STEPS: u32 = 200;

/// An axis.
pub struct Axis<'a> {
    /// What it counts; nothing where its marks say so.
    pub words: &'a str,
    pub range: (f64, f64),
    /// About so many marks.
    pub marks: usize,
    pub label: Label<'a>,
}

impl Axis<'_> {
    fn span(&self) -> Range<f64> {
        self.range.0..self.range.1
    }

    fn is_drawable(&self) -> bool {
        self.range.0.is_finite() && self.range.1.is_finite() && self.range.0 < self.range.1
    }
}

/// What something is drawn with.
#[derive(Debug, Clone)]
pub struct Ink {
    attributes: String,
    words: String,
}

impl Ink {
    /// A class of the page's style sheet.
    pub fn class(name: &str) -> Self {
        Self {
            attributes: format!("class=\"{name}\""),
            words: String::new(),
        }
    }

    /// A line of a colour and a width.
    pub fn line([r, g, b]: [u8; 3], width: f64) -> Self {
        Self {
            attributes: format!("style=\"stroke:rgb({r},{g},{b});stroke-width:{width};fill:none\""),
            words: String::new(),
        }
    }

    /// A dot of a colour.
    pub fn dot([r, g, b]: [u8; 3]) -> Self {
        Self {
            attributes: format!("style=\"fill:rgb({r},{g},{b})\""),
            words: String::new(),
        }
    }

    /// The same with words that the pointer shows, and the number of the frame that it stands for.
    pub fn of_frame(mut self, words: &str, frame: usize) -> Self {
        self.words = escaped(words);
        let _ = write!(self.attributes, " data-i=\"{frame}\"");
        self
    }
}

enum Shape {
    Line(Vec<(f64, f64)>),
    Dots(Vec<(f64, f64)>, i32),
}

/// A chart in the making.
pub struct Chart<'a> {
    /// What it shows, for those who cannot see it.
    about: &'a str,
    size: (u32, u32),
    x: Axis<'a>,
    y: Axis<'a>,
    shapes: Vec<(Shape, Ink)>,
}

impl<'a> Chart<'a> {
    /// A chart of a size in its own units.
    pub const fn new(about: &'a str, size: (u32, u32), x: Axis<'a>, y: Axis<'a>) -> Self {
        Self {
            about,
            size,
            x,
            y,
            shapes: Vec::new(),
        }
    }

    /// Adds a line through points.
    pub fn line(&mut self, points: impl IntoIterator<Item = (f64, f64)>, ink: Ink) {
        let known = |p: &(f64, f64)| p.0.is_finite() && p.1.is_finite();
        let points = points.into_iter().filter(known).collect();
        self.shapes.push((Shape::Line(points), ink));
    }

    /// Adds a curve as far as it lies inside.
    pub fn curve(&mut self, height: impl Fn(f64) -> f64, ink: Ink) {
        let (x0, x1) = self.x.range;
        let (low, high) = self.y.range;
        let points: Vec<(f64, f64)> = (0..=STEPS)
            .map(|i| x0 + (x1 - x0) * f64::from(i) / f64::from(STEPS))
            .map(|x| (x, height(x)))
            .filter(|(_, y)| (low..=high).contains(y))
            .collect();
        self.line(points, ink);
    }

    /// Adds a level, where it lies inside.
    pub fn level(&mut self, y: f64, ink: Ink) {
        if (self.y.range.0..=self.y.range.1).contains(&y) {
            self.line([(self.x.range.0, y), (self.x.range.1, y)], ink);
        }
    }

    /// Adds dots of a radius, those of them that lie inside.
    pub fn dots(&mut self, points: impl IntoIterator<Item = (f64, f64)>, radius: i32, ink: Ink) {
        let inside = |p: &(f64, f64)| {
            let within = |v: f64, (low, high): (f64, f64)| v >= low && v <= high;
            within(p.0, self.x.range) && within(p.1, self.y.range)
        };
        let points = points.into_iter().filter(inside).collect();
        self.shapes.push((Shape::Dots(points, radius), ink));
    }

    /// The chart as SVG; nothing where it has no extent.
    pub fn drawn(&self) -> Markup {
        PreEscaped(self.svg().unwrap_or_default())
    }

    /// The same under its caption.
    pub fn figure(&self, caption: impl Render) -> Markup {
        html! {
            @if let Some(svg) = self.svg() { figure { figcaption { (caption) } (PreEscaped(svg)) } }
        }
    }

    fn svg(&self) -> Option<String> {
        if !(self.x.is_drawable() && self.y.is_drawable()) {
            return None;
        }
        let mut svg = String::new();
        if let Err(e) = self.plot(&mut svg) {
            tracing::warn!("a chart cannot be drawn: {e}");
            return None;
        }
        Some(self.inked(&svg))
    }

    fn plot(&self, svg: &mut String) -> Result<(), Box<dyn std::error::Error>> {
        let size = (self.size.0 * FINE, self.size.1 * FINE);
        let area = SVGBackend::with_string(svg, size).into_drawing_area();
        let room = |words: &str, own: u32| FINE * if words.is_empty() { own } else { own + 14 };
        let mut chart = ChartBuilder::on(&area)
            .margin(FINE * 6)
            .x_label_area_size(room(self.x.words, 28))
            .y_label_area_size(room(self.y.words, 56))
            .build_cartesian_2d(self.x.span(), self.y.span())?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(colour(GRID))
            .axis_style(colour(AXIS))
            .x_labels(self.x.marks)
            .y_labels(self.y.marks)
            .label_style(("sans-serif", FINE * 15))
            .set_all_tick_mark_size(FINE * 4)
            .x_desc(self.x.words)
            .y_desc(self.y.words)
            .x_label_formatter(self.x.label)
            .y_label_formatter(self.y.label)
            .draw()?;
        for (k, (shape, _)) in self.shapes.iter().enumerate() {
            let ink = colour(FIRST + k);
            match shape {
                Shape::Line(points) => {
                    chart.draw_series(LineSeries::new(points.iter().copied(), ink))?;
                }
                Shape::Dots(points, radius) => {
                    let radius = radius * FINE.i32();
                    let dot = |p: &(f64, f64)| Circle::new(*p, radius, ink.filled());
                    chart.draw_series(points.iter().map(dot))?;
                }
            }
        }
        area.present()?;
        Ok(())
    }

    /// The drawing with its inks in the place of numbers.
    fn inked(&self, svg: &str) -> String {
        let own = [Ink::class("grid"), Ink::class("axis")];
        let ink = |k: usize| match k.checked_sub(FIRST) {
            Some(k) => self.shapes.get(k).map(|(_, ink)| ink),
            None => own.get(k),
        };
        let mut out = String::with_capacity(svg.len());
        for line in svg.lines() {
            if let Some(rest) = line.strip_prefix("<svg ") {
                let (width, height) = (self.size.0 * FINE, self.size.1 * FINE);
                // The size follows the page's: the view box alone says the shape.
                let rest = rest.split_once("viewBox").map_or(rest, |(_, r)| r);
                let rest = rest.find("xmlns").map_or(rest, |at| &rest[at..]);
                let _ = writeln!(
                    out,
                    "<svg class=\"chart\" role=\"img\" aria-label=\"{}\" viewBox=\"0 0 {width} {height}\" {rest}",
                    escaped(self.about)
                );
                continue;
            }
            let Some((range, ink)) = numbered(line).and_then(|(range, k)| Some((range, ink(k)?)))
            else {
                let line = line.replace("fill=\"#000000\"", "class=\"label\"");
                let _ = writeln!(out, "{line}");
                continue;
            };
            let (before, after) = (&line[..range.start], &line[range.end..]);
            let Ink { attributes, words } = ink;
            let titled = after.strip_suffix("/>").filter(|_| !words.is_empty());
            let _ = match titled {
                Some(after) => {
                    let tag = line[1..].split(' ').next().unwrap_or_default();
                    writeln!(
                        out,
                        "{before}{attributes}{after}><title>{words}</title></{tag}>"
                    )
                }
                None => writeln!(out, "{before}{attributes}{after}"),
            };
        }
        out
    }
}

/// Drawn on a grid so much finer than its size: places on it are whole numbers.
const FINE: u32 = 8;

/// Numbers of the inks that every chart has, and of the first of its own.
const GRID: usize = 0;
const AXIS: usize = 1;
const FIRST: usize = 2;

/// Numbers begin here, so that none is black, which words have.
const BASE: usize = 0x01_0000;

/// The colour that stands for a number.
fn colour(k: usize) -> RGBColor {
    let [.., r, g, b] = (BASE + k).u32().to_be_bytes();
    RGBColor(r, g, b)
}

/// The number in an element's colour, and where the colour stands.
fn numbered(line: &str) -> Option<(Range<usize>, usize)> {
    ["stroke=\"#", "fill=\"#"]
        .into_iter()
        .find_map(|attribute| {
            let start = line.find(attribute)?;
            let digits = start + attribute.len();
            let value = usize::from_str_radix(line.get(digits..digits + 6)?, 16).ok()?;
            Some((start..digits + 7, value.checked_sub(BASE)?))
        })
}

/// From the lowest to the highest of some values, and a part of that more on both sides, which is `least` long at the least.
/// Infinite for no values.
pub fn range(values: impl IntoIterator<Item = f64>, part: f64, least: f64) -> (f64, f64) {
    let none = (f64::INFINITY, f64::NEG_INFINITY);
    let finite = values.into_iter().filter(|v| v.is_finite());
    let (low, high) = finite.fold(none, |(a, b), v| (a.min(v), b.max(v)));
    let aside = part * (high - low).max(least);
    (low - aside, high + aside)
}

/// A number whose power of ten is drawn.
// Charts hand marks over by reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
pub fn power(v: &f64) -> String {
    let n = 10f64.powf(*v);
    if n >= 99_999.0 {
        format!("{:.0}k", n / 1000.0)
    } else if n < 0.095 {
        format!("{n:.2}")
    } else if n < 0.99 {
        format!("{n:.1}")
    } else {
        format!("{n:.0}")
    }
}

/// Text that may stand in markup.
pub fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn axis(words: &str, range: (f64, f64)) -> Axis<'_> {
        Axis {
            words,
            range,
            marks: 5,
            label: &|v| format!("{v:.0}"),
        }
    }

    #[test]
    fn what_is_drawn_has_its_ink_and_its_words() {
        let mut chart = Chart::new(
            "a <chart>",
            (400, 200),
            axis("across", (0.0, 10.0)),
            axis("", (0.0, 5.0)),
        );
        chart.line([(0.0, 1.0), (10.0, 4.0)], Ink::class("fit"));
        chart.level(9.0, Ink::class("outside"));
        chart.dots(
            [(2.0, 2.0), (20.0, 2.0)],
            4,
            Ink::class("dot s1").of_frame("a & b", 7),
        );
        let svg = chart.drawn().into_string();
        assert!(
            svg.contains("aria-label=\"a &lt;chart>\" viewBox=\"0 0 3200 1600\""),
            "{svg}"
        );
        assert_eq!(svg.matches("class=\"fit\"").count(), 1, "{svg}");
        assert_eq!(svg.matches("<circle").count(), 1, "{svg}");
        assert!(svg.contains("class=\"dot s1\" data-i=\"7\""), "{svg}");
        assert!(svg.contains("<title>a &amp; b</title></circle>"), "{svg}");
        assert!(svg.contains("class=\"grid\"") && svg.contains("class=\"axis\""));
        assert!(!svg.contains("outside") && !svg.contains("#01"), "{svg}");
    }

    #[test]
    fn a_chart_of_nothing_is_not_drawn() {
        let none = range([], 0.1, 1.0);
        let chart = Chart::new("", (400, 200), axis("", none), axis("", (0.0, 1.0)));
        assert!(chart.drawn().into_string().is_empty());
        assert_eq!(range([2.0, f64::NAN, 4.0], 0.5, 4.0), (0.0, 6.0));
    }
}
