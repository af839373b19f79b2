//! The values of placed frames matched: the layout's placements in, its balances out.
//!
//! Each filter has one frame that the others of it are matched to. Those references are read first and their
//! sky is kept, some megabytes each; then two frames at a time go through memory. A frame that cannot be
//! matched is left out with its reason, and comes back when it can be.

mod surfaces;

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use jigsawa_core::balance::flatten::{Flatten, Gradient, gradient};
use jigsawa_core::balance::{
    Balance, BalanceError, Evidence, Lattice, Matched, Member, Samples, ScaleBy, Shape, Sky, Weigh,
    Wish, both_skies, colours, match_sky, match_to, propose, scale, weight,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::layout::{Layout, LayoutFrame, LevelReference, Levels, PlacementRecord};
use jigsawa_core::measured::Measured as Value;
use jigsawa_core::placement::Placement;
use jigsawa_core::stars::Catalogue;
use jigsawa_core::verdict::Verdict;
use rayon::prelude::*;

pub use surfaces::write_surfaces;

use crate::account::Clock;
use crate::cache::Store;
use crate::cli::Common;
use crate::frames::Frame;
use crate::register::{measure, stars_wanted};
use crate::tell::Trouble;
use crate::terminal::Progress;

/// How frames are to be matched.
#[derive(Default)]
pub struct Settled<'a> {
    /// Frames that the others of their filters are to be matched to.
    pub references: &'a [String],
    /// Scale and surface.
    pub wish: Wish,
    /// What is done between filters when nothing is asked for.
    pub across: Across,
    /// Are the references' own gradients to be taken out?
    pub flatten: Option<Flatten>,
    /// What weights are made of.
    pub weigh: Weigh,
    /// Frames that must not be left out.
    pub needed: &'a [usize],
}

/// The scale between filters when nothing is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Across {
    /// Left as it is: no single one is true.
    #[default]
    AsItIs,
    /// As a picture wants it.
    Colours,
}

/// A layout with balances, and what they rest on.
pub struct Normalized {
    pub layout: Layout,
    /// For each frame of the layout.
    pub seen: Vec<Option<Seen>>,
}

impl Normalized {
    /// Adds frames that were left out before; they come last.
    pub fn leave_out(&mut self, frames: Vec<LayoutFrame>) {
        self.layout.frames.extend(frames);
        self.seen.resize_with(self.layout.frames.len(), || None);
    }
}

/// What a frame's balance rests on.
pub struct Seen {
    /// The frame that it was matched to.
    pub against: usize,
    /// Its way there alone; the balance in the layout goes on from there.
    pub own: Balance,
    pub evidence: Evidence,
    /// Its own gradient, when that was taken out.
    pub gradient: Option<Gradient>,
}

/// What a verdict begins with when only its values keep a frame out: it may come back.
const UNMATCHED: &str = "its values cannot be matched: ";

/// All that is known of the frames that have a place.
struct Field<'a> {
    frames: &'a [Frame],
    catalogues: Vec<Option<Catalogue>>,
    placements: Vec<Option<Placement>>,
    lattice: Lattice,
}

/// The frame that the others of its filter are matched to, and its sky.
struct Standard<'a> {
    frame: usize,
    why: String,
    sky: Sky<'a>,
}

/// A filter's reference and how it comes to that of all.
struct Level<'a> {
    filter: &'a Filter,
    frame: usize,
    why: String,
    sky: Sky<'a>,
    /// Its own balance: flattened, and brought to the first filter's.
    balance: Balance,
    seen: Option<Seen>,
}

impl<'a> Field<'a> {
    fn member(&'a self, i: usize) -> Option<Member<'a>> {
        let f = &self.frames[i];
        Some(Member {
            catalogue: self.catalogues[i].as_ref()?,
            placement: self.placements[i].as_ref()?,
            size: f.facts.size,
            filter: &f.filter,
            exposure_s: f.facts.exposure_s,
            gain_e_adu: f.facts.gain_e_adu,
        })
    }

    /// A frame's sky; the buffer is used for its pixels and comes back.
    fn sky(&'a self, i: usize, buffer: &mut Vec<f32>) -> Result<Option<Sky<'a>>, Trouble> {
        let Some(member) = self.member(i) else {
            return Ok(None);
        };
        let f = &self.frames[i];
        let plane = f
            .file
            .read_plane(f.plane.unwrap_or(0), std::mem::take(buffer))
            .map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))?;
        let saturation = member.catalogue.saturation;
        let samples = Samples::take(
            &plane,
            member.placement,
            member.catalogue,
            saturation,
            self.lattice,
        );
        *buffer = plane.into_data();
        Ok(Some(Sky { member, samples }))
    }
}

