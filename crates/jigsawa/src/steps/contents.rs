//! What a recipe's frames are: raw ones with their biases, darks and flats, calibrated ones, or masters.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::{facts, select};
use jigsawa_work::calibrate::{kind_by_name, kind_by_pixels};
use jigsawa_work::find::find;
use jigsawa_work::foreign::name_of;
use jigsawa_work::frames::{Spoilt, is_meant};
use jigsawa_work::trouble::Trouble;
use rayon::prelude::*;

use super::state::State;
use crate::recipe::Recipe;

/// More frames of one filter are no masters, unless their headers say so.
const MOST_MASTERS: usize = 12;

/// What a file has its part as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// A bias, dark or flat.
    Calibration,
    /// A sub-frame.
    Light,
    /// A stack already.
    Master,
    /// One of a few of floating point that no header calls a stack: it is one if they are panels, and else a sub-frame.
    Unsure,
}

/// A frame that was found.
#[derive(Debug, Clone)]
pub struct OneFile {
    /// The file.
    pub path: PathBuf,
    /// What its header says.
    pub facts: FrameFacts,
    /// The panel that a card names, or the target's name behind the word "panel".
    pub panel: Option<String>,
    /// What it has its part as.
    pub part: Part,
    /// This program has made it.
    pub own: bool,
}

/// What there is.
#[derive(Debug, Default)]
pub struct Found {
    /// The frames, in the order of their paths.
    pub files: Vec<OneFile>,
    /// Files that cannot be used.
    pub spoilt: Vec<Spoilt>,
    /// Masters that this program has made, of lights or for calibration, and that are passed over beside raw or single frames.
    pub passed: usize,
    /// Targets that lights and masters name, with how many do.
    pub targets: BTreeMap<String, usize>,
}

impl Found {
    /// The files of a part.
    pub fn of(&self, part: Part) -> impl Iterator<Item = &OneFile> {
        self.files.iter().filter(move |f| f.part == part)
    }

    /// The filters of lights and masters, without those that nobody knows.
    pub fn filters(&self) -> Vec<Filter> {
        let mut all: Vec<Filter> = Vec::new();
        for f in self.files.iter().filter(|f| f.part != Part::Calibration) {
            let colours = [Filter::R, Filter::G, Filter::B];
            let is_colour = f.facts.planes == 3 || f.facts.colour_pattern.is_some();
            let own: Vec<Filter> = if is_colour {
                colours.to_vec()
            } else {
                f.facts.filter.iter().cloned().collect()
            };
            for filter in own {
                if !all.contains(&filter) {
                    all.push(filter);
                }
            }
        }
        all
    }
}

/// Looks at all files that a recipe means; headers and some rows are read.
/// What a run has made there is none of them.
pub fn contents(recipe: &Recipe, state: &State) -> Result<Found, Trouble> {
    let out = recipe.path(&recipe.out);
    let library = recipe.library.as_ref().map(|l| recipe.path(l));
    let paths: Vec<PathBuf> = recipe.frames.iter().map(|f| recipe.path(f)).collect();
    let mut apart: Vec<&Path> = library.iter().map(PathBuf::as_path).collect();
    // Results may lie among the frames.
    apart.push(&out);
    let made = state.all_made(&out);
    let mut found = find(&paths, &apart)?;
    found.retain(|f| !made.contains(&f.path));
    let opened: Vec<_> = found
        .par_iter()
        .map(|f| FitsFrame::glance(&f.path).map(|file| of_file(&f.path, &file)))
        .collect();
    let mut all = Found::default();
    let mut broken = Vec::new();
    for (file, opened) in found.iter().zip(opened) {
        match opened {
            Ok(Some(one)) => all.files.push(one),
            Ok(None) => {}
            Err(e) => broken.push((file.path.clone(), e)),
        }
    }
    // A name that is none is a slip of the hand, and not a spoilt frame.
    let is_gone = |(path, _): &(PathBuf, FileError)| !select::file(path).exists();
    if broken.iter().any(is_gone) || (all.files.is_empty() && !broken.is_empty()) {
        return Err(Trouble::Files(broken));
    }
    all.spoilt = broken
        .iter()
        .map(|(path, e)| Spoilt {
            file: name_of(path),
            reason: e.to_string(),
        })
        .collect();
    all.name_filters(recipe)?;
    all.pass_over_own();
    all.settle_parts();
    all.count_targets();
    if let Some(target) = &recipe.target {
        all.keep(target)?;
    }
    Ok(all)
}

