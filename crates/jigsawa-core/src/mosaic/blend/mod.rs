//! Joining panels along their seams, in bands: fine detail changes over a few cells, what is left of a difference in
//! the sky over the whole overlap (the idea of Burt & Adelson 1983, ACM Trans. Graph. 2, 217).
//!
//! A pyramid of the whole mosaic is not needed for it, nor one of its tiles: what two panels differ by is known on
//! patches already. It is taken off both, and given back with the wide weights of two coarser bands. So a tile is
//! joined without its neighbours, in any order. A star near a seam comes from one panel whole: the weights within its
//! disc are those of its owner, so that no profile is mixed.

mod bands;
mod panels;

use crate::number::Convert;
use std::collections::BTreeMap;

pub use panels::JoinPanels;

use bands::{Patches, between, differences, extended, smoothed, wide_weights};

use super::cells::{Cells, Cover};
use super::levels::Overlap;
use super::seams::{Labels, Shining};
use crate::merge::Overlay;
use crate::space::{CanvasPx, Point, Rect};

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
        if c < 0 || r < 0 || c >= self.window.width.whole() || r >= self.window.height.whole() {
            return 0.0;
        }
        self.values[r.index() * self.window.width + c.index()]
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
const BANDS: [f64; 2] = [1.0, 2.5];

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
                let label = panel.byte() + 1;
                let on_cells =
                    rows_of(touched, self.cells).any(|row| self.labels[row].contains(&label));
                on_cells || self.discs_in(rect).any(|d| d.owner == label)
            }
            Share::Average => self.covers[panel].as_ref().is_some_and(|cover| {
                let t = touched.intersect(cover.window);
                (t.y..t.bottom())
                    .any(|r| (t.x..t.right()).any(|c| cover.at(c.index(), r.index()) > 0))
            }),
        }
    }

    fn discs_in(&self, rect: Rect) -> impl Iterator<Item = &Disc> {
        let low = rect.y.real() - 2.0 * MOST_DISC_PX;
        let from = self.discs.partition_point(|d| d.at.y < low);
        self.discs[from..]
            .iter()
            .take_while(move |d| d.at.y < rect.bottom().real() + 2.0 * MOST_DISC_PX)
            .filter(move |d| {
                d.at.x + d.outer >= rect.x.real()
                    && d.at.x - d.outer <= rect.right().real()
                    && d.at.y + d.outer >= rect.y.real()
                    && d.at.y - d.outer <= rect.bottom().real()
            })
    }

    /// The weights of a panel over a rectangle; those of all panels sum to 1 where seams are cut.
    fn weights(&self, panel: usize, rect: Rect, out: &mut [f32]) {
        match self.share {
            Share::Seam => {
                let label = panel.byte() + 1;
                self.smoothly(rect, out, &|c, r| {
                    f32::from(u8::from(
                        self.labels[r.index() * self.cells.columns + c.index()] == label,
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
                    let depth = cover.map_or(0, |cover| cover.at(c.index(), r.index()));
                    f32::from(depth.min(FADE)) / f32::from(FADE)
                });
            }
        }
    }

    /// What the weights of a panel are over a tile.
    fn weights_on(&self, panel: usize, tile: Rect) -> Overlay {
        if !self.present(panel, tile) {
            return Overlay::Absent;
        }
        let touched = self.cells.touched(tile, 2);
        let label = panel.byte() + 1;
        let alone = self.share == Share::Seam
            && rows_of(touched, self.cells).all(|row| self.labels[row].iter().all(|l| *l == label))
            && self.discs_in(tile).all(|d| d.owner == label);
        if alone {
            Overlay::Level(1.0)
        } else {
            Overlay::Varies
        }
    }

    /// What is added after joining over a tile.
    fn correction_on(&self, tile: Rect) -> Overlay {
        let touched = self.cells.touched(tile, 1);
        let own = || self.own.iter().flatten();
        if own().all(|g| touched.intersect(g.window).is_empty()) {
            return Overlay::Absent;
        }
        let zero = |g: &Grid| {
            let t = touched.intersect(g.window);
            (t.y..t.bottom()).all(|r| (t.x..t.right()).all(|c| g.at(c, r) == 0.0))
        };
        if own().all(zero) && zero(&self.common) {
            Overlay::Absent
        } else {
            Overlay::Varies
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
    fn smoothly(&self, rect: Rect, out: &mut [f32], overlay: &dyn Fn(i64, i64) -> f32) {
        let side = self.cells.side.real();
        let last = (self.cells.columns.whole() - 1, self.cells.rows.whole() - 1);
        let place = |v: i64| {
            let t = (v.real() + 0.5) / side - 0.5;
            let k = t.round();
            let f = (t - k).single();
            (
                k.whole(),
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
        let mut line = vec![0.0f32; (end - first).index()];
        for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width)) {
            let (k, wy) = place(y);
            for (c, v) in (first..end).zip(line.iter_mut()) {
                let c = c.clamp(0, last.0);
                *v = (0..3)
                    .map(|j| wy[j.index()] * overlay(c, (k + j - 1).clamp(0, last.1)))
                    .sum();
            }
            for ((k, w), v) in columns.iter().zip(row.iter_mut()) {
                let at = (k - 1 - first).index();
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
                x: (s.at.x - reach).whole(),
                y: (s.at.y - reach).whole(),
                width: 2 * reach.index() + 1,
                height: 2 * reach.index() + 1,
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
            let cell = |v: f64, n: usize| (v / self.cells.side.real()).max(0.0).index().min(n - 1);
            let (c, r) = (
                cell(s.at.x, self.cells.columns),
                cell(s.at.y, self.cells.rows),
            );
            let needed = (outer / self.cells.side.real()).ceil().byte();
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
            let on_cells = |patches: &Patches| {
                let window = cover.window;
                let values = (0..window.area())
                    .map(|k| {
                        let (c, r) = (
                            window.x.index() + k % window.width,
                            window.y.index() + k / window.width,
                        );
                        between(patches, cells.middle(c, r), patch_px).single()
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
            let radius = (patches * patch_px.real() / cells.side.real())
                .round()
                .index()
                .max(1);
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
                        g.window.x.index() + k % g.window.width,
                        g.window.y.index() + k / g.window.width,
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
    let (x, w) = (touched.x.index(), touched.width);
    (touched.y..touched.bottom()).map(move |r| {
        let at = r.index() * cells.columns + x;
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
    let rows = (d.at.y - d.outer).ceil().whole().max(rect.y)
        ..((d.at.y + d.outer).whole() + 1).min(rect.bottom());
    let columns = (d.at.x - d.outer).ceil().whole().max(rect.x)
        ..((d.at.x + d.outer).whole() + 1).min(rect.right());
    for y in rows {
        for x in columns.clone() {
            let r = (x.real() - d.at.x).hypot(y.real() - d.at.y);
            if r >= d.outer {
                continue;
            }
            let t = ((d.outer - r) / (d.outer - d.inner)).clamp(0.0, 1.0);
            let f = (t * t * (3.0 - 2.0 * t)).single();
            let w = &mut out[(y - rect.y).index() * rect.width + (x - rect.x).index()];
            *w += f * (f32::from(u8::from(owns)) - *w);
        }
    }
}

#[cfg(test)]
mod tests;