/// Matches the values of the frames of a layout whose places are known.
pub fn normalize(
    frames: &[Frame],
    mut layout: Layout,
    settled: &Settled<'_>,
    store: &Store,
    common: &Common,
    clock: &mut Clock,
) -> Result<Normalized, Trouble> {
    for row in &mut layout.frames {
        let only_values = row
            .verdict
            .reason()
            .is_some_and(|r| r.starts_with(UNMATCHED));
        if only_values && row.placement.is_some() {
            row.verdict = Verdict::Used;
        }
        row.balance = None;
    }
    let field = field(frames, &layout, settled, store, common)?;
    clock.lap("stars");
    let present: Vec<usize> = (0..frames.len())
        .filter(|i| layout.frames[*i].verdict == Verdict::Used && field.member(*i).is_some())
        .collect();
    let mut seen: Vec<Option<Seen>> = frames.iter().map(|_| None).collect();
    let standards = standards(&field, &layout, &present, settled)?;
    let rest: Vec<usize> = present
        .iter()
        .filter(|i| standards.iter().all(|s| s.frame != **i))
        .copied()
        .collect();
    let matched = match_all(&field, &standards, &rest, &settled.wish, common)?;
    let clear: Vec<f64> = (0..standards.len())
        .map(|k| transparency(frames, &standards[k], k, &rest, &matched))
        .collect();
    let levels = bring_together(&field, standards, &clear, settled)?;
    for (i, (level, result)) in rest.iter().zip(matched) {
        let level = &levels[level];
        match result {
            Ok(Matched { balance, evidence }) => {
                let weight = weight_of(settled.weigh, level, field.member(*i), &balance);
                layout.frames[*i].balance = Some(Balance {
                    weight,
                    ..balance.clone().then(&level.balance)
                });
                seen[*i] = Some(Seen {
                    against: level.frame,
                    own: balance,
                    evidence,
                    gradient: None,
                });
            }
            Err(error) if settled.needed.contains(i) => {
                return Err(Trouble::Balance {
                    file: frames[*i].name(),
                    reference: frames[level.frame].name(),
                    error,
                });
            }
            Err(error) => {
                layout.frames[*i].verdict = Verdict::LeftOut(format!("{UNMATCHED}{error}"));
            }
        }
    }
    let mut references = Vec::new();
    for level in levels {
        references.push(LevelReference {
            filter: level.filter.clone(),
            frame: level.frame,
            why: level.why,
        });
        layout.frames[level.frame].balance = Some(level.balance);
        seen[level.frame] = level.seen;
    }
    layout.levels = Some(Levels {
        references,
        wish: settled.wish,
        flatten: settled.flatten.clone(),
    });
    clock.lap("normalize");
    Ok(Normalized { layout, seen })
}

fn weight_of(how: Weigh, level: &Level<'_>, member: Option<Member<'_>>, own: &Balance) -> f64 {
    member.map_or(1.0, |m| weight(how, &level.sky.member, &m, own))
}

/// Stars and places of the frames.
fn field<'a>(
    frames: &'a [Frame],
    layout: &Layout,
    settled: &Settled<'_>,
    store: &Store,
    common: &Common,
) -> Result<Field<'a>, Trouble> {
    let placements: Vec<Option<Placement>> = layout
        .frames
        .iter()
        .map(|f| {
            let used = f.verdict == Verdict::Used;
            f.placement
                .as_ref()
                .filter(|_| used)
                .and_then(PlacementRecord::placement)
        })
        .collect();
    // Frames without a place are not looked at.
    let present: Vec<usize> = (0..frames.len())
        .filter(|i| placements[*i].is_some())
        .collect();
    let list: Vec<&Frame> = present.iter().map(|i| &frames[*i]).collect();
    let must: Vec<usize> = (0..present.len())
        .filter(|k| settled.needed.contains(&present[*k]))
        .collect();
    let mut catalogues: Vec<Option<Catalogue>> = frames.iter().map(|_| None).collect();
    for (i, found) in present
        .iter()
        .zip(measure(&list, &must, &stars_wanted(), store, common)?)
    {
        catalogues[*i] = found.ok();
    }
    Ok(Field {
        frames,
        catalogues,
        placements,
        lattice: Lattice::over(layout.canvas.size),
    })
}

