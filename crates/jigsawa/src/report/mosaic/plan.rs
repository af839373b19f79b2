//! The plan: outlines of all panels on the canvas, their names, and which are tied by how many stars.

use jigsawa_core::number::Convert;
use std::collections::BTreeMap;
use std::path::Path;

use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::PlacementRecord;
use jigsawa_core::mosaic::share::share;
use jigsawa_core::space::{CanvasPx, FramePx, Point};
use jigsawa_formats::png;
use jigsawa_formats::whole::Unfinished;

use super::marks::{Colour, Mark, Sheet};
use crate::account::MosaicAccount;
use jigsawa_work::compose::file_name;
use jigsawa_work::frames::Frame;
use jigsawa_work::mosaic::Placed;
use jigsawa_work::outputs::filled;
use jigsawa_work::trouble::Trouble;

/// Colours of panels; they begin again after the last.
pub const COLOURS: [Colour; 8] = [
    [104, 168, 240],
    [126, 206, 160],
    [240, 200, 110],
    [232, 136, 110],
    [180, 148, 226],
    [206, 166, 140],
    [236, 152, 206],
    [160, 190, 200],
];

const PAPER: Colour = [17, 22, 31];
const QUIET: Colour = [104, 116, 130];
const WORDS: Colour = [232, 236, 240];
const TIED: Colour = [214, 208, 150];
const WEAK: Colour = [244, 150, 70];

/// Two panels that hold each other badly.
const BAD: Colour = [235, 70, 70];
const STRAY: Colour = [240, 96, 96];

/// Fewer stars than this tie weakly.
const FEW: usize = 30;

/// Width of the sheet, and the space around the canvas.
const WIDTH: f64 = 1200.0;
const AROUND: f64 = 36.0;

/// The plan.
pub struct Plan {
    sheet: Sheet,
}

impl Plan {
    /// Of a placed mosaic.
    pub fn new(frames: &[Frame], placed: &Placed, under_name: &MosaicAccount) -> Self {
        let number = |name: &String| placed.panels.iter().position(|p| p.name == *name);
        let weak = under_name.overlaps.iter().filter(|o| !o.doubts.is_empty());
        let bad = weak.filter_map(|o| {
            let [a, b] = [number(&o.panels[0])?, number(&o.panels[1])?];
            Some((a.min(b), a.max(b)))
        });
        let canvas = placed.layout.canvas.size;
        let points: Vec<Point<CanvasPx>> = canvas
            .corners()
            .into_iter()
            .chain(placed.stray.iter().flat_map(|s| s.1))
            .collect();
        let mut drawing = Drawing {
            frames,
            placed,
            view: View::around(&points, placed.layout.canvas.row_order),
            bad: bad.collect(),
            lines: Vec::new(),
            words: Vec::new(),
        };
        let outline = canvas.corners().map(|p| drawing.view.place(p));
        drawing.outline(outline.to_vec(), (QUIET, 1.5), true);
        let middles: Vec<(f64, f64)> = (0..placed.panels.len()).map(|k| drawing.panel(k)).collect();
        drawing.ties(&middles);
        drawing.left_out();
        let field = placed
            .field_deg
            .map_or(String::new(), |[w, h]| format!(", {w:.2} x {h:.2} degrees"));
        let size = drawing.view.size;
        let text = format!("{} x {} pixels{field}", canvas.width(), canvas.height());
        drawing.word((0.5 * size.0, size.1 - 14.0), text, (16.0, QUIET));
        let Drawing {
            mut lines, words, ..
        } = drawing;
        // Words stand on all lines.
        lines.extend(words);
        Self {
            sheet: Sheet {
                size,
                paper: PAPER,
                marks: lines,
            },
        }
    }

