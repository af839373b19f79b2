//! A night of raw frames of Lantern Reef: lights through two lines, with the biases, darks, flats and dark-flats that
//! belong to them, and what goes wrong with such: a dark that light fell into, flats that call their filter by the wheel's
//! slot.

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::Kind;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;

use crate::camera::{Camera, Numbers};
use crate::chip::{Chip, Exposure, Train};
use crate::clouds::Clouds;
use crate::glow::SkyGlow;
use crate::optics::Optics;
use crate::pointing::Pointing;
use crate::shot::{Shot, StarTruth};
use crate::spoilt::Spoilt;
use crate::stars::Crowd;

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
    /// How a light is taken.
    pub shot: Option<Shot>,
    /// Electrons of even light: of flats, and of a dark that light fell into.
    pub even_e: f64,
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

/// Electrons of a flat.
const FLAT_E: f64 = 24_000.0;

impl RawNight {
    /// The demo's.
    pub fn demo() -> Self {
        let size = Size::new(SIDES.0, SIDES.1).unwrap_or_else(|| unreachable!("both are positive"));
        let mut frames: Vec<RawFrame> = Vec::new();
        for (k, filter) in [Filter::Ha, Filter::Oiii].into_iter().enumerate() {
            frames.extend((0..LIGHTS).map(|i| light(&filter, i, k * LIGHTS + i, size)));
        }
        let mut after = 200.0 * frames.len().real();
        let mut set = |kind: Kind, card, name: &str, exposure: Exposure, even_e: f64| {
            for i in 0..SET {
                after += 5.0 + exposure.seconds;
                frames.push(RawFrame {
                    file: format!("{name}_{:03}.fits", i + 1),
                    kind,
                    filter_card: card,
                    exposure,
                    after_s: after,
                    shot: None,
                    even_e: even_e * (1.0 + 0.01 * i.real()),
                    seed: 90_000 + frames.len() as u64,
                });
            }
        };
        let cold = |seconds| Exposure {
            seconds,
            celsius: LIGHT.celsius,
        };
        set(Kind::Flat, Some("Ha"), "flat_Ha", cold(4.0), FLAT_E);
        // The wheel's third slot is OIII, which this header does not say.
        set(Kind::Flat, Some("Slot 3"), "flat_3", cold(4.0), FLAT_E);
        set(Kind::DarkFlat, None, "darkflat", cold(4.0), 0.0);
        set(Kind::Dark, None, "dark", LIGHT, 0.0);
        set(Kind::Bias, None, "bias", cold(0.0), 0.0);
        // The dome's door was opened.
        let opened = frames.iter_mut().filter(|f| f.kind == Kind::Dark).nth(7);
        if let Some(dark) = opened {
            dark.even_e = 260.0;
        }
        Self {
            chip: Chip::usual(size),
            train: Train::usual(size),
            frames,
        }
    }

    /// What the camera writes of each frame, one after the other, and the stars of lights.
    pub fn take(&self, mut each: impl FnMut(&RawFrame, Plane, Vec<StarTruth>)) {
        let shots = self.frames.iter().filter_map(|f| f.shot.as_ref());
        let clouds = shots
            .map(Shot::extent)
            .reduce(|a, b| (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3)))
            .map(Clouds::over);
        for f in &self.frames {
            let (light, stars) = match &f.shot {
                Some(shot) => shot.light(&Crowd::lantern_reef(), clouds.as_ref()),
                None => (Plane::filled(self.chip.size, f.even_e.single()), Vec::new()),
            };
            let plane = self.chip.read(&light, &self.train, f.exposure, f.seed);
            each(f, plane, stars);
        }
    }
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
        shot: Some(Shot {
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
        }),
        even_e: 0.0,
        seed: 80_000 + at as u64,
    }
}
