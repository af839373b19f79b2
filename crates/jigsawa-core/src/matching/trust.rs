//! How far a map can be trusted where it matters most: at the corners, and where it rests on no star.
//!
//! The scatter of the stars says how well they were measured, not how well the map is known: that is far
//! better in the middle of many stars, and worse in a corner without any. The covariance of the
//! model's parameters, from the pairs' weights and what they scatter beyond them, is carried to each
//! corner of the frame (the usual error propagation of weighted least squares).

use crate::number::Convert;
use nalgebra::{DMatrix, DVector};

use crate::convex::cut;
use crate::placement::{Model, Pair, Registration, powers_of, terms};
use crate::space::{FramePx, Point, ReferencePx, Size};

/// So many coordinates' worth is the told error of stars believed, whatever their scatter: of a few pairs it may be luck.
const LUCK: f64 = 8.0;

/// What moves all stars of a frame alike no scatter shows: interpolation by a part of a pixel was seen to do so by 0.002
/// to 0.006 px.
const ALIKE_PX: f64 = 0.0025;

/// Standard error of each coordinate of the map at the worst of these corners, in frame pixels;
/// infinite where the pairs do not fix the model.
pub(super) fn corner_error(
    map: &Registration,
    model: Model,
    pairs: &[Pair<ReferencePx, FramePx>],
    corners: &[Point<FramePx>],
) -> f64 {
    let back = map.invert();
    let n = pairs.len().real();
    let centre = |of: fn(&Pair<ReferencePx, FramePx>) -> f64| pairs.iter().map(of).sum::<f64>() / n;
    let (cx, cy) = (centre(|p| p.from.x), centre(|p| p.from.y));
    // Parameters of like size keep the matrix well conditioned.
    let spread = pairs
        .iter()
        .map(|p| (p.from.x - cx).hypot(p.from.y - cy))
        .fold(1.0, f64::max);
    let place = |p: Point<ReferencePx>| ((p.x - cx) / spread, (p.y - cy) / spread);
    let count = model.numbers();
    let mut normal = DMatrix::<f64>::zeros(count, count);
    let mut excess = 0.0;
    for p in pairs {
        for row in rows(model, place(p.from)) {
            normal.ger(p.weight, &row, &row, 1.0);
        }
        excess += p.weight * map.apply(p.from).distance(p.to).powi(2);
    }
    let free = 2.0 * n - count.real();
    let Some(cholesky) = normal.cholesky().filter(|_| free > 0.0) else {
        return f64::INFINITY;
    };
    // Stars' errors are told with a floor that most do not need: many pairs show by their scatter how well they are known.
    let scale = (excess + LUCK) / (free + LUCK);
    corners
        .iter()
        .map(|corner| {
            let variance: f64 = rows(model, place(back.apply(*corner)))
                .iter()
                .map(|row| row.dot(&cholesky.solve(row)))
                .sum();
            (0.5 * scale * variance).sqrt()
        })
        .fold(0.0, f64::max)
        .hypot(ALIKE_PX)
}

/// Pairs in each ninth of the frame, row after row.
pub(super) fn coverage(pairs: &[Pair<ReferencePx, FramePx>], frame: Size) -> [usize; 9] {
    let third = |v: f64, n: usize| (3.0 * (v + 0.5) / n.real()).max(0.0).index().min(2);
    let mut counts = [0; 9];
    for p in pairs {
        counts[3 * third(p.to.y, frame.height()) + third(p.to.x, frame.width())] += 1;
    }
    counts
}

/// What x and y of the map change with each parameter, at a place in units of the pairs' spread. To
/// first order it does not matter around which map of the model.
fn rows(model: Model, (u, v): (f64, f64)) -> [DVector<f64>; 2] {
    let (x, y) = match model {
        Model::Shift => (vec![1.0, 0.0], vec![0.0, 1.0]),
        Model::Similarity => (vec![1.0, 0.0, u, -v], vec![0.0, 1.0, v, u]),
        Model::Affine => (
            vec![1.0, u, v, 0.0, 0.0, 0.0],
            vec![0.0, 0.0, 0.0, 1.0, u, v],
        ),
        Model::Homography => (
            vec![1.0, u, v, 0.0, 0.0, 0.0, u * u, u * v],
            vec![0.0, 0.0, 0.0, 1.0, u, v, u * v, v * v],
        ),
        Model::Smooth(degree) => {
            let count = terms(degree);
            let mut x = vec![0.0; 2 * count];
            powers_of(u, v, degree, &mut x);
            let mut y = x.clone();
            y.rotate_right(count);
            (x, y)
        }
    };
    [DVector::from_vec(x), DVector::from_vec(y)]
}

