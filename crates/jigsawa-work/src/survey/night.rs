//! The whole night: every file with what is known of it, its verdict and its place among the others.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_core::survey::Measures;
use jigsawa_core::survey::compare::{Compared, Light, compare};
use jigsawa_core::survey::group::{Group, groups, nights};
use jigsawa_core::survey::judge::{Judged, Rules, flips, judge};
use jigsawa_core::survey::outlier::{limits, outliers};
use jigsawa_core::survey::quantity::Known;
use jigsawa_core::survey::reference::{Proposal, propose};
use jigsawa_core::survey::score::{Score, Weights, scores};
use jigsawa_core::verdict::Verdict;

use super::file::{Preview, SurveyedFile};
use super::places::Places;
use crate::find::FoundFile;
use crate::pixels::Calibrating;

/// What the user asks of the comparison.
#[derive(Default)]
pub struct JudgeSettings {
    /// Which lights to keep.
    pub rules: Rules,
    /// How the score is made.
    pub weights: Weights,
}

/// A night surveyed. All lists have one entry for each file that could be read, in the same order.
pub struct Night {
    /// The files.
    pub files: Vec<FoundFile>,
    /// What their headers say.
    pub facts: Vec<FrameFacts>,
    /// The evening of each one's night.
    pub nights: Vec<Option<String>>,
    /// What was measured; `None` where that was not possible.
    pub measures: Vec<Option<Measures>>,
    /// How they look, without the pictures themselves.
    pub previews: Vec<Option<Preview>>,
    /// What raw ones of a layout were read through.
    pub through: Vec<Option<Arc<Calibrating>>>,
    /// The comparison, for lights.
    pub compared: Vec<Option<Compared>>,
    /// The scores, for lights that can have one.
    pub scores: Vec<Option<Score>>,
    /// Verdicts and doubts.
    pub judged: Vec<Judged>,
    /// Groups of files.
    pub groups: Vec<Group>,
    /// The proposed reference, by its number, and why.
    pub reference: Option<(usize, String)>,
    /// Pairs of files between which the mount turned over, and by how much.
    pub flips: Vec<(usize, usize, f64)>,
    /// For each set of lights: its files, and the limits beyond which a frame stands apart.
    pub sets: Vec<Set>,
    /// Files that cannot be read, with the reason.
    pub unreadable: Vec<(FoundFile, String)>,
}

/// Lights that are compared with each other.
pub struct Set {
    /// Their numbers.
    pub frames: Vec<usize>,
    /// Quantity and limit: by the user's rule where that sets one, else by what is far from usual.
    pub limits: Vec<(&'static str, f64)>,
}

impl Night {
    /// Compares and judges all that was found.
    pub fn new(
        files: Vec<FoundFile>,
        looked: Vec<SurveyedFile>,
        settings: &JudgeSettings,
        places: &Places<'_>,
    ) -> Self {
        let mut night = Self::sorted(files, looked);
        let lights: Vec<usize> = (0..night.facts.len())
            .filter(|i| night.facts[*i].kind == Kind::Light && night.measures[*i].is_some())
            .collect();
        let of_lights: Vec<Light<'_>> = lights
            .iter()
            .filter_map(|i| {
                Some(Light {
                    facts: &night.facts[*i],
                    measures: night.measures[*i].as_ref()?,
                })
            })
            .collect();
        let path = |k: usize| night.files[lights[k]].path.as_path();
        let compared = compare(&of_lights, &|anchor, light, find| {
            places.recall(path(anchor), path(light), find)
        });
        places.keep();
        let scored = scores(&of_lights, &compared, &settings.weights);
        let apart = outliers(&of_lights, &compared);
        let mut outliers = vec![Vec::new(); night.facts.len()];
        for (k, i) in lights.iter().enumerate() {
            night.compared[*i] = Some(compared[k].clone());
            night.scores[*i] = scored[k];
            outliers[*i].clone_from(&apart[k]);
        }
        let reasons: Vec<Option<String>> = night
            .judged
            .iter()
            .map(|j| j.verdict.reason().map(str::to_owned))
            .collect();
        let known = night.known();
        let judged = judge(&known, &reasons, &outliers, &settings.rules);
        let flips = flips(&known);
        let count = compared.iter().map(|c| c.set + 1).max().unwrap_or(0);
        let sets: Vec<Set> = (0..count)
            .map(|set| {
                let members = || (0..lights.len()).filter(|k| compared[*k].set == set);
                let first = members().next().map(|k| &known[lights[k]]);
                let by_rule = settings
                    .rules
                    .keep
                    .as_ref()
                    .zip(first)
                    .map(|(rule, first)| rule.limits(first))
                    .unwrap_or_default();
                let far = limits(&of_lights, &compared, set);
                Set {
                    frames: members().map(|k| lights[k]).collect(),
                    limits: if settings.rules.keep.is_some() {
                        by_rule
                    } else {
                        far
                    },
                }
            })
            .collect();
        drop(known);
        let usable: Vec<bool> = lights
            .iter()
            .map(|i| judged[*i].verdict == Verdict::Used)
            .collect();
        let reference = propose(&of_lights, &compared, &usable)
            .map(|Proposal { light, why }| (lights[light], why));
        night.judged = judged;
        night.flips = flips;
        night.sets = sets;
        night.reference = reference;
        night
    }

