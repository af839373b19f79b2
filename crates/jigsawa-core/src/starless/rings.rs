//! The pixels around a hole, and what each of them counts inside it.

use crate::number::Convert;
use multiversion::multiversion;

use super::window::Window;

/// The ring is this wide in the hole's radius, at least so many pixels, and is widened while it holds fewer than so many
/// usable ones.
const RING: f64 = 0.8;
const LEAST_RING_PX: f64 = 2.5;
const LEAST_PIXELS: usize = 40;

/// All pixels this near to the rim are carried in, and so many of those further out.
const RIM_PX: f64 = 2.5;
const MOST_FAR: usize = 200;

/// How wide the ring around a hole is.
pub(super) fn width(hole: f64) -> f64 {
    (RING * hole).max(LEAST_RING_PX)
}

/// Known pixels of a plane around a hole. `None` where too few are known.
pub(super) fn around(
    behind: &Window,
    plane: usize,
    (cx, cy): (f64, f64),
    hole: f64,
) -> Option<Vec<(i64, i64, f32)>> {
    let mut width = width(hole);
    for _ in 0..4 {
        let far = hole + width;
        let r = far.ceil().whole();
        let (mx, my) = (cx.round().whole(), cy.round().whole());
        let mut pixels = Vec::new();
        for y in my - r..=my + r {
            let (first, row) = behind.row(plane, y, (mx - r, mx + r + 1));
            let dy = y.real() - cy;
            for (x, v) in (first..).zip(row) {
                let dx = x.real() - cx;
                let square = dx * dx + dy * dy;
                if square > hole * hole && square <= far * far && v.is_finite() {
                    pixels.push((x, y, *v));
                }
            }
        }
        if pixels.len() >= LEAST_PIXELS {
            return Some(pixels);
        }
        width *= 1.7;
    }
    None
}

/// Pixels around a hole that are known in every plane: all close to its rim, some further out.
pub(super) struct Rings {
    places: Vec<(i64, i64)>,
    /// Where the hole's middle is.
    pub(super) middle: (f64, f64),
    /// The same from the hole's middle, for the arithmetic.
    x: Vec<f32>,
    y: Vec<f32>,
    at: (i64, i64),
}

impl Rings {
    pub(super) fn around(behind: &Window, at: (f64, f64), hole: f64) -> Option<Self> {
        let all = around(behind, 0, at, hole)?;
        let known = |x: i64, y: i64| (1..behind.planes()).all(|p| behind.at(p, x, y).is_finite());
        let square = |x: i64, y: i64| (x.real() - at.0).powi(2) + (y.real() - at.1).powi(2);
        let rim = |x: i64, y: i64| square(x, y) < (hole + RIM_PX).powi(2);
        let far = all.iter().filter(|(x, y, _)| !rim(*x, *y)).count();
        let step = far.div_ceil(MOST_FAR).max(1);
        let mut count = 0;
        let places: Vec<(i64, i64)> = all
            .iter()
            .filter(|(x, y, _)| {
                let far = !rim(*x, *y);
                count += usize::from(far);
                known(*x, *y) && (!far || count.is_multiple_of(step))
            })
            .map(|(x, y, _)| (*x, *y))
            .collect();
        let pixel = (at.0.round().whole(), at.1.round().whole());
        (places.len() >= LEAST_PIXELS / 2).then(|| Self {
            x: places.iter().map(|p| (p.0 - pixel.0).single()).collect(),
            y: places.iter().map(|p| (p.1 - pixel.1).single()).collect(),
            at: pixel,
            middle: at,
            places,
        })
    }

    /// Their values in a plane.
    pub(super) fn values(&self, behind: &Window, plane: usize) -> Vec<(i64, i64, f32)> {
        let of = |&(x, y): &(i64, i64)| (x, y, behind.at(plane, x, y));
        self.places.iter().map(of).collect()
    }

    /// What each of them counts at a pixel of the hole, together one: by nearness, so that what is made up goes over into
    /// what is known (a membrane as in Perez, Gangnet & Blake 2003, ACM Trans. Graph. 22, 313, without solving for it).
    pub(super) fn shares(&self, (x, y): (i64, i64), shares: &mut Vec<f32>) {
        let (x, y) = ((x - self.at.0).single(), (y - self.at.1).single());
        shares.resize(self.x.len(), 0.0);
        by_nearness((&self.x, &self.y), (x, y), shares);
    }
}

/// Sums are made in so many lanes: several additions are under way at once, and always in the same order.
const LANES: usize = 8;

/// What each place counts at another one, together one.
#[multiversion(targets("x86_64+avx2"))]
fn by_nearness((all_x, all_y): (&[f32], &[f32]), (x, y): (f32, f32), shares: &mut [f32]) {
    let mut sums = [0.0f32; LANES];
    let places = all_x.chunks(LANES).zip(all_y.chunks(LANES));
    for ((rx, ry), share) in places.zip(shares.chunks_mut(LANES)) {
        for (((rx, ry), share), sum) in rx.iter().zip(ry).zip(share).zip(&mut sums) {
            let far = (rx - x) * (rx - x) + (ry - y) * (ry - y) + 2.0;
            *share = 1.0 / (far * far);
            *sum += *share;
        }
    }
    let all = 1.0 / sums.iter().sum::<f32>();
    for share in shares {
        *share *= all;
    }
}

/// The sum of products.
#[multiversion(targets("x86_64+avx2"))]
pub(super) fn product(a: &[f32], b: &[f32]) -> f32 {
    let mut sums = [0.0f32; LANES];
    for (a, b) in a.chunks(LANES).zip(b.chunks(LANES)) {
        for ((a, b), sum) in a.iter().zip(b).zip(&mut sums) {
            *sum += a * b;
        }
    }
    sums.iter().sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lanes_add_up_to_the_sum() {
        for count in [0usize, 1, 7, 8, 9, 250] {
            let a: Vec<f32> = (0..count).map(|k| (k % 11).single()).collect();
            let b: Vec<f32> = (0..count).map(|k| (k % 5).single() - 2.0).collect();
            let plain: f32 = a.iter().zip(&b).map(|(a, b)| a * b).sum();
            assert_eq!(product(&a, &b), plain, "{count}");
        }
    }
}
