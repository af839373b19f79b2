//! The demo's frames: six masters of Lantern Reef, no two taken alike.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::space::Size;

use crate::camera::{Camera, Numbers};
use crate::clouds::Clouds;
use crate::glow::SkyGlow;
use crate::optics::Optics;
use crate::pointing::Pointing;
use crate::shot::{Shot, Taken};
use crate::spoilt::Spoilt;
use crate::stars::{Crowd, SkyStar};

/// A frame of the demo with the words of its header.
#[derive(Debug, Clone)]
pub struct DemoFrame {
    /// What its header calls the target.
    pub object: &'static str,
    /// Name of its file.
    pub file: &'static str,
    /// What its header calls the filter.
    pub filter_card: &'static str,
    /// Exposure of a sub-frame.
    pub exposure_s: f64,
    /// What its header calls the camera.
    pub camera_card: &'static str,
    /// How it is taken.
    pub shot: Shot,
}

/// The target's name.
pub const OBJECT: &str = "Lantern Reef";

/// Middle of the field on the plane.
const MIDDLE: (f64, f64) = (960.0, 640.0);

/// How one master of the demo differs from the others.
struct Night {
    file: &'static str,
    card: &'static str,
    filter: Filter,
    dither: (f64, f64),
    turn_deg: f64,
    fwhm_px: f64,
    elongation: f64,
    glow: (f64, f64, f64),
    transparency: f64,
    numbers: Numbers,
}

/// The six masters: dithered, under different skies; green after a meridian flip with 1.2 degrees of
/// turn; sulphur from a second camera, mirrored, at 0.9 of the scale and of another size.
pub fn frames() -> Vec<DemoFrame> {
    let night = |file, card, filter, dither| Night {
        file,
        card,
        filter,
        dither,
        turn_deg: 0.0,
        fwhm_px: 2.9,
        elongation: 1.05,
        glow: (0.0, 0.0, 0.0),
        transparency: 1.0,
        numbers: Numbers::Float,
    };
    let nights = [
        Night {
            glow: (270.0, 14.0, -9.0),
            numbers: Numbers::Sixteen,
            ..night("reef_R.fits", "Red", Filter::R, (3.4, -7.8))
        },
        Night {
            turn_deg: 181.2,
            glow: (330.0, -80.0, 50.0),
            fwhm_px: 3.2,
            elongation: 1.08,
            transparency: 0.86,
            ..night("reef_G.fits", "Green", Filter::G, (-12.3, 5.1))
        },
        Night {
            turn_deg: 0.15,
            glow: (370.0, 40.0, 90.0),
            fwhm_px: 3.5,
            transparency: 0.78,
            ..night("reef_B.fits", "Blue", Filter::B, (8.7, 11.2))
        },
        Night {
            glow: (64.0, 1.0, -0.6),
            fwhm_px: 2.7,
            numbers: Numbers::Sixteen,
            ..night("reef_Ha.fits", "H-alpha 7nm", Filter::Ha, (0.0, 0.0))
        },
        Night {
            turn_deg: -0.3,
            glow: (88.0, -12.0, 16.0),
            fwhm_px: 3.3,
            transparency: 0.9,
            ..night("reef_OIII.fits", "O3", Filter::Oiii, (-6.2, -9.5))
        },
        Night {
            turn_deg: 2.4,
            glow: (82.0, 9.0, -11.0),
            fwhm_px: 3.1,
            elongation: 1.1,
            transparency: 0.8,
            ..night("reef_SII.fits", "S-II", Filter::Sii, (14.0, -2.6))
        },
    ];
    nights.into_iter().enumerate().map(frame).collect()
}

fn frame((i, n): (usize, Night)) -> DemoFrame {
    let second_camera = n.filter == Filter::Sii;
    let narrow = n.filter.band() == jigsawa_core::filter::Band::Narrow;
    let (width, height) = if second_camera {
        (1720, 1200)
    } else {
        (1800, 1200)
    };
    let (level, across, along) = n.glow;
    let camera = Camera {
        numbers: n.numbers,
        gain_e_adu: if second_camera { 0.55 } else { 0.8 },
        ..Camera::usual()
    };
    DemoFrame {
        object: OBJECT,
        file: n.file,
        filter_card: n.card,
        exposure_s: if narrow { 300.0 } else { 120.0 },
        camera_card: if second_camera {
            "Cobble 17"
        } else {
            "Pebble 24"
        },
        shot: Shot {
            filter: n.filter,
            size: Size::new(width, height)
                .unwrap_or_else(|| unreachable!("both sides are positive")),
            pointing: Pointing {
                centre: (MIDDLE.0 + n.dither.0, MIDDLE.1 + n.dither.1),
                turn_deg: n.turn_deg,
                scale: if second_camera { 0.9 } else { 1.0 },
                mirrored: second_camera,
                sphere: None,
            },
            optics: Optics {
                elongation: n.elongation,
                angle_rad: 0.4 + i.real(),
                ..Optics::round(n.fwhm_px)
            },
            camera,
            glow: SkyGlow {
                across,
                along,
                ..SkyGlow::even(level)
            },
            transparency: n.transparency,
            spoilt: Spoilt::default(),
            subs: if narrow { 30 } else { 40 },
            seed: 1000 + i as u64,
        },
    }
}

