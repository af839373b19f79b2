//! Frames sorted by their facts: what belongs together, and which night it is from.

use crate::number::Convert;
use jiff::{Timestamp, tz::TimeZone};
use serde::Serialize;

use crate::frame::{FrameFacts, Kind};

/// What the frames of a group have in common.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Key {
    /// What they show.
    pub kind: Kind,
    /// They are stacks already.
    pub master: bool,
    /// The filter, or the header's word for it where that is not known.
    pub filter: Option<String>,
    /// Exposure of each.
    pub exposure_s: Option<f64>,
    /// The camera.
    pub camera: Option<String>,
    /// The evening that their night began with.
    pub night: Option<String>,
}

/// Frames that belong together.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Group {
    /// What they have in common.
    #[serde(flatten)]
    pub key: Key,
    /// Their numbers.
    #[serde(skip)]
    pub frames: Vec<usize>,
    /// How many there are.
    pub count: usize,
    /// Their exposures together; absent when one is not known.
    pub total_s: Option<f64>,
}

/// The filter as a group names it.
pub fn filter_label(facts: &FrameFacts) -> Option<String> {
    let known = facts.filter.as_ref().map(|f| f.name().to_owned());
    known.or_else(|| facts.filter_card.clone())
}

/// Without a site, a night ends where no frame is taken for so many seconds.
const GAP_S: f64 = 5.0 * 3600.0;

/// The night of each frame, as the date of its evening. Where a header tells neither local time nor
/// longitude, nights are parted by gaps of five hours and named by the date (UTC) of their first
/// frame; a frame without a date has none.
pub fn nights(frames: &[&FrameFacts]) -> Vec<Option<String>> {
    let mut nights: Vec<Option<String>> = frames.iter().map(|f| f.evening.clone()).collect();
    let mut rest: Vec<(f64, usize)> = (0..frames.len())
        .filter(|i| nights[*i].is_none())
        .filter_map(|i| Some((frames[i].start_s?, i)))
        .collect();
    rest.sort_by(|a, b| a.0.total_cmp(&b.0));
    let (mut last, mut name) = (f64::NEG_INFINITY, None);
    for (at, i) in rest {
        if at - last > GAP_S {
            name = Timestamp::from_second(at.whole())
                .ok()
                .map(|t| t.to_zoned(TimeZone::UTC).date().to_string());
        }
        last = at;
        nights[i].clone_from(&name);
    }
    nights
}

/// The groups, lights first, each in the order in which its first frame was given.
pub fn groups(frames: &[&FrameFacts], nights: &[Option<String>]) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    for (i, (f, night)) in frames.iter().zip(nights).enumerate() {
        let key = Key {
            kind: f.kind,
            master: f.master,
            filter: filter_label(f),
            exposure_s: f.exposure_s,
            camera: f.camera.clone(),
            night: night.clone(),
        };
        match groups.iter_mut().find(|g| same(&g.key, &key)) {
            Some(g) => g.frames.push(i),
            None => groups.push(Group {
                key,
                frames: vec![i],
                count: 0,
                total_s: None,
            }),
        }
    }
    for g in &mut groups {
        g.count = g.frames.len();
        g.total_s = g.frames.iter().map(|i| frames[*i].exposure_s).sum();
    }
    groups.sort_by_key(|g| g.key.kind as u8);
    groups
}

fn same(a: &Key, b: &Key) -> bool {
    a.kind == b.kind
        && a.master == b.master
        && a.filter == b.filter
        && same_exposure(a.exposure_s, b.exposure_s)
        && a.camera == b.camera
        && a.night == b.night
}

/// Exposures that a shutter's clock writes a little differently are the same.
pub(super) fn same_exposure(a: Option<f64>, b: Option<f64>) -> bool {
    match (a, b) {
        (Some(a), Some(b)) => (a - b).abs() <= 0.01 * a.max(b),
        (None, None) => true,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::Filter;
    use crate::space::Size;

    fn facts(kind: Kind, filter: Filter, exposure: f64, start: f64) -> FrameFacts {
        FrameFacts {
            kind,
            filter: Some(filter),
            exposure_s: Some(exposure),
            start_s: Some(start),
            ..FrameFacts::of_size(Size::new(100, 80).unwrap(), 1)
        }
    }

    #[test]
    fn frames_fall_into_groups_with_their_time_summed_up() {
        let day = 86_400.0;
        let all = [
            facts(Kind::Flat, Filter::Ha, 2.0, 20_000.0 * day),
            facts(Kind::Light, Filter::Ha, 300.0, 20_000.0 * day + 72_000.0),
            facts(Kind::Light, Filter::Ha, 300.4, 20_000.0 * day + 90_000.0),
            facts(Kind::Light, Filter::Oiii, 300.0, 20_000.0 * day + 91_000.0),
            facts(Kind::Light, Filter::Ha, 300.0, 20_001.0 * day + 72_000.0),
        ];
        let all: Vec<&FrameFacts> = all.iter().collect();
        let nights = nights(&all);
        assert_eq!(nights[1], nights[2]);
        assert_ne!(nights[1], nights[4]);
        let groups = groups(&all, &nights);
        let counts: Vec<usize> = groups.iter().map(|g| g.count).collect();
        assert_eq!(counts, [2, 1, 1, 1]);
        assert!((groups[0].total_s.unwrap() - 600.4).abs() < 1e-9);
        assert_eq!(groups[3].key.kind, Kind::Flat);
    }

    #[test]
    fn an_unknown_filter_keeps_its_word_and_an_unknown_exposure_leaves_the_sum_open() {
        let mut f = facts(Kind::Light, Filter::Ha, 300.0, 0.0);
        f.filter = None;
        f.filter_card = Some("Slot 3".into());
        f.exposure_s = None;
        f.start_s = None;
        let groups = groups(&[&f], &nights(&[&f]));
        assert_eq!(groups[0].key.filter.as_deref(), Some("Slot 3"));
        assert_eq!((groups[0].total_s, &groups[0].key.night), (None, &None));
    }
}
