//! Places without data that carry a number: black borders and holes, as stacking leaves them where no sub-frame lay.
//!
//! Such a place has one exact value, mostly zero, and hangs together with the frame's edge. A sample of rows tells
//! whether a frame may have one; only then all of it is read once, row by row, and runs of the value are joined to
//! regions (two-pass labelling with union-find: Rosenfeld & Pfaltz 1966, J. ACM 13, 471). A region is blank where it
//! touches the edge along a straight line and is solid: a sky that was cut off at zero, or counted in coarse steps, has
//! ragged clusters of one value instead, and a star that is full has neighbours below it. Holes of the same value
//! count, too. Missing values (NaN) connect. What this program has written itself has no such places.

use jigsawa_core::number::Convert;
use jigsawa_core::space::{Rect, Size};
use rayon::prelude::*;

use super::blank::Blank;
use super::regions::{Regions, RowRuns, runs_of};
use super::suspects::quantum;
use crate::error::FileError;

/// Looks for the places of a plane that have no data but one of these values. `read` gives rows from one on.
///
/// # Errors
/// What `read` says.
pub(super) fn find(
    size: Size,
    sample: &[f32],
    values: &[f32],
    read: impl Fn(Rect, &mut [f32]) -> Result<(), FileError> + Sync,
) -> Result<Option<Blank>, FileError> {
    let (width, height) = (size.width(), size.height());
    // Half a megabyte at a time.
    let strip = ((1 << 17) / width).clamp(1, 256);
    let mut all: Vec<Regions> = values.iter().map(|v| Regions::of(*v, size)).collect();
    let strips: Vec<usize> = (0..height).step_by(strip).collect();
    for some in strips.chunks(4 * rayon::current_num_threads()) {
        let wanted: Vec<f32> = all.iter().map(|r| r.value).collect();
        let found: Result<Vec<Vec<RowRuns>>, FileError> = some
            .par_iter()
            .map_init(Vec::new, |rows, y| {
                let rect = Rect {
                    x: 0,
                    y: y.whole(),
                    width,
                    height: strip.min(height - y),
                };
                rows.resize(rect.area(), 0.0);
                read(rect, rows)?;
                let rows = rows.chunks_exact(width);
                Ok(rows
                    .flat_map(|row| wanted.iter().map(|v| runs_of(row, *v)))
                    .collect())
            })
            .collect();
        for (i, runs) in found?.into_iter().flatten().enumerate() {
            all[i % wanted.len()].add(runs);
        }
        all.retain(Regions::may_be_borders);
        if all.is_empty() {
            return Ok(None);
        }
    }
    let step = 1.5 * quantum(sample);
    let found = all.into_iter().filter_map(|r| r.blank(step));
    Ok(found.max_by(|a, b| a.share.total_cmp(&b.share)))
}

#[cfg(test)]
mod tests {
    use super::super::suspects::suspects;
    use super::*;
    use jigsawa_sky::chance::uniform;
    use rstest::rstest;

    const W: usize = 120;
    const H: usize = 90;

    fn noise(i: usize) -> f32 {
        uniform(i as u64, 0).single() - 0.5
    }

    fn found(data: &[f32]) -> Option<Blank> {
        let size = Size::new(W, H).unwrap();
        let some = [0, 9, 20, 31, 44, 59, 70, 81, H - 1];
        let sample: Vec<f32> = some
            .iter()
            .flat_map(|y| data[y * W..(y + 1) * W].to_vec())
            .collect();
        let values = suspects(&sample, W);
        if values.is_empty() {
            return None;
        }
        find(size, &sample, &values, |rect, out| {
            let from = rect.y.index() * W;
            out.copy_from_slice(&data[from..from + out.len()]);
            Ok(())
        })
        .unwrap()
    }

    fn sky(of: impl Fn(usize, usize) -> Option<f32>) -> Vec<f32> {
        (0..W * H)
            .map(|i| of(i % W, i / W).unwrap_or(600.0 + 30.0 * noise(i)))
            .collect()
    }

    #[rstest]
    #[case::all_around(|x: usize, y: usize| x < 10 || y < 7 || x >= W - 3 || y >= H - 12)]
    #[case::one_column(|x: usize, _: usize| x == 0)]
    #[case::turned(|x: usize, y: usize| x + 3 * y < 80 || x + 3 * y > 330)]
    #[case::a_hole_inside(|x: usize, y: usize| y < 4 || (50..60).contains(&x) && (40..46).contains(&y))]
    fn borders_and_holes_have_no_data(
        #[case] is_out: impl Fn(usize, usize) -> bool,
        #[values(0.0, -3.5, 12.0)] fill: f32,
    ) {
        let data = sky(|x, y| is_out(x, y).then_some(fill));
        let blank = found(&data).unwrap();
        let mut seen = data.clone();
        blank.hide(Size::new(W, H).unwrap().rect(), &mut seen);
        for (i, v) in seen.iter().enumerate() {
            assert_eq!(v.is_nan(), is_out(i % W, i / W), "{} {}", i % W, i / W);
        }
        let window = Rect {
            x: 3,
            y: 2,
            width: 60,
            height: 50,
        };
        let mut part: Vec<f32> = (0..3000)
            .map(|i| data[(2 + i / 60) * W + 3 + i % 60])
            .collect();
        blank.hide(window, &mut part);
        for (i, v) in part.iter().enumerate() {
            assert_eq!(v.is_nan(), is_out(3 + i % 60, 2 + i / 60));
        }
    }

    #[rstest]
    #[case(2)]
    #[case(64)]
    #[case(65)]
    #[case(700)]
    fn runs_are_the_same_however_many_are_looked_at_together(#[case] longest: usize) {
        let mut row = Vec::new();
        let mut i = 0;
        while row.len() < 3000 {
            let length = 1 + (uniform(i, 5) * longest.real()).index();
            row.resize(
                row.len() + length,
                [0.0, 5.0, f32::NAN, 7.0][(i % 4) as usize],
            );
            i += 1;
        }
        let is_blank = |x: usize| row[x] == 5.0 || row[x].is_nan();
        let mut seen = vec![false; row.len()];
        for ((from, to), (left, right)) in runs_of(&row, 5.0) {
            seen[from as usize..to as usize].fill(true);
            assert!(![left, right].contains(&5.0));
        }
        for (x, is_seen) in seen.into_iter().enumerate() {
            assert_eq!(is_seen, is_blank(x), "{x}");
        }
    }

    #[rstest]
    #[case::counts_of_few_kinds(|i: usize| (3.0 + 0.7 * noise(i)).round())]
    #[case::counts_with_a_common_value(|i: usize| (40.0 + 2.6 * noise(i)).round())]
    #[case::a_sky_cut_at_zero(|i: usize| (0.05 + noise(i)).max(0.0))]
    #[case::a_full_star_at_the_edge(|i: usize| {
        let (x, y) = ((i % W).single(), (i / W).single());
        (600.0 + noise(i) + 4e6 * (-((x - 60.0).powi(2) + y * y) / 300.0).exp()).min(65_535.0)
    })]
    #[case::one_value(|_| 7.0)]
    fn what_is_data_stays(#[case] of: impl Fn(usize) -> f32) {
        let data: Vec<f32> = (0..W * H).map(of).collect();
        assert!(found(&data).is_none());
    }
}
