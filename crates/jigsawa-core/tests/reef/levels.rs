//! Frames of one filter brought to one sky and one scale, against the truth.

use jigsawa_core::balance::flatten::{Hints, gradients};
use jigsawa_core::balance::{
    Balance, BalanceError, BalanceSettings, Lattice, Matched, Member, Samples, ScaleBy, Sky,
    match_to,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Placement;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{CanvasPx, Point};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::levels::{Other, true_sky};
use jigsawa_sky::optics::Wings;
use jigsawa_sky::shot::{Shot, Taken};
use rstest::rstest;

/// A pair of frames on the grid of the first.
struct Pair {
    shots: [Shot; 2],
    planes: [Plane; 2],
    stars: [Catalogue; 2],
    placements: [Placement; 2],
}

impl Pair {
    fn new(other: &Other) -> Self {
        Self::changed(other, |_| {})
    }

    /// With the pixels of the second frame changed before anything is measured.
    fn changed(other: &Other, change: impl Fn(&mut Plane)) -> Self {
        let mut both = other.take();
        change(&mut both[1].1.plane);
        Self::taken(both)
    }

    fn taken(
        [(a, Taken { plane: p, .. }), (b, Taken { plane: q, .. })]: [(Shot, Taken); 2],
    ) -> Self {
        let find = |plane: &Plane| detect(plane, Some(62_000.0), &Settings::default()).unwrap();
        let stars = [find(&p), find(&q)];
        // The canvas is the first frame's grid; the truth gives the map.
        let placements = [
            Placement::shift(0.0, 0.0),
            a.map().invert().then(&b.map()).unwrap().retyped(),
        ];
        Self {
            shots: [a, b],
            planes: [p, q],
            stars,
            placements,
        }
    }

    fn sky(&self, i: usize) -> Sky<'_> {
        let shot = &self.shots[i];
        Sky {
            member: Member {
                catalogue: &self.stars[i],
                placement: &self.placements[i],
                size: shot.size,
                filter: &shot.filter,
                exposure_s: Some(300.0),
                gain_e_adu: None,
            },
            samples: Samples::take(
                &self.planes[i],
                &self.placements[i],
                &self.stars[i],
                Some(62_000.0),
                Lattice::over(self.shots[0].size),
            ),
        }
    }

    fn matched(&self) -> Result<Matched, BalanceError> {
        match_to(&self.sky(0), &self.sky(1), &BalanceSettings::default())
    }

    fn noise(&self) -> f64 {
        let shot = &self.shots[0];
        shot.camera.noise(shot.glow.level, shot.subs)
    }

    /// How far the balanced sky is off the first frame's, in pixel noise: root mean square and worst
    /// over places that both cover. Within 64 pixels of the edge counts too.
    fn off(&self, balance: &Balance, value: impl Fn(f64) -> f64) -> (f64, f64) {
        let (mut sum, mut n, mut worst) = (0.0, 0.0, 0.0f64);
        let size = self.shots[0].size;
        for y in (32..size.height()).step_by(64) {
            for x in (32..size.width()).step_by(64) {
                let at: Point<CanvasPx> = Point::new(x.real(), y.real());
                let there = self.placements[1].apply(at);
                if !self.shots[1].size.holds(there) {
                    continue;
                }
                let want = true_sky(&self.shots[0], Point::new(at.x, at.y));
                let got = balance.apply(value(true_sky(&self.shots[1], there)), at);
                let off = (got - want) / self.noise();
                sum += off * off;
                n += 1.0;
                worst = worst.max(off.abs());
            }
        }
        (f64::sqrt(sum / n), worst)
    }
}

