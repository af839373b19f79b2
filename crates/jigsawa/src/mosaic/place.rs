//! From frames to the layout of a mosaic: stars, ties, one solution, canvas, panels.

use std::collections::BTreeMap;

use jigsawa_core::canvas::{Canvas, Extent, Grid};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::{
    CameraRecord, FORMAT, Layout, PanelPlace, Panels, PlacementRecord, Reference,
};
use jigsawa_core::matching::{FoundBy, MatchErrors, Shown, Tie};
use jigsawa_core::mosaic::cells::Cells;
use jigsawa_core::mosaic::place::registration;
use jigsawa_core::mosaic::seams::inner;
use jigsawa_core::mosaic::solve::{
    Kept, Problem, Solution, residuals, rough, solve, untied, weight,
};
use jigsawa_core::mosaic::tracks::{Track, meeting, of_ties, place as sight_place};
use jigsawa_core::placement::{Model, Placement, Registration};
use jigsawa_core::space::{CanvasPx, FramePx, Point, ReferencePx, Size};
use jigsawa_core::verdict::Verdict;
use jigsawa_core::wcs::{Projection, Wcs};

use super::field::{Field, OtherTie};
use super::names::{Panel, PanelNames, panels};
use super::sky::{moved, sky_of_plane};
use crate::account::Clock;
use crate::cache::Store;
use crate::cli::{Common, ExtentArg, MosaicArgs};
use crate::frames::Frame;
use crate::register::{Measured, Row, measure, stars_of_panels};
use crate::tell::Trouble;

/// A mosaic whose frames have their places.
pub struct Placed {
    pub layout: Layout,
    pub catalogues: Vec<Measured>,
    /// The panels with their used frames.
    pub panels: Vec<Panel>,
    /// Which frames share stars, how many, and how well these meet.
    pub ties: Vec<SharedStars>,
    /// Every matched star: its place on the canvas and how far the frame's own sight lies from the others', in canvas
    /// pixels.
    pub vectors: Vec<Vector>,
    /// Stars of two frames that are the same, as places in their catalogues.
    pub same: BTreeMap<(usize, usize), Vec<(usize, usize)>>,
    /// Width and height of the field in degrees, if the sky's scale is known.
    pub field_deg: Option<[f64; 2]>,
    /// The kind of plane that the canvas is.
    pub projection: Projection,
    /// Outlines of frames that are left out, by their headers, for the plan.
    pub stray: Vec<(usize, [Point<CanvasPx>; 4])>,
}

/// Two frames that share stars.
pub struct SharedStars {
    pub a: usize,
    pub b: usize,
    pub stars: usize,
    pub rms_px: f64,
}

/// How far a star's sight is off.
pub struct Vector {
    pub frame: usize,
    /// 1 / variance of a coordinate.
    pub weight: f64,
    pub at: Point<CanvasPx>,
    pub off: [f64; 2],
}

/// A field wider than this, in degrees, is not shown on a tangent plane.
const WIDE_DEG: f64 = 15.0;

/// Reaches within which stars meet, round after round, in reference pixels.
const REACHES: [f64; 3] = [3.0, 1.5, 1.0];

/// Two frames show one panel when each covers so much of the other.
const SAME_PANEL: f64 = 0.6;

