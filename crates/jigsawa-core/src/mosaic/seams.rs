//! Seams: which panel each cell of the canvas comes from, cut where it hurts least.
//!
//! Panels are laid one after the other, the one with the greatest overlap next. In what a new panel shares with those
//! that lie there, the cheapest cut is found (Kwatra, Schödl, Essa, Turk & Bobick 2003, ACM Trans. Graph. 22, 277):
//! it costs more through stars, through bright nebula, where both differ, and near a panel's edge. All filters share
//! one set of seams, so that colours do not change sides at different places.

use super::cells::{Cells, Cover};
use super::flow::{Network, Role, cut};
use super::levels::Overlap;
use crate::number::Convert;
use crate::placement::Placement;
use crate::robust::quantile;
use crate::space::{CanvasPx, Point, Rect};
use crate::stars::{Catalogue, Flag, moffat};

/// The panel of each cell, from 1; 0 for none.
pub type Labels = Vec<u8>;

/// What a cell costs at least: seams are short where nothing else counts.
const LENGTH: f64 = 1.0;

/// A cell on a star's disc costs so much, and more with the star's brightness.
const STAR: f64 = 12.0;

/// What a difference of one pixel noise between two panels costs, and what brightness of ten; neither more than this.
const DIFFERENCE: f64 = 4.0;
const BRIGHT: f64 = 0.25;
const MOST_BRIGHT: f64 = 8.0;

/// Cells from a panel's edge that are avoided, and what each nearer one costs: the blend needs both panels.
const EDGE: u8 = 4;
const NEAR_EDGE: f64 = 6.0;

/// Costs are counted in sixteenths.
const UNITS: f64 = 16.0;

/// What a cut through each cell costs, whichever panels it parts.
#[derive(Debug, Clone)]
pub struct Costs {
    cells: Cells,
    each: Vec<f32>,
}

/// A star on the canvas, as far as a seam should keep away.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shining {
    /// Its place.
    pub at: Point<CanvasPx>,
    /// How far its light reaches above the noise, in canvas pixels.
    pub radius: f64,
    /// Its height over the noise of a pixel.
    pub height: f64,
}

/// A star's light counts as far as it reaches above this part of the pixel noise.
const LEAST_LIGHT: f64 = 0.3;

/// A star reaches from so many widths to so many.
const REACH: (f64, f64) = (1.6, 30.0);

/// The stars that lie where two panels or more do, from the catalogues of frames and where these lie; the same star comes
/// once from each frame that shows it.
pub fn shining(
    frames: &[(&Catalogue, &Placement)],
    covers: &[Cover],
    cells: Cells,
) -> Vec<Shining> {
    let cell = |v: f64, n: usize| (v / cells.side.real()).max(0.0).index().min(n - 1);
    let mut all = Vec::new();
    for (catalogue, placement) in frames {
        let back = placement.invert();
        let noise = f64::from(catalogue.sky.typical_sigma()).max(1e-30);
        let beta = catalogue.beta.clamp(1.5, 4.0);
        let width = catalogue.fwhm_px;
        for s in &catalogue.stars {
            let at = back.apply(s.at);
            let (column, row) = (cell(at.x, cells.columns), cell(at.y, cells.rows));
            let shown = covers.iter().filter(|c| c.at(column, row) > 0);
            if shown.count() < 2 {
                continue;
            }
            let height = s.amplitude / noise;
            let mut reach = moffat::reach(width, beta, height / LEAST_LIGHT);
            if s.flags.has(Flag::Saturated) {
                reach *= 1.5;
            }
            let reach = reach.clamp(REACH.0 * width, REACH.1 * width);
            all.push(Shining {
                at,
                radius: reach / placement.area_ratio(at).sqrt(),
                height,
            });
        }
    }
    all
}

impl Costs {
    /// Of stars alone.
    pub fn of_stars(cells: Cells, stars: &[Shining]) -> Self {
        let mut each = vec![LENGTH.single(); cells.count()];
        let side = cells.side.real();
        for s in stars {
            let reach = s.radius + side;
            let around = Rect {
                x: (s.at.x - reach).floor().whole(),
                y: (s.at.y - reach).floor().whole(),
                width: (2.0 * reach).ceil().index() + 1,
                height: (2.0 * reach).ceil().index() + 1,
            };
            let cost = STAR * (1.0 + s.height.max(1.0).ln());
            let touched = cells.touched(around, 0);
            for r in touched.y..touched.bottom() {
                for c in touched.x..touched.right() {
                    let d = cells.middle(c.index(), r.index()).distance(s.at);
                    if d < reach {
                        let part = (1.0 - d / reach).single();
                        let e = &mut each[r.index() * cells.columns + c.index()];
                        *e = e.max(cost.single() * (0.3 + 0.7 * part));
                    }
                }
            }
        }
        Self { cells, each }
    }

