//! What the optics and the air make of a point: an elliptical Moffat profile, summed over pixels.

use jigsawa_core::number::Convert;
use jigsawa_core::placement::Distortion;
use jigsawa_core::space::Size;
use serde::Serialize;

/// The profile of a point of light in a frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Optics {
    /// Full width at half maximum, geometric mean of both axes, before pixels widen it.
    pub fwhm_px: f64,
    /// Long over short axis.
    pub elongation: f64,
    /// Direction of the long axis from +x towards +y.
    pub angle_rad: f64,
    /// Exponent of the profile: 2.5 wide wings, 5 narrow ones.
    pub beta: f64,
    /// How far the lens moves a star in a corner, in pixels, outwards positive; less as the cube of the
    /// distance from the middle.
    pub distortion_px: f64,
    /// Light that glass, mirrors and dust scatter, whatever the seeing.
    pub wings: Option<Wings>,
}

/// Wings of a star's profile that stay the same in any seeing: an aureole that falls off as the square of the distance
/// (King 1971, PASP 83, 199) and four spikes of a spider.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Wings {
    /// Part of the light in the aureole, within [`WINGS_PX`].
    pub aureole: f64,
    /// Part in the spikes.
    pub spikes: f64,
}

/// Wings end here, in pixels.
pub const WINGS_PX: f64 = 70.0;

/// The aureole is flat within so many pixels.
const FLAT_PX: f64 = 6.0;

impl Wings {
    /// Those of an ordinary mirror telescope.
    pub const USUAL: Self = Self {
        aureole: 0.06,
        spikes: 0.012,
    };
}

/// A spike's brightness falls by e over so many pixels.
const SPIKE_PX: f64 = 14.0;

/// So far beside a spike there is less of it than a sum of 64 bits keeps.
const BESIDE_PX: f64 = 9.0;

/// Places and weights of Gauss-Legendre integration over (-1/2, 1/2) with five points.
const GAUSS: [(f64, f64); 5] = [
    (-0.453_089_922_969_332, 0.118_463_442_528_094_5),
    (-0.269_234_655_052_841_5, 0.239_314_335_249_683_2),
    (0.0, 0.284_444_444_444_444_4),
    (0.269_234_655_052_841_5, 0.239_314_335_249_683_2),
    (0.453_089_922_969_332, 0.118_463_442_528_094_5),
];

impl Optics {
    /// A round profile.
    pub const fn round(fwhm_px: f64) -> Self {
        Self {
            fwhm_px,
            elongation: 1.0,
            angle_rad: 0.0,
            beta: 3.5,
            distortion_px: 0.0,
            wings: None,
        }
    }

    /// What the lens adds to places on a frame of this size; `None` for a lens without distortion.
    pub fn distortion(&self, size: Size) -> Option<Distortion> {
        if self.distortion_px == 0.0 {
            return None;
        }
        let half = [size.width().real() / 2.0, size.height().real() / 2.0];
        let centre = [half[0] - 0.5, half[1] - 0.5];
        // The displacement is k r^2 (x, y) from the centre, of the wanted length in a corner.
        let corner = half[0].hypot(half[1]);
        let k = self.distortion_px / corner.powi(3);
        let (mut x, mut y) = (vec![0.0; 10], vec![0.0; 10]);
        let ([a, b], along) = (half, |p: f64, q: f64| k * p * q * q);
        // In units of the halves: x^3 and x y^2, and x^2 y and y^3.
        (x[6], x[8]) = (along(a, a), along(a, b));
        (y[7], y[9]) = (along(b, a), along(b, b));
        Distortion::new(centre, half, x, y)
    }

    /// The profile, ready to be asked for many places.
    pub fn profile(&self) -> Profile {
        use std::f64::consts::PI;
        let (sin, cos) = self.angle_rad.sin_cos();
        let k = 4.0 * (2f64.powf(1.0 / self.beta) - 1.0) / (self.fwhm_px * self.fwhm_px);
        let whole = PI * FLAT_PX * FLAT_PX * (1.0 + (WINGS_PX / FLAT_PX).powi(2)).ln();
        Profile {
            sin,
            cos,
            k,
            height: k * (self.beta - 1.0) / PI,
            falls: Falls::by(self.beta),
            optics: *self,
            wings: self.wings.map(|w| Parts {
                core: 1.0 - w.aureole - w.spikes,
                aureole: w.aureole / whole,
                spikes: w.spikes,
            }),
        }
    }

    /// The profile's density at an offset from its centre; its integral over the plane is 1.
    pub fn density(&self, dx: f64, dy: f64) -> f64 {
        self.profile().density(dx, dy)
    }

    /// The part of a point's light that falls into the pixel at this offset.
    pub fn pixel(&self, dx: f64, dy: f64) -> f64 {
        self.profile().pixel(dx, dy)
    }

    /// The radius beyond which a pixel gets less than this part of the light.
    pub fn radius(&self, part: f64) -> f64 {
        self.profile().radius(part)
    }
}

