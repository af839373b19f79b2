//! The sky under the stars: a mesh of clipped medians over the frame.
//!
//! In: a plane. Out: level and noise on a grid of square cells, to be read at any position. Each cell
//! gives the clipped median of its pixels, and its noise from second differences over three pixels: far
//! enough that a stack's correlated neighbours do not hide noise, and blind to the slopes of a nebula,
//! which the plain scatter in a cell takes for noise (11 % too much on the demo's hydrogen). A 3 x 3 median over the cells
//! removes those that a bright star fills (the mesh of Bertin & Arnouts 1996, A&AS 117, 393, with the
//! median in place of their mode estimate, which is noisier on masters). Cells without data take the
//! mean of their neighbours. Bilinear between the centres, and on in a straight line beyond the outermost.

use std::sync::OnceLock;

use crate::number::Convert;
use multiversion::multiversion;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::plane::Plane;
use crate::robust::{Counts, MAD_TO_SIGMA, clipped, clipped_counts, grouped_median, median};
use crate::space::{FramePx, Point, Size};

/// Cells of this many pixels: wide against a star, narrow against a gradient.
const CELL_PX: usize = 64;

/// Every third row of a cell is read: 1400 pixels fix the median to 3 % of the noise, and the noise to
/// 3 %, which is far below what detection notices.
const ROW_STEP: usize = 3;

/// Bright pixels go at 2.5 sigma, dark ones at 3: stars are one-sided.
const CLIP_HIGH: f32 = 2.5;
const CLIP_LOW: f32 = 3.0;

/// A cell with less than this part of valid pixels is filled from its neighbours.
const LEAST_VALID: f32 = 0.25;

/// Level and noise of the sky over a frame.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SkyMesh {
    size: Size,
    cell_w: f64,
    cell_h: f64,
    columns: usize,
    rows: usize,
    measured: Vec<f32>,
    level: Vec<f32>,
    sigma: Vec<f32>,
    /// Asked for by each star.
    #[serde(skip)]
    typical_sigma: OnceLock<f32>,
}

/// One cell of the mesh.
#[derive(Debug, Clone, Copy)]
pub struct SkyCell {
    /// The cell's centre.
    pub at: Point<FramePx>,
    /// Its clipped median, as measured.
    pub level: f32,
    /// Its noise.
    pub sigma: f32,
}

impl SkyMesh {
    /// Measures the mesh. `None` when the plane has no finite pixel at all.
    pub fn measure(plane: &Plane) -> Option<Self> {
        let size = plane.size();
        let columns = (size.width() / CELL_PX).max(1);
        let rows = (size.height() / CELL_PX).max(1);
        let edge = |i: usize, n: usize, len: usize| i * len / n;
        let cells: Vec<(f32, f32)> = (0..rows)
            .into_par_iter()
            .flat_map_iter(|r| {
                let (y0, y1) = (
                    edge(r, rows, size.height()),
                    edge(r + 1, rows, size.height()),
                );
                let mut buffers = CellBuffers::default();
                (0..columns)
                    .map(move |c| {
                        let (x0, x1) = (
                            edge(c, columns, size.width()),
                            edge(c + 1, columns, size.width()),
                        );
                        buffers.measure(plane, (x0, x1), (y0, y1))
                    })
                    .collect::<Vec<_>>()
            })
            .collect();
        let (measured, sigma): (Vec<f32>, Vec<f32>) = cells.into_iter().unzip();
        if measured.iter().all(|v| v.is_nan()) {
            return None;
        }
        let grid = Grid { columns, rows };
        Some(Self {
            size,
            cell_w: size.width().real() / columns.real(),
            cell_h: size.height().real() / rows.real(),
            columns,
            rows,
            level: grid.smoothed(&grid.filled(measured.clone())),
            sigma: grid.smoothed(&grid.filled(sigma)),
            measured,
            typical_sigma: OnceLock::new(),
        })
    }

    /// The mesh of the same frame as means of 2 x 2 pixels, which is of this size.
    pub(super) fn halved(&self, size: Size) -> Self {
        Self {
            size,
            cell_w: 0.5 * self.cell_w,
            cell_h: 0.5 * self.cell_h,
            sigma: self.sigma.iter().map(|s| 0.5 * s).collect(),
            typical_sigma: OnceLock::new(),
            ..self.clone()
        }
    }

    /// The same mesh with other levels, cell by cell, and one noise for all; cells without data stay so.
    pub(super) fn with_levels(&self, levels: &[f32], sigma: f32) -> Self {
        let grid = Grid {
            columns: self.columns,
            rows: self.rows,
        };
        let known = self.measured.iter().zip(levels);
        let measured: Vec<f32> = known
            .map(|(m, l)| if m.is_finite() { *l } else { f32::NAN })
            .collect();
        Self {
            level: grid.smoothed(&grid.filled(measured.clone())),
            sigma: vec![sigma; self.sigma.len()],
            measured,
            typical_sigma: OnceLock::new(),
            ..self.clone()
        }
    }

