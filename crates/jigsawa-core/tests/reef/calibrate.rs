//! Raw frames of a chip whose every flaw is known, calibrated: what is left of the flaws.

use std::sync::{Arc, OnceLock};

use jigsawa_core::calibrate::average::Set;
use jigsawa_core::calibrate::defects::{Defects, of_dark, of_flat, of_lights, wavers};
use jigsawa_core::calibrate::interpolate::Interpolated;
use jigsawa_core::calibrate::light::{Calibrated, Calibration, Dark};
use jigsawa_core::calibrate::pattern::Pattern;
use jigsawa_core::calibrate::set::SetNoise;
use jigsawa_core::calibrate::strays::Levels;
use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::{MAD_TO_SIGMA, mad, median};
use jigsawa_core::space::Size;
use jigsawa_sky::chip::{Chip, Exposure};
use jigsawa_sky::raw_night::RawNight;
use jigsawa_sky::shot::StarTruth;
use jigsawa_sky::stars::Crowd;
use jigsawa_sky::train::Train;

use crate::setup::figure;

/// Electrons of the sky in lights.
pub const SKY_E: f64 = 300.0;

/// Lights in the stack.
const LIGHTS: u64 = 24;

pub const LIGHT: Exposure = Exposure {
    seconds: 180.0,
    celsius: -10.0,
};

pub fn size() -> Size {
    Size::new(360, 260).unwrap()
}

/// A chip with ten times as many hot pixels as usual, so that one in a thousand of them can be seen.
pub fn chip() -> Chip {
    Chip {
        hot: 0.02,
        ..Chip::usual(size())
    }
}

pub fn train() -> Train {
    Train::usual(size())
}

/// A master: its plane, what it was made of, and the pixels that wavered.
pub struct Master {
    pub plane: Plane,
    pub noise: SetNoise,
    wavering: Vec<(usize, usize)>,
}

/// Averages frames as `calibrate` does.
pub fn master(frames: &[impl FrameSource], gain: Option<f64>) -> Master {
    let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
    let noise = SetNoise::measure(&sources, gain).unwrap();
    let set = Set {
        frames: &sources,
        noise,
    };
    let mut plane = Plane::filled(size(), 0.0);
    let mut wavering = Vec::new();
    let width = size().width();
    set.average(|band| -> Result<(), DoorError> {
        let from = band.rect.y.index() * width;
        plane.data_mut()[from..from + band.rect.area()].copy_from_slice(&band.mean);
        for (i, (m, s)) in band.mean.iter().zip(&band.scatter).enumerate() {
            if wavers(*m, *s, frames.len(), &noise) {
                wavering.push(((from + i) % width, (from + i) / width));
            }
        }
        Ok(())
    })
    .unwrap();
    Master {
        plane,
        noise,
        wavering,
    }
}

/// Frames of even light.
pub fn frames(n: u64, electrons: f64, exposure: Exposure, seed: u64) -> Vec<Plane> {
    let chip = chip();
    let known = chip.known(&train());
    (0..n)
        .map(|k| known.even(electrons, exposure, seed + k))
        .collect()
}

pub type Light = Calibrated<Plane, Arc<Defects>>;

/// The masters of a night, and what they list.
pub struct Night {
    pub bias: Master,
    pub dark: Master,
    pub flat: Master,
    defects: Arc<Defects>,
}

pub fn night() -> &'static Night {
    static NIGHT: OnceLock<Night> = OnceLock::new();
    NIGHT.get_or_init(|| {
        let gain = Some(chip().gain_e_adu);
        let bias = master(&frames(20, 0.0, Exposure::none(-10.0), 1000), gain);
        let dark = master(&frames(20, 0.0, LIGHT, 2000), gain);
        let flats = frames(24, 24_000.0, Exposure::none(-10.0), 3000);
        let levelled: Vec<Light> = flats
            .into_iter()
            .map(|f| {
                let less = |gain| Calibration {
                    bias: Some(bias.plane.clone()),
                    gain,
                    ..Calibration::default()
                };
                let plain: Light = Calibrated::new(f.clone(), less(1.0));
                let level = Levels::measure(&plain).unwrap().unwrap().median;
                Calibrated::new(f, less(1.0 / f64::from(level)))
            })
            .collect();
        let flat = master(&levelled, Some(24_000.0));
        let mut all = of_dark(&dark.plane, &dark.noise).unwrap();
        all.extend(of_flat(&flat.plane).unwrap());
        let wavering = dark.wavering.iter();
        all.extend(
            wavering.map(|(x, y)| (*x, *y, jigsawa_core::calibrate::defects::Flaw::Wavering)),
        );
        Night {
            defects: Arc::new(Defects::new(size(), all)),
            bias,
            dark,
            flat,
        }
    })
}