/// The profile of [`Optics`] with all that is the same for each place.
#[derive(Debug, Clone, Copy)]
pub struct Profile {
    optics: Optics,
    sin: f64,
    cos: f64,
    /// What the squared distance is multiplied by.
    k: f64,
    /// Density in the middle, but for wings.
    height: f64,
    falls: Falls,
    wings: Option<Parts>,
}

/// Parts of the light, and the aureole's density in the middle.
#[derive(Debug, Clone, Copy)]
struct Parts {
    core: f64,
    aureole: f64,
    spikes: f64,
}

/// A power by which a profile falls. Most are of whole or half exponents, which need no logarithm: half of the time that a frame of
/// stars takes.
#[derive(Debug, Clone, Copy)]
enum Falls {
    /// By twice the exponent: an even one is whole.
    Halves(i32),
    Other(f64),
}

impl Falls {
    fn by(beta: f64) -> Self {
        let halves = 2.0 * beta;
        if halves.fract() == 0.0 && (0.0..100.0).contains(&halves) {
            Self::Halves(halves.i32())
        } else {
            Self::Other(beta)
        }
    }

    /// Each base to minus the exponent, in place.
    fn of<const N: usize>(self, bases: &mut [f64; N]) {
        match self {
            Self::Halves(halves) => {
                // Whole powers by squaring, for all at once.
                let (mut powers, mut squares) = ([1.0; N], *bases);
                let mut left = halves / 2;
                while left != 0 {
                    for (p, s) in powers.iter_mut().zip(&mut squares) {
                        *p *= if left % 2 == 1 { *s } else { 1.0 };
                        *s *= *s;
                    }
                    left /= 2;
                }
                for (b, p) in bases.iter_mut().zip(powers) {
                    *b = 1.0 / if halves % 2 == 0 { p } else { p * b.sqrt() };
                }
            }
            Self::Other(beta) => *bases = bases.map(|b| b.powf(-beta)),
        }
    }
}

impl Profile {
    /// The density at an offset from the centre; its integral over the plane is 1.
    pub fn density(&self, dx: f64, dy: f64) -> f64 {
        let mut fall = [self.base(dx, dy)];
        self.falls.of(&mut fall);
        let core = self.height * fall[0];
        match &self.wings {
            None => core,
            Some(w) => w.core * core + w.density(dx, dy),
        }
    }

    /// What the profile is a power of.
    fn base(&self, dx: f64, dy: f64) -> f64 {
        let e = self.optics.elongation;
        let (u, v) = (dx * self.cos + dy * self.sin, dy * self.cos - dx * self.sin);
        1.0 + self.k * (u * u / e + v * v * e)
    }

    /// The part of a point's light that falls into the pixel at this offset.
    pub fn pixel(&self, dx: f64, dy: f64) -> f64 {
        // In the wings the profile is straight over a pixel: its middle is its mean to 1e-3.
        let far = 3.0 * self.optics.fwhm_px + 2.0;
        if dx * dx + dy * dy > far * far {
            return self.density(dx, dy);
        }
        let mut falls: [f64; POINTS] = std::array::from_fn(|i| {
            let ((x, _), (y, _)) = (GAUSS[i % GAUSS.len()], GAUSS[i / GAUSS.len()]);
            self.base(dx + x, dy + y)
        });
        self.falls.of(&mut falls);
        let core = self.height * over_a_pixel(&falls);
        match &self.wings {
            None => core,
            Some(w) => w.core * core + w.pixel(dx, dy),
        }
    }

    /// The radius beyond which a pixel gets less than this part of the light.
    pub fn radius(&self, part: f64) -> f64 {
        let o = &self.optics;
        let q = (self.height / part).powf(1.0 / o.beta) - 1.0;
        let core = (q.max(0.0) / self.k * o.elongation).sqrt();
        match &self.wings {
            None => core,
            // The spikes reach farthest; a faint star's are lost with the rest of its wings.
            Some(w) => {
                let spike = 0.5 * w.spikes / (2.0 * SPIKE_PX) / (2.0 * std::f64::consts::PI).sqrt();
                core.max((SPIKE_PX * (spike / part).ln()).clamp(0.0, WINGS_PX))
            }
        }
    }
}

/// Points of a pixel at which a profile is taken.
const POINTS: usize = GAUSS.len() * GAUSS.len();

/// The integral over a pixel of what has these values at its points, row after row.
fn over_a_pixel(values: &[f64; POINTS]) -> f64 {
    let (rows, _) = values.as_chunks::<{ GAUSS.len() }>();
    let along =
        |row: &[f64; GAUSS.len()]| -> f64 { row.iter().zip(GAUSS).map(|(v, (_, w))| w * v).sum() };
    rows.iter()
        .zip(GAUSS)
        .map(|(row, (_, w))| w * along(row))
        .sum()
}

/// The integral over a pixel's side of a function of the place along it.
fn over_a_side(middle: f64, of: impl Fn(f64) -> f64) -> f64 {
    GAUSS.iter().map(|(at, w)| w * of(middle + at)).sum()
}

