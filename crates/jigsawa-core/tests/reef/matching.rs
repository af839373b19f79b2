//! Matching finds what is there and refuses what is not.

use jigsawa_core::matching::{MatchError, Spot, match_frames};
use jigsawa_core::space::{FramePx, Point, ReferencePx, Size};
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::stars::Crowd;
use rstest::rstest;

const SIDE: usize = 1200;

/// The brightest stars of a field, as matching sees them, moved a little as centroids are.
fn list<S>(crowd: &Crowd, pointing: &Pointing, count: usize) -> Vec<Spot<S>> {
    let size = Size::new(SIDE, SIDE).unwrap();
    let map = pointing.map(size);
    let (x, y) = pointing.centre;
    let reach = SIDE as f64 / pointing.scale;
    let mut stars = crowd.over((x - reach, y - reach, x + reach, y + reach));
    stars.sort_by(|a, b| a.magnitude.total_cmp(&b.magnitude));
    stars
        .iter()
        .map(|s| map.apply(Point::new(s.x, s.y)))
        .filter(|p| size.holds(*p))
        .take(count)
        .enumerate()
        .map(|(index, p)| {
            let wobble = |k: f64| 0.05 * ((p.x * k).sin() + (p.y * k * 1.3).cos());
            Spot {
                at: Point::new(p.x + wobble(91.7), p.y + wobble(57.1)),
                sigma_px: 0.05,
                clean: true,
                index,
            }
        })
        .collect()
}

fn crowd(seed: u64) -> Crowd {
    Crowd {
        seed,
        ..Crowd::lantern_reef()
    }
}

#[rstest]
#[case::shifted(Pointing::at(830.0, 640.0), 300)]
#[case::flipped(Pointing { turn_deg: 181.2, ..Pointing::at(950.0, 650.0) }, 300)]
#[case::turned(Pointing { turn_deg: 67.0, ..Pointing::at(900.0, 600.0) }, 300)]
#[case::mirrored(Pointing { mirrored: true, turn_deg: 12.0, ..Pointing::at(960.0, 640.0) }, 300)]
#[case::half_scale(Pointing { scale: 0.5, ..Pointing::at(960.0, 640.0) }, 500)]
#[case::quarter_scale(Pointing { scale: 0.25, turn_deg: 33.0, ..Pointing::at(960.0, 640.0) }, 1500)]
#[case::double_scale(Pointing { scale: 2.0, ..Pointing::at(900.0, 640.0) }, 200)]
#[case::few_stars(Pointing { turn_deg: 5.0, ..Pointing::at(950.0, 630.0) }, 25)]
#[case::a_third_in_common(Pointing::at(960.0 + 800.0, 640.0), 300)]
fn a_frame_of_the_same_field_is_placed(#[case] pointing: Pointing, #[case] count: usize) {
    let size = Size::new(SIDE, SIDE).unwrap();
    let home = Pointing::at(960.0, 640.0);
    let sky = crowd(4242);
    let reference = list::<ReferencePx>(&sky, &home, 300.min(count.max(25)));
    let frame = list::<FramePx>(&sky, &pointing, count);
    let found = match_frames(&reference, &frame, size, size).unwrap();
    let truth = home.map(size).invert().then(&pointing.map(size)).unwrap();
    // Judged where both frames have stars.
    for (r, _) in &found.pairs {
        let p = reference[*r].at;
        let want = truth.apply(Point::new(p.x, p.y));
        assert!(found.map.apply(p).distance(want) < 0.25 * pointing.scale.max(1.0));
    }
}

#[test]
fn stars_in_another_order_of_brightness_are_matched_all_the_same() {
    let size = Size::new(SIDE, SIDE).unwrap();
    let sky = crowd(4242);
    let reference = list::<ReferencePx>(&sky, &Pointing::at(960.0, 640.0), 400);
    // A narrow line shows two thirds of the stars, red ones first.
    let mut frame = list::<FramePx>(&sky, &Pointing::at(980.0, 610.0), 400);
    frame.retain(|s| (s.index * 7919) % 3 != 0);
    frame.sort_by_key(|s| (s.index * 7919) % 401);
    let found = match_frames(&reference, &frame, size, size).unwrap();
    assert!(found.pairs.len() > 150, "{} pairs", found.pairs.len());
}

#[test]
fn two_different_fields_are_never_matched() {
    let size = Size::new(SIDE, SIDE).unwrap();
    for seed in 0..200u64 {
        let counts = [30, 120, 500, 1500][seed as usize % 4];
        let reference = list::<ReferencePx>(&crowd(seed), &Pointing::at(960.0, 640.0), counts);
        let frame = list::<FramePx>(&crowd(seed + 5000), &Pointing::at(300.0, 90.0), counts);
        let got = match_frames(&reference, &frame, size, size);
        assert!(
            matches!(got, Err(MatchError::NoMatch { .. })),
            "seed {seed}, {counts} stars: {got:?}"
        );
    }
}

#[test]
fn too_few_stars_are_said_and_not_matched() {
    let size = Size::new(SIDE, SIDE).unwrap();
    let sky = crowd(4242);
    let pointing = Pointing::at(960.0, 640.0);
    let many = list::<ReferencePx>(&sky, &pointing, 100);
    let few = list::<FramePx>(&sky, &pointing, 5);
    assert!(matches!(
        match_frames(&many, &few, size, size),
        Err(MatchError::TooFewStars {
            found: 5,
            in_reference: false,
            ..
        })
    ));
}
