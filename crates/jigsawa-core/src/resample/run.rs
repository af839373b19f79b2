//! The inner loop: a run of a row's samples with all their taps in the window.
//!
//! Each sample is six rows of eight values weighted by y, summed by x, in vectors of eight; larger kernels
//! take more rows, and more eights of each. Plain arrays of eight were tried first: the compiler took them
//! apart into single numbers, at three times the cost (`lanes` has the vectors). Multiplications and
//! additions stay apart, so every machine gives the same bits. A sum that is not finite has met a missing
//! pixel, and goes the plain way.

// As in `lanes`.
#![allow(clippy::inline_always)]

use super::kernel::{Kernel, PHASES, Ringing};
use super::lanes::{Lanes, Portable};
use super::sample::{Window, limit, sample_at};
use crate::number::Convert;

/// Splits a position in steps into pixel and phase.
#[allow(clippy::cast_possible_truncation, clippy::cast_possible_wrap)] // A constant.
const MASK: i32 = PHASES as i32 - 1;
const SHIFT: u32 = PHASES.trailing_zeros();

/// A run of samples with all their taps in the window.
pub(super) struct Run<'a> {
    pub(super) kernel: &'a Kernel,
    pub(super) window: &'a Window<'a>,
    pub(super) saturation: f32,
    pub(super) x: &'a [i32],
    pub(super) y: &'a [i32],
    pub(super) out: &'a mut [f32],
}

