//! Values that one of several frames alone shows: trails, cosmic rays, hot pixels.
//!
//! Where three or more frames of a filter overlap, each pixel's values are compared with their median. One that lies off
//! it by more than five widths of its noise is left out of the mean, and so is what lies beside it in its row and off by
//! more than half of that, since a trail's flanks are fainter than its middle. On stars and bright nebula a part of the
//! light counts as noise as well: frames differ in seeing, and in where a pixel's middle falls. With two frames nobody
//! knows which of them is right.

use crate::number::Convert;
use std::sync::atomic::{AtomicU64, Ordering};

/// Fewest frames that outvote one.
pub const LEAST_FRAMES: usize = 3;

/// Widths of the noise from which a value is left out, and beside such a one.
const SIGMAS: f32 = 5.0;
const BESIDE_SIGMAS: f32 = 2.5;

/// Pixels to each side that count as beside.
const BESIDE_PX: usize = 2;

/// The part of the light above the sky that frames may differ by.
const OF_LIGHT: f32 = 0.25;

/// What was left out, counted over a merge.
#[derive(Debug, Default)]
pub struct LeftOut {
    values: AtomicU64,
    of: AtomicU64,
}

impl LeftOut {
    /// The part of all values where enough frames overlap; `None` where they nowhere do.
    pub fn part(&self) -> Option<f64> {
        let of = self.of.load(Ordering::Relaxed);
        (of > 0).then(|| self.values.load(Ordering::Relaxed).real() / of.real())
    }
}

/// Frames that are averaged, in the order of their runs.
pub struct Averaged<'a> {
    /// Runs of balanced values, NaN for no data.
    pub runs: &'a [&'a [f32]],
    /// Their weights.
    pub weights: &'a [f32],
    /// Noise of their skies, balanced; 0 where it is not known.
    pub noise: &'a [f32],
    /// The sky's level.
    pub sky: f32,
}

impl Averaged<'_> {
    /// The weighted mean of each pixel, outliers left out and counted; missing where no frame has data.
    pub fn mean(&self, counted: &LeftOut, out: &mut [f32]) {
        let kept = self.kept(counted);
        let run = |k: usize| kept.as_ref().map_or(self.runs[k], |kept| &kept[k]);
        let runs: Vec<&[f32]> = (0..self.runs.len()).map(run).collect();
        for (x, o) in out.iter_mut().enumerate() {
            let (mut sum, mut weight) = (0.0f32, 0.0f32);
            for (run, w) in runs.iter().zip(self.weights) {
                if run[x].is_finite() {
                    sum += w * run[x];
                    weight += w;
                }
            }
            *o = if weight > 0.0 { sum / weight } else { f32::NAN };
        }
    }

    /// The runs with outliers missing, which are counted; `None` for frames that cannot outvote one.
    pub fn kept(&self, counted: &LeftOut) -> Option<Vec<Vec<f32>>> {
        let frames = self.runs.len();
        if frames < LEAST_FRAMES || self.noise.iter().any(|n| *n <= 0.0) {
            return None;
        }
        let n = self.runs[0].len();
        let mut off = vec![0.0f32; frames * n];
        self.distances(&mut off);
        let (mut left, mut of) = (0u64, 0u64);
        let kept = self.runs.iter().zip(off.chunks_exact(n.max(1)));
        let kept = kept.map(|(run, off)| {
            let value = |(x, v): (usize, &f32)| {
                of += u64::from(off[x] >= 0.0);
                let spoilt = v.is_finite() && is_outlier(off, x);
                left += u64::from(spoilt);
                if spoilt { f32::NAN } else { *v }
            };
            run.iter().enumerate().map(value).collect()
        });
        let kept = kept.collect();
        counted.values.fetch_add(left, Ordering::Relaxed);
        counted.of.fetch_add(of, Ordering::Relaxed);
        Some(kept)
    }

    /// How far each value lies off the median of all, in widths of its noise; -1 where too few frames overlap.
    fn distances(&self, off: &mut [f32]) {
        let n = self.runs[0].len();
        let mut values = Vec::with_capacity(self.runs.len());
        for x in 0..n {
            values.clear();
            values.extend(self.runs.iter().map(|r| r[x]).filter(|v| v.is_finite()));
            let enough = values.len() >= LEAST_FRAMES;
            values.sort_unstable_by(f32::total_cmp);
            // Of an even number the lower one: what spoils a frame is mostly light.
            let middle = values
                .get(values.len().saturating_sub(1) / 2)
                .copied()
                .unwrap_or(0.0);
            let light = OF_LIGHT * (middle - self.sky).max(0.0);
            for (k, run) in self.runs.iter().enumerate() {
                let width = self.noise[k].hypot(light / SIGMAS);
                off[k * n + x] = if enough && run[x].is_finite() {
                    (run[x] - middle).abs() / width
                } else {
                    -1.0
                };
            }
        }
    }
}

/// Is the value at `x` of a frame's distances an outlier, or beside one?
fn is_outlier(off: &[f32], x: usize) -> bool {
    if off[x] > SIGMAS {
        return true;
    }
    let near = x.saturating_sub(BESIDE_PX)..(x + BESIDE_PX + 1).min(off.len());
    off[x] > BESIDE_SIGMAS && off[near].iter().any(|o| *o > SIGMAS)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mean(runs: &[&[f32]]) -> (Vec<f32>, Option<f64>) {
        let n = runs.len();
        let counted = LeftOut::default();
        let averaged = Averaged {
            runs,
            weights: &vec![1.0; n],
            noise: &vec![8.0; n],
            sky: 600.0,
        };
        let mut out = vec![0.0; runs[0].len()];
        averaged.mean(&counted, &mut out);
        (out, counted.part())
    }

    #[test]
    fn a_trail_across_one_of_three_is_left_out_with_its_flanks() {
        let clean = [604.0, 598.0, 601.0, 607.0, 595.0];
        let trail = [604.0, 625.0, 667.0, 622.0, 597.0];
        let (out, part) = mean(&[&clean, &clean, &trail]);
        assert_eq!(out[..3], [604.0, 598.0, 601.0]);
        // A flank within the noise stays.
        assert!((out[3] - 612.0).abs() < 0.01 && (out[4] - 595.667).abs() < 0.01);
        assert!((part.unwrap() - 2.0 / 15.0).abs() < 1e-9);
    }

    #[test]
    fn of_two_frames_none_is_left_out_and_stars_may_differ() {
        let (out, part) = mean(&[&[600.0], &[900.0]]);
        assert_eq!((out[0], part), (750.0, None));
        let (out, _) = mean(&[&[5000.0], &[5600.0], &[5200.0]]);
        assert!((out[0] - 5266.67).abs() < 0.1);
        let (out, part) = mean(&[&[f32::NAN], &[900.0], &[600.0]]);
        assert_eq!((out[0], part), (750.0, None));
    }
}
