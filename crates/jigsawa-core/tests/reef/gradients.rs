//! Frames' own gradients against the truth: what is left on dark sky, what is eaten of nebulae, and what is not known.

use jigsawa_core::balance::flatten::{Gradient, Ground, Hints, Way, gradients};
use jigsawa_core::balance::{Lattice, Member, Samples, Sky};
use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Placement;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{CanvasPx, Point, Size};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::camera::Camera;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::fields::Field;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::master;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::Crowd;
use rstest::rstest;

/// Frames of one place through several filters.
struct Scene {
    planes: Vec<Plane>,
    /// The sky alone, and the field's light alone.
    glows: Vec<Plane>,
    lights: Vec<Plane>,
    noises: Vec<f64>,
    stars: Vec<Catalogue>,
    filters: Vec<Filter>,
    placement: Placement,
}

const SIZE: (usize, usize) = (1200, 800);

/// A shot of the scene: the field in the frame's middle, `zoom` pixels for a unit of the plane.
fn shot(filter: &Filter, glow: SkyGlow, zoom: f64, seed: u64) -> Shot {
    Shot {
        filter: filter.clone(),
        size: Size::new(SIZE.0, SIZE.1).unwrap(),
        pointing: Pointing {
            scale: zoom,
            ..Pointing::at(960.0, 640.0)
        },
        optics: Optics::round(3.0),
        camera: Camera::usual(),
        glow,
        transparency: zoom * zoom,
        spoilt: Spoilt::default(),
        subs: 30,
        seed,
    }
}

impl Scene {
    fn of(field: Option<Field>, zoom: f64, skies: &[(Filter, SkyGlow)], seed: u64) -> Self {
        Self::changed(field, zoom, skies, seed, |p, _| p)
    }

    /// With frames changed by `hand` before anything is measured; it gets each frame and its noise.
    fn changed(
        field: Option<Field>,
        zoom: f64,
        skies: &[(Filter, SkyGlow)],
        seed: u64,
        hand: impl Fn(Plane, f32) -> Plane,
    ) -> Self {
        let crowd = Crowd {
            per_cell: 12.0,
            seed: 900 + seed,
            ..Crowd::lantern_reef()
        };
        let none = Crowd {
            per_cell: 0.0,
            ..crowd
        };
        let mut scene = Self {
            planes: Vec::new(),
            glows: Vec::new(),
            lights: Vec::new(),
            noises: Vec::new(),
            stars: Vec::new(),
            filters: Vec::new(),
            placement: Placement::shift(0.0, 0.0),
        };
        let around = shot(&Filter::L, SkyGlow::even(1.0), zoom, 0).extent();
        let clouds = field.map(|f| Clouds::of(f, around));
        for (k, (filter, glow)) in skies.iter().enumerate() {
            let shot = shot(filter, *glow, zoom, 10 * seed + k as u64);
            let noise = shot.camera.noise(glow.level, shot.subs);
            let plane = hand(shot.take(&crowd, clouds.as_ref()).plane, noise.single());
            let glow = shot.truth(&none, None);
            let with = shot.truth(&none, clouds.as_ref());
            let light = with.data().iter().zip(glow.data()).map(|(a, b)| a - b);
            let light = Plane::new(glow.size(), light.collect()).unwrap();
            scene
                .stars
                .push(detect(&plane, Some(62_000.0), &Settings::default()).unwrap());
            scene.planes.push(plane);
            scene.glows.push(glow);
            scene.lights.push(light);
            scene.noises.push(noise);
            scene.filters.push(filter.clone());
        }
        scene
    }

