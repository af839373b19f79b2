//! Cosmic rays in a single frame, by their edges: sharper than anything that came through the optics.
//!
//! The positive part of the Laplacian of the frame, drawn with pixels of half the size, stands out at the rim of a ray as
//! much as its whole height; at stars it does so by what the frame samples too coarsely. That is taken off by a median, and a pixel
//! is a ray's where its Laplacian is several times the fine structure that stars have (van Dokkum 2001, PASP 113, 1420).
//! Found pixels are replaced, and all is done again: a ray of several pixels shows its rim only.
//!
//! Medians are taken where the Laplacian alone does not clear a pixel, which is nearly everywhere. A stack finds rays by the
//! other frames, and better; this is for frames that have no others.

use multiversion::multiversion;
use rayon::prelude::*;

use super::average::bands;
use super::defects::{Flaw, Flawed};
use super::set::SetNoise;
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::robust::median;
use crate::space::Rect;

/// A ray's pixel stands out by so many noise widths (the paper takes 4 to 5).
const SIGMA: f32 = 5.0;

/// And by this many times the fine structure around it: the paper takes 2 for stars as wide as two pixels, and 5 for narrower ones. A
/// star of 1.5 pixels whose middle is that of a pixel has 6, and up to twice that where it is faint; a ray of one pixel in width has
/// dozens.
const OVER_FINE: f32 = 11.0;

/// And it is above the median of the nine around it by this part of its edge: half of it where it stands alone, nothing on the steep flank of
/// a bright star, whose fine structure may vanish there.
const OVER_AROUND: f32 = 0.3;

/// A neighbour of one by this part of [`SIGMA`].
const NEIGHBOUR: f32 = 0.3;

/// Times that all is done.
const PASSES: usize = 4;

/// Rows of a band, and those beside it that are looked at along with it: each pass sees so much farther.
const ROWS: usize = 128;
const BESIDE: usize = 24;

/// Pixels so near to a full one are a star's.
const NEAR_FULL: i64 = 2;

/// Pixels that rays have hit, in row order. `noise` is that of the frame, `full` the value of a full pixel.
///
/// # Errors
/// When the frame cannot be read.
pub fn rays(
    frame: &dyn FrameSource,
    noise: &SetNoise,
    full: f32,
) -> Result<Vec<Flawed>, DoorError> {
    let all = frame.size().rect();
    let found: Result<Vec<Vec<Flawed>>, DoorError> = bands(frame.size(), ROWS)
        .into_par_iter()
        .map(|rect| {
            let wide = Rect {
                y: rect.y - BESIDE.whole(),
                height: rect.height + 2 * BESIDE,
                ..rect
            }
            .intersect(all);
            let mut values = vec![0.0; wide.area()];
            frame.read(wide, &mut values)?;
            let mut band = Band {
                width: wide.width.whole(),
                height: wide.height.whole(),
                hit: vec![false; values.len()],
                values,
                noise: *noise,
                full,
            };
            band.search();
            let at = |i: usize| (i % wide.width, wide.y.index() + i / wide.width, Flaw::Ray);
            let hit = band.hit.iter().enumerate().filter(|h| *h.1);
            let inside = |p: &Flawed| (rect.y..rect.bottom()).contains(&p.1.whole());
            Ok(hit.map(|h| at(h.0)).filter(inside).collect())
        })
        .collect();
    Ok(found?.concat())
}

/// Rows that are searched.
struct Band {
    width: i64,
    height: i64,
    values: Vec<f32>,
    hit: Vec<bool>,
    noise: SetNoise,
    full: f32,
}

impl Band {
    fn search(&mut self) {
        let mut edges = vec![0.0; self.values.len()];
        let least = 2.0 * NEIGHBOUR * SIGMA * self.noise.sigma;
        for _ in 0..PASSES {
            self.draw_edges(&mut edges);
            let new = self.found(&edges, least);
            if new.is_empty() {
                return;
            }
            for i in &new {
                self.hit[*i] = true;
            }
            // Whatever is found stays replaced: the next pass looks behind it.
            let filled: Vec<f32> = new.iter().map(|i| self.without_hit(*i)).collect();
            for (i, v) in new.iter().zip(filled) {
                self.values[*i] = v;
            }
        }
    }

    /// The positive part of the Laplacian on pixels of half the size, averaged over each whole one: twice the height of a pixel
    /// that stands alone.
    fn draw_edges(&self, edges: &mut [f32]) {
        let w = self.width.index();
        edges.fill(0.0);
        for y in 1..self.height.index().saturating_sub(1) {
            let row = |y: usize| &self.values[y * w..(y + 1) * w];
            row_of_edges(
                [row(y - 1), row(y), row(y + 1)],
                &mut edges[y * w..(y + 1) * w],
            );
        }
    }

    /// Pixels of rays that are new, and their neighbours.
    fn found(&self, edges: &[f32], least: f32) -> Vec<usize> {
        let certain = least / NEIGHBOUR;
        let mut new: Vec<usize> = (0..edges.len())
            .filter(|i| edges[*i] > certain && !self.hit[*i])
            .filter(|i| self.is_hit(edges, *i))
            .collect();
        let w = self.width;
        let core = new.len();
        for k in 0..core {
            let (x, y) = (new[k].whole() % w, new[k].whole() / w);
            for (dx, dy) in AROUND {
                let Some(j) = self.index(x + dx, y + dy) else {
                    continue;
                };
                let beside = edges[j] > least && !self.hit[j];
                if beside && self.stands(edges, j) > NEIGHBOUR * SIGMA {
                    new.push(j);
                }
            }
        }
        new.sort_unstable();
        new.dedup();
        new
    }