/// A light read through its masters.
pub fn light(raw: Plane, dark: Dark<Plane>) -> Light {
    let night = night();
    let whole = dark.factor == 1.0;
    Calibrated::new(
        raw,
        Calibration {
            bias: (!whole).then(|| night.bias.plane.clone()),
            dark: Some(dark),
            flat: Some(night.flat.plane.clone()),
            defects: Some(Arc::clone(&night.defects)),
            own: None,
            step: 1,
            gain: chip().gain_e_adu,
        },
    )
}

fn own_dark() -> Dark<Plane> {
    Dark {
        master: night().dark.plane.clone(),
        factor: 1.0,
        glow: None,
    }
}

/// What the camera's response is at each pixel, in units of its middle: what the flat should be.
pub fn response() -> &'static Plane {
    static RESPONSE: OnceLock<Plane> = OnceLock::new();
    RESPONSE.get_or_init(|| {
        let (chip, train) = (chip(), train());
        let mut plane = Plane::from_fn(size(), |x, y| {
            (train.passes(x.real(), y.real(), size()) * chip.answers(x, y)).single()
        });
        let middle = median(&mut plane.data().to_vec());
        plane.data_mut().iter_mut().for_each(|v| *v /= middle);
        plane
    })
}

/// The sky that a calibrated light should show: that of the middle of the response.
pub fn sky() -> f64 {
    static SKY: OnceLock<f64> = OnceLock::new();
    *SKY.get_or_init(|| {
        let (chip, train, w) = (chip(), train(), size().width());
        let of = |i: usize| {
            let (x, y) = (i % w, i / w);
            (train.passes(x.real(), y.real(), size()) * chip.answers(x, y)).single()
        };
        let mut all: Vec<f32> = (0..size().area()).map(of).collect();
        SKY_E * f64::from(median(&mut all))
    })
}

/// The mean of calibrated lights, less the sky that it should show.
fn stack() -> &'static Plane {
    static STACK: OnceLock<Plane> = OnceLock::new();
    STACK.get_or_init(|| {
        let raw = frames(LIGHTS, SKY_E, LIGHT, 5000);
        let lights: Vec<Light> = raw.into_iter().map(|r| light(r, own_dark())).collect();
        let mut plane = master(&lights, Some(1.0)).plane;
        let sky = sky().single();
        plane.data_mut().iter_mut().for_each(|v| *v -= sky);
        plane
    })
}

/// Noise of a pixel of the stack.
fn stack_noise() -> f64 {
    let mut all = stack().data().to_vec();
    let centre = median(&mut all);
    f64::from(mad(&mut all, centre)) * MAD_TO_SIGMA
}

pub fn mean(values: impl Iterator<Item = f32>) -> f64 {
    let (sum, n) = values.fold((0.0, 0.0), |(s, n), v| (s + f64::from(v), n + 1.0));
    sum / n
}

