//! Flawed pixels made up from sound ones beside, at reading.
//!
//! A single pixel gets the mean of pairs of neighbours on both sides, which a slope does not move. What ran along a column
//! is filled across it, from the nearest sound pixels at its left and right. Flawed pixels never count, so that it does
//! not matter which of them were made up before, and any window has the same bits.

use super::defects::{Defects, Flaw};
use crate::doors::DoorError;
use crate::number::Convert;
use crate::robust::median;
use crate::space::{Rect, Size};

/// How far neighbours of a pixel may be, in pixels of its colour.
const REACH: i64 = 2;

/// How far sound pixels beside a bloom may be: wider than any.
const BESIDE: i64 = 24;

/// The middle one of so many on each side counts: one of them may be where the bloom fades out.
const BESIDE_IT: usize = 5;

/// Flawed pixels of a frame.
pub struct Repair<'a> {
    /// Those of its chip.
    pub chip: Option<&'a Defects>,
    /// Those of this frame alone.
    pub own: Option<&'a Defects>,
    /// How far apart pixels of one colour are: 1, or 2 behind a colour camera's pattern.
    pub step: i64,
}

impl Repair<'_> {
    /// Makes up the flawed pixels of a window. `read` gives those around one that lies at its rim.
    ///
    /// # Errors
    /// When `read` fails.
    pub fn repair(
        &self,
        rect: Rect,
        out: &mut [f32],
        read: impl Fn(Rect, &mut [f32]) -> Result<(), DoorError>,
    ) -> Result<(), DoorError> {
        let mut beside = Vec::new();
        for list in [self.chip, self.own].into_iter().flatten() {
            let frame = list.size().rect();
            for y in rect.y.max(0)..rect.bottom().min(frame.bottom()) {
                let row = list.row(y.index());
                let first = row.partition_point(|p| p.0.whole() < rect.x);
                let inside = row[first..]
                    .iter()
                    .take_while(|p| p.0.whole() < rect.right());
                for (x, flaw) in inside {
                    let x = x.whole();
                    let near = self.near((x, y), *flaw, list.size());
                    let value = if near.intersect(rect) == near {
                        self.made_up((x, y), *flaw, &Window { rect, pixels: out }, near)
                    } else {
                        beside.resize(near.area(), 0.0);
                        read(near, &mut beside)?;
                        let window = Window {
                            rect: near,
                            pixels: &beside,
                        };
                        self.made_up((x, y), *flaw, &window, near)
                    };
                    out[(y - rect.y).index() * rect.width + (x - rect.x).index()] = value;
                }
            }
        }
        Ok(())
    }

    /// The pixels that one is made up from.
    fn near(&self, (x, y): (i64, i64), flaw: Flaw, size: Size) -> Rect {
        let (across, along) = match flaw {
            Flaw::Bloom => (BESIDE * self.step, 0),
            _ => (REACH * self.step, REACH * self.step),
        };
        Rect {
            x: x - across,
            y: y - along,
            width: (2 * across + 1).index(),
            height: (2 * along + 1).index(),
        }
        .intersect(size.rect())
    }

    fn made_up(&self, at: (i64, i64), flaw: Flaw, window: &Window<'_>, near: Rect) -> f32 {
        let holds = |list: Option<&Defects>, x, y| list.is_some_and(|d| d.holds(x, y));
        let sound = |dx: i64, dy: i64| {
            let (x, y) = (at.0 + self.step * dx, at.1 + self.step * dy);
            let inside = x >= near.x && x < near.right() && y >= near.y && y < near.bottom();
            let is_sound = inside && !holds(self.chip, x, y) && !holds(self.own, x, y);
            is_sound.then(|| window.at(x, y)).filter(|v| v.is_finite())
        };
        match flaw {
            Flaw::Bloom => across(sound),
            _ => of_pairs(sound),
        }
    }
}

/// Pixels of a rectangle.
struct Window<'a> {
    rect: Rect,
    pixels: &'a [f32],
}

impl Window<'_> {
    fn at(&self, x: i64, y: i64) -> f32 {
        self.pixels[(y - self.rect.y).index() * self.rect.width + (x - self.rect.x).index()]
    }
}

