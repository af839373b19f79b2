//! A colour camera's frame as a plane of one colour: the colour's own pixels as they are, the others made up from what lies
//! around them.
//!
//! Green first: the mean of its four neighbours, and the bend that they miss by what the pixel's own colour bends there
//! (Malvar, He & Cutler 2004, ICASSP 3, 485), times how much green goes with that colour around (a local regression as in
//! Kiku, Monno, Tanaka & Okutomi 2013, ICIP, 2304): all of it in a white star, nothing where a red one stands on an even
//! green sky. Red and blue then follow green in the same way. No direction is preferred: the sky has no edges, and choosing
//! one by the steps around a star moves its light from one colour to another (5 % of it, tried).

use std::cell::RefCell;

use super::pattern::{Colour, Pattern};
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::space::{Rect, Size};

/// One colour of a frame, at every pixel.
pub struct Interpolated<S> {
    /// The frame, calibrated.
    pub source: S,
    /// Colours before its pixels.
    pub pattern: Pattern,
    /// The colour that is wanted.
    pub colour: Colour,
}

/// How far apart pixels of red, or of blue, are.
const STEP: i64 = 2;

/// A regression takes in so many of them to each side: fewer follow the shape of a single star, and move its light from one
/// colour to another (3 % of it with one, 1 % with two).
const SIDE: i64 = 2;

/// Pixels around a window that are needed: those around a neighbour's regression, and those around each of them.
const AROUND: i64 = 1 + SIDE * STEP;
const MARGIN: i64 = AROUND + STEP;

/// Green goes with another colour no stronger than this: beyond, noise has made the slope.
const STEEPEST: f32 = 5.0;

/// Memory of a window, kept from one to the next.
#[derive(Default)]
struct Scratch {
    values: Vec<f32>,
    /// The same with what lies beyond the frame's edge.
    whole: Vec<f32>,
    /// Around each red and blue pixel: green as the mean of its four, its colour made as wide by its own four.
    pairs: Vec<(f32, f32)>,
    /// Green for a unit of the colour, and the colour for a unit of green.
    slopes: Vec<(f32, f32)>,
    green: Vec<f32>,
}

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

impl<S: FrameSource> FrameSource for Interpolated<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        SCRATCH.with_borrow_mut(|scratch| {
            let wide = rect.grown(MARGIN.index()).intersect(self.size().rect());
            scratch.values.resize(wide.area(), 0.0);
            self.source.read(wide, &mut scratch.values)?;
            let all = Field {
                rect: rect.grown(MARGIN.index()),
            };
            let (size, read) = (self.size(), &scratch.values);
            all.fill(&mut scratch.whole, |x, y| {
                let (x, y) = (
                    inside(x, size.width().whole()),
                    inside(y, size.height().whole()),
                );
                read[Field { rect: wide }.index(x, y)]
            });
            let window = Window {
                field: all,
                values: &scratch.whole,
                pattern: self.pattern,
            };
            let around = Field {
                rect: rect.grown(AROUND.index()),
            };
            around.fill(&mut scratch.pairs, |x, y| window.pair(x, y));
            let near = Field {
                rect: rect.grown(1),
            };
            let pairs = |x: i64, y: i64| scratch.pairs[around.index(x, y)];
            near.fill(&mut scratch.slopes, |x, y| {
                if window.pattern.at(x, y) == 1 {
                    (0.0, 0.0)
                } else {
                    slopes(x, y, pairs)
                }
            });
            let slopes = |x: i64, y: i64| scratch.slopes[near.index(x, y)];
            near.fill(&mut scratch.green, |x, y| window.green(x, y, slopes));
            let green = |x: i64, y: i64| scratch.green[near.index(x, y)];
            for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width.max(1))) {
                for (x, o) in (rect.x..).zip(row) {
                    let v = match self.colour {
                        1 => green(x, y),
                        colour => window.following(x, y, colour, green, slopes),
                    };
                    *o = if v.is_finite() {
                        v
                    } else {
                        window.near(x, y, self.colour)
                    };
                }
            }
            Ok(())
        })
    }
}

