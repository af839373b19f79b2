//! The bands of a join: what panels differ by on patches, smooth and rest, and how far each panel's weight reaches.

use crate::number::Convert;
use std::collections::BTreeMap;

use super::Grid;
use crate::mosaic::cells::{Cells, Cover};
use crate::mosaic::levels::Overlap;
use crate::mosaic::seams::Labels;
use crate::space::{CanvasPx, Point};

/// Values of patches, by column and row.
pub(super) type Patches = BTreeMap<(i64, i64), f64>;

/// For each panel, by how much it is higher than the mean of all that show a patch.
pub(super) fn differences(
    overlaps: &[Overlap],
    panel_of: &[usize],
    patch_px: usize,
) -> BTreeMap<usize, Patches> {
    /// Sum of weighted differences and of weights, by the panels.
    type Pairs = BTreeMap<(usize, usize), (f64, f64)>;
    let mut by_patch: BTreeMap<(i64, i64), Pairs> = BTreeMap::new();
    for o in overlaps {
        let (p, q) = (panel_of[o.a], panel_of[o.b]);
        if p == q {
            continue;
        }
        let sign = if p < q { 1.0 } else { -1.0 };
        for s in o.patches.iter().filter(|s| s.kept > 0.0) {
            let at = |v: f64| (v / patch_px.real()).whole();
            let pair = by_patch.entry((at(s.at.x), at(s.at.y))).or_default();
            let sum = pair.entry((p.min(q), p.max(q))).or_default();
            *sum = (sum.0 + s.kept * sign * s.after, sum.1 + s.kept);
        }
    }
    let mut all: BTreeMap<usize, Patches> = BTreeMap::new();
    for (at, pairs) in by_patch {
        let mut panels: Vec<usize> = pairs.keys().flat_map(|(p, q)| [*p, *q]).collect();
        panels.sort_unstable();
        panels.dedup();
        let n = panels.len().real();
        for ((p, q), (sum, weight)) in pairs {
            let d = sum / weight / n;
            *all.entry(p).or_default().entry(at).or_default() += d;
            *all.entry(q).or_default().entry(at).or_default() -= d;
        }
    }
    all
}

fn around(at: (i64, i64)) -> impl Iterator<Item = (i64, i64)> {
    (-1..=1).flat_map(move |dr| (-1..=1).map(move |dc| (at.0 + dc, at.1 + dr)))
}

/// With two patches more around: values go on as they are next to them.
pub(super) fn extended(patches: &Patches) -> Patches {
    let mut wide = patches.clone();
    for _ in 0..2 {
        let before = wide.clone();
        for at in before.keys() {
            for new in around(*at).filter(|p| !before.contains_key(p)) {
                let near: Vec<f64> = around(new)
                    .filter_map(|p| before.get(&p).copied())
                    .collect();
                wide.insert(new, near.iter().sum::<f64>() / near.len().real());
            }
        }
    }
    wide
}

/// Means over three by three patches, as far as they are there.
pub(super) fn smoothed(patches: &Patches) -> Patches {
    let mean = |at: &(i64, i64)| {
        let near: Vec<f64> = around(*at)
            .filter_map(|p| patches.get(&p).copied())
            .collect();
        near.iter().sum::<f64>() / near.len().max(1).real()
    };
    patches.keys().map(|at| (*at, mean(at))).collect()
}

/// The value between patches: straight in both directions, zero where there is none.
pub(super) fn between(patches: &Patches, p: Point<CanvasPx>, patch_px: usize) -> f64 {
    let t = |v: f64| (v + 0.5) / patch_px.real() - 0.5;
    let (x, y) = (t(p.x), t(p.y));
    let (c, r) = (x.floor(), y.floor());
    let (u, v) = (x - c, y - r);
    let at = |dc: i64, dr: i64| {
        patches
            .get(&(c.whole() + dc, r.whole() + dr))
            .copied()
            .unwrap_or(0.0)
    };
    (1.0 - v) * ((1.0 - u) * at(0, 0) + u * at(1, 0)) + v * ((1.0 - u) * at(0, 1) + u * at(1, 1))
}

/// A panel's labels smeared over a radius of cells, as far as it reaches inside of its edges.
pub(super) fn wide_weights(
    cover: &Cover,
    labels: &Labels,
    (panel, radius): (usize, usize),
    cells: Cells,
) -> Grid {
    let window = cover.window;
    let (w, h) = (window.width, window.height);
    let mut values: Vec<f32> = (0..w * h)
        .map(|k| {
            let (c, r) = (window.x.index() + k % w, window.y.index() + k / w);
            f32::from(u8::from(
                labels[r * cells.columns + c] as usize == panel + 1,
            ))
        })
        .collect();
    let mut line = Vec::new();
    // Two means each way make a tent.
    for _ in 0..2 {
        for row in values.chunks_exact_mut(w.max(1)) {
            running_mean(row, 1, w, radius, &mut line);
        }
        for c in 0..w {
            running_mean(&mut values[c..], w, h, radius, &mut line);
        }
    }
    let fade = (radius.single() * 0.5).max(1.0);
    for (v, d) in values.iter_mut().zip(&cover.depth) {
        *v *= (f32::from(*d) / fade).min(1.0);
    }
    Grid { window, values }
}

/// The mean over `radius` values on both sides, as far as they are there, of every `step`-th value.
fn running_mean(values: &mut [f32], step: usize, count: usize, radius: usize, line: &mut Vec<f32>) {
    line.clear();
    line.push(0.0);
    let mut sum = 0.0;
    for i in 0..count {
        sum += values[i * step];
        line.push(sum);
    }
    for i in 0..count {
        let (from, to) = (i.saturating_sub(radius), (i + radius + 1).min(count));
        values[i * step] = (line[to] - line[from]) / (to - from).single();
    }
}
