//! Stars of one profile given another: where seeing or guiding differs between exposures, a star's core from the one
//! and its wings from the other would not meet.
//!
//! Both profiles are elliptical Moffat functions as they were measured. A star's light above its surroundings is
//! multiplied, pixel by pixel, by the quotient of both. The convolution that turns the one profile into the other was
//! the other way: it rings where the star must become sharper, and spreads what is full.

use crate::doors::{DoorError, FrameSource};
use crate::merge::Discs;
use crate::number::Convert;
use crate::space::{Rect, Size};
use crate::stars::Catalogue;

/// A star's profile: the square of its full width at half maximum in every direction, as a symmetric matrix
/// (xx, xy, yy) in square pixels, and the exponent of the Moffat function.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Profile {
    /// xx, xy, yy.
    pub width2: [f64; 3],
    /// Exponent.
    pub beta: f64,
}

/// Profiles whose squared widths differ by less than this part in all directions are left: widths are hardly known
/// better than to two hundredths, and a change that is made for nothing is one for the worse.
const ALIKE: f64 = 0.045;

/// A width cannot be changed by more than this factor: wings say too little of such a core.
const MOST: f64 = 1.6;

/// Stars this bright, in errors of their flux, tell the typical profile.
const TELLING_SNR: f64 = 30.0;

/// From so many errors on a star tells as much as any; and one whose width is off by more than this, in logarithms,
/// tells nothing.
const MOST_SNR: f64 = 300.0;
const ODD: f64 = 0.12;

impl Profile {
    /// A round profile of this full width at half maximum.
    pub const fn round(fwhm_px: f64, beta: f64) -> Self {
        let w = fwhm_px * fwhm_px;
        Self {
            width2: [w, 0.0, w],
            beta,
        }
    }

    /// That of a frame's typical star, whose wings fall off with this exponent.
    pub fn of(stars: &Catalogue, beta: f64) -> Self {
        // Bright stars know their width best, and none better than the rest of the frame's optics allow. The mean of
        // ellipses as vectors of twice their angle: round where directions are mixed.
        let (mut along, mut aslant, mut width, mut n) = (0.0, 0.0, 0.0, 0.0);
        for s in stars.clean() {
            let snr = (s.flux / s.flux_sigma).min(MOST_SNR);
            let off = (s.fwhm_px / stars.fwhm_px).ln();
            if snr < TELLING_SNR || off.abs() > ODD {
                continue;
            }
            let weight = snr * snr;
            let long = s.elongation.ln();
            along += weight * long * (2.0 * s.angle_rad).cos();
            aslant += weight * long * (2.0 * s.angle_rad).sin();
            width += weight * off;
            n += weight;
        }
        if n == 0.0 {
            return Self::round(stars.fwhm_px, beta);
        }
        let fwhm_px = stars.fwhm_px * (width / n).exp();
        let w = fwhm_px * fwhm_px;
        let (long, twice) = (f64::hypot(along, aslant) / n, aslant.atan2(along));
        // The axes' squared widths are w e and w / e.
        let (mean, half) = (w * long.cosh(), w * long.sinh());
        let (s, c) = twice.sin_cos();
        Self {
            width2: [mean + half * c, half * s, mean - half * c],
            beta,
        }
    }

    /// As it looks through a map with this Jacobian.
    #[must_use]
    pub fn mapped(self, [[a, b], [c, d]]: [[f64; 2]; 2]) -> Self {
        let [xx, xy, yy] = self.width2;
        Self {
            width2: [
                a * a * xx + 2.0 * a * b * xy + b * b * yy,
                a * c * xx + (a * d + b * c) * xy + b * d * yy,
                c * c * xx + 2.0 * c * d * xy + d * d * yy,
            ],
            ..self
        }
    }

    /// Full width at half maximum, the geometric mean of both axes.
    pub fn fwhm_px(self) -> f64 {
        self.area2().sqrt().sqrt()
    }

    /// The determinant: the fourth power of the width.
    fn area2(self) -> f64 {
        let [xx, xy, yy] = self.width2;
        xx * yy - xy * xy
    }

    /// Need a star of this profile be changed to have the other, and can it be?
    pub fn can_become(self, other: Self) -> bool {
        let w = self.area2().sqrt();
        let near = |(a, b): (&f64, &f64)| (a - b).abs() < ALIKE * w;
        let alike = self.beta == other.beta && self.width2.iter().zip(&other.width2).all(near);
        let ratio = other.fwhm_px() / self.fwhm_px();
        !alike && (1.0 / MOST..MOST).contains(&ratio)
    }

    /// The distance at which a round profile falls to a part of its height; 0 for the whole of it and more.
    pub fn radius(self, part: f64) -> f64 {
        let k = 4.0 * (2f64.powf(1.0 / self.beta) - 1.0);
        let q = (part.powf(-1.0 / self.beta) - 1.0).max(0.0);
        self.fwhm_px() * (q / k).sqrt()
    }