    /// Of panels of which no two hang together: how their headers say that they lie. `None` where fewer than two have a WCS.
    pub fn apart(frames: &[Frame]) -> Option<Self> {
        let under_name: Vec<&Frame> = frames.iter().filter(|f| f.facts.wcs.is_some()).collect();
        let first = under_name.first()?.facts.wcs.as_ref()?;
        let outlines: Vec<(&Frame, Vec<Point<CanvasPx>>)> = under_name
            .iter()
            .filter_map(|f| {
                let own = f.facts.wcs.as_ref()?;
                let corners = f.facts.size.corners::<FramePx>();
                let places: Option<Vec<Point<CanvasPx>>> =
                    corners.iter().map(|p| first.pixel(own.sky(*p))).collect();
                Some((*f, places?))
            })
            .collect();
        if outlines.len() < 2 {
            return None;
        }
        let all: Vec<Point<CanvasPx>> = outlines.iter().flat_map(|o| o.1.clone()).collect();
        let view = View::around(&all, under_name[0].facts.row_order);
        let mut marks = Vec::new();
        for (k, (f, corners)) in outlines.iter().enumerate() {
            let places: Vec<(f64, f64)> = corners.iter().map(|p| view.place(*p)).collect();
            let middle = places
                .iter()
                .fold((0.0, 0.0), |s, p| (s.0 + 0.25 * p.0, s.1 + 0.25 * p.1));
            let colour = COLOURS[k % COLOURS.len()];
            marks.push(Mark::Line {
                points: closed(places),
                colour,
                width: 2.0,
                dashed: true,
            });
            marks.push(Mark::Text {
                at: middle,
                text: format!("{} ({})", file_name(&f.name()), f.filter.name()),
                height: 16.0,
                colour,
            });
        }
        marks.push(Mark::Text {
            at: (0.5 * view.size.0, view.size.1 - 14.0),
            text: "by their headers: no two have stars in common".to_owned(),
            height: 16.0,
            colour: STRAY,
        });
        Some(Self {
            sheet: Sheet {
                size: view.size,
                paper: PAPER,
                marks,
            },
        })
    }

    /// The drawing's text.
    pub fn svg(&self) -> String {
        self.sheet.svg("Plan of the panels")
    }

    /// As a file of its own, under a temporary name still.
    pub fn drawing(&self, path: &Path, overwrite: bool) -> Result<Unfinished, Trouble> {
        filled(path, self.svg().as_bytes(), overwrite)
    }

    /// As a picture.
    pub fn picture(&self, path: &Path, overwrite: bool) -> Result<Unfinished, Trouble> {
        let p = self.sheet.picture();
        let bytes =
            png::in_memory((p.width(), p.height()), p.rgb()).map_err(|error| Trouble::Write {
                file: path.to_owned(),
                error,
            })?;
        filled(path, &bytes, overwrite)
    }
}

/// A plan in the making.
struct Drawing<'a> {
    frames: &'a [Frame],
    placed: &'a Placed,
    view: View,
    /// Pairs of panels whose tie is weak.
    bad: Vec<(usize, usize)>,
    lines: Vec<Mark>,
    words: Vec<Mark>,
}

