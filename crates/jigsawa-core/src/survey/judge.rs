//! The verdict on every frame of a night, and what is doubtful about it.
//!
//! Without a rule of the user's, lights that stand far apart from their set are left out. With one, the
//! rule decides alone and what stands apart is only said. Doubts never leave a frame out: a trail goes
//! by rejection when frames are stacked, and a wrong card is for the user to mend.

use crate::number::Convert;

use super::condition::Condition;
use super::doubts::{field_doubts, flat_doubts, header_doubts, settings_doubts};
use super::group::filter_label;
use super::outlier::Outlier;
use super::quantity::{Known, named};
use crate::by_filter::ByFilter;
use crate::frame::Kind;
use crate::verdict::Verdict;

pub use super::judged::Judged;

/// How many of the best are kept.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum KeepBest {
    /// So many of each filter.
    Count(usize),
    /// This part of each filter's, rounded up.
    Part(f64),
}

/// What the user asks for.
#[derive(Default)]
pub struct Rules {
    /// What every light must fulfil.
    pub keep: Option<Condition>,
    /// How many of the best of each filter are kept.
    pub best: ByFilter<KeepBest>,
}

/// Judges all frames. `unmeasured` says why a frame has no measures, where it has none; `outliers` has
/// an entry for each frame.
pub fn judge(
    frames: &[Known<'_>],
    unmeasured: &[Option<String>],
    outliers: &[Vec<Outlier>],
    rules: &Rules,
) -> Vec<Judged> {
    let mut judged: Vec<Judged> = frames
        .iter()
        .zip(unmeasured)
        .zip(outliers)
        .map(|((k, unmeasured), outliers)| {
            let apart = apart(outliers);
            let best = rules.best.of(k.facts.filter.as_ref());
            let ruled = rules.keep.is_some() || best.is_some();
            let verdict = match (unmeasured, &apart, &rules.keep) {
                (Some(why), _, _) => Verdict::LeftOut(why.clone()),
                _ if k.facts.kind != Kind::Light => Verdict::Used,
                (None, Some(apart), _) if !ruled => Verdict::LeftOut(apart.clone()),
                (None, _, Some(rule)) => rule.fails(k).map_or(Verdict::Used, Verdict::LeftOut),
                _ => Verdict::Used,
            };
            let mut doubts = header_doubts(k.facts);
            if verdict == Verdict::Used {
                doubts.extend(apart);
            }
            doubts.extend(trails(k));
            Judged { verdict, doubts }
        })
        .collect();
    keep_best(frames, &mut judged, &rules.best);
    settings_doubts(frames, &mut judged);
    flat_doubts(frames, &mut judged);
    field_doubts(frames, &mut judged);
    judged
}

/// All that stands apart in one sentence.
fn apart(outliers: &[Outlier]) -> Option<String> {
    let shown = |o: &Outlier| {
        let q = named(o.quantity);
        let number = |v: f64| {
            q.map_or(v.to_string(), |q| {
                format!("{}{}", q.shown_number(v), q.unit())
            })
        };
        format!(
            "{}: {} {}, usual is {}",
            o.what,
            o.quantity,
            number(o.value),
            number(o.usual)
        )
    };
    let all: Vec<String> = outliers.iter().map(shown).collect();
    (!all.is_empty()).then(|| all.join("; "))
}

fn trails(k: &Known<'_>) -> Option<String> {
    match k.measures?.trails.len() {
        0 => None,
        1 => Some("a trail of a satellite or aircraft".to_owned()),
        n => Some(format!("{n} trails of satellites or aircraft")),
    }
}

fn keep_best(frames: &[Known<'_>], judged: &mut [Judged], best: &ByFilter<KeepBest>) {
    let mut filters: Vec<Option<String>> = Vec::new();
    for k in frames {
        let label = filter_label(k.facts);
        if !filters.contains(&label) {
            filters.push(label);
        }
    }
    for filter in filters {
        let mut ranked: Vec<usize> = (0..frames.len())
            .filter(|i| frames[*i].facts.kind == Kind::Light)
            .filter(|i| filter_label(frames[*i].facts) == filter)
            .collect();
        let known = ranked
            .first()
            .and_then(|i| frames[*i].facts.filter.as_ref());
        let Some(best) = best.of(known) else { continue };
        let score = |i: usize| frames[i].score.map_or(-1.0, |s| s.total);
        let all = ranked.len();
        ranked.retain(|i| judged[*i].verdict == Verdict::Used);
        ranked.sort_by(|a, b| score(*b).total_cmp(&score(*a)).then(a.cmp(b)));
        let count = match *best {
            KeepBest::Count(n) => n,
            KeepBest::Part(part) => (part * all.real() - 1e-9).ceil().index(),
        };
        for (rank, i) in ranked.iter().enumerate().skip(count) {
            judged[*i].verdict = Verdict::LeftOut(match frames[*i].score {
                Some(s) => format!(
                    "score {:.1} is number {} of its filter, the best {count} are kept",
                    s.total,
                    rank + 1
                ),
                None => format!("it has no score, and the best {count} of its filter are kept"),
            });
        }
    }
}

/// Where the mount turned over: pairs of lights, one right after the other in time, that are turned
/// against each other by more than a right angle, and the turn in degrees.
pub fn flips(frames: &[Known<'_>]) -> Vec<(usize, usize, f64)> {
    let mut in_time: Vec<(f64, usize)> = (0..frames.len())
        .filter(|i| frames[*i].compared.is_some_and(|c| c.turn_deg.is_some()))
        // A stack has no moment.
        .filter(|i| !frames[*i].facts.master)
        .filter_map(|i| Some((frames[i].facts.start_s?, i)))
        .collect();
    in_time.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
    in_time
        .windows(2)
        .filter_map(|two| {
            let (a, b) = (two[0].1, two[1].1);
            let of = |i: usize| frames[i].compared;
            let (ca, cb) = (of(a)?, of(b)?);
            let turn = cb.turn_deg? - ca.turn_deg?;
            let turn = (turn + 180.0).rem_euclid(360.0) - 180.0;
            (ca.field == cb.field && turn.abs() > 90.0).then_some((a, b, turn))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::filter::Filter;
    use crate::frame::FrameFacts;
    use crate::space::Size;
    use crate::survey::compare::Compared;
    use crate::survey::score::Score;

    fn facts(kind: Kind, filter: &str) -> FrameFacts {
        FrameFacts {
            kind,
            filter: Filter::from_spelling(filter),
            filter_card: Some(filter.to_owned()),
            gain_setting: Some(100.0),
            ..FrameFacts::of_size(Size::new(10, 10).unwrap(), 1)
        }
    }

    fn known<'a>(file: &'a str, facts: &'a FrameFacts, score: Option<&'a Score>) -> Known<'a> {
        Known {
            file,
            facts,
            night: None,
            measures: None,
            compared: None,
            score,
        }
    }

    fn score(total: f64) -> Score {
        Score {
            total,
            sharpness: 1.0,
            roundness: 1.0,
            transparency: 1.0,
            quiet: 1.0,
        }
    }

    fn far() -> Outlier {
        Outlier {
            what: "long stars",
            quantity: "elongation",
            value: 1.6,
            usual: 1.07,
            limit: 1.2,
        }
    }

    #[test]
    fn the_best_of_each_filter_are_kept() {
        let (r, g) = (facts(Kind::Light, "R"), facts(Kind::Light, "G"));
        let scores: Vec<Score> = [90.0, 50.0, 70.0, 40.0].map(score).to_vec();
        let frames = [
            known("a", &r, Some(&scores[0])),
            known("b", &r, Some(&scores[1])),
            known("c", &r, Some(&scores[2])),
            known("d", &g, Some(&scores[3])),
        ];
        let none = vec![None; 4];
        let even = vec![Vec::new(); 4];
        let kept = |best| {
            let rules = Rules { keep: None, best };
            let judged = judge(&frames, &none, &even, &rules);
            judged
                .iter()
                .map(|j| j.verdict == Verdict::Used)
                .collect::<Vec<_>>()
        };
        let all = |best| ByFilter::from(Some(best));
        assert_eq!(kept(all(KeepBest::Count(2))), [true, false, true, true]);
        assert_eq!(kept(all(KeepBest::Part(0.34))), [true, false, true, true]);
        assert_eq!(kept(all(KeepBest::Part(1.0))), [true; 4]);
        let one = ByFilter {
            all: None,
            own: vec![(Filter::R, KeepBest::Count(1))],
        };
        assert_eq!(kept(one), [true, false, false, true]);
    }

    #[test]
    fn what_stands_apart_is_left_out_unless_a_rule_decides() {
        let r = facts(Kind::Light, "R");
        let frames = [known("a", &r, None)];
        let out = vec![vec![far()]];
        let plain = judge(&frames, &[None], &out, &Rules::default());
        assert_eq!(
            plain[0].verdict.reason(),
            Some("long stars: elongation 1.60, usual is 1.07")
        );
        assert!(plain[0].doubts.is_empty());
        let rules = Rules {
            keep: Some(Condition::parse("gain == 100").unwrap()),
            best: ByFilter::default(),
        };
        let ruled = judge(&frames, &[None], &out, &rules);
        assert_eq!(ruled[0].verdict, Verdict::Used);
        assert_eq!(ruled[0].doubts.len(), 1);
        // A rule for another filter says nothing of this one.
        let other = Rules {
            keep: None,
            best: ByFilter {
                all: None,
                own: vec![(Filter::G, KeepBest::Count(1))],
            },
        };
        assert_eq!(judge(&frames, &[None], &out, &other), plain);
    }

    #[test]
    fn a_flat_of_a_filter_that_no_light_has_is_doubtful() {
        let all = [
            facts(Kind::Light, "R"),
            facts(Kind::Light, "G"),
            facts(Kind::Flat, "Red"),
            facts(Kind::Flat, "Slot 3"),
        ];
        let frames: Vec<Known<'_>> = all.iter().map(|f| known("x", f, None)).collect();
        let judged = judge(
            &frames,
            &vec![None; 4],
            &vec![Vec::new(); 4],
            &Rules::default(),
        );
        assert!(judged[..3].iter().all(|j| j.doubts.is_empty()));
        assert_eq!(
            judged[3].doubts,
            ["its header calls the filter 'Slot 3', the lights have G, R; no flat is for G"]
        );
    }

    #[test]
    fn other_settings_a_warm_chip_and_a_lone_field_are_doubtful() {
        let mut all = vec![facts(Kind::Light, "R"); 4];
        all[2].gain_setting = Some(0.0);
        all[3].celsius = Some(-3.0);
        all[3].set_celsius = Some(-10.0);
        let compared: Vec<Compared> = [0, 0, 1, 0]
            .map(|f| Compared {
                field: Some(f),
                ..Compared::default()
            })
            .to_vec();
        let frames: Vec<Known<'_>> = all
            .iter()
            .zip(&compared)
            .map(|(f, c)| Known {
                compared: Some(c),
                ..known("x", f, None)
            })
            .collect();
        let judged = judge(
            &frames,
            &vec![None; 4],
            &vec![Vec::new(); 4],
            &Rules::default(),
        );
        assert!(judged[0].doubts.is_empty());
        assert_eq!(judged[2].doubts.len(), 2, "{:?}", judged[2]);
        assert!(judged[3].doubts[0].contains("-3.0"));
    }

    #[test]
    fn a_flip_is_between_two_frames() {
        let mut all = vec![facts(Kind::Light, "R"); 3];
        for (i, f) in all.iter_mut().enumerate() {
            f.start_s = Some(100.0 * i.real());
        }
        let compared: Vec<Compared> = [179.9, -179.9, 0.2]
            .map(|t| Compared {
                field: Some(0),
                turn_deg: Some(t),
                ..Compared::default()
            })
            .to_vec();
        let frames: Vec<Known<'_>> = all
            .iter()
            .zip(&compared)
            .map(|(f, c)| Known {
                compared: Some(c),
                ..known("x", f, None)
            })
            .collect();
        let seen = flips(&frames);
        assert_eq!(seen.len(), 1);
        assert_eq!((seen[0].0, seen[0].1), (1, 2));
    }
}
