//! The common shape of a frame's stars: round, or drawn out by guiding, wind or the optics.
//!
//! A shape is a vector: the logarithm of long over short axis, at twice the angle of the long one, so that shapes add
//! and noise, which only ever makes single stars longer, has no direction.

use super::{Flag, Star};
use crate::number::Convert;
use crate::robust::median;
use crate::space::{FramePx, Point};

/// A shape.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Shape {
    x: f64,
    y: f64,
}

impl Shape {
    /// As long as wide.
    pub(super) const ROUND: Self = Self { x: 0.0, y: 0.0 };

    /// Of a star with its axes in this ratio, the long one in this direction.
    pub(super) fn of(elongation: f64, angle_rad: f64) -> Self {
        let size = elongation.max(1.0).ln();
        Self {
            x: size * (2.0 * angle_rad).cos(),
            y: size * (2.0 * angle_rad).sin(),
        }
    }

    /// Long over short axis.
    pub(super) fn elongation(self) -> f64 {
        self.x.hypot(self.y).exp()
    }

    /// Direction of the long axis.
    pub(super) fn angle_rad(self) -> f64 {
        0.5 * self.y.atan2(self.x)
    }

    /// What is left of it without another.
    pub(super) fn less(self, other: Self) -> Self {
        Self {
            x: self.x - other.x,
            y: self.y - other.y,
        }
    }

    /// The shape that most of these have; round where they have none in common, as knots and filaments of a nebula, or
    /// where round ones are the most.
    pub(super) fn common(shapes: &[Self]) -> Self {
        let middle = Self::median(shapes.iter().copied());
        let near = shapes
            .iter()
            .filter(|s| s.less(middle).elongation() < ALIKE);
        if near.count().real() > COHERENT * shapes.len().real() {
            middle
        } else {
            Self::ROUND
        }
    }

    /// The middle of many; round without any.
    pub(super) fn median(shapes: impl Iterator<Item = Self>) -> Self {
        let (mut x, mut y): (Vec<f32>, Vec<f32>) =
            shapes.map(|s| (s.x.single(), s.y.single())).unzip();
        if x.is_empty() {
            return Self::ROUND;
        }
        Self {
            x: f64::from(median(&mut x)),
            y: f64::from(median(&mut y)),
        }
    }
}

/// So many stars have a shape within this elongation of each other where they have one in common.
const COHERENT: f64 = 0.6;
const ALIKE: f64 = 1.35;

/// Within this range of the median width, in ratio, and of a shape that is no longer than this once the shape of the
/// frame's stars around is taken out, a thing is a star.
const WIDTH_RANGE: (f64, f64) = (0.6, 1.7);
pub(super) const MOST_ELONGATION: f64 = 2.2;

/// Parts of the field along each side, and stars that tell a part's shape.
const SIDE: usize = 3;
const LEAST_IN_PART: usize = 8;

/// Stars this bright, in sigma, tell shapes.
const LEAST_SNR: f64 = 20.0;

/// Shapes over the field.
pub(super) struct Shapes {
    parts: [Shape; SIDE * SIDE],
    far: (f64, f64),
}

impl Shapes {
    /// From stars that are not chosen yet; `all` is the shape where a part has too few.
    pub(super) fn over(stars: &[Star], all: Shape) -> Self {
        let most = |of: fn(&Star) -> f64| stars.iter().map(of).fold(1.0, f64::max);
        let mut made = Self {
            parts: [all; SIDE * SIDE],
            far: (most(|s| s.at.x), most(|s| s.at.y)),
        };
        let bright = |s: &&Star| {
            let known = s.flux > LEAST_SNR * s.flux_sigma && s.elongation < super::LONGEST;
            known && !s.flags.has(Flag::Saturated)
        };
        let parts: [Shape; SIDE * SIDE] = std::array::from_fn(|i| {
            let inside = stars.iter().filter(bright).filter(|s| made.part(s.at) == i);
            let shapes: Vec<Shape> = inside
                .map(|s| Shape::of(s.elongation, s.angle_rad))
                .collect();
            if shapes.len() < LEAST_IN_PART {
                return all;
            }
            Shape::common(&shapes)
        });
        made.parts = parts;
        made
    }

    /// Is a thing a star among stars of this width?
    pub(super) fn allow(&self, s: &Star, typical_px: f64) -> bool {
        let ratio = s.fwhm_px / typical_px;
        let own = Shape::of(s.elongation, s.angle_rad);
        let like_a_star = (WIDTH_RANGE.0..WIDTH_RANGE.1).contains(&ratio)
            && own.less(self.at(s.at)).elongation() < MOST_ELONGATION;
        // A saturated core is wide and odd by nature; it is kept as what it is.
        (like_a_star || s.flags.has(Flag::Saturated)) && s.flux > 0.0
    }

    fn part(&self, at: Point<FramePx>) -> usize {
        let third = |v: f64, far: f64| (SIDE.real() * v / far).max(0.0).index().min(SIDE - 1);
        SIDE * third(at.y, self.far.1) + third(at.x, self.far.0)
    }

    /// The shape of stars around a place.
    pub(super) fn at(&self, at: Point<FramePx>) -> Shape {
        self.parts[self.part(at)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shape_less_itself_is_round_and_noise_has_no_direction() {
        let long = Shape::of(2.4, 0.7);
        assert!((long.elongation() - 2.4).abs() < 1e-12);
        assert!((long.angle_rad() - 0.7).abs() < 1e-12);
        assert!((long.less(long).elongation() - 1.0).abs() < 1e-12);
        // Across the frame's own shape twice as far off as a round star.
        let across = Shape::of(2.4, 0.7 + std::f64::consts::FRAC_PI_2);
        assert!((across.less(long).elongation() - 2.4 * 2.4).abs() < 1e-9);
        let noise = (0..100).map(|i| Shape::of(1.2, 0.0314 * f64::from(i)));
        assert!(Shape::median(noise).elongation() < 1.03);
        let filaments: Vec<Shape> = (0..40)
            .map(|i| Shape::of(3.0, 0.25 * f64::from(i)))
            .collect();
        assert!(Shape::common(&filaments).elongation() < 1.01);
        let mut stars = vec![long; 30];
        stars.extend(&filaments[..15]);
        assert!(Shape::common(&stars).less(long).elongation() < 1.01);
    }
}
