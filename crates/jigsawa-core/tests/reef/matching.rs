//! Matching finds what is there and refuses what is not.

use jigsawa_core::matching::{Guess, MatchError, MatchSettings, Spot, match_frames};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Distortion, Map, Model};
use jigsawa_core::space::{FramePx, Point, ReferencePx, Size};
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::stars::Crowd;
use rstest::rstest;

use crate::setup::figure;

const SIDE: usize = 1200;

/// The brightest stars of a field, as matching sees them, moved a little as centroids are.
fn list<S>(crowd: &Crowd, pointing: &Pointing, count: usize) -> Vec<Spot<S>> {
    let size = Size::new(SIDE, SIDE).unwrap();
    let map = pointing.map(size);
    let (x, y) = pointing.centre;
    let reach = SIDE.real() / pointing.scale;
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
    let found = match_frames(&reference, &frame, (size, size), &MatchSettings::default()).unwrap();
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
    let found = match_frames(&reference, &frame, (size, size), &MatchSettings::default()).unwrap();
    assert!(found.pairs.len() > 150, "{} pairs", found.pairs.len());
}

#[test]
fn two_different_fields_are_never_matched() {
    let size = Size::new(SIDE, SIDE).unwrap();
    for seed in 0..80u64 {
        let counts = [30, 120, 500, 1500][seed.index() % 4];
        let reference = list::<ReferencePx>(&crowd(seed), &Pointing::at(960.0, 640.0), counts);
        let frame = list::<FramePx>(&crowd(seed + 5000), &Pointing::at(300.0, 90.0), counts);
        let got = match_frames(&reference, &frame, (size, size), &MatchSettings::default());
        assert!(
            matches!(got, Err(MatchError::NoMatch { .. })),
            "seed {seed}, {counts} stars: {got:?}"
        );
    }
}

#[test]
fn few_stars_of_different_fields_are_not_matched_either() {
    let size = Size::new(SIDE, SIDE).unwrap();
    for seed in 0..300u64 {
        let (few, many) = (
            [4, 6, 9, 14, 25][seed.index() % 5],
            [6, 25, 200][seed.index() % 3],
        );
        let reference = list::<ReferencePx>(&crowd(seed), &Pointing::at(960.0, 640.0), many);
        let frame = list::<FramePx>(&crowd(seed + 9000), &Pointing::at(300.0, 90.0), few);
        let got = match_frames(&reference, &frame, (size, size), &MatchSettings::default());
        assert!(got.is_err(), "seed {seed}, {few} and {many} stars: {got:?}");
    }
}

#[test]
fn five_stars_are_enough_where_the_turn_is_a_usual_one() {
    let size = Size::new(SIDE, SIDE).unwrap();
    let (sky, home) = (crowd(4242), Pointing::at(960.0, 640.0));
    let flipped = Pointing {
        turn_deg: 180.0,
        ..Pointing::at(951.0, 650.0)
    };
    let reference = list::<ReferencePx>(&sky, &home, 5);
    let frame = list::<FramePx>(&sky, &flipped, 5);
    let found = match_frames(&reference, &frame, (size, size), &MatchSettings::default()).unwrap();
    assert_eq!(found.pairs.len(), 5);
}

#[test]
fn a_guess_of_the_turn_finds_a_few_stars_at_any_turn() {
    let size = Size::new(SIDE, SIDE).unwrap();
    let (sky, home) = (crowd(4242), Pointing::at(960.0, 640.0));
    let turned = Pointing {
        turn_deg: 67.3,
        ..Pointing::at(951.0, 650.0)
    };
    let reference = list::<ReferencePx>(&sky, &home, 5);
    let frame = list::<FramePx>(&sky, &turned, 5);
    let alone = match_frames(&reference, &frame, (size, size), &MatchSettings::default());
    assert!(matches!(
        alone,
        Err(MatchError::TooFewStars { found: 5, .. })
    ));
    let guess = Guess {
        turn_deg: 67.0,
        shift: [30.0, -12.0],
        ..Guess::default()
    };
    let settings = MatchSettings {
        guesses: vec![guess.map(size, size).unwrap()],
        ..MatchSettings::default()
    };
    let found = match_frames(&reference, &frame, (size, size), &settings).unwrap();
    assert!(found.pairs.len() >= 3);
    // A wrong guess does no harm where the stars suffice.
    let many = (list(&sky, &home, 200), list(&sky, &turned, 200));
    let wrong = Guess {
        turn_deg: 12.0,
        ..guess
    };
    let settings = MatchSettings {
        guesses: vec![wrong.map(size, size).unwrap()],
        ..MatchSettings::default()
    };
    let found = match_frames(&many.0, &many.1, (size, size), &settings).unwrap();
    assert!(found.pairs.len() > 100);
}

