//! From frames to the layout of a mosaic: stars, ties, one solution, canvas, panels.

mod grid;
mod results;
mod rows;

use jigsawa_core::number::Convert;
use std::collections::BTreeMap;

use jigsawa_core::balance::Balance;
use jigsawa_core::canvas::Canvas;
use jigsawa_core::layout::{
    CameraRecord, FORMAT, Layout, LayoutFrame, PanelPlace, Panels, PlacementRecord, Reference,
};
use jigsawa_core::matching::{FrameSpots, MatchError, Tie};
use jigsawa_core::mosaic::place::registration;
use jigsawa_core::mosaic::solve::{Kept, Pose, Problem, Solution, rough, solve};
use jigsawa_core::mosaic::tracks::{Track, meeting, of_ties};
use jigsawa_core::placement::{Model, Placement, Registration};
use jigsawa_core::space::{CanvasPx, FramePx, Point, ReferencePx};
use jigsawa_core::verdict::Verdict;
use jigsawa_core::wcs::{Projection, Wcs};

use super::measured::{MeasuredFrames, OtherTie};
use super::names::{Panel, PanelNames};
use super::settings::MosaicSettings;
use super::sky::{moved, sky_of_plane};
use crate::frames::Frame;
use crate::register::{Measured, measure, stars_of_panels};
use crate::run::Run;
use crate::trouble::Trouble;

/// A mosaic whose frames have their places.
pub struct Placed {
    /// All frames with their places or verdicts.
    pub layout: Layout,
    /// The stars of each.
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
    /// The frame.
    pub frame: usize,
    /// 1 / variance of a coordinate.
    pub weight: f64,
    /// The star's place.
    pub at: Point<CanvasPx>,
    /// How far this sight lies from the others'.
    pub off: [f64; 2],
}

/// Reaches within which stars meet, round after round, in reference pixels.
const REACHES: [f64; 3] = [3.0, 1.5, 1.0];

/// Two frames show one panel when each covers so much of the other.
const SAME_PANEL: f64 = 0.6;

/// Measures the frames and places them; those of `kept`, a layout of an earlier run whose frames come first, stay.
pub fn place(
    frames: &[Frame],
    wanted: &MosaicSettings<'_>,
    kept: Option<&Layout>,
    run: &Run<'_>,
) -> Result<Placed, Trouble> {
    if frames.len() < 2 {
        return Err(Trouble::NeedsTwo("mosaic"));
    }
    let catalogues = measure(frames, &[], &stars_of_panels(), run)?;
    run.clock.lap("stars");
    let names = PanelNames::new(frames, wanted)?;
    let earlier = kept.and_then(|l| l.mosaic.as_ref());
    let known: Vec<String> = earlier.map_or_else(Vec::new, |m| {
        m.cameras.iter().map(|c| c.camera.clone()).collect()
    });
    let mut field = MeasuredFrames::new(frames, &catalogues, &known);
    for (i, row) in kept.into_iter().flat_map(|l| l.frames.iter().enumerate()) {
        if let Some(panel) = &row.panel {
            field.cameras[i] = panel.camera;
        }
    }
    let ties = field.ties(&names);
    let (reference, why) = match (kept, wanted.reference) {
        (Some(layout), _) => (
            layout.reference_index().unwrap_or(0),
            layout.reference.why.clone(),
        ),
        (None, Some(name)) => {
            let given = frames.iter().position(|f| f.is_called(name));
            let given = given.ok_or_else(|| Trouble::NoSuchFrame {
                option: "--reference",
                name: name.to_owned(),
                frames: frames.iter().map(Frame::name).collect(),
            })?;
            (given, "as asked".to_owned())
        }
        (None, None) => in_the_middle(&field, &field.shown(), &ties),
    };
    let scales = rough_scales(&field, reference, &ties);
    field.part_cameras(&scales, kept.map_or(0, |l| l.frames.len()));
    let kept_poses = earlier.map(|m| Kept {
        poses: (0..frames.len())
            .map(|i| {
                let row = kept.and_then(|l| l.frames.get(i))?;
                row.panel.as_ref().map(|p| p.pose.clone())
            })
            .collect(),
        lenses: (0..field.camera_names.len())
            .map(|k| m.cameras.get(k).and_then(|c| c.lens.clone()))
            .collect(),
        curvature: m.curvature,
    });
    let shown = field.shown();
    let problem = Problem {
        frames: &shown,
        cameras: &field.cameras,
        reference,
        curvature: field.curvature(reference),
        kept: kept_poses.as_ref(),
    };
    let others = field.other_ties(&problem, &ties, &names)?;
    // What does not pass has pulled at the others: all are solved for once more without it.
    let stays = kept.map_or(0, |l| l.frames.len());
    let (mut ties, mut others) = (ties, others);
    let mut refused: Vec<Option<MatchError>> = vec![None; frames.len()];
    let placed = loop {
        let out: Vec<bool> = refused.iter().map(Option::is_some).collect();
        let (solution, tracks) = solved(&problem, &ties, &others, &out);
        let whole = Solved {
            field: &field,
            problem: &problem,
            solution: &solution,
            tracks: &tracks,
            ties: &ties,
            others: &others,
        };
        let new = whole.refused_first(stays);
        if new.is_empty() {
            break whole.lay_out(&names, wanted, kept, (why, &refused))?;
        }
        for (i, error) in new {
            ties.retain(|t| t.a != i && t.b != i);
            others.retain(|t| t.new != i && t.known != i);
            refused[i] = Some(error);
        }
    };
    run.clock.lap("places");
    Ok(Placed {
        catalogues,
        ..placed
    })
}

