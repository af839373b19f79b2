//! A colour camera's frame as a plane of one colour: the colour's own pixels as they are, the others made up from what lies
//! around them.
//!
//! Green first: the mean of its four neighbours, and the bend that they miss by what the pixel's own colour bends there
//! (Malvar, He & Cutler 2004, ICASSP 3, 485), times how much green goes with that colour around (a local regression as in
//! Kiku, Monno, Tanaka & Okutomi 2013, ICIP, 2304): all of it in a white star, nothing where a red one stands on an even
//! green sky. Red and blue then follow green in the same way. No direction is preferred: the sky has no edges, and choosing
//! one by the steps around a star moves its light from one colour to another (5 % of it, tried).

use std::cell::RefCell;

use multiversion::multiversion;

use super::pattern::{Colour, Pattern};
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::space::{Rect, Size};

/// One colour of a frame, at every pixel.
pub struct Interpolated<S> {
    /// The frame, calibrated.
    pub source: S,
    /// Colours before its pixels.
    pub pattern: Pattern,
    /// The colour that is wanted.
    pub colour: Colour,
}

/// How far apart pixels of red, or of blue, are.
const STEP: usize = 2;

/// A regression takes in so many of them to each side: fewer follow the shape of a single star, and move its light from one
/// colour to another (3 % of it with one, 1 % with two).
const SIDE: usize = 2;
const SITES: usize = 2 * SIDE + 1;

/// Pixels around a window that are needed: those around a neighbour's regression, and those around each of them.
const AROUND: usize = 1 + SIDE * STEP;
const MARGIN: usize = AROUND + STEP;

/// Green goes with another colour no stronger than this: beyond, noise has made the slope.
const STEEPEST: f32 = 5.0;

/// Memory of a window, kept from one to the next.
#[derive(Default)]
struct Scratch {
    values: Vec<f32>,
    /// The same with what lies beyond the frame's edge.
    whole: Rows,
    /// Of the red and blue pixels of each row, one after another: green as the mean of their four, their colour made as
    /// wide by its own four, and the bend that a mean of four misses.
    greens: Rows,
    colours: Rows,
    bends: Rows,
    /// The colour for a unit of green at each of them, 0 at green ones.
    slopes: Rows,
    green: Rows,
    sums: Sums,
}

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

impl<S: FrameSource> FrameSource for Interpolated<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        if rect.is_empty() {
            return Ok(());
        }
        SCRATCH.with_borrow_mut(|scratch| {
            let wide = rect.grown(MARGIN).intersect(self.size().rect());
            scratch.values.resize(wide.area(), 0.0);
            self.source.read(wide, &mut scratch.values)?;
            scratch.whole.reset(rect.grown(MARGIN));
            mirrored(&scratch.values, wide, self.size(), &mut scratch.whole);
            scratch.follow_pairs(rect, self.pattern);
            scratch.follow_green(rect, self.pattern);
            let window = Window {
                values: &scratch.whole,
                green: &scratch.green,
                slopes: &scratch.slopes,
                pattern: self.pattern,
            };
            for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width)) {
                window.row(y, rect.x, self.colour, row);
            }
            Ok(())
        })
    }
}

/// Values of a rectangle, row after row.
struct Rows {
    rect: Rect,
    data: Vec<f32>,
}

impl Default for Rows {
    fn default() -> Self {
        let rect = Rect {
            x: 0,
            y: 0,
            width: 0,
            height: 0,
        };
        Self {
            rect,
            data: Vec::new(),
        }
    }
}

impl Rows {
    /// Of another rectangle; its values are any.
    fn reset(&mut self, rect: Rect) {
        self.rect = rect;
        self.data.resize(rect.area(), 0.0);
    }

    /// A row, from a column on.
    fn from(&self, x: i64, y: i64) -> &[f32] {
        let row = (y - self.rect.y).index() * self.rect.width;
        &self.data[row + (x - self.rect.x).index()..row + self.rect.width]
    }

    fn row_mut(&mut self, y: i64) -> &mut [f32] {
        let row = (y - self.rect.y).index() * self.rect.width;
        &mut self.data[row..row + self.rect.width]
    }