    /// Columns and rows of a cell, from and to (exclusive).
    pub(super) fn cell_rect(&self, i: usize) -> ([usize; 2], [usize; 2]) {
        let edge = |i: usize, n: usize, len: usize| i * len / n;
        let (c, r) = (i % self.columns, i / self.columns);
        let (w, h) = (self.size.width(), self.size.height());
        (
            [edge(c, self.columns, w), edge(c + 1, self.columns, w)],
            [edge(r, self.rows, h), edge(r + 1, self.rows, h)],
        )
    }

    /// All values of a cell.
    pub(super) fn values_of(&self, plane: &Plane, i: usize) -> Vec<f32> {
        let ([x0, x1], [y0, y1]) = self.cell_rect(i);
        let rows = (y0..y1).flat_map(|y| &plane.row(y)[x0..x1]);
        rows.copied().filter(|v| v.is_finite()).collect()
    }

    /// The sky's level at a position.
    pub fn level_at(&self, p: Point<FramePx>) -> f32 {
        self.between(&self.level, p)
    }

    /// The noise of a pixel at a position.
    pub fn sigma_at(&self, p: Point<FramePx>) -> f32 {
        self.between(&self.sigma, p)
    }

    /// The sky's level along row `y`, one value a pixel from column 0.
    pub fn level_row(&self, y: usize, out: &mut [f32]) {
        let (r0, r1, ty) = split(y.real(), self.cell_h, self.rows);
        let column = |c: usize| {
            let (a, b) = (
                self.level[r0 * self.columns + c],
                self.level[r1 * self.columns + c],
            );
            a + (b - a) * ty.single()
        };
        let centre = |c: usize| (c.real() + 0.5) * self.cell_w - 0.5;
        // Between two cell centres the level is a straight line; the first and the last line go on
        // to the frame's edges.
        let last = self.columns.saturating_sub(2);
        let mut x = 0;
        for c in 0..=last {
            let end = if c == last {
                out.len()
            } else {
                centre(c + 1).ceil().index().min(out.len())
            };
            let (a, b) = (column(c), column((c + 1).min(self.columns - 1)));
            let slope = (f64::from(b - a) / self.cell_w).single();
            let start = a + slope * (x.real() - centre(c)).single();
            ramp(start, slope, &mut out[x..end]);
            x = end;
        }
    }

    /// Width and height of a cell in pixels.
    pub const fn cell_px(&self) -> (f64, f64) {
        (self.cell_w, self.cell_h)
    }

    /// Columns and rows of cells.
    pub const fn shape(&self) -> (usize, usize) {
        (self.columns, self.rows)
    }

    /// All cells with data, row by row.
    pub fn cells(&self) -> impl Iterator<Item = SkyCell> + '_ {
        (0..self.measured.len())
            .filter(|i| self.measured[*i].is_finite())
            .map(|i| SkyCell {
                at: Point::new(
                    ((i % self.columns).real() + 0.5) * self.cell_w - 0.5,
                    ((i / self.columns).real() + 0.5) * self.cell_h - 0.5,
                ),
                level: self.measured[i],
                sigma: self.sigma[i],
            })
    }

    /// The cell around a position, when it has data.
    pub fn cell_at(&self, p: Point<FramePx>) -> Option<SkyCell> {
        if !self.size.holds(p) {
            return None;
        }
        let c = ((p.x + 0.5) / self.cell_w).index().min(self.columns - 1);
        let r = ((p.y + 0.5) / self.cell_h).index().min(self.rows - 1);
        let i = r * self.columns + c;
        self.measured[i].is_finite().then(|| SkyCell {
            at: p,
            level: self.measured[i],
            sigma: self.sigma[i],
        })
    }

    /// The middle level of all cells.
    pub fn typical_level(&self) -> f32 {
        median(&mut self.level.clone())
    }

    /// The noise of a pixel in the quieter cells (the lower quartile: nebula and crowding only add).
    pub fn typical_sigma(&self) -> f32 {
        let lower_quarter = || crate::robust::quantile(&mut self.sigma.clone(), 0.25);
        *self.typical_sigma.get_or_init(lower_quarter)
    }

    fn between(&self, values: &[f32], p: Point<FramePx>) -> f32 {
        let (c0, c1, tx) = split(p.x, self.cell_w, self.columns);
        let (r0, r1, ty) = split(p.y, self.cell_h, self.rows);
        let v = |r: usize, c: usize| f64::from(values[r * self.columns + c]);
        let top = v(r0, c0) + (v(r0, c1) - v(r0, c0)) * tx;
        let low = v(r1, c0) + (v(r1, c1) - v(r1, c0)) * tx;
        (top + (low - top) * ty).single()
    }
}

