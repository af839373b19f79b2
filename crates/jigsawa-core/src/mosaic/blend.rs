//! Joining panels along their seams, in bands: fine detail changes over a few cells, what is left of a difference in
//! the sky over the whole overlap (the idea of Burt & Adelson 1983, ACM Trans. Graph. 2, 217).
//!
//! A pyramid of the whole mosaic is not needed for it, nor one of its tiles: what two panels differ by is known on
//! patches already. It is taken off both, and given back with the wide weights of two coarser bands. So a tile is
//! joined without its neighbours, in any order. A star near a seam comes from one panel whole: the weights within its
//! disc are those of its owner, so that no profile is mixed.

use std::collections::BTreeMap;

use super::cells::{Cells, Cover};
use super::levels::Overlap;
use super::seams::{Labels, Shining};
use crate::doors::{DoorError, FrameSource};
use crate::merge::TileOp;
use crate::space::{CanvasPx, Point, Rect, Size};

/// How panels share what they both show.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Share {
    /// One panel at a place, changed along seams: each star from one panel, one noise.
    #[default]
    Seam,
    /// The mean of all by their noise, faded towards their edges: for photometry.
    Average,
}

/// Cells over which a panel fades towards its edge in a mean.
const FADE: u8 = 6;

/// A disc that one panel owns fades out over this part of its radius, and some pixels.
const DISC_FADE: f64 = 0.5;

/// No disc is larger, in canvas pixels: seams keep away from the brightest stars by themselves.
const MOST_DISC_PX: f64 = 80.0;

/// A star that one panel owns.
#[derive(Debug, Clone, Copy)]
struct Disc {
    at: Point<CanvasPx>,
    inner: f64,
    outer: f64,
    owner: u8,
}

/// A field of cells over a window.
#[derive(Debug, Clone)]
struct Grid {
    window: Rect,
    values: Vec<f32>,
}

impl Grid {
    fn at(&self, c: i64, r: i64) -> f32 {
        let (c, r) = (c - self.window.x, r - self.window.y);
        if c < 0 || r < 0 || c >= self.window.width as i64 || r >= self.window.height as i64 {
            return 0.0;
        }
        self.values[r as usize * self.window.width + c as usize]
    }
}

/// All that joins the panels of one filter.
#[derive(Debug)]
pub struct Join {
    cells: Cells,
    share: Share,
    labels: Labels,
    covers: Vec<Option<Cover>>,
    /// Stars whose discs lie across a seam, by row.
    discs: Vec<Disc>,
    /// What is taken off each panel.
    own: Vec<Option<Grid>>,
    /// What is given back.
    common: Grid,
}

/// Radii of the two coarser bands, in patches.
const BANDS: [f64; 2] = [1.5, 4.0];

impl Join {
    /// Of panels that `covers` tell, with the labels of the filter. `overlaps` are those of the filter's frames, which
    /// belong to the panels in `panel_of`; patches have a side of `patch_px`.
    pub fn new(
        (cells, share): (Cells, Share),
        labels: &Labels,
        covers: Vec<Option<Cover>>,
        stars: &[Shining],
        (overlaps, panel_of, patch_px): (&[Overlap], &[usize], usize),
    ) -> Self {
        let mut join = Self {
            cells,
            share,
            labels: widened(labels, cells),
            covers,
            discs: Vec::new(),
            own: Vec::new(),
            common: Grid {
                window: Rect {
                    x: 0,
                    y: 0,
                    width: 0,
                    height: 0,
                },
                values: Vec::new(),
            },
        };
        if share == Share::Seam {
            join.own_stars(stars);
            join.correct(labels, overlaps, panel_of, patch_px);
        }
        join
    }

    /// The cells' own label under a pixel, from 0; `None` where there is no panel.
    pub fn label(&self, x: usize, y: usize) -> Option<usize> {
        let at = (y / self.cells.side) * self.cells.columns + x / self.cells.side;
        (self.labels[at] as usize).checked_sub(1)
    }