#[test]
fn flats_leave_a_fifth_of_a_per_cent_and_dust_no_rings() {
    let (stack, side) = (stack(), 20);
    let mut squares = Vec::new();
    for cy in 0..size().height() / side {
        for cx in 0..size().width() / side {
            let mut cell: Vec<f32> = (cy * side..(cy + 1) * side)
                .flat_map(|y| stack.row(y)[cx * side..(cx + 1) * side].iter().copied())
                .collect();
            squares.push(f64::from(median(&mut cell) / sky().single()).powi(2));
        }
    }
    let rms = (squares.iter().sum::<f64>() / squares.len().real()).sqrt();
    let rings: Vec<f64> = train()
        .motes
        .iter()
        .map(|m| {
            let inside = (0..size().area()).filter(|i| {
                let (x, y) = ((i % size().width()).real(), (i / size().width()).real());
                let far = (x - m.at.0).hypot(y - m.at.1) / m.radius_px;
                (0.4..0.95).contains(&far)
            });
            let of = mean(inside.map(|i| stack.data()[i]));
            (of / sky()).abs()
        })
        .collect();
    let worst = rings.iter().copied().fold(0.0, f64::max);
    figure(
        90,
        "24 lights over a flat of 24, corners a fifth darker: what is left over 20 x 20 pixels, and in rings of dust",
        &format!("{:.3} % rms; {:.3} % at most", 100.0 * rms, 100.0 * worst),
    );
    assert!(rms < 0.002, "{rms}");
    assert!(worst < 0.003, "{rings:?}");
}

#[test]
fn glow_columns_and_dark_current_are_gone_and_hot_pixels_too() {
    let (stack, noise, chip) = (stack(), stack_noise(), chip());
    let (w, h) = (size().width(), size().height());
    let column = |x: usize| mean((0..h).map(|y| stack.data()[y * w + x])) / noise;
    let columns: Vec<f64> = (0..w).map(column).collect();
    let worst = columns.iter().map(|c| c.abs()).fold(0.0, f64::max);
    let corner = (h - 30..h).flat_map(|y| stack.row(y)[w - 30..].iter().copied());
    let glow = mean(corner) / noise;
    // Five widths of its own noise, with what a made-up pixel has: that of half of its neighbours.
    let left = |is: &dyn Fn(usize, usize) -> bool| {
        let flawed: Vec<usize> = (0..w * h).filter(|i| is(i % w, i / w)).collect();
        let off = |i: &&usize| f64::from(stack.data()[**i]).abs() > 5.0 * noise;
        (flawed.iter().filter(off).count(), flawed.len())
    };
    let hot = left(&|x, y| chip.is_hot(x, y));
    let wavering = left(&|x, y| chip.is_telegraph(x, y));
    let cold = left(&|x, y| chip.is_cold(x, y));
    figure(
        91,
        "the same: the worst column, the glow's corner, in the noise of a pixel of the stack; hot, wavering, cold pixels left",
        &format!(
            "{worst:.2}, {glow:.2} sigma; {} of {}, {} of {}, {} of {}",
            hot.0, hot.1, wavering.0, wavering.1, cold.0, cold.1
        ),
    );
    assert!(worst < 0.3 && glow.abs() < 0.3, "{worst} {glow}");
    assert!(hot.1 > 1500 && hot.0 * 1000 < hot.1, "{hot:?}");
    assert!(wavering.0 * 20 <= wavering.1, "{wavering:?}");
    assert_eq!(cold.0, 0, "{cold:?}");
    // And hardly a sound pixel is made up.
    let sound = |(x, y, _): &(usize, usize, _)| {
        !(chip.is_hot(*x, *y) || chip.is_telegraph(*x, *y) || chip.is_cold(*x, *y))
    };
    let made_up = night().defects.all().filter(sound).count();
    let columns = 2 * h;
    assert!(made_up < columns + w * h / 500, "{made_up}");
}

