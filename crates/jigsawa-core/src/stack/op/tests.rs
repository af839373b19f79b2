use super::*;
use crate::balance::Balance;
use crate::merge::{Budget, Input, merge, merge_parts, parts};
use crate::number::Convert;
use crate::placement::Map;
use crate::plane::Plane;
use crate::space::{Rect, Size};
use crate::stack::{Group, Light, Pass, Rejected, Rejection, Residuals, Rule, Streak, streaks};
use rstest::rstest;

const SKY: f32 = 500.0;
const SIGMA: f32 = 10.0;

/// Normal noise of unit width: sums of twelve from a small generator.
fn noise(seed: u64) -> impl FnMut() -> f32 {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    move || {
        let mut sum = -6.0f32;
        for _ in 0..12 {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            sum += (state >> 40).single() / (1u64 << 24).single();
        }
        sum
    }
}

fn frames(n: u64, size: Size, spoil: impl Fn(u64, usize, usize) -> f32) -> Vec<Plane> {
    (0..n)
        .map(|k| {
            let mut chance = noise(k + 1);
            Plane::from_fn(size, |x, y| SKY + SIGMA * chance() + spoil(k, x, y))
        })
        .collect()
}

fn stacked(planes: &[Plane], rejection: Rejection, lights: Vec<Light>) -> (Vec<Plane>, Stacked) {
    let size = planes[0].size();
    let inputs: Vec<Input<'_>> = planes
        .iter()
        .map(|p| Input::new(p, Map::shift(0.0, 0.0), Balance::unchanged(0.0, 1.0)))
        .collect();
    let op = Stacked {
        groups: vec![Group {
            inputs: 0..planes.len(),
            lights,
            sky: SKY,
            rejection,
        }],
        rejected: Rejected::new(size, planes.len()),
        pass: Pass::First(Residuals::new(size, planes.len())),
    };
    let mut out = vec![Plane::filled(size, 0.0); PLANES];
    let budget = Budget { bytes: 1 << 28 };
    merge(&inputs, size, &op, budget, &mut out, &|_, _| ()).unwrap();
    (out, op)
}

fn lights(n: u64) -> Vec<Light> {
    (0..n).map(|_| Light::even(1.0, SIGMA)).collect()
}

fn scatter(plane: &Plane) -> f64 {
    let all = plane.data();
    let squares: f64 = all.iter().map(|v| f64::from(v - SKY).powi(2)).sum();
    (squares / all.len().real()).sqrt()
}

#[rstest]
#[case::three(3, Rule::Noise)]
#[case::five(5, Rule::Noise)]
#[case::ten_by_median(10, Rule::Median)]
#[case::ten(10, Rule::Winsorized)]
#[case::many(24, Rule::Sigma)]
fn clean_values_stay_and_outliers_go(#[case] n: u64, #[case] rule: Rule) {
    let size = Size::new(700, 150).unwrap();
    let how = Rejection::new(rule, None, None);
    let clean = frames(n, size, |_, _, _| 0.0);
    let (out, op) = stacked(&clean, how, lights(n));
    let all: u64 = (0..clean.len()).map(|k| op.rejected.values(k)).sum();
    let gone = |op: &Stacked| -> u64 { (0..clean.len()).map(|k| op.rejected.of(k)).sum() };
    assert_eq!(all, n * 700 * 150);
    assert!(
        gone(&op).real() / all.real() < 0.002,
        "{} of {all}",
        gone(&op)
    );
    let expected = 10.0 / n.real().sqrt();
    assert!((scatter(&out[0]) / expected - 1.0).abs() < 0.02);
    assert!((f64::from(out[4].data()[777]) / expected - 1.0).abs() < 1e-3);
    // A trail of eight noise widths with soft flanks through the second frame.
    let trail = |k: u64, x: usize, y: usize| {
        let off = y.single() - 20.0 - 0.15 * x.single();
        if k == 1 {
            80.0 * (-off * off / 8.0).exp()
        } else {
            0.0
        }
    };
    let spoilt = frames(n, size, trail);
    let (with, op) = stacked(&spoilt, how, lights(n));
    let mut left = Vec::new();
    for x in 0..700 {
        let y = (20.0 + 0.15 * x.single()).round().index();
        left.extend((y - 2..=y + 2).map(|y| f64::from(with[0].data()[y * 700 + x] - SKY)));
    }
    let mean = left.iter().sum::<f64>() / left.len().real();
    assert!(mean < 0.5 * expected, "{n}: {mean} of {expected}");
    // The picture shows the trail: its blocks and few others.
    let picture = op.rejected.picture(1);
    let on = picture.data().iter().filter(|v| **v > 4.0).count();
    assert!((85..180).contains(&on), "{on}");
}

