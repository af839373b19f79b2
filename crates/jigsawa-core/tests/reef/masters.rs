//! Masters as they really come: resampled, denoised, drizzled, framed in black, in another seeing, with long stars or
//! very sharp ones. Each has its truth; each figure is a row of docs/accuracy.md.

use jigsawa_core::balance::scale::noise_scale;
use jigsawa_core::balance::{
    BalanceSettings, Lattice, Matched, Member, Samples, ScaleBy, Sky, Weigh, match_to, weight,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::noise::NoiseScales;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Map, Placement};
use jigsawa_core::plane::Plane;
use jigsawa_core::resample::{Kernel, Ringing, Shape, Window, sample};
use jigsawa_core::space::Size;
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::levels::Other;
use jigsawa_sky::master::{denoised, drizzled, resampled, smoothed};
use jigsawa_sky::optics::{Optics, Wings};
use jigsawa_sky::shot::{Shot, Taken};
use rstest::rstest;

use crate::setup::figure;

/// Two frames of one filter, the second changed by somebody's hands.
struct Two {
    shots: [Shot; 2],
    planes: [Plane; 2],
    stars: [Catalogue; 2],
    placements: [Placement; 2],
}

impl Two {
    fn new(taken: [(Shot, Taken); 2], hands: impl Fn(Plane) -> Plane) -> Self {
        let [(a, Taken { plane: p, .. }), (b, Taken { plane: q, .. })] = taken;
        let planes = [p, hands(q)];
        let find = |plane: &Plane| detect(plane, Some(62_000.0), &Settings::default()).unwrap();
        let stars = planes.each_ref().map(find);
        let placements = [
            Placement::shift(0.0, 0.0),
            a.map().invert().then(&b.map()).unwrap().retyped(),
        ];
        Self {
            shots: [a, b],
            planes,
            stars,
            placements,
        }
    }

    fn member(&self, i: usize) -> Member<'_> {
        Member {
            catalogue: &self.stars[i],
            placement: &self.placements[i],
            size: self.planes[i].size(),
            filter: &self.shots[i].filter,
            exposure_s: Some(300.0),
            gain_e_adu: None,
        }
    }

    fn sky(&self, i: usize) -> Sky<'_> {
        let lattice = Lattice::over(self.planes[0].size());
        let (stars, placement) = (&self.stars[i], &self.placements[i]);
        Sky {
            member: self.member(i),
            samples: Samples::take(&self.planes[i], placement, stars, Some(62_000.0), lattice),
        }
    }

    fn matched(&self) -> Matched {
        match_to(&self.sky(0), &self.sky(1), &BalanceSettings::default()).unwrap()
    }
}

/// Equal frames on one grid without a nebula, but for the noise.
fn equal(seed: u64) -> Other {
    Other {
        filter: Filter::R,
        stars: 300,
        transparency: 1.0,
        fwhm_px: 3.0,
        glow: SkyGlow::even(300.0),
        shift: (0.0, 0.0),
        turn_deg: 0.0,
        nebula: false,
        size: (1000, 800),
        seed,
    }
}

#[rstest]
#[case(5.4, 0.005)]
#[case(6.0, 0.01)]
#[case(6.6, 0.01)]
#[case(9.9, 0.02)]
fn the_scale_of_frames_in_other_seeing_is_right_and_its_error_true(
    #[case] fwhm_px: f64,
    #[case] within: f64,
) {
    let (mut squares, mut told, mut worst) = (0.0, 0.0, 0.0f64);
    let seeds = 4;
    for seed in 0..seeds {
        let other = Other {
            stars: 400,
            transparency: 0.72,
            size: (1500, 1100),
            ..equal(500 + seed)
        };
        let taken = other.take_as(|shot, i| {
            shot.optics = Optics {
                wings: Some(Wings::USUAL),
                ..Optics::round(if i == 0 { 4.9 } else { fwhm_px })
            };
        });
        let b = Two::new(taken, |p| p).matched().balance;
        assert_eq!(b.scale_by, ScaleBy::Stars);
        let off = b.scale.value * 0.72 - 1.0;
        squares += off * off;
        told += (b.scale.sigma / b.scale.value).powi(2);
        worst = worst.max(off.abs());
    }
    let n = seeds.real();
    let (rms, told) = ((squares / n).sqrt(), (told / n).sqrt());
    figure(
        10 + fwhm_px.u32(),
        &format!("stars of 4.9 px against {fwhm_px} px, with an aureole and spikes"),
        &format!(
            "scale off by {:.2} % rms, {:.2} % at most; told {:.2} %",
            100.0 * rms,
            100.0 * worst,
            100.0 * told
        ),
    );
    assert!(rms < within, "{rms}");
    assert!(
        rms < 1.6 * told && told < 5.0 * rms.max(0.001),
        "{rms} for {told}"
    );
}

