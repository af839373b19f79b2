//! Panels of the made-up sky: tied, solved, balanced and joined, against the truth.

use jigsawa_core::matching::{FrameSpots, Spot, ties};
use jigsawa_core::measured::Measured;
use jigsawa_core::mosaic::place::registration;
use jigsawa_core::mosaic::solve::{Problem, Solution, rough, solve, untied};
use jigsawa_core::mosaic::tracks::{meeting, of_ties};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Map, Model, Pair};
use jigsawa_core::space::{FramePx, Point, ReferencePx, Size};
use jigsawa_core::wcs::Projection;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::panels::SPHERE;
use jigsawa_sky::pointing::{Pointing, SkyPx, Sphere};
use jigsawa_sky::stars::Crowd;
use rstest::rstest;

/// Frames of a mosaic as lists of stars, measured with errors, and the truth about their places.
struct Field {
    size: Size,
    truth: Vec<Map<SkyPx, FramePx>>,
    spots: Vec<Vec<Spot<FramePx>>>,
}

/// A number from -6 to 6 that is nearly normal, fixed by `a` and `b`.
fn noise(a: usize, b: usize) -> f64 {
    let one = |k: u64| {
        let mut z =
            (a as u64 * 31 + k + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ ((b as u64) << 32);
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11).real() / (1u64 << 53).real()
    };
    (0..12).map(one).sum::<f64>() - 6.0
}

impl Field {
    /// Columns x rows panels with this overlap, in as many filters as there are depths: how faint stars are that
    /// each shows.
    fn new(shape: (usize, usize), overlap: f64, depths: &[f64]) -> Self {
        Self::on(SPHERE, shape, overlap, depths)
    }

    /// The same on another sphere.
    fn on(sphere: Sphere, (columns, rows): (usize, usize), overlap: f64, depths: &[f64]) -> Self {
        let size = Size::new(1500, 1000).unwrap();
        let optics = Optics {
            distortion_px: 2.0,
            ..Optics::round(3.0)
        };
        let (mut truth, mut spots) = (Vec::new(), Vec::new());
        for (filter, depth) in depths.iter().enumerate() {
            for k in 0..columns * rows {
                let i = truth.len();
                let (c, r) = ((k % columns).real(), (k / columns).real());
                let at = (
                    960.0
                        + (c - 0.5 * (columns.real() - 1.0)) * (1.0 - overlap) * 1500.0
                        + 6.0 * noise(i, 1),
                    640.0
                        + (r - 0.5 * (rows.real() - 1.0)) * (1.0 - overlap) * 1000.0
                        + 6.0 * noise(i, 2),
                );
                let pointing = Pointing {
                    turn_deg: 0.6 * noise(i, 3) + if filter == 1 { 180.0 } else { 0.0 },
                    scale: 1.0 + 2e-5 * noise(i, 4),
                    sphere: Some(sphere),
                    ..Pointing::at(at.0, at.1)
                };
                let flat = pointing.map(size);
                let map = flat
                    .clone()
                    .distorted(optics.distortion(size).unwrap())
                    .unwrap();
                let reach = 1000.0;
                let around = (at.0 - reach, at.1 - reach, at.0 + reach, at.1 + reach);
                let mut stars = Crowd::lantern_reef().over(around);
                stars.sort_by(|a, b| a.magnitude.total_cmp(&b.magnitude));
                let seen = stars
                    .iter()
                    .filter(|s| s.magnitude < *depth)
                    .map(|s| (s, map.apply(Point::new(s.x, s.y))))
                    .filter(|(_, p)| size.holds(*p))
                    .take(1000)
                    .enumerate()
                    .map(|(n, (s, p))| {
                        let sigma_px = 0.01 + 0.12 * 10f64.powf(0.4 * (s.magnitude - depth));
                        Spot {
                            at: Point::new(
                                p.x + sigma_px * noise(n, 10 + i),
                                p.y + sigma_px * noise(n, 99 + i),
                            ),
                            sigma_px,
                            clean: true,
                            index: n,
                        }
                    })
                    .collect();
                truth.push(map);
                spots.push(seen);
            }
        }
        Self { size, truth, spots }
    }

    fn shown(&self) -> Vec<FrameSpots<'_>> {
        let size = self.size;
        self.spots
            .iter()
            .map(|spots| FrameSpots { spots, size })
            .collect()
    }
}

/// Solves a field as the program does.
fn solved(problem: &Problem<'_>) -> (Solution, usize) {
    let found = ties(problem.frames);
    assert!(untied(problem, &found).is_empty());
    let first = of_ties(problem.frames, &found);
    let mut s = solve(problem, &first, &rough(problem, &found));
    for reach in [2.0, 1.0] {
        let tracks = meeting(problem.frames, &s.spots_on_plane(problem), reach);
        s = solve(problem, &tracks, &s);
    }
    (s, found.len())
}

