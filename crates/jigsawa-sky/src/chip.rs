//! A camera's chip as it really is: bias with its columns, dark current with hot, telegraph and dead pixels, an
//! amplifier's glow, pixels of unequal response behind vignetting and dust, whole numbers of so many bits.
//!
//! Light comes as electrons that each pixel would hold if all were alike, and goes out as what the camera writes. The same
//! numbers give the same bits, on any number of threads; a chip's own flaws depend on its seed alone.

use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Poisson, StandardNormal};
use rayon::prelude::*;

use crate::noise::{bell, hash};
use crate::train::Train;

/// How long and how warm a frame was exposed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Exposure {
    /// Seconds.
    pub seconds: f64,
    /// Temperature of the chip in degrees Celsius.
    pub celsius: f64,
}

impl Exposure {
    /// A bias frame's.
    pub const fn none(celsius: f64) -> Self {
        Self {
            seconds: 0.0,
            celsius,
        }
    }
}

/// A chip.
#[derive(Debug, Clone, PartialEq)]
pub struct Chip {
    /// Its pixels.
    pub size: Size,
    /// Of its own flaws.
    pub seed: u64,
    /// Electrons for one unit of the file.
    pub gain_e_adu: f64,
    /// Read noise.
    pub read_noise_e: f64,
    /// Units that a pixel without charge has.
    pub offset_adu: f64,
    /// How much columns of the bias differ, in units.
    pub columns_adu: f64,
    /// Values are multiples of this: 16 for a camera of 12 bits that fills 16.
    pub step_adu: f64,
    /// Electrons that a pixel holds.
    pub full_e: f64,
    /// Dark current of a usual pixel at -10 degrees, in electrons a second.
    pub dark_e_s: f64,
    /// The part of the pixels that are hot, and that waver between two states.
    pub hot: f64,
    /// See `hot`.
    pub telegraph: f64,
    /// The part of the pixels that answer to a fraction of the light only.
    pub cold: f64,
    /// Columns with a hundred times the dark current.
    pub warm_columns: usize,
    /// The amplifier's glow at the last pixel's corner, in electrons a second, however cold the chip is.
    pub glow_e_s: f64,
    /// How much the response of pixels differs.
    pub response: f64,
    /// Cosmic rays in a frame of 100 seconds.
    pub rays: f64,
    /// Charge that a pixel does not hold runs along its column, half of it each way; else it is drained.
    pub blooms: bool,
}

/// The dark current doubles with so many degrees.
const DOUBLES_C: f64 = 6.0;

/// The temperature that the dark current is told for.
const AT_C: f64 = -10.0;

impl Chip {
    /// A cooled camera of today, not its best.
    pub const fn usual(size: Size) -> Self {
        Self {
            size,
            seed: 17,
            gain_e_adu: 0.8,
            read_noise_e: 2.4,
            offset_adu: 500.0,
            columns_adu: 1.2,
            step_adu: 1.0,
            full_e: 49_000.0,
            dark_e_s: 0.02,
            hot: 0.002,
            telegraph: 0.0004,
            cold: 0.0003,
            warm_columns: 2,
            glow_e_s: 0.6,
            response: 0.008,
            rays: 4.0,
            blooms: false,
        }
    }

    /// The file's value of a full pixel.
    pub fn full_adu(&self) -> f64 {
        (self.offset_adu + self.full_e / self.gain_e_adu).min(65_535.0)
    }

    /// A number in 0..1 that belongs to a pixel.
    fn own(&self, x: usize, y: usize, what: u64) -> f64 {
        hash(x.whole(), y.whole(), self.seed.wrapping_mul(31) + what)
    }

    /// A bell-shaped one of mean 0 and width 1, nearly: the sum of twelve even ones less six.
    fn bell_of(&self, x: usize, y: usize, what: u64) -> f64 {
        (0..12).map(|k| self.own(x, y, what + k)).sum::<f64>() - 6.0
    }

    /// Units of a pixel without charge.
    pub fn bias_adu(&self, x: usize, y: usize) -> f64 {
        let column = self.columns_adu * self.bell_of(x, 0, 100);
        // The last rows are read a little higher.
        let ramp = 1.5 * y.real() / self.size.height().real();
        self.offset_adu + column + ramp + 0.4 * self.bell_of(x, y, 200)
    }