/// A straight line, value by value.
#[multiversion(targets("x86_64+avx2"))]
fn ramp(start: f32, slope: f32, out: &mut [f32]) {
    for (i, v) in out.iter_mut().enumerate() {
        *v = start + slope * i.u32().i32().single();
    }
}

/// Pixels between the places whose differences tell the noise.
const LAG: usize = 3;

/// Memory of the measurement of a cell, kept from cell to cell.
#[derive(Default)]
struct CellBuffers {
    values: Vec<f32>,
    differences: Vec<f32>,
    scratch: Vec<f32>,
    counts: Counts,
}

impl CellBuffers {
    /// Level and noise of one cell; NaN when it has too little data.
    fn measure(
        &mut self,
        plane: &Plane,
        (x0, x1): (usize, usize),
        (y0, y1): (usize, usize),
    ) -> (f32, f32) {
        self.values.clear();
        self.differences.clear();
        let mut seen = 0;
        for y in (y0..y1).step_by(ROW_STEP) {
            let row = &plane.row(y)[x0..x1];
            seen += row.len();
            let inner = row.len().saturating_sub(2 * LAG);
            let thirds = row[inner.min(LAG)..]
                .iter()
                .zip(row.iter().zip(&row[row.len() - inner..]))
                .take(inner);
            let differences = thirds.map(|(m, (a, b))| (m - 0.5 * (a + b)).abs());
            // Most rows are whole, and those go as a block.
            if row.iter().fold(true, |all, v| all & v.is_finite()) {
                self.values.extend_from_slice(row);
                self.differences.extend(differences);
            } else {
                self.values.extend(row.iter().filter(|v| v.is_finite()));
                self.differences
                    .extend(differences.filter(|d| d.is_finite()));
            }
        }
        if self.values.is_empty() || self.values.len().single() < LEAST_VALID * seen.single() {
            return (f32::NAN, f32::NAN);
        }
        let counted = if self.counts.around_level(&self.values) {
            clipped_counts(&self.counts, CLIP_LOW, CLIP_HIGH)
        } else {
            None
        };
        let sky =
            counted.or_else(|| clipped(&mut self.values, CLIP_LOW, CLIP_HIGH, &mut self.scratch));
        let Some(sky) = sky else {
            return (f32::NAN, f32::NAN);
        };
        // Too narrow a cell has no differences: its plain scatter must do.
        // A value less the mean of two comes in halves of their step.
        let step = 0.5 * self.counts.step();
        let sigma = scatter(&mut self.differences, &mut self.counts, sky.sigma, step)
            .map_or(sky.sigma, |s| s / 1.5f32.sqrt());
        (sky.level, sigma)
    }
}

/// Standard deviation of values around zero from their sizes, which is `about` so much: by the median, once more without those
/// beyond three sigma, which stars have made. `None` for no values.
fn scatter(sizes: &mut Vec<f32>, counts: &mut Counts, about: f32, step: f32) -> Option<f32> {
    if sizes.is_empty() {
        return None;
    }
    let to_sigma = MAD_TO_SIGMA.single();
    // What the cut takes from the median of pure noise: 0.2 %.
    if counts.from_zero(sizes, 1.5 * about, step) {
        let first = counts.at(0.5 * sizes.len().single()) * to_sigma;
        return Some(counts.median(f32::NEG_INFINITY, 3.0 * first) * to_sigma);
    }
    let first = grouped_median(sizes) * to_sigma;
    sizes.retain(|d| *d <= 3.0 * first);
    Some(grouped_median(sizes) * to_sigma)
}

/// The two cells that a coordinate is read from, and how far from the first's centre to the second's
/// it lies: below 0 or above 1 beyond the outermost centres.
fn split(at: f64, cell: f64, count: usize) -> (usize, usize, f64) {
    if count == 1 {
        return (0, 0, 0.0);
    }
    let t = (at + 0.5) / cell - 0.5;
    let i = t.max(0.0).index().min(count - 2);
    (i, i + 1, t - i.real())
}

/// The shape of a mesh, for work on its cells.
struct Grid {
    columns: usize,
    rows: usize,
}

