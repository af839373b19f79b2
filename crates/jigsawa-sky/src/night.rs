//! The demo's night: thirty sub-frames of Lantern Reef through two filters, with what goes wrong in a
//! night, and flats of which some call their filter by the wheel's slot.

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{Kind, Pier};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use serde::Serialize;

use crate::camera::{Camera, Numbers};
use crate::clouds::Clouds;
use crate::glow::SkyGlow;
use crate::optics::Optics;
use crate::pointing::Pointing;
use crate::shot::{Shot, Taken};
use crate::spoilt::{Cloud, Halo, Spoilt, Trail};
use crate::stars::Crowd;

/// What is wrong with a frame of the night.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// Cloud takes a part of the light.
    Cloud,
    /// The mount slipped: stars are long.
    LongStars,
    /// Thin cloud puts a halo around each star.
    Halo,
    /// A satellite left a trail.
    Trail,
    /// The header's word for the filter is the wheel's slot.
    FilterCard,
}

/// A frame of the night with the words of its header.
#[derive(Debug, Clone)]
pub struct NightFrame {
    /// Name of its file.
    pub file: String,
    /// Light or flat.
    pub kind: Kind,
    /// What its header calls the filter.
    pub filter_card: &'static str,
    /// Exposure in seconds.
    pub exposure_s: f64,
    /// Seconds from the first frame of the night.
    pub after_s: f64,
    /// On which side of the pier the telescope stood.
    pub pier: Pier,
    /// Position of the focuser.
    pub focus: f64,
    /// How it is taken.
    pub shot: Shot,
    /// What is wrong with it.
    pub fault: Option<Fault>,
}

/// Pixels of a frame.
const SIDES: (usize, usize) = (960, 640);

/// Where the night looks, on the plane: the lantern's rim, with stars enough around it.
const MIDDLE: (f64, f64) = (900.0, 700.0);

/// Lights of each filter.
const OF_EACH: usize = 15;

/// Seconds from one light to the next, and the exposure of each.
const EVERY_S: f64 = 195.0;
const EXPOSURE_S: f64 = 180.0;

/// The first light after the mount has turned over.
const FLIP_AT: usize = 21;

/// All frames of the night: lights in order, then flats.
pub fn frames() -> Vec<NightFrame> {
    let lights = (0..2 * OF_EACH).map(light);
    lights.chain((0..6).map(flat)).collect()
}

fn light(i: usize) -> NightFrame {
    let red = i < OF_EACH;
    let n = i % OF_EACH + 1;
    let at = i.real();
    let flipped = i >= FLIP_AT;
    // Spread evenly over a square of 24 pixels, by the golden ratio's sequence in two dimensions.
    let part = |k: f64| (0.5 + k * (at + 1.0)).fract() - 0.5;
    let dither = (24.0 * part(0.754_877_666), 24.0 * part(0.569_840_291));
    let fault = fault(red, n);
    let spoilt = spoilt(fault, i);
    let long = match (fault, red) {
        (Some(Fault::LongStars), true) => 1.55,
        (Some(Fault::LongStars), false) => 1.75,
        _ => 1.05 + 0.02 * (0.9 * at).sin(),
    };
    let level = (if red { 150.0 } else { 180.0 }) * (1.0 + 0.04 * (0.2 * at).cos());
    // A cloud is lit from below.
    let lit = 1.0 + spoilt.cloud.map_or(0.0, |c| 0.5 * c.loss);
    NightFrame {
        file: format!("reef_{}_{n:03}.fits", if red { "R" } else { "G" }),
        kind: Kind::Light,
        filter_card: if red { "Red" } else { "Green" },
        exposure_s: EXPOSURE_S,
        after_s: EVERY_S * at,
        pier: if flipped { Pier::West } else { Pier::East },
        focus: if red { 14_210.0 } else { 14_190.0 },
        shot: Shot {
            filter: if red { Filter::R } else { Filter::G },
            size: Size::new(SIDES.0, SIDES.1)
                .unwrap_or_else(|| unreachable!("both sides are positive")),
            pointing: Pointing {
                turn_deg: if flipped { 180.3 } else { 0.0 },
                ..Pointing::at(MIDDLE.0 + dither.0, MIDDLE.1 + dither.1)
            },
            optics: Optics {
                elongation: long,
                angle_rad: 0.5,
                ..Optics::round((2.9 + 0.18 * (0.33 * at).sin()) * f64::sqrt(long / 1.05))
            },
            camera: Camera {
                numbers: Numbers::Sixteen,
                ..Camera::usual()
            },
            glow: SkyGlow {
                across: 14.0,
                along: -10.0,
                ..SkyGlow::even(level * lit)
            },
            transparency: 0.97 - 0.03 * (0.25 * at).cos(),
            spoilt,
            subs: 1,
            seed: 7000 + i as u64,
        },
        fault,
    }
}

