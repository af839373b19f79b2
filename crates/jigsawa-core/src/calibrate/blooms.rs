//! Charge of full stars that ran over into the pixels above and below: blooms, straight along columns.
//!
//! Full pixels that hang together are a star's disc, as high as it is wide; what is far higher than wide is a disc and what
//! ran out of it. The rows beyond the disc are the bloom's, and some more at its ends and sides, where it fades out.

use rayon::prelude::*;

use super::average::bands;
use super::defects::{Flaw, Flawed};
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::space::Rect;

/// A star with a bloom is at least so high, and higher than wide by these rows and half as much again.
const LEAST_HEIGHT: usize = 8;
const HIGHER: usize = 2;

/// Rows of a bloom are narrower than this part of the disc on the whole, or it is so many times as high as the disc is wide.
const NARROWER: (usize, usize) = (4, 5);
const VERY_MANY: usize = 6;

/// Where a bloom fades out: rows at its ends, and columns at its sides.
const ENDS: usize = 3;
const SIDES: usize = 2;

/// Where more than this part of all pixels is full, it is no star that overflows.
const MOST: f64 = 0.05;

/// Rows that are looked through at a time.
const ROWS: usize = 64;

/// Full pixels side by side in a row.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Run {
    y: usize,
    from: usize,
    to: usize,
}

impl Run {
    const fn width(&self) -> usize {
        self.to - self.from
    }
}

/// Pixels of blooms in a raw frame whose pixels are full from a value on.
///
/// # Errors
/// When the frame cannot be read.
pub fn blooms(raw: &dyn FrameSource, full: f32) -> Result<Vec<Flawed>, DoorError> {
    let size = raw.size();
    let found: Result<Vec<Vec<Run>>, DoorError> = bands(size, ROWS)
        .into_par_iter()
        .map(|rect| runs(raw, rect, full))
        .collect();
    let runs = found?.concat();
    let covered: usize = runs.iter().map(Run::width).sum();
    if covered.real() > MOST * size.area().real() {
        return Ok(Vec::new());
    }
    let mut flawed = Vec::new();
    for star in together(&runs) {
        let (disc, overflow) = parted(&star);
        for run in overflow {
            let rows = run.y.saturating_sub(ENDS)..(run.y + ENDS + 1).min(size.height());
            let columns = run.from.saturating_sub(SIDES)..(run.to + SIDES).min(size.width());
            let all = rows.flat_map(|y| columns.clone().map(move |x| (x, y)));
            // What fades out towards the disc is the star's own.
            let in_disc = |x, y| {
                disc.iter()
                    .any(|r: &Run| r.y == y && (r.from..r.to).contains(&x))
            };
            let own = all.filter(|(x, y)| !in_disc(*x, *y));
            flawed.extend(own.map(|(x, y)| (x, y, Flaw::Bloom)));
        }
    }
    flawed.sort_unstable_by_key(|(x, y, _)| (*y, *x));
    flawed.dedup();
    Ok(flawed)
}

fn runs(raw: &dyn FrameSource, rect: Rect, full: f32) -> Result<Vec<Run>, DoorError> {
    let mut values = vec![0.0; rect.area()];
    raw.read(rect, &mut values)?;
    let mut runs = Vec::new();
    for (k, row) in values.chunks_exact(rect.width).enumerate() {
        let y = rect.y.index() + k;
        let mut x = 0;
        while x < row.len() {
            let from = x;
            while x < row.len() && row[x] >= full {
                x += 1;
            }
            if x > from {
                runs.push(Run { y, from, to: x });
            }
            x += 1;
        }
    }
    Ok(runs)
}