/// Reference pixels for a pixel of each frame, roughly, where stars tie it to the reference.
fn rough_scales(field: &MeasuredFrames<'_>, reference: usize, ties: &[Tie]) -> Vec<Option<f64>> {
    let problem = Problem {
        frames: &field.shown(),
        cameras: &field.cameras,
        reference,
        curvature: None,
        kept: None,
    };
    let scale = |pose: &Pose| {
        let [[a, b], [c, d]] = pose.matrix;
        (a * d - b * c).abs().sqrt()
    };
    let poses = rough(&problem, ties).poses;
    poses.iter().map(|p| p.as_ref().map(scale)).collect()
}

/// The frame in the middle of what hangs together, of those with many stars.
fn in_the_middle(
    field: &MeasuredFrames<'_>,
    shown: &[FrameSpots<'_>],
    ties: &[Tie],
) -> (usize, String) {
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
    let unit = 0.5
        * shown[first]
            .size
            .width()
            .min(shown[first].size.height())
            .real();
    let best = at.iter().min_by_key(|(i, p)| {
        let rings = ((p[0] - x).hypot(p[1] - y) / unit).index();
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
/// Frames that are `out` take no part.
fn solved(
    problem: &Problem<'_>,
    ties: &[Tie],
    others: &[OtherTie],
    out: &[bool],
) -> (Solution, Vec<Track>) {
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
        let mut places = s.spots_on_plane(problem);
        for (own, _) in places.iter_mut().zip(out).filter(|(_, out)| **out) {
            own.clear();
        }
        tracks = meeting(problem.frames, &places, reach);
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
    field: &'a MeasuredFrames<'a>,
    problem: &'a Problem<'a>,
    solution: &'a Solution,
    tracks: &'a [Track],
    ties: &'a [Tie],
    others: &'a [OtherTie],
}

impl Solved<'_> {
    pub(super) fn frames(&self) -> &[Frame] {
        self.field.frames
    }

    pub(super) fn centre(&self) -> Point<ReferencePx> {
        self.problem.frames[self.problem.reference].size.centre()
    }

    fn lay_out(
        &self,
        names: &PanelNames,
        wanted: &MosaicSettings<'_>,
        kept: Option<&Layout>,
        (why, refused): (String, &[Option<MatchError>]),
    ) -> Result<Placed, Trouble> {
        let n = self.frames().len();
        let projection = match kept.and_then(|l| l.mosaic.as_ref()) {
            Some(m) => m.projection,
            None => wanted.projection.unwrap_or_else(|| self.usual_projection()),
        };
        let found: Vec<Option<(Registration, Model, f64)>> = (0..n)
            .map(|i| registration(self.problem, self.solution, projection, i))
            .zip(refused)
            .map(|(found, refused)| found.filter(|_| refused.is_none()))
            .collect();
        let maps: Vec<Option<Registration>> = found
            .iter()
            .map(|r| r.as_ref().map(|r| r.0.clone()))
            .collect();
        if maps.iter().flatten().count() < 2 {
            return Err(Trouble::NothingTied {
                files: self.frames().iter().map(Frame::name).collect(),
                refused: (0..n)
                    .filter(|i| refused[*i].is_some())
                    .map(|i| {
                        format!(
                            "'{}': {}",
                            self.frames()[i].name(),
                            self.why_left_out(i, refused[i])
                        )
                    })
                    .collect(),
                plan: None,
            });
        }
        let told_by = (self.frames(), self.problem.reference);
        let (sky, disagreeing) = sky_of_plane(told_by, &maps, self.centre(), projection);
        let canvas = self.canvas(wanted, kept, &maps, sky.as_ref())?;
        let to_reference = canvas
            .to_reference()
            .ok_or(Trouble::Canvas(jigsawa_core::canvas::CanvasError::Scale))?;
        let on_canvas = to_reference.invert();
        let vectors = self.vectors(&|p| on_canvas.apply(p), projection);
        let mut rows: Vec<LayoutFrame> = (0..n)
            .map(|i| {
                // What is there does not move, but for whole pixels that the canvas may have grown by.
                if let Some(before) = kept.filter(|l| i < l.frames.len()) {
                    return stayed(before, i, &canvas);
                }
                let placement = maps[i].as_ref().and_then(|m| to_reference.then(m));
                let model = found[i].as_ref().map(|r| r.1);
                let placed = placement.as_ref().zip(model).ok_or(refused[i]);
                self.row(i, placed, &vectors, &disagreeing)
            })
            .collect();
        let placements: Vec<Option<Placement>> = rows
            .iter()
            .map(|r| r.placement.as_ref().and_then(PlacementRecord::placement))
            .collect();
        let is_used: Vec<bool> = rows.iter().map(|r| r.verdict == Verdict::Used).collect();
        let used: Vec<usize> = (0..n)
            .filter(|i| is_used[*i] && placements[*i].is_some())
            .collect();
        let covered = self.covered(&used, &placements)?;
        let panels = self.panels(names, (&used, &covered), &placements, &canvas, kept);
        for (i, row) in rows.iter_mut().enumerate() {
            row.panel = self.panel_place(i, &panels);
        }
        let around = canvas.size.corners().map(|p| to_reference.apply(p));
        let wcs = sky
            .as_ref()
            .and_then(|w| moved(w, self.centre(), &around, &|p| on_canvas.apply(p)));
        let reference = &self.frames()[self.problem.reference];
        Ok(Placed {
            field_deg: self.field_deg(&canvas, wcs.as_ref()),
            stray: self.stray(wcs.as_ref(), &is_used),
            layout: Layout {
                format: FORMAT,
                reference: Reference {
                    file: reference.name(),
                    plane: reference.plane,
                    why,
                },
                canvas,
                wcs,
                levels: None,
                mosaic: Some(self.record(projection)),
                frames: rows,
            },
            catalogues: Vec::new(),
            ties: self.shared(),
            same: self.same(),
            panels,
            vectors,
            projection,
        })
    }

    /// What is common to the panels, as layouts keep it.
    fn record(&self, projection: Projection) -> Panels {
        let cameras = self.field.camera_names.iter().zip(&self.solution.lenses);
        let cameras = cameras.map(|(camera, lens)| CameraRecord {
            camera: camera.clone(),
            lens: lens.clone(),
        });
        Panels::new(projection, self.solution.curvature, cameras.collect())
    }

    /// A frame's panel, and where it points.
    fn panel_place(&self, i: usize, panels: &[Panel]) -> Option<PanelPlace> {
        Some(PanelPlace {
            panel: panels.iter().find(|p| p.frames.contains(&i))?.name.clone(),
            camera: self.field.cameras[i],
            pose: self.solution.poses[i].clone()?,
        })
    }

    /// Width and height of the canvas on the sky, if anything tells its scale.
    fn field_deg(&self, canvas: &Canvas, wcs: Option<&Wcs>) -> Option<[f64; 2]> {
        let arcsec = wcs.map(Wcs::arcsec_per_px).or_else(|| {
            let curved = self.solution.curvature > 0.0 && self.problem.curvature.is_some();
            curved.then(|| self.solution.curvature.sqrt().to_degrees() * 3600.0 / canvas.scale)
        })?;
        Some([canvas.size.width(), canvas.size.height()].map(|n| n.real() * arcsec / 3600.0))
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

/// The row of a frame that stays, on a canvas that may have grown around its own.
fn stayed(before: &Layout, i: usize, canvas: &Canvas) -> LayoutFrame {
    let mut row = before.frames[i].clone();
    if before.canvas == *canvas {
        return row;
    }
    let shift = || {
        let grown = canvas
            .to_reference()?
            .then(&before.canvas.to_reference()?.invert())?;
        let first: Point<CanvasPx> = grown.apply(Point::new(0.0, 0.0));
        Some((first.x.round(), first.y.round()))
    };
    let Some((dx, dy)) = shift() else { return row };
    if let Some(record) = &mut row.placement {
        let own = record.placement();
        let moved = own.and_then(|own| {
            Placement::shift(dx, dy)
                .retyped::<CanvasPx, CanvasPx>()
                .then(&own)
        });
        if let Some(moved) = moved {
            record.matrix = moved.rows();
        }
    }
    // A surface that cannot go with its canvas is measured again.
    row.balance = row.balance.and_then(|b| {
        Some(Balance {
            surface: b.surface.moved(dx, dy)?,
            ..b
        })
    });
    row
}
