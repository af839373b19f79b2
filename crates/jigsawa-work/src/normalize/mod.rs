//! The values of placed frames matched: the layout's placements in, its balances out.
//!
//! Each filter has one frame that the others of it are matched to. Those references are read first and their
//! sky is kept, some megabytes each; then two frames at a time go through memory. A frame that cannot be
//! matched is left out with its reason, and comes back when it can be.

mod across;
mod known;
mod surfaces;

use jigsawa_core::balance::flatten::{Flatten, Gradient};
use jigsawa_core::balance::{Balance, BalanceSettings, Evidence, Matched, Member, Weigh, weight};
use jigsawa_core::layout::{Layout, LayoutFrame, LevelReference, Levels};
use jigsawa_core::verdict::Verdict;

pub use known::{KnownFrames, known_frames};
pub use surfaces::{surfaces_are_new, write_surfaces};

use crate::frames::Frame;
use crate::run::Run;
use crate::trouble::Trouble;
use across::{Level, bring_together, transparency};
use known::{match_all, standards};

/// How frames are to be matched.
#[derive(Default)]
pub struct NormalizeSettings<'a> {
    /// Frames that the others of their filters are to be matched to.
    pub references: &'a [String],
    /// Scale and surface.
    pub settings: BalanceSettings,
    /// What is done between filters when nothing is asked for.
    pub across: Across,
    /// Are the references' own gradients to be taken out?
    pub flatten: Option<Flatten>,
    /// What weights are made of.
    pub weigh: Weigh,
    /// Frames that must not be left out.
    pub needed: &'a [usize],
    /// Balances that are there stay: only new frames are matched, to the frames that the others were matched to.
    pub keep: bool,
}

/// The scale between filters when nothing is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Across {
    /// Left as it is: no single one is true.
    #[default]
    AsItIs,
    /// As a picture wants it.
    Colours,
    /// Filters have nothing to do with each other: neither their skies nor their scales are matched.
    Apart,
}

/// A layout with balances, and what they rest on.
pub struct Normalized {
    /// The layout.
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
    /// Stars and patches behind it.
    pub evidence: Evidence,
    /// Its own gradient, when that was taken out.
    pub gradient: Option<Gradient>,
}

/// What a verdict begins with when only its values keep a frame out: it may come back.
const UNMATCHED: &str = "its values cannot be matched: ";

/// Matches the values of the frames of a layout whose places are known.
pub fn normalize(
    frames: &[Frame],
    mut layout: Layout,
    wanted: &NormalizeSettings<'_>,
    run: &Run<'_>,
) -> Result<Normalized, Trouble> {
    for row in &mut layout.frames {
        let only_values = row
            .verdict
            .reason()
            .is_some_and(|r| r.starts_with(UNMATCHED));
        if only_values && row.placement.is_some() {
            row.verdict = Verdict::Used;
        }
        if !wanted.keep {
            row.balance = None;
        }
    }
    let known: Vec<String> = match &layout.levels {
        Some(levels) if wanted.keep => levels
            .references
            .iter()
            .filter(|r| layout.frames[r.frame].verdict == Verdict::Used)
            .filter_map(|r| frames.get(r.frame).map(Frame::name))
            .collect(),
        _ => wanted.references.to_vec(),
    };
    let wanted = &NormalizeSettings {
        references: &known,
        flatten: wanted.flatten.clone(),
        ..*wanted
    };
    let placed = known_frames(frames, &layout, wanted, run)?;
    run.clock.lap("stars");
    let present: Vec<usize> = (0..frames.len())
        .filter(|i| layout.frames[*i].verdict == Verdict::Used && placed.member(*i).is_some())
        .collect();
    let mut seen: Vec<Option<Seen>> = frames.iter().map(|_| None).collect();
    let standards = standards(&placed, &layout, &present, wanted)?;
    let rest: Vec<usize> = present
        .iter()
        .filter(|i| standards.iter().all(|s| s.frame != **i))
        .filter(|i| layout.frames[**i].balance.is_none())
        .copied()
        .collect();
    let matched = match_all(&placed, &standards, &rest, &wanted.settings, run)?;
    let clear: Vec<f64> = (0..standards.len())
        .map(|k| transparency(frames, &standards[k], k, &rest, &matched))
        .collect();
    let mut levels = bring_together(&placed, standards, &clear, wanted)?;
    for level in &mut levels {
        if let Some(known) = &layout.frames[level.frame].balance {
            level.balance = known.clone();
        }
    }
    for (i, (level, result)) in rest.iter().zip(matched) {
        let level = &levels[level];
        match result {
            Ok(Matched { balance, evidence }) => {
                let weight = weight_of(wanted.weigh, level, placed.member(*i), &balance);
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
            Err(error) if wanted.needed.contains(i) => {
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
        settings: wanted.settings,
        weigh: wanted.weigh,
        flatten: wanted.flatten.clone(),
    });
    run.clock.lap("normalize");
    Ok(Normalized { layout, seen })
}

fn weight_of(how: Weigh, level: &Level<'_>, member: Option<Member<'_>>, own: &Balance) -> f64 {
    member.map_or(1.0, |m| weight(how, &level.sky.member, &m, own))
}
