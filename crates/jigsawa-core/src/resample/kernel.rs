//! The interpolation kernels and the plain definition of a sample.
//!
//! The usual one is Lanczos-3 (Duchon 1979, J. Appl. Meteorol. 18, 1016): a sinc under a sinc window, six
//! taps in each direction, weights in a table of 1024 phases (a star moves by less than 0.0005 px) and
//! summing to one, corrected (by less than a hundredth) so that a slope is followed exactly: a star does
//! not move with its phase. When the frame's pixels are finer than the canvas's, the kernel is stretched
//! by the ratio, so that every frame pixel counts and nothing aliases. [`Shape`] lists the others.
//!
//! A sinc rings: beside a bright star it undershoots the sky, and over a saturated plateau it
//! overshoots. So a sample is never below the lowest of the 16 pixels around it, and where one of
//! these is saturated, never above the highest. Between, a star's peak may rise above all samples of
//! it, as it must. Clamping both ends everywhere was tried first: it flattens sharp stars. Of stars that fall on hardly
//! more than a pixel the undershoot is a part of the light: held back, it made them up to a tenth brighter, so that in
//! frames with such stars it is held back beside full pixels only ([`Ringing`]).
//!
//! Missing pixels (NaN) leave their weight to the others as long as the nearest pixel is there and
//! half of the weight is; else the sample is missing.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use crate::space::{LONGEST_SIDE, Rect};

/// Steps of the position within a pixel.
pub(super) const PHASES: usize = 1024;

/// Half the taps of the fast case; kernels with fewer are filled up with zeros.
const PLAIN_HALF: usize = 3;

/// Up to this many frame pixels to a canvas pixel, plain interpolation: stars leave no power that so
/// little shrinking could alias, and a stretched kernel would cost sharpness and time.
const STRETCH_FROM: f64 = 1.25;

/// Shrinking beyond this ratio leaves pixels out rather than making the table larger than a frame.
const MOST_RATIO: f64 = 64.0;

/// Least part of the weight that valid pixels must have.
const LEAST_VALID: f32 = 0.5;

/// The form of a kernel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Shape {
    /// The nearest pixel's value, unchanged: for masks and for looking at pixels.
    Nearest,
    /// A triangle: never rings, and blurs.
    Bilinear,
    /// Cubic convolution (Keys 1981, IEEE ASSP 29, 1153): between a triangle and a sinc.
    Cubic,
    /// A sinc of three lobes.
    #[default]
    Lanczos3,
    /// A sinc of four lobes: a little sharper, rings a little farther, a third slower.
    Lanczos4,
    /// The mean over the canvas pixel's area, exact where nothing is turned: for shrinking, where each
    /// frame pixel counts by the part of it that falls into the canvas pixel.
    Area,
}

impl Shape {
    /// All of them.
    pub const ALL: [Self; 6] = [
        Self::Nearest,
        Self::Bilinear,
        Self::Cubic,
        Self::Lanczos3,
        Self::Lanczos4,
        Self::Area,
    ];

    /// Half its width in frame pixels, when a canvas pixel is `ratio` of them.
    fn reach(self, ratio: f64) -> f64 {
        match self {
            Self::Nearest => 0.5,
            Self::Bilinear => self.stretch(ratio),
            Self::Cubic => 2.0 * self.stretch(ratio),
            Self::Lanczos3 => 3.0 * self.stretch(ratio),
            Self::Lanczos4 => 4.0 * self.stretch(ratio),
            Self::Area => 0.5 * ratio + 0.5,
        }
    }

    /// Factor on the kernel's width.
    fn stretch(self, ratio: f64) -> f64 {
        let fixed = matches!(self, Self::Nearest | Self::Area);
        if ratio > STRETCH_FROM && !fixed {
            ratio
        } else {
            1.0
        }
    }

