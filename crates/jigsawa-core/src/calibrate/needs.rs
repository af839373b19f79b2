//! Which sets each group of lights or of flats needs, by their facts alone.
//!
//! For each group of lights that dark is the best which has the lights' own
//! exposure and temperature; else one that can be scaled, which needs a bias; and that flat which has the lights' filter
//! and was taken nearest in time. What a header does not say fits anything. What is missing or doubtful is told as data.

use serde::Serialize;

use super::group::{DAY_S, Group, NIGHT_DAYS, TURNED_DEG, same_exposure, turn_between};
use crate::frame::Kind;

/// A dark fits as it is up to this difference in temperature: the dark current changes by a quarter.
const FITS_C: f64 = 2.0;

/// Darks are at least as long as this part of the lights, or too little of their current is known.
const LEAST_PART: f64 = 0.2;

/// Sets of fewer frames add noise that shows.
const FEW: usize = 5;

/// A dark for lights.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DarkFor {
    /// Its group.
    pub group: usize,
    /// Must it be scaled?
    pub scaled: bool,
}

/// What a group of lights or of flats needs, by the numbers of groups, and what is doubtful about it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Needs {
    /// The bias.
    pub bias: Option<usize>,
    /// The dark; of flats the dark-flat.
    pub dark: Option<DarkFor>,
    /// The flat.
    pub flat: Option<usize>,
    /// What is missing or doubtful.
    pub doubts: Vec<Doubt>,
}

/// What is missing or doubtful about what lights need.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Doubt {
    /// There is nothing to take off what is there without light.
    NoDarkNorBias,
    /// No dark fits, a bias does.
    NoDark,
    /// A dark of another exposure would have to be scaled, and there is no bias for that.
    NoBiasToScale {
        /// The dark's exposure.
        exposure_s: f64,
    },
    /// The dark's temperature is another one, by so many degrees.
    DarkWarmer {
        /// Degrees that it is warmer.
        by_c: f64,
    },
    /// No flat of the lights' filter.
    NoFlat {
        /// Words for filters of flats that have no known one.
        words: Vec<String>,
    },
    /// The only flat of no known filter is taken for the only filter that has none.
    FlatByElimination {
        /// The flat's word for its filter.
        word: String,
    },
    /// The flat is of another night.
    FlatOfOtherNight {
        /// Days between both.
        days: f64,
    },
    /// The camera was turned between flat and lights.
    FlatTurned {
        /// By so many degrees.
        deg: f64,
    },
    /// Nothing takes off what flats have without light.
    FlatWithoutDark,
    /// A set of so few frames that its noise shows.
    Few {
        /// The set's group.
        group: usize,
        /// Its frames.
        frames: usize,
    },
}

/// What every group needs; nothing for those that are no lights and no flats.
pub fn needs(groups: &[Group]) -> Vec<Needs> {
    let by_elimination = flats_by_elimination(groups);
    groups
        .iter()
        .enumerate()
        .map(|(i, g)| match g.kind {
            Kind::Light => of_lights(groups, i, &by_elimination),
            Kind::Flat => of_flats(groups, i),
            _ => Needs::default(),
        })
        .collect()
}

/// How far two groups are apart in time; 0 where one does not tell.
fn apart_s(a: &Group, b: &Group) -> f64 {
    a.start_s.zip(b.start_s).map_or(0.0, |(a, b)| (a - b).abs())
}

/// The group that is best by a rank, the lower the better, among those that have one. Masters of before step behind.
fn best(groups: &[Group], rank: impl Fn(&Group) -> Option<f64>) -> Option<usize> {
    let ranked = groups
        .iter()
        .enumerate()
        .filter_map(|(i, g)| Some((rank(g)? + if g.master { 1e-3 } else { 0.0 }, i)));
    ranked
        .min_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)))
        .map(|(_, i)| i)
}

fn nearest_bias(groups: &[Group], to: &Group) -> Option<usize> {
    best(groups, |g| {
        let good = g.kind == Kind::Bias && g.setup.same_values(&to.setup);
        good.then(|| apart_s(g, to))
    })
}

/// Degrees by which a dark is warmer; 0 where one does not tell.
fn warmer(dark: &Group, than: &Group) -> f64 {
    dark.celsius.zip(than.celsius).map_or(0.0, |(d, l)| d - l)
}

