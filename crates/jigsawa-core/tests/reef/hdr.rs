//! Three exposures of the lantern's heart joined, against its true light.

use jigsawa_core::number::Convert;
use std::sync::OnceLock;

use jigsawa_core::balance::Member;
use jigsawa_core::doors::FrameSource;
use jigsawa_core::filter::Filter;
use jigsawa_core::hdr::{Cascade, EVERYWHERE_FULL, Exposure, Joined, Reprofiled, join};
use jigsawa_core::matching::{MatchSettings, match_frames, spots};
use jigsawa_core::merge::{Budget, Input, merge};
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::{median, quantile};
use jigsawa_core::space::Size;
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::demo::{DemoFrame, bright_crowd, exposures};
use jigsawa_sky::master::smoothed;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::shot::{Shot, Taken};

use crate::setup::figure;

/// The heart, on fewer pixels than the demo's.
const SIZE: (usize, usize) = (760, 600);

fn clouds() -> &'static Clouds {
    static CLOUDS: OnceLock<Clouds> = OnceLock::new();
    CLOUDS.get_or_init(|| Clouds::over((500.0, 240.0, 1520.0, 1040.0)).with_heart())
}

/// The three exposures of hydrogen, the longest first, after `change`.
fn frames(change: impl Fn(usize, &mut Shot)) -> Vec<(DemoFrame, Taken)> {
    exposures()
        .into_iter()
        .filter(|f| f.shot.filter == Filter::Ha)
        .enumerate()
        .map(|(i, mut f)| {
            f.shot.size = Size::new(SIZE.0, SIZE.1).unwrap();
            change(i, &mut f.shot);
            let taken = f.shot.take(&bright_crowd(), Some(clouds()));
            (f, taken)
        })
        .collect()
}

/// A merge with what it rests on.
struct Merged {
    value: Plane,
    source: Plane,
    sigma: Plane,
    truth: Plane,
    joined: Vec<Joined>,
    limits: Vec<f32>,
    shoulders: Vec<Option<f32>>,
}

/// Joins frames, the longest first, on the longest's own grid.
fn merged(frames: &[(DemoFrame, Taken)], header: bool) -> Merged {
    let stars: Vec<Catalogue> = frames
        .iter()
        .map(|(_, t)| detect(&t.plane, header.then_some(62_000.0), &Settings::default()).unwrap())
        .collect();
    let size = frames[0].0.shot.size;
    let placements: Vec<Placement> = stars
        .iter()
        .enumerate()
        .map(|(i, s)| {
            if i == 0 {
                return Map::shift(0.0, 0.0);
            }
            let found = match_frames(
                &spots(&stars[0]),
                &spots(s),
                (size, size),
                &MatchSettings::default(),
            );
            found.unwrap().map.retyped()
        })
        .collect();
    let mut measured: Vec<Exposure<'_>> = Vec::new();
    for i in (0..frames.len()).rev() {
        let member = Member {
            catalogue: &stars[i],
            placement: &placements[i],
            size,
            filter: &frames[i].0.shot.filter,
            exposure_s: Some(frames[i].0.exposure_s),
            gain_e_adu: Some(frames[i].0.shot.camera.gain_e_adu),
        };
        let shorter: Vec<&Exposure<'_>> = measured.iter().collect();
        let own = Exposure::measure(
            &frames[i].1.plane,
            member,
            size,
            (None, header.then_some(62_000.0)),
            &shorter,
        );
        measured.insert(0, own);
    }
    let joined = join(&measured, None).unwrap();
    let cascade = Cascade {
        parts: joined.iter().map(|j| j.part).collect(),
        sky: stars[0].sky.typical_level(),
        with_sigma: true,
    };
    let soft: Vec<Option<Reprofiled<'_, Plane>>> = joined
        .iter()
        .zip(frames)
        .map(|(j, (_, t))| Some(Reprofiled::new(t.plane.clone(), j.profile.as_ref()?)))
        .collect();
    let inputs: Vec<Input<'_>> = (0..frames.len())
        .map(|i| {
            let source: &dyn FrameSource = match &soft[i] {
                Some(s) => s,
                None => &frames[i].1.plane,
            };
            Input {
                validity: Some(&measured[i].mask),
                saturation: measured[i].limit,
                ..Input::new(source, placements[i].clone(), joined[i].balance.clone())
            }
        })
        .collect();
    let mut out = vec![Plane::filled(size, 0.0); 5];
    let budget = Budget { bytes: 1 << 26 };
    merge(&inputs, size, &cascade, budget, &mut out, &|_, _| ()).unwrap();
    let truth = frames[0].0.shot.truth(&bright_crowd(), Some(clouds()));
    let mut planes = out.into_iter();
    let mut next = || planes.next().unwrap();
    let (value, source, _, _, sigma) = (next(), next(), next(), next(), next());
    Merged {
        value,
        source,
        sigma,
        truth,
        limits: measured.iter().map(|m| m.limit).collect(),
        shoulders: measured.iter().map(Exposure::shoulder).collect(),
        joined,
    }
}