#[test]
fn sharp_and_soft_stars_keep_all_their_light_and_a_cosmic_ray_beside_them_goes() {
    let size = Size::new(64, 64).unwrap();
    let width = |k: u64| 2.2 + 1.3 * k.single() / 11.0;
    let star = |k: u64, x: usize, y: usize| {
        let (dx, dy) = (x.single() - 30.3, y.single() - 31.8);
        let s = width(k) / 2.3548;
        60_000.0 / (s * s) * (-(dx * dx + dy * dy) / (2.0 * s * s)).exp() / std::f32::consts::TAU
    };
    let ray = |k, x, y| if (k, x, y) == (3, 40, 30) { 900.0 } else { 0.0 };
    let planes = frames(12, size, |k, x, y| star(k, x, y) + ray(k, x, y));
    let plain = frames(12, size, star);
    let lights: Vec<Light> = (0..12)
        .map(|k| {
            let contrast = (f64::from(width(6)) / f64::from(width(k))).powi(2);
            let contrast = contrast.max(1.0 / contrast).single();
            Light {
                of_change: 0.2 + 1.5 * (contrast - 1.0),
                photons: 1.0,
                spread: width(k).powi(2),
                ..Light::even(1.0, SIGMA)
            }
        })
        .collect();
    for rule in [Rule::Noise, Rule::Winsorized, Rule::Sigma] {
        let how = Rejection::new(rule, None, None);
        let (out, _) = stacked(&planes, how, lights.clone());
        let (none, _) = stacked(
            &plain,
            Rejection::new(Rule::None, None, None),
            lights.clone(),
        );
        let near = |p: &Plane| {
            let at = |i: usize| p.data()[i];
            let disc = (0..64 * 64).filter(|i| {
                let (dx, dy) = ((i % 64).single() - 30.3, (i / 64).single() - 31.8);
                dx * dx + dy * dy < 49.0
            });
            disc.map(|i| f64::from(at(i) - SKY)).sum::<f64>()
        };
        assert!(
            (near(&out[0]) / near(&none[0]) - 1.0).abs() < 0.001,
            "{rule:?}"
        );
        let there = 30 * 64 + 40;
        assert_eq!(out[3].data()[there], 1.0, "{rule:?}");
        assert!((out[0].data()[there] - none[0].data()[there]).abs() < 6.0);
    }
}

#[test]
fn a_faint_trail_goes_as_a_shape_and_only_its_parts_are_merged_again() {
    // Two noise widths high, and wide: no pixel of it tells.
    let size = Size::new(2400, 1200).unwrap();
    let trail = |k: u64, x: usize, y: usize| {
        let off = (y.single() - 200.0 - 0.35 * x.single()) / 5.0;
        if k == 2 {
            20.0 * (-0.5 * off * off).exp()
        } else {
            0.0
        }
    };
    let planes = frames(5, size, trail);
    let how = Rejection::new(Rule::Noise, None, None);
    let (mut out, op) = stacked(&planes, how, lights(5));
    let Pass::First(residuals) = op.pass else {
        panic!("the first merge keeps residuals");
    };
    let streaks: Vec<Vec<Streak>> = (0..5).map(|k| streaks(&residuals.plane(k))).collect();
    let counts: Vec<usize> = streaks.iter().map(Vec::len).collect();
    assert_eq!(counts, [0, 0, 1, 0, 0]);
    let left = |p: &Plane| {
        let near = (0..2400usize).map(|x| {
            let y = (200.0 + 0.35 * x.single()).round().index();
            f64::from(p.data()[y * 2400 + x] - SKY)
        });
        near.sum::<f64>() / 2400.0
    };
    let sigma = 10.0 / 5.0f64.sqrt();
    assert!(left(&out[0]) > 0.5 * sigma, "{}", left(&out[0]));
    let inputs: Vec<Input<'_>> = planes
        .iter()
        .map(|p| Input::new(p, Map::shift(0.0, 0.0), Balance::unchanged(0.0, 1.0)))
        .collect();
    let (streak, before) = (streaks[2][0], out[0].clone());
    let op = Stacked {
        pass: Pass::Without(streaks),
        ..op
    };
    let all = parts(size, (128, 32));
    let touched: Vec<Rect> = all.iter().copied().filter(|r| streak.touches(*r)).collect();
    assert!(
        touched.len() * 6 < all.len(),
        "{} of {}",
        touched.len(),
        all.len()
    );
    let budget = Budget { bytes: 1 << 28 };
    merge_parts(&inputs, &touched, &op, budget, &mut out, &|_, _| ()).unwrap();
    assert!(left(&out[0]).abs() < 0.1 * sigma, "{}", left(&out[0]));
    let differ = before
        .data()
        .iter()
        .zip(out[0].data())
        .filter(|(a, b)| a != b)
        .count();
    let covered = op.rejected.of(2);
    assert!(
        differ.real() < 1.02 * covered.real() && covered < 2400 * 60,
        "{differ} {covered}"
    );
    // Of the frame alone the count falls, on its trail alone.
    assert_eq!(out[1].data()[200 * 2400], 4.0);
    assert_eq!(out[1].data()[600 * 2400], 5.0);
}

#[test]
fn weights_missing_values_and_ranks_count_as_they_should() {
    let size = Size::new(20, 10).unwrap();
    let values = [510.0, 498.0, 503.0, f32::NAN];
    let planes: Vec<Plane> = values.iter().map(|v| Plane::filled(size, *v)).collect();
    let weighted: Vec<Light> = [1.0, 2.0, 1.0, 5.0]
        .iter()
        .map(|w| Light::even(*w, SIGMA))
        .collect();
    let (out, _) = stacked(
        &planes,
        Rejection::new(Rule::Noise, None, None),
        weighted.clone(),
    );
    let of = |out: &[Plane]| [0, 1, 2, 3, 4].map(|p: usize| out[p].data()[33]);
    let [mean, count, low, high, error] = of(&out);
    assert_eq!((mean, count, low, high), (502.25, 3.0, 0.0, 0.0));
    assert!((error - SIGMA * 6.0f32.sqrt() / 4.0).abs() < 1e-4);
    let (out, _) = stacked(
        &planes,
        Rejection::new(Rule::Extremes, None, None),
        weighted,
    );
    assert_eq!(of(&out)[..4], [503.0, 1.0, 1.0, 1.0]);
    let nothing = vec![Plane::filled(size, f32::NAN); 3];
    let (out, _) = stacked(&nothing, Rejection::new(Rule::Noise, None, None), lights(3));
    let [mean, count, ..] = of(&out);
    assert!(mean.is_nan() && count == 0.0);
}
