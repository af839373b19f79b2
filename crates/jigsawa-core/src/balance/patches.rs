//! Patches of sky in two frames: what each shows in the mean over the same points.
//!
//! Over the points that both frames have, those that stand out in either are left away (faint stars,
//! cosmic rays), and both are averaged. Means keep what medians do not: for any scale, the difference
//! of the means is the mean of the differences, so a nebula cancels whatever its shape within a patch.

use crate::number::Convert;
use std::ops::Range;

use rayon::prelude::*;

use super::samples::Samples;
use crate::robust::clipped;
use crate::space::{CanvasPx, Point};

/// A patch of the canvas as two frames show it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BothSkies {
    /// Its middle.
    pub at: Point<CanvasPx>,
    /// Mean of the reference's values.
    pub reference: f64,
    /// Mean of the frame's values, at the same points.
    pub frame: f64,
    /// Points behind both, in parts of the patch.
    pub filled: f64,
}

/// A patch with less than this part of its points says too little.
pub(super) const LEAST_FILLED: f64 = 0.2;

/// Values beyond these widths of their patch are no sky: below and above.
pub(super) const CLIP: (f32, f32) = (3.0, 2.5);

/// All patches that both have, row by row. With one and the same frame twice: its own sky.
pub fn both_skies(reference: &Samples, frame: &Samples) -> Vec<BothSkies> {
    let ((a, b), (c, d)) = (reference.kept(), frame.kept());
    let both = |a: Range<usize>, b: Range<usize>| a.start.max(b.start)..a.end.min(b.end);
    let (columns, rows) = (both(a, c), both(b, d));
    let of_row = |r: usize| {
        let mut buffers = Buffers::default();
        columns
            .clone()
            .filter_map(|c| buffers.patch(reference, frame, (c, r)))
            .collect::<Vec<_>>()
    };
    rows.into_par_iter().flat_map_iter(of_row).collect()
}

/// Memory of a patch's work.
#[derive(Default)]
struct Buffers {
    pairs: Vec<(f32, f32)>,
    values: Vec<f32>,
    scratch: Vec<f32>,
}

impl Buffers {
    fn patch(
        &mut self,
        reference: &Samples,
        frame: &Samples,
        patch: (usize, usize),
    ) -> Option<BothSkies> {
        let lattice = reference.lattice();
        let (columns, rows) = lattice.inside(patch);
        let all = columns.len() * rows.len();
        self.pairs.clear();
        for r in rows {
            let both = reference
                .row(columns.clone(), r)
                .iter()
                .zip(frame.row(columns.clone(), r));
            self.pairs.extend(
                both.filter(|(a, b)| a.is_finite() && b.is_finite())
                    .map(|(a, b)| (*a, *b)),
            );
        }
        if self.pairs.len().real() < LEAST_FILLED * all.real() || self.pairs.is_empty() {
            return None;
        }
        let (low_a, high_a) = self.bounds(|p| p.0)?;
        let (low_b, high_b) = self.bounds(|p| p.1)?;
        let (mut sum_a, mut sum_b, mut n) = (0.0, 0.0, 0usize);
        for (a, b) in &self.pairs {
            if *a >= low_a && *a <= high_a && *b >= low_b && *b <= high_b {
                sum_a += f64::from(*a);
                sum_b += f64::from(*b);
                n += 1;
            }
        }
        (n > 0).then(|| BothSkies {
            at: lattice.middle(patch),
            reference: sum_a / n.real(),
            frame: sum_b / n.real(),
            filled: n.real() / all.real(),
        })
    }

    /// Between what values the patch's sky lies.
    fn bounds(&mut self, of: fn(&(f32, f32)) -> f32) -> Option<(f32, f32)> {
        self.values.clear();
        self.values.extend(self.pairs.iter().map(of));
        let sky = clipped(&mut self.values, CLIP.0, CLIP.1, &mut self.scratch)?;
        Some((
            sky.level - CLIP.0 * sky.sigma,
            sky.level + CLIP.1 * sky.sigma,
        ))
    }
}