    fn skies(&self) -> Vec<Sky<'_>> {
        (0..self.planes.len())
            .map(|k| Sky {
                member: Member {
                    catalogue: &self.stars[k],
                    placement: &self.placement,
                    size: self.planes[k].size(),
                    filter: &self.filters[k],
                    exposure_s: Some(300.0),
                    gain_e_adu: None,
                },
                samples: Samples::take(
                    &self.planes[k],
                    &self.placement,
                    &self.stars[k],
                    Some(62_000.0),
                    Lattice::over(self.planes[k].size()),
                ),
            })
            .collect()
    }

    fn found(&self, hints: &Hints) -> Vec<Gradient> {
        let skies = self.skies();
        let skies: Vec<&Sky<'_>> = skies.iter().collect();
        let found = gradients(&skies, None, hints);
        found.into_iter().map(Option::unwrap).collect()
    }

    /// What a gradient does to a frame.
    fn judge(&self, k: usize, g: &Gradient) -> Judged {
        let noise = self.noises[k];
        let every = |step: usize| {
            (step..SIZE.1 - step)
                .step_by(step)
                .flat_map(move |y| (step..SIZE.0 - step).step_by(step).map(move |x| (x, y)))
        };
        let mut all = Vec::new();
        for (x, y) in every(8) {
            let light = f64::from(self.lights[k].at(x.whole(), y.whole())) / noise;
            let sky = f64::from(self.glows[k].at(x.whole(), y.whole())) / noise;
            let at: Point<CanvasPx> = Point::new(x.real(), y.real());
            all.push((light, sky, sky - g.surface.at(at) / noise));
        }
        let low = all.iter().map(|a| a.1).fold(f64::INFINITY, f64::min);
        let high = all.iter().map(|a| a.1).fold(0.0, f64::max);
        let any_dark = all.iter().any(|a| a.0 < DARK);
        let mut rest: Vec<f32> = all
            .iter()
            .filter(|a| a.0 < DARK || !any_dark)
            .map(|a| a.2.single())
            .collect();
        let middle = f64::from(jigsawa_core::robust::median(&mut rest.clone()));
        let dark = rest.len().real() / all.len().real();
        let worst = rest
            .iter()
            .map(|v| (f64::from(*v) - middle).abs())
            .fold(0.0, f64::max);
        let rms = (rest
            .drain(..)
            .map(|v| (f64::from(v) - middle).powi(2))
            .sum::<f64>()
            / (dark * all.len().real()))
        .sqrt();
        let bright: Vec<&(f64, f64, f64)> = all.iter().filter(|a| a.0 > 3.0).collect();
        let light: f64 = bright.iter().map(|a| a.0).sum();
        let eaten = -bright.iter().map(|a| a.2 - middle).sum::<f64>() / light.max(1e-9);
        Judged {
            span: high - low,
            dark: if any_dark { dark } else { 0.0 },
            rms,
            worst,
            eaten,
        }
    }
}

/// A place with less light than this, in noise, is dark.
const DARK: f64 = 0.3;

#[derive(Debug)]
struct Judged {
    /// The sky goes up and down by so many noises.
    span: f64,
    /// So much of the frame is dark.
    dark: f64,
    /// What is left on it.
    rms: f64,
    worst: f64,
    /// So much of the nebula is taken.
    eaten: f64,
}

/// Judges all frames of a scene, and prints the figures.
fn told(name: &str, scene: &Scene, found: &[Gradient]) -> Vec<Judged> {
    let all: Vec<Judged> = found
        .iter()
        .enumerate()
        .map(|(k, g)| scene.judge(k, g))
        .collect();
    for ((j, g), f) in all.iter().zip(found).zip(&scene.filters) {
        let what = if g.ground.is_unsure() {
            "nothing is surely sky, nothing is taken off".to_owned()
        } else {
            format!(
                "left {:.2} noise widths rms where it is dark ({:.1} at most), {:+.1} % of the nebula taken; told to be \
                 known to {:.2}",
                j.rms,
                j.worst,
                100.0 * j.eaten,
                g.error_sigma
            )
        };
        println!(
            "figure | 70 {name} {} | gradient of {:.0} noise widths, {:.0} % of the frame dark: {name}, {} | {what} |",
            f.name(),
            j.span,
            100.0 * j.dark,
            f.name()
        );
    }
    all
}

/// Skies of a level in electrons: `span` is what the gradients do, in noises.
fn sky(level: f64, span: f64, of: impl Fn(f64) -> SkyGlow) -> SkyGlow {
    let noise = Camera::usual().noise(level, 30) * Camera::usual().gain_e_adu;
    SkyGlow {
        level,
        ..of(span * noise)
    }
}

