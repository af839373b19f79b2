//! Stars looked for beside the trails that cross a frame.

use super::binned::binned;
use super::trails::{Trail, trails};
use crate::plane::Plane;
use crate::stars::{Catalogue, DetectError, Settings, detect};

/// The longest side of the plane that trails are looked for on.
const TRAIL_SIDE: usize = 720;

/// Pixels to each side of a trail's line that are not trusted.
const TRAIL_HALF_WIDTH: f64 = 7.0;

/// The trails of a plane, looked for on a smaller one, in its own pixels.
fn trails_of(plane: &Plane) -> Vec<Trail> {
    let longest = plane.size().width().max(plane.size().height());
    let factor = longest.div_ceil(TRAIL_SIDE);
    let back = |p: (f64, f64)| {
        let f = factor as f64;
        let middle = (f - 1.0) / 2.0;
        (p.0 * f + middle, p.1 * f + middle)
    };
    trails(&binned(plane, factor))
        .into_iter()
        .map(|t| Trail {
            from: back(t.from),
            to: back(t.to),
            ..t
        })
        .collect()
}

/// The plane with the pixels on trails missing.
fn without(plane: &Plane, trails: &[Trail]) -> Plane {
    let mut masked = plane.clone();
    let (w, h) = (plane.size().width(), plane.size().height());
    for t in trails {
        let (dx, dy) = (t.to.0 - t.from.0, t.to.1 - t.from.1);
        let steps = dx.abs().max(dy.abs()).ceil().max(1.0);
        // Across the line's steeper side, so that no pixel of the band is passed over; and on to the
        // edges, since a trail's ends fade.
        let steep = dy.abs() > dx.abs();
        let slant = dx.hypot(dy) / steps.max(1.0);
        let half = (TRAIL_HALF_WIDTH * slant).ceil() as i64;
        let longest = w.max(h) as f64;
        for i in -(longest as i64)..=(longest + steps) as i64 {
            let part = i as f64 / steps;
            let x = (t.from.0 + part * dx).round() as i64;
            let y = (t.from.1 + part * dy).round() as i64;
            for k in -half..=half {
                let (x, y) = if steep { (x + k, y) } else { (x, y + k) };
                if (0..w as i64).contains(&x) && (0..h as i64).contains(&y) {
                    masked.data_mut()[y as usize * w + x as usize] = f32::NAN;
                }
            }
        }
    }
    masked
}

/// The stars of a frame, looked for beside the trails that cross it: a trail is brighter than most stars,
/// and its pieces pass for such.
///
/// # Errors
/// When there is nothing to measure: no data, or one value only.
pub fn stars_and_trails(
    plane: &Plane,
    saturation: Option<f32>,
    settings: &Settings,
) -> Result<(Catalogue, Vec<Trail>), DetectError> {
    let trails = trails_of(plane);
    let masked = (!trails.is_empty()).then(|| without(plane, &trails));
    let found = detect(masked.as_ref().unwrap_or(plane), saturation, settings)?;
    Ok((found, trails))
}
