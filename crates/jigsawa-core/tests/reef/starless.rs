//! Stars taken out where it is hard: charge that has bled, halos, and a galaxy's core.

use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{FramePx, Point, Size};
use jigsawa_core::starless::{Stars, find, find_with};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::camera::Camera;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::demo::bright_crowd;
use jigsawa_sky::fields::Field;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::{Halo, Spoilt};
use jigsawa_sky::stars::Crowd;
use rstest::rstest;

use crate::finish::{CAST, HEIGHT, WIDTH, reef, sources};

/// A frame and what lies behind its stars.
struct Seen {
    plane: Plane,
    behind: Plane,
    shot: Shot,
}

fn seen(field: Field, crowd: &Crowd, bloom: f64, halo: Option<Halo>) -> Seen {
    seen_in((Filter::R, 3.0), field, crowd, bloom, halo)
}

fn seen_in(
    (filter, fwhm_px): (Filter, f64),
    field: Field,
    crowd: &Crowd,
    bloom: f64,
    halo: Option<Halo>,
) -> Seen {
    let shot = Shot {
        filter,
        size: Size::new(900, 700).unwrap(),
        pointing: Pointing::at(1010.0, 640.0),
        optics: Optics::round(fwhm_px),
        camera: Camera {
            bloom,
            ..Camera::usual()
        },
        glow: SkyGlow::even(300.0),
        transparency: 1.0,
        spoilt: Spoilt {
            halo,
            ..Spoilt::default()
        },
        subs: 30,
        seed: 11,
    };
    let clouds = Clouds::of(field, shot.extent());
    let none = Crowd {
        per_cell: 0.0,
        beacons: &[],
        ..*crowd
    };
    Seen {
        plane: shot.take(crowd, Some(&clouds)).plane,
        behind: shot.truth(&none, Some(&clouds)),
        shot,
    }
}

fn taken(plane: &Plane) -> (Stars, Plane) {
    let (_, stars) = find(&[plane]).unwrap();
    let behind = without(plane, &stars);
    (stars, behind)
}

fn without(plane: &Plane, stars: &Stars) -> Plane {
    let list: [&dyn FrameSource; 1] = [plane];
    let mut data = Vec::new();
    stars
        .take_out(&list, |_, _, starless| -> Result<(), DoorError> {
            data.extend_from_slice(starless[0]);
            Ok(())
        })
        .unwrap();
    Plane::new(plane.size(), data).unwrap()
}

/// The step over the rim of a hole, against the truth's own, the worst of eight sectors: in noise, and in the scatter of what
/// surrounds the hole, nebula and noise.
fn edge(found: &Plane, truth: &Plane, at: Point<FramePx>, radius: f64, noise: f64) -> (f64, f64) {
    let mut around = (0.0, 0.0, 0.0f64);
    let mut sums = [[(0.0f64, 0.0f64); 2]; 8];
    let reach = radius.ceil().whole() + 4;
    for y in at.y.whole() - reach..=at.y.whole() + reach {
        for x in at.x.whole() - reach..=at.x.whole() + reach {
            let (dx, dy) = (x.real() - at.x, y.real() - at.y);
            let r = dx.hypot(dy) - radius;
            let off = f64::from(found.at(x, y) - truth.at(x, y));
            let behind = f64::from(truth.at(x, y));
            if (0.0..4.0).contains(&r) && behind.is_finite() {
                around = (
                    around.0 + behind,
                    around.1 + behind * behind,
                    around.2 + 1.0,
                );
            }
            if r.abs() < 3.0 && off.is_finite() {
                let turn = dy.atan2(dx) / std::f64::consts::TAU + 0.5;
                let s = &mut sums[(turn * 8.0).index().min(7)][usize::from(r > 0.0)];
                s.0 += off;
                s.1 += 1.0;
            }
        }
    }
    let step = sums
        .iter()
        .filter(|[a, b]| a.1 >= 6.0 && b.1 >= 6.0)
        .map(|[a, b]| (a.0 / a.1 - b.0 / b.1).abs())
        .fold(0.0, f64::max);
    let (sum, square, n) = around;
    let folds = (square / n - (sum / n).powi(2)).max(0.0);
    (step / noise, step / (folds + noise * noise).sqrt())
}

