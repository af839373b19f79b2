//! Frames sorted into the sets that become masters.

use jigsawa_core::filter::Filter;
use jigsawa_core::layout::Layout;
use jigsawa_core::number::Convert;
use jigsawa_core::verdict::Verdict;

use crate::frames::Frame;
use crate::outputs::slug;
use crate::trouble::Trouble;

/// Frames that become one master.
#[derive(Debug)]
pub struct Set {
    /// Its filter; none for a colour camera's three.
    pub filter: Option<Filter>,
    /// The exposure, where masters of a filter are told apart by it.
    pub exposure_s: Option<f64>,
    /// Numbers of its frames, one list for each plane.
    pub planes: Vec<Vec<usize>>,
}

/// Are exposures of a filter merged?
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Exposures {
    /// Those are kept apart of which one is four times the next or more: they are meant for an HDR merge.
    #[default]
    ByRatio,
    /// All become one master.
    Together,
    /// Each exposure has its own.
    Apart,
}

/// Exposures of which one is so many times the next shorter are no longer of one kind: what fills the longer one is kept
/// by the shorter.
pub const APART: f64 = 4.0;

/// Exposures that differ by less than this part are one: headers round.
const SAME: f64 = 0.02;

impl Set {
    /// Its filter's name, RGB for a colour camera's three.
    pub fn filter_name(&self) -> &str {
        self.filter.as_ref().map_or("RGB", |f| f.name())
    }

    /// Its name as a part of a file's name.
    pub fn part(&self) -> String {
        let filter = self.filter_name();
        let exposure = self.exposure_s.map(|s| format!("-{s}s"));
        slug(&format!("{filter}{}", exposure.unwrap_or_default()))
    }

    /// Its name in words.
    pub fn name(&self) -> String {
        let filter = self.filter_name();
        let exposure = self.exposure_s.map(|s| format!(" {s} s"));
        format!("{filter}{}", exposure.unwrap_or_default())
    }

    /// Is it of raw frames of a colour camera, whose pixels have one colour each?
    pub fn is_raw_colour(&self, frames: &[Frame]) -> bool {
        let mosaic = |i: usize| {
            let calibration = frames[i].calibration.as_ref();
            calibration.is_some_and(|c| c.is_colour())
        };
        self.filter.is_none() && self.all().all(mosaic)
    }

    /// Files that take part.
    pub fn frames(&self) -> usize {
        self.planes.first().map_or(0, Vec::len)
    }

    /// All frames of the layout that take part.
    pub fn all(&self) -> impl Iterator<Item = usize> + '_ {
        self.planes.iter().flatten().copied()
    }
}

/// Sorts the frames that a layout uses; without one, all.
pub fn sets(frames: &[Frame], layout: Option<&Layout>, exposures: Exposures) -> Vec<Set> {
    let used = |i: &usize| layout.is_none_or(|l| l.frames[*i].verdict == Verdict::Used);
    let first = |i: &usize| frames[*i].plane.is_none_or(|p| p == 0);
    // By what a set is of, in the order in which it first comes; of a colour image its first plane stands for all.
    let mut kinds: Vec<(Option<Filter>, Vec<usize>)> = Vec::new();
    for i in (0..frames.len()).filter(used).filter(first) {
        let f = &frames[i];
        let kind = f.plane.is_none().then(|| f.filter.clone());
        match kinds.iter_mut().find(|(k, _)| *k == kind) {
            Some((_, list)) => list.push(i),
            None => kinds.push((kind, vec![i])),
        }
    }
    let mut all = Vec::new();
    for (filter, list) in kinds {
        let groups = by_exposure(&list, frames, exposures);
        let several = groups.len() > 1;
        for (exposure, list) in groups {
            let planes = if filter.is_some() { 1 } else { 3 };
            let plane = |p: usize| list.iter().map(|i| i + p).filter(used).collect();
            all.push(Set {
                filter: filter.clone(),
                exposure_s: exposure.filter(|_| several),
                planes: (0..planes).map(plane).collect(),
            });
        }
    }
    all
}

/// Frames of one filter by exposure, the longest first; those without one stand with the longest.
fn by_exposure(
    list: &[usize],
    frames: &[Frame],
    exposures: Exposures,
) -> Vec<(Option<f64>, Vec<usize>)> {
    let seconds = |i: usize| frames[i].facts.exposure_s;
    let mut known: Vec<f64> = list.iter().filter_map(|i| seconds(*i)).collect();
    known.sort_by(|a, b| b.total_cmp(a));
    let apart = match exposures {
        Exposures::Together => f64::INFINITY,
        Exposures::ByRatio => APART,
        Exposures::Apart => 1.0 + SAME,
    };
    let Some(longest) = known.first() else {
        return vec![(None, list.to_vec())];
    };
    // The shortest exposure of each kind.
    let mut ends = Vec::new();
    for pair in known.windows(2) {
        if pair[0] / pair[1] >= apart {
            ends.push(pair[0]);
        }
    }
    ends.extend(known.last());
    let kind = |s: f64| ends.iter().position(|end| s >= *end).unwrap_or(0);
    let mut groups: Vec<(Option<f64>, Vec<usize>)> = vec![(None, Vec::new()); ends.len()];
    for i in list {
        let own = seconds(*i).unwrap_or(*longest);
        let group = &mut groups[kind(own)];
        // Its name is the longest exposure in it.
        group.0 = Some(group.0.map_or(own, |s: f64| s.max(own)));
        group.1.push(*i);
    }
    groups
}

/// Is there something to stack? `unplaced` are frames that were left out, with their reasons.
pub fn check(sets: &[Set], left_out: &[(String, String)]) -> Result<(), Trouble> {
    if sets.iter().all(|s| s.frames() < 2) {
        return Err(Trouble::OneLight {
            sets: sets.iter().map(|s| (s.name(), s.frames())).collect(),
            left_out: left_out.to_vec(),
        });
    }
    Ok(())
}

/// Exposure of all frames of a set together.
pub(super) fn total_s(set: &Set, frames: &[Frame]) -> Option<f64> {
    set.planes
        .first()?
        .iter()
        .map(|i| frames[*i].facts.total_s)
        .sum()
}

/// Are the exposures of a set one?
pub(super) fn is_even(set: &Set, frames: &[Frame]) -> bool {
    let mut all = set.all().filter_map(|i| frames[i].facts.exposure_s);
    let first = all.next();
    first.is_none_or(|first| all.all(|s| (s / first).ln().abs() < SAME.real()))
}