    /// How much warmer than usual a pixel is: 1 for most.
    fn warmth(&self, x: usize, y: usize) -> f64 {
        let usual = 1.0 + 0.15 * self.bell_of(x, y, 300);
        let is_warm = |k: usize| {
            let at = (k.real() + self.own(k, 7, 5)) / self.warm_columns.real();
            x == (at * self.size.width().real())
                .index()
                .min(self.size.width() - 1)
        };
        let column = if (0..self.warm_columns).any(is_warm) {
            60.0
        } else {
            0.0
        };
        let hot = if self.is_hot(x, y) {
            // From forty times the usual current to thousands, the hotter the rarer.
            40.0 * (5.0 * self.own(x, y, 401)).exp()
        } else {
            0.0
        };
        usual.max(0.2) + column + hot
    }

    /// Is a pixel one of the hot ones?
    pub fn is_hot(&self, x: usize, y: usize) -> bool {
        self.own(x, y, 400) < self.hot
    }

    /// Does it waver?
    pub fn is_telegraph(&self, x: usize, y: usize) -> bool {
        self.own(x, y, 410) < self.telegraph
    }

    /// Does it answer to a fraction of the light only?
    pub fn is_cold(&self, x: usize, y: usize) -> bool {
        self.own(x, y, 420) < self.cold
    }

    /// Dark current of a pixel, without the glow, in electrons.
    pub fn dark_e(&self, x: usize, y: usize, exposure: Exposure) -> f64 {
        self.dark_of(self.warmth(x, y), exposure)
    }

    fn dark_of(&self, warmth: f64, exposure: Exposure) -> f64 {
        let warmer = ((exposure.celsius - AT_C) / DOUBLES_C).exp2();
        self.dark_e_s * warmer * exposure.seconds * warmth
    }

    /// Electrons of the amplifier's glow.
    pub fn glow_e(&self, x: usize, y: usize, exposure: Exposure) -> f64 {
        self.glow_e_s * exposure.seconds * self.glow(x, y)
    }

    /// The amplifier's glow against that at the last pixel's corner.
    fn glow(&self, x: usize, y: usize) -> f64 {
        let u = (x.real() + 1.0) / self.size.width().real() - 1.0;
        let v = (y.real() + 1.0) / self.size.height().real() - 1.0;
        let far = u.hypot(v);
        bell(far, 0.18) + 0.15 * bell(far, 0.5)
    }

    /// The part of a usual pixel's light that this one answers to.
    pub fn answers(&self, x: usize, y: usize) -> f64 {
        if self.is_cold(x, y) {
            return 0.1 + 0.4 * self.own(x, y, 421);
        }
        1.0 + self.response * self.bell_of(x, y, 500)
    }

    /// What its pixels are behind a train, found once for many frames.
    pub fn known<'a>(&'a self, train: &Train) -> Known<'a> {
        let w = self.size.width();
        let mut pixels = vec![Pixel::default(); self.size.area()];
        pixels.par_chunks_mut(w).enumerate().for_each(|(y, row)| {
            for (x, pixel) in row.iter_mut().enumerate() {
                *pixel = Pixel {
                    bias_adu: self.bias_adu(x, y),
                    warmth: self.warmth(x, y),
                    glow: self.glow(x, y),
                    passes: train.passes(x.real(), y.real(), self.size),
                    answers: self.answers(x, y),
                    wavers: self
                        .is_telegraph(x, y)
                        .then(|| 20.0 + 200.0 * self.own(x, y, 411)),
                };
            }
        });
        Known { chip: self, pixels }
    }

    /// What the camera writes of light that came through a train.
    pub fn read(&self, light: &Plane, train: &Train, exposure: Exposure, seed: u64) -> Plane {
        self.known(train).read(light, exposure, seed)
    }

    /// A frame of even light; none for darks and biases.
    pub fn even(&self, electrons: f64, train: &Train, exposure: Exposure, seed: u64) -> Plane {
        self.known(train).even(electrons, exposure, seed)
    }

    /// Lets charge that pixels do not hold run along their columns until it finds room.
    fn run_over(&self, held: &mut [(f64, f64)]) {
        let (w, h) = (self.size.width(), self.size.height());
        for x in 0..w {
            let over = |y: usize| (held[y * w + x].0 - self.full_e).max(0.0);
            let over: Vec<f64> = (0..h).map(over).collect();
            if over.iter().all(|e| *e == 0.0) {
                continue;
            }
            let mut run = |rows: &mut dyn Iterator<Item = usize>| {
                let mut carried = 0.0;
                for y in rows {
                    let v = &mut held[y * w + x].0;
                    let taken = (self.full_e - *v).clamp(0.0, carried);
                    *v += taken;
                    carried += 0.5 * over[y] - taken;
                }
            };
            run(&mut (0..h));
            run(&mut (0..h).rev());
        }
    }

    /// Cosmic rays that hit during an exposure.
    fn rays(&self, exposure: Exposure, seed: u64) -> Vec<Ray> {
        let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0xA11);
        let mean = self.rays * exposure.seconds / 100.0;
        let count = counted(mean, &mut rng).index();
        (0..count)
            .map(|_| {
                let mut part = || rng.random::<f64>();
                Ray {
                    at: (
                        part() * self.size.width().real(),
                        part() * self.size.height().real(),
                    ),
                    angle_rad: part() * std::f64::consts::TAU,
                    length_px: 1.0 + 7.0 * part() * part(),
                    electrons: 300.0 + 2500.0 * part(),
                }
            })
            .collect()
    }
}

