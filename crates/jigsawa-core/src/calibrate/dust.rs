//! Shadows of dust in a flat: places that are darker than their surroundings by more than pixels differ.
//!
//! The flat is made smaller, so that pixels' own responses average out, and held against its course on a mesh that is wide
//! against a shadow. Dark places that hang together, or nearly so as the parts of a ring do, are one shadow.

use crate::binned;
use crate::doors::{DoorError, FrameSource};
use crate::measured::Measured;
use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad, median};
use crate::space::Rect;

/// Pixels for one of the smaller flat: the unequal response of sixteen averages out to a fifth of a per cent.
const FACTOR: usize = 4;

/// Half the side of the square whose median is the course around a place, in pixels of the smaller flat.
const AROUND: usize = 24;

/// And so much of it at the least, in a corner.
const LEAST_AROUND: usize = 3;

/// A shadow takes at least this part of the light, and so many widths of what else differs.
const LEAST: f32 = 0.006;
const SIGMAS: f32 = 6.0;

/// Pixels of the smaller flat that a shadow has at least.
const LEAST_PIXELS: usize = 5;

/// Parts of a ring are apart by so many of them at the most.
const GAP: i64 = 3;

/// A shadow of dust.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Mote {
    /// Its middle, in pixels of the flat.
    pub at: (f64, f64),
    /// Its radius.
    pub radius_px: f64,
    /// The part of the light that it takes where it is deepest.
    pub depth: f64,
}

/// Parts of a shadow's radius between which its ring lies, and those of what is around it.
const RING: (f64, f64) = (0.4, 0.85);
const BESIDE: (f64, f64) = (1.2, 1.6);

/// What is left of a shadow in a calibrated light, in parts of its depth: 0 where the flat fits, 1 where the light has no such
/// shadow and was divided by one. `None` at the edge and where there is no light.
///
/// # Errors
/// When the light cannot be read.
pub fn left(light: &dyn FrameSource, mote: &Mote) -> Result<Option<Measured>, DoorError> {
    let reach = (BESIDE.1 * mote.radius_px).ceil();
    let rect = Rect {
        x: (mote.at.0 - reach).whole(),
        y: (mote.at.1 - reach).whole(),
        width: (2.0 * reach).index() + 1,
        height: (2.0 * reach).index() + 1,
    };
    if rect.intersect(light.size().rect()) != rect || mote.depth <= 0.0 {
        return Ok(None);
    }
    let mut pixels = vec![0.0; rect.area()];
    light.read(rect, &mut pixels)?;
    let between = |(from, to): (f64, f64)| -> Vec<f32> {
        let at = |i: usize| {
            let (x, y) = (
                rect.x.real() + (i % rect.width).real(),
                rect.y.real() + (i / rect.width).real(),
            );
            (x - mote.at.0).hypot(y - mote.at.1) / mote.radius_px
        };
        let inside = (0..pixels.len()).filter(|i| (from..to).contains(&at(*i)));
        inside
            .map(|i| pixels[i])
            .filter(|v| v.is_finite())
            .collect()
    };
    let (mut ring, mut beside) = (between(RING), between(BESIDE));
    if ring.is_empty() || beside.is_empty() {
        return Ok(None);
    }
    let sky = median(&mut beside);
    let noise = mad(&mut beside.clone(), sky) * MAD_TO_SIGMA.single();
    let unit = f64::from(sky) * mote.depth;
    if unit <= 0.0 {
        return Ok(None);
    }
    // A median scatters by a quarter more than a mean.
    let counts = 1.0 / ring.len().real() + 1.0 / beside.len().real();
    Ok(Some(Measured {
        value: f64::from(median(&mut ring) - sky) / unit,
        sigma: 1.2533 * f64::from(noise) * counts.sqrt() / unit,
    }))
}

/// The shadows in a flat, deepest first.
pub fn motes(flat: &Plane) -> Vec<Mote> {
    let mut small = binned(flat, FACTOR);
    let (w, h) = (small.size().width(), small.size().height());
    // The medians of a curved course lie beside it; what they miss is found in what they leave (Tukey 1977, twicing).
    for _ in 0..2 {
        let course = course(&small);
        for (v, c) in small.data_mut().iter_mut().zip(&course) {
            *v /= c;
        }
    }
    let off: Vec<f32> = small.data().iter().map(|v| v - 1.0).collect();
    let mut known: Vec<f32> = off.iter().copied().filter(|v| v.is_finite()).collect();
    if known.is_empty() {
        return Vec::new();
    }
    let centre = median(&mut known);
    let sigma = mad(&mut known, centre) * MAD_TO_SIGMA.single();
    let bar = centre - LEAST.max(SIGMAS * sigma);
    let mut seen = vec![false; off.len()];
    let mut found = Vec::new();
    for start in 0..off.len() {
        if seen[start] || off[start].is_nan() || off[start] >= bar {
            continue;
        }
        let mut all = vec![start];
        seen[start] = true;
        let mut next = 0;
        while next < all.len() {
            let (x, y) = ((all[next] % w).whole(), (all[next] / w).whole());
            next += 1;
            for dy in -GAP..=GAP {
                for dx in -GAP..=GAP {
                    let (x, y) = (x + dx, y + dy);
                    if x < 0 || y < 0 || x >= w.whole() || y >= h.whole() {
                        continue;
                    }
                    let i = y.index() * w + x.index();
                    if !seen[i] && off[i] < bar {
                        seen[i] = true;
                        all.push(i);
                    }
                }
            }
        }
        if all.len() >= LEAST_PIXELS {
            found.push(of_pixels(&all, w, &off));
        }
    }
    found.sort_by(|a, b| b.depth.total_cmp(&a.depth));
    found
}