/// Root mean square and largest error of all places over all frames, in pixels, after the best turn, shift and
/// scale of the whole: the sky's own plane against the solution's.
fn errors(field: &Field, problem: &Problem<'_>, s: &Solution) -> (f64, f64) {
    let mut pairs: Vec<Pair<ReferencePx, SkyPx>> = Vec::new();
    for (i, truth) in field.truth.iter().enumerate() {
        let (map, ..) = registration(problem, s, Projection::Tangent, i).unwrap();
        let (back, truth) = (map.invert(), truth.invert());
        for k in 0..81 {
            let at = |k: usize, n: usize| k.real() / 8.0 * (n.real() - 1.0);
            let p = Point::new(
                at(k % 9, field.size.width()),
                at(k / 9, field.size.height()),
            );
            pairs.push(Pair {
                from: back.apply(p),
                to: truth.apply(p),
                weight: 1.0,
            });
        }
    }
    // Which way the reference itself points is its own; the plane that touches there is a tilt of the sky's.
    let map = Map::fit(Model::Homography, &pairs, None).unwrap();
    let off: Vec<f64> = pairs
        .iter()
        .map(|p| map.apply(p.from).distance(p.to))
        .collect();
    let rms = (off.iter().map(|d| d * d).sum::<f64>() / off.len().real()).sqrt();
    (rms, off.iter().copied().fold(0.0, f64::max))
}

#[rstest]
#[case::eight_percent(0.08)]
#[case::twelve_percent(0.12)]
#[case::quarter(0.25)]
fn twelve_panels_lie_within_0_15_px_rms_over_the_whole_field(#[case] overlap: f64) {
    let field = Field::new((3, 4), overlap, &[15.5]);
    let frames = field.shown();
    let radius = SPHERE.radius;
    let told = Measured {
        value: 1.0 / (radius * radius),
        sigma: 0.05 / (radius * radius),
    };
    for curvature in [Some(told), None] {
        let problem = Problem {
            frames: &frames,
            cameras: &[0; 12],
            reference: 4,
            curvature,
            kept: None,
        };
        let (s, found) = solved(&problem);
        assert!(found >= 17, "{found} ties");
        let (rms, max) = errors(&field, &problem, &s);
        println!(
            "overlap {overlap}, curvature told {}: rms {rms:.3} max {max:.3}, curvature {:e}",
            curvature.is_some(),
            s.curvature
        );
        assert!(rms < 0.15 && max < 0.5, "{rms} {max}");
    }
}

#[test]
fn a_field_of_thirty_degrees_is_placed_on_a_stereographic_plane() {
    // A panel is 9 degrees wide.
    let sphere = Sphere {
        radius: 9500.0,
        ..SPHERE
    };
    let field = Field::on(sphere, (3, 2), 0.25, &[15.5]);
    let frames = field.shown();
    let flat = 1.0 / (sphere.radius * sphere.radius);
    let problem = Problem {
        frames: &frames,
        cameras: &[0; 6],
        reference: 1,
        curvature: Some(Measured {
            value: 1.03 * flat,
            sigma: 0.05 * flat,
        }),
        kept: None,
    };
    let (s, _) = solved(&problem);
    // The stars tell the curvature far better than the header did.
    assert!(
        (s.curvature / flat - 1.0).abs() < 0.001,
        "{}",
        s.curvature / flat
    );
    let (rms, max) = errors(&field, &problem, &s);
    assert!(rms < 0.15 && max < 0.5, "{rms} {max}");
    for projection in [Projection::Stereographic, Projection::EqualArea] {
        for i in 0..6 {
            let (map, _, fit_px) = registration(&problem, &s, projection, i).unwrap();
            assert!(fit_px < 0.02, "{projection:?} {i}: {fit_px}");
            assert!(map.is_sound_on(frames[1].size), "{projection:?} {i}");
        }
    }
    // At the outer edge of a panel at the side, 11 degrees from the middle and 4.5 from its own, a pixel is as large as
    // in the middle on the stereographic plane to half a percent, and 3 % larger on the tangent plane.
    let scale = |projection| {
        let (map, ..) = registration(&problem, &s, projection, 0).unwrap();
        let back = map.invert();
        let edge = |x: f64| back.apply(Point::new(x, 500.0));
        edge(0.0).distance(edge(10.0)) / 10.0
    };
    let (wide, tangent) = (scale(Projection::Stereographic), scale(Projection::Tangent));
    assert!(
        (wide - 1.0).abs() < 0.01 && tangent > wide + 0.025,
        "{wide} {tangent}"
    );
}
