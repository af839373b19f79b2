//! A night of raw frames of Lantern Reef: lights through two lines, with the biases, darks, flats and dark-flats that
//! belong to them, and what goes wrong with such: a dark that light fell into, flats that call their filter by the wheel's
//! slot. And a short night of the same with a colour camera.

use jigsawa_core::calibrate::pattern::Pattern;
use jigsawa_core::filter::Filter;
use jigsawa_core::frame::Kind;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;

use crate::camera::{Camera, Numbers};
use crate::chip::{Chip, Exposure};
use crate::clouds::Clouds;
use crate::glow::SkyGlow;
use crate::optics::Optics;
use crate::pointing::Pointing;
use crate::shot::{Shot, StarTruth};
use crate::spoilt::Spoilt;
use crate::stars::Crowd;
use crate::train::Train;

/// A raw frame with the words of its header.
#[derive(Debug, Clone)]
pub struct RawFrame {
    /// Name of its file.
    pub file: String,
    /// What it shows.
    pub kind: Kind,
    /// What its header calls the filter; nothing for frames without light.
    pub filter_card: Option<&'static str>,
    /// How long and how warm.
    pub exposure: Exposure,
    /// Seconds from the first frame of the night.
    pub after_s: f64,
    /// How a light is taken: through one filter, or through red, green and blue ones before the pixels.
    pub shots: Vec<Shot>,
    /// Electrons of even light: of flats, and of a dark that light fell into; before pixels of each colour.
    pub even_e: [f64; 3],
    /// Of its noise.
    pub seed: u64,
}

/// The night: its chip, its optics and its frames.
#[derive(Debug, Clone)]
pub struct RawNight {
    /// The chip.
    pub chip: Chip,
    /// What is before it.
    pub train: Train,
    /// What headers call the camera.
    pub camera: &'static str,
    /// Colours before its pixels.
    pub pattern: Option<Pattern>,
    /// The frames.
    pub frames: Vec<RawFrame>,
}

/// Pixels of a frame.
const SIDES: (usize, usize) = (720, 480);

/// Seconds of a light, and its temperature.
const LIGHT: Exposure = Exposure {
    seconds: 180.0,
    celsius: -10.0,
};

/// Lights of each filter, and frames of each set.
const LIGHTS: usize = 8;
const SET: usize = 12;

/// The same of the colour camera.
const COLOUR_SIDES: (usize, usize) = (600, 400);
const COLOUR_LIGHTS: usize = 6;

/// Electrons of a flat.
const FLAT_E: f64 = 24_000.0;

/// A set of frames that are taken alike.
struct Same {
    kind: Kind,
    card: Option<&'static str>,
    name: &'static str,
    exposure: Exposure,
    even_e: [f64; 3],
}

/// Adds a set of frames.
fn add(frames: &mut Vec<RawFrame>, set: &Same, count: usize) {
    let mut after_s = frames
        .last()
        .map_or(0.0, |f| f.after_s + f.exposure.seconds + 20.0);
    for i in 0..count {
        frames.push(RawFrame {
            file: format!("{}_{:03}.fits", set.name, i + 1),
            kind: set.kind,
            filter_card: set.card,
            exposure: set.exposure,
            after_s,
            shots: Vec::new(),
            even_e: set.even_e.map(|e| e * (1.0 + 0.01 * i.real())),
            seed: 90_000 + frames.len() as u64,
        });
        after_s += 5.0 + set.exposure.seconds;
    }
}

impl RawNight {
    /// The demo's.
    pub fn demo() -> Self {
        let size = sides(SIDES);
        let mut frames: Vec<RawFrame> = Vec::new();
        for (k, filter) in [Filter::Ha, Filter::Oiii].into_iter().enumerate() {
            frames.extend((0..LIGHTS).map(|i| light(&filter, i, k * LIGHTS + i, size)));
        }
        let cold = |seconds| Exposure {
            seconds,
            celsius: LIGHT.celsius,
        };
        let set = |kind, card, name, exposure, even_e: f64| Same {
            kind,
            card,
            name,
            exposure,
            even_e: [even_e; 3],
        };
        for same in [
            set(Kind::Flat, Some("Ha"), "flat_Ha", cold(4.0), FLAT_E),
            // The wheel's third slot is OIII, which this header does not say.
            set(Kind::Flat, Some("Slot 3"), "flat_3", cold(4.0), FLAT_E),
            set(Kind::DarkFlat, None, "darkflat", cold(4.0), 0.0),
            set(Kind::Dark, None, "dark", LIGHT, 0.0),
            set(Kind::Bias, None, "bias", cold(0.0), 0.0),
        ] {
            add(&mut frames, &same, SET);
        }
        // The dome's door was opened.
        let opened = frames.iter_mut().filter(|f| f.kind == Kind::Dark).nth(7);
        if let Some(dark) = opened {
            dark.even_e = [260.0; 3];
        }
        Self {
            chip: Chip::usual(size),
            train: Train::usual(size),
            camera: "Pebble 24",
            pattern: None,
            frames,
        }
    }