    /// With what the overlaps of a filter show: where panels differ, and where it is bright. `noise` is that of a pixel
    /// and `patch_px` the side of a patch.
    pub fn add(&mut self, overlaps: &[Overlap], noise: f64, patch_px: usize) {
        let mut means: Vec<f32> = overlaps
            .iter()
            .flat_map(|o| &o.patches)
            .map(|p| p.mean.single())
            .collect();
        if means.is_empty() || noise <= 0.0 {
            return;
        }
        let dark = f64::from(quantile(&mut means, 0.1));
        for p in overlaps.iter().flat_map(|o| &o.patches) {
            let bright = ((p.mean - dark) / noise).max(0.0);
            let cost =
                DIFFERENCE * (p.after.abs() / noise).min(2.0) + (BRIGHT * bright).min(MOST_BRIGHT);
            let half = 0.5 * patch_px.real();
            let rect = Rect {
                x: (p.at.x - half).round().whole(),
                y: (p.at.y - half).round().whole(),
                width: patch_px,
                height: patch_px,
            };
            let touched = self.cells.touched(rect, 0);
            for r in touched.y..touched.bottom() {
                for c in touched.x..touched.right() {
                    let e = &mut self.each[r.index() * self.cells.columns + c.index()];
                    *e = e.max(LENGTH.single() + cost.single());
                }
            }
        }
    }

    /// Of a cell.
    pub fn at(&self, column: usize, row: usize) -> f64 {
        f64::from(self.each[row * self.cells.columns + column])
    }
}

/// Cuts all panels, from what is there already (or from panel `first`). A panel of label 0 in `laid` is new.
pub fn lay(covers: &[Cover], costs: &Costs, first: usize, laid: Option<Labels>) -> Labels {
    let cells = costs.cells;
    let mut done: Vec<bool> = vec![false; covers.len()];
    let mut labels = laid.unwrap_or_else(|| vec![0; cells.count()]);
    for l in &labels {
        if let Some(d) = (*l as usize).checked_sub(1).and_then(|p| done.get_mut(p)) {
            *d = true;
        }
    }
    if done.iter().all(|d| !d)
        && let Some(cover) = covers.get(first)
    {
        each_cell(cover, cells, &mut |i, _, _| labels[i] = first.byte() + 1);
        done[first] = true;
    }
    loop {
        let shares = |p: usize| {
            let mut n = 0usize;
            each_cell(&covers[p], cells, &mut |i, _, _| {
                n += usize::from(labels[i] > 0);
            });
            n
        };
        let next = (0..covers.len())
            .filter(|p| !done[*p])
            .map(|p| (shares(p), std::cmp::Reverse(p)))
            .max();
        let Some((_, std::cmp::Reverse(p))) = next else {
            break;
        };
        insert(covers, costs, p, &mut labels);
        done[p] = true;
    }
    labels
}

fn each_cell(cover: &Cover, cells: Cells, each: &mut dyn FnMut(usize, usize, usize)) {
    let w = cover.window;
    for (k, depth) in cover.depth.iter().enumerate() {
        if *depth > 0 {
            let (c, r) = (w.x.index() + k % w.width, w.y.index() + k / w.width);
            each(r * cells.columns + c, c, r);
        }
    }
}