    /// The weight, up to a factor, of a pixel at this distance from the sample.
    fn weight(self, distance: f64, ratio: f64) -> f64 {
        let x = distance / self.stretch(ratio);
        let a = x.abs();
        match self {
            Self::Nearest => f64::from(x > -0.5 && x <= 0.5),
            Self::Bilinear => (1.0 - a).max(0.0),
            Self::Cubic if a < 1.0 => (1.5 * a - 2.5) * a * a + 1.0,
            Self::Cubic if a < 2.0 => ((-0.5 * a + 2.5) * a - 4.0) * a + 2.0,
            Self::Cubic => 0.0,
            Self::Lanczos3 => lanczos(x, 3.0),
            Self::Lanczos4 => lanczos(x, 4.0),
            Self::Area => {
                let half = 0.5 * ratio;
                ((x + 0.5).min(half) - (x - 0.5).max(-half)).max(0.0)
            }
        }
    }

    /// Must a slope be followed exactly? What counts areas or takes single pixels is what it is.
    fn follows_slopes(self) -> bool {
        !matches!(self, Self::Nearest | Self::Area)
    }
}

/// A table of weights.
#[derive(Debug, Clone)]
pub struct Kernel {
    taps: usize,
    /// Values from one phase to the next: taps, rounded up to whole groups of eight.
    stride: usize,
    /// First and last tap (exclusive) that count as "around" the sample.
    around: (usize, usize),
    weights: Vec<f32>,
    ringing: Ringing,
}

/// What is done with a kernel's undershoot beside stars.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Ringing {
    /// Held back everywhere.
    #[default]
    Held,
    /// Held back beside full pixels, kept elsewhere: it belongs to the light of very sharp stars.
    Kept,
}

/// Stars narrower than this, in frame pixels, gain a hundredth of their light and more when undershoot is held back.
const FINE_STARS_PX: f64 = 1.9;

impl Ringing {
    /// What becomes a frame whose stars are so wide.
    pub fn for_stars(fwhm_px: Option<f64>) -> Self {
        match fwhm_px {
            Some(w) if w < FINE_STARS_PX => Self::Kept,
            _ => Self::Held,
        }
    }
}

impl Kernel {
    /// The kernel for this many frame pixels to a canvas pixel (in length).
    pub fn new(shape: Shape, frame_px_per_canvas_px: f64) -> Self {
        let ratio = frame_px_per_canvas_px.clamp(1e-3, MOST_RATIO);
        let half = shape.reach(ratio).ceil().index().max(PLAIN_HALF);
        let taps = 2 * half;
        let stride = taps.next_multiple_of(8);
        let mut weights = vec![0.0; (PHASES + 1) * stride];
        for (phase, row) in weights.chunks_exact_mut(stride).enumerate() {
            let at = phase.real() / PHASES.real();
            let distance = |t: usize| t.real() + 1.0 - half.real() - at;
            for (w, value) in row
                .iter_mut()
                .zip(exact_weights(shape, ratio, taps, distance))
            {
                *w = value.single();
            }
        }
        // What a positive kernel gives lies between all that it takes.
        let near = match shape {
            Shape::Area => half,
            _ => (2.0 * shape.stretch(ratio)).round().index().min(half),
        };
        Self {
            taps,
            stride,
            around: (half - near, half + near),
            weights,
            ringing: Ringing::Held,
        }
    }

    /// The same kernel with another way with undershoot.
    #[must_use]
    pub fn with_ringing(self, ringing: Ringing) -> Self {
        Self { ringing, ..self }
    }

    /// What is done with undershoot.
    pub(super) const fn ringing(&self) -> Ringing {
        self.ringing
    }

    /// Taps in each direction.
    pub const fn taps(&self) -> usize {
        self.taps
    }

    /// Pixels read beyond the taps on the right, always with weight zero, so that rows can be taken
    /// in groups of eight.
    pub(super) const fn padding(&self) -> usize {
        self.stride - self.taps
    }

    /// Splits a position in steps into the first tap's pixel and the phase.
    fn split(&self, steps: i32) -> (i64, usize) {
        let whole = i64::from(steps.div_euclid(PHASES.i32()));
        let phase = steps.rem_euclid(PHASES.i32()) as usize;
        (whole + 1 - self.taps.whole() / 2, phase)
    }

    /// The weights of a phase, zeros after the last tap.
    fn weights(&self, phase: usize) -> &[f32] {
        &self.weights[phase * self.stride..(phase + 1) * self.stride]
    }