    /// Does a panel take part in a rectangle of the canvas?
    pub fn present(&self, panel: usize, rect: Rect) -> bool {
        let touched = self.cells.touched(rect, 2);
        match self.share {
            Share::Seam => {
                let label = panel as u8 + 1;
                let on_cells =
                    rows_of(touched, self.cells).any(|row| self.labels[row].contains(&label));
                on_cells || self.discs_in(rect).any(|d| d.owner == label)
            }
            Share::Average => self.covers[panel].as_ref().is_some_and(|cover| {
                let t = touched.intersect(cover.window);
                (t.y..t.bottom())
                    .any(|r| (t.x..t.right()).any(|c| cover.at(c as usize, r as usize) > 0))
            }),
        }
    }

    fn discs_in(&self, rect: Rect) -> impl Iterator<Item = &Disc> {
        let low = rect.y as f64 - 2.0 * MOST_DISC_PX;
        let from = self.discs.partition_point(|d| d.at.y < low);
        self.discs[from..]
            .iter()
            .take_while(move |d| d.at.y < rect.bottom() as f64 + 2.0 * MOST_DISC_PX)
            .filter(move |d| {
                d.at.x + d.outer >= rect.x as f64
                    && d.at.x - d.outer <= rect.right() as f64
                    && d.at.y + d.outer >= rect.y as f64
                    && d.at.y - d.outer <= rect.bottom() as f64
            })
    }

    /// The weights of a panel over a rectangle; those of all panels sum to 1 where seams are cut.
    fn weights(&self, panel: usize, rect: Rect, out: &mut [f32]) {
        match self.share {
            Share::Seam => {
                let label = panel as u8 + 1;
                self.smoothly(rect, out, &|c, r| {
                    f32::from(u8::from(
                        self.labels[r as usize * self.cells.columns + c as usize] == label,
                    ))
                });
                let mut discs: Vec<&Disc> = self.discs_in(rect).collect();
                // The largest have the last word.
                discs.sort_by(|a, b| a.inner.total_cmp(&b.inner));
                for d in discs {
                    apply_disc(d, d.owner == label, rect, out);
                }
            }
            Share::Average => {
                let cover = self.covers[panel].as_ref();
                self.smoothly(rect, out, &|c, r| {
                    let depth = cover.map_or(0, |cover| cover.at(c as usize, r as usize));
                    f32::from(depth.min(FADE)) / f32::from(FADE)
                });
            }
        }
    }

    /// What is added after joining over a rectangle.
    fn correction(&self, rect: Rect, out: &mut [f32]) {
        self.smoothly(rect, out, &|c, r| self.common.at(c, r));
        let (mut weights, mut taken) = (vec![0.0f32; rect.area()], vec![0.0f32; rect.area()]);
        let touched = self.cells.touched(rect, 1);
        for (p, own) in self.own.iter().enumerate() {
            let Some(own) = own else { continue };
            if touched.intersect(own.window).is_empty() || !self.present(p, rect) {
                continue;
            }
            self.weights(p, rect, &mut weights);
            self.smoothly(rect, &mut taken, &|c, r| own.at(c, r));
            for ((o, w), t) in out.iter_mut().zip(&weights).zip(&taken) {
                *o -= w * t;
            }
        }
    }

