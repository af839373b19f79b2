//! Stars looked for beside the trails that cross a frame.

use super::trails::{Trail, trails};
use crate::binned::binned;
use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::median;
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
        let f = factor.real();
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
        .filter(|t| !is_of_the_chip(plane, t, factor))
        .collect()
}

/// A line that runs along rows or columns to within this, over the whole frame, is suspicious.
const ALONG_PX: f64 = 2.5;

/// Light of a trail is spread as a star's is; that of a bad column is in one, which holds more than this
/// part of what seven columns have.
const ONE_COLUMN: f64 = 0.7;

/// Is it a bright column or row of the chip, or the step to a frame's border, rather than a trail?
fn is_of_the_chip(plane: &Plane, t: &Trail, factor: usize) -> bool {
    let (w, h) = (plane.size().width().whole(), plane.size().height().whole());
    let (dx, dy) = ((t.to.0 - t.from.0).abs(), (t.to.1 - t.from.1).abs());
    // Off its middle by less than a pixel of the smaller plane at both ends.
    let slack = ALONG_PX + factor.real();
    let upright = dx < slack && dx < dy;
    let level = dy < slack && dy < dx;
    if !upright && !level {
        return false;
    }
    let (middle, side, long) = if upright {
        (f64::midpoint(t.from.0, t.to.0), w, h)
    } else {
        (f64::midpoint(t.from.1, t.to.1), h, w)
    };
    // The border's own levels reach as far as the box that fine light is taken against.
    let border = 8.0 * factor.real();
    if middle < border || middle > side.real() - border {
        return true;
    }
    let reach = 4 + factor.whole();
    let level_of = |k: i64| {
        let at = middle.round().whole() + k;
        let mut values: Vec<f32> = (0..long)
            .step_by(3)
            .map(|i| {
                if upright {
                    plane.at(at, i)
                } else {
                    plane.at(i, at)
                }
            })
            .filter(|v| v.is_finite())
            .collect();
        f64::from(median(&mut values))
    };
    let levels: Vec<f64> = (-reach..=reach).map(level_of).collect();
    let mut sorted: Vec<f32> = levels.iter().map(|v| (*v).single()).collect();
    let sky = f64::from(median(&mut sorted));
    let above: Vec<f64> = levels.iter().map(|v| (v - sky).max(0.0)).collect();
    let most = above.iter().copied().fold(0.0, f64::max);
    most > ONE_COLUMN * above.iter().sum::<f64>()
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
        let half = (TRAIL_HALF_WIDTH * slant).ceil().whole();
        let longest = w.max(h).real();
        for i in -longest.whole()..=(longest + steps).whole() {
            let part = i.real() / steps;
            let x = (t.from.0 + part * dx).round().whole();
            let y = (t.from.1 + part * dy).round().whole();
            for k in -half..=half {
                let (x, y) = if steep { (x + k, y) } else { (x, y + k) };
                if (0..w.whole()).contains(&x) && (0..h.whole()).contains(&y) {
                    masked.data_mut()[y.index() * w + x.index()] = f32::NAN;
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use rstest::rstest;

    fn frame(light: impl Fn(f64, f64) -> f64) -> Plane {
        Plane::from_fn(Size::new(900, 640).unwrap(), |x, y| {
            let hash = (x as u64 * 0x9E37_79B9 + y as u64 * 0x85EB_CA6B)
                .wrapping_mul(0xC2B2_AE3D_27D4_EB4F);
            let part = |k: u32| f64::from((hash >> k).u16()) / 65_536.0 - 0.5;
            let noise = part(0) + part(16) + part(32) + part(48);
            (500.0 + 10.0 * noise + light(x.real(), y.real())).single()
        })
    }

    #[rstest]
    #[case::bright_column(|x: f64, _: f64| if x == 413.0 { 60.0 } else { 0.0 }, 0)]
    #[case::bright_row(|_: f64, y: f64| if y == 300.0 { 60.0 } else { 0.0 }, 0)]
    #[case::border(|x: f64, _: f64| if x < 6.0 { 80.0 } else { 0.0 }, 0)]
    #[case::level_trail(|_: f64, y: f64| 60.0 * (-0.5 * ((y - 300.3) / 1.5f64).powi(2)).exp(), 1)]
    #[case::slanted_trail(|x: f64, y: f64| 60.0 * (-0.5 * ((y - 0.1 * x - 250.0) / 1.5f64).powi(2)).exp(), 1)]
    fn columns_and_borders_are_no_trails(#[case] light: fn(f64, f64) -> f64, #[case] want: usize) {
        let found = trails_of(&frame(light));
        assert_eq!(found.len(), want, "{found:?}");
    }

    #[test]
    fn stars_beside_a_trail_are_found_and_the_trail_is_not_a_star() {
        let star = |x: f64, y: f64| {
            let (u, v) = (x % 90.0 - 45.0, y % 80.0 - 40.0);
            400.0 * (-0.5 * (u * u + v * v) / 1.8).exp()
        };
        let trail = |x: f64, y: f64| 900.0 * (-0.5 * ((y - 0.4 * x - 101.0) / 1.4).powi(2)).exp();
        let plane = frame(|x, y| star(x, y) + trail(x, y));
        let settings = Settings::default();
        let (found, trails) = stars_and_trails(&plane, None, &settings).unwrap();
        assert_eq!(trails.len(), 1);
        assert!(found.stars.len() > 55, "{}", found.stars.len());
        for s in &found.stars {
            let (u, v) = (s.at.x % 90.0 - 45.0, s.at.y % 80.0 - 40.0);
            assert!(u.hypot(v) < 1.0, "{:?}", s.at);
        }
    }
}
