//! The look of a finished picture where nothing is asked for, on scenes of five kinds.

use jigsawa_core::doors::DoorError;
use jigsawa_core::filter::Filter;
use jigsawa_core::finish::{
    FinishSettings, Link, Plan, Tone, TonePoint, WhiteFrom, develop_part, overview,
};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use jigsawa_sky::camera::Camera;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::fields::Field;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::Crowd;
use rstest::rstest;

use crate::finish::plain;

/// Red, green and blue of a field, and its light without stars.
fn scene(field: Field) -> (Vec<Plane>, Plane) {
    let shot = |k: usize, filter: Filter| Shot {
        filter,
        size: Size::new(900, 600).unwrap(),
        pointing: Pointing {
            scale: 0.6,
            ..Pointing::at(960.0, 640.0)
        },
        optics: Optics::round(3.0),
        camera: Camera::usual(),
        glow: SkyGlow::even(300.0),
        transparency: 1.0,
        spoilt: Spoilt::default(),
        subs: 40,
        seed: 70 + k as u64,
    };
    let crowd = Crowd::lantern_reef();
    let none = Crowd {
        per_cell: 0.0,
        ..crowd
    };
    let shots: Vec<Shot> = [Filter::R, Filter::G, Filter::B]
        .into_iter()
        .enumerate()
        .map(|(k, f)| shot(k, f))
        .collect();
    let clouds = Clouds::of(field, shots[0].extent());
    let planes = shots
        .iter()
        .map(|s| s.take(&crowd, Some(&clouds)).plane)
        .collect();
    let lights: Vec<Plane> = shots
        .iter()
        .map(|s| s.truth(&none, Some(&clouds)))
        .collect();
    let light = Plane::from_fn(lights[0].size(), |x, y| {
        lights.iter().map(|l| l.row(y)[x]).sum::<f32>()
    });
    (planes, light)
}

/// Brightness on the screen: of the middle of the brightest two hundredth of a field's own light, of what is brighter than
/// nine tenths of it, and the part of that which is burnt.
fn shown(field: Field, tone: Tone) -> (f32, f32, f64) {
    let (planes, light) = scene(field);
    let sources = [
        &planes[0] as &dyn jigsawa_core::doors::FrameSource,
        &planes[1],
        &planes[2],
    ];
    let settings = FinishSettings {
        tone,
        ..plain(WhiteFrom::AsItIs)
    };
    let seen = overview(sources).unwrap();
    let plan = Plan::measure(sources, &seen, &settings, None).unwrap();
    let picture: Result<Vec<f32>, DoorError> =
        develop_part(&plan, sources, None, planes[0].size().rect());
    let picture = picture.unwrap();
    let mut sorted: Vec<f32> = light.data().to_vec();
    sorted.sort_by(f32::total_cmp);
    let bar = |part: f64| sorted[(part * (sorted.len() - 1).real()).index()];
    let of = |least: f32| -> Vec<f32> {
        let grey = |p: &[f32]| (p[0] + p[1] + p[2]) / 3.0;
        let both = picture.chunks_exact(3).zip(light.data());
        let mut all: Vec<f32> = both
            .filter(|(_, l)| **l >= least)
            .map(|(p, _)| grey(p))
            .collect();
        all.sort_by(f32::total_cmp);
        all
    };
    let (bright, some) = (of(bar(0.995)), of(bar(0.9)));
    let burnt = bright.iter().filter(|v| **v > 0.985).count().real() / bright.len().real();
    (bright[bright.len() / 2], some[some.len() / 2], burnt)
}

#[rstest]
#[case::an_emission_nebula(Field::Reef, 0.7, 0.4)]
#[case::a_galaxy(Field::Weathervane, 0.45, 0.13)]
#[case::a_cluster_in_dust(Field::Cluster, 0.3, 0.15)]
// Its bright field is three noise widths above the cloud: brighter than this the noise would be seen.
#[case::a_dark_cloud(Field::DarkCloud, 0.14, 0.13)]
#[case::faint_dust(Field::Dust, 0.3, 0.15)]
fn by_itself_a_picture_is_bright_and_its_core_is_not_burnt(
    #[case] field: Field,
    #[case] least: f32,
    #[case] least_some: f32,
) {
    let before = shown(field, Tone::usual(Link::Linked));
    let usual = Tone {
        white: TonePoint::Structure,
        ..Tone::usual(Link::Linked)
    };
    let (bright, some, burnt) = shown(field, usual);
    println!(
        "figure | 85 {field:?} | the look by itself of {field:?} | the brightest light between the stars is shown at {:.0} % ({:.0} % if the \
         stars decide), the brightest tenth at {:.0} % ({:.0} %); {:.1} % of it is burnt |",
        100.0 * bright,
        100.0 * before.0,
        100.0 * some,
        100.0 * before.1,
        100.0 * burnt
    );
    assert!(bright > least && some > least_some, "{bright} {some}");
    assert!(
        bright >= before.0 && burnt < 0.12,
        "{bright} {before:?} {burnt}"
    );
}
