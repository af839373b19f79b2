//! Groups of four stars and their code, which shift, turn and scale leave unchanged (Lang, Hogg,
//! Mierle, Blanton & Roweis 2010, AJ 139, 1782).
//!
//! The two stars farthest apart define a frame of axes in which the first is (0, 0) and the second
//! (1, 1); the code is where the other two lie in it. A mirrored frame has the codes of its mirror
//! image, so the frame's groups are looked up twice. Groups are formed among neighbours in lists of
//! growing depth: two frames of different depth or field then share some list in which the same
//! stars are neighbours.

use rayon::prelude::*;
use rstar::RTree;
use rstar::primitives::GeomWithData;

use crate::placement::{Map, Model, Pair, Registration};
use crate::space::{FramePx, ReferencePx};

use super::Spot;
use super::consensus::Proposal;

/// Depths of the lists of brightest stars.
const DEPTHS: [usize; 7] = [10, 20, 40, 80, 160, 320, 640];

/// Nearest neighbours of each star that groups are formed with: 10 groups a star.
const NEIGHBOURS: usize = 5;

/// Codes differ by centroid errors over the group's length: 0.3 px over 30 px.
const CODE_TOLERANCE: f64 = 0.012;

/// Groups shorter than this have codes too uncertain to tell apart.
const LEAST_LENGTH_PX: f64 = 20.0;

/// Frame pixels to a reference pixel that two cameras may differ by: 0.25 to 4, and some room.
const SCALES: std::ops::Range<f64> = 0.2..5.0;

/// Four stars and their code.
#[derive(Debug, Clone, Copy)]
pub(super) struct Group {
    pub(super) code: [f64; 4],
    pub(super) stars: [usize; 4],
}

/// How far apart codes of the same four stars may be, squared.
pub(super) const CODE_REACH2: f64 = CODE_TOLERANCE * CODE_TOLERANCE;

/// All maps that pairs of like groups propose, best likeness first.
pub(super) fn proposals(reference: &[Spot<ReferencePx>], frame: &[Spot<FramePx>]) -> Vec<Proposal> {
    of_groups(reference, frame, groups)
}

/// Lists up to this long are short: in them stars that only one frame shows break up every neighbourhood.
const SHORT: usize = 120;

/// Brightest stars of which all groups are formed: 150 000.
const ALL_OF: usize = 45;

/// The maps that all groups of two short lists propose, not those of neighbours alone (as Groth 1986, AJ 91, 1244, and
/// Valdes et al. 1995, PASP 107, 1119, do with all triangles); none for long ones.
pub(super) fn exhaustive(
    reference: &[Spot<ReferencePx>],
    frame: &[Spot<FramePx>],
) -> Vec<Proposal> {
    if reference.len().max(frame.len()) > SHORT {
        return Vec::new();
    }
    of_groups(reference, frame, all_groups)
}

/// Forms groups of places; the second number mirrors them first.
type Form = fn(&[[f64; 2]], f64) -> Vec<Group>;

fn all_groups(stars: &[[f64; 2]], hand: f64) -> Vec<Group> {
    let n = stars.len().min(ALL_OF);
    (0..n)
        .into_par_iter()
        .flat_map_iter(|a| {
            let four = (a + 1..n).flat_map(move |b| {
                (b + 1..n).flat_map(move |c| (c + 1..n).map(move |d| [a, b, c, d]))
            });
            four.filter_map(|four| describe(stars, four, hand))
        })
        .collect()
}

fn of_groups(
    reference: &[Spot<ReferencePx>],
    frame: &[Spot<FramePx>],
    form: Form,
) -> Vec<Proposal> {
    let at = |s: &Spot<ReferencePx>| [s.at.x, s.at.y];
    let reference_xy: Vec<[f64; 2]> = reference.iter().map(at).collect();
    let frame_xy: Vec<[f64; 2]> = frame.iter().map(|s| [s.at.x, s.at.y]).collect();
    let known = form(&reference_xy, 1.0);
    let tree = RTree::bulk_load(
        known
            .iter()
            .enumerate()
            .map(|(i, g)| GeomWithData::new(g.code, i))
            .collect(),
    );
    let mut all: Vec<(f64, Registration)> = [1.0, -1.0]
        .into_iter()
        .flat_map(|hand| form(&frame_xy, hand))
        .collect::<Vec<_>>()
        .par_iter()
        .flat_map_iter(|g| {
            tree.locate_within_distance(g.code, CODE_REACH2)
                .filter_map(|hit| alike((reference, &known[hit.data]), (frame, g)))
                .collect::<Vec<_>>()
        })
        .collect();
    sorted(&mut all)
}

/// The map that two like groups propose, after how unlike they are all the same; `None` when it is none of two
/// cameras.
pub(super) fn alike(
    (reference, like): (&[Spot<ReferencePx>], &Group),
    (frame, g): (&[Spot<FramePx>], &Group),
) -> Option<(f64, Registration)> {
    let pairs: [Pair<ReferencePx, FramePx>; 4] = std::array::from_fn(|i| Pair {
        from: reference[like.stars[i]].at,
        to: frame[g.stars[i]].at,
        weight: 1.0,
    });
    let unlike = like.code.iter().zip(g.code).map(|(a, b)| (a - b) * (a - b));
    let map = Map::fit(Model::Similarity, &pairs, None)?;
    SCALES
        .contains(&map.area_ratio(pairs[0].from).sqrt())
        .then(|| (unlike.sum(), map))
}