/// Lays one more panel.
fn insert(covers: &[Cover], costs: &Costs, p: usize, labels: &mut [u8]) {
    let cells = costs.cells;
    let cover = &covers[p];
    let w = cover.window;
    let index = |k: usize| {
        let (c, r) = (w.x.index() + k % w.width, w.y.index() + k / w.width);
        (c, r, r * cells.columns + c)
    };
    let both = |k: usize| cover.depth[k] > 0 && labels[index(k).2] > 0;
    let cost = |k: usize| {
        let (c, r, i) = index(k);
        let old = covers[labels[i] as usize - 1].at(c, r);
        let edge = EDGE.saturating_sub(old.min(cover.depth[k]));
        costs.at(c, r) + NEAR_EDGE * f64::from(edge)
    };
    let beside = |k: usize, way: usize| -> Option<usize> {
        match way {
            0 => ((k % w.width) + 1 < w.width).then(|| k + 1),
            1 => (!k.is_multiple_of(w.width)).then(|| k - 1),
            2 => (k + w.width < w.area()).then(|| k + w.width),
            _ => k.checked_sub(w.width),
        }
    };
    let n = w.area();
    let mut field = Network {
        width: w.width.max(1),
        roles: vec![Role::Outside; n],
        right: vec![0; n],
        below: vec![0; n],
    };
    let mut prices = vec![0.0; n];
    for (k, price) in prices.iter_mut().enumerate() {
        if !both(k) {
            continue;
        }
        *price = cost(k);
        let (mut old, mut new) = (false, false);
        for way in 0..4 {
            let Some(j) = beside(k, way) else { continue };
            let (covered, laid) = (cover.depth[j] > 0, labels[index(j).2] > 0);
            old |= laid && !covered;
            new |= covered && !laid;
        }
        field.roles[k] = match (old, new) {
            (true, false) => Role::First,
            (false, true) => Role::Second,
            _ => Role::Open,
        };
    }
    for k in 0..n {
        for (way, price) in [(0, &mut field.right), (2, &mut field.below)] {
            let there = beside(k, way).filter(|j| field.roles[*j] != Role::Outside);
            if field.roles[k] != Role::Outside
                && let Some(j) = there
            {
                price[k] = (UNITS * (prices[k] + prices[j])).u32() + 1;
            }
        }
    }
    let second = cut(&field);
    let is_new = |k: usize| cover.depth[k] > 0 && labels[index(k).2] == 0;
    let takes: Vec<usize> = (0..n)
        .filter(|k| is_new(*k) || (second[*k] && field.roles.contains(&Role::Second)))
        .map(|k| index(k).2)
        .collect();
    for i in takes {
        labels[i] = p.byte() + 1;
    }
}

/// The labels as one filter can have them: cells whose panel shows nothing there in this filter, or that have none, go
/// to the panel that they lie deepest in.
pub fn for_filter(labels: &Labels, covers: &[Option<Cover>], cells: Cells) -> Labels {
    let mut own = labels.clone();
    let deepest = |c: usize, r: usize| {
        let depths = covers.iter().enumerate().filter_map(|(p, cover)| {
            let d = cover.as_ref()?.at(c, r);
            (d > 0).then_some((d, std::cmp::Reverse(p)))
        });
        depths
            .max()
            .map_or(0, |(_, std::cmp::Reverse(p))| p.byte() + 1)
    };
    for (i, l) in own.iter_mut().enumerate() {
        let (c, r) = (i % cells.columns, i / cells.columns);
        let shown = (*l as usize)
            .checked_sub(1)
            .and_then(|p| covers[p].as_ref())
            .is_some_and(|cover| cover.at(c, r) > 0);
        if !shown {
            *l = deepest(c, r);
        }
    }
    own
}

/// A place on a seam.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Worst {
    /// The panels on both sides, from 0.
    pub between: (usize, usize),
    /// The cell.
    pub at: (usize, usize),
    /// What cutting there costs.
    pub cost: f64,
    /// Cells along the whole seam.
    pub length: usize,
}

/// The dearest place of every seam, by the panels that it parts.
pub fn worst_places(labels: &Labels, costs: &Costs) -> Vec<Worst> {
    let cells = costs.cells;
    let mut all: std::collections::BTreeMap<(u8, u8), Worst> = std::collections::BTreeMap::new();
    for r in 0..cells.rows {
        for c in 0..cells.columns {
            let here = labels[r * cells.columns + c];
            for (c2, r2) in [(c + 1, r), (c, r + 1)] {
                if c2 >= cells.columns || r2 >= cells.rows {
                    continue;
                }
                let there = labels[r2 * cells.columns + c2];
                if here == 0 || there == 0 || here == there {
                    continue;
                }
                let cost = costs.at(c, r) + costs.at(c2, r2);
                let (p, q) = (here.min(there), here.max(there));
                let w = all.entry((p, q)).or_insert(Worst {
                    between: (p as usize - 1, q as usize - 1),
                    at: (c, r),
                    cost,
                    length: 0,
                });
                w.length += 1;
                if cost > w.cost {
                    (w.at, w.cost) = ((c, r), cost);
                }
            }
        }
    }
    all.into_values().collect()
}