/// The corners of what frame and reference share, in frame pixels: the reference's outline on the frame,
/// cut at the frame's edges. The frame's own where they share
/// nothing.
pub(super) fn shared_corners(
    map: &Registration,
    reference: Size,
    frame: Size,
) -> Vec<Point<FramePx>> {
    let mut outline: Vec<Point<FramePx>> = reference
        .corners::<ReferencePx>()
        .iter()
        .map(|p| map.apply(*p))
        .collect();
    let (right, bottom) = (frame.width().real() - 0.5, frame.height().real() - 0.5);
    // Each edge as a, b, c: inside of it a x + b y + c is not negative.
    let edges = [
        [1.0, 0.0, 0.5],
        [-1.0, 0.0, right],
        [0.0, 1.0, 0.5],
        [0.0, -1.0, bottom],
    ];
    for [a, b, c] in edges {
        outline = cut(&outline, |p| a * p.x + b * p.y + c);
    }
    if outline.is_empty() {
        frame.corners().to_vec()
    } else {
        outline
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Map;
    use crate::space::Rect;
    use rstest::rstest;

    /// Pairs over a part of the frame, with errors of `sigma` drawn anew for each `round`.
    fn pairs(part: f64, sigma: f64, count: usize, round: usize) -> Vec<Pair<ReferencePx, FramePx>> {
        let hash = |i: usize, k: u64| {
            let mut z = (i as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ (k << 40);
            z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
            z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
            ((z ^ (z >> 31)) >> 11).real() / (1u64 << 53).real()
        };
        let noise = |i: usize, k: u64| {
            (0..12)
                .map(|j| hash(1000 * round + i, 64 * k + j + 7))
                .sum::<f64>()
                - 6.0
        };
        (0..count)
            .map(|i| {
                let from = Point::new(1000.0 * part * hash(i, 1), 800.0 * part * hash(i, 2));
                Pair {
                    from,
                    to: Point::new(from.x + sigma * noise(i, 3), from.y + sigma * noise(i, 4)),
                    weight: 1.0 / (sigma * sigma),
                }
            })
            .collect()
    }

    #[rstest]
    #[case(Model::Similarity, 1.0)]
    #[case(Model::Affine, 1.0)]
    #[case(Model::Homography, 1.0)]
    #[case(Model::Affine, 0.4)]
    #[case(Model::Shift, 1.0)]
    #[case(Model::Smooth(2), 1.0)]
    fn the_error_is_the_scatter_of_maps_fitted_again_and_again(
        #[case] model: Model,
        #[case] part: f64,
    ) {
        let size = Size::new(1001, 801).unwrap();
        let corners = size.corners::<ReferencePx>();
        let (mut squares, mut told) = ([0.0; 4], 0.0);
        let rounds = 200;
        for round in 0..rounds {
            let drawn = pairs(part, 0.1, 40, round);
            let map = Map::fit(model, &drawn, None).unwrap();
            for (sum, corner) in squares.iter_mut().zip(corners) {
                let off = map.apply(corner);
                *sum += 0.5 * ((off.x - corner.x).powi(2) + (off.y - corner.y).powi(2));
            }
            told += corner_error(&map, model, &drawn, &size.corners()) / f64::from(rounds.u32());
        }
        let seen = squares
            .iter()
            .map(|s| (s / f64::from(rounds.u32())).sqrt())
            .fold(0.0, f64::max);
        assert!((told / seen - 1.0).abs() < 0.25, "{told} for {seen}");
    }

    #[test]
    fn stars_in_one_corner_leave_the_others_uncertain_and_uncovered() {
        let size = Size::new(1001, 801).unwrap();
        let near = pairs(0.3, 0.1, 30, 0);
        let all = pairs(1.0, 0.1, 30, 0);
        let error = |p: &[Pair<_, _>]| {
            let map = Map::fit(Model::Affine, p, None).unwrap();
            corner_error(&map, Model::Affine, p, &size.corners())
        };
        assert!(error(&near) > 3.0 * error(&all));
        assert_eq!(coverage(&near, size), [30, 0, 0, 0, 0, 0, 0, 0, 0]);
        assert!(coverage(&all, size).iter().all(|n| *n > 0));
        let line: Vec<_> = near
            .iter()
            .map(|p| Pair {
                from: Point::new(p.from.x, 0.0),
                ..*p
            })
            .collect();
        let error = corner_error(&Map::shift(0.0, 0.0), Model::Affine, &line, &size.corners());
        assert!(error > 1e3 || error.is_infinite());
    }

    #[test]
    fn what_two_frames_share_ends_at_the_edges_of_both() {
        let size = Size::new(100, 80).unwrap();
        let bounds = |map: &Registration| Rect::around(shared_corners(map, size, size));
        let far = bounds(&Map::shift(60.0, -50.0));
        assert_eq!((far.x, far.y, far.right(), far.bottom()), (60, -1, 101, 30));
        let (s, c) = 0.5f64.sin_cos();
        let turned = Map::from_rows([[c, -s, 20.0], [s, c, -20.0], [0.0, 0.0, 1.0]]).unwrap();
        let all = shared_corners(&turned, size, size);
        assert!(all.len() > 4);
        for p in &all {
            let on = |v: f64, n: f64| v > -0.5 - 1e-9 && v < n - 0.5 + 1e-9;
            let q = turned.invert().apply(*p);
            assert!(on(p.x, 100.0) && on(p.y, 80.0) && on(q.x, 100.0) && on(q.y, 80.0));
        }
        assert_eq!(shared_corners(&Map::shift(500.0, 0.0), size, size).len(), 4);
    }
}
