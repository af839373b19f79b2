//! The interpolation kernels.
//!
//! The usual one is Lanczos-3 (Duchon 1979, J. Appl. Meteorol. 18, 1016): a sinc under a sinc window, six
//! taps in each direction, weights in a table of 1024 phases (a star moves by less than 0.0005 px) and
//! summing to one, corrected (by less than a hundredth) so that a slope is followed exactly: a star does
//! not move with its phase. When the frame's pixels are finer than the canvas's, the kernel is stretched
//! by the ratio, so that every frame pixel counts and nothing aliases. [`Shape`] lists the others.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use crate::space::LONGEST_SIDE;

/// Steps of the position within a pixel.
pub(super) const PHASES: usize = 1024;

/// Half the taps of the fast case; kernels with fewer are filled up with zeros.
const PLAIN_HALF: usize = 3;

/// Up to this many frame pixels to a canvas pixel, plain interpolation: stars leave no power that so
/// little shrinking could alias, and a stretched kernel would cost sharpness and time.
const STRETCH_FROM: f64 = 1.25;

/// Shrinking beyond this ratio leaves pixels out rather than making the table larger than a frame.
const MOST_RATIO: f64 = 64.0;

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
    pub(super) around: (usize, usize),
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
    pub(super) fn split(&self, steps: i32) -> (i64, usize) {
        let whole = i64::from(steps.div_euclid(PHASES.i32()));
        let phase = steps.rem_euclid(PHASES.i32()) as usize;
        (whole + 1 - self.taps.whole() / 2, phase)
    }

    /// The weights of a phase, zeros after the last tap.
    pub(super) fn weights(&self, phase: usize) -> &[f32] {
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