/// Beyond a frame's edge the pixel as far inside, which has the same colour.
fn inside(v: i64, n: i64) -> i64 {
    let v = v.abs();
    let v = if v >= n { 2 * (n - 1) - v } else { v };
    v.clamp(0, n - 1)
}

/// Something at each pixel of a rectangle.
struct Field {
    rect: Rect,
}

impl Field {
    #[inline]
    fn index(&self, x: i64, y: i64) -> usize {
        (y - self.rect.y).index() * self.rect.width + (x - self.rect.x).index()
    }

    fn fill<T>(&self, into: &mut Vec<T>, of: impl Fn(i64, i64) -> T) {
        into.clear();
        for y in self.rect.y..self.rect.bottom() {
            into.extend((self.rect.x..self.rect.right()).map(|x| of(x, y)));
        }
    }
}

/// The regression of green on a colour and of the colour on green around a red or blue pixel. What is missing, or does not
/// differ, tells nothing.
fn slopes(x: i64, y: i64, pairs: impl Fn(i64, i64) -> (f32, f32)) -> (f32, f32) {
    let sites = || {
        (-SIDE..=SIDE)
            .flat_map(|j| (-SIDE..=SIDE).map(move |i| (x + STEP * i, y + STEP * j)))
            .map(|(x, y)| pairs(x, y))
    };
    // From the middle one's: sums of squares of a bright sky would lose what differs.
    let (g0, c0) = pairs(x, y);
    let (mut sg, mut sc, mut gg, mut gc, mut cc) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for (g, c) in sites() {
        let (dg, dc) = (g - g0, c - c0);
        sg += dg;
        sc += dc;
        gg += dg * dg;
        gc += dg * dc;
        cc += dc * dc;
    }
    let n = ((2 * SIDE + 1) * (2 * SIDE + 1)).single();
    let (gg, gc, cc) = (gg - sg * sg / n, gc - sg * sc / n, cc - sc * sc / n);
    let slope = |of: f32| {
        let k = gc / of;
        if k.is_finite() && of > 0.0 {
            k.clamp(0.0, STEEPEST)
        } else {
            0.0
        }
    };
    (slope(cc), slope(gg))
}

/// Pixels around a window.
struct Window<'a> {
    field: Field,
    values: &'a [f32],
    pattern: Pattern,
}