impl Drawing<'_> {
    fn outline(&mut self, points: Vec<(f64, f64)>, (colour, width): (Colour, f64), dashed: bool) {
        self.lines.push(Mark::Line {
            points: closed(points),
            colour,
            width,
            dashed,
        });
    }

    fn word(&mut self, at: (f64, f64), text: String, (height, colour): (f64, Colour)) {
        self.words.push(Mark::Text {
            at,
            text,
            height,
            colour,
        });
    }

    /// Corners and middles of the edges of a frame; none of one without a place.
    fn edge(&self, i: usize) -> Vec<(f64, f64)> {
        let size = self.frames[i].facts.size;
        let record = self.placed.layout.frames[i].placement.as_ref();
        let Some(placement) = record.and_then(PlacementRecord::placement) else {
            return Vec::new();
        };
        let back = placement.invert();
        let (w, h) = (size.width().real(), size.height().real());
        let around = [
            (0, 0),
            (1, 0),
            (2, 0),
            (2, 1),
            (2, 2),
            (1, 2),
            (0, 2),
            (0, 1),
        ];
        around
            .map(|(c, r)| (0.5 * w * f64::from(c) - 0.5, 0.5 * h * f64::from(r) - 0.5))
            .map(|(x, y)| self.view.place(back.apply(Point::new(x, y))))
            .to_vec()
    }

    /// Draws a panel; where its middle is.
    fn panel(&mut self, k: usize) -> (f64, f64) {
        let panel = &self.placed.panels[k];
        let colour = COLOURS[k % COLOURS.len()];
        let edges: Vec<Vec<(f64, f64)>> = panel.frames.iter().map(|i| self.edge(*i)).collect();
        let middle = middle(edges.first().map_or(&[], Vec::as_slice));
        for edge in edges {
            self.outline(edge, (colour, 2.0), false);
        }
        let reference = &self.placed.layout.reference.file;
        let is_reference = panel
            .frames
            .iter()
            .any(|i| self.frames[*i].name() == *reference);
        let note = if is_reference { " (reference)" } else { "" };
        let name = format!("{}{note}", panel.name);
        self.word((middle.0, middle.1 - 14.0), name, (24.0, colour));
        self.words
            .extend(under_name(self.frames, self.placed, k, middle));
        middle
    }

    fn ties(&mut self, middles: &[(f64, f64)]) {
        for ((p, q), (stars, part)) in ties(self.frames, self.placed) {
            let (a, b) = (middles[p], middles[q]);
            let bad = self.bad.contains(&(p, q));
            let (colour, width) = match (bad, stars < FEW) {
                (true, _) => (BAD, 3.0),
                (false, true) => (WEAK, 1.2),
                (false, false) => (TIED, 1.2),
            };
            // From a little outside of the names to a little before the tie's own words, so that all stay free.
            let at = |t: f64| (a.0 + t * (b.0 - a.0), a.1 + t * (b.1 - a.1));
            let words = if across(a, b) { 0.36 } else { 0.5 };
            let half = 0.5 * free_of_words(a, b);
            for (from, to) in [(0.25, words - half), (words + half, 0.75)] {
                if from < to {
                    self.lines.push(Mark::Line {
                        points: vec![at(from), at(to)],
                        colour,
                        width,
                        dashed: stars < FEW && !bad,
                    });
                }
            }
            // Ties across a corner cross: their words stand aside.
            let place = at(words);
            self.word(
                place,
                format!("{stars} stars, {:.0} %", 100.0 * part),
                (16.0, colour),
            );
        }
    }

    /// Frames that are left out: where their headers say, or else in a list.
    fn left_out(&mut self) {
        let placed = self.placed;
        let text = |i: usize| format!("left out: {}", file_name(&self.frames[i].name()));
        let under_name: Vec<(Vec<(f64, f64)>, String)> = placed
            .stray
            .iter()
            .map(|(i, corners)| (corners.map(|p| self.view.place(p)).to_vec(), text(*i)))
            .collect();
        let drawn = |i: &usize| {
            placed.stray.iter().any(|s| s.0 == *i)
                || placed.panels.iter().any(|p| p.frames.contains(i))
        };
        let rest: Vec<String> = (0..self.frames.len())
            .filter(|i| !drawn(i))
            .take(6)
            .map(text)
            .collect();
        for (places, text) in under_name {
            self.word(middle(&places), text, (16.0, STRAY));
            self.outline(places, (STRAY, 1.5), true);
        }
        for (n, text) in rest.into_iter().enumerate() {
            let at = (0.5 * self.view.size.0, 16.0 + 17.0 * n.real());
            self.word(at, text, (16.0, STRAY));
        }
    }
}

fn middle(points: &[(f64, f64)]) -> (f64, f64) {
    let n = points.len().max(1).real();
    let sum = points
        .iter()
        .fold((0.0, 0.0), |s, p| (s.0 + p.0, s.1 + p.1));
    (sum.0 / n, sum.1 / n)
}

/// The part of a tie between two middles that its words cover: more where it runs along them.
fn free_of_words(a: (f64, f64), b: (f64, f64)) -> f64 {
    let (dx, dy) = ((b.0 - a.0).abs(), (b.1 - a.1).abs());
    let length = dx.hypot(dy).max(1.0);
    let covered = if dx > 4.0 * dy {
        WORDS_PX.0
    } else {
        WORDS_PX.1
    };
    (covered / length).min(0.4)
}

/// Pixels that a tie's words cover along a level tie, and along others.
const WORDS_PX: (f64, f64) = (150.0, 34.0);

/// Do two middles lie askew to each other?
fn across(a: (f64, f64), b: (f64, f64)) -> bool {
    let (dx, dy) = ((b.0 - a.0).abs(), (b.1 - a.1).abs());
    dx.min(dy) > 0.3 * dx.max(dy)
}

