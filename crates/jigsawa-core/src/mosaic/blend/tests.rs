use super::*;
use crate::balance::Balance;
use crate::merge::{Budget, Input, LeftOut, merge};
use crate::mosaic::border::Coverage;
use crate::mosaic::levels::Shared;
use crate::mosaic::seams::{Costs, lay};
use crate::number::Convert;
use crate::placement::Map;
use crate::plane::Plane;
use crate::space::Size;

const PATCH: usize = 16;

/// Two panels of 160 x 120 that share 80 columns, the second higher by what `lift` says over the canvas.
fn joined(lift: &dyn Fn(f64, f64) -> f32, stars: &[Shining], share: Share) -> Plane {
    let canvas = Size::new(240, 120).unwrap();
    let size = Size::new(160, 120).unwrap();
    let cells = Cells::of_side(canvas, 4);
    let star = |x: usize, y: usize, peak: f32| {
        let d2 = (x.single() - 118.3).powi(2) + (y.single() - 61.2).powi(2);
        peak * (-d2 / 8.0).exp()
    };
    let panel = |shift: usize, peak: f32, lifted: bool| {
        let data = (0..size.area()).map(|i| {
            let (x, y) = (i % 160 + shift, i / 160);
            100.0
                + star(x, y, peak)
                + if lifted {
                    lift(x.real(), y.real())
                } else {
                    0.0
                }
        });
        Plane::new(size, data.collect()).unwrap()
    };
    let planes = [panel(0, 500.0, false), panel(80, 900.0, true)];
    let maps = [Map::shift(0.0, 0.0), Map::shift(-80.0, 0.0)];
    let covers: Vec<Cover> = planes
        .iter()
        .zip(&maps)
        .map(|(p, m)| Cover::of(p, m, &Coverage::of(p), cells))
        .collect();
    let labels = lay(&covers, &Costs::of_stars(cells, &[]), 0, None);
    let patches = (0..5 * 7)
        .map(|k| {
            let at = Point::new(
                (80 + PATCH * (k % 5)).real() + 7.5,
                (PATCH * (k / 5)).real() + 7.5,
            );
            let after = -f64::from(lift(at.x, at.y));
            Shared {
                at,
                before: after,
                after,
                mean: 100.0,
                kept: 1.0,
            }
        })
        .collect();
    let overlap = Overlap {
        a: 0,
        b: 1,
        ratio: None,
        stars: 0,
        patches,
    };
    let all = covers.into_iter().map(Some).collect();
    let join = Join::new(
        (cells, share),
        &labels,
        all,
        stars,
        (&[overlap], &[0, 1], PATCH),
    );
    let inputs =
        [0, 1].map(|k| Input::new(&planes[k], maps[k].clone(), Balance::unchanged(0.0, 1.0)));
    let op = JoinPanels {
        join: &join,
        frames: &[(0, 1.0), (1, 1.0)],
        panels: 2,
        noise: &[1.0, 1.0],
        sky: 0.0,
        maps: false,
        left_out: &LeftOut::default(),
    };
    let mut out = vec![Plane::filled(canvas, 0.0)];
    let budget = Budget { bytes: 1 << 24 };
    merge(&inputs, canvas, &op, budget, &mut out, &|_, _| ()).unwrap();
    out.remove(0)
}

fn largest_step(p: &Plane, y: usize) -> f32 {
    p.row(y)
        .windows(2)
        .map(|w| (w[0] - w[1]).abs())
        .fold(0.0, f32::max)
}

#[test]
fn a_difference_is_spread_over_the_overlap() {
    let out = joined(&|_, _| 8.0, &[], Share::Seam);
    assert!(out.data().iter().all(|v| v.is_finite()));
    // Far from the overlap nothing has changed.
    assert!((out.row(20)[10] - 100.0).abs() < 1e-4 && (out.row(20)[230] - 108.0).abs() < 1e-4);
    // A cut would be a step of 8; three cells' ramp alone 1 a pixel.
    let step = largest_step(&out, 20);
    assert!(step < 0.35, "{step}");
    let none = joined(&|_, _| 0.0, &[], Share::Seam);
    assert!(largest_step(&none, 20) < 1e-3);
}

#[test]
fn a_star_on_the_seam_comes_from_one_panel_whole() {
    let star = Shining {
        at: Point::new(118.3, 61.2),
        radius: 10.0,
        height: 500.0,
    };
    let peak = |p: &Plane| (115..122).map(|x| p.row(61)[x]).fold(0.0, f32::max);
    let whole = joined(&|_, _| 0.0, &[star], Share::Seam);
    let (a, b) = (592.0, 985.6);
    let got = peak(&whole);
    assert!((got - a).abs() < 2.0 || (got - b).abs() < 2.0, "{got}");
    // Its profile: the same owner over the whole disc.
    let height = if got > 800.0 { 900.0 } else { 500.0 };
    for (x, y) in [(114, 61), (118, 66), (123, 58)] {
        let d2 = (x.single() - 118.3).powi(2) + (y.single() - 61.2).powi(2);
        let want = 100.0 + height * (-d2 / 8.0).exp();
        assert!((whole.row(y)[x] - want).abs() < 0.01 * want, "({x}, {y})");
    }
}

#[test]
fn a_mean_is_half_way_between_both() {
    let out = joined(&|_, _| 8.0, &[], Share::Average);
    assert!((out.row(20)[119] - 104.0).abs() < 0.5);
    assert!((out.row(20)[4] - 100.0).abs() < 1e-4);
    assert!(out.data().iter().all(|v| v.is_finite()));
}