fn quadratic_and_moon(level: f64, span: f64, turned: f64) -> SkyGlow {
    sky(level, span, |e| SkyGlow {
        across: -0.3 * turned * e,
        along: 0.35 * e,
        bowl: 0.35 * e,
        moon: 0.75 * e,
        ..SkyGlow::even(0.0)
    })
}

fn tilted(level: f64, span: f64) -> SkyGlow {
    sky(level, span, |e| SkyGlow {
        across: e,
        ..SkyGlow::even(0.0)
    })
}

type Hand = fn(Plane, f32) -> Plane;

#[rstest]
#[case::as_it_comes("as it comes", |p, _| p)]
#[case::denoised("denoised", |p, n| master::denoised(&p, n, 1.5))]
#[case::resampled("resampled", |p, _| master::resampled(&p, (0.4, 0.3), 3))]
#[case::bordered("with borders", |p, _| master::bordered(p, [40, 25, 80, 30], f32::NAN))]
fn moonlight_and_a_curved_sky_go_and_the_nebula_stays(#[case] how: &str, #[case] hand: Hand) {
    let glow = quadratic_and_moon(420.0, 18.0, 1.0);
    let scene = Scene::changed(Some(Field::Reef), 0.6, &[(Filter::Ha, glow)], 1, hand);
    let name = format!("moonlight on a curved sky, {how}");
    for j in told(&name, &scene, &scene.found(&Hints::default())) {
        assert!(j.span > 14.0 && (0.3..0.6).contains(&j.dark), "{j:?}");
        assert!(j.rms < 1.0 && j.eaten.abs() < 0.035, "{j:?}");
    }
}

#[rstest]
#[case::half_of_it_dark(0.6)]
#[case::a_fifth_of_it_dark(1.0)]
fn filters_with_other_gradients_tell_each_other_what_is_sky(#[case] zoom: f64) {
    let skies = [
        (Filter::Ha, quadratic_and_moon(420.0, 18.0, 1.0)),
        (Filter::Oiii, quadratic_and_moon(380.0, 12.0, -1.0)),
        (Filter::Sii, tilted(300.0, 8.0)),
    ];
    let scene = Scene::of(Some(Field::Reef), zoom, &skies, 1);
    for j in told(
        &format!("three filters, 1 : {zoom}"),
        &scene,
        &scene.found(&Hints::default()),
    ) {
        // Where half of the frame is nebula a curved surface under it is a guess: it is told to be known to half a noise.
        assert!(j.rms < 1.0 && j.eaten.abs() < 0.035, "{j:?}");
    }
}

#[rstest]
#[case::a_town("a town", SkyGlow { town: 1.0, ..SkyGlow::even(0.0) })]
#[case::an_amplifier("an amplifier in a corner", SkyGlow { amplifier: 1.0, ..SkyGlow::even(0.0) })]
fn other_lights_go_as_well(#[case] name: &str, #[case] of_one: SkyGlow) {
    let glow = sky(400.0, 12.0, |e| SkyGlow {
        town: e * of_one.town,
        amplifier: e * of_one.amplifier,
        ..SkyGlow::even(0.0)
    });
    let skies = [(Filter::Ha, glow), (Filter::Oiii, tilted(300.0, 5.0))];
    let scene = Scene::of(Some(Field::Reef), 0.6, &skies, 1);
    for j in told(name, &scene, &scene.found(&Hints::default())) {
        assert!(j.rms < 1.0 && j.eaten.abs() < 0.03, "{j:?}");
    }
}

/// What flats have left of vignetting at a place.
fn vignetting(x: f64, y: f64) -> f64 {
    let (dx, dy) = ((x - 599.5) / 720.0, (y - 399.5) / 720.0);
    1.0 - 0.12 * (dx * dx + dy * dy)
}