    /// A field of cells as a smooth function of pixels: quadratic B-splines, which sum to 1.
    fn smoothly(&self, rect: Rect, out: &mut [f32], field: &dyn Fn(i64, i64) -> f32) {
        let side = self.cells.side as f64;
        let last = (self.cells.columns as i64 - 1, self.cells.rows as i64 - 1);
        let place = |v: i64| {
            let t = (v as f64 + 0.5) / side - 0.5;
            let k = t.round();
            let f = (t - k) as f32;
            (
                k as i64,
                [
                    0.5 * (0.5 - f) * (0.5 - f),
                    0.75 - f * f,
                    0.5 * (0.5 + f) * (0.5 + f),
                ],
            )
        };
        let columns: Vec<(i64, [f32; 3])> = (rect.x..rect.right()).map(place).collect();
        let (first, end) = match (columns.first(), columns.last()) {
            (Some(a), Some(b)) => (a.0 - 1, b.0 + 2),
            _ => return,
        };
        let mut line = vec![0.0f32; (end - first) as usize];
        for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width)) {
            let (k, wy) = place(y);
            for (c, v) in (first..end).zip(line.iter_mut()) {
                let c = c.clamp(0, last.0);
                *v = (0..3)
                    .map(|j| wy[j as usize] * field(c, (k + j - 1).clamp(0, last.1)))
                    .sum();
            }
            for ((k, w), v) in columns.iter().zip(row.iter_mut()) {
                let at = (k - 1 - first) as usize;
                *v = w[0] * line[at] + w[1] * line[at + 1] + w[2] * line[at + 2];
            }
        }
    }

    /// The stars across seams, each given to a panel that holds all of it.
    fn own_stars(&mut self, stars: &[Shining]) {
        let mut discs = Vec::new();
        for s in stars {
            let inner = s.radius.min(MOST_DISC_PX);
            let outer = inner + DISC_FADE * inner + 3.0;
            let reach = outer.ceil();
            let around = Rect {
                x: (s.at.x - reach) as i64,
                y: (s.at.y - reach) as i64,
                width: 2 * reach as usize + 1,
                height: 2 * reach as usize + 1,
            };
            let touched = self.cells.touched(around, 1);
            if touched.is_empty() {
                continue;
            }
            let mut counts: BTreeMap<u8, usize> = BTreeMap::new();
            for row in rows_of(touched, self.cells) {
                for l in &self.labels[row] {
                    *counts.entry(*l).or_default() += 1;
                }
            }
            counts.remove(&0);
            if counts.len() < 2 {
                continue;
            }
            let cell =
                |v: f64, n: usize| ((v / self.cells.side as f64).max(0.0) as usize).min(n - 1);
            let (c, r) = (
                cell(s.at.x, self.cells.columns),
                cell(s.at.y, self.cells.rows),
            );
            let needed = (outer / self.cells.side as f64).ceil() as u8;
            let depth = |label: u8| {
                let cover = self.covers.get(label as usize - 1).and_then(Option::as_ref);
                cover.map_or(0, |cover| cover.at(c, r)).min(needed)
            };
            // The panel that holds the whole disc, and most of it already.
            let owner = counts
                .iter()
                .max_by_key(|(l, n)| (depth(**l), **n, std::cmp::Reverse(**l)))
                .map(|(l, _)| *l);
            if let Some(owner) = owner.filter(|l| depth(*l) > 0) {
                discs.push(Disc {
                    at: s.at,
                    inner,
                    outer,
                    owner,
                });
            }
        }
        discs.sort_by(|a, b| a.at.y.total_cmp(&b.at.y).then(a.at.x.total_cmp(&b.at.x)));
        self.discs = discs;
    }

    /// What panels differ by on the patches of their overlaps, taken apart into bands.
    fn correct(
        &mut self,
        labels: &Labels,
        overlaps: &[Overlap],
        panel_of: &[usize],
        patch_px: usize,
    ) {
        let differences = differences(overlaps, panel_of, patch_px);
        let cells = self.cells;
        let mut own: Vec<Option<Grid>> = vec![None; self.covers.len()];
        let mut common = vec![0.0f32; cells.count()];
        let mut low_fine: Vec<Option<(Grid, Grid)>> = vec![None; self.covers.len()];
        for (p, cover) in self.covers.iter().enumerate() {
            let (Some(cover), Some(of)) = (cover, differences.get(&p)) else {
                continue;
            };
            let wide = extended(of);
            let low = smoothed(&smoothed(&wide));
            let on_cells = |patches: &BTreeMap<(i64, i64), f64>| {
                let window = cover.window;
                let values = (0..window.area())
                    .map(|k| {
                        let (c, r) = (
                            window.x as usize + k % window.width,
                            window.y as usize + k / window.width,
                        );
                        between(patches, cells.middle(c, r), patch_px) as f32
                    })
                    .collect();
                Grid { window, values }
            };
            let (all, low) = (on_cells(&wide), on_cells(&low));
            let fine = Grid {
                window: all.window,
                values: all
                    .values
                    .iter()
                    .zip(&low.values)
                    .map(|(a, l)| a - l)
                    .collect(),
            };
            own[p] = Some(all);
            low_fine[p] = Some((low, fine));
        }
        for (band, patches) in BANDS.into_iter().enumerate() {
            let radius = ((patches * patch_px as f64 / cells.side as f64).round() as usize).max(1);
            let weights: Vec<Option<Grid>> = self
                .covers
                .iter()
                .enumerate()
                .map(|(p, cover)| Some(wide_weights(cover.as_ref()?, labels, (p, radius), cells)))
                .collect();
            let mut sums = vec![0.0f32; cells.count()];
            let each = |g: &Grid, add: &mut dyn FnMut(usize, f32)| {
                for (k, w) in g.values.iter().enumerate() {
                    let (c, r) = (
                        g.window.x as usize + k % g.window.width,
                        g.window.y as usize + k / g.window.width,
                    );
                    add(r * cells.columns + c, *w);
                }
            };
            for w in weights.iter().flatten() {
                each(w, &mut |i, w| sums[i] += w);
            }
            for (w, parts) in weights.iter().zip(&low_fine) {
                let (Some(w), Some((low, fine))) = (w, parts) else {
                    continue;
                };
                // The wider weights are for the lower band.
                let part = if band == 0 { fine } else { low };
                let mut k = 0;
                each(w, &mut |i, w| {
                    if sums[i] > 0.0 {
                        common[i] += w / sums[i] * part.values[k];
                    }
                    k += 1;
                });
            }
        }
        self.own = own;
        self.common = Grid {
            window: Rect {
                x: 0,
                y: 0,
                width: cells.columns,
                height: cells.rows,
            },
            values: common,
        };
    }
}

