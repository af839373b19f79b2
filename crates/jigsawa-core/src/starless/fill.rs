//! Pixels behind a star made up from what surrounds them.
//!
//! A curved surface (a polynomial of second degree) through a ring around the hole gives its course, what the ring has
//! over and above is carried in by nearness, and the grain is that of the place nearby whose own ring is most like the
//! hole's (the exemplar of Criminisi, Perez & Toyama 2004, IEEE Trans. Image Process. 13, 1200, taken whole): the
//! difference between the pixels there and their own curved surface. Rays are narrow, and are bridged from both of their
//! sides.

use crate::number::Convert;
use nalgebra::{SMatrix, SVector};

use super::light::StarLight;
use super::noise::Grain as Made;
use super::rings::{self, Rings, product};
use super::window::Window;
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::Rect;

/// Terms of the surface.
const TERMS: usize = 6;

/// Grain is noise: what stands higher, in noise widths, is something else.
const MOST_GRAIN: f32 = 5.0;

/// What a pixel of the ring has over its course counts up to this, in the ring's scatter: more is a star that stayed.
const MOST_CARRIED: f32 = 2.0;

/// Pixels of a ring that are compared with those of another place.
const MOST_COMPARED: usize = 80;

/// A ray is bridged over so many pixels at the most.
const BRIDGE_PX: i64 = 40;

/// Directions in which known pixels are looked for.
const DIRECTIONS: [(i64, i64); 16] = [
    (1, 0),
    (2, 1),
    (1, 1),
    (1, 2),
    (0, 1),
    (-1, 2),
    (-1, 1),
    (-2, 1),
    (-1, 0),
    (-2, -1),
    (-1, -1),
    (-1, -2),
    (0, -1),
    (1, -2),
    (1, -1),
    (2, -1),
];

/// A pixel made up from the nearest known ones in all directions. `None` where none is near.
pub(super) fn bridged(behind: &Window, plane: usize, x: i64, y: i64) -> Option<f32> {
    let (mut sum, mut weight) = (0.0f64, 0.0f64);
    for (dx, dy) in DIRECTIONS {
        let known = (1..=BRIDGE_PX).find_map(|k| {
            let v = behind.at(plane, x + k * dx, y + k * dy);
            // The mean of two: one alone would carry its noise along.
            let next = behind.at(plane, x + (k + 1) * dx, y + (k + 1) * dy);
            let v = if next.is_finite() {
                0.5 * (v + next)
            } else {
                v
            };
            v.is_finite()
                .then(|| (v, (k * k * (dx * dx + dy * dy)).real()))
        });
        if let Some((v, far)) = known {
            sum += f64::from(v) / far;
            weight += 1.0 / far;
        }
    }
    (weight > 0.0).then(|| (sum / weight).single())
}

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
                let from = (y - self.rect.y).index() * self.rect.width;
                let to = (y - rows.y).index() * rows.width;
                for x in both.x..both.right() {
                    let v = plane[from + (x - self.rect.x).index()];
                    let place = &mut out[to + x.index()];
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
                let b = course.basis((*x).real(), (*y).real());
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
                .map(|(x, y, v)| {
                    (f64::from(*v) - course.height((*x).real(), (*y).real()))
                        .abs()
                        .single()
                })
                .collect();
            let typical = f64::from(median(&mut off.clone())).max(f64::MIN_POSITIVE);
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
    (noise, grains): (&[f32], &[Made]),
    grainy: bool,
) -> Option<Patch> {
    let s = &stars[i];
    let (cx, cy, hole) = (s.at.x, s.at.y, s.hole);
    let reach = hole.ceil().whole();
    let (x0, y0) = (cx.round().whole() - reach, cy.round().whole() - reach);
    let side = (2 * reach + 1).index();
    let rect = Rect {
        x: x0,
        y: y0,
        width: side,
        height: side,
    };
    let donor = if grainy { donor(s, behind) } else { None };
    let rings = Rings::around(behind, (cx, cy), hole)?;
    let made: Vec<Plane> = (0..behind.planes())
        .map(|p| {
            let grain = Grain::of(behind, p, s, donor, grains[p]);
            Plane::of(behind, p, (&rings, hole), (noise[p], grain, grainy))
        })
        .collect();
    let mut planes = vec![vec![f32::NAN; side * side]; made.len()];
    let mut shares = Vec::new();
    for k in 0..side * side {
        let (x, y) = (x0 + (k % side).whole(), y0 + (k / side).whole());
        let (dx, dy) = (x.real() - cx, y.real() - cy);
        if dx * dx + dy * dy > hole * hole {
            continue;
        }
        rings.shares((x, y), &mut shares);
        for (p, (made, values)) in made.iter().zip(&mut planes).enumerate() {
            if !behind.at(p, x, y).is_finite() {
                let own = made.grain.at(behind, p, x, y).clamp(-made.most, made.most);
                let course = made.course.height(x.real(), y.real()).single();
                values[k] = course + product(&shares, &made.over) + own;
            }
        }
    }
    Some(Patch { rect, planes })
}

/// What a hole's pixels are made of in one plane.
struct Plane {
    course: Course,
    grain: Grain,
    /// What the pixels around have over and above their course and the grain.
    over: Vec<f32>,
    /// Grain is no higher than this.
    most: f32,
}

