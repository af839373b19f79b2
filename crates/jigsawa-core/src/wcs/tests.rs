//! The projection against closed forms, and there and back.

use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::placement::Placement;
use crate::space::CanvasPx;

fn plain(ra_deg: f64, dec_deg: f64) -> Fields {
    let (s, c) = 23f64.to_radians().sin_cos();
    let px = 1.5 / 3600.0;
    Fields {
        touches: Sky { ra_deg, dec_deg },
        at: [1000.0, 700.0],
        matrix: [[-px * c, px * s], [px * s, px * c]],
        pole_deg: 180.0,
        sip: None,
        system: Some("ICRS".to_owned()),
        equinox: None,
        projection: Projection::Tangent,
    }
}

fn bent(order: u8) -> Sip {
    Sip::from_terms(order, |p, q| match (p, q) {
        (2, 0) => (3e-7, -1e-7),
        (1, 1) => (-2e-7, 4e-7),
        (3, 0) | (1, 2) => (2e-10, 0.0),
        (2, 1) | (0, 3) => (0.0, 2e-10),
        _ => (0.0, 0.0),
    })
}

fn wcs(fields: Fields) -> Wcs {
    Wcs::new(fields).unwrap()
}

#[test]
fn the_projection_is_that_of_the_paper() {
    // Calabretta & Greisen: R = (180/pi) cot(theta); at the pole of the projection theta is the
    // altitude above the plane through the sphere's centre.
    let w = wcs(Fields {
        matrix: [[-0.001, 0.0], [0.0, 0.001]],
        at: [0.0, 0.0],
        ..plain(10.0, 0.0)
    });
    // On the equator: x = -tan(ra - ra0) in degrees of the plane.
    let sky = w.sky(Point::<FramePx>::new(-3000.0, 0.0));
    let want = 10.0 + 3f64.to_radians().atan().to_degrees();
    assert!((sky.ra_deg - want).abs() < 1e-12 && sky.dec_deg.abs() < 1e-12);
    let north = w.sky(Point::<FramePx>::new(0.0, 3000.0));
    assert!((north.dec_deg - 3f64.to_radians().atan().to_degrees()).abs() < 1e-12);
    // The distance from where the plane touches is atan(R) in every direction.
    let p = Point::<FramePx>::new(1234.0, -987.0);
    let r = (p.x.hypot(p.y) * 0.001).to_radians();
    let far = w.sky(p).separation_deg(w.fields().touches);
    assert!((far - r.atan().to_degrees()).abs() < 1e-12);
}

#[test]
fn a_pole_elsewhere_turns_the_plane() {
    let usual = wcs(plain(40.0, 30.0));
    let turned = wcs(Fields {
        pole_deg: 170.0,
        ..plain(40.0, 30.0)
    });
    let p = Point::<FramePx>::new(1800.0, 900.0);
    let touches = usual.fields().touches;
    let (a, b) = (usual.sky(p), turned.sky(p));
    assert!((a.separation_deg(touches) - b.separation_deg(touches)).abs() < 1e-12);
    assert!(a.separation_deg(b) > 0.01);
    assert!(turned.pixel::<FramePx>(b).unwrap().distance(p) < 1e-7);
}

#[rstest]
fn there_and_back(
    #[values(0.01, 83.0, 359.99)] ra: f64,
    #[values(-89.9, -20.0, 0.0, 71.0, 90.0)] dec: f64,
    #[values(None, Some(3))] order: Option<u8>,
) {
    let w = wcs(Fields {
        sip: order.map(bent),
        ..plain(ra, dec)
    });
    for (x, y) in [
        (0.0, 0.0),
        (1999.0, 1399.0),
        (-300.0, 700.0),
        (1000.0, 700.0),
    ] {
        let p = Point::<FramePx>::new(x, y);
        let back = w.pixel(w.sky(p)).unwrap();
        assert!(p.distance(back) < 1e-6, "{ra} {dec} {x} {y}: {back:?}");
    }
    let other_side = Sky {
        ra_deg: (ra + 180.0) % 360.0,
        dec_deg: -dec,
    };
    assert_eq!(w.pixel::<FramePx>(other_side), None);
}

#[test]
fn north_is_where_declination_grows() {
    let w = wcs(plain(40.0, 30.0));
    let [x, y] = w.north(Point::<FramePx>::new(1000.0, 700.0)).unwrap();
    let want = 23f64.to_radians().sin_cos();
    assert!((x - want.0).abs() < 1e-6 && (y - want.1).abs() < 1e-6);
}