#[test]
fn vignetting_that_is_left_is_divided_by() {
    let skies = [
        (Filter::Ha, SkyGlow::even(420.0)),
        (Filter::Oiii, SkyGlow::even(380.0)),
    ];
    let scene = Scene::changed(Some(Field::Reef), 0.6, &skies, 1, |p, _| {
        Plane::from_fn(p.size(), |x, y| {
            p.row(y)[x] * vignetting(x.real(), y.real()).single()
        })
    });
    let found = scene.found(&Hints::default());
    for ((g, sky), f) in found.iter().zip(scene.skies()).zip(&scene.filters) {
        let balance = g.balance(Way::Divide, &sky).unwrap();
        let places =
            (0..100).flat_map(|y| (0..150).map(move |x| (8.0 * f64::from(x), 8.0 * f64::from(y))));
        // What a light that is as bright everywhere becomes: above the sky, so that no level counts.
        let left: Vec<f64> = places
            .map(|(x, y)| {
                let of = |light: f64| balance.apply(light * vignetting(x, y), Point::new(x, y));
                of(2000.0) - of(1000.0)
            })
            .collect();
        let mean = left.iter().sum::<f64>() / left.len().real();
        let most = left
            .iter()
            .map(|v| (v / mean - 1.0).abs())
            .fold(0.0, f64::max);
        println!(
            "figure | 70 vignetting {} | vignetting of 12 % at the corners, divided by: a nebula, {} | light uneven by {:.2} % at the \
             most |",
            f.name(),
            f.name(),
            100.0 * most
        );
        assert!(g.ground == Ground::Sky && most < 0.02, "{most}");
    }
}

/// Three colours under gradients of so many noises.
fn colours(span: f64) -> Vec<(Filter, SkyGlow)> {
    [Filter::R, Filter::G, Filter::B]
        .into_iter()
        .enumerate()
        .map(|(k, f)| {
            let k = k.real();
            let glow = quadratic_and_moon(400.0 - 60.0 * k, span * (1.0 - 0.3 * k), 1.0 - k);
            (f, glow)
        })
        .collect()
}

#[rstest]
#[case::dust("dust everywhere", Field::Dust, 0.0)]
#[case::dust_under_a_gradient("dust everywhere", Field::Dust, 10.0)]
#[case::a_galaxy_in_dust("a galaxy in dust", Field::Weathervane, 10.0)]
#[case::a_dark_cloud("a dark cloud before a bright field", Field::DarkCloud, 10.0)]
fn where_nothing_is_surely_sky_nothing_is_taken_off(
    #[case] name: &str,
    #[case] field: Field,
    #[case] span: f64,
) {
    let scene = Scene::of(Some(field), 0.9, &colours(span), 1);
    let found = scene.found(&Hints::default());
    told(name, &scene, &found);
    for g in &found {
        assert!(g.ground.is_unsure() && g.surface.is_zero(), "{:?}", g.shape);
        assert!(g.samples.is_empty());
    }
}

#[test]
fn an_empty_sky_stays_as_it_is() {
    let scene = Scene::of(None, 0.9, &colours(0.0), 1);
    for g in scene.found(&Hints::default()) {
        assert_eq!(g.ground, Ground::Sky);
        let at = |x, y| g.surface.at(Point::new(x, y));
        assert!((at(0.0, 0.0) - at(1199.0, 799.0)).abs() < 0.05 * scene.noises[0]);
        assert!(g.error_sigma < 0.1, "{}", g.error_sigma);
    }
}

#[test]
fn places_that_are_shown_are_sky_where_nothing_else_is() {
    let tilt = [(Filter::R, tilted(400.0, 10.0))];
    let scene = Scene::of(Some(Field::Weathervane), 0.9, &tilt, 1);
    // The darkest place of each of twelve parts of the frame.
    let add = (0..12)
        .map(|k| {
            let (x0, y0) = (300 * (k % 4), 266 * (k / 4));
            let places = (1..10).flat_map(|i| (1..10).map(move |j| (x0 + 29 * i, y0 + 26 * j)));
            let light = |p: &(i64, i64)| scene.lights[0].at(p.0, p.1);
            let darkest = places.min_by(|a, b| light(a).total_cmp(&light(b))).unwrap();
            Point::new(darkest.0.real(), darkest.1.real())
        })
        .collect();
    let hints = Hints {
        add,
        ..Hints::default()
    };
    let found = scene.found(&hints);
    let judged = told("a galaxy in dust, places shown", &scene, &found);
    assert_eq!(found[0].ground, Ground::Told);
    assert!(judged[0].span > 9.0 && judged[0].rms < 1.0, "{judged:?}");
}