impl Plane {
    fn of(
        behind: &Window,
        plane: usize,
        (rings, hole): (&Rings, f64),
        (noise, grain, grainy): (f32, Grain, bool),
    ) -> Self {
        let ring = rings.values(behind, plane);
        let course = Course::through(rings.middle, hole, &ring);
        let mut over: Vec<f32> = ring
            .iter()
            .map(|(x, y, v)| v - course.height((*x).real(), (*y).real()).single())
            .collect();
        // Folds of a nebula around it are in it, too: as high as the ring has them.
        let mut folds: Vec<f32> = over.iter().map(|o| o.abs()).collect();
        let folds = median(&mut folds) * MAD_TO_SIGMA.single();
        let high = noise.max(folds);
        // What the grain has at the rim already is not carried in once more.
        for (o, (x, y, _)) in over.iter_mut().zip(&ring) {
            *o = (*o - grain.around(behind, plane, *x, *y))
                .clamp(-MOST_CARRIED * high, MOST_CARRIED * high);
        }
        Self {
            course,
            grain,
            over,
            most: if grainy { MOST_GRAIN * high } else { 0.0 },
        }
    }
}

/// So much of a disc that grain is taken from must be known.
const KNOWN_OF_DONOR: f64 = 0.92;

/// Where grain is taken from: the way to a disc of known pixels whose light is most like that around the hole.
fn donor(s: &StarLight, behind: &Window) -> Option<(i64, i64)> {
    let far = 2.0 * s.hole + rings::width(s.hole);
    let reach = s.hole.ceil().whole();
    let (cx, cy) = (s.at.x.round().whole(), s.at.y.round().whole());
    // Level of a disc, and how its pixels scatter around a tilted plane: a star in it would be sown elsewhere.
    let disc = |dx: i64, dy: i64| -> Option<(f64, f64)> {
        let (mut all, mut n, mut sum, mut squares) = (0.0, 0.0, 0.0, 0.0);
        let (mut of_x, mut of_y, mut across) = (0.0, 0.0, 0.0);
        for y in -reach..=reach {
            for x in -reach..=reach {
                if x * x + y * y <= reach * reach {
                    let v = f64::from(behind.at(0, cx + dx + x, cy + dy + y));
                    all += 1.0;
                    if !v.is_finite() {
                        continue;
                    }
                    n += 1.0;
                    sum += v;
                    squares += v * v;
                    of_x += x.real() * v;
                    of_y += y.real() * v;
                    across += (x * x).real();
                }
            }
        }
        if n < KNOWN_OF_DONOR * all {
            return None;
        }
        let tilt = if across > 0.0 {
            (of_x * of_x + of_y * of_y) / (across * n)
        } else {
            0.0
        };
        let level = sum / n;
        Some((level, (squares / n - level * level - tilt).max(0.0).sqrt()))
    };
    let around = rings::around(behind, 0, (s.at.x, s.at.y), s.hole)?;
    let wanted = around.iter().map(|p| f64::from(p.2)).sum::<f64>() / around.len().real();
    let some: Vec<&(i64, i64, f32)> = around
        .iter()
        .step_by(around.len().div_ceil(MOST_COMPARED))
        .collect();
    // How unlike the ring around a place is, both without their levels.
    let unlike = |dx: i64, dy: i64| -> Option<f64> {
        let both: Vec<f64> = some
            .iter()
            .map(|(x, y, v)| f64::from(behind.at(0, x + dx, y + dy) - v))
            .filter(|d| d.is_finite())
            .collect();
        if 2 * both.len() < some.len() {
            return None;
        }
        let n = both.len().real();
        let mean = both.iter().sum::<f64>() / n;
        Some((both.iter().map(|d| (d - mean).powi(2)).sum::<f64>() / n).sqrt())
    };
    let mut best: Option<(f64, (i64, i64))> = None;
    for k in 0..16 {
        let angle = f64::from(k) * std::f64::consts::TAU / 16.0;
        for stretch in [1.0, 1.6, 2.4] {
            let (dx, dy) = (
                (stretch * far * angle.cos()).round().whole(),
                (stretch * far * angle.sin()).round().whole(),
            );
            if let Some(((level, scatter), unlike)) = disc(dx, dy).zip(unlike(dx, dy)) {
                let off = (level - wanted).abs() + 2.0 * scatter + 4.0 * unlike;
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
    /// Noise.
    Made(Made),
}

impl Grain {
    fn of(
        behind: &Window,
        plane: usize,
        s: &StarLight,
        way: Option<(i64, i64)>,
        noise: Made,
    ) -> Self {
        let Some((dx, dy)) = way else {
            return Self::Made(noise);
        };
        let reach = s.hole.ceil().whole();
        let (mx, my) = (s.at.x.round().whole() + dx, s.at.y.round().whole() + dy);
        let disc = (-reach..=reach)
            .flat_map(|y| (-reach..=reach).map(move |x| (x, y)))
            .filter(|(x, y)| x * x + y * y <= reach * reach)
            .map(|(x, y)| (mx + x, my + y, behind.at(plane, mx + x, my + y)));
        let pixels: Vec<(i64, i64, f32)> = disc.filter(|p| p.2.is_finite()).collect();
        let course = Course::through((mx.real(), my.real()), s.hole, &pixels);
        Self::Taken((dx, dy), course)
    }

    /// The same at a pixel around the hole; nothing for made-up noise, which belongs to no course.
    fn around(&self, behind: &Window, plane: usize, x: i64, y: i64) -> f32 {
        match self {
            Self::Taken(..) => self.at(behind, plane, x, y),
            Self::Made(_) => 0.0,
        }
    }

    fn at(&self, behind: &Window, plane: usize, x: i64, y: i64) -> f32 {
        match self {
            Self::Taken((dx, dy), course) => {
                let (x, y) = (x + dx, y + dy);
                let v = behind.at(plane, x, y) - course.height(x.real(), y.real()).single();
                // A few of the disc's pixels may be missing.
                if v.is_finite() { v } else { 0.0 }
            }
            Self::Made(noise) => noise.at(x, y, plane),
        }
    }
}