impl Parts {
    /// Density of the wings at an offset; its integral is what both parts say.
    fn density(&self, dx: f64, dy: f64) -> f64 {
        let d2 = dx * dx + dy * dy;
        if d2 > WINGS_PX * WINGS_PX {
            return 0.0;
        }
        let spike = |at: f64, beside: f64| {
            if beside.abs() > BESIDE_PX {
                return 0.0;
            }
            across(beside) * along(at)
        };
        self.aureole_at(d2) + 0.5 * self.spikes * (spike(dx, dy) + spike(dy, dx))
    }

    fn aureole_at(&self, d2: f64) -> f64 {
        self.aureole / (1.0 + d2 / (FLAT_PX * FLAT_PX))
    }

    /// What falls into a pixel near the middle: spikes are a function of x times one of y.
    fn pixel(&self, dx: f64, dy: f64) -> f64 {
        let aureole = std::array::from_fn(|i| {
            let ((x, _), (y, _)) = (GAUSS[i % GAUSS.len()], GAUSS[i / GAUSS.len()]);
            self.aureole_at((dx + x).powi(2) + (dy + y).powi(2))
        });
        let [(along_x, across_x), (along_y, across_y)] =
            [dx, dy].map(|d| (over_a_side(d, along), over_a_side(d, across)));
        over_a_pixel(&aureole) + 0.5 * self.spikes * (along_x * across_y + along_y * across_x)
    }
}

/// A spike dies out along its length, and is a Gaussian of one pixel across.
fn along(at: f64) -> f64 {
    (-at.abs() / SPIKE_PX).exp() / (2.0 * SPIKE_PX)
}

fn across(beside: f64) -> f64 {
    (-0.5 * beside * beside).exp() / (2.0 * std::f64::consts::PI).sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Optics::round(3.0))]
    #[case(Optics { elongation: 1.4, angle_rad: 0.7, beta: 5.0, ..Optics::round(2.0) })]
    #[case(Optics { wings: Some(Wings::USUAL), beta: 5.0, ..Optics::round(4.0) })]
    fn all_light_lands_in_pixels_around_its_centre(#[case] o: Optics) {
        let (cx, cy) = (0.3, -0.2);
        let (mut sum, mut sx, mut sy) = (0.0, 0.0, 0.0);
        for y in -120..=120 {
            for x in -120..=120 {
                let v = o.pixel(f64::from(x) - cx, f64::from(y) - cy);
                sum += v;
                sx += v * f64::from(x);
                sy += v * f64::from(y);
            }
        }
        // The closed form of what a Moffat profile keeps beyond a radius R: (1 + k R^2)^(1 - beta).
        let k = 4.0 * (2f64.powf(1.0 / o.beta) - 1.0) / (o.fwhm_px * o.fwhm_px);
        let outside = (1.0 + k * 120.0 * 120.0f64).powf(1.0 - o.beta);
        // What a spike has across a pixel is not integrated: some parts in ten thousand.
        let wings = if o.wings.is_some() { 1e-3 } else { 0.0 };
        assert!((sum - 1.0).abs() < 1e-4 + outside + wings, "{sum}");
        assert!((sx / sum - cx).abs() < 2e-3 && (sy / sum - cy).abs() < 2e-3);
    }

    #[test]
    fn the_profile_is_half_as_high_at_half_its_width() {
        let o = Optics::round(3.4);
        assert!((o.density(1.7, 0.0) / o.density(0.0, 0.0) - 0.5).abs() < 1e-12);
        assert!((o.density(o.radius(1e-5), 0.0) - 1e-5).abs() < 1e-9);
    }

    #[rstest]
    fn powers_without_logarithms_are_the_same(#[values(2.5, 3.5, 4.0, 4.7, 5.0)] beta: f64) {
        for base in [1.0, 1.3, 7.0, 450.0] {
            let mut is = [base, 1.0];
            Falls::by(beta).of(&mut is);
            let (is, should) = (is[0], f64::powf(base, -beta));
            assert!((is / should - 1.0).abs() < 1e-14, "{base}: {is} {should}");
        }
        assert!(matches!(Falls::by(3.5), Falls::Halves(7)));
        assert!(matches!(Falls::by(4.7), Falls::Other(_)));
    }

    #[test]
    fn a_lens_moves_corners_as_said_and_the_middle_not_at_all() {
        let size = Size::new(301, 201).unwrap();
        assert!(Optics::round(3.0).distortion(size).is_none());
        let lens = Optics {
            distortion_px: 4.0,
            ..Optics::round(3.0)
        };
        let distortion = lens.distortion(size).unwrap();
        let (x, y) = distortion.apply(300.5, 200.5);
        assert!(((x - 300.5).hypot(y - 200.5) - 4.0).abs() < 1e-9 && x > 300.5 && y > 200.5);
        let (x, y) = distortion.apply(150.0, 100.0);
        assert!((x - 150.0).hypot(y - 100.0) < 1e-12);
        // Half-way out an eighth of it.
        let (x, y) = distortion.apply(225.25, 150.25);
        assert!(((x - 225.25).hypot(y - 150.25) - 0.5).abs() < 1e-9);
    }
}
