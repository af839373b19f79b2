//! Places without data that carry a number: black borders and holes, as stacking leaves them where no sub-frame lay.
//!
//! Such a place has one exact value, mostly zero, and hangs together with the frame's edge. A sample of rows tells
//! whether a frame may have one; only then all of it is read once, row by row, and runs of the value are joined to
//! regions (two-pass labelling with union-find: Rosenfeld & Pfaltz 1966, J. ACM 13, 471). A region is blank where it
//! touches the edge along a straight line and is solid: a sky that was cut off at zero, or counted in coarse steps, has
//! ragged clusters of one value instead, and a star that is full has neighbours below it. Holes of the same value
//! count, too. Missing values (NaN) connect. What this program has written itself has no such places.

use jigsawa_core::number::Convert;
use jigsawa_core::space::{Rect, Size};
use multiversion::multiversion;
use rayon::prelude::*;

use crate::error::FileError;

/// A straight line of so many equal pixels along an edge is no chance: half of all pixels may have one value, and a
/// frame of 24 megapixels still has none by chance.
const STRAIGHT: usize = 32;

/// A border of one or two pixels shows in this share of the sampled rows.
const OFTEN: f32 = 0.25;

/// So many pixels beside the ends of a row tell how frequent a value is there by chance; the sky farther in may be brighter.
const NEAR: usize = 256;

/// Pixel sides that face data, for each pixel of a region: a block of 5 x 5 has 0.8, clusters of chance 1 and more.
const RAGGED_BORDER: f64 = 0.6;
const RAGGED_HOLE: f64 = 0.8;

/// A border this thin is all edge, and ragged by nature.
const THIN: usize = 3;

/// Smallest hole.
const LEAST_HOLE: usize = 25;

/// More runs than this are no border but a sky of few values.
const MOST_RUNS: usize = 4_000_000;

/// More of a frame is no border.
const MOST: f32 = 0.85;

/// Values that are looked into.
const MOST_VALUES: usize = 3;

/// What has no data in a plane.
#[derive(Debug)]
pub(super) struct Blank {
    /// Runs of pixels, first and end (exclusive), row after row.
    runs: Vec<(u32, u32)>,
    /// Where each row's runs begin, and the end of all.
    rows: Vec<u32>,
    /// The part of all pixels.
    pub(super) share: f32,
    /// The value that they have.
    pub(super) value: f32,
}

/// Values that may stand for no data, by some rows of a plane.
pub(super) fn suspects(sample: &[f32], width: usize) -> Vec<f32> {
    let rows = (sample.len() / width).max(1).single();
    let straight = STRAIGHT.min(width / 4).max(4);
    let mut ends: Vec<End> = Vec::new();
    for row in sample.chunks_exact(width) {
        let run = |v: f32, values: &mut dyn Iterator<Item = &f32>| {
            // What is missing already says nothing of the value beside it.
            let run = values.take_while(|x| **x == v || x.is_nan());
            run.filter(|x| **x == v).count()
        };
        let first = row.iter().find(|v| !v.is_nan());
        let last = row.iter().rev().find(|v| !v.is_nan());
        for (v, length) in [
            first.map(|v| (*v, run(*v, &mut row.iter()))),
            last.map(|v| (*v, run(*v, &mut row.iter().rev()))),
        ]
        .into_iter()
        .flatten()
        {
            if !ends.iter().any(|e| e.value == v) {
                ends.push(End {
                    value: v,
                    count: 0.0,
                    is_straight: false,
                });
            }
            for e in ends.iter_mut().filter(|e| e.value == v) {
                e.count += if length >= straight { rows } else { 1.0 };
                e.is_straight |= length >= straight;
            }
        }
    }
    ends.retain(|e| e.count > OFTEN * rows);
    ends.retain(|e| e.is_straight || !e.is_chance(sample, width));
    ends.sort_by(|a, b| b.count.total_cmp(&a.count));
    ends.truncate(MOST_VALUES);
    ends.into_iter().map(|e| e.value).collect()
}

/// A value that rows begin or end with.
struct End {
    value: f32,
    /// How many of them, a long run counting as all.
    count: f32,
    /// Is it in a long run anywhere?
    is_straight: bool,
}