impl Grid {
    /// The cells around (c, r), itself included.
    fn around(&self, i: usize) -> impl Iterator<Item = usize> + '_ {
        let (c, r) = (i % self.columns, i / self.columns);
        let rows = r.saturating_sub(1)..(r + 2).min(self.rows);
        rows.flat_map(move |r| {
            let columns = c.saturating_sub(1)..(c + 2).min(self.columns);
            columns.map(move |c| r * self.columns + c)
        })
    }

    /// Missing cells filled by the mean of their neighbours, ring by ring from where there is data.
    fn filled(&self, mut values: Vec<f32>) -> Vec<f32> {
        // A ring at a time: after as many as the mesh has cells on a side nothing is left that could be reached.
        for _ in 0..self.columns.max(self.rows) {
            if !values.iter().any(|v| v.is_nan()) {
                break;
            }
            let before = values.clone();
            for i in (0..values.len()).filter(|i| before[*i].is_nan()) {
                let known: Vec<f32> = self
                    .around(i)
                    .map(|j| before[j])
                    .filter(|v| v.is_finite())
                    .collect();
                if !known.is_empty() {
                    values[i] = known.iter().sum::<f32>() / known.len().single();
                }
            }
        }
        values
    }

    /// Each cell replaced by the median of the 3 x 3 around it. Beyond the edge the mesh goes on in a
    /// straight line, so that the median of a tilted sky is the sky at the edges too.
    fn smoothed(&self, values: &[f32]) -> Vec<f32> {
        let (columns, rows) = (self.columns.whole(), self.rows.whole());
        let beyond = |i: i64, n: i64| match i {
            _ if n == 1 => (0, 0),
            -1 => (0, 1),
            i if i == n => (n - 1, n - 2),
            i => (i, i),
        };
        let at = |c: i64, r: i64| values[(r * columns + c).index()];
        let extended = |c: i64, r: i64| {
            let ((c0, c1), (r0, r1)) = (beyond(c, columns), beyond(r, rows));
            let (across, down) = (at(c0, r0) - at(c1, r0), at(c0, r0) - at(c0, r1));
            at(c0, r0) + across + down
        };
        (0..values.len().whole())
            .map(|i| {
                let mut near: Vec<f32> = (-1..=1)
                    .flat_map(|dr| (-1..=1).map(move |dc| (dc, dr)))
                    .map(|(dc, dr)| extended(i % columns + dc, i / columns + dr))
                    .collect();
                median(&mut near)
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tilted() -> Plane {
        Plane::from_fn(Size::new(400, 300).unwrap(), |x, y| {
            let noise = ((x * 7919 + y * 104_729) % 101).single() / 50.0 - 1.0;
            100.0 + 0.05 * x.single() - 0.02 * y.single() + noise
        })
    }

    #[test]
    fn a_tilted_sky_is_followed_between_cell_centres() {
        let mesh = SkyMesh::measure(&tilted()).unwrap();
        for (x, y) in [(60.0, 60.0), (200.0, 150.0), (333.0, 240.0)] {
            let want = 100.0 + 0.05 * x - 0.02 * y;
            let got = f64::from(mesh.level_at(Point::new(x, y)));
            assert!((got - want).abs() < 0.35, "({x}, {y}): {got} for {want}");
        }
    }

    #[test]
    fn a_row_of_levels_is_the_level_at_each_pixel() {
        let mesh = SkyMesh::measure(&tilted()).unwrap();
        let mut row = vec![0.0; 400];
        for y in [0, 31, 32, 150, 299] {
            mesh.level_row(y, &mut row);
            for (x, v) in row.iter().enumerate() {
                let want = mesh.level_at(Point::new(x.real(), y.real()));
                assert!((v - want).abs() < 1e-3, "({x}, {y}): {v} for {want}");
            }
        }
    }

    #[test]
    fn stars_and_holes_do_not_move_the_mesh() {
        let mut p = tilted();
        let clean = SkyMesh::measure(&p).unwrap();
        for y in 0..300 {
            for x in 0..400 {
                let star = (x % 40 < 3) && (y % 40 < 3);
                let hole = x > 340 && y > 200;
                let v = &mut p.data_mut()[y * 400 + x];
                *v = if hole {
                    f32::NAN
                } else if star {
                    5000.0
                } else {
                    *v
                };
            }
        }
        let mesh = SkyMesh::measure(&p).unwrap();
        let at = Point::new(200.0, 100.0);
        assert!((mesh.level_at(at) - clean.level_at(at)).abs() < 0.1);
        assert!(mesh.cell_at(Point::new(390.0, 290.0)).is_none());
        assert!(mesh.level_at(Point::new(390.0, 290.0)).is_finite());
    }

    #[test]
    fn a_plane_without_data_has_no_mesh() {
        assert!(SkyMesh::measure(&Plane::filled(Size::new(9, 9).unwrap(), f32::NAN)).is_none());
        assert!(SkyMesh::measure(&Plane::filled(Size::new(1, 1).unwrap(), 3.0)).is_some());
    }
}
