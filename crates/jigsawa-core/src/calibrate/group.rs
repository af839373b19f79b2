//! Frames that were taken alike make a group: by kind, setting of the camera, filter, exposure, temperature and night, as their
//! headers say.

use serde::{Deserialize, Serialize};

use crate::filter::Filter;
use crate::frame::{FrameFacts, Kind, Pier};
use crate::number::Convert;
use crate::robust::median;
use crate::space::Size;

/// Exposures that differ by less than this part are the same.
const SAME_EXPOSURE: f64 = 0.01;

/// Frames of a group differ in temperature by less than this, in degrees.
const SAME_C: f64 = 1.0;

/// Frames that follow each other by less than so many days are of one night.
pub(super) const NIGHT_DAYS: f64 = 0.6;

/// A camera that is turned by more than this, in degrees, needs other flats.
pub(super) const TURNED_DEG: f64 = 3.0;

pub(super) const DAY_S: f64 = 86_400.0;

/// How a camera was set.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Setup {
    /// The camera.
    pub camera: Option<String>,
    /// Pixels.
    #[serde(flatten)]
    pub size: Size,
    /// Pixels joined at read-out.
    pub binning: (u32, u32),
    /// Setting of its gain.
    pub gain: Option<f64>,
    /// Setting of its offset.
    pub offset: Option<f64>,
    /// How it is read out.
    pub readout: Option<String>,
    /// Colours before its pixels.
    pub pattern: Option<String>,
}

impl Setup {
    fn of(facts: &FrameFacts) -> Self {
        Self {
            camera: facts.camera.clone(),
            size: facts.size,
            binning: facts.binning.unwrap_or((1, 1)),
            gain: facts.gain_setting.or(facts.iso),
            offset: facts.offset_setting,
            readout: facts.readout.clone(),
            pattern: facts.colour_pattern.clone(),
        }
    }

    /// Are they the same chip, read out into the same pixels? All that a flat needs.
    pub(super) fn same_pixels(&self, other: &Self) -> bool {
        fits(self.camera.as_ref(), other.camera.as_ref())
            && self.size == other.size
            && self.binning == other.binning
            && fits(self.pattern.as_ref(), other.pattern.as_ref())
    }

    /// Do their values mean the same, too? What a bias and a dark need.
    pub(super) fn same_values(&self, other: &Self) -> bool {
        self.same_pixels(other)
            && fits(self.gain, other.gain)
            && fits(self.offset, other.offset)
            && fits(self.readout.as_ref(), other.readout.as_ref())
    }
}

/// What is not told fits anything.
fn fits<T: PartialEq>(a: Option<T>, b: Option<T>) -> bool {
    match (a, b) {
        (Some(a), Some(b)) => a == b,
        _ => true,
    }
}

/// Frames that were taken alike.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// What they are.
    pub kind: Kind,
    /// How the camera was set.
    pub setup: Setup,
    /// Their filter; of lights and flats.
    pub filter: Option<Filter>,
    /// The header's word for it.
    pub filter_card: Option<String>,
    /// Exposure; none where they differ, as those of a twilight's flats do.
    pub exposure_s: Option<f64>,
    /// Temperature of the chip: the one that was asked for, or else that it had.
    pub celsius: Option<f64>,
    /// The middle one's time.
    pub start_s: Option<f64>,
    /// The rotator's angle.
    pub rotator_deg: Option<f64>,
    /// The side of the pier; only where there are flats of both sides, of lights and flats.
    pub pier: Option<Pier>,
    /// Are they masters already?
    pub master: bool,
    /// Their numbers.
    pub members: Vec<usize>,
}

impl Group {
    fn of(kind: Kind, facts: &FrameFacts, by_side: bool) -> Self {
        let lit = matches!(kind, Kind::Light | Kind::Flat);
        Self {
            kind,
            setup: Setup::of(facts),
            filter: facts.filter.clone().filter(|_| lit),
            filter_card: facts.filter_card.clone().filter(|_| lit),
            exposure_s: facts.exposure_s.filter(|_| kind != Kind::Bias),
            celsius: facts.set_celsius.or(facts.celsius),
            start_s: facts.start_s,
            rotator_deg: facts.rotator_deg.filter(|_| lit),
            pier: facts.pier.filter(|_| lit && by_side),
            master: facts.master && kind != Kind::Light,
            members: Vec::new(),
        }
    }

