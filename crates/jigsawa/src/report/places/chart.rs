//! The figures of one frame: vectors and stars over the canvas, and residuals against what may cause them.

use super::super::scatter::{Label, Scatter};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::Layout;
use jigsawa_core::placement::Map;
use jigsawa_core::space::{CanvasPx, Point, ReferencePx, Size};
use jigsawa_work::register::Residual;
use maud::{Markup, html};

/// Width of a map, in its own units.
const MAP_WIDTH: f64 = 420.0;

/// Vectors that are drawn: the brightest stars tell most, and more would hide each other.
const MOST_VECTORS: usize = 300;

/// The longest of nine vectors in ten is drawn as long as this part of the map.
const LONG: f64 = 0.06;

/// Cells of the map of stars along the longer side.
const CELLS: usize = 9;

/// Matched stars as the canvas shows them.
pub struct Field {
    size: Size,
    order: RowOrder,
    /// Place and residual of each in canvas pixels, bright ones first.
    stars: Vec<(Point<CanvasPx>, [f64; 2], f64)>,
    outline: [Point<CanvasPx>; 4],
}

impl Field {
    /// The stars and the outline of one frame; `None` when it has no place.
    pub fn of(layout: &Layout, i: usize, residuals: &[Residual]) -> Option<Self> {
        let on_canvas: Map<ReferencePx, CanvasPx> = layout.canvas.to_reference()?.invert();
        let row = &layout.frames[i];
        let back = row.placement.as_ref()?.placement()?.invert();
        let mut stars: Vec<_> = residuals
            .iter()
            .map(|r| {
                let [x, y] = r.at;
                let a = on_canvas.apply(Point::new(x, y));
                let b = on_canvas.apply(Point::new(x + r.off[0], y + r.off[1]));
                (a, [b.x - a.x, b.y - a.y], r.snr)
            })
            .collect();
        stars.sort_by(|a, b| b.2.total_cmp(&a.2));
        Some(Self {
            size: layout.canvas.size,
            order: layout.canvas.row_order,
            stars,
            outline: row.size.corners().map(|p| back.apply(p)),
        })
    }

    fn scale(&self) -> f64 {
        MAP_WIDTH / self.size.width() as f64
    }

    fn height(&self) -> f64 {
        self.scale() * self.size.height() as f64
    }

    /// A place on the map, the way up that the picture is shown.
    fn place(&self, p: Point<CanvasPx>) -> (f64, f64) {
        let k = self.scale();
        let y = k * (p.y + 0.5);
        let y = match self.order {
            RowOrder::BottomUp => self.height() - y,
            RowOrder::TopDown => y,
        };
        (k * (p.x + 0.5), y)
    }

    fn frame_outline(&self) -> String {
        let points = self.outline.map(|p| {
            let (x, y) = self.place(p);
            format!("{x:.1},{y:.1}")
        });
        points.join(" ")
    }