/// Places in the labels of a rectangle's rows.
fn rows_of(touched: Rect, cells: Cells) -> impl Iterator<Item = std::ops::Range<usize>> {
    let (x, w) = (touched.x as usize, touched.width);
    (touched.y..touched.bottom()).map(move |r| {
        let at = r as usize * cells.columns + x;
        at..at + w
    })
}

/// The labels with a margin of two cells: cells that a panel covers in part belong to it, too.
fn widened(labels: &Labels, cells: Cells) -> Labels {
    let mut wide = labels.clone();
    for _ in 0..2 {
        let before = wide.clone();
        for r in 0..cells.rows {
            for c in 0..cells.columns {
                let i = r * cells.columns + c;
                if before[i] > 0 {
                    continue;
                }
                let near = [
                    (c > 0).then(|| i - 1),
                    (c + 1 < cells.columns).then_some(i + 1),
                    (r > 0).then(|| i - cells.columns),
                    (r + 1 < cells.rows).then_some(i + cells.columns),
                ];
                wide[i] = near
                    .into_iter()
                    .flatten()
                    .map(|j| before[j])
                    .max()
                    .unwrap_or(0);
            }
        }
    }
    wide
}

fn apply_disc(d: &Disc, owns: bool, rect: Rect, out: &mut [f32]) {
    let rows = ((d.at.y - d.outer).ceil() as i64).max(rect.y)
        ..((d.at.y + d.outer) as i64 + 1).min(rect.bottom());
    let columns = ((d.at.x - d.outer).ceil() as i64).max(rect.x)
        ..((d.at.x + d.outer) as i64 + 1).min(rect.right());
    for y in rows {
        for x in columns.clone() {
            let r = (x as f64 - d.at.x).hypot(y as f64 - d.at.y);
            if r >= d.outer {
                continue;
            }
            let t = ((d.outer - r) / (d.outer - d.inner)).clamp(0.0, 1.0);
            let f = (t * t * (3.0 - 2.0 * t)) as f32;
            let w = &mut out[(y - rect.y) as usize * rect.width + (x - rect.x) as usize];
            *w += f * (f32::from(u8::from(owns)) - *w);
        }
    }
}