    fn at(&self, x: i64, y: i64) -> f32 {
        self.from(x, y)[0]
    }
}

/// Copies what was read, and puts beyond a frame's edge the pixel as far inside, which has the same colour.
fn mirrored(read: &[f32], from: Rect, size: Size, to: &mut Rows) {
    let inside = |v: i64, n: i64| {
        let v = v.abs();
        let v = if v >= n { 2 * (n - 1) - v } else { v };
        v.clamp(0, n - 1)
    };
    let all = to.rect;
    for y in all.y..all.bottom() {
        let row = (inside(y, size.height().whole()) - from.y).index() * from.width;
        let row = &read[row..row + from.width];
        let out = to.row_mut(y);
        let first = (from.x - all.x).index();
        out[first..first + from.width].copy_from_slice(row);
        for x in (all.x..from.x).chain(from.right()..all.right()) {
            let at = inside(x, size.width().whole()) - from.x;
            out[(x - all.x).index()] = row[at.index()];
        }
    }
}

/// The first column from `x` on that is red or blue in a row.
fn first_site(pattern: Pattern, x: i64, y: i64) -> i64 {
    x + i64::from(pattern.at(x, y) == 1)
}

impl Scratch {
    /// What is needed of each red and blue pixel around a window.
    fn follow_pairs(&mut self, rect: Rect, pattern: Pattern) {
        let around = rect.grown(AROUND);
        let compact = Rect {
            width: around.width.div_ceil(STEP),
            ..around
        };
        for rows in [&mut self.greens, &mut self.colours, &mut self.bends] {
            rows.reset(compact);
        }
        for y in around.y..around.bottom() {
            let x = first_site(pattern, around.x, y);
            let sites = (around.right() - x).index().div_ceil(STEP);
            let near = [-2, -1, 0, 1, 2].map(|dy| self.whole.from(x - 2, y + dy));
            pairs(
                near,
                &mut self.greens.row_mut(y)[..sites],
                &mut self.colours.row_mut(y)[..sites],
                &mut self.bends.row_mut(y)[..sites],
            );
        }
    }

    /// Green at each pixel around a window, and how the other colours go with it.
    fn follow_green(&mut self, rect: Rect, pattern: Pattern) {
        let near = rect.grown(1);
        self.slopes.reset(near);
        self.green.reset(near);
        for y in near.y..near.bottom() {
            let first = first_site(pattern, near.x, y);
            let sites = (near.right() - first).index().div_ceil(STEP);
            // Columns around a window are of the same colours two sites before it.
            let rows: [i64; SITES] =
                std::array::from_fn(|j| y + (STEP * j).whole() - (STEP * SIDE).whole());
            let left = self.greens.rect.x;
            let greens = rows.map(|y| self.greens.from(left, y));
            let colours = rows.map(|y| self.colours.from(left, y));
            self.sums.measure(greens, colours, sites);
            let bends = &self.bends.from(left, y)[SIDE..][..sites];
            let green = self.green.row_mut(y);
            green.copy_from_slice(&self.whole.from(near.x, y)[..near.width]);
            let slopes = self.slopes.row_mut(y);
            slopes.fill(0.0);
            let own = &greens[SIDE][SIDE..][..sites];
            for t in 0..sites {
                let x = (first - near.x).index() + STEP * t;
                green[x] = own[t] + self.sums.green[t] * bends[t];
                slopes[x] = self.sums.colour[t];
            }
        }
    }
}

/// Green as the mean of its four, the colour made as wide, and the bend that a mean of four misses of a pixel's own colour,
/// were that known there: its bend over a distance of two, a quarter of which is that over one, in both directions. The
/// five rows begin two columns before the first pixel; every second column counts.
#[multiversion(targets("x86_64+avx2"))]
fn pairs(near: [&[f32]; 5], greens: &mut [f32], colours: &mut [f32], bends: &mut [f32]) {
    let [up2, up, own, down, down2] = near;
    for (t, ((g, c), b)) in greens.iter_mut().zip(colours).zip(bends).enumerate() {
        let x = STEP * t + 2;
        let v = own[x];
        let far = own[x - 2] + own[x + 2] + up2[x] + down2[x];
        *g = 0.25 * (own[x - 1] + own[x + 1] + up[x] + down[x]);
        *c = 0.75 * v + 0.0625 * far;
        *b = 0.25 * (v - 0.25 * far);
    }
}