/// Measures the frames and places them; those of `kept`, a layout of an earlier run whose frames come first, stay.
pub fn place(
    frames: &[Frame],
    args: &MosaicArgs,
    kept: Option<&Layout>,
    store: &Store,
    common: &Common,
    clock: &mut Clock,
) -> Result<Placed, Trouble> {
    let catalogues = measure(frames, &[], &stars_of_panels(), store, common)?;
    clock.lap("stars");
    let names = PanelNames::new(frames, args)?;
    let earlier = kept.and_then(|l| l.mosaic.as_ref());
    let known: Vec<String> = earlier.map_or_else(Vec::new, |m| {
        m.cameras.iter().map(|c| c.camera.clone()).collect()
    });
    let field = Field::new(frames, &catalogues, &known);
    let shown = field.shown();
    let ties = field.ties(&names);
    let kept_poses = earlier.map(|m| Kept {
        poses: (0..frames.len())
            .map(|i| {
                m.places
                    .get(i)
                    .and_then(Option::as_ref)
                    .map(|p| p.pose.clone())
            })
            .collect(),
        lenses: (0..field.camera_names.len())
            .map(|k| m.cameras.get(k).and_then(|c| c.lens.clone()))
            .collect(),
        curvature: m.curvature,
    });
    let (reference, why) = match (kept, &args.reference) {
        (Some(layout), _) => (
            layout.reference_index().unwrap_or(0),
            layout.reference.why.clone(),
        ),
        (None, Some(name)) => {
            let given = frames.iter().position(|f| f.is_called(name));
            let given = given.ok_or_else(|| Trouble::NoSuchFrame {
                option: "--reference",
                name: name.clone(),
                frames: frames.iter().map(Frame::name).collect(),
            })?;
            (given, "as asked".to_owned())
        }
        (None, None) => in_the_middle(&field, &shown, &ties),
    };
    let problem = Problem {
        frames: &shown,
        cameras: &field.cameras,
        reference,
        curvature: field.curvature(reference),
        kept: kept_poses.as_ref(),
    };
    let others = field.other_ties(&problem, &ties, &names)?;
    let (solution, tracks) = solved(&problem, &ties, &others);
    let whole = Solved {
        field: &field,
        problem: &problem,
        solution: &solution,
        tracks: &tracks,
        ties: &ties,
        others: &others,
    };
    let placed = whole.lay_out(&names, args, kept, why)?;
    clock.lap("places");
    Ok(Placed {
        catalogues,
        ..placed
    })
}

/// The frame in the middle of what hangs together, of those with many stars.
fn in_the_middle(field: &Field<'_>, shown: &[Shown<'_>], ties: &[Tie]) -> (usize, String) {
    let strength = |i: usize| {
        let own = ties.iter().filter(|t| t.a == i || t.b == i);
        own.map(|t| t.matched.pairs.len()).sum::<usize>()
    };
    let groups = jigsawa_core::mosaic::tracks::groups(shown.len(), ties.iter().map(|t| (t.a, t.b)));
    let group = groups.into_iter().next().unwrap_or_default();
    let Some(first) = group
        .iter()
        .copied()
        .max_by_key(|i| (strength(*i), std::cmp::Reverse(*i)))
    else {
        return (0, "the first".to_owned());
    };
    let problem = Problem {
        frames: shown,
        cameras: &field.cameras,
        reference: first,
        curvature: None,
        kept: None,
    };
    let s = rough(&problem, ties);
    let at: Vec<(usize, [f64; 2])> = group
        .iter()
        .filter_map(|i| s.poses[*i].as_ref().map(|p| (*i, p.at)))
        .collect();
    let bounds = |k: usize| {
        let all = at.iter().map(|(_, p)| p[k]);
        let (low, high) = all.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| {
            (a.min(v), b.max(v))
        });
        0.5 * (low + high)
    };
    let (x, y) = (bounds(0), bounds(1));
    // Of frames about as near to the middle the one with the most shared stars.
    let unit = 0.5 * shown[first].size.width().min(shown[first].size.height()) as f64;
    let best = at.iter().min_by_key(|(i, p)| {
        let rings = ((p[0] - x).hypot(p[1] - y) / unit) as usize;
        (rings, std::cmp::Reverse(strength(*i)), *i)
    });
    let chosen = best.map_or(first, |(i, _)| *i);
    (
        chosen,
        format!(
            "in the middle, {} stars shared with others",
            strength(chosen)
        ),
    )
}

