//! The numerics end, and do not panic, whatever planes come in: bits by chance, one value, steps, huge and tiny values,
//! holes, strips.

use jigsawa_core::finish::{FinishSettings, Plan, Shade, WhiteFrom, overview};
use jigsawa_core::matching::{self, match_patterns, spots};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Map;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use jigsawa_core::starless::find;
use jigsawa_core::stars::{Settings, detect};
use jigsawa_core::survey::{measure, measure_even};
use rstest::rstest;

use crate::finish::plain;

/// A number by chance for each pixel.
fn chance(x: usize, y: usize) -> u32 {
    let mut v = (x as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ (y as u64 + 7) << 21;
    v = (v ^ (v >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (v ^ (v >> 27)).u32()
}

fn noise(x: usize, y: usize) -> f32 {
    (chance(x, y) >> 8).single() / (1 << 24).single() - 0.5
}

/// Bits that are read as a float, by chance: all exponents, both signs.
fn bits(x: usize, y: usize) -> f32 {
    let v = f32::from_bits(chance(x, y));
    if v.is_finite() { v } else { f32::NAN }
}

/// A star in every fifth column and row.
fn star(x: usize, y: usize) -> f32 {
    let off = |v: usize| (v % 37).single() - 18.0;
    (-(off(x) * off(x) + off(y) * off(y)) / 3.0).exp()
}

#[rstest]
#[case::bits_by_chance(bits)]
#[case::bits_of_no_absurd_size(|x: usize, y: usize| bits(x, y).clamp(-1e18, 1e18))]
#[case::one_value(|_, _| 7.0)]
#[case::stars_on_exactly_zero(|x: usize, y: usize| if star(x, y) > 0.01 { 500.0 * star(x, y) } else { 0.0 })]
#[case::stars_at_the_limit(|x: usize, y: usize| 1e18 * star(x, y) + 1e17 * noise(x, y))]
#[case::hardly_above_zero(|x: usize, y: usize| 1e-37 * (star(x, y) + noise(x, y)))]
#[case::two_values(|x: usize, y: usize| ((x / 9 + y / 7) % 2).single())]
#[case::a_steep_slope(|x: usize, y: usize| (x * x * y).single() * 1e6)]
#[case::mostly_holes(|x: usize, y: usize| if chance(x, y).is_multiple_of(9) { 100.0 + noise(x, y) } else { f32::NAN })]
#[case::one_pixel(|x: usize, y: usize| if (x, y) == (50, 40) { 3.0 } else { f32::NAN })]
#[case::negative(|x: usize, y: usize| -1e6 + 3.0 * noise(x, y) + 900.0 * star(x, y))]
fn whatever_comes_in_the_numerics_end(
    #[case] pixel: fn(usize, usize) -> f32,
    #[values((260, 190), (1500, 3), (1, 400))] (w, h): (usize, usize),
) {
    let plane = Plane::from_fn(Size::new(w, h).unwrap(), pixel);
    let found = detect(&plane, None, &Settings::default());
    if let Ok(catalogue) = &found {
        for s in &catalogue.stars {
            assert!(s.at.x.is_finite() && s.at.y.is_finite());
        }
        let _ = matching::match_frames(
            &spots(catalogue),
            &spots(catalogue),
            (plane.size(), plane.size()),
            &matching::MatchSettings::default(),
        );
    }
    let _ = measure(&plane, (0, 0), None);
    let _ = measure_even(&plane, None);
    let _ = match_patterns(&plane, &plane, &matching::MatchSettings::default());
    if let Some(shade) = Shade::measure(plane.data()) {
        assert!(shade.apply(1.0).is_finite());
    }
    let sources = [&plane as &dyn jigsawa_core::doors::FrameSource; 3];
    if let Ok(seen) = overview(sources) {
        let settings = FinishSettings {
            range_compression: 1.0,
            contrast: 0.3,
            stars: 0.5,
            ..plain(WhiteFrom::Stars)
        };
        let _ = Plan::measure(sources, &seen, &settings, None);
    }
    let _ = find(&sources[..1]);
    assert!(
        Map::<jigsawa_core::space::CanvasPx, jigsawa_core::space::FramePx>::shift(0.0, 0.0)
            .is_sound_on(plane.size())
    );
}