/// The usual three, in one seeing.
fn usual() -> &'static (Vec<(DemoFrame, Taken)>, Merged) {
    static USUAL: OnceLock<(Vec<(DemoFrame, Taken)>, Merged)> = OnceLock::new();
    USUAL.get_or_init(|| {
        let frames = frames(|_, shot| shot.optics = Optics::round(2.9));
        let merged = merged(&frames, true);
        (frames, merged)
    })
}

/// Pixels away from the edge.
fn inner(size: Size) -> impl Iterator<Item = (usize, usize)> {
    (16..size.height() - 16).flat_map(move |y| (16..size.width() - 16).map(move |x| (x, y)))
}

/// For light in each of some decades: middle of the relative error, and 99th percentile of what is beyond three
/// noise widths.
fn errors(m: &Merged, sky: f64, decades: std::ops::Range<i32>) -> Vec<(i32, usize, f64, f64)> {
    decades
        .map(|d| {
            let (low, high) = (10f64.powi(d), 10f64.powi(d + 1));
            let (mut middle, mut beyond) = (Vec::new(), Vec::new());
            for (x, y) in inner(m.value.size()) {
                let at = |p: &Plane| f64::from(p.at(x.whole(), y.whole()));
                let light = at(&m.truth) - sky;
                if light >= low && light < high {
                    let off = at(&m.value) - at(&m.truth);
                    middle.push((off / light).single());
                    beyond.push(((off.abs() - 3.0 * at(&m.sigma)).max(0.0) / light).single());
                }
            }
            let far = f64::from(quantile(&mut beyond, 0.99));
            (d, middle.len(), f64::from(median(&mut middle)), far)
        })
        .collect()
}

#[test]
fn radiance_is_true_over_more_than_four_decades() {
    let (frames, m) = usual();
    let camera = &frames[0].0.shot.camera;
    let sky = camera.units(frames[0].0.shot.glow.level);
    let all = errors(m, sky, 1..6);
    for (d, n, middle, beyond) in &all {
        println!(
            "10^{d}: {n} pixels, {:.4} % middle, {:.3} % beyond noise",
            100.0 * middle,
            100.0 * beyond
        );
    }
    let brightest = m.truth.data().iter().fold(0.0f32, |a, v| a.max(*v));
    println!(
        "brightest {brightest}, limits {:?}, shoulders {:?}",
        m.limits, m.shoulders
    );
    for j in &m.joined {
        println!(
            "{:?} {:?} {:?} {:?}",
            j.balance.scale, j.link, j.part, j.balance.notes
        );
    }
    assert!(brightest > 3e5);
    for (d, n, middle, beyond) in all {
        assert!(n > 200, "10^{d}: {n}");
        // The top decade, beyond the four, is the cores of the brightest stars.
        let most = if d < 5 { 0.02 } else { 0.04 };
        assert!(
            middle.abs() < 0.005 && beyond < most,
            "10^{d}: {middle}, {beyond}"
        );
    }
}

/// Mean of what is off, in noise widths, over pixels.
fn mean_off(m: &Merged, pixels: &[(usize, usize)]) -> f64 {
    let off = |(x, y): &(usize, usize)| {
        let at = |p: &Plane| f64::from(p.at((*x).whole(), (*y).whole()));
        (at(&m.value) - at(&m.truth)) / at(&m.sigma)
    };
    pixels.iter().map(off).sum::<f64>() / pixels.len().real()
}