#[test]
fn a_lights_noise_is_what_theory_says_and_masters_are_as_sure_as_told() {
    let (night, chip) = (night(), chip());
    let one = light(frames(1, SKY_E, LIGHT, 7000).remove(0), own_dark());
    let mut out = vec![0.0; size().area()];
    one.read(size().rect(), &mut out).unwrap();
    let w = size().width();
    let flawed: std::collections::HashSet<usize> =
        night.defects.all().map(|(x, y, _)| y * w + x).collect();
    let (dark_n, flat_n) = (20.0, 24.0);
    let usual = |i: &usize| !flawed.contains(i);
    let mut pulls: Vec<f32> = (0..out.len())
        .filter(usual)
        .map(|i| {
            let (x, y) = (i % w, i / w);
            let flat = f64::from(response().data()[i]);
            let dark = chip.dark_e(x, y, LIGHT) + chip.glow_e(x, y, LIGHT);
            let read = chip.read_noise_e.powi(2) + chip.gain_e_adu.powi(2) / 12.0;
            let of_light = sky() * flat + dark + read;
            let of_dark = (dark + read) / dark_n;
            let of_flat = (sky() * sky()) * flat * flat / (24_000.0 * flat * flat_n);
            let sigma = (of_light + of_dark + of_flat).sqrt() / flat;
            ((f64::from(out[i]) - sky()) / sigma).single()
        })
        .collect();
    let centre = median(&mut pulls);
    let ratio = f64::from(mad(&mut pulls, centre)) * MAD_TO_SIGMA;
    // The bias master against what it should be.
    let mut off: Vec<f32> = (0..out.len())
        .map(|i| night.bias.plane.data()[i] - chip.bias_adu(i % w, i / w).single())
        .collect();
    let centre = median(&mut off);
    let is = f64::from(mad(&mut off, centre)) * MAD_TO_SIGMA;
    let told = f64::from(night.bias.noise.sigma) / 20f64.sqrt();
    figure(
        92,
        "noise of a calibrated light against theory; of a bias master against what it is told to be",
        &format!("{ratio:.3}; {:.3}", is / told),
    );
    assert!((ratio - 1.0).abs() < 0.02, "{ratio}");
    assert!((is / told - 1.0).abs() < 0.04, "{is} {told}");
}

#[test]
fn without_darks_hot_pixels_are_found_in_dithered_lights_and_stars_are_none() {
    let mut night = RawNight::demo();
    night.frames.retain(|f| !f.shots.is_empty());
    night.frames.truncate(7);
    let (mut planes, mut stars) = (Vec::new(), Vec::new());
    night.take(|_, plane, truth| {
        planes.push(plane);
        stars.extend(truth);
    });
    let sources: Vec<&dyn FrameSource> = planes.iter().map(|p| p as &dyn FrameSource).collect();
    let found = of_lights(&sources).unwrap();
    let chip = &night.chip;
    let size = chip.size;
    // Those that stand out: hotter than ten noise widths of a light.
    let strong = |x: usize, y: usize| chip.is_hot(x, y) && chip.dark_e(x, y, LIGHT) > 200.0;
    let known: Vec<(usize, usize)> = (0..size.area())
        .map(|i| (i % size.width(), i / size.width()))
        .filter(|(x, y)| strong(*x, *y))
        .collect();
    let places: std::collections::HashSet<(usize, usize)> =
        found.iter().map(|(x, y, _)| (*x, *y)).collect();
    let missed = known.iter().filter(|k| !places.contains(k)).count();
    let bright = stars[0].iter().filter(|s| s.flux > 500.0);
    let taken = bright.filter(|s| {
        let (x, y) = (s.x.round().index(), s.y.round().index());
        places.contains(&(x, y)) && !chip.is_hot(x, y)
    });
    let taken = taken.count();
    figure(
        94,
        "seven dithered lights without a dark: strong hot pixels missed, bright stars' cores taken for one",
        &format!("{missed} of {}, {taken}", known.len()),
    );
    assert!(missed * 20 < known.len(), "{missed} of {}", known.len());
    assert_eq!(taken, 0);
}

/// Light of a star within seven pixels, less what is around it.
fn flux(p: &Plane, x: f64, y: f64) -> f64 {
    let (cx, cy) = (x.round().whole(), y.round().whole());
    let (mut inside, mut n, mut ring) = (0.0, 0.0, Vec::new());
    for dy in -14i64..=14 {
        for dx in -14i64..=14 {
            let far = (cx.real() + dx.real() - x).hypot(cy.real() + dy.real() - y);
            let v = p.at(cx + dx, cy + dy);
            if far < 7.0 {
                inside += f64::from(v);
                n += 1.0;
            } else if far > 9.0 && far < 14.0 {
                ring.push(v);
            }
        }
    }
    inside - n * f64::from(median(&mut ring))
}