#[rstest]
#[case::many_stars(1000, 6, 0.006, 0.5)]
// What wings may hide where too few stars tell counts for more than they hide here.
#[case::few_stars(40, 6, 0.025, 0.15)]
fn scales_are_right_and_their_errors_are_honest(
    #[case] stars: usize,
    #[case] seeds: u64,
    #[case] within: f64,
    #[case] least: f64,
) {
    let mut pulls = Vec::new();
    let mut worst = 0.0f64;
    for seed in 0..seeds {
        // Wings that the seeing does not move: apertures of the seeing's own width hold other parts of the light.
        let other = Other {
            stars,
            filter: Filter::R,
            ..Other::usual(100 * stars as u64 + seed)
        };
        let pair = Pair::taken(other.take_as(|shot, _| shot.optics.wings = Some(Wings::USUAL)));
        let b = pair.matched().unwrap().balance;
        assert_eq!(b.scale_by, ScaleBy::Stars, "{} stars", b.stars);
        let off = b.scale.value * 0.72 - 1.0;
        pulls.push(off / (b.scale.sigma / b.scale.value));
        worst = worst.max(off.abs());
        println!(
            "{} stars: {off:+.5}, told {:.5}",
            b.stars,
            b.scale.sigma * 0.72
        );
    }
    let mean = pulls.iter().sum::<f64>() / pulls.len().real();
    let spread = (pulls.iter().map(|p| p * p).sum::<f64>() / pulls.len().real()).sqrt();
    println!("{stars} stars: worst {worst:.5}, pulls {mean:+.2} +- {spread:.2}");
    assert!(worst < within, "{worst}");
    assert!((least..1.4).contains(&spread), "pulls of {spread}");
}

#[rstest]
#[case::usual(Other::usual(1), 0.15)]
#[case::flat_skies(Other { glow: SkyGlow::even(300.0), ..Other::usual(2) }, 0.15)]
#[case::no_nebula(Other { nebula: false, ..Other::usual(3) }, 0.15)]
#[case::flipped(Other { turn_deg: 179.0, ..Other::usual(4) }, 0.15)]
// Stars of 5 px against 3 before a bright nebula: the scale is off by a percent of it.
#[case::poor_seeing(Other { fwhm_px: 5.0, ..Other::usual(5) }, 0.3)]
fn the_sky_meets_the_references_to_a_part_of_the_noise(#[case] other: Other, #[case] within: f64) {
    let pair = Pair::new(&other);
    let m = pair.matched().unwrap();
    let (rms, worst) = pair.off(&m.balance, |v| v);
    println!(
        "{rms:.3} sigma rms, {worst:.3} at most: {} {:?}",
        m.balance.surface.words(),
        m.evidence.tried
    );
    assert!(rms < within, "{rms}");
}

/// Mean light of the nebula in a plane over places of the canvas where it is bright, above `sky`.
fn nebula(
    values: impl Fn(Point<CanvasPx>) -> f64,
    bright: &[Point<CanvasPx>],
    sky: impl Fn(Point<CanvasPx>) -> f64,
) -> f64 {
    bright.iter().map(|p| values(*p) - sky(*p)).sum::<f64>() / bright.len().real()
}

/// Nebula alone: the frame with it less the frame without, both without noise to speak of.
fn light(other: &Other) -> (Shot, Plane) {
    let [(shot, with), _] = other.take();
    let [(_, without), _] = Other {
        nebula: false,
        ..other.clone()
    }
    .take();
    let data = with.plane.data().iter().zip(without.plane.data());
    let light = data.map(|(a, b)| a - b).collect();
    (shot, Plane::new(with.plane.size(), light).unwrap())
}

/// Mean over the 25 pixels around a place.
fn mean_at(plane: &Plane, p: Point<CanvasPx>) -> f64 {
    let near = (-2..=2).flat_map(|dy| (-2..=2).map(move |dx| (dx, dy)));
    let values = near.map(|(dx, dy)| f64::from(plane.at(p.x.whole() + dx, p.y.whole() + dy)));
    values.sum::<f64>() / 25.0
}