/// A file that can be a frame: no picture and no map that this program has made.
fn of_file(path: &Path, file: &FitsFrame) -> Option<OneFile> {
    let facts = facts::read(file);
    let creator = file.header().text("CREATOR");
    let is_own = creator.is_some_and(|c| c.starts_with("Jigsawa"));
    let is_map = path
        .file_stem()
        .is_some_and(|s| s.to_string_lossy().ends_with("-map"));
    if is_own && (is_map || facts.planes == 3 && facts.colour_pattern.is_none() && !facts.master) {
        return None;
    }
    let named = || {
        let is_raw = facts.bits == Some(16) && facts.planes == 1 && !facts.master;
        let seen = || is_raw.then(|| kind_by_pixels(file, &facts).ok()).flatten();
        kind_by_name(path).or_else(seen)
    };
    let kind = if facts.kind_by_card {
        facts.kind
    } else {
        named().unwrap_or(facts.kind)
    };
    let part = match kind {
        Kind::Light if facts.master => Part::Master,
        Kind::Light => Part::Light,
        _ => Part::Calibration,
    };
    let by_card = file.header().text("PANEL").filter(|t| !t.is_empty());
    let by_target = || panel_of(facts.object.as_deref()?).map(|p| p.1);
    Some(OneFile {
        path: path.to_owned(),
        panel: by_card.or_else(by_target),
        facts,
        part,
        own: is_own,
    })
}

impl Found {
    /// Beside lights a master that this program has made is one of an earlier run's results, or of the library, which has a way
    /// of its own.
    fn pass_over_own(&mut self) {
        if self.of(Part::Light).next().is_none() {
            return;
        }
        let all = self.files.len();
        self.files.retain(|f| !f.own || f.part == Part::Light);
        self.passed = all - self.files.len();
    }

    /// The recipe's word for a filter comes before the header's.
    fn name_filters(&mut self, recipe: &Recipe) -> Result<(), Trouble> {
        for (name, patterns) in &recipe.filters {
            let filter = Filter::from_spelling(name).unwrap_or(Filter::Other(name.clone()));
            for pattern in patterns {
                let mut meant = false;
                for f in self.files.iter_mut().filter(|f| is_meant(&f.path, pattern)) {
                    f.facts.filter = Some(filter.clone());
                    meant = true;
                }
                if !meant {
                    return Err(Trouble::NoSuchFrame {
                        option: "[filters]",
                        name: pattern.clone(),
                        frames: self.files.iter().map(|f| name_of(&f.path)).collect(),
                    });
                }
            }
        }
        Ok(())
    }

    /// Frames of floating point that nobody calls masters may be such where there are few of a filter, and nothing to calibrate
    /// them with; one or two of a filter are.
    fn settle_parts(&mut self) {
        if self.of(Part::Calibration).any(|f| !f.facts.master) {
            return;
        }
        let counts = |filter: &Option<Filter>, files: &[OneFile]| {
            let same = |f: &&OneFile| f.part == Part::Light && f.facts.filter == *filter;
            files.iter().filter(same).count()
        };
        let part = |f: &OneFile| {
            let is_float = f.facts.bits.is_some_and(|b| b < 0);
            let many = counts(&f.facts.filter, &self.files);
            match f.part {
                Part::Light if f.facts.colour_pattern.is_some() => Part::Light,
                Part::Light if many < 3 => Part::Master,
                Part::Light if is_float && many <= MOST_MASTERS => Part::Unsure,
                part => part,
            }
        };
        let parts: Vec<Part> = self.files.iter().map(part).collect();
        for (f, part) in self.files.iter_mut().zip(parts) {
            f.part = part;
        }
    }

