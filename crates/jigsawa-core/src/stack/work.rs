//! One group's part of one band: averaged ([`averages`](super::averages)), judged ([`outliers`](super::outliers)), and
//! handed out.

use super::column::{Column, Usual};
use super::rejected::BLOCK;
use super::residuals::Sums;
use super::stacked::{Group, Pass, Stacked};
use super::streak::Streak;
use super::strip::{STRIP, present};
use crate::merge::{Band, ROWS};
use crate::number::Convert;
use crate::space::Rect;

/// Neighbours that tell how light changes, to each side.
pub(super) const CHANGE: usize = 1;

/// Pixels to each side of a rejected one whose values go as well, from half of their limit on: flanks of a trail are fainter
/// than its middle, and resampling has spread a hot pixel's light.
pub(super) const BESIDE: usize = 2;

/// Pixels around a band that bear on it.
pub(super) const REACH: usize = CHANGE + BESIDE;

/// A rejected value: its pixel in the band with what is around it, its frame in the group, and whether it is too high.
pub(super) type Gone = (usize, u32, bool);

/// What is known of a band's pixels, those around included; memory is kept from band to band.
#[derive(Debug, Default)]
pub(super) struct Known {
    /// What the change of light is taken from.
    pub(super) centre: Vec<f32>,
    pub(super) mean: Vec<f32>,
    pub(super) count: Vec<f32>,
    pub(super) error: Vec<f32>,
    /// Pixels with values far from their mean, and what is usual among these.
    pub(super) unsure: Vec<(usize, Usual)>,
    pub(super) rejected: Vec<Gone>,
    pub(super) column: Column,
    /// Sums of the residuals of a cell, for each frame.
    pub(super) sums: Vec<Sums>,
    /// Values of frames whose streaks touch the band, without these.
    pub(super) without: Vec<Vec<f32>>,
}

/// A group's part of a band.
pub(super) struct Work<'a> {
    pub(super) group: &'a Group,
    pub(super) band: &'a Band<'a>,
    pub(super) values: &'a [&'a [f32]],
    pub(super) around: Rect,
    pub(super) stacked: &'a Stacked,
}

// A block of the picture of what is rejected is one band's.
const _: () = assert!(BLOCK == ROWS);

/// The middle of a place's cell of the canvas. Within such cells, as long as a strip, as high as a band at the least, a frame's noise is one
/// and its values count the same.
pub(super) fn middle_of_cell(x: i64, y: i64) -> (f32, f32) {
    let middle = |at: i64, side: usize| {
        let cell = at.div_euclid(side.whole());
        (cell.single() + 0.5) * side.single()
    };
    (middle(x, STRIP), middle(y, ROWS))
}

/// The cells of a rectangle, cut where it ends.
pub(super) fn cells(rect: Rect) -> impl Iterator<Item = Rect> {
    let cuts = |from: i64, to: i64, side: usize| {
        let next = move |at: i64| ((at.div_euclid(side.whole()) + 1) * side.whole()).min(to);
        let starts = std::iter::successors(Some(from), move |at| Some(next(*at)));
        starts
            .take_while(move |at| *at < to)
            .map(move |at| (at, next(at)))
    };
    let rows = cuts(rect.y, rect.bottom(), ROWS);
    rows.flat_map(move |(y, bottom)| {
        cuts(rect.x, rect.right(), STRIP).map(move |(x, right)| Rect {
            x,
            y,
            width: (right - x).index(),
            height: (bottom - y).index(),
        })
    })
}