/// The circle around some pixels.
fn of_pixels(all: &[usize], width: usize, off: &[f32]) -> Mote {
    let span = |of: fn(usize, usize) -> usize| {
        let places = all.iter().map(|i| of(*i, width).real());
        places.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| {
            (a.min(v), b.max(v))
        })
    };
    let (x, y) = (span(|i, w| i % w), span(|i, w| i / w));
    let factor = FACTOR.real();
    let middle = |(a, b): (f64, f64)| factor * (0.5 * (a + b) + 0.5) - 0.5;
    let mut depths: Vec<f32> = all.iter().map(|i| -off[*i]).collect();
    depths.sort_by(f32::total_cmp);
    Mote {
        at: (middle(x), middle(y)),
        radius_px: factor * 0.5 * (x.1 - x.0).max(y.1 - y.0) + 0.5 * factor,
        // Not the one deepest pixel, which noise has made deeper.
        depth: f64::from(depths[depths.len() * 9 / 10]),
    }
}

/// Medians around places of a grid, and straight between them.
fn course(small: &Plane) -> Vec<f32> {
    let (w, h) = (small.size().width(), small.size().height());
    let step = AROUND;
    let grid = |n: usize| n.div_ceil(step) + 1;
    let (columns, rows) = (grid(w), grid(h));
    let mut values = Vec::new();
    let mut mesh = vec![1.0f32; columns * rows];
    for (k, node) in mesh.iter_mut().enumerate() {
        let (x, y) = ((k % columns) * step, (k / columns) * step);
        values.clear();
        let (x, y) = (x.min(w - 1), y.min(h - 1));
        // As far on one side as on the other, or the course would be that of another place.
        let near = |at: usize, n: usize| at.min(n - 1 - at).clamp(LEAST_AROUND, AROUND);
        let (rx, ry) = (near(x, w), near(y, h));
        for y in y.saturating_sub(ry)..(y + ry + 1).min(h) {
            let row = &small.row(y)[x.saturating_sub(rx)..(x + rx + 1).min(w)];
            values.extend(row.iter().filter(|v| v.is_finite()));
        }
        if !values.is_empty() {
            *node = median(&mut values);
        }
    }
    let mut out = Vec::with_capacity(w * h);
    for y in 0..h {
        let (r, v) = (y / step, (y % step).single() / step.single());
        for x in 0..w {
            let (c, u) = (x / step, (x % step).single() / step.single());
            let at = |r: usize, c: usize| mesh[r * columns + c];
            let above = at(r, c) + u * (at(r, c + 1) - at(r, c));
            let below = at(r + 1, c) + u * (at(r + 1, c + 1) - at(r + 1, c));
            out.push(above + v * (below - above));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use jigsawa_sky::chance::normal;

    #[test]
    fn shadows_are_found_where_they_are_and_corners_are_none() {
        let size = Size::new(600, 400).unwrap();
        let dust = [(170.0, 250.0, 16.0, 0.05), (420.0, 120.0, 26.0, 0.03)];
        let flat = Plane::from_fn(size, |x, y| {
            let (u, v) = (x.real() / 600.0 - 0.5, y.real() / 400.0 - 0.5);
            let mut light = 1.1 * (1.0 - 0.45 * (u * u + v * v));
            for (mx, my, r, depth) in dust {
                let far = (x.real() - mx).hypot(y.real() - my) / r;
                if (0.35..1.0).contains(&far) {
                    light *= 1.0 - depth;
                }
            }
            (light * (1.0 + 0.008 * normal(x as u64, y as u64))).single()
        });
        let found = motes(&flat);
        assert_eq!(found.len(), 2, "{found:?}");
        for (mote, (x, y, r, depth)) in found.iter().zip(dust) {
            assert!(
                (mote.at.0 - x).abs() < 3.0 && (mote.at.1 - y).abs() < 3.0,
                "{mote:?}"
            );
            assert!((mote.radius_px - r).abs() < 5.0, "{mote:?}");
            assert!((mote.depth / depth - 1.0).abs() < 0.25, "{mote:?}");
        }
    }
}