/// Rough places, then the best for all stars that meet under them.
fn solved(problem: &Problem<'_>, ties: &[Tie], others: &[OtherTie]) -> (Solution, Vec<Track>) {
    let mut tracks = of_ties(problem.frames, ties);
    let mut s = solve(problem, &tracks, &rough(problem, ties));
    for t in others {
        s.place_by(problem, (t.known, t.new), &t.map);
    }
    let mut by_other: Vec<bool> = vec![false; problem.frames.len()];
    for t in others {
        by_other[t.new] = true;
    }
    for reach in REACHES {
        tracks = meeting(problem.frames, &s.spots_on_plane(problem), reach);
        // A frame placed by something else than stars stays there: what meets may do so by chance.
        tracks.retain(|t| t.iter().all(|sight| !by_other[sight.frame]));
        let poses: Vec<_> = others
            .iter()
            .map(|t| (t.new, s.poses[t.new].clone()))
            .collect();
        s = solve(problem, &tracks, &s);
        for (i, pose) in poses {
            s.poses[i] = pose;
        }
    }
    (s, tracks)
}

/// A solution with all that it rests on.
struct Solved<'a> {
    field: &'a Field<'a>,
    problem: &'a Problem<'a>,
    solution: &'a Solution,
    tracks: &'a [Track],
    ties: &'a [Tie],
    others: &'a [OtherTie],
}

