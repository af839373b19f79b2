//! How far each frame lies off the mean of all, over blocks of the canvas: faint and long things show here that no pixel tells.

use std::sync::atomic::{AtomicI8, Ordering};

use multiversion::multiversion;

use super::rejected::BLOCK;
use super::strip::STRIP;
use crate::number::Convert;
use crate::plane::Plane;
use crate::space::{Rect, Size};

/// Steps for a noise width: finer than what the mean of a block's pixels scatters by, and coarse enough for five widths.
const STEPS: f32 = 24.0;

/// Single pixels count so many noise widths at the most: a cosmic ray is no trail.
const MOST: f32 = 4.0;

/// The mean residual of every block of each frame, in noise widths of a pixel.
#[derive(Debug)]
pub struct Residuals {
    blocks: Size,
    frames: Vec<Vec<AtomicI8>>,
}

impl Residuals {
    /// Nothing yet, of so many frames.
    pub fn new(canvas: Size, frames: usize) -> Self {
        let blocks = canvas.blocks(BLOCK);
        let none = |_| (0..blocks.area()).map(|_| AtomicI8::new(0)).collect();
        Self {
            blocks,
            frames: (0..frames).map(none).collect(),
        }
    }

    /// Keeps the blocks of a cell of the canvas, from the sums of its columns.
    pub(super) fn put(&self, frame: usize, cell: Rect, sums: &Sums) {
        let (x, y) = (cell.x.index() / BLOCK, cell.y.index() / BLOCK);
        let columns = &sums.0[..cell.width];
        for (i, block) in columns.chunks(BLOCK).enumerate() {
            let pixels = (block.len() * cell.height).single();
            let mean = block.iter().sum::<f32>() / pixels;
            let steps = (STEPS * mean).round().clamp(-127.0, 127.0).i32();
            let steps = i8::try_from(steps).unwrap_or_default();
            self.frames[frame][y * self.blocks.width() + x + i].store(steps, Ordering::Relaxed);
        }
    }

    /// A frame's residuals, a pixel for each block.
    pub fn plane(&self, frame: usize) -> Plane {
        let steps = &self.frames[frame];
        let width = self.blocks.width();
        Plane::from_fn(self.blocks, |x, y| {
            f32::from(steps[y * width + x].load(Ordering::Relaxed)) / STEPS
        })
    }
}

/// Sums of the columns of a cell.
#[derive(Debug, Clone)]
pub(super) struct Sums([f32; STRIP]);

impl Sums {
    pub(super) const NONE: Self = Self([0.0; STRIP]);

    /// Adds a row of residuals: values less means, over the noise; missing ones are none.
    pub(super) fn add(&mut self, values: &[f32], mean: &[f32], sigma: f32) {
        add(
            &mut self.0,
            values,
            mean,
            1.0 / sigma.max(f32::MIN_POSITIVE),
        );
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn add(sums: &mut [f32; STRIP], values: &[f32], mean: &[f32], inverse: f32) {
    let n = values.len().min(STRIP);
    let (sums, values, mean) = (&mut sums[..n], &values[..n], &mean[..n]);
    for i in 0..n {
        let off = (values[i] - mean[i]) * inverse;
        let off = if off > -MOST { off } else { -MOST };
        let off = if off < MOST { off } else { MOST };
        sums[i] += if values[i].is_finite() { off } else { 0.0 };
    }
}
