//! Errors that are told are true: over many made-up frames 60 to 76 % of what is off lies within the told one sigma.

use jigsawa_core::balance::{Lattice, Member, Samples, ScaleBy, Sky, Wish as Levels, match_to};
use jigsawa_core::filter::Filter;
use jigsawa_core::matching::{Wish, match_frames, spots};
use jigsawa_core::placement::{Map, Placement, Registration};
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{FramePx, ReferencePx};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::levels::Other;
use jigsawa_sky::master::resampled;
use jigsawa_sky::optics::Wings;

fn find(plane: &Plane) -> Catalogue {
    detect(plane, Some(62_000.0), &Settings::default()).unwrap()
}

/// Pairs in all the ways that frames differ: seeing, brightness, numbers of stars, hands that they went through.
fn pairs(count: u64) -> impl Iterator<Item = (Other, bool)> {
    (0..count).map(|seed| {
        let part = |k: u64| (seed * k % 17) as f64 / 16.0;
        let other = Other {
            filter: Filter::R,
            stars: 40 + 12 * (seed as usize % 13),
            transparency: 0.6 + 0.5 * part(5),
            fwhm_px: 2.7 + 1.2 * part(7),
            glow: SkyGlow::even(250.0 + 300.0 * part(3)),
            shift: (8.0 * part(11) - 4.0, 6.0 * part(13) - 3.0),
            turn_deg: 0.6 * part(9) - 0.3,
            nebula: false,
            size: (560, 420),
            seed: 4000 + seed,
        };
        (other, seed % 2 == 1)
    })
}

/// The part of some pulls that lies within one.
fn within(pulls: &[f64]) -> f64 {
    pulls.iter().filter(|p| p.abs() < 1.0).count() as f64 / pulls.len() as f64
}

#[test]
fn corners_and_scales_are_as_sure_as_they_are_told() {
    let (mut corners, mut scales) = (Vec::new(), Vec::new());
    for (other, soft) in pairs(70) {
        let [(a, p), (b, q)] = other.take_as(|shot, _| shot.optics.wings = Some(Wings::USUAL));
        let second = if soft {
            resampled(&q.plane, (0.4, 0.3), 3)
        } else {
            q.plane
        };
        // What resampling has moved.
        let moved = if soft { (-0.4, -0.3) } else { (0.0, 0.0) };
        let stars = [find(&p.plane), find(&second)];
        let size = a.size;
        let truth: Registration = a.map().invert().then(&b.map()).unwrap().retyped();
        let found = match_frames(
            &spots::<ReferencePx>(&stars[0]),
            &spots::<FramePx>(&stars[1]),
            (size, size),
            &Wish::default(),
        );
        let Ok(found) = found else { continue };
        for corner in size.corners::<ReferencePx>() {
            let (is, told) = (found.map.apply(corner), truth.apply(corner));
            corners.push((is.x - told.x - moved.0) / found.errors.corner_px);
            corners.push((is.y - told.y - moved.1) / found.errors.corner_px);
        }
        let placements: [Placement; 2] = [Map::shift(0.0, 0.0), found.map.retyped()];
        let lattice = Lattice::over(size);
        let planes = [&p.plane, &second];
        let sky = |i: usize| Sky {
            member: Member {
                catalogue: &stars[i],
                placement: &placements[i],
                size,
                filter: &Filter::R,
                exposure_s: None,
                gain_e_adu: None,
            },
            samples: Samples::take(
                planes[i],
                &placements[i],
                &stars[i],
                Some(62_000.0),
                lattice,
            ),
        };
        let b = match_to(&sky(0), &sky(1), &Levels::default())
            .unwrap()
            .balance;
        if b.scale_by == ScaleBy::Stars {
            scales
                .push((b.scale.value * other.transparency - 1.0) / (b.scale.sigma / b.scale.value));
        }
    }
    let (c, s) = (within(&corners), within(&scales));
    let rms = |v: &[f64]| (v.iter().map(|p| p * p).sum::<f64>() / v.len() as f64).sqrt();
    println!(
        "corners: {:.0} % of {} within one sigma (rms {:.2}); scales: {:.0} % of {} (rms {:.2})",
        100.0 * c,
        corners.len(),
        rms(&corners),
        100.0 * s,
        scales.len(),
        rms(&scales)
    );
    assert!(corners.len() > 500 && scales.len() > 60);
    // What is told is the error of the worst corner; all four are looked at here.
    assert!((0.60..0.86).contains(&c), "{c}");
    assert!((0.60..0.82).contains(&s), "{s}");
}