impl Solved<'_> {
    fn frames(&self) -> &[Frame] {
        self.field.frames
    }

    fn centre(&self) -> Point<ReferencePx> {
        self.problem.frames[self.problem.reference].size.centre()
    }

    fn lay_out(
        &self,
        names: &PanelNames,
        args: &MosaicArgs,
        kept: Option<&Layout>,
        why: String,
    ) -> Result<Placed, Trouble> {
        let n = self.frames().len();
        let projection = match kept.and_then(|l| l.mosaic.as_ref()) {
            Some(m) => m.projection,
            None => args
                .projection
                .asked()
                .unwrap_or_else(|| self.usual_projection()),
        };
        let registrations: Vec<Option<(Registration, Model, f64)>> = (0..n)
            .map(|i| registration(self.problem, self.solution, projection, i))
            .collect();
        let maps: Vec<Option<Registration>> = registrations
            .iter()
            .map(|r| r.as_ref().map(|r| r.0.clone()))
            .collect();
        if maps.iter().flatten().count() < 2 {
            return Err(Trouble::NothingTied {
                files: self.frames().iter().map(Frame::name).collect(),
                plan: None,
            });
        }
        let (sky, disagreeing) = sky_of_plane(self.frames(), &maps, self.centre(), projection);
        let canvas = self.canvas(args, kept, &maps, sky.as_ref())?;
        let to_reference = canvas
            .to_reference()
            .ok_or(Trouble::Canvas(jigsawa_core::canvas::CanvasError::Scale))?;
        let placements: Vec<Option<Placement>> = (0..n)
            .map(|i| {
                // What is there does not move, but for whole pixels that the canvas may have grown by.
                let map = to_reference.then(maps[i].as_ref()?);
                let before = kept.filter(|l| i < l.frames.len());
                before.map_or(map, |l| {
                    let own = l.frames[i].placement.as_ref()?.placement()?;
                    if l.canvas == canvas {
                        return Some(own);
                    }
                    let grown = to_reference.then(&l.canvas.to_reference()?.invert())?;
                    grown.then(&own)
                })
            })
            .collect();
        let on_canvas = to_reference.invert();
        let vectors = self.vectors(&|p| on_canvas.apply(p), projection);
        let mut rows = Vec::with_capacity(n);
        for i in 0..n {
            if let Some(before) = kept.filter(|l| i < l.frames.len()) {
                let mut row = before.frames[i].clone();
                if let (Some(record), Some(map)) = (&mut row.placement, &placements[i]) {
                    record.matrix = map.rows();
                }
                rows.push(row);
                continue;
            }
            rows.push(self.row(
                i,
                registrations[i].as_ref(),
                placements[i].as_ref(),
                &vectors,
                &disagreeing,
            ));
        }
        let used: Vec<usize> = (0..n)
            .filter(|i| rows[*i].verdict == Verdict::Used && placements[*i].is_some())
            .collect();
        let panels = self.panels(names, &used, &placements, &canvas, kept);
        let panel_of = |i: usize| panels.iter().find(|p| p.frames.contains(&i));
        let mosaic = Panels {
            projection,
            curvature: self.solution.curvature,
            cameras: self
                .field
                .camera_names
                .iter()
                .zip(&self.solution.lenses)
                .map(|(camera, lens)| CameraRecord {
                    camera: camera.clone(),
                    lens: lens.clone(),
                })
                .collect(),
            places: (0..n)
                .map(|i| {
                    Some(PanelPlace {
                        panel: panel_of(i)?.name.clone(),
                        camera: self.field.cameras[i],
                        pose: self.solution.poses[i].clone()?,
                    })
                })
                .collect(),
        };
        let around: Vec<Point<ReferencePx>> = canvas
            .size
            .corners()
            .map(|p| to_reference.apply(p))
            .to_vec();
        let wcs = sky
            .as_ref()
            .and_then(|w| moved(w, self.centre(), &around, &|p| on_canvas.apply(p)));
        let field_deg = wcs.as_ref().map(Wcs::arcsec_per_px).or_else(|| {
            let curved = self.solution.curvature > 0.0 && self.problem.curvature.is_some();
            curved.then(|| self.solution.curvature.sqrt().to_degrees() * 3600.0 / canvas.scale)
        });
        let field_deg = field_deg.map(|arcsec| {
            [canvas.size.width(), canvas.size.height()].map(|n| n as f64 * arcsec / 3600.0)
        });
        let stray = self.stray(
            wcs.as_ref(),
            &rows
                .iter()
                .map(|r| r.verdict == Verdict::Used)
                .collect::<Vec<_>>(),
        );
        let reference = self.problem.reference;
        Ok(Placed {
            layout: Layout {
                format: FORMAT,
                reference: Reference {
                    file: self.frames()[reference].name(),
                    plane: self.frames()[reference].plane,
                    why,
                },
                canvas,
                wcs,
                levels: None,
                mosaic: Some(mosaic),
                frames: rows,
            },
            catalogues: Vec::new(),
            ties: self.shared(),
            same: self.same(),
            panels,
            vectors,
            field_deg,
            projection,
            stray,
        })
    }

    /// A tangent plane, unless the field is so wide that one stretches its corners.
    fn usual_projection(&self) -> Projection {
        let known = self.problem.curvature.is_some();
        let far = (0..self.frames().len())
            .filter_map(|i| {
                let size = self.problem.frames[i].size;
                let corners = size.corners::<FramePx>();
                let places = corners
                    .into_iter()
                    .filter_map(|p| self.solution.place(self.problem, i, p));
                places
                    .map(|p| {
                        (p.distance(self.centre()) * self.solution.curvature.sqrt())
                            .atan()
                            .to_degrees()
                    })
                    .reduce(f64::max)
            })
            .fold(0.0, f64::max);
        if known && 2.0 * far > WIDE_DEG {
            Projection::Stereographic
        } else {
            Projection::Tangent
        }
    }

    fn canvas(
        &self,
        args: &MosaicArgs,
        kept: Option<&Layout>,
        maps: &[Option<Registration>],
        sky: Option<&Wcs>,
    ) -> Result<Canvas, Trouble> {
        let facts = &self.frames()[self.problem.reference].facts;
        let list: Vec<(Registration, Size)> = maps
            .iter()
            .zip(self.problem.frames)
            .filter_map(|(m, f)| Some((m.clone()?, f.size)))
            .collect();
        if let Some(layout) = kept {
            return grown(&layout.canvas, &self.beside(layout, maps));
        }
        let grid = if args.north_up {
            let north = sky
                .and_then(|s| s.north(self.centre()))
                .ok_or(Trouble::NoNorth)?;
            Grid::with_up(north, args.scale, facts.row_order)
        } else {
            Grid {
                scale: args.scale,
                ..Grid::REFERENCE
            }
        };
        let union = Canvas::new(Extent::Union, grid, facts.size, facts.row_order, &list)
            .map_err(Trouble::Canvas)?;
        match args.canvas {
            ExtentArg::Union => Ok(union),
            ExtentArg::Inner => self.inner(union, maps),
        }
    }

    /// The new frames that show no panel which is there: the canvas grows for them, and not for the dither of a filter.
    fn beside(&self, layout: &Layout, maps: &[Option<Registration>]) -> Vec<(Registration, Size)> {
        let Some(to_reference) = layout.canvas.to_reference() else {
            return Vec::new();
        };
        let old: Vec<(Placement, Size)> = layout
            .frames
            .iter()
            .filter_map(|f| Some((f.placement.as_ref()?.placement()?, f.size)))
            .collect();
        (layout.frames.len()..maps.len())
            .filter_map(|i| Some((maps[i].clone()?, self.frames()[i].facts.size)))
            .filter(|(map, size)| {
                let new = to_reference.then(map);
                let on = |(p, s): &(Placement, Size)| {
                    new.as_ref().map_or(0.0, |new| {
                        share(new, *size, p, *s).min(share(p, *s, new, *size))
                    })
                };
                old.iter().all(|o| on(o) < SAME_PANEL)
            })
            .collect()
    }

    /// The largest rectangle that every filter covers everywhere.
    fn inner(&self, union: Canvas, maps: &[Option<Registration>]) -> Result<Canvas, Trouble> {
        let empty = Trouble::Canvas(jigsawa_core::canvas::CanvasError::NothingInCommon);
        let Some(to_reference) = union.to_reference() else {
            return Err(empty);
        };
        let side = union.size.width().max(union.size.height()).div_ceil(1000);
        let cells = Cells::of_side(union.size, side);
        let mut filters: Vec<_> = Vec::new();
        for f in self.frames() {
            if !filters.contains(&&f.filter) {
                filters.push(&f.filter);
            }
        }
        let covered = |c: usize, r: usize| {
            let half = 0.5 * (side as f64 - 1.0);
            let m = cells.middle(c, r);
            let corners = [(-half, -half), (half, -half), (half, half), (-half, half)];
            filters.iter().all(|filter| {
                corners.iter().all(|(dx, dy)| {
                    let at = to_reference.apply(Point::new(m.x + dx, m.y + dy));
                    self.frames().iter().zip(maps).any(|(f, map)| {
                        f.filter == **filter
                            && map
                                .as_ref()
                                .is_some_and(|m| f.facts.size.holds(m.apply(at)))
                    })
                })
            })
        };
        let labels: Vec<u8> = (0..cells.count())
            .map(|i| u8::from(covered(i % cells.columns, i / cells.columns)))
            .collect();
        let rect = inner(&labels, cells);
        let size = Size::new(rect.width, rect.height).ok_or(empty)?;
        let origin = to_reference.apply(Point::new(rect.x as f64, rect.y as f64));
        Ok(Canvas {
            size,
            origin: [origin.x, origin.y],
            ..union
        })
    }

    /// How far each sight of each star lies from the mean of the others.
    fn vectors(
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
            let k = track.len() as f64 / (track.len() as f64 - 1.0);
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

    /// How a frame was tied, and where it lies: the row of the layout.
    fn row(
        &self,
        i: usize,
        registered: Option<&(Registration, Model, f64)>,
        placement: Option<&Placement>,
        vectors: &[Vector],
        disagreeing: &[(usize, String)],
    ) -> jigsawa_core::layout::LayoutFrame {
        let other = self.others.iter().find(|t| t.new == i);
        let own: Vec<&Vector> = vectors.iter().filter(|v| v.frame == i).collect();
        let lengths: Vec<f64> = own.iter().map(|v| v.off[0].hypot(v.off[1])).collect();
        let weights: f64 = own.iter().map(|v| v.weight).sum();
        let mean2 = own
            .iter()
            .zip(&lengths)
            .map(|(v, l)| v.weight * l * l)
            .sum::<f64>()
            / weights.max(1e-30);
        let by = match other {
            Some(t) if t.by_pattern => FoundBy::Pattern,
            Some(_) => FoundBy::Header,
            None if i == self.problem.reference => FoundBy::Reference,
            None => FoundBy::Stars,
        };
        let coverage = placement.map(|map| {
            let size = self.frames()[i].facts.size;
            let third = |v: f64, n: usize| ((3.0 * (v + 0.5) / n as f64).max(0.0) as usize).min(2);
            let mut counts = [0; 9];
            for v in &own {
                let p = map.apply(v.at);
                counts[3 * third(p.y, size.height()) + third(p.x, size.width())] += 1;
            }
            counts
        });
        let mut notes: Vec<String> = disagreeing
            .iter()
            .filter(|(k, _)| *k == i)
            .map(|(_, s)| s.clone())
            .collect();
        if let Some(t) = other {
            let known = self.frames()[t.known].name();
            notes.push(if t.by_pattern {
                format!("its stars tie it to no panel: it lies where its pattern agrees with that of '{known}'")
            } else {
                format!(
                    "its stars tie it to no panel: it lies where its WCS says, beside '{known}', unchecked. Look at its seams"
                )
            });
        }
        let record = placement
            .zip(registered)
            .map(|(map, (_, model, _))| PlacementRecord {
                matrix: map.rows(),
                bend: map.bend().cloned(),
                model: (by != FoundBy::Reference).then_some(*model),
                by,
                pairs: own.len(),
                coverage,
                errors: if by == FoundBy::Header {
                    told_by_header()
                } else {
                    MatchErrors {
                        rms_px: mean2.sqrt(),
                        max_px: lengths.iter().copied().fold(0.0, f64::max),
                        unseen_rms_px: self.solution.unseen_px,
                        corner_px: self.solution.corner_px[i],
                    }
                },
                // In its own middle: a panel may lie far from the canvas's.
                described: map.describe(map.invert().apply(self.frames()[i].facts.size.centre())),
            });
        let verdict = match &record {
            Some(_) => Verdict::Used,
            None => Verdict::LeftOut(self.why_left_out(i)),
        };
        Row {
            frame: &self.frames()[i],
            catalogue: self.field.catalogues[i].as_ref().ok(),
            verdict,
            record,
            hint: None,
            notes,
        }
        .write()
    }

    /// Why a frame is tied to nothing, and what would help.
    fn why_left_out(&self, i: usize) -> String {
        if let Err(error) = &self.field.catalogues[i] {
            return error.to_string();
        }
        let stars = self.field.spots[i].len();
        let apart = untied(self.problem, self.ties);
        let with = apart
            .iter()
            .find(|g| g.contains(&i))
            .filter(|g| g.len() > 1);
        let tied = match with {
            Some(group) => {
                let other = group.iter().find(|k| **k != i).copied().unwrap_or(i);
                format!(
                    "it is tied to '{}' and to no other panel",
                    self.frames()[other].name()
                )
            }
            None => format!("none of its {stars} stars is found in another panel"),
        };
        let advice = match (stars < 30, self.frames()[i].facts.wcs.is_some()) {
            (true, false) => "few stars are found in it: a WCS in its header would place it",
            (_, false) => {
                "another field, or an overlap of less than some 3 %? A WCS in its header would tell"
            }
            (_, true) => "and by its WCS it overlaps none: another field, or a gap between panels",
        };
        format!("{tied} ({advice})")
    }

    /// Frames that lie on each other are one panel; those of an earlier layout keep its name.
    fn panels(
        &self,
        names: &PanelNames,
        used: &[usize],
        placements: &[Option<Placement>],
        canvas: &Canvas,
        kept: Option<&Layout>,
    ) -> Vec<Panel> {
        let size = |i: usize| self.frames()[i].facts.size;
        let part = |a: usize, b: usize| -> f64 {
            let (Some(pa), Some(pb)) = (&placements[a], &placements[b]) else {
                return 0.0;
            };
            share(pa, size(a), pb, size(b))
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
                    p.x / (unit * size(i).width() as f64),
                    y / (unit * size(i).height() as f64),
                )
            })
            .collect();
        let mut all = panels(names, groups, &middles);
        if let Some(m) = kept.and_then(|l| l.mosaic.as_ref()) {
            for p in &mut all {
                let before = p.frames.iter().find_map(|i| m.places.get(*i)?.as_ref());
                if let Some(place) = before {
                    p.name.clone_from(&place.panel);
                }
            }
            // The panels that are there keep their order, so that their numbers in seams hold.
            let order: Vec<String> = panel_order(m);
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

    fn shared(&self) -> Vec<SharedStars> {
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

    fn same(&self) -> BTreeMap<(usize, usize), Vec<(usize, usize)>> {
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

    /// Where headers put the frames that are left out.
    fn stray(&self, wcs: Option<&Wcs>, used: &[bool]) -> Vec<(usize, [Point<CanvasPx>; 4])> {
        let Some(wcs) = wcs else { return Vec::new() };
        (0..self.frames().len())
            .filter(|i| !used[*i])
            .filter_map(|i| {
                let facts = &self.frames()[i].facts;
                let own = facts.wcs.as_ref()?;
                let corners = facts.size.corners::<FramePx>();
                let places: Vec<Point<CanvasPx>> = corners
                    .iter()
                    .map(|p| wcs.pixel(own.sky(*p)))
                    .collect::<Option<_>>()?;
                Some((i, places.try_into().ok()?))
            })
            .collect()
    }
}

/// Headers are solved to about a pixel, and nothing has checked these.
const HEADER_PX: f64 = 1.0;

fn told_by_header() -> MatchErrors {
    MatchErrors {
        rms_px: HEADER_PX,
        max_px: HEADER_PX,
        unseen_rms_px: HEADER_PX,
        corner_px: HEADER_PX,
    }
}

/// Names of the panels in the order that their numbers have.
pub fn panel_order(m: &Panels) -> Vec<String> {
    let mut order: Vec<String> = Vec::new();
    for p in m.places.iter().flatten() {
        if !order.contains(&p.panel) {
            order.push(p.panel.clone());
        }
    }
    order
}

/// The part of a frame that lies on another.
pub fn share(a: &Placement, size_a: Size, b: &Placement, size_b: Size) -> f64 {
    const STEPS: usize = 24;
    let back = a.invert();
    let at = |k: usize, n: usize| (k as f64 + 0.5) / STEPS as f64 * n as f64 - 0.5;
    let inside = (0..STEPS * STEPS)
        .filter(|k| {
            let p = Point::<FramePx>::new(
                at(k % STEPS, size_a.width()),
                at(k / STEPS, size_a.height()),
            );
            size_b.holds(b.apply(back.apply(p)))
        })
        .count();
    inside as f64 / (STEPS * STEPS) as f64
}

/// A canvas with the pixels that it has, and more around them as far as new frames reach.
fn grown(canvas: &Canvas, frames: &[(Registration, Size)]) -> Result<Canvas, Trouble> {
    let none = || Trouble::Canvas(jigsawa_core::canvas::CanvasError::Scale);
    let to_reference = canvas.to_reference().ok_or_else(none)?;
    let on_canvas = to_reference.invert();
    let (w, h) = (canvas.size.width() as i64, canvas.size.height() as i64);
    let (mut low, mut high) = ([0i64, 0], [w, h]);
    for (map, size) in frames {
        let back = map.invert();
        for p in size.corners::<FramePx>() {
            let at = on_canvas.apply(back.apply(p));
            for (k, v) in [at.x, at.y].into_iter().enumerate() {
                // Half a pixel of what is there already is no reason to grow.
                low[k] = low[k].min((v + 0.5).floor() as i64);
                high[k] = high[k].max((v - 0.5).ceil() as i64 + 1);
            }
        }
    }
    let size =
        Size::new((high[0] - low[0]) as usize, (high[1] - low[1]) as usize).ok_or_else(none)?;
    let origin = to_reference.apply(Point::new(low[0] as f64, low[1] as f64));
    Ok(Canvas {
        size,
        origin: [origin.x, origin.y],
        ..*canvas
    })
}