type Patches = BTreeMap<(i64, i64), f64>;

/// For each panel, by how much it is higher than the mean of all that show a patch.
fn differences(
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
            let at = |v: f64| (v / patch_px as f64) as i64;
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
        let n = panels.len() as f64;
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
fn extended(patches: &Patches) -> Patches {
    let mut wide = patches.clone();
    for _ in 0..2 {
        let before = wide.clone();
        for at in before.keys() {
            for new in around(*at).filter(|p| !before.contains_key(p)) {
                let near: Vec<f64> = around(new)
                    .filter_map(|p| before.get(&p).copied())
                    .collect();
                wide.insert(new, near.iter().sum::<f64>() / near.len() as f64);
            }
        }
    }
    wide
}

/// Means over three by three patches, as far as they are there.
fn smoothed(patches: &Patches) -> Patches {
    let mean = |at: &(i64, i64)| {
        let near: Vec<f64> = around(*at)
            .filter_map(|p| patches.get(&p).copied())
            .collect();
        near.iter().sum::<f64>() / near.len().max(1) as f64
    };
    patches.keys().map(|at| (*at, mean(at))).collect()
}

/// The value between patches: straight in both directions, zero where there is none.
fn between(patches: &Patches, p: Point<CanvasPx>, patch_px: usize) -> f64 {
    let t = |v: f64| (v + 0.5) / patch_px as f64 - 0.5;
    let (x, y) = (t(p.x), t(p.y));
    let (c, r) = (x.floor(), y.floor());
    let (u, v) = (x - c, y - r);
    let at = |dc: i64, dr: i64| {
        patches
            .get(&(c as i64 + dc, r as i64 + dr))
            .copied()
            .unwrap_or(0.0)
    };
    (1.0 - v) * ((1.0 - u) * at(0, 0) + u * at(1, 0)) + v * ((1.0 - u) * at(0, 1) + u * at(1, 1))
}

/// A panel's labels smeared over a radius of cells, as far as it reaches inside of its edges.
fn wide_weights(
    cover: &Cover,
    labels: &Labels,
    (panel, radius): (usize, usize),
    cells: Cells,
) -> Grid {
    let window = cover.window;
    let (w, h) = (window.width, window.height);
    let mut values: Vec<f32> = (0..w * h)
        .map(|k| {
            let (c, r) = (window.x as usize + k % w, window.y as usize + k / w);
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
    let fade = (radius as f32 * 0.5).max(1.0);
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
        values[i * step] = (line[to] - line[from]) / (to - from) as f32;
    }
}

/// The weights of one panel as an input of a merge, on the canvas's own pixels.
#[derive(Debug)]
pub struct PanelWeights<'a> {
    /// Of what.
    pub join: &'a Join,
    /// Whose.
    pub panel: usize,
}

impl FrameSource for PanelWeights<'_> {
    fn size(&self) -> Size {
        self.join.cells.canvas
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.join.weights(self.panel, rect, out);
        Ok(())
    }

    fn constant(&self, rect: Rect) -> Option<f32> {
        if self.join.share == Share::Average {
            return None;
        }
        let touched = self.join.cells.touched(rect, 2);
        let label = self.panel as u8 + 1;
        let alone = rows_of(touched, self.join.cells)
            .all(|row| self.join.labels[row].iter().all(|l| *l == label));
        (alone && self.join.discs_in(rect).all(|d| d.owner == label)).then_some(1.0)
    }
}

/// What is added after joining, as an input of a merge.
#[derive(Debug)]
pub struct Correction<'a>(pub &'a Join);

