//! What a solution tells: which stars are off by how much, which frames share how many, and which are one panel.

use jigsawa_core::number::Convert;
use std::collections::BTreeMap;

use jigsawa_core::canvas::Canvas;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::Layout;
use jigsawa_core::matching::{LEAST_STARS_GUIDED, MOST_RMS_PX, MatchError, MatchErrors, gate};
use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::mosaic::share::{covered_share, share};
use jigsawa_core::mosaic::solve::{residuals, weight};
use jigsawa_core::mosaic::tracks::place as sight_place;
use jigsawa_core::placement::Placement;
use jigsawa_core::space::{CanvasPx, Point, ReferencePx};
use jigsawa_core::wcs::Projection;

use super::{SAME_PANEL, SharedStars, Solved, Vector};
use crate::mosaic::names::{Panel, PanelNames, panels};
use crate::trouble::Trouble;

impl Solved<'_> {
    /// Why the place that stars gave a frame is not used, by the rule that holds for every placement.
    pub(super) fn refused(&self, i: usize) -> Option<MatchError> {
        let by_other = self.others.iter().any(|t| t.new == i);
        let pose = self.solution.poses[i].as_ref()?;
        if by_other || i == self.problem.reference {
            return None;
        }
        let [[a, b], [c, d]] = pose.matrix;
        // In pixels of the frame or of the reference, whichever are larger on the sky.
        let unit = (a * d - b * c).abs().sqrt().max(1.0);
        let (mut sum, mut weights, mut pairs) = (0.0, 0.0, 0);
        for (track, kept) in self.tracks.iter().zip(&self.solution.kept) {
            if *kept <= 0.0 {
                continue;
            }
            let off = residuals(self.problem, self.solution, track);
            let k = track.len().real() / (track.len().real() - 1.0);
            let own = track.iter().zip(off).filter(|(sight, _)| sight.frame == i);
            for (sight, r) in own {
                let w = weight(self.problem, self.solution, i, sight.spot);
                sum += w * k * k * (r[0] * r[0] + r[1] * r[1]);
                weights += w;
                pairs += 1;
            }
        }
        if pairs < LEAST_STARS_GUIDED {
            return Some(MatchError::NoMatch {
                best: pairs,
                tried: self.problem.frames[i].spots.len(),
            });
        }
        let errors = MatchErrors {
            rms_px: (sum / weights).sqrt() / unit,
            corner_sigma_px: self.solution.corner_sigma_px[i] / unit,
            ..MatchErrors::default()
        };
        gate(&errors, pairs, MOST_RMS_PX).err()
    }

    /// Frames that do not pass, of those after the first `stays`: the roughest alone, since it pulls others along, or all
    /// whose places are only loose.
    pub(super) fn refused_first(&self, stays: usize) -> Vec<(usize, MatchError)> {
        let all = (stays..self.frames().len()).filter_map(|i| Some((i, self.refused(i)?)));
        let all: Vec<(usize, MatchError)> = all.collect();
        let rough = |e: &MatchError| match e {
            MatchError::TooRough { rms_px, .. } => Some(*rms_px),
            _ => None,
        };
        let roughest = all
            .iter()
            .filter_map(|(i, e)| Some((*i, rough(e)?)))
            .max_by(|a, b| a.1.total_cmp(&b.1));
        match roughest {
            Some((i, _)) => all.into_iter().filter(|(k, _)| *k == i).collect(),
            None => all,
        }
    }

    /// What the used frames cover. Pixels are read only where two frames of one filter lie on each other: they are two
    /// exposures of a panel, or panels that another program has laid on one canvas.
    pub(super) fn covered(
        &self,
        used: &[usize],
        placements: &[Option<Placement>],
    ) -> Result<Vec<Coverage>, Trouble> {
        let size = |i: usize| self.frames()[i].facts.size;
        let meet = |a: usize, b: usize| {
            self.frames()[a].filter == self.frames()[b].filter
                && placements[a]
                    .as_ref()
                    .zip(placements[b].as_ref())
                    .is_some_and(|(p, q)| {
                        share(p, size(a), q, size(b)).min(share(q, size(b), p, size(a)))
                            > SAME_PANEL
                    })
        };
        let pairs = used.iter().enumerate();
        let read = pairs.flat_map(|(n, a)| used[n + 1..].iter().map(|b| (*a, *b)));
        let read = read.into_iter().any(|(a, b)| meet(a, b));
        let frames = self.frames().iter().enumerate();
        frames
            .map(|(i, f)| {
                if !read || !used.contains(&i) {
                    return Ok(Coverage::of_rect(f.facts.size, f.facts.size.rect()));
                }
                let plane = f.read_plane(Vec::new());
                plane
                    .map(|plane| Coverage::of(&plane))
                    .map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))
            })
            .collect()
    }

    /// How far each sight of each star lies from the mean of the others.
    pub(super) fn vectors(
        &self,
        on_canvas: &dyn Fn(Point<ReferencePx>) -> Point<CanvasPx>,
        projection: Projection,
    ) -> Vec<Vector> {
        let centre = self.centre();
        let shown = |p: Point<ReferencePx>| {
            let aside = (p.x - centre.x, p.y - centre.y);
            let (x, y) = projection.from_tangent(self.solution.curvature, aside);
            on_canvas(Point::new(centre.x + x, centre.y + y))
        };
        let mut all = Vec::new();
        for (track, kept) in self.tracks.iter().zip(&self.solution.kept) {
            if *kept <= 0.0 {
                continue;
            }
            let off = residuals(self.problem, self.solution, track);
            let k = track.len().real() / (track.len().real() - 1.0);
            for (sight, r) in track.iter().zip(off) {
                let p = sight_place(self.problem.frames, *sight);
                let Some(there) = self.solution.place(self.problem, sight.frame, p) else {
                    continue;
                };
                let (at, from) = (
                    shown(there),
                    shown(Point::new(there.x - k * r[0], there.y - k * r[1])),
                );
                all.push(Vector {
                    frame: sight.frame,
                    weight: weight(self.problem, self.solution, sight.frame, sight.spot),
                    at,
                    off: [at.x - from.x, at.y - from.y],
                });
            }
        }
        all
    }

    /// Frames that lie on each other are one panel; those of an earlier layout keep its name.
    pub(super) fn panels(
        &self,
        names: &PanelNames,
        (used, covered): (&[usize], &[Coverage]),
        placements: &[Option<Placement>],
        canvas: &Canvas,
        kept: Option<&Layout>,
    ) -> Vec<Panel> {
        let size = |i: usize| self.frames()[i].facts.size;
        let part = |a: usize, b: usize| -> f64 {
            let (Some(pa), Some(pb)) = (&placements[a], &placements[b]) else {
                return 0.0;
            };
            covered_share((pa, size(a), &covered[a]), (pb, &covered[b]))
        };
        // A frame belongs to the first group whose first frame it lies on, and that on it.
        let mut groups: Vec<Vec<usize>> = Vec::new();
        for i in used {
            let own = groups
                .iter()
                .position(|g| part(*i, g[0]).min(part(g[0], *i)) > SAME_PANEL);
            match own {
                Some(k) => groups[k].push(*i),
                None => groups.push(vec![*i]),
            }
        }
        let middles: Vec<(f64, f64)> = groups
            .iter()
            .map(|g| {
                let i = g[0];
                let p = placements[i]
                    .as_ref()
                    .map(|p| p.invert().apply(size(i).centre()));
                let p = p.unwrap_or_else(|| canvas.size.centre());
                let y = match canvas.row_order {
                    RowOrder::BottomUp => -p.y,
                    RowOrder::TopDown => p.y,
                };
                let unit = canvas.scale.max(1e-6);
                (
                    p.x / (unit * size(i).width().real()),
                    y / (unit * size(i).height().real()),
                )
            })
            .collect();
        let mut all = panels(names, groups, &middles);
        if let Some(layout) = kept.filter(|l| l.mosaic.is_some()) {
            for p in &mut all {
                let before = |i: &usize| layout.frames.get(*i)?.panel.as_ref();
                let before = p.frames.iter().find_map(before);
                if let Some(place) = before {
                    p.name.clone_from(&place.panel);
                }
            }
            // The panels that are there keep their order, so that their numbers in seams hold.
            let order = layout.panels();
            let place = |p: &Panel| {
                order
                    .iter()
                    .position(|n| *n == p.name)
                    .unwrap_or(usize::MAX)
            };
            all.sort_by_key(place);
        }
        all
    }

    pub(super) fn shared(&self) -> Vec<SharedStars> {
        let mut sums: BTreeMap<(usize, usize), (usize, f64, f64)> = BTreeMap::new();
        let sigma2 = |s: &jigsawa_core::mosaic::tracks::Sight| {
            1.0 / weight(self.problem, self.solution, s.frame, s.spot)
        };
        for (track, kept) in self.tracks.iter().zip(&self.solution.kept) {
            if *kept <= 0.0 {
                continue;
            }
            let off = residuals(self.problem, self.solution, track);
            for (n, a) in track.iter().enumerate() {
                for (m, b) in track.iter().enumerate().skip(n + 1) {
                    let d2 = (off[n][0] - off[m][0]).powi(2) + (off[n][1] - off[m][1]).powi(2);
                    let s = sums.entry((a.frame, b.frame)).or_default();
                    let w = 1.0 / (sigma2(a) + sigma2(b));
                    *s = (s.0 + 1, s.1 + w * d2, s.2 + w);
                }
            }
        }
        sums.into_iter()
            .map(|((a, b), (stars, sum, weights))| SharedStars {
                a,
                b,
                stars,
                rms_px: (sum / weights).sqrt(),
            })
            .collect()
    }

    pub(super) fn same(&self) -> BTreeMap<(usize, usize), Vec<(usize, usize)>> {
        let index = |f: usize, s: usize| self.problem.frames[f].spots[s].index;
        let mut all: BTreeMap<(usize, usize), Vec<(usize, usize)>> = BTreeMap::new();
        for t in self.tracks {
            for (n, a) in t.iter().enumerate() {
                for b in &t[n + 1..] {
                    let pair = (index(a.frame, a.spot), index(b.frame, b.spot));
                    all.entry((a.frame, b.frame)).or_default().push(pair);
                }
            }
        }
        all
    }
}