    /// Weights of a phase with those that fill up the last group of eight.
    pub(super) fn row(&self, phase: usize) -> &[f32] {
        self.weights(phase)
    }

    /// All weights by phase, of a kernel of six or eight taps whose limits are those of the 16 pixels around the
    /// sample.
    pub(super) fn by_phase(&self) -> Option<&[[f32; 8]; PHASES]> {
        let half = self.taps / 2;
        if !(3..=4).contains(&half) || self.around != (half - 2, half + 2) {
            return None;
        }
        let (rows, _) = self.weights.as_chunks::<8>();
        rows.first_chunk::<PHASES>()
    }
}

/// Weights at these distances, with the smallest change under a triangle that makes their sum one and
/// their centre zero.
fn exact_weights(
    shape: Shape,
    ratio: f64,
    taps: usize,
    distance: impl Fn(usize) -> f64,
) -> Vec<f64> {
    let stretch = shape.stretch(ratio);
    let raw: Vec<f64> = (0..taps)
        .map(|t| shape.weight(distance(t), ratio))
        .collect();
    let raw_sum: f64 = raw.iter().sum();
    let triangle = |t: usize| (1.0 - distance(t).abs() / (2.0 * stretch)).max(0.0);
    let moment = |k: i32| -> f64 { (0..taps).map(|t| triangle(t) * distance(t).powi(k)).sum() };
    let centre: f64 = (0..taps).map(|t| raw[t] / raw_sum * distance(t)).sum();
    let (m0, m1, m2) = (moment(0), moment(1), moment(2));
    let det = m0 * m2 - m1 * m1;
    // At phase 0 the weights are exact as they are, and must stay so to the last bit.
    let (level, slope) = if !shape.follows_slopes() || centre.abs() < 1e-12 || det.abs() < 1e-12 {
        (0.0, 0.0)
    } else {
        (centre * m1 / det, -centre * m0 / det)
    };
    (0..taps)
        .map(|t| raw[t] / raw_sum + triangle(t) * (level + slope * distance(t)))
        .collect()
}

/// A coordinate in steps of 1/1024 pixel, to the nearest, ties to even. Coordinates beyond a million
/// pixels are those of the bound.
#[inline]
pub(super) fn steps(at: f64) -> i32 {
    // Added to a number this large, the fraction is rounded away and the low bits are the integer:
    // the one conversion that becomes a single vector instruction everywhere.
    const ROUND: f64 = 6_755_399_441_055_744.0;
    let bound = LONGEST_SIDE.real();
    let bounded = if at < bound { at } else { bound };
    let bounded = if bounded > -bound { bounded } else { -bound };
    (bounded * PHASES.real() + ROUND).to_bits().i32()
}

/// Does a position in steps lie on one of so many pixels (half a pixel around their centres)?
#[inline]
pub(super) fn inside(steps: i32, pixels: usize) -> bool {
    let half = PHASES.i32() / 2;
    steps >= -half && steps < pixels.i32() * PHASES.i32() - half
}

fn lanczos(x: f64, lobes: f64) -> f64 {
    if x == 0.0 {
        return 1.0;
    }
    // Exactly zero at the other whole numbers: a sample at phase 0 is the pixel itself.
    if x.fract() == 0.0 || x.abs() >= lobes {
        return 0.0;
    }
    let p = std::f64::consts::PI * x;
    lobes * p.sin() * (p / lobes).sin() / (p * p)
}

/// Pixels of a frame in memory: the rectangle may reach outside of the frame, where they are NaN.
#[derive(Debug, Clone, Copy)]
pub struct Window<'a> {
    /// Which pixels of the frame.
    pub rect: Rect,
    /// Their values, row after row.
    pub data: &'a [f32],
}

impl Window<'_> {
    fn at(&self, x: i64, y: i64) -> f32 {
        let (dx, dy) = (x - self.rect.x, y - self.rect.y);
        let inside =
            dx >= 0 && dy >= 0 && dx < self.rect.width.whole() && dy < self.rect.height.whole();
        if inside {
            self.data[dy.index() * self.rect.width + dx.index()]
        } else {
            f32::NAN
        }
    }
}