/// Runs that hang together, in row order each.
fn together(runs: &[Run]) -> Vec<Vec<Run>> {
    // The star of each run, by the smallest number of a run in it.
    let mut star: Vec<usize> = (0..runs.len()).collect();
    let mut above = 0;
    for i in 0..runs.len() {
        let own = runs[i];
        while runs[above].y + 1 < own.y {
            above += 1;
        }
        let touching = (above..i).filter(|k| {
            let r = runs[*k];
            // Corners touch, too.
            r.y + 1 == own.y && r.from <= own.to && own.from <= r.to
        });
        for k in touching.collect::<Vec<_>>() {
            let (a, b) = (root(&mut star, i), root(&mut star, k));
            star[a.max(b)] = a.min(b);
        }
    }
    let mut all: std::collections::BTreeMap<usize, Vec<Run>> = std::collections::BTreeMap::new();
    for (i, run) in runs.iter().enumerate() {
        all.entry(root(&mut star, i)).or_default().push(*run);
    }
    all.into_values().collect()
}

/// The smallest number of a run that one hangs together with.
fn root(star: &mut [usize], mut i: usize) -> usize {
    while star[i] != i {
        star[i] = star[star[i]];
        i = star[i];
    }
    i
}

/// The middle row of a star's disc and half of its height, by its widest rows; none where nothing ran out of it.
fn middle(star: &[Run]) -> Option<(usize, usize)> {
    let widest = star.iter().map(Run::width).max()?;
    let height = star.last()?.y - star.first()?.y + 1;
    if height < LEAST_HEIGHT || 2 * height <= 3 * widest + 2 * HIGHER {
        return None;
    }
    let wide: Vec<usize> = star
        .iter()
        .filter(|r| 10 * r.width() >= 9 * widest)
        .map(|r| r.y)
        .collect();
    Some((wide[wide.len() / 2], widest / 2 + 1))
}

/// A star's disc, and rows that its charge has run into: narrower ones than the disc, or very many. A full star that was trailed along
/// its column is as wide all over.
fn parted(star: &[Run]) -> (Vec<Run>, Vec<Run>) {
    let none = || (star.to_vec(), Vec::new());
    let Some((y, half)) = middle(star) else {
        return none();
    };
    let (disc, over): (Vec<Run>, Vec<Run>) = star.iter().partition(|r| r.y.abs_diff(y) <= half);
    let mut widths: Vec<usize> = over.iter().map(Run::width).collect();
    widths.sort_unstable();
    let usual = widths.get(widths.len() / 2).copied().unwrap_or(0);
    let widest = star.iter().map(Run::width).max().unwrap_or(0);
    let is_wide = NARROWER.1 * usual > NARROWER.0 * widest;
    if is_wide && star.len() < VERY_MANY * widest {
        return none();
    }
    (disc, over)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use crate::space::Size;

    #[test]
    fn what_ran_out_of_a_disc_is_found_and_the_disc_stays() {
        let size = Size::new(80, 90).unwrap();
        let plane = Plane::from_fn(size, |x, y| {
            let disc = |cx: f32, cy: f32| (x.single() - cx).hypot(y.single() - cy) < 4.5;
            let column = (29..32).contains(&x) && (15..71).contains(&y);
            if disc(30.0, 40.0) || column || disc(60.0, 20.0) {
                60_000.0
            } else {
                900.0
            }
        });
        let found = blooms(&plane, 59_000.0).unwrap();
        let at = |x: usize, y: usize| found.contains(&(x, y, Flaw::Bloom));
        assert!(at(30, 20) && at(30, 65) && at(28, 20) && at(30, 72));
        assert!(!at(30, 40) && !at(30, 37) && !at(26, 40), "the disc");
        assert!(found.iter().all(|f| f.0 < 40), "a full star without one");
        // Nor has a full star that the mount has trailed.
        let trailed = Plane::from_fn(size, |x, y| {
            let is_full = (30..36).contains(&x) && (20..44).contains(&y);
            if is_full { 60_000.0 } else { 900.0 }
        });
        assert_eq!(blooms(&trailed, 59_000.0).unwrap(), []);
        // A frame that is full on the whole has none.
        let full = Plane::filled(size, 60_000.0);
        assert_eq!(blooms(&full, 59_000.0).unwrap(), []);
    }
}
