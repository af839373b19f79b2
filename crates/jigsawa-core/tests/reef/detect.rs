//! What is found is a star, and the stars that are there are found.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::space::{FramePx, Point, Size};
use jigsawa_core::stars::{Flag, Settings, detect};
use jigsawa_sky::camera::Camera;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::{Shot, StarTruth};
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::Crowd;

use crate::setup::{Master, master, masters};

fn is_true(m: &Master, at: Point<FramePx>, within: f64) -> bool {
    let mut truth = m.taken.truth.stars.iter();
    truth.any(|s| at.distance(Point::new(s.x, s.y)) < within)
}

#[test]
fn detections_are_stars_even_on_nebula() {
    for m in masters() {
        let found = &m.stars.stars;
        let wrong = found.iter().filter(|s| !is_true(m, s.at, 2.5)).count();
        println!("{}: {wrong} of {} are no stars", m.frame.file, found.len());
        assert!(found.len() > 300, "{}: {}", m.frame.file, found.len());
        assert!(wrong * 50 < found.len(), "{}: {wrong} wrong", m.frame.file);
    }
}

#[test]
fn bright_stars_are_found_and_full_ones_are_flagged() {
    for m in masters() {
        let reach = 25.0;
        let inside = |x: f64, n: usize| x > reach && x < n.real() - reach;
        let core = m.frame.shot.optics.pixel(0.0, 0.0);
        let (mut bright, mut missed) = (0, 0);
        for t in &m.taken.truth.stars {
            if !inside(t.x, m.size().width()) || !inside(t.y, m.size().height()) {
                continue;
            }
            let at = Point::new(t.x, t.y);
            let got = m.stars.stars.iter().find(|s| s.at.distance(at) < 2.0);
            if t.saturated {
                assert!(
                    got.is_none_or(|s| s.flags.has(Flag::Saturated)),
                    "{t:?}: {got:?}"
                );
            } else if t.flux * core > 60.0 * m.true_noise() {
                bright += 1;
                missed += usize::from(got.is_none());
            }
        }
        println!("{}: {missed} of {bright} bright stars missed", m.frame.file);
        assert!(
            bright > 20 && missed * 25 <= bright,
            "{}: {missed} of {bright}",
            m.frame.file
        );
    }
}

#[test]
fn hot_pixels_and_cosmic_rays_are_no_stars() {
    let m = master(&Filter::G);
    let mut plane = m.taken.plane.clone();
    let width = plane.size().width();
    let before = m.stars.stars.len();
    let mut hurt: Vec<Point<FramePx>> = Vec::new();
    for i in 0..400usize {
        let (x, y) = (30 + (i * 7919) % 1740, 30 + (i * 104_729) % 1140);
        let at = Point::new(x.real(), y.real());
        if is_true(m, at, 8.0) {
            continue;
        }
        // Hot pixels, and tracks of five pixels in a row.
        let track = if i % 2 == 0 { 1 } else { 5 };
        for k in 0..track {
            plane.data_mut()[(y + k) * width + x + k] += 300.0 + 20.0 * i.single();
        }
        hurt.push(at);
    }
    let stars = detect(&plane, Some(62_000.0), &Settings::default()).unwrap();
    let taken = |p: &&Point<FramePx>| stars.stars.iter().any(|s| s.at.distance(**p) < 5.0);
    let fooled = hurt.iter().filter(taken).count();
    println!(
        "{fooled} of {} taken for stars, {before} stars before",
        hurt.len()
    );
    assert!(
        hurt.len() > 200 && fooled * 50 < hurt.len(),
        "{fooled} of {}",
        hurt.len()
    );
}

#[test]
fn widths_and_shapes_are_those_of_the_optics() {
    for m in masters() {
        let o = m.frame.shot.optics;
        // A pixel widens a profile: its variance of 1/12 adds to the star's, both ways.
        let s2 = (o.fwhm_px / 2.3548).powi(2) + 1.0 / 12.0;
        let want = 2.3548 * s2.sqrt();
        let got = m.stars.fwhm_px;
        println!("{}: FWHM {got:.3} px for {want:.3}", m.frame.file);
        assert!(
            (got / want - 1.0).abs() < 0.03,
            "{}: {got} for {want}",
            m.frame.file
        );
    }
}