/// What a pixel is.
#[derive(Debug, Clone, Copy, Default)]
struct Pixel {
    bias_adu: f64,
    warmth: f64,
    glow: f64,
    /// The part of the light that the train lets through.
    passes: f64,
    answers: f64,
    /// How high the higher of two states is, where it wavers.
    wavers: Option<f64>,
}

/// A chip behind its optics, each pixel of which is known.
pub struct Known<'a> {
    chip: &'a Chip,
    pixels: Vec<Pixel>,
}

impl Known<'_> {
    /// What the camera writes of light.
    pub fn read(&self, light: &Plane, exposure: Exposure, seed: u64) -> Plane {
        let chip = self.chip;
        let w = chip.size.width();
        let rays = chip.rays(exposure, seed);
        // Electrons of each pixel, and what reading it adds.
        let mut held = vec![(0.0, 0.0); chip.size.area()];
        held.par_chunks_mut(w).enumerate().for_each(|(y, row)| {
            let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x51ED);
            rng.set_stream(y as u64);
            for (x, v) in row.iter_mut().enumerate() {
                let pixel = &self.pixels[y * w + x];
                let of_light =
                    f64::from(light.at(x.whole(), y.whole())) * pixel.passes * pixel.answers;
                let dark = chip.dark_of(pixel.warmth, exposure)
                    + chip.glow_e_s * exposure.seconds * pixel.glow;
                let mut e = counted(of_light + dark, &mut rng);
                // Half of its time in the higher of two states.
                if let Some(strength) = pixel.wavers
                    && rng.random::<f64>() < 0.5
                {
                    e += strength * (exposure.seconds / 60.0).min(4.0).sqrt();
                }
                e += rays
                    .iter()
                    .map(|r| r.light(x.real(), y.real()))
                    .sum::<f64>();
                let read: f64 = StandardNormal.sample(&mut rng);
                *v = (e, chip.read_noise_e * read);
            }
        });
        if chip.blooms {
            chip.run_over(&mut held);
        }
        let mut out = Plane::filled(chip.size, 0.0);
        out.data_mut()
            .par_chunks_mut(w)
            .zip(held.par_chunks(w))
            .enumerate()
            .for_each(|(y, (row, held))| {
                for (x, (v, (e, noise))) in row.iter_mut().zip(held).enumerate() {
                    let e = e.min(chip.full_e) + noise;
                    let adu = self.pixels[y * w + x].bias_adu + e / chip.gain_e_adu;
                    let stored = (adu / chip.step_adu).round() * chip.step_adu;
                    *v = stored.clamp(0.0, chip.full_adu()).single();
                }
            });
        out
    }

    /// A frame of even light; none for darks and biases.
    pub fn even(&self, electrons: f64, exposure: Exposure, seed: u64) -> Plane {
        let light = Plane::filled(self.chip.size, electrons.single());
        self.read(&light, exposure, seed)
    }
}

