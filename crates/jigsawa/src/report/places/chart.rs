//! The figures of one frame: vectors and stars over the canvas, and residuals against what may cause them.

use crate::report::chart::{Axis, Chart, Ink, Label, range};
use crate::report::picture::{WIDTH, drawn};
use crate::report::vectors::{Drawing, short};
use jigsawa_core::layout::Layout;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Map;
use jigsawa_core::space::{CanvasPx, Point, ReferencePx};
use jigsawa_work::register::Residual;
use maud::{Markup, html};

/// Vectors that are drawn: the brightest stars tell most, and more would hide each other.
const MOST_VECTORS: usize = 300;

/// Cells of the map of stars along the longer side.
const CELLS: usize = 9;

/// Matched stars as the canvas shows them.
pub struct PlacedStars {
    drawing: Drawing,
    /// Place and residual of each in canvas pixels, bright ones first.
    stars: Vec<(Point<CanvasPx>, [f64; 2], f64)>,
    outline: [Point<CanvasPx>; 4],
}

impl PlacedStars {
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
            drawing: Drawing {
                canvas: layout.canvas.size,
                order: layout.canvas.row_order,
                width: WIDTH,
            },
            stars,
            outline: row.size.corners().map(|p| back.apply(p)),
        })
    }

    fn frame_outline(&self) -> String {
        let points = self.outline.map(|p| {
            let (x, y) = self.drawing.place(p);
            format!("{x:.1},{y:.1}")
        });
        points.join(" ")
    }

    /// Which way and how far stars are off.
    pub fn vectors(&self) -> Markup {
        let drawn = self.stars.iter().take(MOST_VECTORS);
        let all: Vec<_> = drawn.map(|(at, off, _)| (*at, *off)).collect();
        self.drawing.vectors(&all, &self.frames(), |times| {
            format!("Which way the matched stars are off, drawn {times} times as long as they are")
        })
    }

    /// Where there are matched stars.
    pub fn coverage(&self) -> Markup {
        let (width, height) = (WIDTH, self.drawing.height());
        let step = width.max(height) / CELLS.real();
        let (columns, rows) = (
            (width / step).ceil().max(1.0).index(),
            (height / step).ceil().max(1.0).index(),
        );
        let mut counts = vec![0usize; columns * rows];
        for (p, _, _) in &self.stars {
            let (x, y) = self.drawing.place(*p);
            let (i, j) = ((x / step).max(0.0).index(), (y / step).max(0.0).index());
            counts[j.min(rows - 1) * columns + i.min(columns - 1)] += 1;
        }
        let most = counts.iter().copied().max().unwrap_or(0).max(1);
        let cells = html! {
            @for (k, n) in counts.iter().enumerate() {
                @let (x, y) = ((k % columns).real() * step, (k / columns).real() * step);
                @let (w, h) = (step.min(width - x), step.min(height - y));
                rect.cell x=(short(x)) y=(short(y)) width=(short(w)) height=(short(h))
                    fill-opacity=(format!("{:.2}", 0.75 * ((*n).real() / most.real()).sqrt())) {}
                text.count x=(short(x + 0.5 * w)) y=(short(y + 0.5 * h + 4.0)) { (n) }
            }
            (self.frames())
        };
        drawn("How many matched stars lie where", (width, height), &cells)
    }

    fn frames(&self) -> Markup {
        html! {
            rect.canvas x="0.5" y="0.5" width=(WIDTH - 1.0) height=(short(self.drawing.height() - 1.0)) {}
            polygon.outline points=(self.frame_outline()) {}
        }
    }

    /// How far stars are off against their brightness: faint ones may, bright ones must not.
    pub fn against_brightness(&self) -> Markup {
        let points = self
            .stars
            .iter()
            .map(|s| (s.2.max(1.0).log10(), s.1[0].hypot(s.1[1])));
        scatter(
            "How far stars are off, against their brightness",
            &points.collect::<Vec<_>>(),
            "signal-to-noise of the star",
            &|x| format!("{:.0}", 10f64.powf(*x)),
        )
    }

    /// And against the distance from the middle: a rise outwards is a distortion that the model lacks.
    pub fn against_radius(&self) -> Markup {
        let centre: Point<CanvasPx> = self.drawing.canvas.centre();
        let points = self
            .stars
            .iter()
            .map(|s| (s.0.distance(centre), s.1[0].hypot(s.1[1])));
        scatter(
            "and against the distance from the middle",
            &points.collect::<Vec<_>>(),
            "distance from the middle (px)",
            &|x| format!("{x:.0}"),
        )
    }
}

/// How far stars are off against something else.
fn scatter(caption: &str, points: &[(f64, f64)], x_words: &str, x_label: Label<'_>) -> Markup {
    let most = points.iter().map(|p| p.1).fold(f64::NEG_INFINITY, f64::max);
    let about = format!("residuals against the {x_words}");
    let x = Axis {
        words: x_words,
        range: range(points.iter().map(|p| p.0), 0.03, 0.1),
        marks: 6,
        label: x_label,
    };
    let y = Axis {
        words: "",
        range: (0.0, (1.08 * most).max(0.02)),
        marks: 5,
        label: &|y| format!("{y:.2} px"),
    };
    let mut chart = Chart::new(&about, (430, 230), x, y);
    chart.dots(points.iter().copied(), 2, Ink::class("dot s2"));
    chart.figure(caption)
}