    /// Which way and how far stars are off.
    pub fn vectors(&self) -> Markup {
        let drawn = self.stars.iter().take(MOST_VECTORS);
        let mut lengths: Vec<f64> = drawn.map(|s| s.1[0].hypot(s.1[1])).collect();
        lengths.sort_by(f64::total_cmp);
        let typical = lengths
            .get(lengths.len() * 9 / 10)
            .or(lengths.last())
            .copied()
            .unwrap_or(0.0)
            .max(1e-4);
        let magnified = round_to_one_digit(LONG * MAP_WIDTH / (typical * self.scale()));
        // A length that people know, between a tenth and a fifth of the map.
        let bar = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0]
            .into_iter()
            .find(|b| b * magnified * self.scale() > 0.08 * MAP_WIDTH)
            .unwrap_or(10.0);
        let (length, low) = (bar * magnified * self.scale(), self.height());
        let flip = if self.order == RowOrder::BottomUp {
            -1.0
        } else {
            1.0
        };
        html! {
            figure {
                figcaption { "Which way the matched stars are off, drawn " (magnified) " times as long as they are" }
                svg.map viewBox=(format!("0 0 {MAP_WIDTH} {:.0}", low + 24.0)) role="img" aria-label="Residual vectors over the canvas" {
                    (self.frames())
                    @for (p, off, _) in self.stars.iter().take(MOST_VECTORS) {
                        @let (x, y) = self.place(*p);
                        @let k = magnified * self.scale();
                        line.vector x1=(format!("{x:.1}")) y1=(format!("{y:.1}"))
                            x2=(format!("{:.1}", x + k * off[0])) y2=(format!("{:.1}", y + flip * k * off[1])) {}
                        circle.tail cx=(format!("{x:.1}")) cy=(format!("{y:.1}")) r="1.3" {}
                    }
                    line.bar x1="4" x2=(format!("{:.1}", 4.0 + length)) y1=(format!("{:.1}", low + 12.0)) y2=(format!("{:.1}", low + 12.0)) {}
                    text.label x=(format!("{:.1}", 12.0 + length)) y=(format!("{:.1}", low + 16.0)) { (bar) " px" }
                }
            }
        }
    }

    /// Where there are matched stars.
    pub fn coverage(&self) -> Markup {
        let (w, h) = (self.size.width() as f64, self.size.height() as f64);
        let cell = w.max(h) / CELLS as f64;
        let (columns, rows) = (
            (w / cell).ceil().max(1.0) as usize,
            (h / cell).ceil().max(1.0) as usize,
        );
        let mut counts = vec![0usize; columns * rows];
        for (p, _, _) in &self.stars {
            let (x, y) = self.place(*p);
            let step = cell * self.scale();
            let (i, j) = ((x / step).max(0.0) as usize, (y / step).max(0.0) as usize);
            counts[j.min(rows - 1) * columns + i.min(columns - 1)] += 1;
        }
        let most = counts.iter().copied().max().unwrap_or(0).max(1);
        let step = cell * self.scale();
        html! {
            figure {
                figcaption { "How many matched stars lie where" }
                svg.map viewBox=(format!("0 0 {MAP_WIDTH} {:.0}", self.height() + 24.0)) role="img" aria-label="Matched stars over the canvas" {
                    @for (k, n) in counts.iter().enumerate() {
                        @let (x, y) = ((k % columns) as f64 * step, (k / columns) as f64 * step);
                        @let width = step.min(MAP_WIDTH - x);
                        @let height = step.min(self.height() - y);
                        rect.cell x=(format!("{x:.1}")) y=(format!("{y:.1}")) width=(format!("{width:.1}")) height=(format!("{height:.1}"))
                            fill-opacity=(format!("{:.2}", 0.75 * (*n as f64 / most as f64).sqrt())) {}
                        text.count x=(format!("{:.1}", x + 0.5 * width)) y=(format!("{:.1}", y + 0.5 * height + 4.0)) { (n) }
                    }
                    (self.frames())
                }
            }
        }
    }

    fn frames(&self) -> Markup {
        html! {
            rect.canvas x="0.5" y="0.5" width=(MAP_WIDTH - 1.0) height=(format!("{:.1}", self.height() - 1.0)) {}
            polygon.outline points=(self.frame_outline()) {}
        }
    }

    /// How far stars are off against their brightness: faint ones may, bright ones must not.
    pub fn against_brightness(&self) -> String {
        let points = self
            .stars
            .iter()
            .map(|s| (s.2.max(1.0).log10(), s.1[0].hypot(s.1[1])));
        scatter(
            &points.collect::<Vec<_>>(),
            "signal-to-noise of the star",
            &|x| format!("{:.0}", 10f64.powf(*x)),
        )
    }

    /// And against the distance from the middle: a rise outwards is a distortion that the model lacks.
    pub fn against_radius(&self) -> String {
        let centre: Point<CanvasPx> = self.size.centre();
        let points = self
            .stars
            .iter()
            .map(|s| (s.0.distance(centre), s.1[0].hypot(s.1[1])));
        scatter(
            &points.collect::<Vec<_>>(),
            "distance from the middle (px)",
            &|x| format!("{x:.0}"),
        )
    }
}

/// One digit and zeros.
fn round_to_one_digit(v: f64) -> f64 {
    let power = 10f64.powf(v.max(1.0).log10().floor());
    ((v / power).round() * power).max(1.0)
}

/// How far stars are off against something else, as SVG; empty for none.
fn scatter(points: &[(f64, f64)], x_words: &str, x_label: Label<'_>) -> String {
    let most = points.iter().map(|p| p.1).fold(f64::NEG_INFINITY, f64::max);
    Scatter {
        about: &format!("residuals against the {x_words}"),
        x_words,
        x_label,
        y_words: "",
        y_label: &|y| format!("{y:.2} px"),
        y_range: (0.0, (1.08 * most).max(0.02)),
        line: None,
        levels: &[],
    }
    .draw(points)
}