/// Takes frames of the reef, all of the same nebula.
pub fn take(frames: &[DemoFrame], each: &mut dyn FnMut(&DemoFrame, Taken)) {
    let Some(around) = around(frames) else { return };
    let clouds = Clouds::over(around);
    for f in frames {
        each(f, f.shot.take(&Crowd::lantern_reef(), Some(&clouds)));
    }
}

/// The part of the plane that frames cover together.
pub(crate) fn around(frames: &[DemoFrame]) -> Option<(f64, f64, f64, f64)> {
    frames
        .iter()
        .map(|f| f.shot.extent())
        .reduce(|a, b| (a.0.min(b.0), a.1.min(b.1), a.2.max(b.2), a.3.max(b.3)))
}

/// Seconds of the three exposures of the lantern's heart, and the light that each collects.
pub const EXPOSURES: [(f64, f64); 3] = [(300.0, 8.0), (30.0, 0.8), (3.0, 0.08)];

/// Bright stars around the heart, whose charge overflows in the long exposures.
const BEACONS: [SkyStar; 4] = [
    beacon(742.3, 455.8, 4.3, 0.3),
    beacon(1313.6, 812.1, 3.6, 1.1),
    beacon(1204.9, 391.4, 5.2, 0.0),
    beacon(795.2, 905.7, 5.6, 0.7),
];

const fn beacon(x: f64, y: f64, magnitude: f64, colour: f64) -> SkyStar {
    SkyStar {
        x,
        y,
        magnitude,
        colour,
    }
}

/// The stars around the heart.
pub const fn bright_crowd() -> Crowd {
    Crowd {
        beacons: &BEACONS,
        ..Crowd::lantern_reef()
    }
}

/// Three exposures each of hydrogen and oxygen, of the lantern's heart: it is full in the long ones, and so are bright
/// stars, whose charge blooms. Each was taken a little aside and under another sky, and at other transparency.
pub fn exposures() -> Vec<DemoFrame> {
    let lines = [
        (
            Filter::Ha,
            "H-alpha 7nm",
            [
                "heart_Ha_300s.fits",
                "heart_Ha_030s.fits",
                "heart_Ha_003s.fits",
            ],
        ),
        (
            Filter::Oiii,
            "O3",
            [
                "heart_OIII_300s.fits",
                "heart_OIII_030s.fits",
                "heart_OIII_003s.fits",
            ],
        ),
    ];
    let mut all = Vec::new();
    for (l, (filter, card, files)) in lines.into_iter().enumerate() {
        for (e, (file, (seconds, light))) in files.into_iter().zip(EXPOSURES).enumerate() {
            let i = 3 * l + e;
            let aside = [
                (0.0, 0.0),
                (3.3, -2.4),
                (-5.6, 4.2),
                (7.1, 3.8),
                (-2.7, -6.3),
                (4.4, 8.9),
            ][i];
            let sky = [
                (60.0, 6.0, -4.0),
                (60.0, -9.0, 5.0),
                (60.0, 3.0, 8.0),
                (75.0, -7.0, 9.0),
                (75.0, 8.0, 2.0),
                (75.0, 2.0, -9.0),
            ][i];
            let clear = [1.0, 0.985, 1.01, 0.95, 0.96, 0.90][i];
            all.push(DemoFrame {
                object: OBJECT,
                file,
                filter_card: card,
                exposure_s: seconds,
                camera_card: "Pebble 24",
                shot: Shot {
                    filter: filter.clone(),
                    size: Size::new(1280, 860)
                        .unwrap_or_else(|| unreachable!("both sides are positive")),
                    pointing: Pointing {
                        turn_deg: [0.0, 0.04, -0.06, 0.2, 0.17, 0.24][i],
                        ..Pointing::at(1010.0 + aside.0, 640.0 + aside.1)
                    },
                    optics: Optics {
                        angle_rad: 0.4 + i.real(),
                        elongation: 1.04,
                        ..Optics::round([2.9, 2.8, 3.0, 3.1, 3.0, 2.9][i])
                    },
                    camera: Camera {
                        bloom: 0.25,
                        ..Camera::usual()
                    },
                    glow: SkyGlow {
                        across: light * sky.1,
                        along: light * sky.2,
                        ..SkyGlow::even(light * sky.0)
                    },
                    transparency: light * clear,
                    spoilt: Spoilt::default(),
                    subs: 24,
                    seed: 2000 + i as u64,
                },
            });
        }
    }
    all
}

/// Takes the exposures of the heart.
pub fn take_exposures(frames: &[DemoFrame], each: &mut dyn FnMut(&DemoFrame, Taken)) {
    let Some(around) = around(frames) else { return };
    let clouds = Clouds::over(around).with_heart();
    for f in frames {
        each(f, f.shot.take(&bright_crowd(), Some(&clouds)));
    }
}
