//! Trails of satellites and aircraft, as shapes: what a frame shows along a line and the others do not, with its faint
//! wings, is rejected wholly.
//!
//! In: a frame's residuals over blocks, in which a trail of half a noise width stands out by many. Lines are found as in a
//! survey ([`trails`]); each is then laid through the light along it, since the search knows angles to a third of a
//! degree only, and made as wide as its light reaches.

use serde::{Deserialize, Serialize};

use super::rejected::BLOCK;
use crate::binned;
use crate::number::Convert;
use crate::plane::Plane;
use crate::space::Rect;
use crate::survey::trails;

/// A line of light across the canvas, in canvas pixels.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Streak {
    /// One end.
    pub from: (f64, f64),
    /// The other.
    pub to: (f64, f64),
    /// Half of its width.
    pub half_px: f64,
}

/// The search counts angles for planes of such a side at the most.
const SIDE: usize = 800;

/// Blocks to each side in which a trail's light is looked for.
const AROUND: usize = 6;

/// Light fainter than this, in noise widths of a pixel, is no part of a trail: a twentieth of the noise of a stack of 24.
const FAINT: f64 = 0.06;

/// A trail goes on beyond the ends that are seen, by this part of its length.
const BEYOND: f64 = 0.06;

/// The streaks in a frame's residuals.
pub fn streaks(residuals: &Plane) -> Vec<Streak> {
    let size = residuals.size();
    let factor = size.width().max(size.height()).div_ceil(SIDE);
    let plane = binned(residuals, factor);
    let found = trails(&plane);
    // From pixels of the searched plane to those of the canvas.
    let side = (factor * BLOCK).real();
    let there = |(x, y): (f64, f64)| ((x + 0.5) * side - 0.5, (y + 0.5) * side - 0.5);
    found
        .iter()
        .filter_map(|t| {
            let rough = Streak {
                from: there(t.from),
                to: there(t.to),
                half_px: 0.0,
            };
            laid(residuals, rough)
        })
        .collect()
}

/// A streak laid through the light along it, as wide as that reaches; `None` where there is none along it after all.
fn laid(residuals: &Plane, rough: Streak) -> Option<Streak> {
    let mut streak = rough;
    for _ in 0..2 {
        streak = straightened(residuals, &streak);
    }
    let heights: Vec<f64> = (0..=AROUND)
        .map(|aside| {
            let aside = aside.real() * BLOCK.real();
            0.5 * (mean_along(residuals, &streak, aside) + mean_along(residuals, &streak, -aside))
        })
        .collect();
    // What all of the frame is off by is no trail's.
    let ground = heights[AROUND - 1..].iter().sum::<f64>() / 2.0;
    if heights[0] - ground < 2.0 * FAINT {
        return None;
    }
    let dark = heights.iter().position(|h| h - ground < FAINT);
    let blocks = dark.unwrap_or(AROUND).max(1);
    let (dx, dy) = (streak.to.0 - streak.from.0, streak.to.1 - streak.from.1);
    Some(Streak {
        from: (streak.from.0 - BEYOND * dx, streak.from.1 - BEYOND * dy),
        to: (streak.to.0 + BEYOND * dx, streak.to.1 + BEYOND * dy),
        half_px: (blocks.real() + 0.5) * BLOCK.real(),
    })
}

/// The same streak through the middle of the light along it: a straight line through the middles of its pieces.
fn straightened(residuals: &Plane, streak: &Streak) -> Streak {
    let (mut n, mut st, mut stt, mut sd, mut std) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for t in (0..PIECES).map(|i| (i.real() + 0.5) / PIECES.real()) {
        let piece = streak.piece(t, 1.0 / PIECES.real());
        let (mut light, mut moment) = (0.0, 0.0);
        for k in 0..=2 * REACH {
            let aside = (k.real() - REACH.real()) * 0.5 * BLOCK.real();
            let height = mean_along(residuals, &piece, aside).max(0.0);
            light += height;
            moment += height * aside;
        }
        if light > 0.0 {
            let off = moment / light;
            n += light;
            st += light * t;
            stt += light * t * t;
            sd += light * off;
            std += light * off * t;
        }
    }
    let det = n * stt - st * st;
    if det <= 1e-9 * n * n {
        return *streak;
    }
    let slope = (n * std - st * sd) / det;
    let start = (sd - slope * st) / n;
    let (nx, ny) = streak.normal();
    let move_by = |p: (f64, f64), off: f64| (p.0 + off * nx, p.1 + off * ny);
    Streak {
        from: move_by(streak.from, start),
        to: move_by(streak.to, start + slope),
        ..*streak
    }
}