impl Run<'_> {
    /// Fills it by the widest vectors that the machine has.
    pub(super) fn fill(self) {
        #[cfg(target_arch = "x86_64")]
        if let Some(v3) = pulp::x86::V3::try_new() {
            return v3.vectorize(Wide { run: self, v3 });
        }
        self.fill_by(Portable);
    }

    #[inline(always)]
    pub(super) fn fill_by<L: Lanes>(self, lanes: L) {
        match self.kernel.by_phase() {
            Some(weights) if self.kernel.taps() == 6 => self.few::<L, 6>(lanes, weights),
            Some(weights) => self.few::<L, 8>(lanes, weights),
            None => self.many(lanes),
        }
    }

    /// Kernels of six and of eight taps: one vector for each row of pixels.
    #[inline(always)]
    fn few<L: Lanes, const TAPS: usize>(self, l: L, weights: &[[f32; 8]; PHASES]) {
        let Self {
            kernel,
            window,
            saturation,
            ..
        } = self;
        let wide = window.rect.width;
        let before = TAPS / 2 - 1;
        let (left, top) = (
            window.rect.x.i32() + before.i32(),
            window.rect.y.i32() + before.i32(),
        );
        // Frames are turned by little or by half turns: the rows stay the same for many pixels.
        let mut rows: [&[f32]; TAPS] = [&[]; TAPS];
        let mut first_row = i32::MIN;
        for (value, (x, y)) in self.out.iter_mut().zip(self.x.iter().zip(self.y)) {
            let wx = &weights[(x & MASK).index()];
            let wy = &weights[(y & MASK).index()];
            let (row, column) = ((y >> SHIFT) - top, ((x >> SHIFT) - left).index());
            if row != first_row {
                first_row = row;
                for (j, r) in rows.iter_mut().enumerate() {
                    let start = (row.index() + j) * wide;
                    *r = &window.data[start..start + wide];
                }
            }
            let eight = |j: usize| &rows[j][column..column + 8];
            let times = |row: &[f32], w: f32| l.mul(l.load(row), l.splat(w));
            // Written out: the compiler keeps a loop over the rows, at twice the time.
            let mut columns = times(eight(0), wy[0]);
            columns = l.add(columns, times(eight(1), wy[1]));
            if TAPS == 8 {
                columns = l.add(columns, times(eight(2), wy[2]));
            }
            let (upper, lower) = (eight(before), eight(before + 1));
            columns = l.add(columns, times(upper, wy[before]));
            columns = l.add(columns, times(lower, wy[before + 1]));
            columns = l.add(columns, times(eight(before + 2), wy[before + 2]));
            columns = l.add(columns, times(eight(before + 3), wy[before + 3]));
            if TAPS == 8 {
                columns = l.add(columns, times(eight(7), wy[7]));
            }
            let sum = total(l.array(l.mul(columns, l.load(wx))));
            // The limits act only below all pixels around and above saturation. One of the four nearest
            // pixels below the sum, and no saturation, tell in one branch that they do not.
            let lowest = least(
                least(upper[before], upper[before + 1]),
                least(lower[before], lower[before + 1]),
            );
            *value = if sum >= lowest && sum <= saturation {
                sum
            } else if sum.is_finite() {
                let first = (row.index() + before - 1) * wide + column + before - 1;
                limited(
                    &window.data[first..],
                    wide,
                    sum,
                    (saturation, kernel.ringing()),
                )
            } else {
                sample_at(kernel, window, (*x, *y), saturation)
            };
        }
    }

    /// Any kernel: the same sums in the same order. Where the limits may act the plain sample is asked.
    #[inline(always)]
    fn many<L: Lanes>(self, l: L) {
        let Self {
            kernel,
            window,
            saturation,
            ..
        } = self;
        let wide = window.rect.width;
        let half = kernel.taps() / 2;
        let before = half.i32() - 1;
        let (left, top) = (window.rect.x.i32() + before, window.rect.y.i32() + before);
        for (value, (x, y)) in self.out.iter_mut().zip(self.x.iter().zip(self.y)) {
            let wx = kernel.row((x & MASK).index());
            let wy = &kernel.row((y & MASK).index())[..kernel.taps()];
            let first = ((y >> SHIFT) - top).index() * wide + ((x >> SHIFT) - left).index();
            let pixels = &window.data[first..];
            let mut sums = l.splat(0.0);
            for (k, wx) in wx.chunks_exact(8).enumerate() {
                let mut columns = l.splat(0.0);
                for (row, wy) in pixels.chunks(wide).zip(wy) {
                    columns = l.add(columns, l.mul(l.load(&row[8 * k..]), l.splat(*wy)));
                }
                sums = l.add(sums, l.mul(columns, l.load(wx)));
            }
            let sum = total(l.array(sums));
            let near = (half - 1) * wide + half - 1;
            let (upper, lower) = (
                &pixels[near..near + 2],
                &pixels[near + wide..near + wide + 2],
            );
            let lowest = least(least(upper[0], upper[1]), least(lower[0], lower[1]));
            *value = if sum >= lowest && sum <= saturation {
                sum
            } else {
                sample_at(kernel, window, (*x, *y), saturation)
            };
        }
    }
}

/// A run on a machine with AVX2.
#[cfg(target_arch = "x86_64")]
struct Wide<'a> {
    run: Run<'a>,
    v3: pulp::x86::V3,
}

#[cfg(target_arch = "x86_64")]
impl pulp::NullaryFnOnce for Wide<'_> {
    type Output = ();

    #[inline(always)]
    fn call(self) {
        self.run.fill_by(self.v3);
    }
}

/// The sum of eight, in the order in which a vector register is summed.
#[inline(always)]
fn total(c: [f32; 8]) -> f32 {
    ((c[0] + c[4]) + (c[2] + c[6])) + ((c[1] + c[5]) + (c[3] + c[7]))
}

#[inline(always)]
fn least(a: f32, b: f32) -> f32 {
    if a < b { a } else { b }
}

/// The sum within the limits that the 16 pixels around it set; `pixels` begins at the first of them.
fn limited(pixels: &[f32], wide: usize, sum: f32, (saturation, ringing): (f32, Ringing)) -> f32 {
    let (mut low, mut high) = (f32::INFINITY, f32::NEG_INFINITY);
    for row in pixels.chunks(wide).take(4) {
        for v in &row[..4] {
            low = if *v < low { *v } else { low };
            high = if *v > high { *v } else { high };
        }
    }
    limit(sum, (low, high), saturation, ringing)
}
