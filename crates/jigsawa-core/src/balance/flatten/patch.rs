//! Patches of one frame: their level, and how rough they are.
//!
//! Roughness is the scatter of the means of a patch's sixteen blocks around a curved surface through them, against what
//! noise alone gives them: 1 where nothing but noise and a smooth sky is, more where a nebula has folds. It tells nebula
//! from gradient where brightness cannot.

use crate::number::Convert;
use nalgebra::{SMatrix, SVector};
use rayon::prelude::*;

use super::super::patches::{CLIP, LEAST_FILLED};
use super::super::{Samples, Sky};
use crate::robust::clipped;
use crate::space::{CanvasPx, Point};

/// A patch of a frame's own sky.
#[derive(Debug, Clone, Copy)]
pub(super) struct OwnPatch {
    /// Its middle.
    pub(super) at: Point<CanvasPx>,
    /// Its mean, without what stands out.
    pub(super) level: f64,
    /// The error of that by the frame's noise.
    pub(super) error: f64,
    /// Points behind it, in parts of the patch.
    pub(super) filled: f64,
    /// Variance of its blocks against that of noise; `None` where too few blocks are filled to tell.
    pub(super) rough: Option<f64>,
}

/// Blocks along a patch's side.
const BLOCKS: usize = 4;

/// Numbers of the curved surface that is taken out of a patch.
const CURVED: usize = 6;

/// Fewest blocks that tell a roughness.
const LEAST_BLOCKS: usize = 10;

/// Values beyond [`CLIP`] leave less scatter to the rest.
const CLIPPED_VARIANCE: f64 = 0.95;

/// All patches of a frame's lattice, row by row; `None` where too few points are filled.
pub(super) fn patches(sky: &Sky<'_>) -> Vec<Option<OwnPatch>> {
    let samples = &sky.samples;
    let lattice = samples.lattice();
    let (columns, rows) = lattice.patches();
    let (kept_columns, kept_rows) = samples.kept();
    let step = lattice.step().real();
    let noise = &sky.member.catalogue.noise;
    // Of so many points a block's mean is known to this variance: that of the whole block, and what points far apart add.
    let pixels = sky.member.pixels();
    let of_block = |points: f64, side: f64| {
        let whole = noise.at(side * pixels) / (side * pixels).max(1.0);
        let apart = noise.pixel().powi(2) * (1.0 - 1.0 / (step * step)) / points;
        whole * whole + apart
    };
    (0..rows)
        .into_par_iter()
        .flat_map_iter(|r| {
            let mut buffers = Buffers::default();
            let kept = kept_rows.contains(&r);
            let kept_columns = kept_columns.clone();
            (0..columns)
                .map(|c| {
                    (kept && kept_columns.contains(&c))
                        .then(|| buffers.patch(samples, (c, r), &of_block))
                        .flatten()
                })
                .collect::<Vec<_>>()
        })
        .collect()
}

/// Memory of a patch's work.
#[derive(Default)]
struct Buffers {
    values: Vec<f32>,
    scratch: Vec<f32>,
}

impl Buffers {
    fn patch(
        &mut self,
        samples: &Samples,
        patch: (usize, usize),
        of_block: &dyn Fn(f64, f64) -> f64,
    ) -> Option<OwnPatch> {
        let lattice = samples.lattice();
        let (columns, rows) = lattice.inside(patch);
        let all = (columns.len() * rows.len()).real();
        self.values.clear();
        for r in rows.clone() {
            let row = samples.row(columns.clone(), r);
            self.values
                .extend(row.iter().copied().filter(|v| v.is_finite()));
        }
        if self.values.is_empty() || self.values.len().real() < LEAST_FILLED * all {
            return None;
        }
        let sky = clipped(&mut self.values, CLIP.0, CLIP.1, &mut self.scratch)?;
        let (low, high) = (
            sky.level - CLIP.0 * sky.sigma,
            sky.level + CLIP.1 * sky.sigma,
        );
        let mut sums = [(0.0f64, 0usize); BLOCKS * BLOCKS];
        let (w, h) = (columns.len(), rows.len());
        for (j, r) in rows.enumerate() {
            let row = samples.row(columns.clone(), r);
            for (i, v) in row.iter().enumerate() {
                if *v >= low && *v <= high {
                    let block = &mut sums[(j * BLOCKS / h) * BLOCKS + i * BLOCKS / w];
                    block.0 += f64::from(*v);
                    block.1 += 1;
                }
            }
        }
        let n: usize = sums.iter().map(|s| s.1).sum();
        let total: f64 = sums.iter().map(|s| s.0).sum();
        (n > 0).then(|| OwnPatch {
            at: lattice.middle(patch),
            level: total / n.real(),
            error: of_block(n.real(), (w.min(h) * lattice.step()).real()).sqrt(),
            filled: n.real() / all,
            rough: roughness(
                &sums,
                all / (BLOCKS * BLOCKS).real(),
                (w * lattice.step()).real() / BLOCKS.real(),
                of_block,
            ),
        })
    }
}

/// The scatter of blocks' means around a curved surface, against noise. `points` of a full block, whose side is `side`
/// canvas pixels.
fn roughness(
    sums: &[(f64, usize); BLOCKS * BLOCKS],
    points: f64,
    side: f64,
    of_block: &dyn Fn(f64, f64) -> f64,
) -> Option<f64> {
    let mut matrix = SMatrix::<f64, CURVED, CURVED>::zeros();
    let mut right = SVector::<f64, CURVED>::zeros();
    let middle = 0.5 * (BLOCKS.real() - 1.0);
    let blocks: Vec<(SVector<f64, CURVED>, f64, f64)> = sums
        .iter()
        .enumerate()
        .filter(|(_, (_, n))| (*n).real() >= LEAST_FILLED * points && *n > 0)
        .map(|(k, (sum, n))| {
            let (x, y) = ((k % BLOCKS).real() - middle, (k / BLOCKS).real() - middle);
            let row = SVector::from([1.0, x, y, x * x, x * y, y * y]);
            let n = (*n).real();
            let weight = CLIPPED_VARIANCE * of_block(n, side);
            (row, sum / n, 1.0 / weight.max(f64::MIN_POSITIVE))
        })
        .collect();
    if blocks.len() < LEAST_BLOCKS {
        return None;
    }
    for (row, mean, weight) in &blocks {
        matrix += row * row.transpose() * *weight;
        right += row * (*weight * mean);
    }
    let numbers = matrix.cholesky()?.solve(&right);
    let squares: f64 = blocks
        .iter()
        .map(|(row, mean, weight)| weight * (mean - row.dot(&numbers)).powi(2))
        .sum();
    let rough = squares / (blocks.len() - CURVED).real();
    rough.is_finite().then_some(rough)
}