/// Pieces along a streak, and half blocks to each side in which the middle of its light is looked for.
const PIECES: usize = 12;
const REACH: usize = 5;

/// Mean residual along a streak, so many pixels aside of it.
fn mean_along(residuals: &Plane, streak: &Streak, aside: f64) -> f64 {
    let (dx, dy) = (streak.to.0 - streak.from.0, streak.to.1 - streak.from.1);
    let steps = (dx.hypot(dy) / (0.5 * BLOCK.real()))
        .ceil()
        .max(1.0)
        .index();
    let (nx, ny) = streak.normal();
    let (mut sum, mut count) = (0.0, 0.0);
    for i in 0..=steps {
        let t = i.real() / steps.real();
        let x = streak.from.0 + t * dx + aside * nx;
        let y = streak.from.1 + t * dy + aside * ny;
        if let Some(v) = between(residuals, x, y) {
            sum += v;
            count += 1.0;
        }
    }
    if count > 0.0 { sum / count } else { 0.0 }
}

/// The residual at a place of the canvas, between the middles of blocks; `None` outside.
fn between(residuals: &Plane, x: f64, y: f64) -> Option<f64> {
    let (u, v) = (
        (x + 0.5) / BLOCK.real() - 0.5,
        (y + 0.5) / BLOCK.real() - 0.5,
    );
    let size = residuals.size();
    let inside =
        u >= 0.0 && v >= 0.0 && u < (size.width() - 1).real() && v < (size.height() - 1).real();
    if !inside {
        return None;
    }
    let (c, r) = (u.whole(), v.whole());
    let (tx, ty) = (u - c.real(), v - r.real());
    let at = |c: i64, r: i64| f64::from(residuals.at(c, r));
    let top = at(c, r) + tx * (at(c + 1, r) - at(c, r));
    let bottom = at(c, r + 1) + tx * (at(c + 1, r + 1) - at(c, r + 1));
    Some(top + ty * (bottom - top))
}

impl Streak {
    /// A piece of it around the part `t` of the way.
    fn piece(&self, t: f64, part: f64) -> Self {
        let at = |t: f64| {
            let go = |a: f64, b: f64| a + t * (b - a);
            (go(self.from.0, self.to.0), go(self.from.1, self.to.1))
        };
        Self {
            from: at(t - 0.5 * part),
            to: at(t + 0.5 * part),
            ..*self
        }
    }

    /// The direction across it.
    fn normal(&self) -> (f64, f64) {
        let (dx, dy) = (self.to.0 - self.from.0, self.to.1 - self.from.1);
        let length = dx.hypot(dy).max(f64::MIN_POSITIVE);
        (-dy / length, dx / length)
    }

    /// The columns of a row that it covers, as a range of canvas pixels.
    fn columns(&self, y: f64) -> Option<(f64, f64)> {
        // The rectangle around the line, cut by the row: where both distances are within their limits.
        let (nx, ny) = self.normal();
        let (ax, ay) = (-ny, nx);
        let (ax, ay) = if ax * (self.to.0 - self.from.0) + ay * (self.to.1 - self.from.1) < 0.0 {
            (-ax, -ay)
        } else {
            (ax, ay)
        };
        let length = (self.to.0 - self.from.0).hypot(self.to.1 - self.from.1);
        let (mut low, mut high) = (f64::NEG_INFINITY, f64::INFINITY);
        let limits = [(nx, ny, -self.half_px, self.half_px), (ax, ay, 0.0, length)];
        for (ux, uy, from, to) in limits {
            // from <= ux (x - x0) + uy (y - y0) <= to
            let here = uy * (y - self.from.1) - ux * self.from.0;
            if ux.abs() < 1e-12 {
                if here < from || here > to {
                    return None;
                }
                continue;
            }
            let (a, b) = ((from - here) / ux, (to - here) / ux);
            low = low.max(a.min(b));
            high = high.min(a.max(b));
        }
        (low <= high).then_some((low, high))
    }

