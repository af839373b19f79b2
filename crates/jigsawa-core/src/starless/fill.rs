//! Pixels behind a star made up from what surrounds them.
//!
//! A curved surface (a polynomial of second degree) through a ring around the hole gives its course, what the ring has
//! over and above is carried in by nearness, and the grain is that of a place beside it: the difference between
//! the pixels there and their own curved surface.

use nalgebra::{SMatrix, SVector};

use super::light::StarLight;
use super::window::Window;
use crate::space::Rect;

/// Terms of the surface.
const TERMS: usize = 6;

/// The ring is this wide in the hole's radius, at least so many pixels, and is widened while it holds fewer than so many
/// usable ones.
const RING: f64 = 0.8;
const LEAST_RING_PX: f64 = 2.5;
const LEAST_PIXELS: usize = 40;

/// Grain is noise: what stands higher, in noise widths, is something else.
const MOST_GRAIN: f32 = 5.0;

/// Pixels of a ring that are carried in, at the most: every so many of more.
const MOST_CARRIED: usize = 400;

/// The made-up pixels of one hole.
#[derive(Debug)]
pub(super) struct Patch {
    rect: Rect,
    /// Values of each plane; NaN outside of the hole.
    planes: Vec<Vec<f32>>,
}

impl Patch {
    pub(super) const fn bottom(&self) -> i64 {
        self.rect.bottom()
    }

    /// Puts the pixels into rows of the picture.
    pub(super) fn put(&self, rows: Rect, out: &mut [Vec<f32>]) {
        let both = self.rect.intersect(rows);
        for (plane, out) in self.planes.iter().zip(out) {
            for y in both.y..both.bottom() {
                let from = (y - self.rect.y) as usize * self.rect.width;
                let to = (y - rows.y) as usize * rows.width;
                for x in both.x..both.right() {
                    let v = plane[from + (x - self.rect.x) as usize];
                    let place = &mut out[to + x as usize];
                    if v.is_finite() && place.is_nan() {
                        *place = v;
                    }
                }
            }
        }
    }
}

/// A surface of second degree around a place.
struct Course {
    at: (f64, f64),
    scale: f64,
    terms: SVector<f64, TERMS>,
}

impl Course {
    fn basis(&self, x: f64, y: f64) -> SVector<f64, TERMS> {
        let (u, v) = ((x - self.at.0) / self.scale, (y - self.at.1) / self.scale);
        SVector::from([1.0, u, v, u * u, u * v, v * v])
    }

    /// The surface through pixels; a level where they do not carry more.
    fn through(at: (f64, f64), scale: f64, pixels: &[(i64, i64, f32)]) -> Self {
        let mut course = Self {
            at,
            scale,
            terms: SVector::zeros(),
        };
        let mut weights = vec![1.0f64; pixels.len()];
        for round in 0..3 {
            let mut normal = SMatrix::<f64, TERMS, TERMS>::identity() * 1e-6;
            let mut right = SVector::<f64, TERMS>::zeros();
            for ((x, y, v), w) in pixels.iter().zip(&weights) {
                let b = course.basis(*x as f64, *y as f64);
                normal += b * b.transpose() * *w;
                right += b * (*w * f64::from(*v));
            }
            let Some(solved) = normal.cholesky().map(|c| c.solve(&right)) else {
                break;
            };
            course.terms = solved;
            if round == 2 {
                break;
            }
            // What stands out of the ring, as a star that was not found, counts little.
            let mut off: Vec<f32> = pixels
                .iter()
                .map(|(x, y, v)| (f64::from(*v) - course.height(*x as f64, *y as f64)).abs() as f32)
                .collect();
            let typical = f64::from(crate::robust::median(&mut off.clone())).max(f64::MIN_POSITIVE);
            for (w, o) in weights.iter_mut().zip(off.drain(..)) {
                *w = crate::robust::biweight(f64::from(o), 7.0 * typical);
            }
        }
        course
    }

    fn height(&self, x: f64, y: f64) -> f64 {
        self.basis(x, y).dot(&self.terms)
    }
}

