//! Nights of the made-up sky, stacked: what is left of trails, cosmic rays and hot pixels, and what that costs.

use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::median;
use jigsawa_core::space::{FramePx, Point, Size};
use jigsawa_core::stack::Rule;
use jigsawa_core::stars::{Settings, detect};
use jigsawa_sky::camera::Camera;
use jigsawa_sky::chance::uniform;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::shot::{Shot, StarTruth};
use jigsawa_sky::spoilt::{Spoilt, Trail};
use rstest::rstest;

use crate::setup::figure;

use crate::night::{Night, SIDES, Stack, aperture, deep_noise, inner, less, shots};

/// Trails across some of the frames: bright, faint, thin and wide ones.
fn trail(i: usize, electrons: f64, sigma_px: f64) -> Spoilt {
    Spoilt {
        trail: Some(Trail {
            through: (0.03 * i.real() - 0.1, 0.1 - 0.04 * i.real()),
            angle_deg: 20.0 + 31.0 * i.real(),
            electrons,
            sigma_px,
        }),
        ..Spoilt::default()
    }
}

#[test]
fn a_night_of_changing_seeing_and_cloud_loses_nothing_of_its_signal() {
    let night = Night::take(shots(24), |_, _| ());
    let balances = night.balances();
    let stacked = night.stack(&night.frames, &balances, None);
    // With the same weights, without noise and rejection: what it should be.
    let truth = night.truth();
    let ideal = night.stack(&truth, &balances, Some(Rule::None));
    let off = less(&stacked.planes[0], &ideal.planes[0]);
    let noise = deep_noise(&off);
    // Frames as noisy as they are by the camera's numbers where there is as much light as usual, sky and nebula, each scaled
    // by its true transparency.
    let best: f64 = night
        .shots
        .iter()
        .zip(truth)
        .map(|(s, truth)| {
            let usual = median(&mut truth.into_data());
            let electrons = (f64::from(usual) - s.camera.offset_adu) * s.camera.gain_e_adu;
            (s.transparency / s.camera.noise(electrons, 1)).powi(2)
        })
        .sum();
    let best = 1.0 / best.sqrt();
    let part = best / noise;
    figure(
        100,
        "Signal to noise of faint light in a stack of 24 frames, seeing 2.2 to 3.5 px, transparency 0.6 to 1 (asked: 0.98 of the best weights)",
        &format!("{part:.3}"),
    );
    assert!(part > 0.98 && part < 1.06, "{part}: {noise} for {best}");
    let lost = stacked.rejected();
    figure(
        101,
        "Clean values rejected of the same (asked: below 0.5 %)",
        &format!("{:.3} %", 100.0 * lost),
    );
    assert!(lost < 0.005, "{lost}");
    assert!(
        stacked.found.iter().all(Vec::is_empty),
        "{:?}",
        stacked.found
    );
    // Stars from the faintest that can be measured up to those below full.
    let crowd = night.stars();
    let inside = |s: &&StarTruth| {
        s.x > 40.0 && s.y > 40.0 && s.x < 680.0 && s.y < 480.0 && !s.saturated && s.flux < 8e5
    };
    let mut worst = [0.0f64; 2];
    let mut by_decade = [const { Vec::<f32>::new() }; 4];
    for s in crowd.iter().filter(inside) {
        let decade = (s.flux.log10() - 2.5).floor();
        if !(0.0..4.0).contains(&decade) {
            continue;
        }
        let part = aperture(&off, (s.x, s.y), 6.0) / s.flux;
        by_decade[decade.index()].push(part.single());
    }
    for (d, ratios) in by_decade.iter_mut().enumerate() {
        // The median of n stars of this brightness is known to its noise only: 113 pixels, and the ring's median.
        let flux = 10f64.powf(2.75 + d.real());
        let known = 1.25 * (12.3 * noise / flux) / ratios.len().max(1).real().sqrt();
        let off = f64::from(median(ratios));
        if known < 0.0025 {
            worst[0] = worst[0].max(off.abs());
        } else if ratios.len() > 5 {
            worst[1] = worst[1].max(off.abs() / known);
        }
    }
    figure(
        102,
        "Fluxes of its stars over the decades against a stack without noise and rejection (asked: 0.5 %)",
        &format!("{:.2} %", 100.0 * worst[0]),
    );
    assert!(
        worst[0] < 0.005 && worst[1] < 4.0,
        "{worst:?}: {by_decade:?}"
    );
    let full = Some(Camera::usual().full_adu.single());
    let width = |p: &Plane| detect(p, full, &Settings::default()).unwrap().fwhm_px;
    let wider = width(&stacked.planes[0]) / width(&ideal.planes[0]);
    figure(
        103,
        "Width of its stars against the same (asked: 2 %)",
        &format!("{:+.2} %", 100.0 * (wider - 1.0)),
    );
    assert!((wider - 1.0).abs() < 0.02, "{wider}");
    told_noise(&stacked, &off);
}

