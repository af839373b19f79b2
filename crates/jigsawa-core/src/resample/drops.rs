//! Pixels dropped onto a finer canvas (Fruchter & Hook 2002, Publications of the Astronomical Society of the Pacific 114, 144).
//!
//! Each pixel of a frame is shrunk around its middle and laid down where it belongs; a pixel of the canvas gets the mean of what
//! lies on it, by the areas. Nothing is interpolated: what many dithered frames show between their pixels comes out. A canvas
//! pixel on which nothing falls is missing, and how much falls on each is told beside its value.
//!
//! Square drops stay upright on the canvas, as large as the turned pixel is; for a turn of 45 degrees that widens a star by a
//! fortieth of a pixel. Clipping turned squares was left out for its cost: three times as much.

use serde::{Deserialize, Serialize};

use crate::number::Convert;
use crate::placement::{Placement, RowPlaces};
use crate::space::Rect;

use super::sample::Window;

/// How pixels are dropped.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Drops {
    /// Side of a drop in frame pixels: 1 for the whole pixel. Of a Gaussian its width at half of its height.
    pub side_px: f64,
    /// Its shape.
    pub shape: DropShape,
}

/// The shape of a drop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum DropShape {
    /// Even over its area.
    #[default]
    Square,
    /// Falling off from its middle: smoother where few frames overlap, stars a little wider.
    Gaussian,
}

/// A Gaussian ends where it has fallen to a hundredth.
const GAUSSIAN_REACH: f64 = 1.3;

impl Drops {
    /// Frame pixels from a drop's middle to its end.
    pub(crate) fn reach_px(&self) -> f64 {
        match self.shape {
            DropShape::Square => 0.5 * self.side_px,
            DropShape::Gaussian => GAUSSIAN_REACH * self.side_px,
        }
    }

    /// The variance of what falls on a canvas pixel against that of one value: the sum of squared areas over the square of their
    /// sum, on the mean over all places where something falls. `scale` is canvas pixels for a frame pixel; `there` tells
    /// which pixels of a frame have a value, in a pattern that comes again after two.
    pub fn spread(&self, scale: f64, there: impl Fn(i64, i64) -> bool) -> f64 {
        let (mut sum, mut count) = (0.0, 0.0);
        for (dx, dy) in places(2.0) {
            let (mut all, mut squares) = (0.0, 0.0);
            for j in -AROUND..=AROUND + 1 {
                for i in (-AROUND..=AROUND + 1).filter(|i| there(*i, j)) {
                    let at = |v: i64, d: f64| scale * (v.real() - d);
                    let area = self.area((at(i, dx), at(j, dy)), scale);
                    all += area;
                    squares += area * area;
                }
            }
            if all > f64::from(LEAST_AREA) {
                sum += squares / (all * all);
                count += 1.0;
            }
        }
        if count > 0.0 { sum / count } else { 1.0 }
    }

    /// By how much more noise there is on large scales than pixels of the canvas show, since neighbours share drops: what a drop
    /// lays down in all over the root of the squares on each pixel (Fruchter & Hook 2002, section 7, for squares).
    pub fn tied(&self, scale: f64) -> f64 {
        let (mut all, mut squares) = (0.0, 0.0);
        let reach = (scale * self.reach_px()).ceil().whole() + 1;
        for (dx, dy) in places(1.0) {
            for j in -reach..=reach {
                for i in -reach..=reach {
                    let area = self.area((i.real() - dx, j.real() - dy), scale);
                    all += area;
                    squares += area * area;
                }
            }
        }
        let n = places(1.0).count().real();
        all / n / (squares / n).sqrt()
    }

    /// The area of a canvas pixel that a drop `(x, y)` canvas pixels off its middle covers; of a Gaussian what it lays down
    /// there.
    fn area(&self, (x, y): (f64, f64), scale: f64) -> f64 {
        let side = scale * self.side_px;
        match self.shape {
            DropShape::Square => overlap(x, 0.5 * side) * overlap(y, 0.5 * side),
            DropShape::Gaussian => {
                let narrow = 4.0 * std::f64::consts::LN_2 / (side * side);
                let r2 = x * x + y * y;
                let end = scale * self.reach_px();
                if r2 > end * end {
                    return 0.0;
                }
                // As much in all as a square of that side.
                side * side * narrow / std::f64::consts::PI * (-narrow * r2).exp()
            }
        }
    }
}

/// Frame pixels around a place whose drops may reach it.
const AROUND: i64 = 4;

/// Places spread evenly over a square of a side.
fn places(side: f64) -> impl Iterator<Item = (f64, f64)> {
    const MANY: usize = 16;
    let part = move |k: usize| side * (k.real() + 0.5) / MANY.real();
    (0..MANY * MANY).map(move |i| (part(i % MANY), part(i / MANY)))
}

/// What an interval of half-length `half` around `at` covers of (-1/2, 1/2).
fn overlap(at: f64, half: f64) -> f64 {
    ((at + half).min(0.5) - (at - half).max(-0.5)).max(0.0)
}

