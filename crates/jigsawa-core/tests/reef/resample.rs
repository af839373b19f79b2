//! Resampling keeps stars sharp and rings from bright ones out of the sky.

use jigsawa_core::balance::Balance;
use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Map;
use jigsawa_core::space::{Point, Size};
use jigsawa_core::stars::{Settings, detect};
use jigsawa_sky::camera::Camera;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::stars::Crowd;

use crate::setup::{broad, place};

#[test]
fn stars_grow_by_less_than_3_percent() {
    let group = broad();
    // Green, after the meridian flip and 1.2 degrees of turn, and blue, turned by 0.15.
    for i in [1, 2] {
        let before = group.members[i].stars.fwhm_px;
        let after = detect(&group.on_canvas(i, false), None, &Settings::default())
            .unwrap()
            .fwhm_px;
        let name = group.members[i].frame.file;
        println!("{name}: FWHM {before:.3} px, resampled {after:.3} px");
        assert!(
            (after / before - 1.0).abs() < 0.03,
            "{name}: {before} to {after}"
        );
    }
}

#[test]
fn no_pixel_beside_a_bright_star_falls_3_sigma_below_the_sky() {
    // A thousand times the sub-frames: what is left of the noise does not hide a ring.
    let camera = Camera::usual();
    let glow = SkyGlow::even(300.0);
    let shot = Shot {
        filter: Filter::R,
        size: Size::new(400, 400).unwrap(),
        pointing: Pointing::at(960.0, 640.0),
        optics: Optics::round(2.2),
        camera,
        glow,
        transparency: 1.0,
        spoilt: jigsawa_sky::spoilt::Spoilt::default(),
        subs: 40_000,
        seed: 5,
    };
    let crowd = Crowd {
        per_cell: 2.0,
        magnitudes: (7.0, 9.0),
        ..Crowd::lantern_reef()
    };
    let taken = shot.take(&crowd, None);
    let saturated = taken.truth.stars.iter().filter(|s| s.saturated).count();
    assert!(saturated >= 5, "{saturated} saturated stars");
    let stars = detect(&taken.plane, None, &Settings::default()).unwrap();
    // The level is seen on the flat cores themselves.
    let seen = stars.saturation.unwrap_or_default();
    assert!(
        (seen / camera.full_adu.single() - 1.0).abs() < 0.01,
        "{seen}"
    );
    let (s, c) = 1.2f64.to_radians().sin_cos();
    let turn = Map::from_rows([[c, -s, 3.4], [s, c, -2.3], [0.0, 0.0, 1.0]]).unwrap();
    let placed = place(
        &taken.plane,
        turn,
        Balance::identity(&stars),
        camera.full_adu.single(),
        shot.size,
    );
    let sky = camera.units(glow.level);
    let sigma = camera.noise(glow.level, 40);
    let lowest = placed
        .data()
        .iter()
        .filter(|v| v.is_finite())
        .fold(f32::INFINITY, |a, b| a.min(*b));
    let depth = (sky - f64::from(lowest)) / sigma;
    println!("lowest pixel {depth:.2} sigma below the sky");
    assert!(depth < 3.0, "{depth} sigma");
    // And no saturated core is overshot.
    let highest = placed.data().iter().fold(0.0f32, |a, b| a.max(*b));
    assert!(highest <= camera.full_adu.single(), "{highest}");
}

#[test]
fn the_flux_of_a_star_grows_with_the_area_of_the_canvas_pixels() {
    // The second camera's pixels are larger: on the reference's grid a star covers more of them.
    let group = crate::setup::narrow();
    let m = group.members[2];
    let stars = detect(&group.on_canvas(2, false), None, &Settings::default()).unwrap();
    let mut ratios: Vec<f32> = stars
        .clean()
        .filter(|s| s.flux > 40.0 * s.flux_sigma)
        .filter_map(|s| {
            let there = group.placements[2].apply(Point::new(s.at.x, s.at.y));
            let near = |t: &&jigsawa_core::stars::Star| t.at.distance(there) < 0.5;
            m.stars
                .clean()
                .find(near)
                .map(|t| (s.flux / t.flux).single())
        })
        .collect();
    let got = jigsawa_core::robust::median(&mut ratios);
    assert!((f64::from(got) * 0.81 - 1.0).abs() < 0.02, "{got}");
}