/// Mean and root mean square of what is off the truth between two distances from a place, in noise.
fn off(
    found: &Plane,
    truth: &Plane,
    at: Point<FramePx>,
    (from, to): (f64, f64),
    noise: f64,
) -> (f64, f64) {
    let reach = to.ceil().whole();
    let (mut sum, mut square, mut n) = (0.0, 0.0, 0.0f64);
    for y in at.y.whole() - reach..=at.y.whole() + reach {
        for x in at.x.whole() - reach..=at.x.whole() + reach {
            let r = (x.real() - at.x).hypot(y.real() - at.y);
            let off = f64::from(found.at(x, y) - truth.at(x, y)) / noise;
            if r >= from && r < to && off.is_finite() {
                sum += off;
                square += off * off;
                n += 1.0;
            }
        }
    }
    (sum / n, (square / n).sqrt())
}

const HALO: Halo = Halo {
    part: 0.05,
    sigma_px: 22.0,
};

#[rstest]
#[case::bled_columns_before_dust(Field::Dust, 0.25, None, 2.0, 2.0)]
#[case::halos_before_dust(Field::Dust, 0.0, Some(HALO), 2.0, 2.0)]
#[case::beside_a_galaxy(Field::Weathervane, 0.0, None, 2.0, 2.5)]
// Behind the brightest stars nothing of the reef's folds is known: what is made up for them is smooth.
#[case::bled_columns_before_the_reef(Field::Reef, 0.25, None, 14.0, 36.0)]
fn the_brightest_stars_go_with_their_columns_and_halos_and_leave_no_edge(
    #[case] field: Field,
    #[case] bloom: f64,
    #[case] halo: Option<Halo>,
    #[case] most_edge: f64,
    #[case] most_off: f64,
) {
    let crowd = Crowd {
        per_cell: 8.0,
        ..bright_crowd()
    };
    let s = seen(field, &crowd, bloom, halo);
    let (stars, found) = taken(&s.plane);
    let noise = s.shot.camera.noise(s.shot.glow.level, s.shot.subs);
    let (w, h) = (
        s.plane.size().width().real(),
        s.plane.size().height().real(),
    );
    let inside = |at: &Point<FramePx>, r: f64| at.x.min(at.y).min(w - at.x).min(h - at.y) > r + 6.0;
    let edges: Vec<(f64, f64)> = stars
        .holes()
        .filter(|(at, r)| inside(at, *r))
        .map(|(at, r)| edge(&found, &s.behind, at, r, noise))
        .collect();
    let sorted = |of: fn(&(f64, f64)) -> f64| {
        let mut all: Vec<f64> = edges.iter().map(of).collect();
        all.sort_by(f64::total_cmp);
        all
    };
    let (of_noise, of_all) = (sorted(|e| e.0), sorted(|e| e.1));
    let last = edges.len() - 1;
    let map = s.shot.map();
    let beacons: Vec<Point<FramePx>> = crowd
        .beacons
        .iter()
        .map(|b| map.apply(Point::new(b.x, b.y)))
        .collect();
    let near: Vec<(f64, f64)> = beacons
        .iter()
        .flat_map(|at| [(0.0, 8.0), (8.0, 20.0)].map(|r| off(&found, &s.behind, *at, r, noise)))
        .collect();
    let far: Vec<(f64, f64)> = beacons
        .iter()
        .map(|at| off(&found, &s.behind, *at, (20.0, 60.0), noise))
        .collect();
    let worst = |list: &[(f64, f64)]| list.iter().map(|n| n.0.abs()).fold(0.0, f64::max);
    println!(
        "figure | 80 {field:?} {bloom} {halo:?} | stars taken out before {field:?}, {} | steps over the rims of {} holes {:.1} \
         noise widths at the most, half below {:.1}, and {:.1} times the surroundings' scatter at the most; behind the four brightest stars {:.1} off at the most, around them \
         {:.1} |",
        match (bloom > 0.0, halo.is_some()) {
            (true, _) => "the brightest with bled columns",
            (_, true) => "the brightest with halos",
            _ => "the brightest full",
        },
        edges.len(),
        of_noise[last],
        of_noise[last / 2],
        of_all[last],
        worst(&near),
        worst(&far),
    );
    assert!(edges.len() > 30);
    assert!(
        of_noise[last] < most_edge && of_all[last] < 2.0,
        "{edges:?}"
    );
    assert!(
        near.iter().all(|n| n.0.abs() < most_off && n.1 < most_off),
        "{near:?}"
    );
    assert!(far.iter().all(|n| n.0.abs() < 2.0 && n.1 < 6.0), "{far:?}");
}