/// The first point once more at the end.
fn closed(mut points: Vec<(f64, f64)>) -> Vec<(f64, f64)> {
    points.extend(points.first().copied());
    points
}

/// What stands under a panel's name: filters, turns, and how its own frames are tied.
fn under_name(frames: &[Frame], placed: &Placed, k: usize, (x, y): (f64, f64)) -> Vec<Mark> {
    let panel = &placed.panels[k];
    let turn = |i: usize| {
        let record = placed.layout.frames[i].placement.as_ref();
        record.map_or(0.0, |r| {
            (r.described.rotation_deg * 100.0).round() / 100.0 + 0.0
        })
    };
    // More than a few frames would fill the panel.
    let mut lines: Vec<String> = panel
        .frames
        .iter()
        .take(4)
        .map(|i| format!("{} {:+.2} deg", frames[*i].filter.name(), turn(*i)))
        .collect();
    if panel.frames.len() > 4 {
        lines.push(format!("and {} more", panel.frames.len() - 4));
    }
    let within = placed
        .ties
        .iter()
        .filter(|t| panel.frames.contains(&t.a) && panel.frames.contains(&t.b))
        .map(|t| t.stars)
        .min();
    if let Some(stars) = within {
        lines.push(format!("{stars} stars in common"));
    }
    lines
        .into_iter()
        .enumerate()
        .map(|(n, text)| Mark::Text {
            at: (x, y + 10.0 + 17.0 * n.real()),
            text,
            height: 16.0,
            colour: WORDS,
        })
        .collect()
}

/// Stars that two panels share in all filters together, and the largest part of a frame that lies on the other.
fn ties(frames: &[Frame], placed: &Placed) -> BTreeMap<(usize, usize), (usize, f64)> {
    let panel_of = |i: usize| placed.panels.iter().position(|p| p.frames.contains(&i));
    let mut all: BTreeMap<(usize, usize), (usize, f64)> = BTreeMap::new();
    for t in &placed.ties {
        let (Some(p), Some(q)) = (panel_of(t.a), panel_of(t.b)) else {
            continue;
        };
        if p == q {
            continue;
        }
        let placement = |i: usize| {
            placed.layout.frames[i]
                .placement
                .as_ref()
                .and_then(PlacementRecord::placement)
        };
        let part = placement(t.a).zip(placement(t.b)).map_or(0.0, |(a, b)| {
            share(&a, frames[t.a].facts.size, &b, frames[t.b].facts.size)
        });
        let one = all.entry((p.min(q), p.max(q))).or_default();
        *one = (one.0 + t.stars, one.1.max(part));
    }
    all
}

/// From the canvas to the sheet, the way up that pictures are shown.
pub struct View {
    low: (f64, f64),
    scale: f64,
    pub size: (f64, f64),
    order: RowOrder,
}

impl View {
    fn around(points: &[Point<CanvasPx>], order: RowOrder) -> Self {
        let fold = |f: fn(f64, f64) -> f64, of: fn(&Point<CanvasPx>) -> f64| {
            points.iter().map(of).reduce(f).unwrap_or(0.0)
        };
        let (x0, x1) = (fold(f64::min, |p| p.x), fold(f64::max, |p| p.x));
        let (y0, y1) = (fold(f64::min, |p| p.y), fold(f64::max, |p| p.y));
        let (w, h) = ((x1 - x0).max(1.0), (y1 - y0).max(1.0));
        // Tall fields are drawn smaller, so that the sheet stays one.
        let scale = ((WIDTH - 2.0 * AROUND) / w).min(1400.0 / h);
        Self {
            low: (x0, y0),
            scale,
            size: (
                (w * scale + 2.0 * AROUND).round(),
                (h * scale + 2.0 * AROUND).round(),
            ),
            order,
        }
    }

    /// A place on the sheet.
    pub fn place(&self, p: Point<CanvasPx>) -> (f64, f64) {
        let (x, y) = (
            (p.x - self.low.0) * self.scale,
            (p.y - self.low.1) * self.scale,
        );
        let y = match self.order {
            RowOrder::BottomUp => self.size.1 - 2.0 * AROUND - y,
            RowOrder::TopDown => y,
        };
        (x + AROUND, y + AROUND)
    }
}