/// A cosmic ray: a short track that no optics have blurred.
struct Ray {
    at: (f64, f64),
    angle_rad: f64,
    length_px: f64,
    electrons: f64,
}

impl Ray {
    fn light(&self, x: f64, y: f64) -> f64 {
        let (s, c) = self.angle_rad.sin_cos();
        let (dx, dy) = (x - self.at.0, y - self.at.1);
        let (along, across) = (dx * c + dy * s, dy * c - dx * s);
        if (0.0..=self.length_px).contains(&along) && across.abs() <= 0.5 {
            self.electrons
        } else {
            0.0
        }
    }
}

/// Events where so many are expected.
fn counted(mean: f64, rng: &mut ChaCha8Rng) -> f64 {
    // Of many, Gauss's curve cannot be told from Poisson's, and is four times as fast.
    if mean > 60.0 {
        let off: f64 = StandardNormal.sample(rng);
        return (mean + mean.sqrt() * off).round().max(0.0);
    }
    match Poisson::new(mean) {
        Ok(p) => p.sample(rng),
        // No light at all.
        Err(_) => 0.0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn size() -> Size {
        Size::new(160, 120).unwrap()
    }

    fn mean(p: &Plane) -> f64 {
        p.data().iter().map(|v| f64::from(*v)).sum::<f64>() / p.data().len().real()
    }

    #[test]
    fn a_bias_has_its_level_and_the_read_noise() {
        let chip = Chip::usual(size());
        let take = |seed| chip.even(0.0, &Train::even(), Exposure::none(-10.0), seed);
        let (a, b) = (take(1), take(2));
        assert!((mean(&a) - 501.0).abs() < 1.5, "{}", mean(&a));
        let apart: f64 = a
            .data()
            .iter()
            .zip(b.data())
            .filter(|(p, q)| (*p - *q).abs() < 30.0)
            .map(|(p, q)| f64::from(p - q).powi(2))
            .sum();
        let noise = (0.5 * apart / a.data().len().real()).sqrt() * chip.gain_e_adu;
        assert!((noise / chip.read_noise_e - 1.0).abs() < 0.03, "{noise}");
        assert_eq!(take(1), a);
    }

    #[test]
    fn the_dark_doubles_with_its_degrees_and_the_glow_does_not() {
        let chip = Chip::usual(size());
        let at = |celsius| Exposure {
            seconds: 300.0,
            celsius,
        };
        let ratio = chip.dark_e(40, 40, at(-4.0)) / chip.dark_e(40, 40, at(-10.0));
        assert!((ratio - 2.0).abs() < 1e-9);
        assert_eq!(
            chip.glow_e(150, 110, at(-4.0)),
            chip.glow_e(150, 110, at(-10.0))
        );
        let flaws = |of: fn(&Chip, usize, usize) -> bool| {
            (0..120 * 160)
                .filter(|i| of(&chip, i % 160, i / 160))
                .count()
                .real()
                / 19_200.0
        };
        assert!((flaws(Chip::is_hot) / chip.hot - 1.0).abs() < 0.4);
    }

    #[test]
    fn a_flat_shows_corners_dust_and_a_full_chip_is_flat() {
        let chip = Chip::usual(size());
        let train = Train::usual(size());
        let flat = chip.even(24_000.0, &train, Exposure::none(-10.0), 3);
        let around = |x: i64, y: i64| {
            let near = (-3..=3).flat_map(|i| (-3..=3).map(move |j| (i, j)));
            let sum: f64 = near.map(|(i, j)| f64::from(flat.at(x + i, y + j))).sum();
            (sum / 49.0 - 501.0) * chip.gain_e_adu / 24_000.0
        };
        assert!((around(84, 57) - 1.0).abs() < 0.01, "{}", around(84, 57));
        assert!((0.75..0.85).contains(&around(4, 115)), "{}", around(4, 115));
        let full = chip.even(90_000.0, &Train::even(), Exposure::none(-10.0), 4);
        let highest = full.data().iter().copied().fold(0.0, f32::max);
        assert!((f64::from(highest) - chip.full_adu()).abs() < 1.0);
    }
}