fn colours(plane: &Plane, pattern: Pattern) -> [Plane; 3] {
    [0, 1, 2].map(|colour| {
        let one = Interpolated {
            source: plane.clone(),
            pattern,
            colour,
        };
        let mut out = Plane::filled(plane.size(), 0.0);
        one.read(plane.size().rect(), out.data_mut()).unwrap();
        out
    })
}

#[test]
fn a_colour_cameras_stars_keep_their_colours() {
    // What interpolation does, without what masters do, noise and nebula.
    let night = RawNight::colour();
    let pattern = night.pattern.unwrap();
    let mut off = Vec::new();
    for frame in &night.frames[..4] {
        let crowd = Crowd::lantern_reef();
        let lights = frame.shots.iter().map(|s| s.light(&crowd, None));
        let (lights, truth): (Vec<Plane>, Vec<Vec<StarTruth>>) = lights.unzip();
        let plane = Plane::from_fn(night.chip.size, |x, y| {
            let (x, y) = (x.whole(), y.whole());
            lights[pattern.at(x, y)].at(x, y)
        });
        let planes = colours(&plane, pattern);
        let size = plane.size();
        let (w, h) = (size.width().real(), size.height().real());
        for s in truth[1].iter().take(60) {
            let inside = s.x > 20.0 && s.y > 20.0 && s.x < w - 20.0 && s.y < h - 20.0;
            let beside = |o: &&StarTruth| {
                let far = (o.x - s.x).hypot(o.y - s.y);
                far > 1e-6 && far < 16.0 && o.flux > 0.003 * s.flux
            };
            let same = |k: usize| {
                truth[k]
                    .iter()
                    .find(|o| (o.x - s.x).hypot(o.y - s.y) < 1e-6)
            };
            let (Some(r), Some(b)) = (same(0), same(2)) else {
                continue;
            };
            if !inside || s.flux < 2000.0 || truth[1].iter().any(|o| beside(&o)) {
                continue;
            }
            let found = planes.each_ref().map(|p| flux(p, s.x, s.y));
            for (one, k) in [(r, 0), (b, 2)] {
                let (is, want) = (found[k] / found[1], one.flux / s.flux);
                off.push((-2.5 * (is / want).log10()).abs());
            }
        }
    }
    off.sort_by(f64::total_cmp);
    let (middle, high) = (off[off.len() / 2], off[off.len() * 9 / 10]);
    figure(
        95,
        "colours of a colour camera's stars, interpolated: off by, the middle one and nine tenths of them",
        &format!("{middle:.3}, {high:.3} mag of {}", off.len()),
    );
    assert!(
        off.len() > 20 && high < 0.03,
        "{middle} {high} of {}",
        off.len()
    );
}

#[test]
fn light_of_one_colour_does_not_leak_into_the_others() {
    let pattern = Pattern::from_letters("RGGB").unwrap();
    let dots = Plane::from_fn(Size::new(120, 90).unwrap(), |x, y| {
        let star = |cx: f64, cy: f64| {
            let r2 = (x.real() - cx).powi(2) + (y.real() - cy).powi(2);
            9000.0 * (-0.5 * r2 / (1.2f64 * 1.2)).exp()
        };
        if pattern.at(x.whole(), y.whole()) == 0 {
            (500.0 + star(40.2, 30.4) + star(80.7, 55.1)).single()
        } else {
            500.0
        }
    });
    let sums = colours(&dots, pattern)
        .map(|p| p.data().iter().map(|v| f64::from(*v) - 500.0).sum::<f64>());
    let leaks = [sums[1] / sums[0], sums[2] / sums[0]];
    let worst = leaks.iter().map(|l| l.abs()).fold(0.0, f64::max);
    figure(
        96,
        "stars of red light alone through a colour camera: their light in green and blue",
        &format!("{:.2} % at most", 100.0 * worst),
    );
    assert!(worst < 0.02, "{leaks:?}");
}
