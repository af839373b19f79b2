//! The frames of a mosaic with their stars, and which of them show the same ones.

use jigsawa_core::matching::{
    FrameSpots, Guess, Spot, Tie, match_patterns, spots, tie_by_guess, ties,
};
use jigsawa_core::measured::Measured as Value;
use jigsawa_core::mosaic::share::overlap;
use jigsawa_core::mosaic::solve::{Problem, untied};
use jigsawa_core::mosaic::tracks::groups;
use jigsawa_core::placement::Registration;
use jigsawa_core::space::{FramePx, Point, ReferencePx, Size};
use jigsawa_core::wcs;

use super::names::PanelNames;
use crate::frames::Frame;
use crate::register::{Measured, Unmeasured};
use crate::trouble::Trouble;

/// Frames with their stars.
pub struct MeasuredFrames<'a> {
    pub frames: &'a [Frame],
    pub catalogues: &'a [Measured],
    pub spots: Vec<Vec<Spot<FramePx>>>,
    /// The camera of each frame, by number.
    pub cameras: Vec<usize>,
    /// What tells the cameras apart.
    pub camera_names: Vec<String>,
}

/// A frame tied by something else than stars.
pub struct OtherTie {
    pub known: usize,
    pub new: usize,
    pub map: Registration,
    /// By the pattern of the nebula; else by headers alone.
    pub by_pattern: bool,
}

/// Below this many stars patterns are compared.
const FEW_STARS: usize = 40;

/// Frames of one camera differ in scale by less than this (temperature, focus, refraction).
const OTHER_SCALE: f64 = 0.01;

/// So many stars that should meet, and do not, say that a header is wrong; fewer may be of other colours.
const ENOUGH_TO_TELL: usize = 8;

/// Headers that put less of a frame on another than this do not say that they overlap.
const LEAST_OVERLAP: f64 = 0.01;

impl<'a> MeasuredFrames<'a> {
    /// Of frames whose cameras may be known already.
    pub fn new(frames: &'a [Frame], catalogues: &'a [Measured], known: &[String]) -> Self {
        let mut camera_names = known.to_vec();
        let cameras = frames
            .iter()
            .map(|f| {
                let name = camera(f);
                camera_names
                    .iter()
                    .position(|n| *n == name)
                    .unwrap_or_else(|| {
                        camera_names.push(name);
                        camera_names.len() - 1
                    })
            })
            .collect();
        Self {
            frames,
            catalogues,
            spots: catalogues
                .iter()
                .map(|c| c.as_ref().map_or_else(|_| Vec::new(), spots))
                .collect(),
            cameras,
            camera_names,
        }
    }

    /// Frames whose stars say another scale than those of the camera that their headers name are of another one, from the
    /// frame of number `first` on. Held to one scale they would lose all their stars.
    pub fn part_cameras(&mut self, scales: &[Option<f64>], first: usize) {
        for camera in 0..self.camera_names.len() {
            let own: Vec<usize> = (0..self.frames.len())
                .filter(|i| self.cameras[*i] == camera)
                .collect();
            let mut all: Vec<f64> = own.iter().filter_map(|i| scales[*i]).collect();
            all.sort_by(f64::total_cmp);
            // The first of kept frames, else the most usual, is the camera's.
            let kept = own.iter().find(|i| **i < first).and_then(|i| scales[*i]);
            let Some(usual) = kept.or(all.get(all.len().saturating_sub(1) / 2).copied()) else {
                continue;
            };
            let mut others: Vec<(f64, usize)> = Vec::new();
            for i in own.into_iter().filter(|i| *i >= first) {
                let Some(scale) = scales[i].filter(|s| (s / usual).ln().abs() > OTHER_SCALE) else {
                    continue;
                };
                let like = others
                    .iter()
                    .find(|(s, _)| (s / scale).ln().abs() < OTHER_SCALE);
                self.cameras[i] = if let Some((_, number)) = like {
                    *number
                } else {
                    let name = format!("{}, x {:.3}", self.camera_names[camera], scale / usual);
                    self.camera_names.push(name);
                    others.push((scale, self.camera_names.len() - 1));
                    self.camera_names.len() - 1
                };
            }
        }
    }

