//! The demo's mosaic: two by two panels of Lantern Reef in two filters, no two taken alike.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::space::Size;

use crate::camera::Camera;
use crate::demo::DemoFrame;
use crate::glow::SkyGlow;
use crate::optics::Optics;
use crate::pointing::{Pointing, Sphere};
use crate::shot::Shot;
use crate::spoilt::Spoilt;

/// The sphere of the demo's sky: 1.45 arc seconds for a unit of the plane.
pub const SPHERE: Sphere = Sphere {
    touches: (960.0, 640.0),
    radius: 180.0 * 3600.0 / (std::f64::consts::PI * 1.45),
};

/// How one panel of the demo's mosaic was taken in a filter.
struct PanelNight {
    turn_deg: f64,
    aside: (f64, f64),
    glow: (f64, f64, f64),
    bowl: f64,
    transparency: f64,
    fwhm_px: f64,
}

const fn panel_night(turn_deg: f64, aside: (f64, f64), glow: (f64, f64, f64)) -> PanelNight {
    PanelNight {
        turn_deg,
        aside,
        glow,
        bowl: 0.0,
        transparency: 1.0,
        fwhm_px: 2.9,
    }
}

/// Pixels of a panel.
const SIZE: (usize, usize) = (1000, 700);

/// The part of its sides that a panel shares with the next.
const SHARED: f64 = 0.12;

/// Two by two panels of the reef in hydrogen and oxygen, which share 12 % of their sides: each turned a little and
/// under its own sky, one through thin cloud, one under a moon, one after a meridian flip. Names have the panel
/// in them.
pub fn panels() -> Vec<DemoFrame> {
    nights().into_iter().enumerate().map(panel).collect()
}

/// Each panel's file, place (row after row from the top) and night.
fn nights() -> [(&'static str, usize, Filter, PanelNight); 8] {
    [
        (
            "reef_A1_Ha.fits",
            0,
            Filter::Ha,
            panel_night(0.0, (0.0, 0.0), (62.0, 2.0, -1.5)),
        ),
        (
            "reef_A2_Ha.fits",
            1,
            Filter::Ha,
            PanelNight {
                transparency: 0.68,
                ..panel_night(0.9, (4.1, -3.3), (70.0, -2.5, 1.0))
            },
        ),
        (
            "reef_B1_Ha.fits",
            2,
            Filter::Ha,
            PanelNight {
                bowl: 4.0,
                fwhm_px: 3.2,
                ..panel_night(-0.6, (-2.6, 5.2), (150.0, -34.0, 24.0))
            },
        ),
        (
            "reef_B2_Ha.fits",
            3,
            Filter::Ha,
            panel_night(0.4, (3.0, 2.2), (66.0, -1.0, -2.0)),
        ),
        (
            "reef_A1_OIII.fits",
            0,
            Filter::Oiii,
            panel_night(0.3, (5.0, -4.4), (80.0, 3.0, 2.0)),
        ),
        (
            "reef_A2_OIII.fits",
            1,
            Filter::Oiii,
            PanelNight {
                bowl: -3.0,
                ..panel_night(-0.8, (-3.7, 1.9), (165.0, 26.0, 18.0))
            },
        ),
        (
            "reef_B1_OIII.fits",
            2,
            Filter::Oiii,
            PanelNight {
                fwhm_px: 3.1,
                ..panel_night(180.7, (1.8, -6.0), (82.0, 1.5, -3.0))
            },
        ),
        (
            "reef_B2_OIII.fits",
            3,
            Filter::Oiii,
            PanelNight {
                transparency: 0.75,
                ..panel_night(-0.2, (-4.5, 3.4), (84.0, -3.0, -1.0))
            },
        ),
    ]
}

fn panel(
    (i, (file, at, filter, n)): (usize, (&'static str, usize, Filter, PanelNight)),
) -> DemoFrame {
    let step = |n: usize| (1.0 - SHARED) * n.real();
    let (column, row) = ((at % 2).real() - 0.5, 0.5 - (at / 2).real());
    let (level, across, along) = n.glow;
    DemoFrame {
        object: crate::demo::OBJECT,
        file,
        filter_card: if filter == Filter::Ha {
            "H-alpha 7nm"
        } else {
            "O3"
        },
        exposure_s: 300.0,
        camera_card: "Pebble 24",
        shot: Shot {
            filter,
            size: Size::new(SIZE.0, SIZE.1)
                .unwrap_or_else(|| unreachable!("both sides are positive")),
            pointing: Pointing {
                turn_deg: n.turn_deg,
                sphere: Some(SPHERE),
                ..Pointing::at(
                    1010.0 + column * step(SIZE.0) + n.aside.0,
                    640.0 + row * step(SIZE.1) + n.aside.1,
                )
            },
            optics: Optics {
                angle_rad: 0.4 + i.real(),
                elongation: 1.05,
                distortion_px: 1.5,
                ..Optics::round(n.fwhm_px)
            },
            camera: Camera::usual(),
            glow: SkyGlow {
                across,
                along,
                bowl: n.bowl,
                ..SkyGlow::even(level)
            },
            transparency: n.transparency,
            spoilt: Spoilt::default(),
            subs: 30,
            seed: 3000 + i as u64,
        },
    }
}
