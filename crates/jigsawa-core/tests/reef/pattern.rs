//! Matching by the pattern of a nebula, where stars are too few.

use jigsawa_core::matching::{Guess, MatchError, MatchSettings, match_patterns};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Point, ReferencePx, Size};
use rstest::rstest;

/// Cloud on many scales, with noise of its own for each `frame`.
fn nebula(seed: u64, guess: &Guess, frame: u64, size: Size) -> Plane {
    cloud(
        seed,
        guess,
        frame,
        size,
        &[(97.0, 1.0), (41.0, 0.6), (17.0, 0.35), (7.0, 0.2)],
    )
}

/// The same of these scales, in pixels, and weights.
fn cloud(seed: u64, guess: &Guess, frame: u64, size: Size, scales: &[(f64, f64)]) -> Plane {
    let hash = |i: i64, j: i64, k: u64| {
        let mut z = i.u64().wrapping_mul(0x9E37_79B9_7F4A_7C15)
            ^ j.u64().wrapping_mul(0xC2B2_AE3D_27D4_EB4F)
            ^ (k << 32)
            ^ seed;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11).real() / (1u64 << 53).real()
    };
    let smooth = |x: f64, y: f64, k: u64| {
        let (i, j) = (x.floor(), y.floor());
        let ease = |t: f64| t * t * (3.0 - 2.0 * t);
        let (u, v) = (ease(x - i), ease(y - j));
        let at = |a: i64, b: i64| hash(i.whole() + a, j.whole() + b, k);
        (at(0, 0) * (1.0 - u) + at(1, 0) * u) * (1.0 - v)
            + (at(0, 1) * (1.0 - u) + at(1, 1) * u) * v
    };
    let back = guess.map(size, size).unwrap().invert();
    Plane::from_fn(size, |x, y| {
        let p: Point<ReferencePx> = back.apply(Point::new(x.real(), y.real()));
        let light: f64 = scales
            .iter()
            .enumerate()
            .map(|(k, (scale, weight))| weight * smooth(p.x / scale, p.y / scale, k as u64))
            .sum();
        let noise = hash(x.whole(), y.whole(), 1000 + frame) - 0.5;
        (1000.0 + 200.0 * light * light + 20.0 * noise + 0.02 * x.real()).single()
    })
}

fn size() -> Size {
    Size::new(700, 560).unwrap()
}

#[rstest]
#[case::shifted(Guess { shift: [31.5, -12.25], ..Guess::default() })]
#[case::flipped(Guess { turn_deg: 180.7, shift: [-20.0, 14.0], ..Guess::default() })]
#[case::turned(Guess { turn_deg: 37.0, shift: [9.0, 5.0], ..Guess::default() })]
#[case::scaled(Guess { turn_deg: -11.0, scale: 1.3, ..Guess::default() })]
#[case::mirrored(Guess { turn_deg: 20.0, mirrored: true, shift: [4.0, -6.0], ..Guess::default() })]
fn a_nebula_without_stars_is_placed(#[case] guess: Guess) {
    let reference = nebula(1, &Guess::default(), 1, size());
    let frame = nebula(1, &guess, 2, size());
    let found = match_patterns(&reference, &frame, &MatchSettings::default()).unwrap();
    let truth = guess.map(size(), size()).unwrap();
    for (x, y) in [
        (100.0, 90.0),
        (350.0, 280.0),
        (600.0, 90.0),
        (150.0, 450.0),
        (580.0, 460.0),
    ] {
        let p = Point::<ReferencePx>::new(x, y);
        let off = found.map.apply(p).distance(truth.apply(p));
        println!(
            "{guess:?}: off {off:.3}, {} patches, {:?}",
            found.points, found.errors
        );
        assert!(off < 0.3, "{off} at {x} {y}, {:?}", found.errors);
    }
    assert!(found.pairs.is_empty() && found.points >= 6);
}

#[test]
fn a_smooth_nebula_is_placed_too() {
    let guess = Guess {
        turn_deg: 180.0,
        shift: [-18.0, 11.0],
        ..Guess::default()
    };
    let size = Size::new(640, 480).unwrap();
    let smooth = [(90.0, 1.0), (37.0, 0.6), (16.0, 0.35)];
    let reference = cloud(1, &Guess::default(), 1, size, &smooth);
    let frame = cloud(1, &guess, 2, size, &smooth);
    let found = match_patterns(&reference, &frame, &MatchSettings::default()).unwrap();
    let truth = guess.map(size, size).unwrap();
    for (x, y) in [(60.0, 60.0), (320.0, 240.0), (580.0, 420.0)] {
        let p = Point::<ReferencePx>::new(x, y);
        let off = found.map.apply(p).distance(truth.apply(p));
        assert!(off < 0.4, "{off} at {x} {y}, {:?}", found.errors);
    }
}

#[test]
fn other_nebulae_are_refused() {
    for seed in 2..6 {
        let reference = nebula(1, &Guess::default(), 1, size());
        let frame = nebula(seed, &Guess::default(), 2, size());
        let found = match_patterns(&reference, &frame, &MatchSettings::default());
        assert!(
            matches!(found, Err(MatchError::NoPattern { .. })),
            "{seed}: {found:?}"
        );
    }
}

#[test]
fn empty_frames_are_refused() {
    let noise = nebula(1, &Guess::default(), 1, size());
    for empty in [Plane::filled(size(), 7.0), Plane::filled(size(), f32::NAN)] {
        assert!(match_patterns(&noise, &empty, &MatchSettings::default()).is_err());
        assert!(match_patterns(&empty, &noise, &MatchSettings::default()).is_err());
    }
    let one = Plane::filled(Size::new(1, 1).unwrap(), 3.0);
    assert!(match_patterns(&one, &one, &MatchSettings::default()).is_err());
}