/// The mean of the nearest pairs: across and along, else the diagonal ones, else those at twice the distance, else of
/// any sound pixel. NaN where none is.
fn of_pairs(sound: impl Fn(i64, i64) -> Option<f32>) -> f32 {
    for ways in PAIRS {
        let pairs = ways
            .iter()
            .filter_map(|(dx, dy)| Some(0.5 * (sound(*dx, *dy)? + sound(-dx, -dy)?)));
        if let Some(mean) = mean(pairs) {
            return mean;
        }
    }
    let any = (-REACH..=REACH).flat_map(|dy| (-REACH..=REACH).map(move |dx| (dx, dy)));
    mean(any.filter_map(|(dx, dy)| sound(dx, dy))).unwrap_or(f32::NAN)
}

/// A line through the nearest sound pixels at the left and at the right; NaN where there is none on either side.
fn across(sound: impl Fn(i64, i64) -> Option<f32>) -> f32 {
    let side = |way: i64| {
        let found = (1..=BESIDE).filter_map(|k| Some((k, sound(way * k, 0)?)));
        let (mut far, mut values) = (0.0, Vec::with_capacity(BESIDE_IT));
        for (k, v) in found.take(BESIDE_IT) {
            far += k.single();
            values.push(v);
        }
        let n = values.len().single();
        (n > 0.0).then(|| (far / n, median(&mut values)))
    };
    match (side(-1), side(1)) {
        (Some((a, left)), Some((b, right))) => (left * b + right * a) / (a + b),
        (Some((_, v)), None) | (None, Some((_, v))) => v,
        (None, None) => f32::NAN,
    }
}

/// Ways to neighbours, the nearest first; each has its opposite.
const PAIRS: [&[(i64, i64)]; 4] = [
    &[(1, 0), (0, 1)],
    &[(1, 1), (1, -1)],
    &[(2, 0), (0, 2)],
    &[(2, 1), (1, 2), (2, -1), (1, -2), (2, 2), (2, -2)],
];

fn mean(values: impl Iterator<Item = f32>) -> Option<f32> {
    let (sum, n) = values.fold((0.0, 0.0), |(sum, n), v| (sum + v, n + 1.0));
    (n > 0.0).then(|| sum / n)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;

    fn mended(plane: &Plane, chip: &Defects, own: &Defects) -> Vec<f32> {
        let repair = Repair {
            chip: Some(chip),
            own: Some(own),
            step: 1,
        };
        let mut out = plane.data().to_vec();
        let whole = plane.size().rect();
        repair
            .repair(whole, &mut out, |_, _| unreachable!("all is there"))
            .unwrap();
        out
    }

    #[test]
    fn a_slope_comes_back_under_pixels_of_both_lists_and_under_a_bloom() {
        let size = Size::new(40, 30).unwrap();
        let slope = |x: usize, y: usize| 100.0 + 2.0 * x.single() + 3.0 * y.single();
        let chip = vec![(12, 8, Flaw::Hot), (20, 20, Flaw::Cold)];
        let mut own = vec![(13, 8, Flaw::Ray), (12, 9, Flaw::Ray)];
        own.extend((5..25).flat_map(|y| (29..33).map(move |x| (x, y, Flaw::Bloom))));
        let (chip, own) = (Defects::new(size, chip), Defects::new(size, own));
        let spoilt = Plane::from_fn(size, |x, y| {
            let bad = chip.holds(x.whole(), y.whole()) || own.holds(x.whole(), y.whole());
            if bad { 60_000.0 } else { slope(x, y) }
        });
        let out = mended(&spoilt, &chip, &own);
        for (i, v) in out.iter().enumerate() {
            let want = slope(i % 40, i / 40);
            // Between single sound pixels beside a clump a slope is met on the whole only.
            assert!((v - want).abs() < 2.1, "{} {}: {v} {want}", i % 40, i / 40);
        }
        assert!((out[20 * 40 + 20] - slope(20, 20)).abs() < 1e-3);
        assert!((out[15 * 40 + 30] - slope(30, 15)).abs() < 1e-3);
    }
}
