//! Cores of saturated stars, whose colour is lost, in the colour of their wings.
//!
//! Where a channel has reached its end a star's middle turns to the colour of the others, most often magenta or
//! cyan. The ring just outside tells what colour it would have.

use super::overview::Sources;
use super::tile::Tile;
use crate::doors::DoorError;
use crate::number::Convert;
use crate::robust::quantile;
use crate::space::{FramePx, Point, Rect};
use crate::stars::{Catalogue, Flag};

/// A core to be coloured.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Core {
    /// Its middle.
    pub at: Point<FramePx>,
    /// How far it reaches.
    pub radius: f64,
    /// Its colour: the channels' parts of their mean.
    pub colour: [f32; 3],
}

/// Pixels this near to a channel's highest are flat.
const FLAT: f32 = 0.93;

/// So many flat pixels that a star's profile would not have them; a profile's top is narrower than half its width.
const FLAT_WIDTH: f64 = 0.62;

/// A width beyond the flat core of a star, and to the next, pixels have less than this part of its light: a Moffat function
/// that is full out to five widths has a fifth. So it is all around, but for a neighbour: a nebula's rim falls on one side.
const STEEP: f32 = 0.5;
const ALL_AROUND: f64 = 0.85;

/// Only this many stars are looked at, the brightest: fainter ones are not saturated.
const MOST: usize = 400;

/// Finds the saturated cores of a picture and their colours. `levels` turns a channel's value at a pixel into
/// light above the sky, white.
///
/// # Errors
/// When the picture cannot be read.
pub fn cores(
    sources: Sources<'_>,
    stars: &Catalogue,
    light: &dyn Fn(usize, f32) -> f32,
) -> Result<Vec<Core>, DoorError> {
    let mut found = Vec::new();
    let brightest = stars.stars.iter().map(|s| s.peak).fold(0.0, f32::max);
    for s in stars.stars.iter().take(MOST) {
        if !s.flags.has(Flag::Saturated) && s.peak < 0.5 * brightest {
            continue;
        }
        if let Some(core) = core(sources, s.at, stars.fwhm_px, light)? {
            found.push(core);
        }
    }
    Ok(found)
}

fn core(
    sources: Sources<'_>,
    at: Point<FramePx>,
    fwhm_px: f64,
    light: &dyn Fn(usize, f32) -> f32,
) -> Result<Option<Core>, DoorError> {
    let reach = (8.0 * fwhm_px).ceil().min(60.0).whole();
    let rect = Rect {
        x: at.x.round().whole() - reach,
        y: at.y.round().whole() - reach,
        width: (2 * reach + 1).index(),
        height: (2 * reach + 1).index(),
    }
    .intersect(sources[0].size().rect());
    if rect.is_empty() {
        return Ok(None);
    }
    let mut planes: [Vec<f32>; 3] = std::array::from_fn(|_| vec![0.0; rect.area()]);
    for (c, plane) in planes.iter_mut().enumerate() {
        sources[c].read(rect, plane)?;
        for v in plane.iter_mut() {
            *v = light(c, *v);
        }
    }
    let distance = |i: usize| {
        let x = rect.x + (i % rect.width).whole();
        let y = rect.y + (i / rect.width).whole();
        Point::new(x.real(), y.real()).distance(at)
    };
    // The farthest flat pixel that hangs together with the middle, in any channel.
    let mut radius = 0.0f64;
    let mut steep = false;
    for plane in &planes {
        let near = |r: f64| (0..plane.len()).filter(move |i| distance(*i) <= r);
        let top = near(1.5 * fwhm_px).map(|i| plane[i]).fold(0.0, f32::max);
        let flat = near(4.0 * fwhm_px)
            .filter(|i| plane[*i] >= FLAT * top)
            .count();
        let r = (flat.real() / std::f64::consts::PI).sqrt();
        radius = radius.max(r);
        let mut beside: Vec<f32> = (0..plane.len())
            .filter(|i| (r + fwhm_px..r + 2.0 * fwhm_px).contains(&distance(*i)))
            .map(|i| plane[i])
            .filter(|v| v.is_finite())
            .collect();
        steep |= !beside.is_empty() && quantile(&mut beside, ALL_AROUND) < STEEP * top;
    }
    // What does not fall steeply beyond its rim is a bright knot.
    if radius < FLAT_WIDTH * fwhm_px || !steep {
        return Ok(None);
    }
    let radius = radius + 1.0;
    let mut sums = [0.0f64; 3];
    for i in (0..rect.area()).filter(|i| (radius..radius + fwhm_px).contains(&distance(*i))) {
        let pixel: [f32; 3] = std::array::from_fn(|c| planes[c][i]);
        if pixel.iter().all(|v| v.is_finite()) {
            for (s, v) in sums.iter_mut().zip(pixel) {
                *s += f64::from(v);
            }
        }
    }
    let mean = sums.iter().sum::<f64>() / 3.0;
    if !sums.iter().all(|s| *s > 0.0) {
        return Ok(None);
    }
    Ok(Some(Core {
        at,
        radius,
        colour: sums.map(|s| (s / mean).single()),
    }))
}

impl Core {
    /// Gives the core its colour in a piece of the picture; brightness stays.
    pub fn paint(&self, tile: &mut Tile) {
        let Some(rect) = tile.rect else { return };
        let reach = self.radius + 1.5;
        let from = |v: f64, low: i64| (v - reach).floor().whole().max(low);
        let to = |v: f64, high: i64| ((v + reach).ceil().whole() + 1).min(high);
        for y in from(self.at.y, rect.y)..to(self.at.y, rect.bottom()) {
            for x in from(self.at.x, rect.x)..to(self.at.x, rect.right()) {
                let d = Point::<FramePx>::new(x.real(), y.real()).distance(self.at);
                // Over a pixel and a half the core's colour goes over into the wings' own.
                let part = ((reach - d) / 1.5).clamp(0.0, 1.0).single();
                let i = (y - rect.y).index() * rect.width + (x - rect.x).index();
                let mean = tile.planes.iter().map(|p| p[i]).sum::<f32>() / 3.0;
                if part > 0.0 && mean.is_finite() {
                    for (plane, k) in tile.planes.iter_mut().zip(self.colour) {
                        plane[i] += part * (k * mean - plane[i]);
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use crate::space::Size;

    /// Is a place in the middle of a frame of this light a full core?
    fn is_core(light: impl Fn(f64, f64) -> f32) -> bool {
        let size = Size::new(121, 101).unwrap();
        let plane = Plane::from_fn(size, |x, y| light(x.real() - 60.0, y.real() - 50.0));
        let at = Point::new(60.0, 50.0);
        core([&plane, &plane, &plane], at, 4.0, &|_, v| v)
            .unwrap()
            .is_some()
    }

    #[test]
    fn a_full_star_has_a_core_and_a_nebulas_rim_has_none() {
        let star = |r: f64| {
            (90_000.0 * (1.0 + (r / 3.6).powi(2)).powf(-3.0))
                .min(20_000.0)
                .single()
        };
        assert!(is_core(|x, y| star(x.hypot(y))));
        assert!(is_core(
            |x, y| star(x.hypot(y)) + 0.5 * star((x - 12.0).hypot(y))
        ));
        // A band of light, which falls to both of its sides, and the edge of a bright cloud.
        let band = |d: f64| (500.0 * (-0.5 * (d / 7.0).powi(2)).exp()).single();
        assert!(!is_core(|x, _| band(x)));
        assert!(!is_core(|x, y| band((x + y - 4.0).max(0.0))));
    }
}
