//! A frame made smaller by whole factors: for previews and for what is looked for on large scales.

use crate::number::Convert;
use multiversion::multiversion;
use rayon::prelude::*;

use crate::plane::Plane;
use crate::space::Size;

/// The mean of each `factor` x `factor` block; blocks cut by the edge are left away, missing pixels do
/// not count, and a block without any value is missing. Factor 1 gives a copy.
pub fn binned(plane: &Plane, factor: usize) -> Plane {
    let size = plane.size();
    let factor = factor.clamp(1, size.width().min(size.height()));
    if factor == 1 {
        return plane.clone();
    }
    let (w, h) = (size.width() / factor, size.height() / factor);
    let Some(small) = Size::new(w, h) else {
        return plane.clone();
    };
    let mut out = Plane::filled(small, 0.0);
    let rows = out.data_mut().par_chunks_mut(w).enumerate();
    rows.for_each_init(
        || vec![0.0f32; w * factor],
        |column, (y, row)| {
            column.copy_from_slice(&plane.row(y * factor)[..w * factor]);
            for dy in 1..factor {
                add(column, &plane.row(y * factor + dy)[..w * factor]);
            }
            share_out(column, factor, row);
            for x in (0..w).filter(|x| !row[*x].is_finite()).collect::<Vec<_>>() {
                row[x] = mean_of_block(plane, x * factor, y * factor, factor);
            }
        },
    );
    out
}

/// The mean of each block from the sums of its columns.
#[multiversion(targets("x86_64+avx2"))]
fn share_out(column: &[f32], factor: usize, out: &mut [f32]) {
    let share = 1.0 / (factor * factor).single();
    if factor == 2 {
        // Pairs of known length become vector instructions.
        for (mean, pair) in out.iter_mut().zip(column.chunks_exact(2)) {
            *mean = (pair[0] + pair[1]) * share;
        }
        return;
    }
    for (mean, run) in out.iter_mut().zip(column.chunks_exact(factor)) {
        *mean = run.iter().sum::<f32>() * share;
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn add(to: &mut [f32], from: &[f32]) {
    for (a, b) in to.iter_mut().zip(from) {
        *a += b;
    }
}

fn mean_of_block(plane: &Plane, x: usize, y: usize, factor: usize) -> f32 {
    let rows = (y..y + factor).map(|y| &plane.row(y)[x..x + factor]);
    let (mut sum, mut count) = (0.0, 0u32);
    for v in rows.flatten().filter(|v| v.is_finite()) {
        sum += v;
        count += 1;
    }
    sum / count.single()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_averaged_and_missing_pixels_do_not_count() {
        let mut p = Plane::from_fn(Size::new(5, 4).unwrap(), |x, y| (x + 10 * y).single());
        p.data_mut()[0] = f32::NAN;
        for (x, y) in [(2, 2), (3, 2), (2, 3), (3, 3)] {
            p.data_mut()[y * 5 + x] = f32::NAN;
        }
        let b = binned(&p, 2);
        assert_eq!((b.size().width(), b.size().height()), (2, 2));
        assert_eq!(b.data()[0], (1.0 + 10.0 + 11.0) / 3.0);
        assert_eq!(b.data()[1], 7.5);
        assert!(b.data()[3].is_nan());
        assert_eq!(binned(&p, 1).size(), p.size());
    }
}
