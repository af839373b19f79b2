//! Finishing against the made-up sky: star colours, a neutral sky, hues through the stretch, and stars taken out.

use jigsawa_core::number::Convert;
use std::sync::OnceLock;

use jigsawa_core::doors::DoorError;
use jigsawa_core::filter::Filter;
use jigsawa_core::finish::saturation::hue;
use jigsawa_core::finish::white::{Index, KnownStar, StarColour};
use jigsawa_core::finish::{
    Crop, FinishSettings, GradientSettings, Link, Overview, Plan, Quiet, SkyFrom, Sources, Tone,
    WhiteFrom, develop, develop_part, looks_stretched, overview, overview_with,
};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::{clipped, median};
use jigsawa_core::space::{Point, Rect, Size};
use jigsawa_core::starless;
use jigsawa_core::wcs::{Fields, Projection, Sky, Wcs};
use jigsawa_sky::camera::Camera;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::{Crowd, SkyStar};

pub const WIDTH: usize = 900;
pub const HEIGHT: usize = 600;

/// Degrees of a pixel of the made-up sky.
const PIXEL_DEG: f64 = 4.0 / 3600.0;

/// A colour picture of the reef whose channels have other skies, other gradients and other strengths.
pub struct Reef {
    pub planes: [Plane; 3],
    /// The same without stars and without noise.
    pub behind: [Plane; 3],
    pub stars: Vec<SkyStar>,
    pub shots: [Shot; 3],
    pub overview: Overview,
}

/// What each channel is multiplied by: nothing like white.
pub const CAST: [f32; 3] = [1.6, 1.0, 0.55];

fn crowd() -> Crowd {
    Crowd {
        beacons: &[],
        per_cell: 16.0,
        magnitudes: (8.6, 15.5),
        seed: 77,
    }
}

pub fn reef() -> &'static Reef {
    static REEF: OnceLock<Reef> = OnceLock::new();
    REEF.get_or_init(|| {
        let shot = |filter, level: f64, across: f64, along: f64, seed| Shot {
            filter,
            size: Size::new(WIDTH, HEIGHT).unwrap(),
            pointing: Pointing::at(900.0, 900.0),
            optics: Optics::round(3.0),
            camera: Camera::usual(),
            glow: SkyGlow {
                across,
                along,
                ..SkyGlow::even(level)
            },
            transparency: 1.0,
            spoilt: Spoilt::default(),
            subs: 40,
            seed,
        };
        let shots = [
            shot(Filter::R, 290.0, 30.0, -18.0, 5),
            shot(Filter::G, 330.0, -25.0, 14.0, 6),
            shot(Filter::B, 370.0, 12.0, 30.0, 7),
        ];
        let clouds = Clouds::over(shots[0].extent());
        let scaled = |plane: Plane, k: f32| {
            Plane::new(plane.size(), plane.data().iter().map(|v| k * v).collect()).unwrap()
        };
        let planes: [Plane; 3] =
            std::array::from_fn(|c| scaled(shots[c].take(&crowd(), Some(&clouds)).plane, CAST[c]));
        let none = Crowd {
            per_cell: 0.0,
            ..crowd()
        };
        let behind = std::array::from_fn(|c| {
            let quiet = Shot {
                subs: u32::MAX,
                ..shots[c].clone()
            };
            scaled(quiet.take(&none, Some(&clouds)).plane, CAST[c])
        });
        let overview = overview([&planes[0], &planes[1], &planes[2]]).unwrap();
        Reef {
            stars: crowd().over(shots[0].extent()),
            overview,
            planes,
            behind,
            shots,
        }
    })
}

pub fn sources(planes: &[Plane; 3]) -> Sources<'_> {
    [&planes[0], &planes[1], &planes[2]]
}