/// Drops the pixels of a window of a frame onto a rectangle of the canvas: their mean in `values`, NaN where nothing falls, and
/// what falls there in `coverage`, in canvas pixels of area. Missing pixels fall nowhere.
///
/// # Panics
/// When `values` or `coverage` does not have the rectangle's area.
pub fn drop_onto(
    drops: &Drops,
    map: &Placement,
    window: &Window<'_>,
    rect: Rect,
    (values, coverage): (&mut [f32], &mut [f32]),
) {
    assert!(values.len() == rect.area() && coverage.len() == rect.area());
    values.fill(0.0);
    coverage.fill(0.0);
    let back = map.invert();
    let mut places = RowPlaces::default();
    let rows = window.data.chunks_exact(window.rect.width.max(1));
    for (y, row) in (window.rect.y..).zip(rows) {
        places.fill(&back, (window.rect.x, y), row.len());
        for (x, value) in row.iter().enumerate().filter(|(_, v)| v.is_finite()) {
            let (at, scale) = places.at(x);
            let reach = scale * drops.reach_px() + 0.5;
            let columns = span(at.x, reach, rect.x, rect.right());
            for row in span(at.y, reach, rect.y, rect.bottom()) {
                let from = (row - rect.y).index() * rect.width;
                for column in columns.clone() {
                    let off = (at.x - column.real(), at.y - row.real());
                    let area = drops.area(off, scale).single();
                    let i = from + (column - rect.x).index();
                    values[i] += area * value;
                    coverage[i] += area;
                }
            }
        }
    }
    for (v, area) in values.iter_mut().zip(coverage.iter_mut()) {
        // What barely touches a pixel tells nothing of it.
        if *area > LEAST_AREA {
            *v /= *area;
        } else {
            (*v, *area) = (f32::NAN, 0.0);
        }
    }
}

/// Areas below this part of a canvas pixel come from rounding.
const LEAST_AREA: f32 = 1e-4;

/// Pixels between two limits whose middles lie within `reach` of a place.
fn span(at: f64, reach: f64, from: i64, to: i64) -> std::ops::Range<i64> {
    let first = (at - reach).ceil().whole().max(from);
    let end = ((at + reach).floor().whole() + 1).min(to);
    first..end.max(first)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Map;
    use rstest::rstest;

    fn dropped(drops: Drops, map: &Placement, pixels: &[f32; 16]) -> (Vec<f32>, Vec<f32>) {
        let window = Window {
            rect: Rect {
                x: 0,
                y: 0,
                width: 4,
                height: 4,
            },
            data: pixels,
        };
        let rect = Rect {
            x: 0,
            y: 0,
            width: 8,
            height: 8,
        };
        let (mut values, mut coverage) = (vec![0.0; 64], vec![0.0; 64]);
        drop_onto(&drops, map, &window, rect, (&mut values, &mut coverage));
        (values, coverage)
    }

    /// Two canvas pixels for one of the frame, and a shift.
    fn twice(dx: f64) -> Placement {
        Map::from_rows([[0.5, 0.0, dx], [0.0, 0.5, -0.25], [0.0, 0.0, 1.0]]).unwrap()
    }

    #[test]
    fn a_whole_pixel_covers_four_and_a_shrunk_one_less_of_them() {
        let mut pixels = [1.0; 16];
        pixels[5] = 9.0;
        let whole = Drops {
            side_px: 1.0,
            shape: DropShape::Square,
        };
        let (values, coverage) = dropped(whole, &twice(-0.25), &pixels);
        assert!(coverage.iter().all(|c| (c - 1.0).abs() < 1e-6));
        let bright = |i: usize| (2..4).contains(&(i % 8)) && (2..4).contains(&(i / 8));
        for (i, v) in values.iter().enumerate() {
            assert_eq!(*v, if bright(i) { 9.0 } else { 1.0 });
        }
        let half = Drops {
            side_px: 0.5,
            shape: DropShape::Square,
        };
        let (values, coverage) = dropped(half, &twice(-0.25), &pixels);
        assert!((coverage[18] - 0.25).abs() < 1e-6 && values[18] == 9.0);
        // A quarter of a frame pixel on, and each drop has one canvas pixel for itself; between them nothing falls.
        let (values, coverage) = dropped(half, &twice(0.0), &pixels);
        assert!(
            (coverage[9] - 0.0).abs() < 1e-6 && values[9].is_nan(),
            "{coverage:?}"
        );
    }

    #[rstest]
    #[case(DropShape::Square)]
    #[case(DropShape::Gaussian)]
    fn what_falls_is_as_much_as_the_drops_have(#[case] shape: DropShape) {
        let drops = Drops {
            side_px: 0.8,
            shape,
        };
        let mut pixels = [f32::NAN; 16];
        pixels[5] = 3.0;
        let (values, coverage) = dropped(drops, &twice(-0.17), &pixels);
        let all: f32 = coverage.iter().sum();
        assert!((all - 4.0 * 0.64).abs() < 0.1, "{all}");
        assert!(values.iter().all(|v| v.is_nan() || (v - 3.0).abs() < 1e-5));
    }

    #[test]
    fn spread_and_ties_are_those_of_closed_forms() {
        let of = |side_px| Drops {
            side_px,
            shape: DropShape::Square,
        };
        let all = |_, _| true;
        // Drops far smaller than a canvas pixel of the frame's size: always one.
        assert!((of(0.05).spread(1.0, all) - 1.0).abs() < 0.1);
        // Whole pixels shifted by any part: (2/3) squared.
        assert!((of(1.0).spread(1.0, all) - 4.0 / 9.0).abs() < 0.01);
        // A quarter of them, as red ones are: mostly one.
        let red = of(1.0).spread(1.0, |i, j| i % 2 == 0 && j % 2 == 0);
        assert!((red - 1.0).abs() < 0.01, "{red}");
        // Fruchter and Hook's equation for drops larger than a canvas pixel, and smaller.
        let tied = |r: f64| r / (1.0 - 1.0 / (3.0 * r));
        assert!((of(0.7).tied(2.0) / tied(1.4) - 1.0).abs() < 0.01);
        assert!((of(1.0).tied(1.0) / 1.5 - 1.0).abs() < 0.01);
        assert!((of(0.5).tied(1.0) * (1.0 - 0.5 / 3.0) - 1.0).abs() < 0.01);
    }
}
