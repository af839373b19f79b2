//! What is found is a star, and the stars that are there are found.

use jigsawa_core::filter::Filter;
use jigsawa_core::space::{FramePx, Point};
use jigsawa_core::stars::{Flag, Settings, detect};

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
        let inside = |x: f64, n: usize| x > reach && x < n as f64 - reach;
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
        let at = Point::new(x as f64, y as f64);
        if is_true(m, at, 8.0) {
            continue;
        }
        // Hot pixels, and tracks of five pixels in a row.
        let track = if i % 2 == 0 { 1 } else { 5 };
        for k in 0..track {
            plane.data_mut()[(y + k) * width + x + k] += 300.0 + 20.0 * i as f32;
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
        let full = m.frame.shot.camera.full_adu as f32;
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
