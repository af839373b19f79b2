//! Pixels of one value that hang together: runs of rows joined to regions, of which borders and holes are chosen.

use jigsawa_core::number::Convert;
use jigsawa_core::space::Size;
use multiversion::multiversion;

use super::blank::Blank;
use super::suspects::STRAIGHT;

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
pub(super) type RowRuns = Vec<((u32, u32), (f32, f32))>;

/// Values that are looked at together: most of a frame has none.
const GLANCE: usize = 64;

/// The runs of a value, or of none at all, in a row.
pub(super) fn runs_of(row: &[f32], value: f32) -> RowRuns {
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
pub(super) struct Regions {
    pub(super) value: f32,
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
    pub(super) fn of(value: f32, size: Size) -> Self {
        Self {
            value,
            size,
            runs: Vec::new(),
            rows: Vec::new(),
            beside: Vec::new(),
            shared: Vec::new(),
        }
    }

    /// Are there no more runs than borders have?
    pub(super) const fn may_be_borders(&self) -> bool {
        self.runs.len() < MOST_RUNS
    }

    /// The next row.
    pub(super) fn add(&mut self, row: RowRuns) {
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
    pub(super) fn blank(mut self, step: f32) -> Option<Blank> {
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