/// The largest rectangle of the canvas in which every cell has a panel (by stacks over columns, row by row), in pixels.
pub fn inner(labels: &Labels, cells: Cells) -> Rect {
    let mut heights = vec![0usize; cells.columns + 1];
    let mut best = (
        0usize,
        Rect {
            x: 0,
            y: 0,
            width: 0,
            height: 0,
        },
    );
    for r in 0..cells.rows {
        for c in 0..cells.columns {
            heights[c] = if labels[r * cells.columns + c] > 0 {
                heights[c] + 1
            } else {
                0
            };
        }
        let mut open: Vec<usize> = Vec::new();
        for c in 0..=cells.columns {
            while let Some(top) = open.last().copied().filter(|t| heights[*t] >= heights[c]) {
                open.pop();
                let left = open.last().map_or(0, |l| l + 1);
                let area = heights[top] * (c - left);
                if area > best.0 {
                    let s = cells.side;
                    best = (
                        area,
                        Rect {
                            x: (left * s).whole(),
                            y: ((r + 1 - heights[top]) * s).whole(),
                            width: (c - left) * s,
                            height: heights[top] * s,
                        },
                    );
                }
            }
            open.push(c);
        }
    }
    best.1.intersect(cells.canvas.rect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mosaic::border::Coverage;
    use crate::placement::Map;
    use crate::plane::Plane;
    use crate::space::Size;

    fn cover(x: f64, cells: Cells) -> Cover {
        let plane = Plane::filled(Size::new(120, 100).unwrap(), 1.0);
        Cover::of(&plane, &Map::shift(-x, 0.0), &Coverage::of(&plane), cells)
    }

    #[test]
    fn the_seam_goes_around_a_star() {
        let cells = Cells::of_side(Size::new(200, 100).unwrap(), 4);
        let covers = [cover(0.0, cells), cover(80.0, cells)];
        let star = Shining {
            at: Point::new(100.0, 50.0),
            radius: 10.0,
            height: 500.0,
        };
        let costs = Costs::of_stars(cells, &[star]);
        let labels = lay(&covers, &costs, 0, None);
        assert!(labels.iter().all(|l| *l > 0));
        let row = |r: usize| &labels[r * 50..(r + 1) * 50];
        for r in 0..25 {
            assert_eq!((row(r)[0], row(r)[49]), (1, 2));
            // One change in each row, and none on the star.
            assert_eq!(
                row(r).windows(2).filter(|w| w[0] != w[1]).count(),
                1,
                "row {r}"
            );
        }
        let around: Vec<u8> = (11..14).flat_map(|r| row(r)[23..27].to_vec()).collect();
        assert!(around.iter().all(|l| *l == around[0]));
        let worst = worst_places(&labels, &costs);
        assert_eq!(worst.len(), 1);
        assert!(worst[0].length >= 25 && worst[0].between == (0, 1));
        // What was laid before stays.
        let kept = lay(&covers, &costs, 0, Some(labels.clone()));
        assert_eq!(kept, labels);
    }

    #[test]
    fn a_filter_without_a_panel_takes_the_others() {
        let cells = Cells::of_side(Size::new(200, 100).unwrap(), 4);
        let covers = [cover(0.0, cells), cover(80.0, cells)];
        let labels = lay(&covers, &Costs::of_stars(cells, &[]), 0, None);
        let own = for_filter(&labels, &[None, Some(covers[1].clone())], cells);
        let of_second: usize = own.iter().map(|l| usize::from(*l == 2)).sum();
        assert_eq!(of_second, covers[1].area());
        assert!(own.iter().all(|l| *l != 1));
    }

    #[test]
    fn the_inner_rectangle_has_a_panel_everywhere() {
        let cells = Cells::of_side(Size::new(30, 20).unwrap(), 1);
        let labels: Labels = (0..600)
            .map(|i| {
                let (x, y) = (i % 30, i / 30);
                u8::from((3..25).contains(&x) && (2..18).contains(&y) && (x, y) != (4, 10))
            })
            .collect();
        let r = inner(&labels, cells);
        assert_eq!((r.x, r.y, r.width, r.height), (5, 2, 20, 16));
    }
}