    /// Stars as matching sees them.
    pub fn shown(&self) -> Vec<FrameSpots<'_>> {
        let both = self.spots.iter().zip(self.frames);
        both.map(|(spots, f)| FrameSpots {
            spots,
            size: f.facts.size,
        })
        .collect()
    }

    fn size(&self, i: usize) -> Size {
        self.frames[i].facts.size
    }

    /// How curved the sky is on this frame's pixels, by its header: 1 / (pixels for a radian)².
    pub fn curvature(&self, reference: usize) -> Option<Value> {
        let facts = &self.frames[reference].facts;
        let by_wcs = self.scale_by_wcs(reference);
        // Focal lengths are known from the label, more or less.
        let by_optics = || facts.arcsec_per_px().map(|a| (a, 0.05));
        let (arcsec, error) = by_wcs.or_else(by_optics)?;
        let radians = (arcsec / 3600.0).to_radians();
        let value = radians * radians;
        (value.is_finite() && value > 0.0).then_some(Value {
            value,
            sigma: 2.0 * error * value,
        })
    }

    /// Arc seconds for a pixel of the reference's camera by the WCS of all frames of it, and the relative error: one
    /// wrong header among three is outvoted, and of two that disagree nobody knows which is right.
    fn scale_by_wcs(&self, reference: usize) -> Option<(f64, f64)> {
        let same = |k: &usize| self.cameras[*k] == self.cameras[reference];
        let mut all: Vec<f64> = (0..self.frames.len())
            .filter(same)
            .filter_map(|k| Some(self.frames[k].facts.wcs.as_ref()?.arcsec_per_px()))
            .collect();
        all.sort_by(f64::total_cmp);
        let middle = *all.get(all.len() / 2)?;
        let agreeing = all
            .iter()
            .filter(|v| (*v / middle).ln().abs() < 0.02)
            .count();
        (2 * agreeing > all.len()).then_some((middle, 0.01))
    }

    /// All ties by stars: by their asterisms, and for frames that those leave apart near where headers or panels' names
    /// say.
    pub fn ties(&self, names: &PanelNames) -> Vec<Tie> {
        let shown = self.shown();
        let mut found = ties(&shown);
        let apart = groups(self.frames.len(), found.iter().map(|t| (t.a, t.b)));
        let mut group = vec![0; self.frames.len()];
        for (k, g) in apart.iter().enumerate() {
            for i in g {
                group[*i] = k;
            }
        }
        for a in 0..self.frames.len() {
            for b in a + 1..self.frames.len() {
                if group[a] == group[b] {
                    continue;
                }
                let told = self.guesses(a, b, names);
                let by_told = told
                    .iter()
                    .find_map(|g| tie_by_guess(&shown, (a, b), g, true));
                let tie = by_told.or_else(|| {
                    let usual = self.usual_turns(a, b);
                    usual
                        .iter()
                        .find_map(|g| tie_by_guess(&shown, (a, b), g, false))
                });
                if let Some(tie) = tie {
                    let (from, to) = (group[b], group[a]);
                    for g in &mut group {
                        if *g == from {
                            *g = to;
                        }
                    }
                    found.push(tie);
                }
            }
        }
        found
    }

    /// Maps between two frames that may be true.
    fn guesses(&self, a: usize, b: usize, names: &PanelNames) -> Vec<Registration> {
        let mut guesses: Vec<Registration> = self
            .by_headers(a, b)
            .into_iter()
            .map(|(map, _)| map)
            .collect();
        if names.same(a, b) {
            guesses.extend(self.usual_turns(a, b));
        }
        guesses
    }

    /// Frames of one camera are mostly turned by nothing or by half a turn against each other.
    fn usual_turns(&self, a: usize, b: usize) -> Vec<Registration> {
        if self.cameras[a] != self.cameras[b] {
            return Vec::new();
        }
        [0.0, 180.0]
            .into_iter()
            .filter_map(|turn_deg| {
                let guess = Guess {
                    turn_deg,
                    ..Guess::default()
                };
                guess.map(self.size(a), self.size(b))
            })
            .collect()
    }

    /// The map by the headers of both, and the part of the first that lies on the other; if any does.
    fn by_headers(&self, a: usize, b: usize) -> Option<(Registration, f64)> {
        let of = |i: usize| Some((self.frames[i].facts.wcs.as_ref()?, self.size(i)));
        let map = wcs::guess(of(a)?, of(b)?)?;
        let part = overlap(&map, self.size(a), self.size(b));
        (part > LEAST_OVERLAP).then_some((map, part))
    }

    /// Ties for frames that their stars leave apart from the reference: by the pattern of the nebula where stars are
    /// few, else by headers, as far as these say that frames overlap.
    pub fn other_ties(
        &self,
        problem: &Problem<'_>,
        by_stars: &[Tie],
        names: &PanelNames,
    ) -> Result<Vec<OtherTie>, Trouble> {
        let apart = untied(problem, by_stars);
        let mut inside: Vec<bool> = vec![true; self.frames.len()];
        for i in apart.iter().flatten() {
            inside[*i] = false;
        }
        let mut found = Vec::new();
        // What is tied may tie others in turn.
        loop {
            let before = found.len();
            for new in 0..self.frames.len() {
                if inside[new] {
                    continue;
                }
                if let Some(tie) = self.other_tie(new, &inside, names)? {
                    found.push(tie);
                    inside[new] = true;
                }
            }
            if found.len() == before {
                return Ok(found);
            }
        }
    }

    fn other_tie(
        &self,
        new: usize,
        inside: &[bool],
        names: &PanelNames,
    ) -> Result<Option<OtherTie>, Trouble> {
        let mut told: Vec<(usize, Registration, f64)> = (0..self.frames.len())
            .filter(|k| inside[*k])
            .filter_map(|k| self.by_headers(k, new).map(|(map, part)| (k, map, part)))
            .collect();
        told.sort_by(|a, b| b.2.total_cmp(&a.2).then(a.0.cmp(&b.0)));
        let spoilt = |i: usize| matches!(self.catalogues[i], Err(Unmeasured::Unreadable(_)));
        let few = |i: usize| self.spots[i].len() < FEW_STARS && !spoilt(new);
        // By pattern: with what headers say overlaps most, or with what is said to be the same panel.
        let named = (0..self.frames.len()).filter(|k| inside[*k] && names.same(*k, new));
        let tried: Vec<(usize, Vec<Registration>)> = told
            .iter()
            .take(2)
            .map(|(k, map, _)| (*k, vec![map.clone()]))
            .chain(named.take(1).map(|k| (k, Vec::new())))
            .filter(|(k, _)| few(*k) || few(new))
            .collect();
        for (known, guesses) in tried {
            let read = |i: usize| {
                let f = &self.frames[i];
                let plane = f.read_plane(Vec::new());
                plane.map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))
            };
            let settings = jigsawa_core::matching::MatchSettings {
                thorough: false,
                model: None,
                guesses,
            };
            if let Ok(m) = match_patterns(&read(known)?, &read(new)?, &settings) {
                return Ok(Some(OtherTie {
                    known,
                    new,
                    map: m.map,
                    by_pattern: true,
                }));
            }
        }
        // Stars that should meet there and do not say that the headers are wrong.
        let checked = |(known, map, _): &(usize, Registration, f64)| {
            self.in_common((*known, new), map) >= ENOUGH_TO_TELL
        };
        if told.iter().any(checked) {
            return Ok(None);
        }
        Ok(told.into_iter().next().map(|(known, map, _)| OtherTie {
            known,
            new,
            map,
            by_pattern: false,
        }))
    }

    /// How many stars both frames should have in common under a map: of those that lie on the other the fewer.
    fn in_common(&self, (a, b): (usize, usize), map: &Registration) -> usize {
        let back = map.invert();
        let of_a = self.spots[a].iter().filter(|s| {
            let p: Point<ReferencePx> = Point::new(s.at.x, s.at.y);
            self.size(b).holds(map.apply(p))
        });
        let of_b = self.spots[b].iter().filter(|s| {
            let p = back.apply(s.at);
            self.size(a).holds(p)
        });
        of_a.count().min(of_b.count())
    }

    /// The frame that another's WCS puts it beside, and how many stars both should share there, if these are enough to
    /// say that it is wrong.
    pub fn against_its_wcs(&self, i: usize) -> Option<(usize, usize)> {
        let others = (0..self.frames.len()).filter(|k| *k != i);
        others
            .filter_map(|k| Some((k, self.in_common((k, i), &self.by_headers(k, i)?.0))))
            .filter(|(_, stars)| *stars >= ENOUGH_TO_TELL)
            .max_by_key(|(k, stars)| (*stars, std::cmp::Reverse(*k)))
    }
}

/// What tells a frame's camera from others.
fn camera(f: &Frame) -> String {
    let facts = &f.facts;
    let name = facts.camera.as_deref().unwrap_or("camera");
    let scale = facts
        .arcsec_per_px()
        .map_or(String::new(), |a| format!(", {a:.2} arcsec/px"));
    format!(
        "{name}, {} x {}{scale}",
        facts.size.width(),
        facts.size.height()
    )
}