    /// Does it touch a rectangle of the canvas?
    pub fn touches(&self, rect: Rect) -> bool {
        let ys = rect.y..rect.bottom();
        ys.into_iter().any(|y| self.span(y, rect).is_some())
    }

    /// The pixels of a row of a rectangle that it covers, from its first column on.
    pub(super) fn span(&self, y: i64, rect: Rect) -> Option<std::ops::Range<usize>> {
        let (low, high) = self.columns(y.real())?;
        let from = low.ceil().whole().max(rect.x);
        let to = (high.floor().whole() + 1).min(rect.right());
        (from < to).then(|| (from - rect.x).index()..(to - rect.x).index())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;
    use jigsawa_sky::chance::normal;
    use rstest::rstest;

    /// Residuals of noise, and of a trail of a height and a width in pixels.
    fn with(angle: f64, height: f64, width: f64) -> Plane {
        let size = Size::new(300, 200).unwrap();
        let (s, c) = angle.to_radians().sin_cos();
        let away = |x: f64, y: f64| (x - 1130.0) * s - (y - 790.0) * c;
        Plane::from_fn(size, |x, y| {
            let mut light = 0.0;
            for i in 0..64usize {
                let (px, py) = (8 * x + i % 8, 8 * y + i / 8);
                let a = away(px.real(), py.real()) / width;
                light += height * (-0.5 * a * a).exp() / 64.0;
            }
            (0.15 * normal((y * 300 + x) as u64, 0) + light).single()
        })
    }

    #[rstest]
    #[case(12.0, 1.2, 2.5)]
    #[case(71.0, 6.0, 1.5)]
    #[case(135.0, 3.0, 6.0)]
    #[case(90.0, 2.0, 3.0)]
    fn a_trail_is_covered_with_its_wings_and_little_else(
        #[case] angle: f64,
        #[case] height: f64,
        #[case] width: f64,
    ) {
        let found = streaks(&with(angle, height, width));
        assert_eq!(found.len(), 1, "{found:?}");
        let streak = found[0];
        assert!(
            streak.half_px > 2.0 * width && streak.half_px < 40.0,
            "{streak:?}"
        );
        let (s, c) = angle.to_radians().sin_cos();
        let (mut seen, mut missed) = (0, 0);
        for t in -2000..2000 {
            let (x, y) = (1130.0 + f64::from(t) * c, 790.0 + f64::from(t) * s);
            if x < 20.0 || y < 20.0 || x > 2380.0 || y > 1580.0 {
                continue;
            }
            for aside in [-2.0 * width, 0.0, 2.0 * width] {
                let (px, py) = (
                    (x - aside * s).round().whole(),
                    (y + aside * c).round().whole(),
                );
                let pixel = Rect {
                    x: px,
                    y: py,
                    width: 1,
                    height: 1,
                };
                seen += 1;
                missed += i32::from(!streak.touches(pixel));
            }
        }
        assert!(missed * 50 < seen, "{missed} of {seen}: {streak:?}");
    }

    #[test]
    fn noise_alone_has_no_streaks() {
        assert_eq!(streaks(&with(30.0, 0.0, 2.0)), []);
    }

    #[test]
    fn rows_are_cut_where_the_rectangle_is() {
        let level = Streak {
            from: (10.0, 20.0),
            to: (30.0, 20.0),
            half_px: 3.0,
        };
        let rect = Rect {
            x: 0,
            y: 0,
            width: 100,
            height: 100,
        };
        assert_eq!(level.span(20, rect), Some(10..31));
        assert_eq!(level.span(23, rect), Some(10..31));
        assert_eq!(level.span(24, rect), None);
        let upright = Streak {
            from: (50.0, 80.0),
            to: (50.0, 10.0),
            half_px: 2.0,
        };
        assert_eq!(upright.span(40, rect), Some(48..53));
        assert_eq!(upright.span(90, rect), None);
        assert!(upright.touches(rect) && !upright.touches(Rect { x: 60, ..rect }));
    }
}
