//! Up to where a frame is covered: the border that dithering leaves of a stack, by its noise.
//!
//! Towards the edges of a master fewer and fewer sub-frames were averaged: the noise rises, and last there is nothing.
//! Strips along each side are compared with the same side further in, by second differences of neighbouring pixels,
//! which neither sky nor nebula touches. What fewer than about half of the sub-frames cover is cut.

use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::Rect;

/// Pixels across a strip.
const STRIP: usize = 4;

/// Strips are compared with the pixels from here on inwards.
const INWARDS: (usize, usize) = (96, 160);

/// More noise than this, against further in, is that of half the sub-frames (a square root of 2, less its error).
const MOST_NOISE: f64 = 1.35;

/// More missing pixels than this part of a strip are no dead pixels.
const MOST_MISSING: f64 = 0.02;

/// A border is not wider than this part of the frame.
const WIDEST: f64 = 0.2;

/// The part of the frame that is covered well.
pub fn covered(plane: &Plane) -> Rect {
    let whole = plane.size().rect();
    let middle = |from: i64, n: usize| {
        (
            from + (0.2 * n as f64) as i64,
            n - 2 * (0.2 * n as f64) as usize,
        )
    };
    // Columns by the middle rows, then rows by the columns that are left, and columns once more by the rows that are.
    let (y, height) = middle(0, whole.height);
    let columns = cut_columns(plane, Rect { y, height, ..whole });
    let rows = cut_rows(plane, columns);
    cut_columns(plane, rows)
}

/// A rectangle (of which the rows count only) without the columns at both sides that are not covered well there.
fn cut_columns(plane: &Plane, rect: Rect) -> Rect {
    let all = plane.size().width();
    let strip = |x: usize| Rect {
        x: x as i64,
        width: STRIP.min(all - x),
        ..rect
    };
    let from = cut(plane, all, &strip);
    let to = cut(plane, all, &|at| strip(all - STRIP.min(all - at) - at));
    Rect {
        x: from as i64,
        width: all.saturating_sub(from + to),
        ..rect
    }
}

/// The same with rows; the columns count.
fn cut_rows(plane: &Plane, rect: Rect) -> Rect {
    let all = plane.size().height();
    let strip = |y: usize| Rect {
        y: y as i64,
        height: STRIP.min(all - y),
        ..rect
    };
    let from = cut(plane, all, &strip);
    let to = cut(plane, all, &|at| strip(all - STRIP.min(all - at) - at));
    Rect {
        y: from as i64,
        height: all.saturating_sub(from + to),
        ..rect
    }
}

/// How many of `all` pixels are cut from a side, whose strips begin so many pixels inwards.
fn cut(plane: &Plane, all: usize, strip: &dyn Fn(usize) -> Rect) -> usize {
    let inner: Vec<f64> = (INWARDS.0..INWARDS.1.min(all / 2))
        .step_by(STRIP)
        .map(|at| seen(plane, strip(at)))
        .filter_map(|(noise, missing)| (missing < MOST_MISSING).then_some(noise))
        .collect();
    let usual = if inner.is_empty() {
        f64::INFINITY
    } else {
        inner.iter().sum::<f64>() / inner.len() as f64
    };
    // A run of good strips ends the search.
    let (mut cut, mut good) = (0, 0);
    for at in (0..(WIDEST * all as f64) as usize).step_by(STRIP) {
        let (noise, missing) = seen(plane, strip(at));
        if missing > MOST_MISSING || noise > MOST_NOISE * usual {
            cut = at + STRIP;
            good = 0;
        } else {
            good += 1;
            if good > 8 {
                break;
            }
        }
    }
    cut
}

/// Noise of a rectangle by the differences of neighbours, and the part of it that is missing. Exact zeros are what a
/// program writes where it has nothing.
fn seen(plane: &Plane, rect: Rect) -> (f64, f64) {
    let mut differences: Vec<f32> = Vec::new();
    let mut missing = 0usize;
    // Some thousands of differences know the noise to a percent.
    let rows = rect.height.div_ceil(1500).max(1);
    let mut looked = 0usize;
    for y in (rect.y..rect.bottom()).step_by(rows) {
        let row = plane.row(y as usize);
        let row = &row[rect.x as usize..rect.right() as usize];
        let step = row.len().div_ceil(1500).max(1);
        for three in row.windows(3).step_by(step) {
            looked += 1;
            if three.iter().all(|v| v.is_finite() && *v != 0.0) {
                differences.push((three[0] - 2.0 * three[1] + three[2]).abs());
            } else {
                missing += 1;
            }
        }
    }
    let missing = missing as f64 / looked.max(1) as f64;
    if differences.is_empty() {
        return (f64::INFINITY, 1.0);
    }
    let noise = f64::from(median(&mut differences)) * MAD_TO_SIGMA / 6f64.sqrt();
    (noise, missing)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    fn noise(i: usize) -> f32 {
        let one = |k: usize| {
            let mut z = ((i * 12 + k + 1) as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15);
            z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
            ((z ^ (z >> 27)) >> 11) as f32 / (1u64 << 53) as f32
        };
        (0..12).map(one).sum::<f32>() - 6.0
    }

    #[test]
    fn a_ragged_border_is_cut_by_its_noise_and_a_slope_is_not() {
        let size = Size::new(600, 500).unwrap();
        // Left: 20 pixels missing, then 40 with a quarter of the sub-frames. Below: 12 rows of zeros. A steep
        // nebula at the right.
        let data = (0..size.area()).map(|i| {
            let (x, y) = (i % 600, i / 600);
            let sigma = if x < 60 { 2.0 } else { 1.0 };
            let glow = if x > 500 { 3.0 * (x - 500) as f32 } else { 0.0 };
            match (x, y) {
                (0..20, _) => f32::NAN,
                (_, 488..) => 0.0,
                _ => 100.0 + glow + sigma * noise(i),
            }
        });
        let plane = Plane::new(size, data.collect()).unwrap();
        let r = covered(&plane);
        assert_eq!((r.x, r.y, r.right(), r.bottom()), (60, 0, 600, 488));
    }

    #[test]
    fn a_frame_without_a_border_stays_whole() {
        let size = Size::new(300, 200).unwrap();
        let plane = Plane::new(size, (0..size.area()).map(|i| 9.0 + noise(i)).collect()).unwrap();
        assert_eq!(covered(&plane), size.rect());
        // Nothing at all is no border either, and no panic.
        let empty = Plane::filled(size, f32::NAN);
        assert!(covered(&empty).width < 300);
        let tiny = Plane::filled(Size::new(3, 2).unwrap(), 1.0);
        covered(&tiny);
    }
}