/// The dark for a group: one of its own exposure and temperature, or one that can be scaled.
fn dark_for(groups: &[Group], to: &Group, kinds: &[Kind]) -> Option<DarkFor> {
    let suits = |g: &Group| kinds.contains(&g.kind) && g.setup.same_values(&to.setup);
    let exposure = to.exposure_s?;
    let own = best(groups, |g| {
        let same = same_exposure(g.exposure_s?, exposure);
        let warmer = warmer(g, to).abs();
        let good = suits(g) && same && warmer <= FITS_C;
        // A degree counts as much as thirty days.
        good.then(|| warmer + apart_s(g, to) / (30.0 * DAY_S))
    });
    if let Some(group) = own {
        return Some(DarkFor {
            group,
            scaled: false,
        });
    }
    // The nearer in its current the less is left to the scaling: a doubling of the time, or six degrees.
    let other = best(groups, |g| {
        let longer = g.exposure_s? / exposure;
        let good = suits(g) && longer >= LEAST_PART;
        good.then(|| longer.log2().abs() + warmer(g, to).abs() / 6.0)
    });
    other.map(|group| DarkFor {
        group,
        scaled: true,
    })
}

fn of_lights(groups: &[Group], i: usize, by_elimination: &[Option<usize>]) -> Needs {
    let lights = &groups[i];
    let mut doubts = Vec::new();
    let bias = nearest_bias(groups, lights);
    let mut dark = dark_for(groups, lights, &[Kind::Dark]);
    match (dark, bias) {
        (None, None) => doubts.push(Doubt::NoDarkNorBias),
        (None, Some(_)) => doubts.push(Doubt::NoDark),
        (Some(d), None) if d.scaled => {
            let exposure_s = groups[d.group].exposure_s.unwrap_or(0.0);
            doubts.push(Doubt::NoBiasToScale { exposure_s });
            dark = None;
        }
        _ => {}
    }
    if let Some(d) = dark {
        let by_c = warmer(&groups[d.group], lights);
        if by_c.abs() > FITS_C {
            doubts.push(Doubt::DarkWarmer { by_c });
        }
    }
    let flat = flat_for(groups, lights).or(by_elimination[i]);
    match flat {
        None => doubts.push(Doubt::NoFlat {
            words: unknown_flats(groups, lights)
                .filter_map(|f| groups[f].filter_card.clone())
                .collect(),
        }),
        Some(f) => doubts.extend(of_flat(&groups[f], lights)),
    }
    // A dark that is taken whole holds the bias.
    let bias = bias.filter(|_| dark.is_none_or(|d| d.scaled));
    let used = [bias, dark.map(|d| d.group), flat];
    for group in used.into_iter().flatten() {
        let frames = groups[group].members.len();
        if frames < FEW && !groups[group].master {
            doubts.push(Doubt::Few { group, frames });
        }
    }
    Needs {
        bias,
        dark,
        flat,
        doubts,
    }
}

/// What is doubtful about a flat.
fn of_flat(flat: &Group, lights: &Group) -> Vec<Doubt> {
    let mut doubts = Vec::new();
    if flat.filter.is_none() && lights.filter.is_some() {
        let word = flat.filter_card.clone().unwrap_or_default();
        doubts.push(Doubt::FlatByElimination { word });
    }
    let days = apart_s(flat, lights) / DAY_S;
    if days > NIGHT_DAYS {
        doubts.push(Doubt::FlatOfOtherNight { days });
    }
    if let (Some(a), Some(b)) = (flat.rotator_deg, lights.rotator_deg) {
        let deg = turn_between(a, b);
        if deg > TURNED_DEG {
            doubts.push(Doubt::FlatTurned { deg });
        }
    }
    doubts
}

/// The flat of a filter that is nearest in time, one of the same turn before others.
fn flat_for(groups: &[Group], lights: &Group) -> Option<usize> {
    best(groups, |g| {
        let same_filter = match (&g.filter, &lights.filter) {
            (Some(a), Some(b)) => a == b,
            (None, None) => g.filter_card == lights.filter_card,
            _ => false,
        };
        let good = g.kind == Kind::Flat && g.setup.same_pixels(&lights.setup) && same_filter;
        let turned = match (g.rotator_deg, lights.rotator_deg) {
            (Some(a), Some(b)) if turn_between(a, b) > TURNED_DEG => 1e9,
            _ => 0.0,
        };
        // The lights' own side of the pier, where flats of both were taken, but not those of another night.
        let other_side = match (g.pier, lights.pier) {
            (Some(a), Some(b)) if a != b => NIGHT_DAYS * DAY_S,
            _ => 0.0,
        };
        good.then(|| apart_s(g, lights) + turned + other_side)
    })
}

/// Flats for a camera whose filter nobody knows.
fn unknown_flats<'a>(groups: &'a [Group], lights: &'a Group) -> impl Iterator<Item = usize> + 'a {
    groups.iter().enumerate().filter_map(move |(k, g)| {
        let unknown = g.kind == Kind::Flat
            && g.filter.is_none()
            && g.filter_card != lights.filter_card
            && g.setup.same_pixels(&lights.setup);
        unknown.then_some(k)
    })
}

