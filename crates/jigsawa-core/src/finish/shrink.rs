//! Structures of one size shrunk by the part of their energy that noise explains.

use crate::number::Convert;

/// Local energy up to this many times the noise's own counts as noise alone. It is a mean over some thirteen
/// pixels, which in pure noise is above this once in a thousand places.
const SPARED: f32 = 2.4;

/// `w` becomes what is in `a` and not in `b`, `e` the square of that.
#[multiversion::multiversion(targets("x86_64+avx2"))]
pub(super) fn energy(a: &[f32], b: &[f32], w: &mut [f32], e: &mut [f32]) {
    for (((a, b), w), e) in a.iter().zip(b).zip(w.iter_mut()).zip(e.iter_mut()) {
        *w = a - b;
        *e = *w * *w;
    }
}

/// How a scale is shrunk.
pub(super) struct Shrink<'a> {
    pub(super) variance: f32,
    pub(super) strength: f32,
    pub(super) growth: &'a [f32],
    pub(super) stars: &'a [f32],
}

/// Takes the part of the structure `w` that is noise off `plane`; `local` is the energy around each pixel.
#[multiversion::multiversion(targets("x86_64+avx2"))]
pub(super) fn shrink(how: &Shrink<'_>, w: &[f32], local: &[f32], plane: &mut [f32]) {
    let n = w.len();
    let (local, plane) = (&local[..n], &mut plane[..n]);
    let (growth, stars) = (&how.growth[..n], &how.stars[..n]);
    for i in 0..n {
        let noise = SPARED * how.variance * growth[i];
        // All of it where the energy is no more than the noise's own.
        let part = noise / local[i].max(noise).max(f32::MIN_POSITIVE);
        plane[i] -= how.strength * part * (1.0 - stars[i]) * w[i];
    }
}

/// The mean over thirteen points: the pixel, and those `step` and twice `step` away in rows and columns, and on
/// the diagonals. `rows` are those two steps above, one, none, and one and two below.
pub(super) fn mean_around(rows: [&[f32]; 5], out: &mut [f32], step: usize) {
    let (n, s) = (out.len(), step.isize());
    let inner = 2 * step..n.saturating_sub(2 * step);
    let at = |x: usize, d: isize| (x.isize() + d).clamp(0, n.isize() - 1).index();
    let slow = |x: usize| {
        let mut sum = rows[0][x] + rows[4][x];
        sum += rows[2][at(x, -2 * s)] + rows[2][at(x, 2 * s)];
        for r in &rows[1..4] {
            sum += r[at(x, -s)] + r[x] + r[at(x, s)];
        }
        sum / 13.0
    };
    if inner.is_empty() {
        for (x, o) in out.iter_mut().enumerate() {
            *o = slow(x);
        }
        return;
    }
    for x in (0..inner.start).chain(inner.end..n) {
        out[x] = slow(x);
    }
    thirteen(rows, &mut out[inner], step);
}

#[multiversion::multiversion(targets("x86_64+avx2"))]
fn thirteen(rows: [&[f32]; 5], out: &mut [f32], step: usize) {
    let n = out.len();
    let part = |r: usize, d: usize| &rows[r][d * step..d * step + n];
    let (up, down) = (part(0, 2), part(4, 2));
    let (left, right) = (part(2, 0), part(2, 4));
    let near: [[&[f32]; 3]; 3] =
        std::array::from_fn(|r| std::array::from_fn(|d| part(r + 1, d + 1)));
    for i in 0..n {
        let mut sum = up[i] + down[i];
        sum += left[i] + right[i];
        for r in &near {
            sum += r[0][i] + r[1][i] + r[2][i];
        }
        out[i] = sum / 13.0;
    }
}
