//! Tracks: each star followed through all frames that show it.
//!
//! Stars of two frames belong together when each is the other's nearest on the common plane, within a reach; what
//! belongs together in pairs is one track (the classical union-find of Tarjan 1975, J. ACM 22, 215). A track that
//! would hold two stars of one frame is a confusion and is dropped whole.

use std::collections::BTreeMap;

use crate::matching::{FrameSpots, Tie};
use crate::space::{FramePx, Point, Rect, ReferencePx};

/// A star in one frame: the frame's number, and the star's in its list of spots.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Sight {
    /// The frame.
    pub frame: usize,
    /// The star among the frame's spots.
    pub spot: usize,
}

/// A star in two frames or more, in order of the frames.
pub type Track = Vec<Sight>;

/// The tracks of what ties have found. Spots are looked up by their place in the frames' catalogues.
pub fn of_ties(frames: &[FrameSpots<'_>], ties: &[Tie]) -> Vec<Track> {
    let places: Vec<BTreeMap<usize, usize>> = frames
        .iter()
        .map(|f| {
            f.spots
                .iter()
                .enumerate()
                .map(|(k, s)| (s.index, k))
                .collect()
        })
        .collect();
    let mut joined = Joined::new(frames);
    for t in ties {
        for (i, k) in &t.matched.pairs {
            if let (Some(i), Some(k)) = (places[t.a].get(i), places[t.b].get(k)) {
                joined.join((t.a, *i), (t.b, *k));
            }
        }
    }
    joined.tracks()
}

/// The tracks under places that are nearly known: `on_plane` has each frame's spots on the common plane, or none for a
/// frame that has no place. Two stars meet within `reach` pixels of the plane.
pub fn meeting(
    frames: &[FrameSpots<'_>],
    on_plane: &[Vec<Point<ReferencePx>>],
    reach: f64,
) -> Vec<Track> {
    let boxes: Vec<Rect> = on_plane
        .iter()
        .map(|all| Rect::around(all.iter().copied()))
        .collect();
    let mut joined = Joined::new(frames);
    let lists: Vec<Columns> = on_plane.iter().map(|all| Columns::new(all)).collect();
    for a in 0..frames.len() {
        for b in a + 1..frames.len() {
            if boxes[a].intersect(boxes[b]).is_empty() {
                continue;
            }
            for (i, p) in on_plane[a].iter().enumerate() {
                let Some(k) = lists[b].nearest(&on_plane[b], *p, reach) else {
                    continue;
                };
                if lists[a].nearest(&on_plane[a], on_plane[b][k], reach) == Some(i) {
                    joined.join((a, i), (b, k));
                }
            }
        }
    }
    joined.tracks()
}

/// Points in order of x.
struct Columns(Vec<(f64, usize)>);

impl Columns {
    fn new(points: &[Point<ReferencePx>]) -> Self {
        let mut order: Vec<(f64, usize)> =
            points.iter().enumerate().map(|(i, p)| (p.x, i)).collect();
        order.sort_by(|a, b| a.0.total_cmp(&b.0));
        Self(order)
    }

    fn nearest(
        &self,
        points: &[Point<ReferencePx>],
        p: Point<ReferencePx>,
        reach: f64,
    ) -> Option<usize> {
        let from = self.0.partition_point(|(x, _)| *x < p.x - reach);
        let near = self.0[from..].iter().take_while(|(x, _)| *x <= p.x + reach);
        near.map(|(_, i)| (points[*i].distance(p), *i))
            .filter(|(d, _)| *d < reach)
            .min_by(|a, b| a.0.total_cmp(&b.0))
            .map(|(_, i)| i)
    }
}

/// Stars joined in pairs.
struct Joined {
    firsts: Vec<usize>,
    parents: Vec<usize>,
}

impl Joined {
    fn new(frames: &[FrameSpots<'_>]) -> Self {
        let mut firsts = vec![0];
        for f in frames {
            firsts.push(firsts.last().map_or(0, |n| n + f.spots.len()));
        }
        let all = firsts.last().copied().unwrap_or(0);
        Self {
            firsts,
            parents: (0..all).collect(),
        }
    }

    fn root(&mut self, mut i: usize) -> usize {
        while self.parents[i] != i {
            self.parents[i] = self.parents[self.parents[i]];
            i = self.parents[i];
        }
        i
    }

    fn join(&mut self, a: (usize, usize), b: (usize, usize)) {
        let at = |(f, s): (usize, usize), firsts: &[usize]| firsts[f] + s;
        let (a, b) = (at(a, &self.firsts), at(b, &self.firsts));
        let (a, b) = (self.root(a), self.root(b));
        self.parents[a.max(b)] = a.min(b);
    }

    fn tracks(mut self) -> Vec<Track> {
        let mut by_root: BTreeMap<usize, Track> = BTreeMap::new();
        for frame in 0..self.firsts.len() - 1 {
            for i in self.firsts[frame]..self.firsts[frame + 1] {
                let spot = i - self.firsts[frame];
                let root = self.root(i);
                by_root.entry(root).or_default().push(Sight { frame, spot });
            }
        }
        let sound = |t: &Track| t.len() > 1 && t.windows(2).all(|w| w[0].frame < w[1].frame);
        by_root.into_values().filter(sound).collect()
    }
}

/// How many tracks each pair of frames shares.
pub fn shared(tracks: &[Track]) -> BTreeMap<(usize, usize), usize> {
    let mut counts = BTreeMap::new();
    for t in tracks {
        for (n, a) in t.iter().enumerate() {
            for b in &t[n + 1..] {
                *counts.entry((a.frame, b.frame)).or_insert(0) += 1;
            }
        }
    }
    counts
}

/// Frames that are tied together directly or through others, the largest group first; in a group the numbers rise.
pub fn groups(frames: usize, ties: impl Iterator<Item = (usize, usize)>) -> Vec<Vec<usize>> {
    let mut of: Vec<usize> = (0..frames).collect();
    for (a, b) in ties {
        let (from, to) = (of[a].max(of[b]), of[a].min(of[b]));
        for o in &mut of {
            if *o == from {
                *o = to;
            }
        }
    }
    let mut groups: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for (i, o) in of.iter().enumerate() {
        groups.entry(*o).or_default().push(i);
    }
    let mut groups: Vec<Vec<usize>> = groups.into_values().collect();
    groups.sort_by_key(|g| std::cmp::Reverse(g.len()));
    groups
}

/// The star's place in its frame.
pub fn place(frames: &[FrameSpots<'_>], s: Sight) -> Point<FramePx> {
    frames[s.frame].spots[s.spot].at
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::matching::Spot;
    use crate::space::Size;

    fn spots(places: &[(f64, f64)]) -> Vec<Spot<FramePx>> {
        let spot = |(index, (x, y)): (usize, &(f64, f64))| Spot {
            at: Point::new(*x, *y),
            sigma_px: 0.05,
            clean: true,
            index,
        };
        places.iter().enumerate().map(spot).collect()
    }

    #[test]
    fn a_star_is_followed_through_three_frames_and_a_confusion_is_dropped() {
        let size = Size::new(100, 100).unwrap();
        let lists = [
            spots(&[(10.0, 10.0), (50.0, 50.0)]),
            spots(&[(10.5, 10.0), (80.0, 20.0)]),
            spots(&[(10.9, 10.1), (50.3, 50.0), (51.9, 50.0)]),
        ];
        let frames: Vec<FrameSpots<'_>> = lists
            .iter()
            .map(|spots| FrameSpots { spots, size })
            .collect();
        let on_plane: Vec<Vec<Point<ReferencePx>>> = lists
            .iter()
            .map(|l| l.iter().map(|s| Point::new(s.at.x, s.at.y)).collect())
            .collect();
        let tracks = meeting(&frames, &on_plane, 2.0);
        let at = |frame, spot| Sight { frame, spot };
        assert_eq!(
            tracks,
            [vec![at(0, 0), at(1, 0), at(2, 0)], vec![at(0, 1), at(2, 1)]]
        );
        assert_eq!(shared(&tracks)[&(0, 2)], 2);
        let mut joined = Joined::new(&frames);
        joined.join((0, 1), (2, 1));
        joined.join((0, 1), (2, 2));
        assert!(joined.tracks().is_empty());
    }

    #[test]
    fn groups_hold_what_is_tied_by_way_of_others() {
        let got = groups(6, [(4, 5), (1, 3), (5, 1)].into_iter());
        assert_eq!(got, [vec![1, 3, 4, 5], vec![0], vec![2]]);
    }
}
