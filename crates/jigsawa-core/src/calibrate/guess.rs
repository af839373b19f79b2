//! What a frame is by its pixels alone, where neither a card nor a name says it: a guess, and to be said as one.
//!
//! Stars are what only lights have: pixels that stand out side by side and one above the other, while hot pixels stand alone and warm
//! columns in a line. A frame without stars is a flat if it is bright, else a dark, or a bias if it was not exposed. A bright frame
//! is only known as such where the value of a full pixel is known.

use std::collections::HashSet;

use super::defects::{standing_out, usual_standing};
use crate::doors::{DoorError, FrameSource};
use crate::frame::Kind;
use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::median;
use crate::space::{Rect, Size};

/// Rows in the middle that are looked at.
const ROWS: usize = 640;

/// A pixel stands out by so many usual widths.
const SIGMA: f32 = 8.0;

/// So many pixels with one that stands out beside them and one above or below are stars'.
const STARS: usize = 12;

/// A flat has at least this part of the full value.
const BRIGHT: f32 = 0.12;

/// What is exposed for less is a bias, in seconds.
const NO_EXPOSURE_S: f64 = 0.002;

/// The kind of a frame. `full` is the value of a full pixel, where it is known.
///
/// # Errors
/// When the frame cannot be read.
pub fn guess(
    frame: &dyn FrameSource,
    exposure_s: Option<f64>,
    full: Option<f32>,
) -> Result<Kind, DoorError> {
    let size = frame.size();
    let height = size.height().min(ROWS);
    let rect = Rect {
        x: 0,
        y: ((size.height() - height) / 2).whole(),
        width: size.width(),
        height,
    };
    let mut pixels = vec![0.0; rect.area()];
    frame.read(rect, &mut pixels)?;
    let part = Size::new(rect.width, height).and_then(|s| Plane::new(s, pixels));
    let Some(part) = part else {
        return Ok(Kind::Light);
    };
    let bar = SIGMA * usual_standing(&part)?;
    let out: HashSet<(usize, usize)> = standing_out(&part, |_| bar)?
        .iter()
        .filter(|s| s.over > 0.0)
        .map(|s| s.at)
        .collect();
    let stars = out.iter().filter(|(x, y)| {
        let beside = out.contains(&(x + 1, *y)) || *x > 0 && out.contains(&(x - 1, *y));
        let above = out.contains(&(*x, y + 1)) || *y > 0 && out.contains(&(*x, y - 1));
        beside && above
    });
    if stars.count() >= STARS {
        return Ok(Kind::Light);
    }
    let mut known: Vec<f32> = part
        .data()
        .iter()
        .copied()
        .filter(|v| v.is_finite())
        .collect();
    let level = median(&mut known);
    if full.is_some_and(|f| level > BRIGHT * f) {
        return Ok(Kind::Flat);
    }
    Ok(match exposure_s {
        Some(s) if s > NO_EXPOSURE_S => Kind::Dark,
        Some(_) => Kind::Bias,
        // Without an exposure nobody knows.
        None => Kind::Light,
    })
}