/// Fills the hole of star `i` in what is left behind the stars. `None` where nothing around is known.
pub(super) fn fill(
    i: usize,
    stars: &[StarLight],
    behind: &Window,
    noise: &[f32],
    grainy: bool,
) -> Option<Patch> {
    let s = &stars[i];
    let (cx, cy, hole) = (s.at.x, s.at.y, s.hole);
    let reach = hole.ceil() as i64;
    let (x0, y0) = (cx.round() as i64 - reach, cy.round() as i64 - reach);
    let side = (2 * reach + 1) as usize;
    let rect = Rect {
        x: x0,
        y: y0,
        width: side,
        height: side,
    };
    let inside = |x: i64, y: i64| (x as f64 - cx).hypot(y as f64 - cy) <= hole;
    let donor = donor(s, behind);
    let planes = (0..behind.planes())
        .map(|p| {
            let ring = ring(behind, p, (cx, cy), hole)?;
            let course = Course::through((cx, cy), hole, &ring);
            let step = ring.len().div_ceil(MOST_CARRIED);
            let over: Vec<(f64, f64, f64)> = ring
                .iter()
                .step_by(step)
                .map(|(x, y, v)| {
                    let (x, y) = (*x as f64, *y as f64);
                    (x, y, f64::from(*v) - course.height(x, y))
                })
                .collect();
            let grain = Grain::of(behind, p, s, donor, noise[p]);
            let most = if grainy { MOST_GRAIN * noise[p] } else { 0.0 };
            let near = (0.35 * hole).max(1.5);
            let mut values = vec![f32::NAN; side * side];
            for (k, out) in values.iter_mut().enumerate() {
                let (x, y) = (x0 + (k % side) as i64, y0 + (k / side) as i64);
                if !inside(x, y) || behind.at(p, x, y).is_finite() {
                    continue;
                }
                let (fx, fy) = (x as f64, y as f64);
                // Nearness falls as a bell; one pixel of it is the floor, so that the middle keeps to the course.
                let (mut sum, mut weight) = (0.0, 3.0);
                for (rx, ry, o) in &over {
                    let d2 = (rx - fx).powi(2) + (ry - fy).powi(2);
                    let w = (-0.5 * d2 / (near * near)).exp();
                    sum += w * o;
                    weight += w;
                }
                *out = (course.height(fx, fy) + sum / weight) as f32
                    + grain.at(behind, p, x, y).clamp(-most, most);
            }
            Some(values)
        })
        .collect::<Option<Vec<_>>>()?;
    Some(Patch { rect, planes })
}

