//! A grey opening: what is narrower than a square is taken away, everything wider stays as high as it is (the least of
//! each neighbourhood, then the most of those: Serra 1982, Image Analysis and Mathematical Morphology). So stars go, and
//! nebulae and galaxies stay.

use crate::number::Convert;
use rayon::prelude::*;

/// Half of the square in widths of the stars.
const HALF_WIDTHS: f64 = 1.2;

/// Opens rows of `width` pixels by a square that stars of this width do not fill; a missing pixel counts for nothing.
pub(super) fn opened(plane: &mut [f32], width: usize, fwhm_px: f64) {
    let reach = (HALF_WIDTHS * fwhm_px).ceil().index().max(1);
    let mut spare = plane.to_vec();
    extremes(plane, &mut spare, width, reach, f32::min);
    extremes(plane, &mut spare, width, reach, f32::max);
}

/// The lowest, or the highest, within a square; `plane` in and out.
fn extremes(
    plane: &mut [f32],
    spare: &mut [f32],
    width: usize,
    reach: usize,
    pick: impl Fn(f32, f32) -> f32 + Copy + Sync,
) {
    let rows = spare.par_chunks_mut(width).zip(plane.par_chunks(width));
    rows.for_each(|(out, row)| {
        out.copy_from_slice(row);
        // Those so far to the right of all, then those to the left: many at once.
        for aside in 1..=reach.min(width - 1) {
            for (o, v) in out.iter_mut().zip(&row[aside..]) {
                *o = pick(*o, *v);
            }
            for (o, v) in out[aside..].iter_mut().zip(row) {
                *o = pick(*o, *v);
            }
        }
    });
    let height = spare.len() / width;
    plane
        .par_chunks_mut(width)
        .enumerate()
        .for_each(|(y, out)| {
            out.copy_from_slice(&spare[y * width..(y + 1) * width]);
            for near in y.saturating_sub(reach)..(y + reach + 1).min(height) {
                let row = &spare[near * width..(near + 1) * width];
                for (o, v) in out.iter_mut().zip(row) {
                    *o = pick(*o, *v);
                }
            }
        });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_go_and_what_is_wider_stays() {
        let width = 60;
        let mut plane: Vec<f32> = (0..60 * 40)
            .map(|i| {
                let (x, y) = ((i % width).real(), (i / width).real());
                if (x - 10.0).hypot(y - 10.0) < 1.5 {
                    900.0
                } else if (x - 40.0).hypot(y - 20.0) < 9.0 {
                    50.0
                } else if x > 57.0 {
                    f32::NAN
                } else {
                    1.0
                }
            })
            .collect();
        opened(&mut plane, width, 2.0);
        let at = |x: usize, y: usize| plane[y * width + x];
        assert_eq!((at(10, 10), at(40, 20), at(5, 35)), (1.0, 50.0, 1.0));
        assert_eq!(at(56, 30), 1.0);
    }
}
