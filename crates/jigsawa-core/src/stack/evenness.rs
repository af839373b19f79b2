//! How much a frame's values count over the canvas, where its noise is not the same all over: corners that a flat has brightened
//! count less.
//!
//! What the sky's mesh shows of the noise wavers from cell to cell, and nebula and stars add to it; weights that did so would print the
//! mesh into the master. So a surface of second order is fitted to the logarithm of the noise, without what lies far off it, and values
//! count by its inverse square, against what all frames have in common: a nebula brightens the noise of all of them.

use nalgebra::{SMatrix, SVector};

use super::grid::CanvasGrid;
use super::light::Light;
use crate::balance::Member;
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad, median};
use crate::space::{CanvasPx, FramePx, Point, Size};
use crate::stars::SkyMesh;

/// Places of the frame at which its noise is asked for.
const COLUMNS: usize = 24;
const ROWS: usize = 16;

/// Terms of the surface.
const TERMS: usize = 6;

/// Places whose noise lies so many widths off the surface show nebula or stars.
const CLIP: f32 = 2.0;
const ROUNDS: usize = 4;

/// A frame whose noise bends no more than this (as a part of it) from how that of the others does counts the same everywhere: less than a
/// hundredth is lost by that.
const LEAST: f64 = 0.15;

/// Nowhere is the noise taken for more than so many times the usual, nor for less than that part.
const MOST: f64 = 2.0;

/// The logarithm of a frame's noise over its area, as terms of u, v from -1 to 1.
#[derive(Debug, Clone, Copy)]
struct Surface {
    terms: [f64; TERMS],
    size: Size,
}

impl Surface {
    /// The surface of a frame; none where its mesh does not settle one.
    fn of(sky: &SkyMesh, size: Size) -> Option<Self> {
        let quiet = f64::from(sky.typical_sigma());
        let mut known: Vec<([f64; TERMS], f64)> = places(size)
            .filter_map(|p| {
                let part = f64::from(sky.sigma_at(p)) / quiet;
                (part.is_finite() && part > 0.0).then(|| (terms(p, size), part.ln()))
            })
            .collect();
        for _ in 0..ROUNDS {
            let fitted = fit(&known)?;
            let mut off: Vec<f32> = known
                .iter()
                .map(|(t, v)| (v - value(&fitted, t)).single())
                .collect();
            let middle = median(&mut off.clone());
            let width = mad(&mut off.clone(), middle) * MAD_TO_SIGMA.single();
            let mut keep = off.iter_mut().map(|o| (*o - middle).abs() <= CLIP * width);
            let before = known.len();
            known.retain(|_| keep.next().unwrap_or(true));
            if known.len() == before {
                break;
            }
        }
        let mut surface = Self {
            terms: fit(&known)?,
            size,
        };
        // The usual place counts as the frame does.
        let mut all: Vec<f32> = places(size).map(|p| surface.at(p).single()).collect();
        surface.terms[0] -= f64::from(median(&mut all));
        Some(surface)
    }

    fn at(&self, p: Point<FramePx>) -> f64 {
        value(&self.terms, &terms(p, self.size))
    }
}

/// Sets how much the values of frames of one master count at each place of the canvas: by how their noise bends, against how that
/// of the middle one of all does.
pub fn weigh_places(lights: &mut [Light], members: &[Member<'_>], canvas: Size) {
    let surfaces: Vec<Option<Surface>> = members
        .iter()
        .map(|m| Surface::of(&m.catalogue.sky, m.size))
        .collect();
    let noise = |k: usize, place: Point<CanvasPx>| {
        surfaces[k].map_or(0.0, |s| {
            let p = members[k].placement.apply(place);
            // Beyond the frame a surface runs away, and the frame has no values.
            let within = |v: f64, side: usize| v.clamp(0.0, (side - 1).real());
            s.at(Point::new(
                within(p.x, s.size.width()),
                within(p.y, s.size.height()),
            ))
        })
    };
    // What all have in common is nebula, or does not matter.
    let usual = CanvasGrid::over(canvas, |place| {
        let mut all: Vec<f32> = (0..members.len())
            .map(|k| noise(k, place).single())
            .collect();
        median(&mut all)
    });
    for (k, light) in lights.iter_mut().enumerate().take(members.len()) {
        let mut most = 0.0f64;
        let own = CanvasGrid::over(canvas, |place| {
            let common = usual.at(place.x.single(), place.y.single());
            let own = noise(k, place) - f64::from(common);
            (-2.0 * own.clamp(-MOST.ln(), MOST.ln())).exp().single()
        });
        for v in own.values() {
            most = most.max(f64::from(v.ln().abs()) / 2.0);
        }
        if most > LEAST {
            light.counts = own;
        }
    }
}

fn places(size: Size) -> impl Iterator<Item = Point<FramePx>> {
    (0..COLUMNS * ROWS).map(move |i| {
        let part = |k: usize, n: usize, side: usize| (k.real() + 0.5) / n.real() * side.real();
        Point::new(
            part(i % COLUMNS, COLUMNS, size.width()),
            part(i / COLUMNS, ROWS, size.height()),
        )
    })
}

fn terms(p: Point<FramePx>, size: Size) -> [f64; TERMS] {
    let u = 2.0 * p.x / size.width().real() - 1.0;
    let v = 2.0 * p.y / size.height().real() - 1.0;
    [1.0, u, v, u * u, u * v, v * v]
}

fn value(fitted: &[f64; TERMS], terms: &[f64; TERMS]) -> f64 {
    fitted.iter().zip(terms).map(|(a, b)| a * b).sum()
}

/// Least squares; none where the places do not settle it.
fn fit(known: &[([f64; TERMS], f64)]) -> Option<[f64; TERMS]> {
    if known.len() < 4 * TERMS {
        return None;
    }
    let mut normal = SMatrix::<f64, TERMS, TERMS>::zeros();
    let mut right = SVector::<f64, TERMS>::zeros();
    for (t, v) in known {
        let t = SVector::from(*t);
        normal += t * t.transpose();
        right += t * *v;
    }
    let solved = normal.cholesky()?.solve(&right);
    solved.iter().all(|v| v.is_finite()).then(|| solved.into())
}