/// A lens of so many pixels in the corners of a square frame.
fn lens(corner_sigma_px: f64) -> Distortion {
    let k = corner_sigma_px / 2.0 / 2f64.sqrt();
    let (mut x, mut y) = (vec![0.0; 10], vec![0.0; 10]);
    (x[6], x[8], y[7], y[9]) = (k, k, k, k);
    let half = SIDE.real() / 2.0;
    Distortion::new([half; 2], [half; 2], x, y).unwrap()
}

#[rstest]
#[case(1.0)]
#[case(5.0)]
#[case(-5.0)]
fn a_distorted_corner_is_followed_and_not_thrown_away(#[case] corner_sigma_px: f64) {
    let size = Size::new(SIDE, SIDE).unwrap();
    let (sky, home) = (crowd(4242), Pointing::at(960.0, 640.0));
    let turned = Pointing {
        turn_deg: 3.0,
        ..Pointing::at(951.0, 650.0)
    };
    let reference = list::<ReferencePx>(&sky, &home, 600);
    let mut frame = list::<FramePx>(&sky, &turned, 600);
    for s in &mut frame {
        let (x, y) = lens(corner_sigma_px).apply(s.at.x, s.at.y);
        s.at = Point::new(x, y);
    }
    let found = match_frames(&reference, &frame, (size, size), &MatchSettings::default()).unwrap();
    assert!(
        matches!(found.model, Model::Smooth(3..)),
        "{:?}",
        found.model
    );
    assert!(found.errors.rms_px < 0.12, "{:?}", found.errors);
    let plain = home.map(size).invert().then(&turned.map(size)).unwrap();
    let truth = plain.distorted(lens(corner_sigma_px)).unwrap();
    for corner in [
        (60.0, 60.0),
        (1140.0, 60.0),
        (60.0, 1140.0),
        (1140.0, 1140.0),
    ] {
        let p = Point::new(corner.0, corner.1);
        let off = found
            .map
            .apply(Point::new(p.x, p.y))
            .distance(truth.apply(p));
        assert!(off < 0.08, "{corner_sigma_px}: {off} at {corner:?}");
    }
    // Who insists on a stiff model is told what it costs.
    let stiff = MatchSettings {
        model: Some(Model::Similarity),
        ..MatchSettings::default()
    };
    match match_frames(&reference, &frame, (size, size), &stiff) {
        Ok(m) => assert!(m.errors.rms_px > 1.2 * found.errors.rms_px),
        Err(e) => assert!(matches!(e, MatchError::TooRough { .. }), "{e}"),
    }
}

/// A list of places as matching sees it.
fn spots<S>(list: &[(Point<FramePx>, usize)]) -> Vec<Spot<S>> {
    let spot = |(index, (p, _)): (usize, &(Point<FramePx>, usize))| Spot {
        at: Point::new(p.x, p.y),
        sigma_px: 0.05,
        clean: true,
        index,
    };
    list.iter().enumerate().map(spot).collect()
}

#[test]
fn twenty_thousand_stars_are_matched_and_a_seventh_in_common_suffices() {
    let size = Size::new(6000, 4000).unwrap();
    let sky = |i: u64, k: u64| {
        let mut z = (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ (k << 40);
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11).real() / (1u64 << 53).real()
    };
    let stars: Vec<(f64, f64)> = (0..80_000)
        .map(|i| (12_000.0 * sky(i, 1), 8000.0 * sky(i, 2)))
        .collect();
    let seen = |map: &Map<FramePx, FramePx>, noise: u64| -> Vec<(Point<FramePx>, usize)> {
        let all = stars.iter().map(|(x, y)| map.apply(Point::new(*x, *y)));
        all.enumerate()
            .filter(|(i, p)| size.holds(*p) && sky(*i as u64, noise) > 0.1)
            .map(|(i, p)| (Point::new(p.x + 0.1 * sky(i as u64, noise + 1), p.y), i))
            .collect()
    };
    let (s, c) = 0.7f64.sin_cos();
    let whole = [[c, -s, 2000.0], [s, c, -2500.0], [0.0, 0.0, 1.0]];
    let corner = [[1.0, 0.0, -3700.0], [0.0, 1.0, -2400.0], [0.0, 0.0, 1.0]];
    let home = seen(&Map::shift(-500.0, -300.0), 10);
    assert!(home.len() > 15_000);
    for (rows, shared) in [(whole, 0.3), (corner, 0.15)] {
        let there = seen(&Map::from_rows(rows).unwrap(), 20);
        let (a, b) = (spots::<ReferencePx>(&home), spots::<FramePx>(&there));
        let found = match_frames(&a, &b, (size, size), &MatchSettings::default()).unwrap();
        let right = found
            .pairs
            .iter()
            .filter(|(r, f)| home[*r].1 == there[*f].1);
        assert!(right.count().real() > 0.999 * found.pairs.len().real());
        assert!(found.pairs.len().real() > 0.7 * shared * a.len().real());
        assert!(found.errors.corner_sigma_px < 0.01, "{:?}", found.errors);
    }
}