    /// A short night with a colour camera.
    pub fn colour() -> Self {
        let size = sides(COLOUR_SIDES);
        let exposure = Exposure {
            seconds: 60.0,
            celsius: -5.0,
        };
        let filters = [Filter::R, Filter::G, Filter::B];
        let mut frames: Vec<RawFrame> = (0..COLOUR_LIGHTS)
            .map(|i| {
                let of = |filter: &Filter| light(filter, i, 40 + i, size);
                let shots = filters.iter().flat_map(|f| of(f).shots);
                RawFrame {
                    file: format!("reef_rgb_{:03}.fits", i + 1),
                    filter_card: None,
                    exposure,
                    after_s: 70.0 * i.real(),
                    shots: shots
                        .zip([210.0, 260.0, 230.0])
                        .map(|(shot, level)| Shot {
                            glow: SkyGlow::even(level),
                            ..shot
                        })
                        .collect(),
                    ..of(&Filter::G)
                }
            })
            .collect();
        let short = Exposure {
            seconds: 2.0,
            ..exposure
        };
        let set = |kind, name, exposure, even_e| Same {
            kind,
            card: None,
            name,
            exposure,
            even_e,
        };
        let lit = [0.55, 1.0, 0.7].map(|part| part * FLAT_E);
        for same in [
            set(Kind::Flat, "rgb_flat", short, lit),
            set(Kind::DarkFlat, "rgb_darkflat", short, [0.0; 3]),
            set(Kind::Dark, "rgb_dark", exposure, [0.0; 3]),
        ] {
            add(&mut frames, &same, COLOUR_LIGHTS + 2);
        }
        Self {
            chip: Chip {
                seed: 29,
                ..Chip::usual(size)
            },
            train: Train::usual(size),
            camera: "Flint 9c",
            pattern: Pattern::from_letters("RGGB"),
            frames,
        }
    }

    /// What the camera writes of each frame, one after the other, and the stars of lights, through each filter.
    pub fn take(&self, mut each: impl FnMut(&RawFrame, Plane, Vec<Vec<StarTruth>>)) {
        let shots = self.frames.iter().flat_map(|f| &f.shots);
        let clouds = shots
            .map(Shot::extent)
            .reduce(|a, b| (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3)))
            .map(Clouds::over);
        let chip = self.chip.known(&self.train);
        for f in &self.frames {
            let crowd = Crowd::lantern_reef();
            let taken = f.shots.iter().map(|s| s.light(&crowd, clouds.as_ref()));
            let (mut lights, stars): (Vec<Plane>, Vec<Vec<StarTruth>>) = taken.unzip();
            if lights.is_empty() {
                let even = f.even_e.map(|e| Plane::filled(self.chip.size, e.single()));
                lights.extend(even);
            }
            let light = match self.pattern {
                // A mono camera sees all of what is there.
                None => lights.swap_remove(0),
                Some(pattern) => Plane::from_fn(self.chip.size, |x, y| {
                    let (x, y) = (x.whole(), y.whole());
                    lights[pattern.at(x, y)].at(x, y)
                }),
            };
            let plane = chip.read(&light, f.exposure, f.seed);
            each(f, plane, stars);
        }
    }
}

fn sides((width, height): (usize, usize)) -> Size {
    Size::new(width, height).unwrap_or_else(|| unreachable!("both are positive"))
}

fn light(filter: &Filter, i: usize, at: usize, size: Size) -> RawFrame {
    let part = |k: f64| (0.5 + k * (at.real() + 1.0)).fract() - 0.5;
    let dither = (22.0 * part(0.754_877_666), 22.0 * part(0.569_840_291));
    let red = *filter == Filter::Ha;
    RawFrame {
        file: format!("reef_{}_{:03}.fits", filter.name(), i + 1),
        kind: Kind::Light,
        filter_card: Some(if red { "Ha" } else { "OIII" }),
        exposure: LIGHT,
        after_s: 200.0 * at.real(),
        shots: vec![Shot {
            filter: filter.clone(),
            size,
            pointing: Pointing::at(900.0 + dither.0, 700.0 + dither.1),
            optics: Optics {
                elongation: 1.06,
                angle_rad: 0.4,
                ..Optics::round(2.8 + 0.2 * (0.7 * at.real()).sin())
            },
            camera: Camera {
                numbers: Numbers::Sixteen,
                ..Camera::usual()
            },
            glow: SkyGlow {
                across: 6.0,
                along: -4.0,
                ..SkyGlow::even(if red { 60.0 } else { 75.0 })
            },
            transparency: 0.96 - 0.03 * (0.4 * at.real()).cos(),
            spoilt: Spoilt::default(),
            subs: 1,
            seed: 80_000 + at as u64,
        }],
        even_e: [0.0; 3],
        seed: 80_000 + at as u64,
    }
}