fn fault(red: bool, n: usize) -> Option<Fault> {
    match (red, n) {
        (true, 7) | (false, 5) => Some(Fault::Cloud),
        (true, 12) | (false, 10) => Some(Fault::LongStars),
        (false, 13) => Some(Fault::Halo),
        (true, 4 | 14) | (false, 8) => Some(Fault::Trail),
        _ => None,
    }
}

fn spoilt(fault: Option<Fault>, i: usize) -> Spoilt {
    let at = i.real();
    match fault {
        Some(Fault::Cloud) => Spoilt {
            cloud: Some(Cloud {
                loss: 0.34 + 0.004 * at,
                across: 0.12,
            }),
            ..Spoilt::default()
        },
        Some(Fault::Halo) => Spoilt {
            halo: Some(Halo {
                part: 0.14,
                sigma_px: 9.0,
            }),
            ..Spoilt::default()
        },
        Some(Fault::Trail) => Spoilt {
            trail: Some(Trail {
                through: (0.05 - 0.01 * at, 0.02 * at - 0.2),
                angle_deg: 25.0 + 6.0 * at,
                electrons: 260.0 - 6.0 * at,
                sigma_px: 1.3,
            }),
            ..Spoilt::default()
        },
        _ => Spoilt::default(),
    }
}

fn flat(i: usize) -> NightFrame {
    let red = i < 3;
    let like = light(if red { 0 } else { OF_EACH });
    NightFrame {
        file: format!("flat_{}_{:03}.fits", if red { "R" } else { "G" }, i % 3 + 1),
        kind: Kind::Flat,
        filter_card: if red { "Red" } else { "Slot 3" },
        exposure_s: if red { 2.4 } else { 1.9 },
        after_s: EVERY_S * 2.0 * OF_EACH.real() + 600.0 + 20.0 * i.real(),
        pier: Pier::West,
        shot: Shot {
            // A lit screen, darker towards the corners.
            glow: SkyGlow {
                bowl: -2600.0,
                ..SkyGlow::even(24_000.0)
            },
            spoilt: Spoilt::default(),
            seed: 7500 + i as u64,
            ..like.shot
        },
        fault: (!red).then_some(Fault::FilterCard),
        ..like
    }
}

/// Takes frames of the night, one after the other.
pub fn take(frames: &[NightFrame], mut each: impl FnMut(&NightFrame, Taken)) {
    let lights = frames.iter().filter(|f| f.kind == Kind::Light);
    let clouds = clouds_over(lights);
    let dark = empty_sky();
    for f in frames {
        let taken = match f.kind {
            Kind::Light => f.shot.take(&Crowd::lantern_reef(), clouds.as_ref()),
            _ => f.shot.take(&dark, None),
        };
        each(f, taken);
    }
}

/// The skies of lights without their stars: what a measurement of their levels should find.
pub fn starless(frames: &[NightFrame]) -> Vec<Plane> {
    let clouds = clouds_over(frames.iter());
    let dark = empty_sky();
    let sky = |f: &NightFrame| f.shot.take(&dark, clouds.as_ref()).plane;
    frames.iter().map(sky).collect()
}

/// The nebula over all that these frames cover.
fn clouds_over<'a>(frames: impl Iterator<Item = &'a NightFrame>) -> Option<Clouds> {
    frames
        .map(|f| f.shot.extent())
        .reduce(|a, b| (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3)))
        .map(Clouds::over)
}

/// A sky without stars.
const fn empty_sky() -> Crowd {
    Crowd {
        per_cell: 0.0,
        ..Crowd::lantern_reef()
    }
}