    /// Height at a place from the middle of a star whose light is 1.
    pub fn at(self, x: f64, y: f64) -> f64 {
        let [xx, xy, yy] = self.width2;
        let area2 = self.area2();
        let q = (yy * x * x - 2.0 * xy * x * y + xx * y * y) / area2;
        let k = 4.0 * (2f64.powf(1.0 / self.beta) - 1.0);
        let height = k * (self.beta - 1.0) / (std::f64::consts::PI * area2.sqrt());
        height * (1.0 + k * q).powf(-self.beta)
    }
}

/// A star of a frame that gets another profile.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Disc {
    /// Its middle.
    pub at: [f64; 2],
    /// As far as that the change is whole.
    pub radius_px: f64,
    /// Level of what lies around it.
    pub around: f64,
}

/// How stars get another profile.
#[derive(Debug, Clone)]
pub struct Reprofile {
    /// What they have.
    pub from: Profile,
    /// What they get.
    pub to: Profile,
    /// Which stars.
    pub discs: Vec<Disc>,
}

/// A frame some of whose stars have another profile.
#[derive(Debug)]
pub struct Reprofiled<'a, S> {
    source: S,
    how: &'a Reprofile,
    discs: Discs,
}

impl<'a, S: FrameSource> Reprofiled<'a, S> {
    /// A frame with changed stars.
    pub fn new(source: S, how: &'a Reprofile) -> Self {
        let discs = how.discs.iter().map(|d| [d.at[0], d.at[1], d.radius_px]);
        Self {
            source,
            discs: Discs::new(discs.collect()),
            how,
        }
    }
}

impl<S: FrameSource> FrameSource for Reprofiled<'_, S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        let Reprofile { from, to, discs } = self.how;
        self.discs.each(rect, |i, (middle, [dx, dy]), mark| {
            let around = discs
                .iter()
                .find(|d| d.at == middle)
                .map_or(0.0, |d| d.around);
            let ratio = to.at(dx, dy) / from.at(dx, dy);
            let factor = 1.0 + f64::from(mark) * (ratio - 1.0);
            out[i] = (around + factor * (f64::from(out[i]) - around)).single();
        });
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use rstest::rstest;

    fn oval(fwhm_px: f64, elongation: f64, angle: f64, beta: f64) -> Profile {
        let w = fwhm_px * fwhm_px;
        let (s, c) = angle.sin_cos();
        // An ellipse on its side, turned.
        Profile {
            width2: [w * elongation, 0.0, w / elongation],
            beta,
        }
        .mapped([[c, -s], [s, c]])
    }

    #[rstest]
    #[case(Profile::round(2.6, 3.5), Profile::round(3.2, 3.5))]
    #[case(Profile::round(3.2, 3.5), Profile::round(2.7, 3.5))]
    #[case(oval(2.9, 1.08, 0.4, 5.0), oval(3.0, 1.1, 2.1, 2.5))]
    fn a_star_gets_the_other_profile_and_what_is_far_stays(
        #[case] from: Profile,
        #[case] to: Profile,
    ) {
        let at = [60.3, 49.8];
        let star = |p: Profile, x: usize, y: usize| {
            (200.0 + 5e4 * p.at(x.real() - at[0], y.real() - at[1])).single()
        };
        let size = Size::new(120, 100).unwrap();
        let plane = Plane::from_fn(size, |x, y| star(from, x, y));
        let how = Reprofile {
            from,
            to,
            discs: vec![Disc {
                at,
                radius_px: 12.0,
                around: 200.0,
            }],
        };
        let changed = Reprofiled::new(plane.clone(), &how);
        let mut out = vec![0.0; size.area()];
        changed.read(size.rect(), &mut out).unwrap();
        for (i, v) in out.iter().enumerate() {
            let (x, y) = (i % 120, i / 120);
            let d = (x.real() - at[0]).hypot(y.real() - at[1]);
            if d < 12.0 {
                let want = star(to, x, y);
                assert!((v / want - 1.0).abs() < 1e-4, "({x}, {y}): {v} for {want}");
            } else if d > 16.3 {
                assert_eq!(*v, plane.at(x.whole(), y.whole()));
            }
        }
    }

    #[test]
    fn alike_profiles_are_left_and_a_much_softer_one_too() {
        let p = |fwhm_px| Profile::round(fwhm_px, 3.5);
        assert!(!p(3.0).can_become(p(3.04)) && !p(5.0).can_become(p(3.0)));
        assert!(p(3.0).can_become(p(3.3)) && p(3.3).can_become(p(3.0)));
        assert!((oval(3.1, 1.3, 0.7, 3.5).fwhm_px() - 3.1).abs() < 1e-9);
        // Light of 1.
        let sum: f64 = (-60..=60)
            .flat_map(|y| (-60..=60).map(move |x| (x, y)))
            .map(|(x, y)| oval(3.1, 1.3, 0.7, 3.5).at(f64::from(x), f64::from(y)))
            .sum();
        assert!((sum - 1.0).abs() < 1e-3, "{sum}");
    }
}