impl End {
    /// Is it nearly as frequent in what lies beside the ends? Then it is one of the few values of a sky in coarse counts.
    fn is_chance(&self, sample: &[f32], width: usize) -> bool {
        let near = NEAR.min(width / 2);
        let rows = sample.chunks_exact(width);
        let beside = rows.flat_map(|row| row[..near].iter().chain(&row[width - near..]));
        let (mut there, mut alike) = (0usize, 0usize);
        for v in beside.filter(|v| !v.is_nan()) {
            there += 1;
            alike += usize::from(*v == self.value);
        }
        let ends = 2.0 * (sample.len() / width).single();
        alike.single() / there.max(1).single() > 0.5 * self.count / ends
    }
}

/// The smallest step between values of a sample: 1 for counts, next to nothing for floats.
fn quantum(sample: &[f32]) -> f32 {
    let mut some: Vec<f32> = sample.iter().copied().filter(|v| v.is_finite()).collect();
    let stride = (some.len() / 8192).max(1);
    some = some.into_iter().step_by(stride).collect();
    some.sort_unstable_by(f32::total_cmp);
    let steps = some.windows(2).map(|w| w[1] - w[0]).filter(|d| *d > 0.0);
    let least = steps.fold(f32::INFINITY, f32::min);
    if least.is_finite() { least } else { 0.0 }
}

/// Looks for the places of a plane that have no data but one of these values. `read` gives rows from one on.
///
/// # Errors
/// What `read` says.
pub(super) fn find(
    size: Size,
    sample: &[f32],
    values: &[f32],
    read: impl Fn(Rect, &mut [f32]) -> Result<(), FileError> + Sync,
) -> Result<Option<Blank>, FileError> {
    let (width, height) = (size.width(), size.height());
    // Half a megabyte at a time.
    let strip = ((1 << 17) / width).clamp(1, 256);
    let mut all: Vec<Regions> = values.iter().map(|v| Regions::of(*v, size)).collect();
    let strips: Vec<usize> = (0..height).step_by(strip).collect();
    for some in strips.chunks(4 * rayon::current_num_threads()) {
        let wanted: Vec<f32> = all.iter().map(|r| r.value).collect();
        let found: Result<Vec<Vec<RowRuns>>, FileError> = some
            .par_iter()
            .map_init(Vec::new, |rows, y| {
                let rect = Rect {
                    x: 0,
                    y: y.whole(),
                    width,
                    height: strip.min(height - y),
                };
                rows.resize(rect.area(), 0.0);
                read(rect, rows)?;
                let rows = rows.chunks_exact(width);
                Ok(rows
                    .flat_map(|row| wanted.iter().map(|v| runs_of(row, *v)))
                    .collect())
            })
            .collect();
        for (i, runs) in found?.into_iter().flatten().enumerate() {
            all[i % wanted.len()].add(runs);
        }
        all.retain(|r| r.runs.len() < MOST_RUNS);
        if all.is_empty() {
            return Ok(None);
        }
    }
    let step = 1.5 * quantum(sample);
    let found = all.into_iter().filter_map(|r| r.blank(step));
    Ok(found.max_by(|a, b| a.share.total_cmp(&b.share)))
}

impl Blank {
    /// Makes the pixels of a window missing.
    pub(super) fn hide(&self, rect: Rect, out: &mut [f32]) {
        for (i, row) in out.chunks_exact_mut(rect.width).enumerate() {
            let y = rect.y.index() + i;
            let (Some(from), Some(to)) = (self.rows.get(y), self.rows.get(y + 1)) else {
                continue;
            };
            for (a, b) in &self.runs[*from as usize..*to as usize] {
                let inside = |v: u32| (i64::from(v) - rect.x).clamp(0, rect.width.whole()).index();
                row[inside(*a)..inside(*b)].fill(f32::NAN);
            }
        }
    }
}

/// A run of pixels of one value in a row.
struct Run {
    from: u32,
    to: u32,
    /// A run of the same region, or itself.
    parent: u32,
}