    fn index(&self, x: i64, y: i64) -> Option<usize> {
        let inside = x >= 0 && x < self.width && y >= 0 && y < self.height;
        inside.then(|| (y * self.width + x).index())
    }

    /// Values of a plane around a pixel, those that are known.
    fn around(&self, of: &[f32], i: usize, reach: i64) -> Vec<f32> {
        let (x, y) = (i.whole() % self.width, i.whole() / self.width);
        let near = (-reach..=reach).flat_map(|dy| (-reach..=reach).map(move |dx| (dx, dy)));
        near.filter_map(|(dx, dy)| Some(of[self.index(x + dx, y + dy)?]))
            .filter(|v| v.is_finite())
            .collect()
    }

    /// Noise of a pixel as smooth as its surroundings.
    fn sigma(&self, i: usize) -> f32 {
        let mut near = self.around(&self.values, i, 2);
        self.noise.variance(median(&mut near)).sqrt()
    }

    /// How many noise widths its edge stands out by, less what coarsely sampled stars have all over.
    fn stands(&self, edges: &[f32], i: usize) -> f32 {
        let usual = median(&mut self.around(edges, i, 2));
        (edges[i] - usual) / (2.0 * self.sigma(i))
    }

    fn is_hit(&self, edges: &[f32], i: usize) -> bool {
        self.stands(edges, i) > SIGMA
            && self.values[i] - median(&mut self.around(&self.values, i, 1))
                > OVER_AROUND * edges[i]
            && edges[i] > OVER_FINE * self.fine(i)
            && self
                .around(&self.values, i, NEAR_FULL)
                .iter()
                .all(|v| *v < self.full)
    }

    /// What the frame shows at the scale of a star: the median of nine less that of 49 such, and no less than a
    /// hundredth of the noise.
    fn fine(&self, i: usize) -> f32 {
        let small = |i: usize| median(&mut self.around(&self.values, i, 1));
        let (x, y) = (i.whole() % self.width, i.whole() / self.width);
        let near = (-3..=3).flat_map(|dy| (-3..=3).map(move |dx| (dx, dy)));
        let mut all: Vec<f32> = near
            .filter_map(|(dx, dy)| Some(small(self.index(x + dx, y + dy)?)))
            .filter(|v| v.is_finite())
            .collect();
        (small(i) - median(&mut all)).max(0.01 * self.sigma(i))
    }

    /// The median of what is not hit around a pixel.
    fn without_hit(&self, i: usize) -> f32 {
        let (x, y) = (i.whole() % self.width, i.whole() / self.width);
        let near = (-2..=2).flat_map(|dy| (-2..=2).map(move |dx| (dx, dy)));
        let mut sound: Vec<f32> = near
            .filter_map(|(dx, dy)| self.index(x + dx, y + dy))
            .filter(|j| !self.hit[*j] && self.values[*j].is_finite())
            .map(|j| self.values[j])
            .collect();
        if sound.is_empty() {
            return self.values[i];
        }
        median(&mut sound)
    }
}

/// The eight beside.
const AROUND: [(i64, i64); 8] = [
    (-1, -1),
    (0, -1),
    (1, -1),
    (-1, 0),
    (1, 0),
    (-1, 1),
    (0, 1),
    (1, 1),
];

/// Edges of a row's pixels but the first and the last: the mean over the four quarters of a pixel of how much it stands above the two
/// neighbours that the quarter touches. Missing values have none.
#[multiversion(targets("x86_64+avx2"))]
fn row_of_edges([above, row, below]: [&[f32]; 3], out: &mut [f32]) {
    let n = row.len();
    if n < 3 {
        return;
    }
    let (left, own, right) = (&row[..n - 2], &row[1..n - 1], &row[2..]);
    let (above, below) = (&above[1..n - 1], &below[1..n - 1]);
    let out = &mut out[1..n - 1];
    for k in 0..n - 2 {
        let twice = 2.0 * own[k];
        // `max` takes the number where the other is none, so what lies beside a missing pixel shows no edge there.
        let quarter = |h: f32, v: f32| (twice - h - v).max(0.0);
        let up = quarter(left[k], above[k]) + quarter(right[k], above[k]);
        let down = quarter(left[k], below[k]) + quarter(right[k], below[k]);
        out[k] = 0.25 * (up + down);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use crate::space::Size;

    #[test]
    fn a_spike_is_a_rays_and_a_bell_of_the_same_height_is_none() {
        let size = Size::new(60, 50).unwrap();
        let plane = Plane::from_fn(size, |x, y| {
            let r2 = (x.single() - 20.3).powi(2) + (y.single() - 25.2).powi(2);
            let star = 900.0 * (-r2 / (2.0 * 1.1 * 1.1)).exp();
            let ray = if (x, y) == (44, 12) || (x, y) == (45, 13) {
                900.0
            } else {
                0.0
            };
            let gap = if (x, y) == (50, 40) { f32::NAN } else { 0.0 };
            // Noise of a kind, that has no edges of its own.
            100.0 + star + ray + gap + 3.0 * ((x * 7 + y * 13) % 11).single() / 11.0
        });
        let noise = SetNoise {
            level: 100.0,
            sigma: 5.0,
            of_light: 1.0,
        };
        let found = rays(&plane, &noise, f32::INFINITY).unwrap();
        assert_eq!(found, [(44, 12, Flaw::Ray), (45, 13, Flaw::Ray)]);
        // Beside a full pixel nothing is.
        assert_eq!(rays(&plane, &noise, 800.0).unwrap(), []);
    }
}