#[test]
fn no_step_is_left_where_one_exposure_hands_over_to_the_next() {
    let (frames, m) = usual();
    let from_stars = |x: usize, y: usize| {
        let all = frames[0].1.truth.stars.iter().take(60);
        all.map(|s| (s.x - x.real()).hypot(s.y - y.real()))
            .fold(f64::INFINITY, f64::min)
    };
    let mut borders = 0;
    for k in [1.0f32, 2.0] {
        // Pixels of the nebula on either side of the border between two exposures.
        let source = |x: usize, y: usize| m.source.at(x.whole(), y.whole());
        let near = |x: usize, y: usize, want: f32| {
            source(x, y) == want
                && (-4i64..=4).any(|dy| {
                    (-4i64..=4).any(|dx| {
                        m.source.at(x.whole() + dx, y.whole() + dy) == 2.0 * k + 1.0 - want
                    })
                })
        };
        let of = |want: f32| -> Vec<(usize, usize)> {
            inner(m.value.size())
                .filter(|(x, y)| near(*x, *y, want) && from_stars(*x, *y) > 40.0)
                .collect()
        };
        let (long, short) = (of(k), of(k + 1.0));
        if long.len() < 100 || short.len() < 100 {
            continue;
        }
        borders += 1;
        let (a, b) = (mean_off(m, &long), mean_off(m, &short));
        println!(
            "{k}: {} and {} pixels, {a:.3} and {b:.3} sigma",
            long.len(),
            short.len()
        );
        assert!((a - b).abs() < 0.25, "{k}: {a} and {b}");
    }
    assert!(borders >= 1);
}

#[test]
fn stars_that_were_full_have_one_profile_from_core_to_wings() {
    let (frames, m) = usual();
    let sky = frames[0].0.shot.camera.units(frames[0].0.shot.glow.level);
    let full = frames[0].1.truth.stars.iter().filter(|s| {
        let inside = |v: f64, n: usize| v > 40.0 && v < n.real() - 40.0;
        s.saturated && inside(s.x, SIZE.0) && inside(s.y, SIZE.1)
    });
    let (mut seen, mut all) = (0, Vec::new());
    for s in full.take(6) {
        // Light in rings: merged against true.
        for r in 0..24 {
            let (mut got, mut want) = (0.0, 0.0);
            for dy in -26i64..=26 {
                for dx in -26i64..=26 {
                    let (x, y) = (s.x.round().whole() + dx, s.y.round().whole() + dy);
                    let d = (x.real() - s.x).hypot(y.real() - s.y);
                    if (d - f64::from(r)).abs() <= 0.7 {
                        got += f64::from(m.value.at(x, y)) - sky;
                        want += f64::from(m.truth.at(x, y)) - sky;
                    }
                }
            }
            let off = got / want - 1.0;
            assert!(off.abs() < 0.045, "({:.0}, {:.0}) at {r}: {off}", s.x, s.y);
            all.push(off.abs().single());
        }
        seen += 1;
    }
    // Neighbours in the rings leave a few points of a hundred beyond.
    let (middle, most) = (median(&mut all.clone()), quantile(&mut all, 0.95));
    println!("{middle} in the middle, {most} at 95 %");
    assert!(middle < 0.01 && most < 0.03, "{middle}, {most}");
    assert!(seen >= 3, "{seen}");
}

#[test]
fn faint_light_has_no_more_noise_than_the_best_weights_leave() {
    let (frames, m) = usual();
    // The noise that the camera's own numbers say the best mean has.
    let camera = |i: usize| &frames[i].0.shot.camera;
    let (mut ratio, mut n) = (0.0, 0);
    for (x, y) in inner(m.value.size()) {
        let (x, y) = (x.whole(), y.whole());
        let light = f64::from(m.truth.at(x, y)) - 500.0;
        if m.source.at(x, y) != 1.0 || light > 3000.0 {
            continue;
        }
        let best: f64 = (0..3)
            .map(|i| {
                let k = m.joined[i].balance.scale.value;
                let electrons = light / k * camera(i).gain_e_adu;
                (k * camera(i).noise(electrons, frames[i].0.shot.subs)).powi(-2)
            })
            .sum::<f64>()
            .sqrt()
            .recip();
        ratio += ((f64::from(m.value.at(x, y)) - f64::from(m.truth.at(x, y))) / best).powi(2);
        n += 1;
    }
    let noise = (ratio / f64::from(n)).sqrt();
    println!("{noise} of the best, {n} pixels");
    // Interpolation of the shorter ones smooths them a little: less than one is no miracle.
    assert!(noise < 1.03 && noise > 0.9, "{noise}");
}