/// The map's noise is that of the pixels.
fn told_noise(stacked: &Stack, off: &Plane) {
    let told = &stacked.planes[4];
    let mut ratios: Vec<f32> = inner(off)
        .map(|(x, y, v)| v / told.at(x.whole(), y.whole()))
        .filter(|v| v.is_finite())
        .collect();
    let within = ratios.iter().filter(|v| v.abs() < 1.0).count().real() / ratios.len().real();
    let middle = median(&mut ratios);
    let width = f64::from(jigsawa_core::robust::mad(&mut ratios, middle)) * 1.4826;
    figure(
        104,
        "Scatter of its pixels in units of the noise that its map tells (interpolation smooths it)",
        &format!("{width:.2}"),
    );
    assert!((0.7..1.02).contains(&width), "{width}, {within} within");
}

#[rstest]
#[case::all_of_five(
    5,
    105,
    "five frames, each with a trail (asked: none above 1 sigma)",
    1.0
)]
#[case::many(
    24,
    106,
    "24 frames, nine of them with trails (asked: below 0.5 sigma)",
    0.5
)]
fn trails_are_left_neither_bright_nor_faint(
    #[case] n: usize,
    #[case] number: u32,
    #[case] what: &str,
    #[case] asked: f64,
) {
    let mut spoilt = shots(n);
    let kinds = [
        (900.0, 1.2),
        (60.0, 2.0),
        (22.0, 4.0),
        (250.0, 6.0),
        (35.0, 1.5),
    ];
    for (i, shot) in spoilt
        .iter_mut()
        .enumerate()
        .filter(|(i, _)| *i < 5 || i % 5 == 0)
    {
        let (electrons, sigma) = kinds[i % 5];
        shot.spoilt = trail(i, electrons, sigma);
    }
    let night = Night::take(spoilt, |_, _| ());
    let balances = night.balances();
    let stacked = night.stack(&night.frames, &balances, None);
    let ideal = night.stack(&night.truth(), &balances, Some(Rule::None));
    let off = less(&stacked.planes[0], &ideal.planes[0]);
    let sigma = deep_noise(&off);
    let (w, h) = (SIDES.0.real(), SIDES.1.real());
    let mut worst = 0.0f64;
    for (i, shot) in night.shots.iter().enumerate() {
        let Some(t) = shot.spoilt.trail else { continue };
        // Along its middle and its wings, on the canvas.
        let back = night.placements[i].invert();
        let (s, c) = t.angle_deg.to_radians().sin_cos();
        for aside in [-2.0, -1.0, 0.0, 1.0, 2.0] {
            let (mut sum, mut count) = (0.0, 0.0);
            for step in -800..800 {
                let d = aside * t.sigma_px;
                let x = (0.5 + t.through.0) * w + f64::from(step) * c - d * s;
                let y = (0.5 + t.through.1) * h + f64::from(step) * s + d * c;
                let at = back.apply(Point::<FramePx>::new(x, y));
                let inside = at.x > 24.0 && at.y > 24.0 && at.x < w - 24.0 && at.y < h - 24.0;
                let v = off.at(at.x.round().whole(), at.y.round().whole());
                if inside && v.is_finite() {
                    sum += f64::from(v);
                    count += 1.0;
                }
            }
            if count > 100.0 {
                worst = worst.max((sum / count).abs() / sigma);
            }
        }
    }
    figure(
        number,
        &format!(
            "Mean along trails, the worst of their middles and wings, in noise of the stack: {what}"
        ),
        &format!("{worst:.2}"),
    );
    assert!(worst < asked, "{worst}");
    let found: Vec<usize> = stacked.found.iter().map(Vec::len).collect();
    let right = night
        .shots
        .iter()
        .zip(&found)
        .all(|(s, f)| s.spoilt.trail.is_some() || *f == 0);
    assert!(right, "{found:?}");
}

#[rstest]
#[case::five(5, 107, 4)]
#[case::twelve(12, 108, 1)]
#[case::many(24, 109, 1)]
fn cosmic_rays_and_hot_pixels_are_gone(#[case] n: usize, #[case] number: u32, #[case] times: u64) {
    // Few frames have few rays: more often.
    let (mut left, mut all) = (0, 0);
    for time in 0..times {
        let (l, a) = rays_left(n, time);
        (left, all) = (left + l, all + a);
    }
    figure(
        number,
        &format!(
            "Cosmic rays and hot pixels left of {all} in a stack of {n}, above 5 noise widths of it (asked: 1 in 1,000)"
        ),
        &format!("{left}"),
    );
    assert!(1000 * left < all, "{left} of {all}");
}

