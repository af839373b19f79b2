//! The starlet transform: an image taken apart into structures of growing size that add up to it.
//!
//! The isotropic undecimated wavelet of the cubic spline (Starck & Murtagh 2006, Astronomical Image and
//! Data Analysis, 2nd ed.; Starck, Fadili & Murtagh 2007, IEEE Trans. Image Process. 16, 297): each
//! step smooths with [1 4 6 4 1] / 16 in rows and columns, its points twice as far apart as before, and
//! what is taken away is the structure of that scale. Edges are mirrored.

use crate::number::Convert;
use multiversion::multiversion;

/// How far a pixel of the given number of scales sees, beyond itself.
pub const fn reach(scales: usize) -> usize {
    2 * ((1 << scales) - 1)
}

/// Smooths `from` into `to`, both of rows of `width`, with points `step` apart; `spare` is as long.
pub fn smooth(from: &[f32], to: &mut [f32], spare: &mut [f32], width: usize, step: usize) {
    for (row, out) in from.chunks_exact(width).zip(spare.chunks_exact_mut(width)) {
        along(row, out, step);
    }
    let height = from.len() / width;
    let line = |y: isize| {
        let y = mirrored(y, height);
        &spare[y * width..(y + 1) * width]
    };
    let s = step.isize();
    for (y, out) in to.chunks_exact_mut(width).enumerate() {
        let y = y.isize();
        across(
            [
                line(y - 2 * s),
                line(y - s),
                line(y),
                line(y + s),
                line(y + 2 * s),
            ],
            out,
        );
    }
}

/// The place within 0..n that mirroring gives for one outside.
pub(super) fn mirrored(i: isize, n: usize) -> usize {
    let n = n.isize();
    if n == 1 {
        return 0;
    }
    let period = 2 * (n - 1);
    let i = i.rem_euclid(period);
    (if i < n { i } else { period - i }).index()
}

/// Smooths a row.
pub(super) fn along(row: &[f32], out: &mut [f32], step: usize) {
    let n = row.len();
    let reach = 2 * step;
    let edge = |x: usize| {
        let at = |d: isize| row[mirrored(x.isize() + d * step.isize(), n)];
        weighted(at(-2), at(-1), at(0), at(1), at(2))
    };
    if n <= 2 * reach {
        for (x, o) in out.iter_mut().enumerate() {
            *o = edge(x);
        }
        return;
    }
    for x in (0..reach).chain(n - reach..n) {
        out[x] = edge(x);
    }
    let part = |d: usize| &row[d..d + n - 2 * reach];
    across(
        [
            part(0),
            part(step),
            part(reach),
            part(3 * step),
            part(4 * step),
        ],
        &mut out[reach..n - reach],
    );
}

#[inline]
fn weighted(a: f32, b: f32, c: f32, d: f32, e: f32) -> f32 {
    (a + e) * 0.0625 + (b + d) * 0.25 + c * 0.375
}

/// Smooths five rows into one.
#[multiversion(targets("x86_64+avx2"))]
pub(super) fn across([a, b, c, d, e]: [&[f32]; 5], out: &mut [f32]) {
    let n = out.len();
    let (a, b, c, d, e) = (&a[..n], &b[..n], &c[..n], &d[..n], &e[..n]);
    for i in 0..n {
        out[i] = weighted(a[i], b[i], c[i], d[i], e[i]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const WIDTH: usize = 61;

    fn picture() -> Vec<f32> {
        (0..WIDTH * 47)
            .map(|i| ((i * 7919) % 101).single() + if i == 1400 { 900.0 } else { 0.0 })
            .collect()
    }

    fn smoothed(from: &[f32], width: usize, step: usize) -> Vec<f32> {
        let (mut to, mut spare) = (vec![0.0; from.len()], vec![0.0; from.len()]);
        smooth(from, &mut to, &mut spare, width, step);
        to
    }

    #[rstest]
    fn a_constant_stays_and_light_is_kept(#[values(1, 2, 4, 8, 16)] step: usize) {
        assert!(
            smoothed(&[3.5; 300], 20, step)
                .iter()
                .all(|v| (v - 3.5).abs() < 1e-6)
        );
        let mut point = vec![0.0; WIDTH * 47];
        point[23 * WIDTH + 30] = 1.0;
        let sum: f32 = smoothed(&point, WIDTH, step).iter().sum();
        // Steps of 16 reach over the edge of 47 rows, where mirroring gives some of it back twice.
        assert!(step == 16 || (sum - 1.0).abs() < 1e-5, "{sum}");
    }

    #[test]
    fn rows_are_smoothed_as_columns_are() {
        let a = picture();
        let height = a.len() / WIDTH;
        let turned: Vec<f32> = (0..a.len())
            .map(|i| a[(i % height) * WIDTH + i / height])
            .collect();
        let (s, t) = (smoothed(&a, WIDTH, 4), smoothed(&turned, height, 4));
        for i in 0..a.len() {
            assert!((t[i] - s[(i % height) * WIDTH + i / height]).abs() < 1e-3);
        }
    }

    #[test]
    fn a_pixel_sees_no_farther_than_its_reach() {
        let (mut a, mut b) = (vec![0.0; 140], vec![0.0; 140]);
        b[70] = 1.0;
        for step in [1, 2, 4, 8] {
            (a, b) = (smoothed(&a, 140, step), smoothed(&b, 140, step));
        }
        let seen = b.iter().position(|v| *v != 0.0).unwrap();
        assert_eq!((a[0], 70 - seen), (0.0, reach(4)));
        assert!(smoothed(&[4.0], 1, 8) == [4.0]);
    }
}
