//! Frames chosen by a survey before they are stacked.

use std::collections::HashMap;
use std::path::PathBuf;

use jigsawa_core::frame::FrameFacts;
use jigsawa_core::survey::Area;
use jigsawa_core::survey::judge::Rules;
use jigsawa_core::survey::score::Weights;
use jigsawa_core::verdict::Verdict;

use crate::find::FoundFile;
use crate::frames::Frame;
use crate::run::Run;
use crate::start::Start;
use crate::survey::{JudgeSettings, Night, Places, Through, Way, survey_files};

/// Measures and compares the frames that a command starts from, and leaves out those that do not fulfil the rules. The
/// survey's reference is proposed. Frames of a layout that has been surveyed or placed stay as they are.
pub fn choose(mut start: Start, rules: Rules, run: &Run<'_>) -> Start {
    if start.placed.is_some() || start.reference.is_some() {
        return start;
    }
    // A colour image is one file, of which green speaks for all.
    let of_file = |f: &&Frame| f.plane.is_none_or(|p| p == 1);
    let through: Through = start
        .frames
        .iter()
        .filter(of_file)
        .map(|f| {
            // The user's word for a filter goes before the header's.
            let facts = FrameFacts {
                filter: Some(f.filter.clone()),
                ..f.facts.clone()
            };
            (f.path.clone(), Frame { facts, ..f.clone() })
        })
        .collect();
    let files: Vec<FoundFile> = start
        .frames
        .iter()
        .filter(of_file)
        .map(|f| FoundFile::new(f.path.clone(), f.path.clone()))
        .collect();
    let way = Way {
        area: Area::Whole,
        preview_side: None,
    };
    let (looked, _) = survey_files(&files, &way, &through, run);
    let settings = JudgeSettings {
        rules,
        weights: Weights::default(),
    };
    let night = Night::new(files, looked, &settings, &Places::new(&run.store, way.area));
    run.clock.lap("survey");
    start.reference = night.reference.as_ref().map(|(i, why)| {
        let file = crate::foreign::name_of(&night.files[*i].path);
        (file, why.clone())
    });
    let verdicts: HashMap<&PathBuf, &Verdict> = night
        .files
        .iter()
        .zip(&night.judged)
        .map(|(f, j)| (&f.path, &j.verdict))
        .collect();
    let unreadable: HashMap<&PathBuf, &String> = night
        .unreadable
        .iter()
        .map(|(f, why)| (&f.path, why))
        .collect();
    let (mut kept, mut left_out) = (Vec::new(), Vec::new());
    for f in start.frames {
        let reason = match verdicts.get(&f.path) {
            Some(verdict) => verdict.reason(),
            None => unreadable.get(&f.path).map(|why| why.as_str()),
        };
        match reason {
            Some(reason) => left_out.push(f.left_out(reason.to_owned())),
            None => kept.push(f),
        }
    }
    start.frames = kept;
    start.left_out.extend(left_out);
    start
}