/// Rays and hot pixels that are left in a stack of so many frames, and all of them.
fn rays_left(n: usize, time: u64) -> (u32, u32) {
    // In each frame 400 rays of 12 noise widths and more, and 300 hot pixels at the same places of the camera.
    let sigma = Camera::usual().noise(150.0, 1);
    let place = |seed: u64, k: u64| {
        let at = |axis: u64, n: usize| (uniform(seed, 2 * k + axis) * n.real()).index().min(n - 1);
        (at(0, SIDES.0), at(1, SIDES.1))
    };
    let seed = |i: usize, k: u64| 1000 * time + if k < 400 { 70 + i as u64 } else { 5 };
    let spoil = |i: usize, plane: &mut Plane| {
        for k in 0..700u64 {
            let seed = seed(i, k);
            let (x, y) = place(seed, k);
            let height = sigma * (12.0 + 60.0 * uniform(6 + seed, 4000 + k).powi(2));
            plane.data_mut()[y * SIDES.0 + x] += height.single();
        }
    };
    let night = Night::take(shots(n), spoil);
    let balances = night.balances();
    let stacked = night.stack(&night.frames, &balances, None);
    let ideal = night.stack(&night.truth(), &balances, Some(Rule::None));
    let off = less(&stacked.planes[0], &ideal.planes[0]);
    let told = &stacked.planes[4];
    let (mut left, mut all) = (0, 0);
    for i in 0..n {
        let back = night.placements[i].invert();
        for k in 0..700u64 {
            let (x, y) = place(seed(i, k), k);
            let at = back.apply(Point::<FramePx>::new(x.real(), y.real()));
            let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
            if !(24..SIDES.0.whole() - 24).contains(&cx)
                || !(24..SIDES.1.whole() - 24).contains(&cy)
            {
                continue;
            }
            all += 1;
            left += u32::from(off.at(cx, cy) > 5.0 * told.at(cx, cy));
        }
    }
    (left, all)
}

#[test]
fn five_clean_frames_keep_their_stars_flanks_whatever_the_seeing() {
    let night = Night::take(shots(5), |_, _| ());
    let balances = night.balances();
    let stacked = night.stack(&night.frames, &balances, None);
    let whole = night.stack(&night.frames, &balances, Some(Rule::None));
    let inside = |s: &&StarTruth| {
        let off_edges = (40.0..680.0).contains(&s.x) && (40.0..480.0).contains(&s.y);
        off_edges && !s.saturated && s.flux > 3000.0
    };
    let (mut worst, mut stars) = (0.0f64, 0);
    for star in night.stars().iter().filter(inside) {
        let light = |s: &Stack| aperture(&s.planes[0], (star.x, star.y), 6.0);
        worst = worst.max((light(&stacked) / light(&whole) - 1.0).abs());
        stars += 1;
    }
    assert!(stars > 30, "{stars}");
    assert!(stacked.rejected() < 1e-4, "{}", stacked.rejected());
    assert!(worst < 0.005, "{worst}");
}

#[test]
fn two_cameras_of_other_scale_exposure_and_gain_are_as_good_as_theory() {
    // Eight frames of one, and six of another turned by 91 degrees, with pixels 1.4 times as fine, twice the exposure, and
    // another gain.
    let mut night = shots(14);
    for shot in night.iter_mut().skip(8) {
        shot.size = Size::new(900, 1100).unwrap();
        shot.pointing.turn_deg += 91.0;
        shot.pointing.scale = 1.4;
        shot.pointing.mirrored = true;
        shot.optics = Optics::round(1.4 * shot.optics.fwhm_px);
        shot.camera.gain_e_adu = 0.35;
        shot.camera.read_noise_e = 1.2;
        shot.transparency *= 2.0;
        shot.glow = SkyGlow::even(2.0 * 150.0 / 1.96);
    }
    let night = Night::take(night, |_, _| ());
    let balances = night.balances();
    let stacked = night.stack(&night.frames, &balances, None);
    let truth = night.truth();
    let ideal = night.stack(&truth, &balances, Some(Rule::None));
    let off = less(&stacked.planes[0], &ideal.planes[0]);
    let noise = deep_noise(&off);
    // Over a pixel of the canvas: a frame with finer pixels has more of them there.
    let light = |(s, truth): (&Shot, Plane)| {
        let usual = median(&mut truth.into_data());
        let electrons = (f64::from(usual) - s.camera.offset_adu) * s.camera.gain_e_adu;
        let of_light = s.transparency / (s.pointing.scale * s.camera.gain_e_adu);
        (of_light / s.camera.noise(electrons, 1)).powi(2)
    };
    let first = &night.shots[0];
    let best: f64 = night.shots.iter().zip(truth).map(light).sum();
    let unit = first.transparency / first.camera.gain_e_adu;
    let part = unit / best.sqrt() / noise;
    figure(
        112,
        "Signal to noise of faint light from two cameras, one turned by 91 degrees and mirrored, with finer pixels, twice the exposure and another gain (asked: theory within 3 %)",
        &format!("{part:.3}"),
    );
    assert!((part - 1.0).abs() < 0.03, "{part}: {noise}");
}