#[test]
fn numbers_that_make_no_wcs_are_refused() {
    let flat = Fields {
        matrix: [[1e-4, 1e-4], [1e-4, 1e-4]],
        ..plain(1.0, 1.0)
    };
    assert!(Wcs::new(flat).is_none());
    let beyond = plain(1.0, 91.0);
    assert!(Wcs::new(beyond).is_none());
    let short = Fields {
        sip: Some(Sip {
            order: 3,
            a: vec![0.0; 4],
            b: vec![0.0; 10],
        }),
        ..plain(1.0, 1.0)
    };
    assert!(Wcs::new(short).is_none());
}

#[test]
fn a_distorted_sky_is_fitted_on_a_turned_and_finer_canvas() {
    let w = wcs(Fields {
        sip: Some(bent(3)),
        ..plain(120.0, 62.0)
    });
    let (s, c) = 0.3f64.sin_cos();
    let placement = Placement::from_rows([
        [0.5 * c, -0.5 * s, 400.0],
        [0.5 * s, 0.5 * c, -100.0],
        [0.0, 0.0, 1.0],
    ])
    .unwrap();
    let claim = Claim {
        wcs: &w,
        placement: &placement,
        size: Size::new(2000, 1400).unwrap(),
    };
    let canvas = Size::new(3000, 2500).unwrap();
    let fitted = on_canvas(&claim, canvas).unwrap();
    for (x, y) in [
        (0.0, 0.0),
        (2999.0, 2499.0),
        (123.0, 2000.0),
        (1500.0, 1250.0),
    ] {
        let p = Point::<CanvasPx>::new(x, y);
        let there = fitted.pixel::<CanvasPx>(w.sky(placement.apply(p))).unwrap();
        assert!(there.distance(p) < 0.002, "{x} {y}: {there:?}");
    }
    assert_eq!(fitted.fields().system.as_deref(), Some("ICRS"));
}

#[test]
fn the_claim_of_the_majority_is_believed() {
    let good = wcs(plain(120.0, 62.0));
    let wrong = good.shifted(40.0, 0.0);
    let (here, there) = (Placement::shift(0.0, 0.0), Placement::shift(25.0, 0.0));
    let moved = good.shifted(-25.0, 0.0);
    let size = Size::new(2000, 1400).unwrap();
    let claim = |wcs, placement| Claim {
        wcs,
        placement,
        size,
    };
    let all = [
        claim(&wrong, &here),
        claim(&good, &here),
        claim(&moved, &there),
    ];
    let found = agreed(&all, size).unwrap();
    assert_eq!(found.claim, 1);
    assert!((found.apart_px[0] - 40.0).abs() < 0.1 && found.apart_px[2] < 1e-6);
    // Of two that disagree the first is believed.
    assert_eq!(agreed(&all[..2], size).unwrap().claim, 0);
    assert!(agreed(&[], size).is_none());
    let exact = on_canvas(&all[2], size).unwrap();
    let p = Point::<CanvasPx>::new(77.0, 88.0);
    assert!(exact.pixel::<CanvasPx>(good.sky(p)).unwrap().distance(p) < 1e-7);
}

#[test]
fn two_headers_guess_the_map_between_their_frames() {
    let a = wcs(plain(120.0, 62.0));
    let b = wcs(Fields {
        at: [300.0, 200.0],
        matrix: [[1e-3, 0.0], [0.0, -1e-3]],
        ..plain(120.02, 62.01)
    });
    let sizes = (Size::new(2000, 1400).unwrap(), Size::new(600, 400).unwrap());
    let map = guess((&a, sizes.0), (&b, sizes.1)).unwrap();
    let p = Point::<ReferencePx>::new(900.0, 650.0);
    let want = b.pixel::<FramePx>(a.sky(p)).unwrap();
    assert!(map.apply(p).distance(want) < 0.05);
    let elsewhere = wcs(plain(300.0, -62.0));
    assert!(guess((&a, sizes.0), (&elsewhere, sizes.1)).is_none());
}

proptest! {
    #[test]
    fn a_shifted_grid_sees_the_same_sky(dx in -500.0..500.0f64, dy in -500.0..500.0f64) {
        let w = wcs(Fields { sip: Some(bent(3)), ..plain(5.0, -40.0) });
        let moved = w.shifted(dx, dy);
        let a = w.sky(Point::<FramePx>::new(900.0, 600.0));
        let b = moved.sky(Point::<FramePx>::new(900.0 - dx, 600.0 - dy));
        prop_assert!(a.separation_deg(b) < 1e-11);
    }
}