/// What is wanted: sky and white, and nothing that changes what is measured.
pub fn plain(white: WhiteFrom) -> FinishSettings {
    FinishSettings {
        crop: Crop::None,
        gradient: Some(GradientSettings {
            shape: None,
            hints: jigsawa_core::balance::flatten::Hints::default(),
        }),
        neutral: Some(SkyFrom::Darkest),
        white,
        green: 0.0,
        quiet: Quiet {
            brightness: 0.0,
            colour: 0.0,
        },
        deconvolution_rounds: 0,
        tone: Tone::usual(Link::Linked),
        linear: false,
        range_compression: 0.0,
        contrast: 0.0,
        saturation: 1.0,
        hues: Vec::new(),
        stars: 1.0,
        sharpen: 0.0,
    }
}

/// Where the made-up sky lies on the real one: its plane's x runs against right ascension.
fn wcs() -> Wcs {
    Wcs::new(Fields {
        touches: Sky {
            ra_deg: 84.0,
            dec_deg: -5.0,
        },
        at: [450.0, 300.0],
        matrix: [[-PIXEL_DEG, 0.0], [0.0, PIXEL_DEG]],
        pole_deg: 180.0,
        equinox: Some(2000.0),
        projection: Projection::Tangent,
        system: None,
        sip: None,
    })
    .unwrap()
}

/// A catalogue of the field, its stars' places blurred by a tenth of a pixel and their colours by 0.02 mag.
fn catalogue(r: &Reef) -> Vec<KnownStar> {
    let map = r.shots[0].map();
    let wcs = wcs();
    r.stars
        .iter()
        .enumerate()
        .map(|(i, s)| {
            let at = map.apply(Point::new(s.x, s.y));
            let blur = |k: usize| ((i * k % 101).real() / 50.0 - 1.0).clamp(-1.0, 1.0);
            KnownStar {
                at: wcs.sky(Point::<jigsawa_core::space::FramePx>::new(
                    at.x + 0.1 * blur(7),
                    at.y + 0.1 * blur(13),
                )),
                colour: s.colour + 0.02 * blur(29),
                magnitude: s.magnitude,
            }
        })
        .collect()
}

/// Measured colours of bright stars after white, against the truth for a light that is white at index `white`: rms in
/// magnitudes over red and blue, and how many stars.
fn colour_error(r: &Reef, measured: &[StarColour], gains: [f32; 3], white: f64) -> (f64, usize) {
    let map = r.shots[0].map();
    let near = |at: Point<jigsawa_core::space::FramePx>| {
        r.stars
            .iter()
            .filter(|s| {
                let p = map.apply(Point::new(s.x, s.y));
                (p.x - at.x).hypot(p.y - at.y) < 1.5
            })
            .min_by(|a, b| a.magnitude.total_cmp(&b.magnitude))
    };
    let mut offs: Vec<f64> = Vec::new();
    for s in measured.iter().take(200) {
        let Some(truth) = near(s.at) else { continue };
        // Dust before a star dims all filters alike in the made-up sky.
        let [red, blue] = s.times(gains).magnitudes();
        offs.push(red - -0.48 * (truth.colour - white));
        offs.push(blue - 0.52 * (truth.colour - white));
    }
    let mean = offs.iter().map(|o| o * o).sum::<f64>() / offs.len().real();
    (mean.sqrt(), offs.len() / 2)
}

#[test]
fn two_hundred_stars_have_their_catalogue_colours_within_0_02_mag() {
    let r = reef();
    let settings = plain(WhiteFrom::Catalogue {
        known: catalogue(r),
        index: Index::BV,
    });
    let plan = Plan::measure(sources(&r.planes), &r.overview, &settings, Some(&wcs())).unwrap();
    let white = plan.found.white.as_ref().unwrap();
    let (rms, count) = colour_error(r, &plan.found.star_colours, white.gains, 0.65);
    assert!(count >= 190, "{count}");
    assert!(rms < 0.02, "{rms} {white:?}");
    let slopes = white.slopes.unwrap();
    assert!(
        (slopes[0] + 0.48).abs() < 0.03 && (slopes[1] - 0.52).abs() < 0.03,
        "{slopes:?}"
    );
}

