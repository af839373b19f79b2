//! The demo's second field, for what Lantern Reef does not show: the Weathervane, a small spiral galaxy behind faint dust
//! that leaves no dark corner, with a bright star beside it.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::space::Size;

use crate::camera::Camera;
use crate::clouds::Clouds;
use crate::demo::{DemoFrame, around, bright_crowd};
use crate::fields::Field;
use crate::glow::SkyGlow;
use crate::optics::Optics;
use crate::pointing::Pointing;
use crate::shot::{Shot, Taken};
use crate::spoilt::Spoilt;
use crate::stars::Crowd;

/// The target's name.
pub const OBJECT: &str = "Weathervane";

/// File, filter card, filter, dither, sky with its slopes, and width of the stars.
type Master = (
    &'static str,
    &'static str,
    Filter,
    (f64, f64),
    (f64, f64, f64),
    f64,
);

/// Luminance, red, green and blue of the second field: dithered, each under its own gradient.
pub fn frames() -> Vec<DemoFrame> {
    let masters: [Master; 4] = [
        (
            "vane_L.fits",
            "Lum",
            Filter::L,
            (0.0, 0.0),
            (620.0, 22.0, -14.0),
            2.7,
        ),
        (
            "vane_R.fits",
            "Red",
            Filter::R,
            (4.2, -3.1),
            (270.0, 10.0, 6.0),
            2.9,
        ),
        (
            "vane_G.fits",
            "Green",
            Filter::G,
            (-6.4, 2.3),
            (320.0, -16.0, 9.0),
            3.0,
        ),
        (
            "vane_B.fits",
            "Blue",
            Filter::B,
            (2.6, 7.7),
            (360.0, 8.0, -18.0),
            3.2,
        ),
    ];
    let frame = |(i, m): (usize, Master)| {
        let (file, filter_card, filter, dither, glow, fwhm_px) = m;
        DemoFrame {
            object: OBJECT,
            file,
            filter_card,
            exposure_s: 120.0,
            camera_card: "Pebble 24",
            shot: Shot {
                filter,
                size: Size::new(1280, 860)
                    .unwrap_or_else(|| unreachable!("both sides are positive")),
                pointing: Pointing::at(990.0 + dither.0, 630.0 + dither.1),
                optics: Optics {
                    angle_rad: 0.7 + i.real(),
                    elongation: 1.05,
                    ..Optics::round(fwhm_px)
                },
                camera: Camera::usual(),
                glow: SkyGlow {
                    across: glow.1,
                    along: glow.2,
                    ..SkyGlow::even(glow.0)
                },
                transparency: 1.0 - 0.06 * i.real(),
                spoilt: Spoilt::default(),
                subs: 60,
                seed: 3000 + i as u64,
            },
        }
    };
    masters.into_iter().enumerate().map(frame).collect()
}

/// Takes the frames of the second field.
pub fn take(frames: &[DemoFrame], each: &mut dyn FnMut(&DemoFrame, Taken)) {
    let Some(extent) = around(frames) else { return };
    let clouds = Clouds::of(Field::Weathervane, extent);
    // Away from the plane of the galaxy stars are fewer.
    let crowd = Crowd {
        per_cell: 3.0,
        ..bright_crowd()
    };
    for f in frames {
        each(f, f.shot.take(&crowd, Some(&clouds)));
    }
}