/// What is known of a region.
#[derive(Clone, Copy, Default)]
struct Region {
    area: usize,
    /// Sides of pixels that face data.
    facing: usize,
    /// Neighbours to the left and right that were compared, those within a step of the value, and those below it.
    neighbours: usize,
    alike: usize,
    below: usize,
    touches: bool,
    /// The longest straight line along an edge.
    straight: usize,
    /// The farthest that it lies from the edge that is nearest.
    depth: usize,
}

/// Runs of a row: first and end (exclusive), and the values before and after.
type RowRuns = Vec<((u32, u32), (f32, f32))>;

/// Values that are looked at together: most of a frame has none.
const GLANCE: usize = 64;

/// The runs of a value, or of none at all, in a row.
fn runs_of(row: &[f32], value: f32) -> RowRuns {
    let mut runs = Vec::new();
    let mut x = 0;
    while let Some(from) = next(row, x, value, true) {
        let to = next(row, from, value, false).unwrap_or(row.len());
        let outside = f32::NAN;
        let left = from.checked_sub(1).map_or(outside, |i| row[i]);
        let right = row.get(to).copied().unwrap_or(outside);
        runs.push(((from.u32(), to.u32()), (left, right)));
        x = to;
    }
    runs
}

/// The next place from `x` on that has the value or none, or the next that has another.
fn next(row: &[f32], mut x: usize, value: f32, wanted: bool) -> Option<usize> {
    let is_blank = |v: &f32| *v == value || v.is_nan();
    while let Some(some) = row.get(x..x + GLANCE) {
        let count = blanks(some, value);
        if count != if wanted { 0 } else { GLANCE } {
            break;
        }
        x += GLANCE;
    }
    let at = row[x..].iter().position(|v| is_blank(v) == wanted);
    at.map(|i| x + i)
}

/// How many have the value or none.
#[allow(clippy::needless_bitwise_bool)]
#[multiversion(targets("x86_64+avx2"))]
fn blanks(some: &[f32], value: f32) -> usize {
    let one = |v: &f32| u32::from((*v == value) | v.is_nan());
    some.iter().map(one).sum::<u32>() as usize
}

/// Regions of one value, row by row.
struct Regions {
    value: f32,
    size: Size,
    runs: Vec<Run>,
    /// Where each row's runs begin.
    rows: Vec<u32>,
    /// Neighbour's values of each run: before it and after it.
    beside: Vec<(f32, f32)>,
    /// Parts of each run that lie under and above others of its region.
    shared: Vec<(u32, u32)>,
}

impl Regions {
    fn of(value: f32, size: Size) -> Self {
        Self {
            value,
            size,
            runs: Vec::new(),
            rows: Vec::new(),
            beside: Vec::new(),
            shared: Vec::new(),
        }
    }

    /// The next row.
    fn add(&mut self, row: RowRuns) {
        if self.runs.len() >= MOST_RUNS {
            return;
        }
        let before = self.rows.last().map_or(0, |r| *r as usize);
        let first = self.runs.len();
        self.rows.push(first.u32());
        for ((from, to), beside) in row {
            self.runs.push(Run {
                from,
                to,
                parent: self.runs.len().u32(),
            });
            self.beside.push(beside);
            self.shared.push((0, 0));
        }
        // Both rows are ordered: one walk along both.
        let (mut a, mut b) = (before, first);
        while a < first && b < self.runs.len() {
            let (above, this) = (&self.runs[a], &self.runs[b]);
            let (above_to, this_to) = (above.to, this.to);
            let (from, to) = (above.from.max(this.from), above_to.min(this_to));
            if from < to {
                self.shared[a].1 += to - from;
                self.shared[b].0 += to - from;
                self.join(a, b);
            }
            if above_to <= this_to {
                a += 1;
            } else {
                b += 1;
            }
        }
    }

    fn root(&mut self, mut i: usize) -> usize {
        while self.runs[i].parent as usize != i {
            let up = self.runs[i].parent as usize;
            self.runs[i].parent = self.runs[up].parent;
            i = up;
        }
        i
    }

    fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.root(a), self.root(b));
        // The older run is the root, whatever the order.
        let (old, new) = (a.min(b), a.max(b));
        self.runs[new].parent = old.u32();
    }

    /// The regions that are borders and holes; `step` is a difference that chance makes in coarse counts.
    fn blank(mut self, step: f32) -> Option<Blank> {
        let (width, height) = (self.size.width(), self.size.height());
        let mut regions = vec![Region::default(); self.runs.len()];
        let mut column = [(usize::MAX, 0usize); 2];
        let mut row = 0;
        for i in 0..self.runs.len() {
            while self.rows.get(row + 1).is_some_and(|r| *r as usize <= i) {
                row += 1;
            }
            let root = self.root(i);
            let (from, to) = (self.runs[i].from as usize, self.runs[i].to as usize);
            let (left, right) = self.beside[i];
            let (above, below) = self.shared[i];
            let length = to - from;
            let g = &mut regions[root];
            g.area += length;
            let ends = row == 0 || row + 1 == height;
            g.facing += usize::from(from > 0) + usize::from(to < width);
            g.facing += if row > 0 { length - above as usize } else { 0 };
            g.facing += if row + 1 < height {
                length - below as usize
            } else {
                0
            };
            for v in [left, right].iter().filter(|v| v.is_finite()) {
                g.neighbours += 1;
                g.alike += usize::from((v - self.value).abs() <= step);
                g.below += usize::from(*v < self.value);
            }
            g.touches |= from == 0 || to == width || ends;
            if ends {
                g.straight = g.straight.max(length);
            }
            // Along the left and the right edge, row after row.
            for (side, at_edge) in [(0, from == 0), (1, to == width)] {
                let (last, count) = &mut column[side];
                if at_edge {
                    *count = if *last != usize::MAX && *last + 1 == row {
                        *count + 1
                    } else {
                        1
                    };
                    *last = row;
                    g.straight = g.straight.max(*count);
                }
            }
            let middle = usize::midpoint(from, to).min(width - 1);
            let away = middle
                .min(width - 1 - middle)
                .min(row)
                .min(height - 1 - row);
            g.depth = g.depth.max(away);
        }
        let straight = |side: usize| STRAIGHT.min(side / 4).max(4);
        let is_border = |g: &Region| {
            let solid = g.facing.real() <= RAGGED_BORDER * g.area.real() || g.depth < THIN;
            let full = g.below * 5 > g.neighbours * 4 && self.value != 0.0;
            g.touches
                && g.straight >= straight(width.min(height))
                && solid
                && !full
                && g.alike * 3 <= g.neighbours
        };
        let is_hole = |g: &Region| {
            g.area >= LEAST_HOLE
                && g.facing.real() <= RAGGED_HOLE * g.area.real()
                && g.alike * 3 <= g.neighbours
                && g.below * 5 <= g.neighbours * 4
        };
        let any = regions.iter().any(is_border);
        let chosen: Vec<bool> = regions
            .iter()
            .map(|g| any && g.area > 0 && (is_border(g) || is_hole(g)))
            .collect();
        let mut blank = Blank {
            runs: Vec::new(),
            rows: Vec::with_capacity(height + 1),
            share: 0.0,
            value: self.value,
        };
        let mut area = 0;
        for y in 0..height {
            blank.rows.push(blank.runs.len().u32());
            let end = self
                .rows
                .get(y + 1)
                .map_or(self.runs.len(), |r| *r as usize);
            for i in self.rows[y] as usize..end {
                if chosen[self.root(i)] {
                    blank.runs.push((self.runs[i].from, self.runs[i].to));
                    area += (self.runs[i].to - self.runs[i].from) as usize;
                }
            }
        }
        blank.rows.push(blank.runs.len().u32());
        blank.share = area.single() / self.size.area().single();
        // A picture of stars alone is 0 between them, and a frame of one value is told as what it is.
        (area > 0 && blank.share < MOST).then_some(blank)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::chance::uniform;
    use rstest::rstest;

    const W: usize = 120;
    const H: usize = 90;

    fn noise(i: usize) -> f32 {
        uniform(i as u64, 0).single() - 0.5
    }

    fn found(data: &[f32]) -> Option<Blank> {
        let size = Size::new(W, H).unwrap();
        let some = [0, 9, 20, 31, 44, 59, 70, 81, H - 1];
        let sample: Vec<f32> = some
            .iter()
            .flat_map(|y| data[y * W..(y + 1) * W].to_vec())
            .collect();
        let values = suspects(&sample, W);
        if values.is_empty() {
            return None;
        }
        find(size, &sample, &values, |rect, out| {
            let from = rect.y.index() * W;
            out.copy_from_slice(&data[from..from + out.len()]);
            Ok(())
        })
        .unwrap()
    }

    fn sky(of: impl Fn(usize, usize) -> Option<f32>) -> Vec<f32> {
        (0..W * H)
            .map(|i| of(i % W, i / W).unwrap_or(600.0 + 30.0 * noise(i)))
            .collect()
    }

    #[rstest]
    #[case::all_around(|x: usize, y: usize| x < 10 || y < 7 || x >= W - 3 || y >= H - 12)]
    #[case::one_column(|x: usize, _: usize| x == 0)]
    #[case::turned(|x: usize, y: usize| x + 3 * y < 80 || x + 3 * y > 330)]
    #[case::a_hole_inside(|x: usize, y: usize| y < 4 || (50..60).contains(&x) && (40..46).contains(&y))]
    fn borders_and_holes_have_no_data(
        #[case] is_out: impl Fn(usize, usize) -> bool,
        #[values(0.0, -3.5, 12.0)] fill: f32,
    ) {
        let data = sky(|x, y| is_out(x, y).then_some(fill));
        let blank = found(&data).unwrap();
        let mut seen = data.clone();
        blank.hide(Size::new(W, H).unwrap().rect(), &mut seen);
        for (i, v) in seen.iter().enumerate() {
            assert_eq!(v.is_nan(), is_out(i % W, i / W), "{} {}", i % W, i / W);
        }
        let window = Rect {
            x: 3,
            y: 2,
            width: 60,
            height: 50,
        };
        let mut part: Vec<f32> = (0..3000)
            .map(|i| data[(2 + i / 60) * W + 3 + i % 60])
            .collect();
        blank.hide(window, &mut part);
        for (i, v) in part.iter().enumerate() {
            assert_eq!(v.is_nan(), is_out(3 + i % 60, 2 + i / 60));
        }
    }

    #[rstest]
    #[case(2)]
    #[case(64)]
    #[case(65)]
    #[case(700)]
    fn runs_are_the_same_however_many_are_looked_at_together(#[case] longest: usize) {
        let mut row = Vec::new();
        let mut i = 0;
        while row.len() < 3000 {
            let length = 1 + (uniform(i, 5) * longest.real()).index();
            row.resize(
                row.len() + length,
                [0.0, 5.0, f32::NAN, 7.0][(i % 4) as usize],
            );
            i += 1;
        }
        let is_blank = |x: usize| row[x] == 5.0 || row[x].is_nan();
        let mut seen = vec![false; row.len()];
        for ((from, to), (left, right)) in runs_of(&row, 5.0) {
            seen[from as usize..to as usize].fill(true);
            assert!(![left, right].contains(&5.0));
        }
        for (x, is_seen) in seen.into_iter().enumerate() {
            assert_eq!(is_seen, is_blank(x), "{x}");
        }
    }

    #[rstest]
    #[case::counts_of_few_kinds(|i: usize| (3.0 + 0.7 * noise(i)).round())]
    #[case::counts_with_a_common_value(|i: usize| (40.0 + 2.6 * noise(i)).round())]
    #[case::a_sky_cut_at_zero(|i: usize| (0.05 + noise(i)).max(0.0))]
    #[case::a_full_star_at_the_edge(|i: usize| {
        let (x, y) = ((i % W).single(), (i / W).single());
        (600.0 + noise(i) + 4e6 * (-((x - 60.0).powi(2) + y * y) / 300.0).exp()).min(65_535.0)
    })]
    #[case::one_value(|_| 7.0)]
    fn what_is_data_stays(#[case] of: impl Fn(usize) -> f32) {
        let data: Vec<f32> = (0..W * H).map(of).collect();
        assert!(found(&data).is_none());
    }
}