    /// Does a frame belong to it? `other` is the group that it would make by itself, `last` the time of the last one.
    fn takes(&self, other: &Self, last: Option<f64>) -> bool {
        let lit = matches!(self.kind, Kind::Light | Kind::Flat);
        let near = |a: Option<f64>, b: Option<f64>, least: f64| match (a, b) {
            (Some(a), Some(b)) => (a - b).abs() <= least,
            (None, None) => true,
            _ => false,
        };
        let same_exposure = self.kind == Kind::Flat
            || match (self.exposure_s, other.exposure_s) {
                (Some(a), Some(b)) => same_exposure(a, b),
                (a, b) => a == b,
            };
        let same_night = !lit || fits_night(last, other.start_s);
        let same_turn = match (self.rotator_deg, other.rotator_deg) {
            (Some(a), Some(b)) => turn_between(a, b) <= TURNED_DEG,
            _ => true,
        };
        self.kind == other.kind
            && self.master == other.master
            && !self.master
            && self.setup == other.setup
            && self.filter == other.filter
            && (self.filter.is_some() || self.filter_card == other.filter_card)
            && same_exposure
            && near(self.celsius, other.celsius, SAME_C)
            && same_night
            && same_turn
            && fits(self.pier, other.pier)
    }

    /// A name of it by its facts: `dark-300s`, `flat-Ha`.
    pub fn word(&self) -> String {
        let mut word = if self.master {
            format!("{}-master", self.kind.name())
        } else {
            self.kind.name().to_owned()
        };
        let plain = |t: &str| {
            let letters = t.chars().map(|c| if c.is_alphanumeric() { c } else { '_' });
            letters.collect::<String>()
        };
        let filter = self.filter.as_ref().map(|f| f.name().to_owned());
        if let Some(f) = filter.or_else(|| self.filter_card.clone()) {
            word = format!("{word}-{}", plain(&f));
        }
        match self.pier {
            Some(Pier::East) => word.push_str("-east"),
            Some(Pier::West) => word.push_str("-west"),
            None => {}
        }
        if let Some(s) = self.exposure_s.filter(|_| self.kind != Kind::Flat) {
            word = format!("{word}-{s}s");
        }
        word
    }
}

pub(super) fn same_exposure(a: f64, b: f64) -> bool {
    (a - b).abs() <= SAME_EXPOSURE * a.max(b)
}

fn fits_night(a: Option<f64>, b: Option<f64>) -> bool {
    match (a, b) {
        (Some(a), Some(b)) => (a - b).abs() < NIGHT_DAYS * DAY_S,
        _ => true,
    }
}

/// The angle between two turns of a camera; half a turn is none, since a flip of the mount needs no other flats.
pub(super) fn turn_between(a: f64, b: f64) -> f64 {
    let off = (a - b).rem_euclid(180.0);
    off.min(180.0 - off)
}

/// Groups of frames, given by kind and facts: lights first, then flats, dark-flats, darks and biases, each in the order of
/// time.
pub fn groups(frames: &[(Kind, &FrameFacts)]) -> Vec<Group> {
    let time = |i: &usize| frames[*i].1.start_s.unwrap_or(f64::INFINITY);
    let mut order: Vec<usize> = (0..frames.len()).collect();
    order.sort_by(|a, b| time(a).total_cmp(&time(b)).then(a.cmp(b)));
    // Who takes flats on both sides has found that they differ.
    let flats_of = |side: Pier| {
        let own = |f: &(Kind, &FrameFacts)| f.0 == Kind::Flat && f.1.pier == Some(side);
        frames.iter().any(own)
    };
    let by_side = flats_of(Pier::East) && flats_of(Pier::West);
    let mut groups: Vec<Group> = Vec::new();
    for i in order {
        let (kind, facts) = frames[i];
        let own = Group::of(kind, facts, by_side);
        let last = |g: &Group| g.members.last().and_then(|m| frames[*m].1.start_s);
        if let Some(g) = groups.iter_mut().find(|g| g.takes(&own, last(g))) {
            g.members.push(i);
        } else {
            groups.push(Group {
                members: vec![i],
                ..own
            });
        }
    }
    for g in &mut groups {
        g.settle(frames);
    }
    let rank = |k: Kind| match k {
        Kind::Light => 0,
        Kind::Flat => 1,
        Kind::DarkFlat => 2,
        Kind::Dark => 3,
        Kind::Bias => 4,
    };
    groups.sort_by_key(|g| rank(g.kind));
    groups
}

impl Group {
    /// Its facts by all its members.
    fn settle(&mut self, frames: &[(Kind, &FrameFacts)]) {
        let of = |value: fn(&FrameFacts) -> Option<f64>| -> Vec<f64> {
            let all = self.members.iter().filter_map(|m| value(frames[*m].1));
            all.collect()
        };
        let exposures = of(|f| f.exposure_s);
        if self.kind == Kind::Flat {
            let first = exposures.first().copied();
            let same = first.is_some_and(|a| exposures.iter().all(|b| same_exposure(a, *b)));
            self.exposure_s = first.filter(|_| same);
        }
        let starts = of(|f| f.start_s);
        self.start_s = starts.get(starts.len() / 2).copied();
        let mut celsius: Vec<f32> = of(|f| f.set_celsius.or(f.celsius))
            .iter()
            .map(|c| c.single())
            .collect();
        self.celsius = (!celsius.is_empty()).then(|| f64::from(median(&mut celsius)));
    }
}