#[rstest]
#[case::tilted(SkyGlow { across: 60.0, along: -40.0, ..SkyGlow::even(420.0) }, 0.03)]
#[case::bowl(SkyGlow { across: 60.0, along: -40.0, bowl: 25.0, ..SkyGlow::even(420.0) }, 0.03)]
#[case::moon(SkyGlow { across: -30.0, bowl: 15.0, moon: 60.0, ..SkyGlow::even(420.0) }, 0.04)]
fn a_frames_own_gradient_goes_and_its_nebula_stays(#[case] glow: SkyGlow, #[case] within: f64) {
    // No stars, so that the nebula can be had alone; it covers more than 60 % of the frame.
    let other = Other {
        stars: 0,
        glow,
        ..Other::usual(77)
    };
    let (_, light) = light(&other);
    let pair = Pair::new(&Other {
        stars: 200,
        shift: (0.0, 0.0),
        turn_deg: 0.0,
        transparency: 1.0,
        ..other
    });
    let noise = pair.noise();
    let size = pair.shots[1].size;
    let places: Vec<Point<CanvasPx>> = (16..size.height() - 16)
        .step_by(8)
        .flat_map(|y| (16..size.width() - 16).step_by(8).map(move |x| (x, y)))
        .map(|(x, y)| Point::new(x.real(), y.real()))
        .collect();
    let bright: Vec<Point<CanvasPx>> = places
        .iter()
        .filter(|p| mean_at(&light, **p) > 1.5 * noise)
        .copied()
        .collect();
    let covered = bright.len().real() / places.len().real();
    let found = gradients(&[&pair.sky(1)], None, &Hints::default());
    let g = found[0].as_ref().unwrap();
    // What is left of the sky after the gradient is taken off, against its own middle.
    let left = |p: Point<CanvasPx>| {
        true_sky(&pair.shots[1], Point::new(p.x, p.y)) - g.surface.at(p) - g.level
    };
    let rms = |list: &[Point<CanvasPx>]| {
        (list.iter().map(|p| left(*p).powi(2)).sum::<f64>() / list.len().real()).sqrt() / noise
    };
    let sky_before = places
        .iter()
        .map(|p| true_sky(&pair.shots[1], Point::new(p.x, p.y)));
    let (low, high) = sky_before.fold((f64::INFINITY, 0.0f64), |(a, b), v| (a.min(v), b.max(v)));
    let whole = nebula(|p| mean_at(&light, p), &bright, |_| 0.0);
    let change = nebula(left, &bright, |_| 0.0) / whole;
    println!(
        "nebula over {covered:.2} of the frame, sky from {:.1} to {:.1} sigma; left {:.2} sigma rms, under the \
         nebula {:.2}; nebula changed by {change:+.4}; {} samples, {:?}",
        low / noise,
        high / noise,
        rms(&places),
        rms(&bright),
        g.samples.len(),
        g.shape
    );
    assert!(covered > 0.6, "{covered}");
    assert!(change.abs() < within, "{change}");
}

/// Right half missing and some of the rest: 40 % and more.
fn hollow(p: &mut Plane) {
    let w = p.size().width();
    for (i, v) in p.data_mut().iter_mut().enumerate() {
        let (x, y) = (i % w, i / w);
        if x > w * 7 / 10 || (x / 40 + y / 40) % 7 == 0 {
            *v = f32::NAN;
        }
    }
}

#[rstest]
#[case::parts_missing(Other::usual(31), hollow as fn(&mut Plane), |v| v, 0.15)]
#[case::subtracted(Other::usual(32), |p: &mut Plane| p.data_mut().iter_mut().for_each(|v| *v -= 1025.0), |v| v - 1025.0, 0.15)]
#[case::zero_to_one(Other::usual(33), |p: &mut Plane| p.data_mut().iter_mut().for_each(|v| *v /= 65_535.0), |v| v / 65_535.0, 0.15)]
fn odd_frames_are_matched_like_others(
    #[case] other: Other,
    #[case] change: fn(&mut Plane),
    #[case] value: fn(f64) -> f64,
    #[case] within: f64,
) {
    let pair = Pair::changed(&other, change);
    let m = pair.matched().unwrap();
    let (rms, worst) = if change as usize == hollow as fn(&mut Plane) as usize {
        // Where it has no pixels nothing is asked.
        let size = pair.shots[0].size;
        let (mut sum, mut n) = (0.0, 0.0);
        for y in (32..size.height() - 32).step_by(64) {
            for x in (32..size.width() * 6 / 10).step_by(64) {
                let at: Point<CanvasPx> = Point::new(x.real(), y.real());
                let want = true_sky(&pair.shots[0], Point::new(at.x, at.y));
                let there = pair.placements[1].apply(at);
                let got = m.balance.apply(true_sky(&pair.shots[1], there), at);
                sum += ((got - want) / pair.noise()).powi(2);
                n += 1.0;
            }
        }
        (f64::sqrt(sum / n), 0.0)
    } else {
        pair.off(&m.balance, value)
    };
    println!(
        "{rms:.3} sigma rms, {worst:.3}: {} {:?}",
        m.balance.surface.words(),
        m.balance.notes
    );
    assert_eq!(m.balance.scale_by, ScaleBy::Stars);
    assert!(rms < within, "{rms}");
}