/// Proposals, the likest groups' first.
pub(super) fn sorted(all: &mut Vec<(f64, Registration)>) -> Vec<Proposal> {
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    all.drain(..)
        .map(|(_, map)| Proposal { map, spent: 4.0 })
        .collect()
}

/// The groups among neighbours at every depth; `hand` -1 mirrors the stars first.
pub(super) fn groups(stars: &[[f64; 2]], hand: f64) -> Vec<Group> {
    let mut chosen: Vec<[usize; 4]> = Vec::new();
    for (i, depth) in DEPTHS.into_iter().enumerate() {
        let depth_before = if i == 0 { 0 } else { DEPTHS[i - 1] };
        if stars.len() <= depth_before {
            break;
        }
        let list = &stars[..depth.min(stars.len())];
        let tree = RTree::bulk_load(
            list.iter()
                .enumerate()
                .map(|(i, p)| GeomWithData::new(*p, i))
                .collect(),
        );
        for (i, p) in list.iter().enumerate() {
            let near: Vec<usize> = tree
                .nearest_neighbor_iter(*p)
                .map(|n| n.data)
                .filter(|j| *j != i)
                .take(NEIGHBOURS)
                .collect();
            for a in 0..near.len() {
                for b in a + 1..near.len() {
                    for c in b + 1..near.len() {
                        let mut four = [i, near[a], near[b], near[c]];
                        four.sort_unstable();
                        chosen.push(four);
                    }
                }
            }
        }
    }
    chosen.sort_unstable();
    chosen.dedup();
    chosen
        .into_iter()
        .filter_map(|four| describe(stars, four, hand))
        .collect()
}

/// The code of four stars, with the stars in the order that the code describes.
fn describe(stars: &[[f64; 2]], four: [usize; 4], hand: f64) -> Option<Group> {
    let p = |i: usize| [stars[i][0], stars[i][1] * hand];
    let mut longest = (0.0, 0, 1);
    for a in 0..4 {
        for b in a + 1..4 {
            let (p, q) = (p(four[a]), p(four[b]));
            let d = (p[0] - q[0]).hypot(p[1] - q[1]);
            if d > longest.0 {
                longest = (d, a, b);
            }
        }
    }
    let (length, a, b) = longest;
    if length < LEAST_LENGTH_PX {
        return None;
    }
    let mut inner = (0..4).filter(|i| *i != a && *i != b).map(|i| four[i]);
    let (c, d) = (inner.next()?, inner.next()?);
    let (mut a, mut b) = (four[a], four[b]);
    // As complex numbers: (star - A) (1 + i) / (B - A).
    let place = |a: usize, b: usize, s: usize| {
        let (pa, pb, ps) = (p(a), p(b), p(s));
        let (ux, uy) = (pb[0] - pa[0], pb[1] - pa[1]);
        let (vx, vy) = (ps[0] - pa[0], ps[1] - pa[1]);
        let n = ux * ux + uy * uy;
        let (re, im) = ((vx * ux + vy * uy) / n, (vy * ux - vx * uy) / n);
        [re - im, re + im]
    };
    let (mut pc, mut pd) = (place(a, b, c), place(a, b, d));
    if pc[0] + pd[0] > 1.0 {
        std::mem::swap(&mut a, &mut b);
        (pc, pd) = (place(a, b, c), place(a, b, d));
    }
    let (c, d, pc, pd) = if pc[0] <= pd[0] {
        (c, d, pc, pd)
    } else {
        (d, c, pd, pc)
    };
    Some(Group {
        code: [pc[0], pc[1], pd[0], pd[1]],
        stars: [a, b, c, d],
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn four(turn: f64, scale: f64, mirror: f64) -> Vec<[f64; 2]> {
        let (s, c) = turn.sin_cos();
        [[10.0, 20.0], [300.0, 80.0], [120.0, 90.0], [200.0, 10.0]]
            .into_iter()
            .map(|[x, y]| {
                let x = x * mirror;
                [scale * (c * x - s * y) + 7.0, scale * (s * x + c * y) - 3.0]
            })
            .collect()
    }

    #[test]
    fn a_code_survives_turn_scale_and_shift() {
        let a = describe(&four(0.0, 1.0, 1.0), [0, 1, 2, 3], 1.0).unwrap();
        let b = describe(&four(2.6, 0.4, 1.0), [0, 1, 2, 3], 1.0).unwrap();
        assert_eq!(a.stars, b.stars);
        for (a, b) in a.code.iter().zip(b.code) {
            assert!((a - b).abs() < 1e-9);
        }
    }

    #[test]
    fn a_mirrored_group_has_the_code_of_its_mirror_image() {
        let a = describe(&four(0.0, 1.0, 1.0), [0, 1, 2, 3], 1.0).unwrap();
        let plain = describe(&four(1.0, 1.0, -1.0), [0, 1, 2, 3], 1.0).unwrap();
        let turned = describe(&four(1.0, 1.0, -1.0), [0, 1, 2, 3], -1.0).unwrap();
        let unlike =
            |g: &Group| -> f64 { a.code.iter().zip(g.code).map(|(a, b)| (a - b).abs()).sum() };
        assert!(unlike(&turned) < 1e-9);
        assert!(unlike(&plain) > 0.1);
    }
}