/// Regressions of green on a colour and of the colour on green around the red or blue pixels of a row. What is missing, or
/// does not differ, tells nothing.
#[derive(Default)]
struct Sums {
    all: [Vec<f32>; 5],
    /// Green for a unit of the colour.
    green: Vec<f32>,
    /// The colour for a unit of green.
    colour: Vec<f32>,
}

impl Sums {
    fn measure(&mut self, greens: [&[f32]; SITES], colours: [&[f32]; SITES], sites: usize) {
        for sum in &mut self.all {
            sum.clear();
            sum.resize(sites, 0.0);
        }
        self.green.resize(sites, 0.0);
        self.colour.resize(sites, 0.0);
        // From the middle one's: sums of squares of a bright sky would lose what differs.
        let middle = (&greens[SIDE][SIDE..], &colours[SIDE][SIDE..]);
        for (g, c) in greens.iter().zip(&colours) {
            add_row((g, c), middle, self.all.each_mut().map(Vec::as_mut_slice));
        }
        let sums = self.all.each_ref().map(Vec::as_slice);
        divide(sums, &mut self.green, &mut self.colour);
    }
}

/// Adds what five pixels of a row differ by from the middle one, and the products of that: of green, of the colour, green
/// squared, both, the colour squared.
#[multiversion(targets("x86_64+avx2"))]
fn add_row(row: (&[f32], &[f32]), middle: (&[f32], &[f32]), sums: [&mut [f32]; 5]) {
    let [sg, sc, gg, gc, cc] = sums;
    let n = sg.len();
    let (sc, gg, gc, cc) = (&mut sc[..n], &mut gg[..n], &mut gc[..n], &mut cc[..n]);
    let (g0, c0) = (&middle.0[..n], &middle.1[..n]);
    let (g, c) = (&row.0[..n + SITES - 1], &row.1[..n + SITES - 1]);
    for t in 0..n {
        let (mut a, mut b, mut d, mut e, mut f) = (sg[t], sc[t], gg[t], gc[t], cc[t]);
        for i in 0..SITES {
            let (dg, dc) = (g[t + i] - g0[t], c[t + i] - c0[t]);
            a += dg;
            b += dc;
            d += dg * dg;
            e += dg * dc;
            f += dc * dc;
        }
        (sg[t], sc[t], gg[t], gc[t], cc[t]) = (a, b, d, e, f);
    }
}

/// The slopes that sums tell.
#[multiversion(targets("x86_64+avx2"))]
fn divide(sums: [&[f32]; 5], green: &mut [f32], colour: &mut [f32]) {
    let n = (SITES * SITES).single();
    let slope = |both: f32, of: f32| {
        let k = both / of;
        if k.is_finite() && of > 0.0 {
            k.clamp(0.0, STEEPEST)
        } else {
            0.0
        }
    };
    let [sg, sc, gg, gc, cc] = sums;
    for (t, (green, colour)) in green.iter_mut().zip(colour).enumerate() {
        let both = gc[t] - sg[t] * sc[t] / n;
        *green = slope(both, cc[t] - sc[t] * sc[t] / n);
        *colour = slope(both, gg[t] - sg[t] * sg[t] / n);
    }
}

/// What is known around a window.
struct Window<'a> {
    values: &'a Rows,
    green: &'a Rows,
    slopes: &'a Rows,
    pattern: Pattern,
}

/// Rows around one, each from a column before the first: values, green, slopes.
type Around<'a> = [[&'a [f32]; 3]; 3];