fn thorough() -> MatchSettings {
    MatchSettings {
        thorough: true,
        ..MatchSettings::default()
    }
}

/// Two short lists with some stars in common and others that only one shows, as two filters give them.
fn short_lists(
    seed: u64,
    common: usize,
    own: usize,
) -> (Vec<Spot<ReferencePx>>, Vec<Spot<FramePx>>) {
    let home = Pointing::at(960.0, 640.0);
    let away = Pointing {
        turn_deg: 40.0 * seed.real(),
        ..Pointing::at(930.0, 655.0)
    };
    let shared = crowd(seed + 70);
    let mut reference = list::<ReferencePx>(&shared, &home, common);
    let mut frame: Vec<Spot<FramePx>> = {
        // The same stars, wherever they fall.
        let size = Size::new(SIDE, SIDE).unwrap();
        let (a, b) = (home.map(size), away.map(size));
        let to = a.invert().then(&b).unwrap();
        reference
            .iter()
            .map(|s| {
                let p = to.apply(Point::new(s.at.x, s.at.y));
                Spot {
                    at: Point::new(p.x, p.y),
                    sigma_px: 0.05,
                    clean: true,
                    index: s.index,
                }
            })
            .filter(|s: &Spot<FramePx>| size.holds(s.at))
            .collect()
    };
    reference.extend(list::<ReferencePx>(&crowd(seed + 300), &home, own));
    frame.extend(list::<FramePx>(&crowd(seed + 600), &home, own));
    // Through another filter another order of brightness.
    let mix = |n: usize, i: usize, k: usize| (i * k) % n;
    let (n, m) = (reference.len(), frame.len());
    let mut order: Vec<usize> = (0..n).collect();
    order.sort_by_key(|i| mix(10_007, *i + 1, 7919 + seed.index()));
    let reference = order
        .iter()
        .enumerate()
        .map(|(k, i)| Spot {
            index: k,
            ..reference[*i]
        })
        .collect();
    let mut order: Vec<usize> = (0..m).collect();
    order.sort_by_key(|i| mix(10_009, *i + 1, 104_729 + seed.index()));
    let frame = order
        .iter()
        .enumerate()
        .map(|(k, i)| Spot {
            index: k,
            ..frame[*i]
        })
        .collect();
    (reference, frame)
}

#[rstest]
#[case(8, 8)]
#[case(15, 30)]
#[case(25, 50)]
fn short_lists_with_few_stars_in_common_are_matched(#[case] common: usize, #[case] own: usize) {
    let size = Size::new(SIDE, SIDE).unwrap();
    let (mut found, mut wanted) = (0, 0);
    for seed in 0..12 {
        let (reference, frame) = short_lists(seed, common, own);
        // Turned, some of the shared stars leave the frame; fewer than seven prove nothing.
        if frame.len() < own + common.min(8) - 1 {
            continue;
        }
        wanted += 1;
        if let Ok(m) = match_frames(&reference, &frame, (size, size), &thorough()) {
            let turn = m.map.describe(size.centre()).rotation_deg - 40.0 * seed.real();
            let off = (turn + 180.0).rem_euclid(360.0) - 180.0;
            assert!(
                off.abs() < 0.3 || (off.abs() - 360.0).abs() < 0.3,
                "seed {seed}: {off}"
            );
            found += 1;
        }
    }
    figure(
        120 + common.u32(),
        &format!("{common} stars in common, {own} others in each list"),
        &format!("{found} of {wanted} matched, none wrongly"),
    );
    assert_eq!(found, wanted);
}

#[test]
fn short_lists_of_different_fields_are_not_matched() {
    let size = Size::new(SIDE, SIDE).unwrap();
    for seed in 0..12 {
        let (reference, _) = short_lists(seed, 8, 20);
        let (_, frame) = short_lists(seed + 40, 8, 20);
        let got = match_frames(&reference, &frame, (size, size), &thorough());
        assert!(got.is_err(), "seed {seed}: {got:?}");
    }
}

#[test]
fn too_few_stars_are_said_and_not_matched() {
    let size = Size::new(SIDE, SIDE).unwrap();
    let sky = crowd(4242);
    let pointing = Pointing::at(960.0, 640.0);
    let many = list::<ReferencePx>(&sky, &pointing, 100);
    let few = list::<FramePx>(&sky, &pointing, 2);
    assert!(matches!(
        match_frames(&many, &few, (size, size), &MatchSettings::default()),
        Err(MatchError::TooFewStars {
            found: 2,
            in_reference: false,
            ..
        })
    ));
}
