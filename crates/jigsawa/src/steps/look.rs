//! What a recipe's frames are: raw ones with their biases, darks and flats, calibrated ones, or masters.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_work::calibrate::kind_by_name;
use jigsawa_work::find::find;
use jigsawa_work::foreign::name_of;
use jigsawa_work::frames::{Spoilt, is_meant};
use jigsawa_work::trouble::Trouble;
use rayon::prelude::*;

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
    /// The panel that a card names.
    pub panel: Option<String>,
    /// What it has its part as.
    pub part: Part,
}

/// What there is.
#[derive(Debug, Default)]
pub struct Found {
    /// The frames, in the order of their paths.
    pub files: Vec<OneFile>,
    /// Files that cannot be used.
    pub spoilt: Vec<Spoilt>,
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

/// Looks at all files that a recipe means; headers alone are read.
pub fn look(recipe: &Recipe) -> Result<Found, Trouble> {
    let out = recipe.path(&recipe.out);
    let library = recipe.library.as_ref().map(|l| recipe.path(l));
    let paths: Vec<PathBuf> = recipe.frames.iter().map(|f| recipe.path(f)).collect();
    let mut apart: Vec<&Path> = library.iter().map(PathBuf::as_path).collect();
    // Results may lie among the frames, but who names their folder means what is in it.
    if !paths.contains(&out) {
        apart.push(&out);
    }
    let found = find(&paths, &apart)?;
    let opened: Vec<_> = found
        .par_iter()
        .map(|f| FitsFrame::open(&f.path).map(|file| of_file(&f.path, &file)))
        .collect();
    let mut all = Found::default();
    for (file, opened) in found.iter().zip(opened) {
        match opened {
            Ok(Some(one)) => all.files.push(one),
            Ok(None) => {}
            Err(e) => all.spoilt.push(Spoilt {
                file: name_of(&file.path),
                reason: e.to_string(),
            }),
        }
    }
    all.name_filters(recipe)?;
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
    let kind = if facts.kind_told {
        facts.kind
    } else {
        kind_by_name(path).unwrap_or(facts.kind)
    };
    let part = match kind {
        Kind::Light if facts.master => Part::Master,
        Kind::Light => Part::Light,
        _ => Part::Calibration,
    };
    Some(OneFile {
        path: path.to_owned(),
        panel: file.header().text("PANEL").filter(|t| !t.is_empty()),
        facts,
        part,
    })
}

impl Found {
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
        for f in self.files.iter_mut().filter(|f| f.part == Part::Unsure) {
            f.part = if panels { Part::Master } else { Part::Light };
        }
    }

    fn count_targets(&mut self) {
        self.targets.clear();
        for f in self.files.iter().filter(|f| f.part != Part::Calibration) {
            if let Some(object) = &f.facts.object {
                *self.targets.entry(object.trim().to_owned()).or_default() += 1;
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
            let own = f.facts.object.as_ref().is_none_or(|o| plain(o) == wanted);
            f.part == Part::Calibration || own
        });
        self.count_targets();
        Ok(())
    }
}

/// A target's name without what programs write differently.
pub fn plain(name: &str) -> String {
    let letters = name.chars().filter(|c| c.is_alphanumeric());
    letters.collect::<String>().to_lowercase()
}
