//! The whole family of models against maps with known numbers.

use crate::number::Convert;
use proptest::prelude::*;
use rstest::rstest;

use super::*;

type M = Map<ReferencePx, FramePx>;

/// Maps of a similarity, an affine and a homography on a 2000 x 1500 grid.
fn truth(model: Model, mirrored: bool) -> M {
    let (s, c) = 181.2f64.to_radians().sin_cos();
    let m = if mirrored { -1.0 } else { 1.0 };
    let (stretch, tilt) = match model {
        Model::Shift => return M::shift(31.5, -12.25),
        Model::Similarity => (1.0, 0.0),
        Model::Affine | Model::Smooth(_) => (1.01, 0.0),
        Model::Homography => (1.01, 4e-6),
    };
    let plain = M::from_rows([
        [0.9 * c * m, -0.9 * s * stretch, 1900.0],
        [0.9 * s * m, 0.9 * c * stretch, 1400.0],
        [tilt, -tilt / 2.0, 1.0],
    ])
    .unwrap();
    match model {
        Model::Smooth(degree) => plain.distorted(lens(degree)).unwrap(),
        _ => plain,
    }
}

/// A distortion of 6 px in the corners by the highest powers of its degree.
fn lens(degree: u8) -> Distortion {
    let count = terms(degree);
    let (mut x, mut y) = (vec![0.0; count], vec![0.0; count]);
    (x[count - 1 - degree as usize], y[count - 1]) = (4.0, 4.0);
    Distortion::new([950.0, 700.0], [950.0, 700.0], x, y).unwrap()
}

fn pairs(map: &M, count: usize, error: f64) -> Vec<Pair<ReferencePx, FramePx>> {
    (0..count)
        .map(|i| {
            let t = i.real();
            let from = Point::new((t * 617.3) % 2000.0, (t * 389.7) % 1500.0);
            let to = map.apply(from);
            let wobble = |k: f64| error * ((t * k).sin() + (t * k * 1.7).cos());
            Pair {
                from,
                to: Point::new(to.x + wobble(12.9), to.y + wobble(78.2)),
                weight: 1.0,
            }
        })
        .collect()
}

#[rstest]
fn every_model_recovers_its_own_map(
    #[values(0, 1, 2, 3, 4, 5, 6, 7)] which: usize,
    #[values(false, true)] mirrored: bool,
) {
    let model = Model::ALL[which];
    let map = truth(model, mirrored);
    let size = Size::new(2000, 1500).unwrap();
    // The lens is given in the frame's pixels, and is fitted on an area that is not its own.
    let domain = Rect::around(size.corners().map(|p| map.apply(p)));
    let fitted = M::fit(model, &pairs(&map, 80, 0.0), Some(domain)).unwrap();
    let distorted = map.distortion().is_some();
    for corner in size.corners() {
        // Beyond the lens's own area the two end differently.
        let p = if distorted {
            Point::new(0.7 * corner.x + 300.0, 0.7 * corner.y + 225.0)
        } else {
            corner
        };
        let off = fitted.apply(p).distance(map.apply(p));
        assert!(off < if distorted { 0.05 } else { 1e-6 }, "{off}");
    }
    let seen = fitted.describe(Point::new(1000.0, 750.0));
    assert_eq!(seen.mirrored, mirrored && model != Model::Shift);
}

#[test]
fn models_have_names_that_are_read_back() {
    for model in Model::ALL {
        assert_eq!(Model::try_from(model.name().to_owned()), Ok(model));
    }
    assert!(Model::try_from("smooth-9".to_owned()).is_err());
}

#[rstest]
fn the_simplest_model_that_fits_is_chosen(
    #[values(
        Model::Shift,
        Model::Similarity,
        Model::Affine,
        Model::Homography,
        Model::Smooth(3),
        Model::Smooth(5)
    )]
    model: Model,
) {
    let map = truth(model, false);
    let chosen = choose(&pairs(&map, 300, 0.05), None).unwrap();
    assert_eq!(chosen.model, model);
    assert!(chosen.crossval_rms_px > 0.05 && chosen.crossval_rms_px < 0.1);
}