#[test]
fn stars_that_broadband_shows_go_out_of_a_line_that_hardly_does() {
    let crowd = Crowd {
        per_cell: 30.0,
        ..bright_crowd()
    };
    let broad = seen(Field::Reef, &crowd, 0.0, None);
    let line = seen_in((Filter::Ha, 3.8), Field::Reef, &crowd, 0.0, None);
    let noise = line.shot.camera.noise(line.shot.glow.level, line.shot.subs);
    let (known, _) = find(&[&broad.plane]).unwrap();
    let clouds = Clouds::of(Field::Reef, line.shot.extent());
    let stars = line.shot.truth(&crowd, Some(&clouds));
    // Light within two pixels of a star, what is left of it, for those near the noise.
    let (alone, told) = (find(&[&line.plane]), find_with(&[&line.plane], &known));
    // A broadband that shows no star here, as beyond its edge, changes nothing.
    let blind = Catalogue {
        stars: Vec::new(),
        ..known.clone()
    };
    let (_, blind) = find_with(&[&line.plane], &blind).unwrap();
    let (_, own) = alone.as_ref().unwrap();
    assert_eq!(without(&line.plane, &blind), without(&line.plane, own));
    let left = [alone, told].map(|found| without(&line.plane, &found.unwrap().1));
    let mut parts = [Vec::new(), Vec::new()];
    let light = |plane: &Plane, at: Point<FramePx>| -> f64 {
        let (x, y) = (at.x.round().whole(), at.y.round().whole());
        let places = (-2..=2).flat_map(|j| (-2..=2).map(move |i| (x + i, y + j)));
        places
            .map(|(x, y)| f64::from(plane.at(x, y) - line.behind.at(x, y)))
            .sum()
    };
    let (w, h) = (900.0, 700.0);
    for s in &known.stars {
        let peak = f64::from(stars.at(s.at.x.round().whole(), s.at.y.round().whole()))
            - f64::from(
                line.behind
                    .at(s.at.x.round().whole(), s.at.y.round().whole()),
            );
        let inside = s.at.x.min(s.at.y).min(w - s.at.x).min(h - s.at.y) > 12.0;
        if inside && (0.7..2.5).contains(&(peak / noise)) {
            for (parts, left) in parts.iter_mut().zip(&left) {
                parts.push(light(left, s.at) / light(&stars, s.at));
            }
        }
    }
    let count = parts[0].len();
    // Beside a bright star one may be lost in what is left of that: the middle of all tells.
    let [alone, told] = parts.map(|mut p| {
        p.sort_by(f64::total_cmp);
        p[p.len() / 2]
    });
    println!(
        "figure | 81 faint stars of a line | stars in Ha of 0.7 to 2.5 noise widths, before the reef, whose places broadband tells | half of them keep less than {:.0} % of their light, \
         {:.0} % where they are searched in Ha alone ({count} stars) |",
        100.0 * told,
        100.0 * alone
    );
    assert!(count > 30, "{count}");
    assert!(
        told.abs() < 0.35 && told.abs() < 0.6 * alone,
        "{told} {alone}"
    );
}

#[test]
fn a_galaxys_core_is_no_star_and_stays() {
    let crowd = Crowd {
        per_cell: 8.0,
        ..bright_crowd()
    };
    let s = seen(Field::Weathervane, &crowd, 0.0, None);
    let (stars, found) = taken(&s.plane);
    let core = s.shot.map().apply(Point::new(960.0, 640.0));
    let (x, y) = (core.x.round().whole(), core.y.round().whole());
    let (got, want) = (found.at(x, y), s.behind.at(x, y));
    println!(
        "{} doubtful; the core {got:.1} of {want:.1}",
        stars.doubtful()
    );
    assert!((1..=4).contains(&stars.doubtful()));
    assert!((got / want - 1.0).abs() < 0.03);
}