#[rstest]
#[case(2.3)]
#[case(2.6)]
fn long_stars_are_found_and_tell_the_scale(#[case] elongation: f64) {
    let other = Other {
        stars: 90,
        transparency: 0.72,
        ..equal(700)
    };
    let taken = other.take_as(|shot, i| {
        if i == 1 {
            shot.optics = Optics {
                elongation,
                angle_rad: 0.6,
                ..Optics::round(3.2)
            };
        }
    });
    let two = Two::new(taken, |p| p);
    let kept = two.stars.each_ref().map(|c| c.stars.len());
    let b = two.matched().balance;
    let off = b.scale.value * 0.72 - 1.0;
    figure(
        (10.0 * elongation).u32(),
        &format!("elongation {elongation} in one frame"),
        &format!(
            "{} of {} stars, scale off by {:+.2} %",
            kept[1],
            kept[0],
            100.0 * off
        ),
    );
    assert!(kept[1].real() > 0.9 * kept[0].real(), "{kept:?}");
    assert!(
        b.scale_by == ScaleBy::Stars && off.abs() < 0.01,
        "{:?} {off}",
        b.scale_by
    );
}

#[rstest]
#[case(0.8)]
#[case(1.2)]
#[case(2.0)]
fn a_smoothed_line_has_the_factor_of_the_line_itself(#[case] sigma_px: f64) {
    let other = Other {
        glow: SkyGlow::even(900.0),
        ..equal(800)
    };
    let plain = Two::new(other.take(), |p| p);
    let soft = Two::new(other.take(), |p| smoothed(&p, sigma_px));
    let factor = |t: &Two| noise_scale(&t.stars[0], &t.stars[1]).unwrap().value;
    let (want, got) = (factor(&plain), factor(&soft));
    figure(
        30 + (10.0 * sigma_px).u32(),
        &format!("a line smoothed by {sigma_px} px beside a broad filter's white noise"),
        &format!("factor {got:.3} for {want:.3}"),
    );
    assert!((got / want - 1.0).abs() < 0.15, "{got} for {want}");
}

/// The noise of means over blocks of 8 and 16 px in the merge of two frames, against the best weights' one. `noise` are
/// two planes of noise alone that went through the same hands.
fn of_optimum(noise: [&Plane; 2], share: f64) -> f64 {
    let spread = |a: f64| {
        let mut sums = Vec::new();
        let size = noise[0].size();
        for side in [8usize, 16] {
            let mut squares = 0.0;
            let mut n = 0.0;
            for y in (32..size.height() - 48).step_by(side) {
                for x in (32..size.width() - 48).step_by(side) {
                    let mean: f64 = (0..side * side)
                        .map(|i| {
                            let at = |p: &Plane| {
                                f64::from(p.at((x + i % side).whole(), (y + i / side).whole()))
                            };
                            (1.0 - a) * at(noise[0]) + a * at(noise[1])
                        })
                        .sum::<f64>()
                        / (side * side).real();
                    squares += mean * mean;
                    n += 1.0;
                }
            }
            sums.push(squares / n);
        }
        sums
    };
    let own = spread(share);
    let best: Vec<f64> = (0..=40)
        .map(|i| spread(f64::from(i) / 40.0))
        .fold(vec![f64::INFINITY; 2], |b, s| {
            vec![b[0].min(s[0]), b[1].min(s[1])]
        });
    (own[0] / best[0]).max(own[1] / best[1])
}

