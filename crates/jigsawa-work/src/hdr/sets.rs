//! Frames sorted into sets: one for each filter, the longest exposure first.

use jigsawa_core::filter::Filter;
use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_core::number::Convert;
use jigsawa_core::verdict::Verdict;

use crate::frames::Frame;
use crate::trouble::Trouble;

/// Exposures of one filter.
pub struct Set {
    /// Their filter.
    pub filter: Filter,
    /// Numbers of its frames, the longest exposure first.
    pub frames: Vec<usize>,
}

/// Exposures of one filter at the most.
const MOST: usize = 64;

/// Puts what the user says of single frames in the place of what their headers say.
pub fn tell_apart(
    frames: &mut [Frame],
    exposures: &[(String, f64)],
    saturations: &[(String, f64)],
) -> Result<(), Trouble> {
    let mut set = |option: &'static str,
                   list: &[(String, f64)],
                   change: fn(&mut Frame, f64)|
     -> Result<(), Trouble> {
        for (name, value) in list {
            let mut found = false;
            for f in frames.iter_mut().filter(|f| f.is_called(name)) {
                change(f, *value);
                found = true;
            }
            if !found {
                return Err(Trouble::NoSuchFrame {
                    option,
                    name: name.clone(),
                    frames: frames.iter().map(Frame::name).collect(),
                });
            }
        }
        Ok(())
    };
    set("--exposure", exposures, |f, v| {
        f.facts.exposure_s = Some(v);
    })?;
    set("--saturation", saturations, |f, v| {
        f.facts.saturation = Some(v.single());
    })
}

/// Sorts the frames, those that a layout leaves out not among them.
pub fn sets(frames: &[Frame], layout: Option<&Layout>) -> Vec<Set> {
    let used = |i: usize| layout.is_none_or(|l| l.frames[i].verdict == Verdict::Used);
    let mut all: Vec<Set> = Vec::new();
    for (i, f) in frames.iter().enumerate().filter(|(i, _)| used(*i)) {
        match all.iter_mut().find(|s| s.filter == f.filter) {
            Some(set) => set.frames.push(i),
            None => all.push(Set {
                filter: f.filter.clone(),
                frames: vec![i],
            }),
        }
    }
    let seconds = |i: &usize| frames[*i].facts.exposure_s.unwrap_or(0.0);
    for set in &mut all {
        // Of equal ones that with more sub-frames first, and else as they were given.
        let total = |i: &usize| frames[*i].facts.total_s.unwrap_or(0.0);
        set.frames.sort_by(|a, b| {
            seconds(b)
                .total_cmp(&seconds(a))
                .then(total(b).total_cmp(&total(a)))
        });
    }
    all
}

/// Checks that there is something to merge: before any work, and again when the layout tells which frames have a place.
/// `rows` are the layout's, whose first are these frames; before there is one, those of frames that were left out.
pub fn check(
    frames: &[Frame],
    sets: &[Set],
    rows: &[LayoutFrame],
    are_placed: bool,
) -> Result<(), Trouble> {
    let unknown: Vec<String> = frames
        .iter()
        .filter(|f| f.facts.exposure_s.is_none())
        .map(Frame::name)
        .collect();
    if !unknown.is_empty() {
        return Err(Trouble::NoExposure(unknown));
    }
    if sets.iter().all(|s| s.frames.len() < 2) {
        let each = sets
            .iter()
            .map(|s| (s.filter.name().to_owned(), frames[s.frames[0]].name()));
        let reason = |f: &LayoutFrame| Some((f.file.clone(), f.verdict.reason()?.to_owned()));
        return Err(Trouble::OneExposure {
            sets: each.collect(),
            left_out: rows.iter().filter_map(reason).collect(),
            unplaced: are_placed && rows.iter().take(frames.len()).any(|f| reason(f).is_some()),
        });
    }
    if let Some(set) = sets.iter().find(|s| s.frames.len() > MOST) {
        return Err(Trouble::ManyExposures {
            filter: set.filter.name().to_owned(),
            count: set.frames.len(),
            most: MOST,
        });
    }
    Ok(())
}