#[test]
fn a_softer_short_exposure_leaves_no_ring_and_a_wrong_header_does_not_matter() {
    // Seeing of 3.4 against 2.9 px, and no word of saturation in any header.
    let frames = frames(|i, shot| {
        if i > 0 {
            shot.optics = Optics::round(3.4 - 0.1 * i.real());
        } else {
            shot.optics = Optics::round(2.9);
        }
    });
    let m = merged(&frames, false);
    assert!(
        m.limits
            .iter()
            .take(2)
            .all(|l| (50_000.0..62_000.0).contains(l)),
        "{:?}",
        m.limits
    );
    let sky = 600.0;
    for s in frames[0]
        .1
        .truth
        .stars
        .iter()
        .filter(|s| s.saturated)
        .take(5)
    {
        let inside = |v: f64, n: usize| v > 40.0 && v < n.real() - 40.0;
        if !(inside(s.x, SIZE.0) && inside(s.y, SIZE.1)) {
            continue;
        }
        // Along a ray away from the lantern's heart light must fall, step by step: a ring would rise.
        let (cx, cy) = (SIZE.0.real() / 2.0, SIZE.1.real() / 2.0);
        let far = (s.x - cx).hypot(s.y - cy);
        let (ux, uy) = ((s.x - cx) / far, (s.y - cy) / far);
        let along: Vec<f64> = (0..16)
            .map(|r| {
                let r = f64::from(r);
                // Across the ray a few pixels are averaged.
                let at = |t: f64| {
                    let (x, y) = (s.x + r * ux - t * uy, s.y + r * uy + t * ux);
                    f64::from(m.value.at(x.round().whole(), y.round().whole())) - sky
                };
                (at(-1.0) + at(0.0) + at(1.0)) / 3.0
            })
            .collect();
        for (r, w) in along.windows(2).enumerate() {
            assert!(
                w[1] < 1.03 * w[0],
                "({:.0}, {:.0}) at {r}: {along:?}",
                s.x,
                s.y
            );
        }
    }
}

#[test]
fn what_is_full_in_every_exposure_is_kept_and_told() {
    // Two exposures of which even the shorter one is full in the heart's middle.
    let all = frames(|i, shot| {
        if i > 0 {
            shot.camera.full_adu = 6_000.0;
        }
    });
    let m = merged(&all[..2], true);
    let full = m
        .source
        .data()
        .iter()
        .filter(|v| **v == EVERYWHERE_FULL)
        .count();
    assert!(full > 100, "{full}");
    assert!(m.value.data().iter().all(|v| v.is_finite()));
    let highest = m.value.data().iter().fold(0.0f32, |a, v| a.max(*v));
    assert!(highest > 50_000.0, "{highest}");
}

#[test]
fn a_camera_that_bends_below_full_is_not_trusted_there() {
    let mut all = frames(|_, shot| shot.optics = Optics::round(2.9));
    // The long exposure loses a part of its light from 28000 on.
    let bent = all[0].1.plane.data().iter().map(|v| {
        let over = (v - 28_000.0).max(0.0);
        v - 0.25 * over
    });
    let bent: Vec<f32> = bent.collect();
    let size = all[0].1.plane.size();
    all[0].1.plane = Plane::new(size, bent).unwrap();
    let m = merged(&all, false);
    let shoulder = m.shoulders[0].expect("its shoulder is seen");
    assert!((24_000.0..36_000.0).contains(&shoulder), "{shoulder}");
    assert_eq!(m.limits[0], shoulder);
}

#[test]
fn the_told_error_of_smoothed_exposures_is_that_of_their_pixels() {
    // Smoothed by more, hardly a star stands out of the bright nebula.
    let sigma_px = 0.8;
    let mut taken = frames(|_, _| {});
    for (_, t) in &mut taken {
        t.plane = smoothed(&t.plane, sigma_px);
    }
    let m = merged(&taken, true);
    let truth = smoothed(&m.truth, sigma_px);
    let mut squares: Vec<f32> = Vec::new();
    for (x, y) in inner(m.value.size()) {
        let at = |p: &Plane| f64::from(p.at(x.whole(), y.whole()));
        if at(&m.source) == 1.0 && at(&truth) < 3000.0 {
            squares.push(
                ((at(&m.value) - at(&truth)) / at(&m.sigma))
                    .powi(2)
                    .single(),
            );
        }
    }
    // The median of squares of normal deviates is 0.4549 of their mean.
    let ratio = (f64::from(jigsawa_core::robust::median(&mut squares)) / 0.4549).sqrt();
    figure(
        115,
        &format!("exposures smoothed by {sigma_px} px, single pixels of `--sigma`"),
        &format!("the true error is {ratio:.3} of the told one"),
    );
    assert!((0.8..1.25).contains(&ratio), "{sigma_px}: {ratio}");
}