/// For each group of lights the one flat of no known filter, where just one filter of that camera has none.
fn flats_by_elimination(groups: &[Group]) -> Vec<Option<usize>> {
    let without = |g: &&Group| g.kind == Kind::Light && flat_for(groups, g).is_none();
    let lacking: Vec<&Group> = groups.iter().filter(without).collect();
    groups
        .iter()
        .map(|g| {
            let alone = lacking.iter().all(|l| {
                l.filter == g.filter && l.filter_card == g.filter_card
                    || !l.setup.same_pixels(&g.setup)
            });
            if !without(&g) || !alone {
                return None;
            }
            let unknown: Vec<usize> = unknown_flats(groups, g).collect();
            let words: Vec<_> = unknown.iter().map(|u| &groups[*u].filter_card).collect();
            // Of several nights, but one word for the filter.
            let one = words.windows(2).all(|w| w[0] == w[1]);
            let near = |u: &usize| apart_s(&groups[*u], g);
            let nearest = unknown
                .into_iter()
                .min_by(|a, b| near(a).total_cmp(&near(b)));
            nearest.filter(|_| one)
        })
        .collect()
}

fn of_flats(groups: &[Group], i: usize) -> Needs {
    let flats = &groups[i];
    if flats.master {
        return Needs::default();
    }
    let bias = nearest_bias(groups, flats);
    let own = dark_for(groups, flats, &[Kind::DarkFlat, Kind::Dark]);
    // A flat's dark current is next to nothing: what is scaled for it adds noise only.
    let dark = own.filter(|d| !d.scaled);
    let mut doubts = Vec::new();
    if bias.is_none() && dark.is_none() {
        doubts.push(Doubt::FlatWithoutDark);
    }
    Needs {
        bias: bias.filter(|_| dark.is_none()),
        dark,
        flat: None,
        doubts,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calibrate::group::groups;
    use crate::filter::Filter;
    use crate::frame::FrameFacts;
    use crate::number::Convert;
    use crate::space::Size;
    use rstest::rstest;

    fn facts(kind: Kind, change: impl FnOnce(&mut FrameFacts)) -> (Kind, FrameFacts) {
        let mut f = FrameFacts::of_size(Size::new(100, 80).unwrap(), 1);
        f.camera = Some("Pebble 24".to_owned());
        f.gain_setting = Some(100.0);
        f.set_celsius = Some(-10.0);
        f.start_s = Some(1.0e9);
        change(&mut f);
        (kind, f)
    }

    fn all_of(n: usize, kind: Kind, change: impl Fn(&mut FrameFacts)) -> Vec<(Kind, FrameFacts)> {
        (0..n).map(|_| facts(kind, &change)).collect()
    }

    fn night() -> Vec<(Kind, FrameFacts)> {
        let mut all = all_of(8, Kind::Light, |f| {
            f.filter = Some(Filter::Ha);
            f.exposure_s = Some(300.0);
        });
        all.extend(all_of(10, Kind::Flat, |f| {
            f.filter = Some(Filter::Ha);
            f.exposure_s = Some(3.0);
        }));
        all.extend(all_of(10, Kind::DarkFlat, |f| f.exposure_s = Some(3.0)));
        all.extend(all_of(10, Kind::Dark, |f| f.exposure_s = Some(300.0)));
        all.extend(all_of(10, Kind::Bias, |_| {}));
        all
    }

    fn sorted(all: &[(Kind, FrameFacts)]) -> (Vec<Group>, Vec<Needs>) {
        let frames: Vec<(Kind, &FrameFacts)> = all.iter().map(|(k, f)| (*k, f)).collect();
        let groups = groups(&frames);
        let needs = needs(&groups);
        (groups, needs)
    }

    #[test]
    fn a_whole_night_needs_no_word() {
        let (groups, needs) = sorted(&night());
        let words: Vec<String> = groups.iter().map(Group::word).collect();
        let want = [
            "light-Ha-300s",
            "flat-Ha",
            "dark-flat-3s",
            "dark-300s",
            "bias",
        ];
        assert_eq!(words, want);
        assert_eq!(
            needs[0],
            Needs {
                bias: None,
                dark: Some(DarkFor {
                    group: 3,
                    scaled: false
                }),
                flat: Some(1),
                doubts: Vec::new()
            }
        );
        assert_eq!(needs[1].dark.unwrap().group, 2);
    }

    #[rstest]
    #[case::another_gain(|f: &mut FrameFacts| f.gain_setting = Some(0.0))]
    #[case::another_camera(|f: &mut FrameFacts| f.camera = Some("Flint 9".into()))]
    #[case::binned(|f: &mut FrameFacts| f.binning = Some((2, 2)))]
    fn darks_of_other_values_are_not_taken(#[case] change: fn(&mut FrameFacts)) {
        let mut all = night();
        all.retain(|f| f.0 != Kind::Bias);
        let darks = all.iter_mut().filter(|f| f.0 == Kind::Dark);
        darks.for_each(|f| change(&mut f.1));
        let (_, needs) = sorted(&all);
        assert_eq!(needs[0].dark, None);
        assert_eq!(needs[0].doubts, [Doubt::NoDarkNorBias]);
    }

    #[test]
    fn a_dark_of_another_exposure_is_scaled_if_there_is_a_bias() {
        let mut all = night();
        let darks = all.iter_mut().filter(|f| f.0 == Kind::Dark);
        darks.for_each(|f| f.1.exposure_s = Some(600.0));
        let (_, needs) = sorted(&all);
        assert!(needs[0].dark.unwrap().scaled && needs[0].doubts.is_empty());
        all.retain(|f| f.0 != Kind::Bias);
        let (_, needs) = sorted(&all);
        assert_eq!(
            needs[0].doubts,
            [Doubt::NoBiasToScale { exposure_s: 600.0 }]
        );
    }

    #[test]
    fn darks_five_degrees_off_are_scaled_and_said() {
        let mut all = night();
        let darks = all.iter_mut().filter(|f| f.0 == Kind::Dark);
        darks.for_each(|f| f.1.set_celsius = Some(-5.0));
        let (_, needs) = sorted(&all);
        assert!(needs[0].dark.unwrap().scaled);
        assert_eq!(needs[0].doubts, [Doubt::DarkWarmer { by_c: 5.0 }]);
    }

    #[test]
    fn the_only_flat_by_a_slot_is_taken_for_the_only_filter_that_has_none() {
        let mut all = night();
        let flats = all.iter_mut().filter(|f| f.0 == Kind::Flat);
        flats.for_each(|f| {
            f.1.filter = None;
            f.1.filter_card = Some("Slot 3".to_owned());
        });
        let (_, needs) = sorted(&all);
        assert_eq!(needs[0].flat, Some(1));
        let word = "Slot 3".to_owned();
        assert_eq!(needs[0].doubts, [Doubt::FlatByElimination { word }]);
        // With a second filter that has none, nobody knows whose it is.
        all.extend(all_of(4, Kind::Light, |f| {
            f.filter = Some(Filter::Oiii);
            f.exposure_s = Some(300.0);
        }));
        let (_, needs) = sorted(&all);
        let words = vec!["Slot 3".to_owned()];
        assert_eq!(needs[0].flat, None);
        assert_eq!(needs[0].doubts, [Doubt::NoFlat { words }]);
    }

    #[test]
    fn flats_of_both_sides_of_the_pier_go_to_their_lights() {
        use crate::frame::Pier;
        let sides = [Pier::West, Pier::East];
        let mut all = Vec::new();
        for (kind, minutes) in [(Kind::Light, 0.0), (Kind::Flat, 300.0)] {
            for (i, side) in sides.into_iter().enumerate() {
                all.extend(all_of(6, kind, |f| {
                    f.filter = Some(Filter::Ha);
                    f.pier = Some(side);
                    f.start_s = Some(1.0e9 + 60.0 * (minutes + 90.0 * i.real()));
                }));
            }
        }
        let (groups, found) = sorted(&all);
        assert_eq!(groups.len(), 4);
        for lights in 0..2 {
            let flat = found[lights].flat.unwrap();
            assert_eq!(groups[flat].pier, groups[lights].pier);
        }
        // Flats of one side alone do for both.
        all.truncate(18);
        let (groups, found) = sorted(&all);
        assert_eq!(groups.len(), 2);
        assert_eq!((found[0].flat, groups[0].pier), (Some(1), None));
    }

    #[test]
    fn each_night_has_its_own_flats_and_another_ones_are_said() {
        let later = |f: &mut FrameFacts| f.start_s = Some(1.0e9 + 5.0 * DAY_S);
        let mut all = night();
        all.extend(all_of(6, Kind::Light, |f| {
            f.filter = Some(Filter::Ha);
            f.exposure_s = Some(300.0);
            later(f);
        }));
        let (groups, needs) = sorted(&all);
        assert_eq!(groups.iter().filter(|g| g.kind == Kind::Light).count(), 2);
        assert_eq!(needs[0].doubts, []);
        assert_eq!(needs[1].doubts, [Doubt::FlatOfOtherNight { days: 5.0 }]);
        all.extend(all_of(6, Kind::Flat, |f| {
            f.filter = Some(Filter::Ha);
            later(f);
        }));
        let (_, needs) = sorted(&all);
        assert_eq!(needs[1].doubts, []);
    }
}