impl Correction<'_> {
    fn is_needed(&self, rect: Rect) -> bool {
        let touched = self.0.cells.touched(rect, 1);
        let own = self.0.own.iter().flatten();
        own.map(|g| touched.intersect(g.window))
            .any(|t| !t.is_empty())
    }
}

impl FrameSource for Correction<'_> {
    fn size(&self) -> Size {
        self.0.cells.canvas
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.0.correction(rect, out);
        Ok(())
    }

    fn constant(&self, rect: Rect) -> Option<f32> {
        let touched = self.0.cells.touched(rect, 1);
        let zero = |g: &Grid| {
            let t = touched.intersect(g.window);
            (t.y..t.bottom()).all(|r| (t.x..t.right()).all(|c| g.at(c, r) == 0.0))
        };
        let all = self.0.own.iter().flatten().all(zero) && zero(&self.0.common);
        all.then_some(0.0)
    }
}

/// A frame without what lies outside of its covered part.
#[derive(Debug)]
pub struct Trimmed<S> {
    /// The frame.
    pub source: S,
    /// Its covered part.
    pub usable: Rect,
}

impl<S: FrameSource> FrameSource for Trimmed<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        if self.usable.intersect(rect) == rect {
            return Ok(());
        }
        for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width)) {
            if y < self.usable.y || y >= self.usable.bottom() {
                row.fill(f32::NAN);
                continue;
            }
            let from = (self.usable.x - rect.x).clamp(0, rect.width as i64) as usize;
            let to = (self.usable.right() - rect.x).clamp(0, rect.width as i64) as usize;
            row[..from].fill(f32::NAN);
            row[to..].fill(f32::NAN);
        }
        Ok(())
    }
}

/// Joins panels: inputs are the frames, then the weights of each panel, then the correction.
#[derive(Debug)]
pub struct JoinPanels<'a> {
    /// What joins them.
    pub join: &'a Join,
    /// The panel of each frame and how much the frame counts in it.
    pub frames: &'a [(usize, f32)],
    /// Panels.
    pub panels: usize,
    /// Noise of a pixel of each frame, balanced; with it the result has a second plane, its noise, and a third: how
    /// many frames each pixel rests on.
    pub noise: Option<&'a [f32]>,
}

impl TileOp for JoinPanels<'_> {
    fn planes(&self) -> usize {
        if self.noise.is_some() { 3 } else { 1 }
    }

    fn wants(&self, input: usize, tile: Rect) -> bool {
        let n = self.frames.len();
        if input < n {
            self.join.present(self.frames[input].0, tile)
        } else if input < n + self.panels {
            self.join.present(input - n, tile)
        } else {
            Correction(self.join).is_needed(tile)
        }
    }

    fn run(&self, inputs: &[&[f32]], out: &mut [&mut [f32]]) {
        let n = self.frames.len();
        let (frames, rest) = inputs.split_at(n);
        let (weights, correction) = rest.split_at(self.panels);
        let Some((value, maps)) = out.split_first_mut() else {
            return;
        };
        let there: Vec<usize> = (0..n).filter(|k| !frames[*k].is_empty()).collect();
        if let ([k], true) = (there.as_slice(), maps.is_empty())
            && self.join.share == Share::Seam
        {
            value.copy_from_slice(frames[*k]);
        } else {
            self.several(&there, (frames, weights), value, maps);
        }
        if let Some(correction) = correction.first().filter(|c| !c.is_empty()) {
            for (v, c) in value.iter_mut().zip(*correction) {
                *v += c;
            }
        }
    }
}