#[test]
fn the_stars_themselves_give_their_colours_within_0_05_mag_of_their_mean() {
    let r = reef();
    let plan = Plan::measure(
        sources(&r.planes),
        &r.overview,
        &plain(WhiteFrom::Stars),
        None,
    )
    .unwrap();
    let white = plan.found.white.as_ref().unwrap();
    // The mean star of the crowd: 22 % at 0.05, the rest at 0.85.
    let (rms, count) = colour_error(
        r,
        &plan.found.star_colours,
        white.gains,
        0.22 * 0.05 + 0.78 * 0.85,
    );
    assert!(count >= 190 && rms < 0.05, "{count} {rms} {white:?}");
}

#[test]
fn stars_that_are_to_be_taken_out_give_the_white_of_those_that_are_looked_for() {
    let r = reef();
    let (found, _) = starless::find(&sources(&r.planes)).unwrap();
    let known = overview_with(sources(&r.planes), Some(&found)).unwrap();
    for (own, other) in r.overview.small.iter().zip(&known.small) {
        let bits = |p: &Plane| -> Vec<u32> { p.data().iter().map(|v| v.to_bits()).collect() };
        assert!(bits(own) == bits(other));
    }
    assert!(r.overview.covered == known.covered);
    let white = |overview: &Overview| {
        let settings = plain(WhiteFrom::Stars);
        let plan = Plan::measure(sources(&r.planes), overview, &settings, None).unwrap();
        plan.found.white.unwrap().gains
    };
    let (own, other) = (white(&r.overview), white(&known));
    let off = (0..3)
        .map(|c| (other[c] / own[c] - 1.0).abs())
        .fold(0.0, f32::max);
    assert!(off < 0.005, "{own:?} {other:?}");
}

#[test]
fn a_patch_becomes_white() {
    let r = reef();
    let patch = Rect {
        x: 430,
        y: 120,
        width: 60,
        height: 60,
    };
    let plan = Plan::measure(
        sources(&r.planes),
        &r.overview,
        &plain(WhiteFrom::Patch(patch)),
        None,
    )
    .unwrap();
    let mut tile = jigsawa_core::finish::Tile::default();
    plan.load(sources(&r.planes), patch, &mut tile).unwrap();
    plan.linear(&mut tile);
    let level = |c: usize| median(&mut tile.planes[c].clone());
    let (red, green, blue) = (level(0), level(1), level(2));
    assert!(
        (red / green - 1.0).abs() < 0.02 && (blue / green - 1.0).abs() < 0.02,
        "{red} {green} {blue}"
    );
}

#[test]
fn every_dark_patch_is_grey_within_a_tenth_of_the_noise_and_near_zero() {
    let r = reef();
    let plan = Plan::measure(
        sources(&r.planes),
        &r.overview,
        &plain(WhiteFrom::Stars),
        None,
    )
    .unwrap();
    let mut tile = jigsawa_core::finish::Tile::default();
    let whole = r.planes[0].size().rect();
    plan.load(sources(&r.planes), whole, &mut tile).unwrap();
    plan.linear(&mut tile);
    let gains = plan.found.white.as_ref().unwrap().gains;
    let (mut patches, mut coloured, mut worst) = (0, 0.0f32, 0.0f32);
    for y in (0..HEIGHT - 64).step_by(64) {
        for x in (0..WIDTH - 64).step_by(64) {
            let places = || (0..64 * 64).map(|i| (y + i / 64) * WIDTH + x + i % 64);
            // Nebula by the truth: what the darkest corner's sky, tilted as it is, does not explain.
            let noise = |c: usize| {
                let shot = &r.shots[c];
                shot.camera.noise(shot.glow.level, shot.subs).single() * CAST[c] * gains[c]
            };
            let nebula = |c: usize| {
                let shot = &r.shots[c];
                let light = places().map(|i| {
                    let at = Point::new((i % WIDTH).real(), (i / WIDTH).real());
                    let sky = jigsawa_sky::levels::true_sky(shot, at).single() * CAST[c];
                    r.behind[c].data()[i] - sky
                });
                light.sum::<f32>() / 4096.0 * gains[c]
            };
            if (0..3).any(|c| nebula(c) > 0.03 * noise(c)) {
                continue;
            }
            patches += 1;
            let levels: [f32; 3] = std::array::from_fn(|c| {
                // What stands out upwards is stars.
                let mut values: Vec<f32> = places().map(|i| tile.planes[c][i]).collect();
                clipped(&mut values, 3.0, 2.0, &mut Vec::new())
                    .unwrap()
                    .level
                    / noise(c)
            });
            let grey = levels.iter().sum::<f32>() / 3.0;
            for level in levels {
                coloured = coloured.max((level - grey).abs());
                worst = worst.max(level.abs());
            }
        }
    }
    assert!(patches > 15, "{patches}");
    assert!(coloured < 0.1 && worst < 0.25, "{coloured} {worst}");
}