/// The sample at frame position (`x`, `y`), NaN where it is missing. `saturation` is the value from
/// which pixels count as saturated (infinity if unknown).
///
/// This is the definition; `resample` is held to it bit for bit.
pub fn sample(kernel: &Kernel, window: &Window<'_>, x: f64, y: f64, saturation: f32) -> f32 {
    sample_at(kernel, window, (steps(x), steps(y)), saturation)
}

/// The sample at a position in steps.
pub(super) fn sample_at(
    kernel: &Kernel,
    window: &Window<'_>,
    (x, y): (i32, i32),
    saturation: f32,
) -> f32 {
    let ((x0, px), (y0, py)) = (kernel.split(x), kernel.split(y));
    let half = kernel.taps.whole() / 2;
    // The nearest pixel decides whether there is data at all.
    let nearest = |first: i64, phase: usize| first + half - 1 + i64::from(2 * phase >= PHASES);
    if !window.at(nearest(x0, px), nearest(y0, py)).is_finite() {
        return f32::NAN;
    }
    let (wx, wy) = (kernel.weights(px), kernel.weights(py));
    let (from, to) = kernel.around;
    let mut columns = [0.0f32; 8];
    let (mut low, mut high) = (f32::INFINITY, f32::NEG_INFINITY);
    let mut valid = 0.0;
    let mut complete = true;
    for (i, wx) in wx.iter().enumerate().take(kernel.taps) {
        let mut column = 0.0f32;
        for (j, wy) in wy.iter().enumerate().take(kernel.taps) {
            let v = window.at(x0 + i.whole(), y0 + j.whole());
            if !v.is_finite() {
                complete = false;
                continue;
            }
            column += wy * v;
            valid += wx * wy;
            if (from..to).contains(&i) && (from..to).contains(&j) {
                low = low.min(v);
                high = high.max(v);
            }
        }
        columns[i % 8] += column * wx;
    }
    // Pairs of lanes first: the order in which a vector register is summed.
    let c = columns;
    let sum = ((c[0] + c[4]) + (c[2] + c[6])) + ((c[1] + c[5]) + (c[3] + c[7]));
    let value = if complete {
        sum
    } else if valid >= LEAST_VALID {
        sum / valid
    } else {
        return f32::NAN;
    };
    limit(value, (low, high), saturation, kernel.ringing)
}

