//! Lines and words that become a drawing (SVG) or a picture (pixels) alike.

use jigsawa_core::number::Convert;
use std::fmt::Write as _;

use jigsawa_core::quick::Picture;

use crate::report::chart::escaped;
use jigsawa_work::picture::{Words, write_words};

pub type Colour = [u8; 3];

/// One thing drawn; places are pixels from the upper left corner.
pub enum Mark {
    /// A line through points, closed or not; dashed where it tells of something uncertain.
    Line {
        points: Vec<(f64, f64)>,
        colour: Colour,
        width: f64,
        dashed: bool,
    },
    /// Words around a place.
    Text {
        at: (f64, f64),
        text: String,
        height: f64,
        colour: Colour,
    },
}

/// A sheet of a size with all that is drawn on it.
pub struct Sheet {
    pub size: (f64, f64),
    pub paper: Colour,
    pub marks: Vec<Mark>,
}

fn css([r, g, b]: Colour) -> String {
    format!("#{r:02x}{g:02x}{b:02x}")
}

impl Sheet {
    /// As SVG.
    pub fn svg(&self, about: &str) -> String {
        let (w, h) = self.size;
        let mut out = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {w:.0} {h:.0}\" role=\"img\" aria-label=\"{}\">\n\
             <rect width=\"{w:.0}\" height=\"{h:.0}\" fill=\"{}\"/>\n",
            escaped(about),
            css(self.paper)
        );
        for m in &self.marks {
            match m {
                Mark::Line {
                    points,
                    colour,
                    width,
                    dashed,
                } => {
                    let list: Vec<String> = points
                        .iter()
                        .map(|(x, y)| format!("{x:.1},{y:.1}"))
                        .collect();
                    let dash = if *dashed {
                        " stroke-dasharray=\"7 5\""
                    } else {
                        ""
                    };
                    let _ = writeln!(
                        out,
                        "<polyline points=\"{}\" fill=\"none\" stroke=\"{}\" stroke-width=\"{width}\" stroke-linejoin=\"round\"{dash}/>",
                        list.join(" "),
                        css(*colour)
                    );
                }
                Mark::Text {
                    at: (x, y),
                    text,
                    height,
                    colour,
                } => {
                    let _ = writeln!(
                        out,
                        "<text x=\"{x:.1}\" y=\"{:.1}\" text-anchor=\"middle\" font-family=\"monospace\" font-size=\"{height:.1}\" \
                         fill=\"{}\" stroke=\"{}\" stroke-width=\"3\" paint-order=\"stroke\">{}</text>",
                        y + 0.35 * height,
                        css(*colour),
                        css(self.paper),
                        escaped(text)
                    );
                }
            }
        }
        out.push_str("</svg>\n");
        out
    }

    /// As a picture.
    pub fn picture(&self) -> Picture {
        let (w, h) = (self.size.0.round().index(), self.size.1.round().index());
        let mut p = Picture::filled(w, h, self.paper);
        for m in &self.marks {
            match m {
                Mark::Line {
                    points,
                    colour,
                    width,
                    dashed,
                } => {
                    let mut along = 0.0;
                    for pair in points.windows(2) {
                        stroke(
                            &mut p,
                            (pair[0], pair[1]),
                            (*colour, *width),
                            (*dashed, &mut along),
                        );
                    }
                }
                Mark::Text {
                    at: (x, y),
                    text,
                    height,
                    colour,
                } => {
                    let words = Words {
                        text,
                        height: height.round().index(),
                        colour: *colour,
                        bold: *height > 20.0,
                    };
                    let (wide, tall) = (words.width().real(), words.height.real());
                    let corner = ((x - 0.5 * wide).max(2.0), (y - 0.5 * tall).max(2.0));
                    // A little paper around keeps lines out of the words.
                    for py in corner.1.whole()..(corner.1 + tall).whole() {
                        for px in corner.0.whole() - 2..(corner.0 + wide).whole() + 2 {
                            p.set(px, py, self.paper);
                        }
                    }
                    write_words(&mut p, &words, (corner.0.index(), corner.1.index()));
                }
            }
        }
        p
    }
}

/// A line of a width with soft edges.
fn stroke(
    p: &mut Picture,
    (a, b): ((f64, f64), (f64, f64)),
    (colour, width): (Colour, f64),
    (dashed, along): (bool, &mut f64),
) {
    let (dx, dy) = (b.0 - a.0, b.1 - a.1);
    let length = dx.hypot(dy).max(1e-9);
    let reach = 0.5 * width + 1.0;
    let (x0, x1) = (a.0.min(b.0) - reach, a.0.max(b.0) + reach);
    let (y0, y1) = (a.1.min(b.1) - reach, a.1.max(b.1) + reach);
    let inside = |v: f64, n: usize| v.clamp(0.0, n.real()).index();
    for y in inside(y0, p.height())..inside(y1 + 1.0, p.height()) {
        for x in inside(x0, p.width())..inside(x1 + 1.0, p.width()) {
            let (px, py) = (x.real() - a.0, y.real() - a.1);
            let t = ((px * dx + py * dy) / length).clamp(0.0, length);
            let off = (px - t * dx / length).hypot(py - t * dy / length);
            let part = (0.5 * width + 0.5 - off).clamp(0.0, 1.0);
            let gap = dashed && (*along + t).rem_euclid(12.0) > 7.0;
            if part > 0.0
                && !gap
                && let Some(under) = p.get(x, y)
            {
                let mixed = std::array::from_fn(|c| {
                    let (u, v) = (f64::from(under[c]), f64::from(colour[c]));
                    (u + part * (v - u)).round().byte()
                });
                p.set(x.whole(), y.whole(), mixed);
            }
        }
    }
    *along += length;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_drawn_where_it_is_and_dashes_have_gaps() {
        let line = |dashed| Sheet {
            size: (60.0, 20.0),
            paper: [0; 3],
            marks: vec![Mark::Line {
                points: vec![(5.0, 10.0), (55.0, 10.0)],
                colour: [200, 100, 50],
                width: 2.0,
                dashed,
            }],
        };
        let whole = line(false).picture();
        assert_eq!(whole.get(30, 10), Some([200, 100, 50]));
        assert_eq!(whole.get(30, 15), Some([0; 3]));
        let lit = |p: &Picture| {
            (0..60)
                .filter(|x| p.get(*x, 10) == Some([200, 100, 50]))
                .count()
        };
        assert!(lit(&line(true).picture()) < lit(&whole) - 10);
        assert!(
            line(true).svg("a < b").contains("a &lt; b")
                && line(true).svg("").contains("dasharray")
        );
    }
}
