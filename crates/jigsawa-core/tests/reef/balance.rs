//! Balanced masters have the reference's star fluxes and its sky.

use jigsawa_core::balance::ScaleBy;
use jigsawa_core::number::Convert;
use jigsawa_core::robust::median;
use jigsawa_core::space::{CanvasPx, Point};
use jigsawa_core::stars::{Catalogue, Settings, detect};

use crate::setup::{Group, Master, broad, groups};

#[test]
fn star_fluxes_agree_to_1_percent_after_normalizing() {
    let group = broad();
    let reference = &group.reference().stars;
    for i in 1..3 {
        let m = group.members[i];
        let stars = detect(&group.on_canvas(i, true), None, &Settings::default()).unwrap();
        // Small apertures hold less of a wider star.
        let widest = stars.fwhm_px.max(reference.fwhm_px);
        let whole = |c: &Catalogue| c.growth.as_ref().unwrap().carried(widest).value;
        let part = whole(&stars) / whole(reference);
        let mut ratios: Vec<f32> = stars
            .clean()
            .filter(|s| s.flux > 15.0 * s.flux_sigma)
            .filter_map(|s| {
                let same = reference.clean().find(|r| r.at.distance(s.at) < 0.5)?;
                (same.flux > 15.0 * same.flux_sigma).then(|| (part * s.flux / same.flux).single())
            })
            .collect();
        let count = ratios.len();
        let middle = median(&mut ratios);
        println!("{}: {count} stars, median ratio {middle:.4}", m.frame.file);
        assert!(count > 150, "{}: {count} stars", m.frame.file);
        assert!((middle - 1.0).abs() < 0.01, "{}: {middle}", m.frame.file);
    }
}

/// The true sky of a master at a place of the canvas, in its own units.
fn true_sky(group: &Group, i: usize, p: Point<CanvasPx>) -> Option<f64> {
    let m: &Master = group.members[i];
    let there = group.placements[i].apply(p);
    let size = m.size();
    size.holds(there).then(|| {
        let u = (there.x + 0.5) / size.width().real() - 0.5;
        let v = (there.y + 0.5) / size.height().real() - 0.5;
        let shot = &m.frame.shot;
        shot.camera.units(shot.glow.at(u, v))
    })
}

#[test]
fn the_background_meets_the_references_to_0_3_sigma_everywhere() {
    for group in groups() {
        let sigma = group.reference().true_noise();
        for i in 1..group.members.len() {
            let balance = &group.balances[i];
            let mut worst = 0.0f64;
            for y in (0..1200).step_by(40) {
                for x in (0..1800).step_by(40) {
                    let p = Point::new(f64::from(x), f64::from(y));
                    let (Some(want), Some(sky)) = (true_sky(group, 0, p), true_sky(group, i, p))
                    else {
                        continue;
                    };
                    let got = balance.apply(sky, p);
                    worst = worst.max((got - want).abs() / sigma);
                }
            }
            println!("{}: at most {worst:.3} sigma", group.members[i].frame.file);
            assert!(
                worst < 0.3,
                "{}: {worst} sigma",
                group.members[i].frame.file
            );
        }
    }
}

#[test]
fn narrow_frames_get_the_references_noise_and_broad_ones_its_stars() {
    for group in groups() {
        assert_eq!(group.balances[0].scale_by, ScaleBy::Reference);
        for (m, b) in group.members.iter().zip(&group.balances).skip(1) {
            let narrow = m.filter().band() == jigsawa_core::filter::Band::Narrow;
            let want = if narrow {
                ScaleBy::Noise
            } else {
                ScaleBy::Stars
            };
            assert_eq!(b.scale_by, want, "{}", m.frame.file);
            if narrow {
                let ratio = b.scale.value * m.true_noise() / group.reference().true_noise();
                // Light of the nebula adds to the noise of hydrogen nearly everywhere.
                assert!((ratio - 1.0).abs() < 0.06, "{}: {ratio}", m.frame.file);
            }
        }
    }
}