    /// What nobody was sure of, by whether the frames are panels.
    pub fn settle(&mut self, panels: bool) {
        let alike = |a: &OneFile, b: &OneFile| {
            b.part == Part::Unsure && a.panel == b.panel && a.facts.filter == b.facts.filter
        };
        let many: Vec<bool> = self
            .files
            .iter()
            .map(|f| f.panel.is_some() && self.files.iter().filter(|g| alike(f, g)).count() > 2)
            .collect();
        let unsure = self.files.iter_mut().zip(many);
        for (f, many) in unsure.filter(|(f, _)| f.part == Part::Unsure) {
            // Of a panel and a filter three and more are sub-frames.
            f.part = if panels && !many {
                Part::Master
            } else {
                Part::Light
            };
        }
    }

    fn count_targets(&mut self) {
        self.targets.clear();
        for f in self.files.iter().filter(|f| f.part != Part::Calibration) {
            if let Some(object) = &f.facts.object {
                *self.targets.entry(target_of(object)).or_default() += 1;
            }
        }
        // Programs and people write one name in several ways: the most usual one stands for all.
        let mut merged: BTreeMap<String, (String, usize, usize)> = BTreeMap::new();
        for (name, count) in &self.targets {
            let one = merged
                .entry(plain(name))
                .or_insert_with(|| (name.clone(), 0, 0));
            one.1 += count;
            if *count > one.2 {
                (one.0, one.2) = (name.clone(), *count);
            }
        }
        self.targets = merged.into_values().map(|(n, c, _)| (n, c)).collect();
    }

    /// Keeps the lights and masters of one target, with all that calibrates them.
    fn keep(&mut self, target: &str) -> Result<(), Trouble> {
        let wanted = plain(target);
        if !self.targets.keys().any(|t| plain(t) == wanted) {
            let targets = self.targets.iter().map(|(t, n)| (t.clone(), *n)).collect();
            return Err(Trouble::Targets {
                wanted: Some(target.to_owned()),
                targets,
            });
        }
        self.files.retain(|f| {
            // What a header does not say fits anything.
            let object = f.facts.object.as_ref();
            let own = object.is_none_or(|o| plain(&target_of(o)) == wanted);
            f.part == Part::Calibration || own
        });
        self.count_targets();
        Ok(())
    }
}

/// The target and the panel of a name such as "Lantern Reef Panel 2"; none of a name without a panel.
fn panel_of(object: &str) -> Option<(String, String)> {
    const WORD: &str = "panel";
    /// A panel's own word is short: 2, A1, NE.
    const LONGEST: usize = 6;
    let at = object.to_ascii_lowercase().rfind(WORD)?;
    let apart = |c: char| !c.is_alphanumeric();
    let (target, rest) = (&object[..at], &object[at + WORD.len()..]);
    let panel = rest.trim_matches(apart);
    let fits = !panel.is_empty() && panel.len() <= LONGEST && target.ends_with(apart);
    fits.then(|| {
        (
            target.trim_end_matches(apart).trim().to_owned(),
            panel.to_owned(),
        )
    })
}

/// The target that a name means, without a panel's.
fn target_of(object: &str) -> String {
    panel_of(object).map_or_else(|| object.trim().to_owned(), |p| p.0)
}

/// A target's name without what programs write differently.
pub fn plain(name: &str) -> String {
    let letters = name.chars().filter(|c| c.is_alphanumeric());
    letters.collect::<String>().to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Lantern Reef Panel 2", Some(("Lantern Reef", "2")))]
    #[case("Lantern_Reef_panel_A1", Some(("Lantern_Reef", "A1")))]
    #[case("Reef, panel #12", Some(("Reef", "12")))]
    #[case("Lantern Reef", None)]
    #[case("Panel", None)]
    #[case("Old Panelwood Cluster", None)]
    fn panels_are_told_by_the_targets_name(
        #[case] object: &str,
        #[case] want: Option<(&str, &str)>,
    ) {
        let found = panel_of(object);
        assert_eq!(found.as_ref().map(|p| (p.0.as_str(), p.1.as_str())), want);
    }
}