/// The filters' references, each with its sky, the first being that of the reference's filter.
fn standards<'a>(
    field: &'a Field<'a>,
    layout: &Layout,
    present: &[usize],
    settled: &Settled<'_>,
) -> Result<Vec<Standard<'a>>, Trouble> {
    let frames = field.frames;
    for name in settled.references {
        if !frames.iter().any(|f| f.is_called(name)) {
            return Err(Trouble::NoSuchFrame {
                option: "--reference",
                name: name.clone(),
                frames: frames.iter().map(Frame::name).collect(),
            });
        }
    }
    // The filter of the reference comes first; the others in the order of their frames.
    let mut filters: Vec<&Filter> = Vec::new();
    let reference = layout.reference_index().unwrap_or(0);
    for i in std::iter::once(&reference)
        .filter(|r| present.contains(r))
        .chain(present)
    {
        if !filters.contains(&&frames[*i].filter) {
            filters.push(&frames[*i].filter);
        }
    }
    let mut chosen: Vec<(usize, String)> = Vec::new();
    for filter in &filters {
        let of: Vec<usize> = present
            .iter()
            .filter(|i| frames[**i].filter == **filter)
            .copied()
            .collect();
        let asked: Vec<usize> = of
            .iter()
            .filter(|i| settled.references.iter().any(|n| frames[**i].is_called(n)))
            .copied()
            .collect();
        if asked.len() > 1 {
            return Err(Trouble::TwoLevels {
                filter: filter.name().to_owned(),
                files: asked.iter().map(|i| frames[*i].name()).collect(),
            });
        }
        if let Some(i) = asked.first() {
            chosen.push((*i, "as asked".to_owned()));
            continue;
        }
        let members: Vec<Member<'_>> = of.iter().filter_map(|i| field.member(*i)).collect();
        let altitudes: Vec<Option<f64>> =
            of.iter().map(|i| frames[*i].facts.altitude_deg).collect();
        if let Some(p) = propose(&members, &altitudes) {
            chosen.push((of[p.frame], p.why));
        }
    }
    let mut skies = Vec::new();
    let mut buffer = Vec::new();
    for (frame, why) in chosen {
        if let Some(sky) = field.sky(frame, &mut buffer)? {
            skies.push(Standard { frame, why, sky });
        }
    }
    Ok(skies)
}

/// The part of the light that passed the air for a filter's reference, against the clearest frame of the
/// filter; 1 where exposures or scales are not known.
fn transparency(
    frames: &[Frame],
    standard: &Standard<'_>,
    level: usize,
    rest: &[usize],
    matched: &[Outcome],
) -> f64 {
    let exposure = |i: usize| frames[i].facts.exposure_s;
    let of_reference = exposure(standard.frame);
    let best = rest
        .iter()
        .zip(matched)
        .filter(|(_, (l, _))| *l == level)
        .filter_map(|(i, (_, m))| {
            let b = &m.as_ref().ok()?.balance;
            let ratio = of_reference? / exposure(*i)?;
            (b.scale_by == ScaleBy::Stars).then_some(ratio / b.scale.value)
        })
        .fold(1.0, f64::max);
    1.0 / best
}

/// Flattens the references, if that is asked for, and brings them to the first. `clear` is the
/// transparency of each.
fn bring_together<'a>(
    field: &'a Field<'a>,
    standards: Vec<Standard<'a>>,
    clear: &[f64],
    settled: &Settled<'_>,
) -> Result<Vec<Level<'a>>, Trouble> {
    let wrong = |i: usize, to: usize, error| Trouble::Balance {
        file: field.frames[i].name(),
        reference: field.frames[to].name(),
        error,
    };
    let members: Vec<Member<'_>> = standards.iter().map(|s| s.sky.member).collect();
    let of_picture = colours(&members, 0);
    let flat: Vec<(Sky<'a>, Balance, Option<Gradient>)> = standards
        .par_iter()
        .map(|s| flattened(&s.sky, settled).map_err(|e| wrong(s.frame, s.frame, e)))
        .collect::<Result<_, _>>()?;
    let first = standards.first().map_or(0, |s| s.frame);
    let mut levels: Vec<Level<'a>> = Vec::new();
    for (k, Standard { frame, why, sky }) in standards.into_iter().enumerate() {
        let (own_sky, own, gradient) = &flat[k];
        let (balance, link, evidence) = if k == 0 {
            (own.clone(), own.clone(), Evidence::default())
        } else {
            let between = Between {
                first: &flat[0].0,
                own: own_sky,
                clear: clear[0] / clear[k],
                of_picture: of_picture[k],
            };
            between
                .join(own, settled)
                .map_err(|error| wrong(frame, first, error))?
        };
        levels.push(Level {
            filter: &field.frames[frame].filter,
            frame,
            why,
            sky,
            balance,
            seen: Some(Seen {
                against: first,
                own: link,
                evidence,
                gradient: gradient.clone(),
            }),
        });
    }
    Ok(levels)
}