    /// What was found, sorted into lists; what could not be measured has that as its verdict.
    fn sorted(files: Vec<FoundFile>, looked: Vec<SurveyedFile>) -> Self {
        let mut night = Self {
            files: Vec::new(),
            facts: Vec::new(),
            nights: Vec::new(),
            measures: Vec::new(),
            previews: Vec::new(),
            through: Vec::new(),
            compared: Vec::new(),
            scores: Vec::new(),
            judged: Vec::new(),
            groups: Vec::new(),
            reference: None,
            flips: Vec::new(),
            sets: Vec::new(),
            unreadable: Vec::new(),
        };
        for (file, found) in files.into_iter().zip(looked) {
            let Some(facts) = found.facts else {
                night
                    .unreadable
                    .push((file, found.measures.err().unwrap_or_default()));
                continue;
            };
            let (measures, verdict) = match found.measures {
                Ok(m) => (Some(m), Verdict::Used),
                Err(why) => (None, Verdict::LeftOut(why)),
            };
            night.files.push(file);
            night.facts.push(facts);
            night.measures.push(measures);
            night.previews.push(found.preview);
            night.through.push(found.through);
            night.judged.push(Judged {
                verdict,
                doubts: Vec::new(),
            });
        }
        let facts: Vec<&FrameFacts> = night.facts.iter().collect();
        night.nights = nights(&facts);
        night.groups = groups(&facts, &night.nights);
        night.compared = vec![None; night.files.len()];
        night.scores = vec![None; night.files.len()];
        night
    }

    /// Files that were moved are named where they are now.
    pub fn moved(&mut self, carried: &[(PathBuf, PathBuf)]) {
        let to: HashMap<&PathBuf, &PathBuf> = carried.iter().map(|(a, b)| (a, b)).collect();
        for f in &mut self.files {
            if let Some(there) = to.get(&f.path) {
                f.path = (*there).clone();
            }
        }
    }

    /// Everything known of each file, by name.
    pub fn known(&self) -> Vec<Known<'_>> {
        (0..self.files.len()).map(|i| self.known_of(i)).collect()
    }

    /// Everything known of one file.
    pub fn known_of(&self, i: usize) -> Known<'_> {
        Known {
            file: &self.files[i].name,
            facts: &self.facts[i],
            night: self.nights[i].as_deref(),
            measures: self.measures[i].as_ref(),
            compared: self.compared[i].as_ref(),
            score: self.scores[i].as_ref(),
        }
    }

    /// Files in the order of their time; those without one at the end.
    pub fn in_time(&self) -> Vec<usize> {
        let mut order: Vec<usize> = (0..self.files.len()).collect();
        let start = |i: usize| self.facts[i].start_s.unwrap_or(f64::INFINITY);
        order.sort_by(|a, b| start(*a).total_cmp(&start(*b)).then(a.cmp(b)));
        order
    }

    /// What the user should know that is no matter of a single frame.
    pub fn events(&self) -> Vec<String> {
        let name = |i: usize| self.files[i].name.clone();
        self.flips
            .iter()
            .map(|(a, b, turn)| {
                format!(
                    "the mount turned over between {} and {} (by {:.1} deg)",
                    name(*a),
                    name(*b),
                    turn.abs()
                )
            })
            .collect()
    }
}
