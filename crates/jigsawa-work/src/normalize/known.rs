//! Frames with their stars, places and skies: read, and brought to the frame that they are matched to.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use jigsawa_core::balance::{
    BalanceError, BalanceSettings, Lattice, Matched, Member, Samples, Sky, match_to, propose,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::layout::{Layout, PlacementRecord};
use jigsawa_core::placement::Placement;
use jigsawa_core::stars::Catalogue;
use jigsawa_core::verdict::Verdict;

use super::NormalizeSettings;
use crate::frames::Frame;
use crate::register::{measure, usual_stars};
use crate::run::Run;
use crate::trouble::Trouble;

/// All that is known of the frames that have a place.
pub struct KnownFrames<'a> {
    /// All frames.
    pub frames: &'a [Frame],
    /// Stars of each, where it has any.
    pub catalogues: Vec<Option<Catalogue>>,
    /// Where each lies, if it is placed.
    pub placements: Vec<Option<Placement>>,
    /// The places of the canvas where skies are compared.
    pub lattice: Lattice,
}

/// The frame that the others of its filter are matched to, and its sky.
pub struct Standard<'a> {
    pub frame: usize,
    pub why: String,
    pub sky: Sky<'a>,
}

impl<'a> KnownFrames<'a> {
    /// A frame as it takes part; `None` for one that is not placed or has no stars.
    pub fn member(&'a self, i: usize) -> Option<Member<'a>> {
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

    /// A frame's sky; the buffer is used for the pixels of one that is packed, and comes back.
    pub fn sky(&'a self, i: usize, buffer: &mut Vec<f32>) -> Result<Option<Sky<'a>>, Trouble> {
        let Some(member) = self.member(i) else {
            return Ok(None);
        };
        let f = &self.frames[i];
        let (placement, stars) = (member.placement, member.catalogue);
        let saturation = stars.saturation;
        let samples = if f.file.is_plain() {
            Samples::read(&f.source(), placement, stars, saturation, self.lattice).map_err(
                |error| Trouble::Unreadable {
                    file: f.name(),
                    error: error.to_string(),
                },
            )?
        } else {
            // Packed tiles would be unpacked for each part anew.
            let plane = f
                .read_plane(std::mem::take(buffer))
                .map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))?;
            let samples = Samples::take(&plane, placement, stars, saturation, self.lattice);
            *buffer = plane.into_data();
            samples
        };
        Ok(Some(Sky { member, samples }))
    }
}

/// Stars and places of the frames.
pub fn known_frames<'a>(
    frames: &'a [Frame],
    layout: &Layout,
    wanted: &NormalizeSettings<'_>,
    run: &Run<'_>,
) -> Result<KnownFrames<'a>, Trouble> {
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
        .filter(|k| wanted.needed.contains(&present[*k]))
        .collect();
    let mut catalogues: Vec<Option<Catalogue>> = frames.iter().map(|_| None).collect();
    for (i, found) in present
        .iter()
        .zip(measure(&list, &must, &usual_stars(), run)?)
    {
        catalogues[*i] = found.ok();
    }
    Ok(KnownFrames {
        frames,
        catalogues,
        placements,
        lattice: Lattice::over(layout.canvas.size),
    })
}

/// The filters' references, each with its sky, the first being that of the reference's filter.
pub fn standards<'a>(
    known: &'a KnownFrames<'a>,
    layout: &Layout,
    present: &[usize],
    wanted: &NormalizeSettings<'_>,
) -> Result<Vec<Standard<'a>>, Trouble> {
    let frames = known.frames;
    for name in wanted.references {
        let called: Vec<usize> = (0..frames.len())
            .filter(|i| frames[*i].is_called(name))
            .collect();
        let Some(first) = called.first() else {
            return Err(Trouble::NoSuchFrame {
                option: "--reference",
                name: name.clone(),
                frames: frames.iter().map(Frame::name).collect(),
            });
        };
        if !called.iter().any(|i| present.contains(i)) {
            let reason = layout.frames[*first].verdict.reason();
            return Err(Trouble::LeftOut {
                file: frames[*first].name(),
                reason: reason.unwrap_or("it shows no stars").to_owned(),
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
            .filter(|i| wanted.references.iter().any(|n| frames[**i].is_called(n)))
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
        let members: Vec<Member<'_>> = of.iter().filter_map(|i| known.member(*i)).collect();
        let altitudes: Vec<Option<f64>> =
            of.iter().map(|i| frames[*i].facts.altitude_deg).collect();
        if let Some(p) = propose(&members, &altitudes) {
            chosen.push((of[p.frame], p.why));
        }
    }
    let mut skies = Vec::new();
    let mut buffer = Vec::new();
    for (frame, why) in chosen {
        if let Some(sky) = known.sky(frame, &mut buffer)? {
            skies.push(Standard { frame, why, sky });
        }
    }
    Ok(skies)
}

/// Frames that go through memory at once: one is read while another is worked on.
const AT_ONCE: usize = 2;

/// What came of a frame: the number of its level, and its balance.
pub type Outcome = (usize, Result<Matched, BalanceError>);

/// Matches frames to their filters' references.
pub fn match_all(
    known: &KnownFrames<'_>,
    standards: &[Standard<'_>],
    rest: &[usize],
    settings: &BalanceSettings,
    run: &Run<'_>,
) -> Result<Vec<Outcome>, Trouble> {
    let progress = run.begin("skies", rest.len());
    let next = AtomicUsize::new(0);
    let done: Vec<Mutex<Option<Result<Outcome, Trouble>>>> =
        rest.iter().map(|_| Mutex::default()).collect();
    let work = || {
        let mut buffer = Vec::new();
        loop {
            let k = next.fetch_add(1, Ordering::Relaxed);
            let Some(i) = rest.get(k) else { break };
            let of = |s: &Standard<'_>| known.frames[s.frame].filter == known.frames[*i].filter;
            let level = standards.iter().position(of).unwrap_or(0);
            let outcome = known.sky(*i, &mut buffer).map(|sky| {
                let matched = sky.map_or(Err(BalanceError::NoCommonSky), |sky| {
                    match_to(&standards[level].sky, &sky, settings)
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