impl Window<'_> {
    /// A row of a colour.
    fn row(&self, y: i64, x: i64, colour: Colour, out: &mut [f32]) {
        if colour == 1 {
            out.copy_from_slice(&self.green.from(x, y)[..out.len()]);
        } else {
            let all = [self.values, self.green, self.slopes];
            let rows: Around<'_> = all.map(|rows| [-1, 0, 1].map(|dy| rows.from(x - 1, y + dy)));
            // Is the first pixel red or blue, and are those of its row of the colour?
            let odd = usize::from(self.pattern.at(x, y) == 1);
            let own = self.pattern.at(x + odd.whole(), y) == colour;
            if own {
                beside(&rows, odd, out);
            } else {
                between(&rows, odd, out);
            }
        }
        for (x, o) in (x..).zip(out) {
            if !o.is_finite() {
                *o = self.with_some(x, y, colour);
            }
        }
    }

    /// Where some of what is needed is missing: red or blue by those that are there, or the mean of those farther around.
    fn with_some(&self, x: i64, y: i64, colour: Colour) -> f32 {
        let v = if colour == 1 {
            f32::NAN
        } else {
            self.following(x, y, colour)
        };
        if v.is_finite() {
            v
        } else {
            self.near(x, y, colour)
        }
    }

    /// Red or blue: as much of green as it goes with, and what it differs from that by around.
    fn following(&self, x: i64, y: i64, colour: Colour) -> f32 {
        if self.pattern.at(x, y) == colour {
            return self.values.at(x, y);
        }
        let mut around = [(0.0f32, 0.0f32); 4];
        let (mut n, mut sum) = (0, 0.0);
        for dy in -1..=1 {
            for dx in -1..=1 {
                let (px, py) = (x + dx, y + dy);
                if self.pattern.at(px, py) == colour {
                    let pair = (self.values.at(px, py), self.green.at(px, py));
                    if (pair.0 + pair.1).is_finite() {
                        around[n] = pair;
                        sum += self.slopes.at(px, py);
                        n += 1;
                    }
                }
            }
        }
        let slope = sum / n.single();
        let rest: f32 = around[..n].iter().map(|(c, g)| c - slope * g).sum();
        slope * self.green.at(x, y) + rest / n.single()
    }

    /// The mean of the pixels of a colour around one, where some are missing.
    fn near(&self, x: i64, y: i64, colour: Colour) -> f32 {
        let (mut sum, mut n) = (0.0, 0.0);
        for dy in -2..=2 {
            for dx in -2..=2 {
                let v = self.values.at(x + dx, y + dy);
                if self.pattern.at(x + dx, y + dy) == colour && v.is_finite() {
                    sum += v;
                    n += 1.0;
                }
            }
        }
        if n > 0.0 { sum / n } else { f32::NAN }
    }
}

/// A colour in a row that has pixels of it: those, and between them what the two beside tell. `odd` is the first pixel of it.
#[multiversion(targets("x86_64+avx2"))]
fn beside(rows: &Around<'_>, odd: usize, out: &mut [f32]) {
    let n = out.len();
    let [values, green, slopes] = rows.map(|three| &three[1][..n + 2]);
    for x in 0..n {
        let slope = 0.5 * (slopes[x] + slopes[x + 2]);
        let rest = (values[x] - slope * green[x]) + (values[x + 2] - slope * green[x + 2]);
        let made = slope * green[x + 1] + rest / 2.0;
        out[x] = if x & 1 == odd { values[x + 1] } else { made };
    }
}

/// A colour in a row without pixels of it: by those above and below green ones, and by the four across elsewhere.
#[multiversion(targets("x86_64+avx2"))]
fn between(rows: &Around<'_>, odd: usize, out: &mut [f32]) {
    let n = out.len();
    let [[va, _, vb], [ga, own, gb], [sa, _, sb]] =
        rows.map(|three| three.map(|row| &row[..n + 2]));
    for x in 0..n {
        let slope = 0.5 * (sa[x + 1] + sb[x + 1]);
        let rest = (va[x + 1] - slope * ga[x + 1]) + (vb[x + 1] - slope * gb[x + 1]);
        let upright = slope * own[x + 1] + rest / 2.0;
        let slope = (sa[x] + sa[x + 2] + sb[x] + sb[x + 2]) / 4.0;
        let rest = (va[x] - slope * ga[x])
            + (va[x + 2] - slope * ga[x + 2])
            + (vb[x] - slope * gb[x])
            + (vb[x + 2] - slope * gb[x + 2]);
        let across = slope * own[x + 1] + rest / 4.0;
        out[x] = if x & 1 == odd { across } else { upright };
    }
}

#[cfg(test)]
mod tests;