/// Noise alone: what two frames of the same light differ by, halved in strength.
fn noise_of(seed: u64, hands: impl Fn(Plane) -> Plane) -> [Plane; 2] {
    let other = Other {
        stars: 0,
        ..equal(seed)
    };
    let [(shot, a), (_, b)] = other.take_as(|shot, _| shot.glow = SkyGlow::even(300.0));
    let sky = shot.camera.units(300.0).single();
    let less = |p: Plane| Plane::from_fn(p.size(), |x, y| p.at(x.whole(), y.whole()) - sky);
    [less(a.plane), less(hands(b.plane))]
}

#[rstest]
#[case::denoised(0, "denoised", |p: Plane| denoised(&p, 4.0, 2.0))]
#[case::resampled(1, "resampled", |p: Plane| resampled(&p, (0.5, 0.5), 0))]
#[case::resampled_by_a_sinc(2, "resampled by a sinc", |p: Plane| resampled(&p, (0.4, 0.5), 3))]
#[case::smoothed(3, "smoothed", |p: Plane| smoothed(&p, 1.2))]
fn a_twin_that_went_through_other_hands_counts_as_what_it_is(
    #[case] number: u32,
    #[case] name: &str,
    #[case] hands: fn(Plane) -> Plane,
) {
    let two = Two::new(equal(900).take(), hands);
    let b = two.matched().balance;
    let w = weight(Weigh::Noise, &two.member(0), &two.member(1), &b);
    let noise = noise_of(901, hands);
    let ratio = of_optimum([&noise[0], &noise[1]], w / (1.0 + w));
    figure(
        60 + number,
        &format!("an equal twin, {name}"),
        &format!("variance of the merge over 8 to 16 px {ratio:.3} of the best"),
    );
    assert!(ratio < 1.1, "weight {w}: {ratio}");
}

#[test]
fn a_drizzled_frame_of_the_same_depth_counts_as_much() {
    // Four dithers make the fine frame, their mean the coarse one.
    let dithers = [(0.0, 0.0), (0.5, 0.0), (0.0, 0.5), (0.5, 0.5)];
    let frames: Vec<(Plane, (f64, f64))> = dithers
        .iter()
        .enumerate()
        .map(|(i, d)| {
            let other = Other {
                stars: 250,
                shift: (d.0, d.1),
                ..equal(950)
            };
            let [_, (_, t)] = other.take_as(|shot, _| shot.seed += 17 * i as u64);
            (t.plane, *d)
        })
        .collect();
    let fine = drizzled(&frames, 0.8);
    let coarse = Plane::from_fn(frames[0].0.size(), |x, y| {
        frames
            .iter()
            .map(|f| f.0.at(x.whole(), y.whole()))
            .sum::<f32>()
            / 4.0
    });
    let find = |p: &Plane| detect(p, Some(62_000.0), &Settings::default()).unwrap();
    let (a, b) = (find(&coarse), find(&fine));
    let onto: Placement =
        Map::from_rows([[2.0, 0.0, 0.5], [0.0, 2.0, 0.5], [0.0, 0.0, 1.0]]).unwrap();
    let own = Placement::shift(0.0, 0.0);
    let member = |c, p, size| Member {
        catalogue: c,
        placement: p,
        size,
        filter: &Filter::R,
        exposure_s: None,
        gain_e_adu: None,
    };
    let (ma, mb) = (
        member(&a, &own, coarse.size()),
        member(&b, &onto, fine.size()),
    );
    let balance = jigsawa_core::balance::Balance::unchanged(0.0, 0.0);
    let w = weight(Weigh::Noise, &ma, &mb, &balance);
    figure(
        70,
        "a drizzled frame of the same depth at half the pixel",
        &format!("weight {w:.2}"),
    );
    // Of two equally deep frames 0.6 to 1.6 leaves the merged variance within 1.06 of the best.
    assert!((0.6..1.6).contains(&w), "{w}");
}