#[test]
fn no_saturation_level_is_invented_where_few_cores_are_flat() {
    for m in masters() {
        let seen = detect(&m.taken.plane, None, &Settings::default()).unwrap();
        let full = m.frame.shot.camera.full_adu.single();
        println!("{}: saturation seen at {:?}", m.frame.file, seen.saturation);
        assert!(
            seen.saturation
                .is_none_or(|s| (s / full - 1.0).abs() < 0.05),
            "{}: {:?}",
            m.frame.file,
            seen.saturation
        );
        let flagged = |s: &&jigsawa_core::stars::Star| s.flags.has(Flag::Saturated);
        for s in seen.stars.iter().filter(flagged) {
            assert!(s.peak > 0.5 * full, "{}: {s:?}", m.frame.file);
        }
    }
}

/// The least standard error of a centre's x that any estimator without bias can have, from the noise of
/// every pixel (Cramér 1946, Rao 1945): 1 / sqrt(sum of slope^2 / variance).
fn cramer_rao(shot: &Shot, t: &StarTruth) -> f64 {
    let camera = &shot.camera;
    let flux_e = t.flux * camera.gain_e_adu;
    let mut information = 0.0;
    for dy in -15..=15 {
        for dx in -15..=15 {
            let (px, py) = (t.x.round() + f64::from(dx), t.y.round() + f64::from(dy));
            let at = |x: f64| flux_e * shot.optics.pixel(px - x, py - t.y);
            let slope = (at(t.x + 0.01) - at(t.x - 0.01)) / 0.02;
            let light = shot.glow.level + at(t.x);
            let variance = (light + camera.read_noise_e.powi(2)) / f64::from(shot.subs);
            information += slope * slope / variance;
        }
    }
    1.0 / information.sqrt()
}

#[test]
fn centres_are_known_nearly_as_well_as_the_photons_allow() {
    for fwhm_px in [2.4, 3.2, 4.5] {
        let shot = Shot {
            filter: Filter::G,
            size: Size::new(1600, 1600).unwrap(),
            pointing: Pointing::at(960.0, 640.0),
            optics: Optics::round(fwhm_px),
            camera: Camera::usual(),
            glow: SkyGlow::even(300.0),
            transparency: 1.0,
            spoilt: Spoilt::default(),
            subs: 10,
            seed: 11,
        };
        let crowd = Crowd {
            beacons: &[],
            per_cell: 2.0,
            magnitudes: (11.0, 16.5),
            seed: 99,
        };
        let taken = shot.take(&crowd, None);
        let found = detect(&taken.plane, Some(62_000.0), &Settings::default()).unwrap();
        // By signal-to-noise: how far centres scatter against the bound, and against what they say.
        for (low, high) in [(10.0, 30.0), (30.0, 100.0), (100.0, 1000.0)] {
            let (mut ratios, mut honest) = (Vec::new(), Vec::new());
            for s in found
                .clean()
                .filter(|s| (low..high).contains(&(s.flux / s.flux_sigma)))
            {
                let near = |t: &&StarTruth| s.at.distance(Point::new(t.x, t.y)) < 1.5;
                let Some(t) = taken.truth.stars.iter().find(near) else {
                    continue;
                };
                let off = [s.at.x - t.x, s.at.y - t.y];
                for d in off {
                    ratios.push((d / cramer_rao(&shot, t)).powi(2));
                    honest.push((d / s.position_sigma_px).powi(2));
                }
            }
            if ratios.len() < 60 {
                continue;
            }
            let rms = |v: &mut Vec<f64>| {
                // Without the hundredth that a hidden neighbour pulls away.
                v.sort_by(f64::total_cmp);
                v.truncate(v.len() * 99 / 100);
                (v.iter().sum::<f64>() / v.len().real()).sqrt()
            };
            let (bound, told) = (rms(&mut ratios), rms(&mut honest));
            println!(
                "FWHM {fwhm_px}, S/N {low} to {high}: {} centres, {bound:.2} of the Cramér-Rao bound, {told:.2} of \
                 their own errors",
                ratios.len()
            );
            assert!(bound < 1.4, "FWHM {fwhm_px}, S/N {low}: {bound}");
            // Beyond, a star's own photons count, which a frame whose gain is not known does not tell; matching
            // takes no star for better than 0.02 px anyway.
            let honest = (0.6..1.4).contains(&told) || high > 100.0;
            assert!(honest, "FWHM {fwhm_px}, S/N {low}: {told}");
        }
    }
}