#[test]
fn what_lies_behind_and_the_stars_add_up_and_filled_places_are_true_within_two_sigma() {
    let r = reef();
    let (_, stars) = find(&sources(&r.planes)).unwrap();
    let mut behind: [Vec<f32>; 3] = Default::default();
    stars
        .take_out(
            &sources(&r.planes),
            |rect, originals, starless| -> Result<(), DoorError> {
                assert_eq!(rect.width, WIDTH);
                for ((behind, original), starless) in behind.iter_mut().zip(originals).zip(starless)
                {
                    for (o, s) in original.iter().zip(*starless) {
                        let light = o - s;
                        assert!(
                            (s + light - o).abs() <= 1e-6 * o.abs(),
                            "{s} + {light} is not {o}"
                        );
                    }
                    behind.extend_from_slice(starless);
                }
                Ok(())
            },
        )
        .unwrap();
    assert_eq!(behind[0].len(), WIDTH * HEIGHT);
    let full = r.shots[0].camera.full_adu.single();
    let map = r.shots[0].map();
    let truth: Vec<(Point<FramePx>, f64)> = r
        .stars
        .iter()
        .map(|s| (map.apply(Point::new(s.x, s.y)), s.magnitude))
        .collect();
    // Two stars within a few pixels are seen as one: what is not seen cannot be taken out.
    let alone = |at: Point<FramePx>| {
        let mut near: Vec<f64> = truth
            .iter()
            .filter(|(p, _)| p.distance(at) < 8.0)
            .map(|s| s.1)
            .collect();
        near.sort_by(f64::total_cmp);
        near.len() < 2 || near[1] - near[0] > 3.5
    };
    let (mut places, mut beyond, mut sum, mut pairs_within, mut pairs) = (0, 0, 0.0f32, 0, 0);
    for (at, radius) in stars.holes() {
        let (x0, y0) = (at.x.round().whole(), at.y.round().whole());
        let reach = radius.ceil().whole();
        let outside = x0 < 20 || y0 < 20 || x0 > WIDTH.whole() - 21 || y0 > HEIGHT.whole() - 21;
        let saturated = r
            .planes
            .iter()
            .zip(CAST)
            .any(|(p, k)| p.at(x0, y0) > 0.9 * k * full);
        if outside || saturated {
            continue;
        }
        for ((found, truth), noise) in behind.iter().zip(&r.behind).zip(stars.noise()) {
            let (mut off, mut n) = (0.0, 0.0f32);
            for y in y0 - reach..=y0 + reach {
                for x in x0 - reach..=x0 + reach {
                    if (x.real() - at.x).hypot(y.real() - at.y) <= radius {
                        let i = y.index() * WIDTH + x.index();
                        off += found[i] - truth.data()[i];
                        n += 1.0;
                    }
                }
            }
            let off = (off / n).abs() / noise;
            if alone(at) {
                places += 1;
                sum += off;
                beyond += usize::from(off > 2.0);
            } else {
                pairs += 1;
                pairs_within += usize::from(off < 2.0);
            }
        }
    }
    let mean = sum / places.single();
    assert!(places > 400 && pairs > 100, "{places} {pairs}");
    assert!(
        mean < 0.5 && beyond * 100 <= places,
        "mean {mean}, {beyond} of {places} beyond two sigma"
    );
    assert!(20 * pairs_within > 17 * pairs, "{pairs_within} of {pairs}");
}

#[rstest]
#[case::a_grey_frame(1)]
#[case::a_colour_one(3)]
fn stars_are_taken_out_of_one_plane_as_of_three(#[case] planes: usize) {
    let r = reef();
    let list: Vec<&dyn FrameSource> = r
        .planes
        .iter()
        .take(planes)
        .map(|p| p as &dyn FrameSource)
        .collect();
    let found = detect(&r.planes[0], None, &Settings::default()).unwrap();
    let stars = Stars::measure(&list, &found).unwrap();
    assert!(stars.count() > 300 && stars.filled() > 100 && stars.filled() <= stars.count());
    let bright = found.clean().next().unwrap().at;
    let at = bright.y.round().index() * WIDTH + bright.x.round().index();
    let mut behind = Vec::new();
    stars
        .take_out(&list, |_, _, starless| -> Result<(), DoorError> {
            behind.extend_from_slice(starless[0]);
            Ok(())
        })
        .unwrap();
    let truth = r.behind[0].data()[at];
    assert!(
        (behind[at] - truth).abs() < 6.0 * stars.noise()[0],
        "{} {truth}",
        behind[at]
    );
}
