//! Maps over the canvas: patches before and after, and the surface with its contours.

use jigsawa_core::balance::{BothPatch, Surface};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::number::Convert;
use jigsawa_core::quick::Picture;
use jigsawa_core::space::{Point, Size};
use maud::{Markup, html};

use super::picture::{As, WIDTH, figure_over, shown_row};

/// Where there is nothing to show.
const NOTHING: [u8; 3] = [128, 128, 128];

/// Places along a surface's longer side at which it is drawn.
const GRID: usize = 84;

/// Lines of equal height at the most.
const LINES: usize = 8;

/// What a map shows and how far its colours reach.
pub struct Map<'a> {
    pub canvas: Size,
    pub order: RowOrder,
    /// The value at which colours are full.
    pub full: f64,
    /// The patches' side in canvas pixels.
    pub patch_px: usize,
    pub patches: &'a [(BothPatch, f64)],
}

impl Map<'_> {
    /// Patches by a value: blue below, orange above, the paper's white at zero.
    pub fn of_patches(&self, caption: &str, value: impl Fn(&BothPatch) -> f64) -> Markup {
        let side = self.patch_px.real();
        let (columns, rows) = (
            (self.canvas.width().real() / side).ceil().index(),
            (self.canvas.height().real() / side).ceil().index(),
        );
        let mut p = Picture::filled(columns, rows, NOTHING);
        for (patch, kept) in self.patches {
            let (c, r) = ((patch.x / side).whole(), (patch.y / side).whole());
            let r = match self.order {
                RowOrder::BottomUp => rows.whole() - 1 - r,
                RowOrder::TopDown => r,
            };
            // Outliers that the surface did not follow are darker.
            let colour = colour(value(patch) / self.full);
            p.set(
                c,
                r,
                if *kept > 0.25 {
                    colour
                } else {
                    colour.map(|v| v / 2)
                },
            );
        }
        figure_over(caption, (&p, As::Cells), self.height(), &html! {})
    }

    /// The surface less its own middle, with lines of equal height.
    pub fn of_surface(&self, caption: &str, surface: &Surface, unit: &str) -> Markup {
        let (w, h) = (self.canvas.width().real(), self.canvas.height().real());
        let step = w.max(h) / GRID.real();
        let (columns, rows) = (
            (w / step).round().max(2.0).index(),
            (h / step).round().max(2.0).index(),
        );
        let at = |c: usize, r: usize| {
            let r = shown_row(r, rows, self.order);
            surface.at(Point::new(
                (c.real() + 0.5) * w / columns.real(),
                (r.real() + 0.5) * h / rows.real(),
            ))
        };
        let heights: Vec<f64> = (0..columns * rows)
            .map(|i| at(i % columns, i / columns))
            .collect();
        let mut sorted = heights.clone();
        sorted.sort_by(f64::total_cmp);
        let (low, middle, high) = (
            sorted[0],
            sorted[sorted.len() / 2],
            sorted[sorted.len() - 1],
        );
        let reach = (high - middle).max(middle - low).max(1e-12);
        let mut p = Picture::filled(columns, rows, NOTHING);
        for (i, v) in heights.iter().enumerate() {
            p.set(
                (i % columns).whole(),
                (i / columns).whole(),
                colour((v - middle) / reach),
            );
        }
        let spacing = round_step((high - low) / LINES.real());
        let k = WIDTH / columns.real();
        let lines = contours(&heights, columns, low, high, spacing);
        let told = format!(
            "{caption}: {:+.1} to {:+.1} {unit} against its middle, a line every {spacing} {unit}",
            low - middle,
            high - middle
        );
        let over = html! {
            @for [x1, y1, x2, y2] in lines {
                line.contour x1=(format!("{:.1}", k * x1)) y1=(format!("{:.1}", k * y1)) x2=(format!("{:.1}", k * x2)) y2=(format!("{:.1}", k * y2)) {}
            }
        };
        figure_over(&told, (&p, As::Surface), self.height(), &over)
    }

    pub fn height(&self) -> f64 {
        WIDTH * self.canvas.height().real() / self.canvas.width().real()
    }
}

/// Blue for -1, white for 0, orange for 1.
pub fn colour(v: f64) -> [u8; 3] {
    const BLUE: [f64; 3] = [32.0, 84.0, 164.0];
    const WHITE: [f64; 3] = [246.0, 246.0, 242.0];
    const ORANGE: [f64; 3] = [201.0, 84.0, 22.0];
    if !v.is_finite() {
        return NOTHING;
    }
    let end = if v < 0.0 { BLUE } else { ORANGE };
    let part = v.abs().min(1.0);
    std::array::from_fn(|i| (WHITE[i] + part * (end[i] - WHITE[i])).round().byte())
}

/// 1, 2 or 5 times a power of ten, not below.
fn round_step(v: f64) -> f64 {
    let power = 10f64.powf(v.max(1e-9).log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0]
        .into_iter()
        .find(|k| k * power >= v)
        .unwrap_or(10.0);
    // Through text, so that a tenth is written as one.
    format!("{:.9}", step * power)
        .parse()
        .unwrap_or(step * power)
}

/// Lines of equal height through a grid, cell by cell.
fn contours(heights: &[f64], columns: usize, low: f64, high: f64, spacing: f64) -> Vec<[f64; 4]> {
    let rows = heights.len() / columns;
    let mut lines = Vec::new();
    let mut level = (low / spacing).ceil() * spacing;
    while level <= high && spacing > 0.0 {
        for r in 0..rows - 1 {
            for c in 0..columns - 1 {
                let at = |dc: usize, dr: usize| heights[(r + dr) * columns + c + dc] - level;
                let (a, b, d, e) = (at(0, 0), at(1, 0), at(0, 1), at(1, 1));
                let (x, y) = (c.real() + 0.5, r.real() + 0.5);
                let cut = |p: f64, q: f64| p / (p - q);
                let mut ends: Vec<[f64; 2]> = Vec::new();
                let mut edge = |p: f64, q: f64, place: &dyn Fn(f64) -> [f64; 2]| {
                    if (p < 0.0) != (q < 0.0) {
                        ends.push(place(cut(p, q)));
                    }
                };
                edge(a, b, &|t| [x + t, y]);
                edge(d, e, &|t| [x + t, y + 1.0]);
                edge(a, d, &|t| [x, y + t]);
                edge(b, e, &|t| [x + 1.0, y + t]);
                for pair in ends.chunks_exact(2) {
                    lines.push([pair[0][0], pair[0][1], pair[1][0], pair[1][1]]);
                }
            }
        }
        level += spacing;
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contours_of_a_tilt_are_straight_and_evenly_apart() {
        let heights: Vec<f64> = (0..20 * 10).map(|i| f64::from(i % 20)).collect();
        let lines = contours(&heights, 20, 0.0, 19.0, 5.0);
        assert!(!lines.is_empty());
        for [x1, _, x2, _] in lines {
            assert!((x1 - x2).abs() < 1e-9);
            assert!(((x1 - 0.5) % 5.0).abs() < 1e-9, "{x1}");
        }
    }

    #[test]
    fn steps_are_round() {
        assert_eq!(round_step(0.13), 0.2);
        assert_eq!(round_step(3.0), 5.0);
        assert_eq!(round_step(70.0), 100.0);
    }

    #[test]
    fn colours_run_from_blue_over_white_to_orange() {
        assert!(colour(-1.0)[2] > colour(-1.0)[0]);
        assert!(colour(2.0)[0] > colour(2.0)[2]);
        assert!(colour(0.0).iter().all(|v| *v > 240));
        assert_eq!(colour(f64::NAN), NOTHING);
    }
}