#[test]
fn few_pairs_never_buy_a_free_model() {
    let map = truth(Model::Homography, false);
    assert_eq!(
        choose(&pairs(&map, 6, 0.3), None).unwrap().model,
        Model::Similarity
    );
    assert!(choose(&pairs(&map, 1, 0.0), None).is_none());
    // A lens that 30 stars cannot prove, with errors as large as itself.
    let distorted = truth(Model::Smooth(5), false);
    let model = choose(&pairs(&distorted, 30, 3.0), None).unwrap().model;
    assert!(model <= Model::Homography, "{model:?}");
}

#[rstest]
fn points_on_a_line_fix_no_affine_map(
    #[values(Model::Affine, Model::Homography, Model::Smooth(2))] model: Model,
) {
    let line: Vec<_> = (0..20)
        .map(|i| Pair {
            from: Point::new(f64::from(i), 2.0 * f64::from(i)),
            to: Point::new(f64::from(i), 2.0 * f64::from(i)),
            weight: 1.0,
        })
        .collect();
    assert!(M::fit(model, &line, None).is_none());
}

#[test]
fn a_meridian_flip_reads_as_180_degrees() {
    let seen = truth(Model::Similarity, false).describe(Point::new(0.0, 0.0));
    assert!((seen.rotation_deg - 181.2).abs() < 1e-9);
    assert!((seen.scale - 0.9).abs() < 1e-12);
}

#[test]
fn only_an_exact_shift_by_whole_pixels_is_one() {
    assert_eq!(M::shift(-3.0, 7.0).whole_shift(), Some((-3, 7)));
    assert_eq!(M::shift(-3.0, 7.5).whole_shift(), None);
    assert_eq!(truth(Model::Affine, false).whole_shift(), None);
}

#[test]
fn matrices_that_are_no_maps_are_refused() {
    assert!(M::from_rows([[f64::NAN, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]).is_none());
    assert!(M::from_rows([[1.0, 1.0, 0.0], [1.0, 1.0, 0.0], [0.0, 0.0, 1.0]]).is_none());
    assert!(M::from_rows([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 0.0]]).is_none());
}

proptest! {
    #[test]
    fn there_and_back_is_where_it_was(x in -100.0..3000.0f64, y in -100.0..3000.0f64) {
        for model in Model::ALL {
            let map = truth(model, true);
            let p = Point::<ReferencePx>::new(x, y);
            prop_assert!(map.invert().apply(map.apply(p)).distance(p) < 1e-7);
            if map.distortion().is_none() {
                let round = map.then(&map.invert()).unwrap();
                prop_assert!(round.apply(p).distance(p) < 1e-7);
            }
        }
    }

    #[test]
    fn the_jacobian_is_the_slope(x in 0.0..2000.0f64, y in 0.0..1500.0f64) {
        for map in [truth(Model::Homography, true), truth(Model::Smooth(3), true)] {
        let h = 1e-3;
        let at = |dx: f64, dy: f64| map.apply(Point::new(x + dx, y + dy));
        let [[a, b], [c, d]] = map.jacobian(Point::new(x, y));
        let (px, qx) = (at(h, 0.0), at(-h, 0.0));
        let (py, qy) = (at(0.0, h), at(0.0, -h));
        prop_assert!((a - (px.x - qx.x) / (2.0 * h)).abs() < 1e-6);
        prop_assert!((b - (py.x - qy.x) / (2.0 * h)).abs() < 1e-6);
        prop_assert!((c - (px.y - qx.y) / (2.0 * h)).abs() < 1e-6);
        prop_assert!((d - (py.y - qy.y) / (2.0 * h)).abs() < 1e-6);
        let back = map.invert().jacobian(map.apply(Point::new(x, y)));
        prop_assert!((back[0][0] * a + back[0][1] * c - 1.0).abs() < 1e-9);
        prop_assert!((back[1][0] * a + back[1][1] * c).abs() < 1e-9);
        }
    }

    #[test]
    fn a_shifted_bent_map_is_the_shift_and_the_bent_map(x in 0.0..1900.0f64, y in 0.0..1400.0f64) {
        let map = truth(Model::Smooth(4), true);
        let before = Map::<CanvasPx, ReferencePx>::shift(12.5, -7.0);
        let both = before.then(&map).unwrap();
        let p = Point::new(x, y);
        prop_assert!(both.apply(p).distance(map.apply(before.apply(p))) < 1e-9);
        let back = both.invert().apply(both.apply(p));
        prop_assert!(back.distance(p) < 1e-7);
        prop_assert!(map.then(&Map::<FramePx, FramePx>::shift(1.0, 0.0)).is_none());
    }
}