#[test]
fn a_frame_without_stars_is_scaled_by_its_nebula_and_that_is_said() {
    let pair = Pair::new(&Other {
        stars: 0,
        ..Other::usual(41)
    });
    let m = pair.matched().unwrap();
    println!("{:?} {:?}", m.balance.scale, m.balance.notes);
    assert_eq!(m.balance.scale_by, ScaleBy::Signal);
    assert!((m.balance.scale.value * 0.72 - 1.0).abs() < 0.03);
    assert!(
        m.balance.notes.iter().any(|n| n.contains("nebula")),
        "{:?}",
        m.balance.notes
    );
}

#[test]
fn a_frame_that_shares_a_fifth_gets_no_more_than_a_plane() {
    let pair = Pair::new(&Other {
        shift: (0.8 * 1200.0, 0.0),
        nebula: false,
        glow: SkyGlow {
            across: -60.0,
            along: 40.0,
            ..SkyGlow::even(420.0)
        },
        ..Other::usual(42)
    });
    let m = pair.matched().unwrap();
    let (rms, _) = pair.off(&m.balance, |v| v);
    println!(
        "{rms:.3} sigma: {} {:?}",
        m.balance.surface.words(),
        m.balance.notes
    );
    assert!(rms < 0.15, "{rms}");
    assert!(matches!(
        m.balance.surface,
        jigsawa_core::balance::Surface::Plane { .. }
    ));
    assert!(
        m.balance.notes.iter().any(|n| n.contains('%')),
        "{:?}",
        m.balance.notes
    );
    let apart = Pair::new(&Other {
        shift: (2.0 * 1200.0, 0.0),
        nebula: false,
        ..Other::usual(43)
    });
    assert!(matches!(apart.matched(), Err(BalanceError::NoCommonSky)));
}

#[test]
fn the_nebula_of_a_matched_frame_is_the_references_to_1_percent() {
    let other = Other {
        stars: 0,
        ..Other::usual(51)
    };
    let (_, light) = light(&other);
    let pair = Pair::new(&Other {
        stars: 600,
        ..other
    });
    let m = pair.matched().unwrap();
    let bright: Vec<Point<CanvasPx>> = (40..760)
        .step_by(8)
        .flat_map(|y| {
            (40..1160)
                .step_by(8)
                .map(move |x| Point::new(f64::from(x), f64::from(y)))
        })
        .filter(|p| mean_at(&light, *p) > 5.0 * pair.noise())
        .collect();
    // The balanced frame's nebula: its light times the scale, and what sky is left under it.
    let whole = nebula(|p| mean_at(&light, p), &bright, |_| 0.0);
    let sky_left = bright
        .iter()
        .map(|p| {
            let there = pair.placements[1].apply(*p);
            m.balance.apply(true_sky(&pair.shots[1], there), *p)
                - true_sky(&pair.shots[0], Point::new(p.x, p.y))
        })
        .sum::<f64>()
        / bright.len().real();
    let change = m.balance.scale.value * 0.72 - 1.0 + sky_left / whole;
    println!(
        "nebula changed by {change:+.4} over {} places",
        bright.len()
    );
    assert!(change.abs() < 0.01, "{change}");
}

#[test]
fn a_frame_that_differs_by_a_pedestal_gets_a_level_and_no_more() {
    let mut pair = Pair::new(&Other::usual(61));
    let raised = pair.planes[0].data().iter().map(|v| v + 50.0).collect();
    pair.planes[1] = Plane::new(pair.planes[0].size(), raised).unwrap();
    pair.stars[1] = detect(&pair.planes[1], Some(62_000.0), &Settings::default()).unwrap();
    pair.shots[1] = pair.shots[0].clone();
    pair.placements[1] = Placement::shift(0.0, 0.0);
    let b = pair.matched().unwrap().balance;
    assert!((b.scale.value - 1.0).abs() < 1e-4, "{:?}", b.scale);
    let level = b.surface.as_level();
    let sky = b.sky_adu;
    // What the scale's last digits do to the sky's level is made good.
    let back = level.unwrap() + b.scale.value * sky - (sky - 50.0);
    assert!(back.abs() < 0.05, "{level:?}");
}