#[test]
fn hues_of_the_nebula_pass_the_stretch_within_two_degrees() {
    let r = reef();
    let mut settings = plain(WhiteFrom::Stars);
    settings.contrast = 0.3;
    settings.sharpen = 0.25;
    settings.saturation = 1.2;
    let plan = Plan::measure(sources(&r.planes), &r.overview, &settings, None).unwrap();
    // What lies behind the stars, without noise: a hue is then one pixel's own.
    let part = Rect {
        x: 100,
        y: 0,
        width: 700,
        height: 420,
    };
    let mut tile = jigsawa_core::finish::Tile::default();
    plan.load(sources(&r.behind), part, &mut tile).unwrap();
    tile.stars.fill(0.0);
    plan.linear(&mut tile);
    let shown = develop_part(&plan, sources(&r.behind), None, part).unwrap();
    let (mut seen, mut worst) = (0, 0.0f32);
    for (i, screen) in shown.chunks_exact(3).enumerate().step_by(7) {
        let light: [f32; 3] = std::array::from_fn(|c| tile.planes[c][i]);
        let most = light.iter().copied().fold(f32::MIN, f32::max);
        let least = light.iter().copied().fold(f32::MAX, f32::min);
        if most - least < 6.0 * plan.found.noise {
            continue;
        }
        let off =
            (hue([screen[0], screen[1], screen[2]]) - hue(light) + 180.0).rem_euclid(360.0) - 180.0;
        seen += 1;
        worst = worst.max(off.abs());
    }
    assert!(seen > 10_000, "{seen}");
    assert!(worst < 2.0, "{worst}");
}

#[test]
fn any_number_of_threads_develops_the_same_bits() {
    let r = reef();
    let mut settings = plain(WhiteFrom::Stars);
    settings.quiet = Quiet {
        brightness: 0.6,
        colour: 0.9,
    };
    settings.contrast = 0.3;
    settings.sharpen = 0.3;
    let run = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new()
            .num_threads(threads)
            .build()
            .unwrap();
        pool.install(|| {
            let plan = Plan::measure(sources(&r.planes), &r.overview, &settings, None).unwrap();
            let mut bits: Vec<u32> = Vec::new();
            develop(
                &plan,
                sources(&r.planes),
                None,
                RowOrder::BottomUp,
                |rows, _| -> Result<(), DoorError> {
                    bits.extend(rows.iter().map(|v| v.to_bits()));
                    Ok(())
                },
            )
            .unwrap();
            bits
        })
    };
    let one = run(1);
    assert_eq!(one.len(), 3 * WIDTH * HEIGHT);
    assert!(one == run(4));
}

#[test]
fn a_linear_picture_is_told_from_a_stretched_one() {
    let r = reef();
    assert!(!looks_stretched(&r.overview));
    let plan = Plan::measure(
        sources(&r.planes),
        &r.overview,
        &plain(WhiteFrom::AsItIs),
        None,
    )
    .unwrap();
    let mut shown: [Plane; 3] = std::array::from_fn(|_| Plane::filled(r.planes[0].size(), 0.0));
    let whole = r.planes[0].size().rect();
    let rgb = develop_part(&plan, sources(&r.planes), None, whole).unwrap();
    for (c, plane) in shown.iter_mut().enumerate() {
        for (v, s) in plane
            .data_mut()
            .iter_mut()
            .zip(rgb.iter().skip(c).step_by(3))
        {
            *v = *s;
        }
    }
    assert!(looks_stretched(&overview(sources(&shown)).unwrap()));
}