impl Work<'_> {
    pub(super) fn run(&self, known: &mut Known, out: &mut [&mut [f32]]) {
        self.averages(known);
        self.reject(known);
        let (around, reach) = (self.around, self.band.reach);
        let (width, height) = (self.band.rect.width, self.band.rect.height);
        for y in 0..height {
            let from = (y + reach) * around.width + reach;
            let here = y * width..(y + 1) * width;
            for (o, plane) in [(0, &known.mean), (1, &known.count), (4, &known.error)] {
                out[o][here.clone()].copy_from_slice(&plane[from..from + width]);
            }
            out[2][here.clone()].fill(0.0);
            out[3][here].fill(0.0);
        }
        self.count(known);
        self.without(known, out);
        match &self.stacked.pass {
            Pass::First(residuals) => self.residuals(known, residuals),
            Pass::Without(streaks) => self.add_streaks(streaks, out),
        }
    }

    /// The noise of a frame's sky at a place of the canvas.
    pub(super) fn sigma(&self, frame: usize, x: i64, y: i64) -> f32 {
        let (x, y) = middle_of_cell(x, y);
        self.group.lights[frame].noise.at(x, y)
    }

    /// How much a frame's values count at a place of the canvas.
    pub(super) fn weight(&self, frame: usize, x: i64, y: i64) -> f32 {
        let (x, y) = middle_of_cell(x, y);
        self.group.lights[frame].weight_at(x, y)
    }

    /// Where a pixel lies on the canvas.
    pub(super) fn on_canvas(&self, at: usize) -> (i64, i64) {
        let (x, y) = (at % self.around.width, at / self.around.width);
        (self.around.x + x.whole(), self.around.y + y.whole())
    }

    /// Counts the values that are there, and begins to count those that are rejected.
    fn count(&self, known: &Known) {
        let (reach, rect) = (self.band.reach, self.band.rect);
        let inside = |row: usize| {
            let from = (row + reach) * self.around.width + reach;
            from..from + rect.width
        };
        let all = self.values.len().single();
        let is_whole = |row: usize| known.count[inside(row)].iter().all(|c| *c == all);
        // Mostly every frame has a value in every pixel.
        let (whole, holed): (Vec<usize>, Vec<usize>) = (0..rect.height).partition(|r| is_whole(*r));
        let rejected = &self.stacked.rejected;
        for (k, values) in self.values.iter().enumerate() {
            let input = self.group.inputs.start + k;
            rejected.again(input, rect);
            if let Pass::First(_) = self.stacked.pass {
                let of_holed: u32 = holed.iter().map(|row| present(&values[inside(*row)])).sum();
                let there = (whole.len() * rect.width).u64() + u64::from(of_holed);
                rejected.seen(input, there);
            }
        }
    }

    /// Pixels with rejected values once more, without these.
    fn without(&self, known: &mut Known, out: &mut [&mut [f32]]) {
        let rect = self.band.rect;
        let mut all = &known.rejected[..];
        while let Some((at, ..)) = all.first().copied() {
            let these = all.partition_point(|r| r.0 == at);
            let (here, rest) = all.split_at(these);
            all = rest;
            let (x, y) = self.on_canvas(at);
            let inside = x >= rect.x && y >= rect.y && x < rect.right() && y < rect.bottom();
            let Some(mean) = self.mean_without(at, here).filter(|_| inside) else {
                continue;
            };
            let to = (y - rect.y).index() * rect.width + (x - rect.x).index();
            let high = here.iter().filter(|r| r.2).count();
            known.mean[at] = mean;
            out[0][to] = mean;
            out[1][to] -= here.len().single();
            out[2][to] = (here.len() - high).single();
            out[3][to] = high.single();
            out[4][to] = self.error_without(at, mean, here);
            for (_, k, _) in here {
                let frame = self.group.inputs.start + k.index();
                self.stacked.rejected.put(frame, (x.index(), y.index()));
            }
        }
    }

    /// The weighted mean of a pixel's values but those of some frames; none where all are among these.
    pub(super) fn mean_without(&self, at: usize, rejected: &[Gone]) -> Option<f32> {
        let (x, y) = self.on_canvas(at);
        let (mut sum, mut weight) = (0.0f32, 0.0f32);
        for (k, values) in self.values.iter().enumerate() {
            let v = values[at];
            if v.is_finite() && rejected.iter().all(|r| r.1.index() != k) {
                let w = self.weight(k, x, y);
                sum += w * v;
                weight += w;
            }
        }
        (weight > 0.0).then(|| sum / weight)
    }

    /// Standard error of a pixel's mean without some frames.
    fn error_without(&self, at: usize, mean: f32, rejected: &[Gone]) -> f32 {
        let (x, y) = self.on_canvas(at);
        let (mut variance, mut weight) = (0.0f32, 0.0f32);
        for (k, light) in self.group.lights.iter().enumerate() {
            if self.values[k][at].is_finite() && rejected.iter().all(|r| r.1.index() != k) {
                let of = light.variance(self.sigma(k, x, y), mean - self.group.sky);
                let w = self.weight(k, x, y);
                variance += w * w * of;
                weight += w;
            }
        }
        variance.sqrt() / weight
    }

    /// Counts what streaks cover as rejected above.
    fn add_streaks(&self, streaks: &[Vec<Streak>], out: &mut [&mut [f32]]) {
        let (reach, rect) = (self.band.reach, self.band.rect);
        let span = |s: &Streak, y: i64| s.span(y, rect).unwrap_or_default();
        for input in self.group.inputs.clone() {
            let streaks = &streaks[input];
            let original = self.band.runs.values[input];
            for (row, y) in (rect.y..rect.bottom()).enumerate() {
                for (n, streak) in streaks.iter().enumerate() {
                    let first = |x: &usize| !streaks[..n].iter().any(|s| span(s, y).contains(x));
                    for x in span(streak, y).filter(first) {
                        let at = (row + reach) * self.around.width + x + reach;
                        if original[at].is_finite() {
                            out[3][row * rect.width + x] += 1.0;
                            let column = rect.x.index() + x;
                            self.stacked.rejected.put(input, (column, y.index()));
                        }
                    }
                }
            }
        }
    }
}