#[rstest]
#[case(1.2)]
#[case(1.5)]
#[case(2.0)]
#[case(3.0)]
fn sharp_stars_keep_their_light_when_they_are_resampled(#[case] fwhm_px: f64) {
    let size = Size::new(64, 64).unwrap();
    let optics = Optics {
        beta: 4.0,
        ..Optics::round(fwhm_px)
    };
    let mut worst = 0.0f64;
    for phase in [0.0, 0.2, 0.35, 0.5] {
        let (cx, cy) = (31.0 + phase, 32.0 - 0.7 * phase);
        let plane = Plane::from_fn(size, |x, y| {
            (100.0 + 5000.0 * optics.pixel(x.real() - cx, y.real() - cy)).single()
        });
        let kernel = Kernel::new(Shape::Lanczos3, 1.0)
            .with_ringing(Ringing::for_stars(Some(fwhm_px.hypot(0.3))));
        let window = Window {
            rect: size.rect(),
            data: plane.data(),
        };
        let (mut sum, mut own) = (0.0, 0.0);
        for y in 16..48 {
            for x in 16..48 {
                let at = (f64::from(x) + 0.5, f64::from(y) + 0.5);
                sum += f64::from(sample(&kernel, &window, at.0, at.1, f32::INFINITY)) - 100.0;
                own += f64::from(plane.at(i64::from(x), i64::from(y))) - 100.0;
            }
        }
        worst = worst.max((sum / own - 1.0).abs());
    }
    figure(
        70 + (10.0 * fwhm_px).u32(),
        &format!("stars of {fwhm_px} px resampled by half a pixel"),
        &format!("light off by {:.2} % at most", 100.0 * worst),
    );
    assert!(worst < 0.01, "{worst}");
}

#[test]
fn noise_over_scales_is_what_the_camera_says_on_frames_full_of_nebula() {
    let pair = Other {
        filter: Filter::Ha,
        ..Other::usual(3)
    };
    let [(shot, t), _] = pair.take();
    let of = |p: &Plane| -> NoiseScales {
        detect(p, Some(62_000.0), &Settings::default())
            .unwrap()
            .noise
    };
    let want = shot.camera.noise(shot.glow.level, shot.subs);
    let soft = of(&resampled(&t.plane, (0.5, 0.5), 0));
    assert!((of(&t.plane).deep() / want - 1.0).abs() < 0.06);
    assert!(
        (soft.deep() / want - 1.0).abs() < 0.2,
        "{}",
        soft.deep() / want
    );
}

/// Stars so dense that hardly a pixel is free of them.
#[test]
fn a_crowded_field_has_its_sky_its_scale_and_its_weight() {
    let other = Other {
        stars: 8000,
        transparency: 0.8,
        shift: (3.3, -2.6),
        fwhm_px: 3.4,
        size: (900, 900),
        ..equal(990)
    };
    let two = Two::new(other.take(), |p| p);
    let noise = two.shots[0].camera.noise(300.0, 30);
    let want = two.shots[0].camera.units(300.0);
    let sky = f64::from(two.stars[0].sky.typical_level());
    let b = two.matched().balance;
    let off = b.scale.value * 0.8 - 1.0;
    let w = weight(Weigh::Noise, &two.member(0), &two.member(1), &b);
    let of = |level: f64| two.shots[0].camera.noise(level, 30);
    let best = (of(300.0) / (of(300.0) / 0.8)).powi(2);
    figure(
        110,
        "a star in 100 square pixels",
        &format!(
            "sky off by {:+.2} sigma, scale by {:+.2} %, told {:.2} %; weight {w:.3} for {best:.3}",
            (sky - want) / noise,
            100.0 * off,
            100.0 * b.scale.sigma / b.scale.value
        ),
    );
    assert!((sky - want).abs() < noise, "{}", (sky - want) / noise);
    assert!(off.abs() < 0.01, "{off}");
    assert!((w / best - 1.0).abs() < 0.3, "{w} for {best}");
}