/// Holds ringing down: see the head of this file.
#[inline]
pub(super) fn limit(value: f32, (low, high): (f32, f32), saturation: f32, ringing: Ringing) -> f32 {
    let held = ringing == Ringing::Held || high >= saturation;
    let value = if held && value < low { low } else { value };
    if high >= saturation && value > high {
        high
    } else {
        value
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use crate::space::Size;

    fn value(plane: &Plane, kernel: &Kernel, x: f64, y: f64) -> f32 {
        let window = Window {
            rect: plane.size().rect(),
            data: plane.data(),
        };
        sample(kernel, &window, x, y, f32::INFINITY)
    }

    #[test]
    fn a_sample_on_a_pixel_is_the_pixel() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let p = Plane::from_fn(Size::new(9, 8).unwrap(), |x, y| {
            (x * x + 3 * y).single() - 5.5
        });
        for y in 0..8 {
            for x in 0..9 {
                assert_eq!(value(&p, &k, x.real(), y.real()), p.at(x, y));
            }
        }
        assert!(value(&p, &k, -0.6, 3.0).is_nan());
        assert!(value(&p, &k, 4.0, 7.6).is_nan());
    }

    #[test]
    fn a_level_stays_and_a_slope_is_followed() {
        for ratio in [1.0, 1.7, 3.0] {
            let k = Kernel::new(Shape::Lanczos3, ratio);
            let p = Plane::from_fn(Size::new(40, 40).unwrap(), |x, y| {
                100.0 + 2.0 * x.single() - y.single()
            });
            // On a phase of the table, so that its steps do not count.
            let got = value(&p, &k, 19.300_781_25, 20.799_804_687_5);
            assert!(
                (got - (100.0 + 38.601_562 - 20.799_805)).abs() < 0.002,
                "{ratio}: {got}"
            );
        }
    }

    #[test]
    fn beside_a_spike_nothing_falls_below_the_sky() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let mut p = Plane::filled(Size::new(20, 20).unwrap(), 10.0);
        p.data_mut()[10 * 20 + 10] = 60_000.0;
        for i in 0..200 {
            let v = value(&p, &k, 5.0 + 0.05 * f64::from(i), 10.3);
            assert!(v >= 10.0, "{i}: {v}");
        }
    }

    #[test]
    fn a_saturated_plateau_is_not_overshot_and_a_peak_may_rise() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let flat = Plane::from_fn(Size::new(20, 20).unwrap(), |x, y| {
            if (7..13).contains(&x) && (7..13).contains(&y) {
                1000.0
            } else {
                0.0
            }
        });
        let window = Window {
            rect: flat.size().rect(),
            data: flat.data(),
        };
        assert!(sample(&k, &window, 7.5, 7.5, f32::INFINITY) > 1050.0);
        assert_eq!(sample(&k, &window, 7.5, 7.5, 1000.0), 1000.0);
        let peak = Plane::from_fn(Size::new(20, 20).unwrap(), |x, y| {
            let d2 = (x.single() - 9.5).powi(2) + (y.single() - 9.5).powi(2);
            1000.0 * (-0.5 * d2 / 1.2).exp()
        });
        assert!((value(&peak, &k, 9.5, 9.5) - 1000.0).abs() < 15.0);
    }

    #[test]
    fn missing_pixels_leave_their_weight_to_the_others() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let mut p = Plane::filled(Size::new(20, 20).unwrap(), 7.0);
        for y in 0..20 {
            for x in 0..9 {
                p.data_mut()[y * 20 + x] = f32::NAN;
            }
        }
        assert!(value(&p, &k, 8.4, 10.0).is_nan());
        assert!((value(&p, &k, 8.6, 10.3) - 7.0).abs() < 1e-5);
    }

    #[test]
    fn every_shape_keeps_a_level_and_gives_pixels_back() {
        let p = Plane::from_fn(Size::new(60, 50).unwrap(), |x, y| {
            (x * x % 17 + 3 * y % 11).single()
        });
        let level = Plane::filled(Size::new(60, 50).unwrap(), 37.0);
        for shape in Shape::ALL {
            let k = Kernel::new(shape, 1.0);
            for (x, y) in [(20, 17), (33, 8)] {
                assert_eq!(value(&p, &k, x.real(), y.real()), p.at(x, y), "{shape:?}");
            }
            for ratio in [0.5, 1.0, 2.0, 3.7] {
                let k = Kernel::new(shape, ratio);
                let got = value(&level, &k, 25.371, 24.88);
                assert!((got - 37.0).abs() < 1e-4, "{shape:?} {ratio}: {got}");
            }
        }
    }

    #[test]
    fn the_area_kernel_is_the_mean_of_the_area() {
        let p = Plane::from_fn(Size::new(40, 40).unwrap(), |x, y| {
            ((x * 31 + y * 17) % 13).single()
        });
        let k = Kernel::new(Shape::Area, 2.0);
        // A canvas pixel over four whole pixels.
        let got = value(&p, &k, 10.5, 20.5);
        let want = (p.at(10, 20) + p.at(11, 20) + p.at(10, 21) + p.at(11, 21)) / 4.0;
        assert!((got - want).abs() < 1e-5, "{got} {want}");
        // And over halves: 0.5, 1, 0.5 in each direction.
        let got = value(&p, &k, 10.0, 20.0);
        let mut want = 0.0;
        for (dy, wy) in [(-1, 0.5), (0, 1.0), (1, 0.5)] {
            for (dx, wx) in [(-1, 0.5), (0, 1.0), (1, 0.5)] {
                want += wx * wy * p.at(10 + dx, 20 + dy) / 4.0;
            }
        }
        assert!((got - want).abs() < 1e-5, "{got} {want}");
    }
}