impl Window<'_> {
    #[inline]
    fn at(&self, x: i64, y: i64) -> f32 {
        self.values[self.field.index(x, y)]
    }

    /// The sum of the four pixels at a distance.
    fn four(&self, x: i64, y: i64, far: i64) -> f32 {
        self.at(x - far, y) + self.at(x + far, y) + self.at(x, y - far) + self.at(x, y + far)
    }

    /// Green around a red or blue pixel, and its colour as wide as that; nothing at green ones.
    fn pair(&self, x: i64, y: i64) -> (f32, f32) {
        if self.pattern.at(x, y) == 1 {
            return (0.0, 0.0);
        }
        let colour = 0.75 * self.at(x, y) + 0.0625 * self.four(x, y, STEP);
        (0.25 * self.four(x, y, 1), colour)
    }

    fn green(&self, x: i64, y: i64, slopes: impl Fn(i64, i64) -> (f32, f32)) -> f32 {
        if self.pattern.at(x, y) == 1 {
            return self.at(x, y);
        }
        // What a mean of four misses of the pixel's own colour, were that known there: its bend over a distance of two, a
        // quarter of which is that over one, in both directions.
        let bend = 0.25 * (self.at(x, y) - 0.25 * self.four(x, y, STEP));
        0.25 * self.four(x, y, 1) + slopes(x, y).0 * bend
    }

    /// Red or blue: as much of green as it goes with, and what it differs from that by around.
    fn following(
        &self,
        x: i64,
        y: i64,
        colour: Colour,
        green: impl Fn(i64, i64) -> f32,
        slopes: impl Fn(i64, i64) -> (f32, f32),
    ) -> f32 {
        if self.pattern.at(x, y) == colour {
            return self.at(x, y);
        }
        let mut around = [(0.0f32, 0.0f32); 4];
        let (mut n, mut sum) = (0, 0.0);
        for dy in -1..=1 {
            for dx in -1..=1 {
                let (px, py) = (x + dx, y + dy);
                if self.pattern.at(px, py) == colour {
                    let pair = (self.at(px, py), green(px, py));
                    if (pair.0 + pair.1).is_finite() {
                        around[n] = pair;
                        sum += slopes(px, py).1;
                        n += 1;
                    }
                }
            }
        }
        let slope = sum / n.single();
        let rest: f32 = around[..n].iter().map(|(c, g)| c - slope * g).sum();
        slope * green(x, y) + rest / n.single()
    }

    /// The mean of the pixels of a colour around one, where some are missing.
    fn near(&self, x: i64, y: i64, colour: Colour) -> f32 {
        let (mut sum, mut n) = (0.0, 0.0);
        for dy in -2..=2 {
            for dx in -2..=2 {
                let v = self.at(x + dx, y + dy);
                if self.pattern.at(x + dx, y + dy) == colour && v.is_finite() {
                    sum += v;
                    n += 1.0;
                }
            }
        }
        if n > 0.0 { sum / n } else { f32::NAN }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use rstest::rstest;

    fn frame(pattern: Pattern, colour: impl Fn(usize, usize, Colour) -> f32) -> Plane {
        Plane::from_fn(Size::new(31, 22).unwrap(), |x, y| {
            colour(x, y, pattern.at(x.whole(), y.whole()))
        })
    }

    fn read(source: Plane, pattern: Pattern, colour: Colour, rect: Rect) -> Vec<f32> {
        let mut out = vec![0.0; rect.area()];
        let one = Interpolated {
            source,
            pattern,
            colour,
        };
        one.read(rect, &mut out).unwrap();
        out
    }

    #[rstest]
    #[case("RGGB")]
    #[case("GRBG")]
    #[case("BGGR")]
    #[case("GBRG")]
    fn a_slope_of_any_colour_comes_out_as_it_is(#[case] letters: &str) {
        let pattern = Pattern::from_letters(letters).unwrap();
        let slope = |x: usize, y: usize, c: Colour| {
            [40.0, 100.0, 70.0][c] + 0.5 * x.single() - 0.25 * y.single()
        };
        let plane = frame(pattern, slope);
        for colour in 0..3 {
            let rect = Rect {
                x: 4,
                y: 3,
                width: 20,
                height: 15,
            };
            for (i, v) in read(plane.clone(), pattern, colour, rect)
                .iter()
                .enumerate()
            {
                let want = slope(4 + i % 20, 3 + i / 20, colour);
                assert!((v - want).abs() < 1e-3, "{colour} {i}: {v} {want}");
            }
        }
    }

    #[test]
    fn any_window_has_the_same_bits_and_a_missing_pixel_stays_one() {
        let pattern = Pattern::from_letters("RGGB").unwrap();
        let mut plane = frame(pattern, |x, y, c| {
            ((x * 37 + y * 11 + c * 50) % 97).single()
        });
        plane.data_mut()[12 * 31 + 9] = f32::NAN;
        let whole = read(plane.clone(), pattern, 0, plane.size().rect());
        assert!(whole.iter().all(|v| v.is_finite()));
        for (x, y, width, height) in [(0, 0, 3, 2), (8, 11, 4, 4), (29, 19, 2, 3), (5, 5, 1, 1)] {
            let rect = Rect {
                x,
                y,
                width,
                height,
            };
            for (i, v) in read(plane.clone(), pattern, 0, rect).iter().enumerate() {
                let at = (y.index() + i / width) * 31 + x.index() + i % width;
                assert_eq!(v.to_bits(), whole[at].to_bits(), "{rect:?} {i}");
            }
        }
    }
}