impl JoinPanels<'_> {
    fn several(
        &self,
        there: &[usize],
        (frames, weights): (&[&[f32]], &[&[f32]]),
        value: &mut [f32],
        maps: &mut [&mut [f32]],
    ) {
        let mut noise2 = vec![0.0f32; if maps.is_empty() { 0 } else { value.len() }];
        let mut counts = vec![0.0f32; noise2.len()];
        for (i, v) in value.iter_mut().enumerate() {
            let (mut sum, mut all, mut square, mut count) = (0.0f32, 0.0f32, 0.0f32, 0.0f32);
            // What one frame alone shows is its value to the bit.
            let (mut alone, mut panels) = (f32::NAN, 0);
            let mut from = 0;
            while from < there.len() {
                // The frames of one panel stand together.
                let panel = self.frames[there[from]].0;
                let to = there[from..]
                    .iter()
                    .position(|k| self.frames[*k].0 != panel)
                    .map_or(there.len(), |n| from + n);
                let share = weights[panel].get(i).copied().unwrap_or(0.0);
                let (mut own, mut own_all, mut own_square, mut own_count) =
                    (0.0f32, 0.0f32, 0.0f32, 0.0f32);
                let mut last = f32::NAN;
                for k in &there[from..to] {
                    let (x, w) = (frames[*k][i], self.frames[*k].1);
                    if x.is_finite() {
                        last = x;
                        own += w * x;
                        own_all += w;
                        own_count += 1.0;
                        own_square += self.noise.map_or(0.0, |n| (w * n[*k]).powi(2));
                    }
                }
                // In a mean a panel counts by what its frames are worth together.
                let share = match self.join.share {
                    Share::Seam => share,
                    Share::Average => share * own_all,
                };
                if own_all > 0.0 && share > 0.0 {
                    let mean = if own_count == 1.0 {
                        last
                    } else {
                        own / own_all
                    };
                    (alone, panels) = (mean, panels + 1);
                    sum += share * mean;
                    all += share;
                    count += own_count;
                    square += share * share * own_square / (own_all * own_all);
                }
                from = to;
            }
            *v = if panels > 1 { sum / all } else { alone };
            if !maps.is_empty() {
                noise2[i] = if all > 0.0 {
                    square / (all * all)
                } else {
                    f32::NAN
                };
                counts[i] = count;
            }
        }
        if let [noise, frames] = maps {
            for (o, n) in noise.iter_mut().zip(&noise2) {
                *o = n.sqrt();
            }
            frames.copy_from_slice(&counts);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::balance::Balance;
    use crate::merge::{Budget, Input, Sampling, merge};
    use crate::mosaic::levels::Shared;
    use crate::mosaic::seams::{Costs, lay};
    use crate::placement::Map;
    use crate::plane::Plane;

    const PATCH: usize = 16;

    /// Two panels of 160 x 120 that share 80 columns, the second higher by what `lift` says over the canvas.
    fn joined(lift: &dyn Fn(f64, f64) -> f32, stars: &[Shining], share: Share) -> Plane {
        let canvas = Size::new(240, 120).unwrap();
        let size = Size::new(160, 120).unwrap();
        let cells = Cells::of_side(canvas, 4);
        let star = |x: usize, y: usize, peak: f32| {
            let d2 = (x as f32 - 118.3).powi(2) + (y as f32 - 61.2).powi(2);
            peak * (-d2 / 8.0).exp()
        };
        let panel = |shift: usize, peak: f32, lifted: bool| {
            let data = (0..size.area()).map(|i| {
                let (x, y) = (i % 160 + shift, i / 160);
                100.0
                    + star(x, y, peak)
                    + if lifted {
                        lift(x as f64, y as f64)
                    } else {
                        0.0
                    }
            });
            Plane::new(size, data.collect()).unwrap()
        };
        let planes = [panel(0, 500.0, false), panel(80, 900.0, true)];
        let maps = [Map::shift(0.0, 0.0), Map::shift(-80.0, 0.0)];
        let covers: Vec<Cover> = planes
            .iter()
            .zip(&maps)
            .map(|(p, m)| Cover::of(p, m, size.rect(), cells))
            .collect();
        let labels = lay(&covers, &Costs::of_stars(cells, &[]), 0, None);
        let patches = (0..5 * 7)
            .map(|k| {
                let at = Point::new(
                    (80 + PATCH * (k % 5)) as f64 + 7.5,
                    (PATCH * (k / 5)) as f64 + 7.5,
                );
                let after = -f64::from(lift(at.x, at.y));
                Shared {
                    at,
                    before: after,
                    after,
                    mean: 100.0,
                    kept: 1.0,
                }
            })
            .collect();
        let overlap = Overlap {
            a: 0,
            b: 1,
            ratio: None,
            stars: 0,
            patches,
        };
        let all = covers.into_iter().map(Some).collect();
        let join = Join::new(
            (cells, share),
            &labels,
            all,
            stars,
            (&[overlap], &[0, 1], PATCH),
        );
        let input = |source| Input {
            source,
            placement: Map::shift(0.0, 0.0),
            balance: Balance::unchanged(0.0, 1.0),
            saturation: f32::INFINITY,
            sampling: Sampling::default(),
        };
        let weights = [0, 1].map(|panel| PanelWeights { join: &join, panel });
        let correction = Correction(&join);
        let inputs = [
            Input {
                placement: maps[0].clone(),
                ..input(&planes[0])
            },
            Input {
                placement: maps[1].clone(),
                ..input(&planes[1])
            },
            input(&weights[0]),
            input(&weights[1]),
            input(&correction),
        ];
        let op = JoinPanels {
            join: &join,
            frames: &[(0, 1.0), (1, 1.0)],
            panels: 2,
            noise: None,
        };
        let mut out = vec![Plane::filled(canvas, 0.0)];
        let budget = Budget { bytes: 1 << 24 };
        merge(&inputs, canvas, &op, budget, &mut out, &|_, _| ()).unwrap();
        out.remove(0)
    }

    fn largest_step(p: &Plane, y: usize) -> f32 {
        p.row(y)
            .windows(2)
            .map(|w| (w[0] - w[1]).abs())
            .fold(0.0, f32::max)
    }

    #[test]
    fn a_difference_is_spread_over_the_overlap() {
        let out = joined(&|_, _| 8.0, &[], Share::Seam);
        assert!(out.data().iter().all(|v| v.is_finite()));
        // Far from the overlap nothing has changed.
        assert!((out.row(20)[10] - 100.0).abs() < 1e-4 && (out.row(20)[230] - 108.0).abs() < 1e-4);
        // A cut would be a step of 8; three cells' ramp alone 1 a pixel.
        let step = largest_step(&out, 20);
        assert!(step < 0.35, "{step}");
        let none = joined(&|_, _| 0.0, &[], Share::Seam);
        assert!(largest_step(&none, 20) < 1e-3);
    }

    #[test]
    fn a_star_on_the_seam_comes_from_one_panel_whole() {
        let star = Shining {
            at: Point::new(118.3, 61.2),
            radius: 10.0,
            height: 500.0,
        };
        let peak = |p: &Plane| (115..122).map(|x| p.row(61)[x]).fold(0.0, f32::max);
        let whole = joined(&|_, _| 0.0, &[star], Share::Seam);
        let (a, b) = (592.0, 985.6);
        let got = peak(&whole);
        assert!((got - a).abs() < 2.0 || (got - b).abs() < 2.0, "{got}");
        // Its profile: the same owner over the whole disc.
        let height = if got > 800.0 { 900.0 } else { 500.0 };
        for (x, y) in [(114, 61), (118, 66), (123, 58)] {
            let d2 = (x as f32 - 118.3).powi(2) + (y as f32 - 61.2).powi(2);
            let want = 100.0 + height * (-d2 / 8.0).exp();
            assert!((whole.row(y)[x] - want).abs() < 0.01 * want, "({x}, {y})");
        }
    }

    #[test]
    fn a_mean_is_half_way_between_both() {
        let out = joined(&|_, _| 8.0, &[], Share::Average);
        assert!((out.row(20)[119] - 104.0).abs() < 0.5);
        assert!((out.row(20)[4] - 100.0).abs() < 1e-4);
        assert!(out.data().iter().all(|v| v.is_finite()));
    }
}