/// Known pixels around the hole.
fn ring(
    behind: &Window,
    plane: usize,
    (cx, cy): (f64, f64),
    hole: f64,
) -> Option<Vec<(i64, i64, f32)>> {
    let mut width = (RING * hole).max(LEAST_RING_PX);
    for _ in 0..4 {
        let far = hole + width;
        let r = far.ceil() as i64;
        let (mx, my) = (cx.round() as i64, cy.round() as i64);
        let mut pixels = Vec::new();
        for y in my - r..=my + r {
            for x in mx - r..=mx + r {
                let d = (x as f64 - cx).hypot(y as f64 - cy);
                let v = behind.at(plane, x, y);
                if d > hole && d <= far && v.is_finite() {
                    pixels.push((x, y, v));
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

/// Where grain is taken from: the way to a whole disc of known pixels whose light is most like that around the hole.
fn donor(s: &StarLight, behind: &Window) -> Option<(i64, i64)> {
    let far = 2.0 * s.hole + (RING * s.hole).max(LEAST_RING_PX);
    let reach = s.hole.ceil() as i64;
    let (cx, cy) = (s.at.x.round() as i64, s.at.y.round() as i64);
    // Level of a disc, and how its pixels scatter around a tilted plane: a star in it would be sown elsewhere.
    let disc = |dx: i64, dy: i64| -> Option<(f64, f64)> {
        let (mut n, mut sum, mut squares) = (0.0, 0.0, 0.0);
        let (mut of_x, mut of_y, mut across) = (0.0, 0.0, 0.0);
        for y in -reach..=reach {
            for x in -reach..=reach {
                if x * x + y * y <= reach * reach {
                    let v = f64::from(behind.at(0, cx + dx + x, cy + dy + y));
                    if !v.is_finite() {
                        return None;
                    }
                    n += 1.0;
                    sum += v;
                    squares += v * v;
                    of_x += x as f64 * v;
                    of_y += y as f64 * v;
                    across += (x * x) as f64;
                }
            }
        }
        let tilt = if across > 0.0 {
            (of_x * of_x + of_y * of_y) / (across * n)
        } else {
            0.0
        };
        let level = sum / n;
        Some((level, (squares / n - level * level - tilt).max(0.0).sqrt()))
    };
    let around = ring(behind, 0, (s.at.x, s.at.y), s.hole)?;
    let wanted = around.iter().map(|p| f64::from(p.2)).sum::<f64>() / around.len() as f64;
    let mut best: Option<(f64, (i64, i64))> = None;
    for k in 0..16 {
        let angle = f64::from(k) * std::f64::consts::TAU / 16.0;
        for stretch in [1.0, 1.6] {
            let (dx, dy) = (
                (stretch * far * angle.cos()).round() as i64,
                (stretch * far * angle.sin()).round() as i64,
            );
            if let Some((level, scatter)) = disc(dx, dy) {
                let off = (level - wanted).abs() + 4.0 * scatter;
                if best.is_none_or(|(b, _)| off < b) {
                    best = Some((off, (dx, dy)));
                }
            }
        }
    }
    best.map(|(_, way)| way)
}

/// What pixels have over and above their course, some way off; made-up noise where no such place is.
enum Grain {
    /// The way to the place, and the course of its pixels.
    Taken((i64, i64), Course),
    /// Noise of this width.
    Made(f32),
}

impl Grain {
    fn of(
        behind: &Window,
        plane: usize,
        s: &StarLight,
        way: Option<(i64, i64)>,
        noise: f32,
    ) -> Self {
        let Some((dx, dy)) = way else {
            return Self::Made(noise);
        };
        let reach = s.hole.ceil() as i64;
        let (mx, my) = (s.at.x.round() as i64 + dx, s.at.y.round() as i64 + dy);
        let disc = (-reach..=reach)
            .flat_map(|y| (-reach..=reach).map(move |x| (x, y)))
            .filter(|(x, y)| x * x + y * y <= reach * reach)
            .map(|(x, y)| (mx + x, my + y, behind.at(plane, mx + x, my + y)));
        let pixels: Vec<(i64, i64, f32)> = disc.filter(|p| p.2.is_finite()).collect();
        let course = Course::through((mx as f64, my as f64), s.hole, &pixels);
        Self::Taken((dx, dy), course)
    }

    fn at(&self, behind: &Window, plane: usize, x: i64, y: i64) -> f32 {
        match self {
            Self::Taken((dx, dy), course) => {
                let (x, y) = (x + dx, y + dy);
                let v = behind.at(plane, x, y) - course.height(x as f64, y as f64) as f32;
                // The disc was known as a whole; at its rim a pixel may lie just outside of it.
                if v.is_finite() { v } else { 0.0 }
            }
            Self::Made(noise) => noise * normal(x, y, plane),
        }
    }
}

/// A normal deviate that belongs to a pixel: the sum of four numbers from 0 to 1 hashed from its place.
fn normal(x: i64, y: i64, plane: usize) -> f32 {
    let mut h = (x as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15)
        ^ (y as u64).wrapping_mul(0xc2b2_ae3d_27d4_eb4f)
        ^ (plane as u64).wrapping_mul(0x1656_67b1_9e37_79f9);
    let mut sum = 0.0;
    for _ in 0..4 {
        h ^= h >> 31;
        h = h.wrapping_mul(0xbf58_476d_1ce4_e5b9);
        h ^= h >> 29;
        sum += (h >> 40) as f32 / (1u64 << 24) as f32;
    }
    // Four such numbers have a spread of the root of a third.
    (sum - 2.0) * 1.732
}
