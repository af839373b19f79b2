//! Stars so bright that nothing takes them for stars: their cores are wide plateaus of full pixels.

use crate::number::Convert;
use std::collections::BTreeMap;

use rayon::prelude::*;

use crate::plane::Plane;
use crate::space::{FramePx, Point};
use crate::stars::{Catalogue, Flag, Flags, Star};

/// Pixels this near to the highest are full, and so many of them hang together in a plateau.
const SATURATED: f32 = 0.85;
const LEAST_PIXELS: usize = 20;

/// A plateau with a star within so many widths is that star's.
const NEAR: f64 = 2.0;

/// Plateaus of full pixels, by no star of the catalogue, as stars.
pub(super) fn overlooked(mean: &Plane, found: &Catalogue) -> Vec<Star> {
    let (w, h) = (mean.size().width(), mean.size().height());
    let rows = mean.data().par_chunks(w);
    // What is missing is no maximum; nothing but it has none.
    let highest = |row: &[f32]| {
        row.iter()
            .copied()
            .filter(|v| v.is_finite())
            .fold(f32::MIN, f32::max)
    };
    let top = rows.clone().map(highest).reduce(|| f32::MIN, f32::max);
    let sky = found.sky.typical_level();
    let bar = sky + SATURATED * (top - sky);
    let bright: Vec<usize> = rows
        .enumerate()
        .flat_map_iter(|(y, row)| (0..w).filter(|x| row[*x] >= bar).map(move |x| y * w + x))
        .collect();
    let mut seen = vec![false; w * h];
    let mut stars = Vec::new();
    for k in bright {
        if seen[k] {
            continue;
        }
        seen[k] = true;
        let mut plateau = vec![k];
        let mut next = 0;
        while let Some(p) = plateau.get(next).copied() {
            next += 1;
            let (x, y) = (p % w, p / w);
            let near = [
                (x > 0).then(|| p - 1),
                (x + 1 < w).then(|| p + 1),
                (y > 0).then(|| p - w),
                (y + 1 < h).then(|| p + w),
            ];
            for n in near.into_iter().flatten() {
                if mean.data()[n] >= bar && !seen[n] {
                    seen[n] = true;
                    plateau.push(n);
                }
            }
        }
        if plateau.len() >= LEAST_PIXELS {
            stars.extend(star(&plateau, (w, top - sky), found));
        }
    }
    stars
}

/// A plateau as a star, in the middle of those of its rows that are about as wide as the widest: charge runs along columns.
fn star(plateau: &[usize], (width, height): (usize, f32), found: &Catalogue) -> Option<Star> {
    // Pixels of each row, and the sum of their columns.
    let mut rows = BTreeMap::<usize, (usize, usize)>::new();
    for k in plateau {
        let row = rows.entry(k / width).or_default();
        *row = (row.0 + 1, row.1 + k % width);
    }
    let widest = rows.values().map(|r| r.0).max()?;
    let (mut x, mut y, mut n) = (0.0, 0.0, 0.0);
    for (row, (count, sum)) in rows.iter().filter(|(_, r)| 2 * r.0 > widest) {
        x += (*sum).real();
        y += (row * count).real();
        n += (*count).real();
    }
    let at: Point<FramePx> = Point::new(x / n, y / n);
    // A piece of it may have been taken for a star of its own.
    let is_of_it = |s: &Star| {
        let (x, y) = (s.at.x.round().index(), s.at.y.round().index());
        s.at.distance(at) < NEAR * found.fwhm_px || plateau.contains(&(y * width + x))
    };
    if found.stars.iter().any(is_of_it) {
        return None;
    }
    let mut flags = Flags::default();
    flags.set(Flag::Saturated);
    Some(Star {
        at,
        flux: f64::from(height) * plateau.len().real(),
        flux_sigma: f64::from(height),
        amplitude: f64::from(height),
        peak: height,
        fwhm_px: widest.real(),
        elongation: 1.0,
        angle_rad: 0.0,
        position_sigma_px: 0.5,
        flags,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use crate::stars::{Settings, detect};

    #[test]
    fn a_core_of_full_pixels_with_a_column_is_a_star_in_its_middle() {
        let plane = Plane::from_fn(Size::new(300, 260).unwrap(), |x, y| {
            let (x, y) = (x.single(), y.single());
            let noise = (x * 12.9898 + y * 78.233).sin() * 3.0;
            let faint = 300.0 * (-((x - 60.0).powi(2) + (y - 60.0).powi(2)) / 5.0).exp();
            let (dx, dy) = (x - 140.0, y - 120.0);
            let column = dx.abs() < 1.5 && dy > -60.0 && dy < 90.0;
            let core = dx * dx + dy * dy < 81.0 || column;
            100.0 + noise + faint + if core { 60_000.0 } else { 0.0 }
        });
        let mut found = detect(&plane, None, &Settings::default()).unwrap();
        found.stars.retain(|s| s.at.x < 100.0);
        let stars = overlooked(&plane, &found);
        assert_eq!(stars.len(), 1);
        let off = stars[0].at.distance(Point::new(140.0, 120.0));
        assert!(off < 0.6, "{off}");
    }
}
