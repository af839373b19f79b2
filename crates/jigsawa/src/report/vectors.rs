//! Which way and how far stars are off, as strokes over a canvas.

use jigsawa_core::frame::RowOrder;
use jigsawa_core::number::Convert;
use jigsawa_core::space::{CanvasPx, Point, Size};
use maud::{Markup, html};

use super::picture::drawn;

/// The longest of nine vectors in ten is drawn so long, in units of the drawing.
const LONG: f64 = 25.0;

/// The bar that tells lengths is at least so long, and stands in a strip of this height.
const BAR: f64 = 30.0;
const STRIP: f64 = 24.0;

/// The canvas on a drawing, the way up that pictures are shown.
#[derive(Debug, Clone, Copy)]
pub struct Drawing {
    pub canvas: Size,
    pub order: RowOrder,
    /// Its width in its own units.
    pub width: f64,
}

impl Drawing {
    /// Units of a canvas pixel.
    pub fn scale(&self) -> f64 {
        self.width / self.canvas.width().real()
    }

    pub fn height(&self) -> f64 {
        self.scale() * self.canvas.height().real()
    }

    /// Where a place of the canvas lies.
    pub fn place(&self, p: Point<CanvasPx>) -> (f64, f64) {
        let k = self.scale();
        let y = k * (p.y + 0.5);
        let y = match self.order {
            RowOrder::BottomUp => self.height() - y,
            RowOrder::TopDown => y,
        };
        (k * (p.x + 0.5), y)
    }

    /// Strokes from places, drawn many times as long as they are, on top of what is `under` them. `caption` gets the
    /// magnification.
    pub fn vectors(
        &self,
        all: &[(Point<CanvasPx>, [f64; 2])],
        under: &Markup,
        caption: impl Fn(f64) -> String,
    ) -> Markup {
        let mut lengths: Vec<f64> = all.iter().map(|(_, off)| off[0].hypot(off[1])).collect();
        lengths.sort_by(f64::total_cmp);
        let typical = lengths.get(lengths.len() * 9 / 10).or(lengths.last());
        let typical = typical.copied().unwrap_or(0.0).max(1e-4);
        let times = round_to_one_digit(LONG / (typical * self.scale()));
        let k = times * self.scale();
        let known = [
            0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0,
        ];
        let bar = known.into_iter().find(|b| b * k > BAR).unwrap_or(10.0);
        let (end, low) = (4.0 + bar * k, self.height() + 0.5 * STRIP);
        let flip = match self.order {
            RowOrder::BottomUp => -1.0,
            RowOrder::TopDown => 1.0,
        };
        let drawing = html! {
            (under)
            @for (at, off) in all {
                @let (x, y) = self.place(*at);
                line.vector x1=(short(x)) y1=(short(y)) x2=(short(x + k * off[0])) y2=(short(y + flip * k * off[1])) {}
                circle.tail cx=(short(x)) cy=(short(y)) r="1.3" {}
            }
            line.bar x1="4" x2=(short(end)) y1=(short(low)) y2=(short(low)) {}
            text.label x=(short(end + 8.0)) y=(short(low + 4.0)) { (bar) " px" }
        };
        drawn(
            &caption(times),
            (self.width, self.height() + STRIP),
            &drawing,
        )
    }
}

/// A number of a drawing.
pub fn short(v: f64) -> String {
    format!("{v:.1}")
}

/// One digit and zeros.
fn round_to_one_digit(v: f64) -> f64 {
    let power = 10f64.powf(v.max(1.0).log10().floor());
    ((v / power).round() * power).max(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strokes_stand_the_way_up_that_pictures_are_shown() {
        let drawing = Drawing {
            canvas: Size::new(100, 50).unwrap(),
            order: RowOrder::BottomUp,
            width: 200.0,
        };
        let stars = [(Point::new(9.5, 9.5), [0.0, 0.1])];
        let shown = drawing.vectors(&stars, &html! {}, |times| format!("{times} times"));
        let shown = shown.into_string();
        // A tenth of a pixel is drawn about 25 units long; rows count from below, so more of them means up.
        assert!(shown.contains("<figcaption>100 times"), "{shown}");
        assert!(
            shown.contains("x1=\"20.0\" y1=\"80.0\" x2=\"20.0\" y2=\"60.0\""),
            "{shown}"
        );
        assert!(
            shown.contains("> 0.2 px<") || shown.contains(">0.2 px<"),
            "{shown}"
        );
    }
}