/// A reference's sky and balance after its own gradient is taken out, if that is asked for.
fn flattened<'a>(
    sky: &Sky<'a>,
    settled: &Settled<'_>,
) -> Result<(Sky<'a>, Balance, Option<Gradient>), BalanceError> {
    let Some(how) = &settled.flatten else {
        return Ok((sky.clone(), Balance::identity(sky.member.catalogue), None));
    };
    let found = gradient(sky, settled.wish.shape, &how.hints)?;
    let balance = found.balance(how.way, sky)?;
    let flat = Sky {
        member: sky.member,
        samples: sky.samples.clone().balanced(&balance),
    };
    Ok((flat, balance, Some(found)))
}

/// The references of two filters.
struct Between<'a> {
    first: &'a Sky<'a>,
    own: &'a Sky<'a>,
    /// Transparency of the first over that of the other.
    clear: f64,
    /// The scale that a picture wants.
    of_picture: Result<(Value, ScaleBy, usize), BalanceError>,
}

impl Between<'_> {
    /// The whole way of the second: its own balance, then to the first.
    fn join(
        &self,
        own: &Balance,
        settled: &Settled<'_>,
    ) -> Result<(Balance, Balance, Evidence), BalanceError> {
        // After flattening a level is all that can differ.
        let shape = match settled.flatten {
            Some(_) => Some(Shape::Level),
            None => settled.wish.shape,
        };
        let scale = self.scale(settled)?;
        let Matched { balance, evidence } = match_sky(self.first, self.own, scale, shape)?;
        let joined = Balance {
            scale_by: balance.scale_by,
            stars: balance.stars,
            residual_sigma: balance.residual_sigma,
            unseen_sigma: balance.unseen_sigma,
            patches: balance.patches,
            ..own.clone().then(&balance)
        };
        Ok((joined, balance, evidence))
    }

    fn scale(&self, settled: &Settled<'_>) -> Result<(Value, ScaleBy, usize), BalanceError> {
        let (first, own) = (&self.first.member, &self.own.member);
        let known = |s: Option<Value>, by, e| s.map(|s| (s, by, 0)).ok_or(e);
        match settled.wish.scale_by {
            None if settled.across == Across::Colours => self.of_picture,
            None | Some(ScaleBy::None | ScaleBy::Reference) => {
                Ok((Value::exact(1.0), ScaleBy::None, 0))
            }
            Some(ScaleBy::Stars) => {
                let stars = scale::common_stars(first, own);
                scale::star_scale(&stars)
                    .map(|(s, n)| (s, ScaleBy::Stars, n))
                    .ok_or(BalanceError::FewStars(stars.len()))
            }
            Some(ScaleBy::Noise) => {
                let s = scale::noise_scale(first.catalogue, own.catalogue);
                known(s, ScaleBy::Noise, BalanceError::NoNoise)
            }
            Some(ScaleBy::Exposure) => {
                let s =
                    scale::exposure_scale(first, own).map(|s| s.times(Value::exact(self.clear)));
                known(s, ScaleBy::Exposure, BalanceError::NoExposure)
            }
            Some(ScaleBy::Signal) => {
                let both = both_skies(&self.first.samples, &self.own.samples);
                scale::signal_scale(&both, self.first.samples.lattice().canvas())
                    .map(|(s, n)| (s, ScaleBy::Signal, n))
                    .ok_or(BalanceError::NoSignal)
            }
        }
    }
}

/// Frames that go through memory at once: one is read while another is worked on.
const AT_ONCE: usize = 2;

/// What came of a frame: the number of its level, and its balance.
type Outcome = (usize, Result<Matched, BalanceError>);

/// Matches frames to their filters' references.
fn match_all(
    field: &Field<'_>,
    standards: &[Standard<'_>],
    rest: &[usize],
    wish: &Wish,
    common: &Common,
) -> Result<Vec<Outcome>, Trouble> {
    let progress = Progress::begin("skies", rest.len(), common);
    let next = AtomicUsize::new(0);
    let done: Vec<Mutex<Option<Result<Outcome, Trouble>>>> =
        rest.iter().map(|_| Mutex::default()).collect();
    let work = || {
        let mut buffer = Vec::new();
        loop {
            let k = next.fetch_add(1, Ordering::Relaxed);
            let Some(i) = rest.get(k) else { break };
            let of = |s: &Standard<'_>| field.frames[s.frame].filter == field.frames[*i].filter;
            let level = standards.iter().position(of).unwrap_or(0);
            let outcome = field.sky(*i, &mut buffer).map(|sky| {
                let matched = sky.map_or(Err(BalanceError::NoCommonSky), |sky| {
                    match_to(&standards[level].sky, &sky, wish)
                });
                (level, matched)
            });
            if let Ok(mut slot) = done[k].lock() {
                *slot = Some(outcome);
            }
            progress.step();
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE.min(rest.len()) {
            scope.spawn(work);
        }
    });
    done.into_iter()
        .filter_map(|slot| slot.into_inner().ok().flatten())
        .collect()
}
