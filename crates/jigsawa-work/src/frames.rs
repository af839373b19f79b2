//! Frames as the user gave them: opened, with facts and filter, checked all at once.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_core::layout::{LayoutFrame, Measurements};
use jigsawa_core::plane::Plane;
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::{CAMERA_RAW, FitsFrame};
use jigsawa_formats::{facts, fingerprint, inputs, select};
use rayon::prelude::*;
use serde::Serialize;

use crate::foreign::name_of;
use crate::pattern::Pattern;
use crate::pixels::{Calibrating, Pixels, read_all};
use crate::trouble::Trouble;

/// One plane of one file, ready to be measured and merged.
#[derive(Clone)]
pub struct Frame {
    /// The file as it was typed.
    pub path: PathBuf,
    /// Which plane of a colour image; `None` for an image of one plane.
    pub plane: Option<usize>,
    /// The open file.
    pub file: Arc<FitsFrame>,
    /// What its header says.
    pub facts: FrameFacts,
    /// Its filter: from the header, or from the user.
    pub filter: Filter,
    /// What its raw pixels need before they mean light, where they are raw.
    pub calibration: Option<Arc<Calibrating>>,
}

impl Frame {
    /// The file as it was typed.
    pub fn name(&self) -> String {
        name_of(&self.path)
    }

    /// The pixels, calibrated where they are raw.
    pub fn source(&self) -> Pixels<'_> {
        let plane = self.plane.unwrap_or(0);
        match &self.calibration {
            Some(calibration) => calibration.read_through(&self.file, plane),
            None => Pixels::Stored(self.file.plane(plane)),
        }
    }

    /// The pixels without any that are made up between those of a colour camera's own colour.
    pub fn own_source(&self) -> Pixels<'_> {
        match &self.calibration {
            Some(calibration) => calibration.read_own(&self.file, self.plane.unwrap_or(0)),
            None => self.source(),
        }
    }

    /// All of them in memory, reusing the buffer's.
    pub fn read_plane(&self, buffer: Vec<f32>) -> Result<Plane, FileError> {
        if self.calibration.is_none() {
            return self.file.read_plane(self.plane.unwrap_or(0), buffer);
        }
        let mut data = self.file.buffer(buffer)?;
        read_all(&self.source(), &mut data)?;
        Plane::new(self.file.size(), data).ok_or(FileError::NoImage)
    }

    /// A frame of a layout that is read through what it needs.
    #[must_use]
    pub fn calibrated(self, calibration: Option<Arc<Calibrating>>, row: &LayoutFrame) -> Self {
        let Some(calibration) = calibration else {
            return self;
        };
        // What is full and what a unit is were those of the raw file.
        let in_electrons = calibration.record.gain_e_adu.is_some();
        let is_colour = calibration.is_colour();
        let facts = FrameFacts {
            saturation: row.saturation,
            planes: if is_colour { 3 } else { self.facts.planes },
            colour_pattern: self.facts.colour_pattern.filter(|_| !is_colour),
            gain_e_adu: if in_electrons {
                Some(1.0)
            } else {
                self.facts.gain_e_adu
            },
            ..self.facts
        };
        Self {
            facts,
            calibration: Some(calibration),
            ..self
        }
    }

    /// What tells values of this frame from those of the same file read otherwise; nothing for a file as it is.
    pub fn reading(&self) -> Option<&str> {
        self.calibration.as_ref().map(|c| c.key.as_str())
    }

    /// Left out before it is measured, as a layout keeps it.
    pub fn left_out(&self, reason: String) -> LayoutFrame {
        let names = (self.name(), self.plane, self.filter.clone());
        let calibration = self.calibration.as_ref().map(|c| c.record.clone());
        LayoutFrame {
            calibration,
            ..row_left_out(names, &self.facts, reason)
        }
    }

    /// Is this the frame that an option means? By path, by file name, or by file name without ending.
    pub fn is_called(&self, name: &str) -> bool {
        is_called(&self.path, name)
    }
}

/// Every filter that an option names must be there.
///
/// # Errors
/// The first that is not.
pub fn all_filters_there<'a>(
    named: impl Iterator<Item = (&'static str, &'a Filter)>,
    there: impl Iterator<Item = &'a Filter>,
) -> Result<(), Trouble> {
    let mut filters: Vec<&Filter> = Vec::new();
    for f in there {
        if !filters.contains(&f) {
            filters.push(f);
        }
    }
    for (option, filter) in named {
        if !filters.contains(&filter) {
            return Err(Trouble::NoSuchFilter {
                option,
                name: filter.name().to_owned(),
                filters: filters.iter().map(|f| f.name().to_owned()).collect(),
            });
        }
    }
    Ok(())
}

/// The part of a file's name that can name a frame in a mix: up to the first dot of its endings.
pub fn stem(path: &Path) -> String {
    let name = path
        .file_name()
        .map(|n| n.to_string_lossy().into_owned())
        .unwrap_or_default();
    let lower = name.to_lowercase();
    for ending in [
        ".fits.gz", ".fits.fz", ".fit.gz", ".fit.fz", ".fits", ".fit", ".fts", ".tiff", ".tif",
        ".png",
    ] {
        if lower.ends_with(ending) {
            return name[..name.len() - ending.len()].to_owned();
        }
    }
    // A camera's raw file.
    let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase());
    match (ending, path.file_stem()) {
        (Some(e), Some(stem)) if CAMERA_RAW.contains(&e.as_str()) => {
            stem.to_string_lossy().into_owned()
        }
        _ => name,
    }
}

fn is_called(path: &Path, name: &str) -> bool {
    path == Path::new(name)
        || path
            .file_name()
            .is_some_and(|n| n.to_string_lossy() == name)
        || stem(path) == name
}

/// Is this the frame, or one of the frames, that a name or a pattern means? A pattern (`*`, `?`, `[ab]`) is held against
/// the file's name, with its ending and without, and against the path.
pub fn is_meant(path: &Path, name: &str) -> bool {
    if is_called(path, name) {
        return true;
    }
    let Ok(asked) = Pattern::new(name) else {
        return false;
    };
    let file = path.file_name().map(Path::new);
    asked.fits(path) || file.is_some_and(|f| asked.fits(f)) || asked.fits(Path::new(&stem(path)))
}

/// What a command must know of its frames' filters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Filters {
    /// Each frame's: they are merged by them.
    Known,
    /// The same, and no frame may be missing: mixes name them, exposures complete each other.
    All,
    /// Nothing: filters are only carried on.
    Any,
}

/// Frames that were opened.
pub struct Opened {
    /// Those to be used.
    pub frames: Vec<Frame>,
    /// Those that are another one under a second name, and are left out: used once, their light counts once.
    pub again: Vec<LayoutFrame>,
    /// Files that are there and hold nothing that can be used.
    pub spoilt: Vec<Spoilt>,
}

/// A file that is there and holds nothing that can be used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Spoilt {
    /// Its name.
    pub file: String,
    /// Why.
    pub reason: String,
}

/// Opens all files; the user's words for filters go before the headers'. A colour image gives three
/// frames, R, G and B. A file that is not there is an error, and so is a spoilt one that is needed or has no good
/// one beside it.
pub fn open_all(
    paths: &[PathBuf],
    filters: &[(String, String)],
    need: Filters,
) -> Result<Opened, Trouble> {
    for (_, name) in filters {
        if !paths.iter().any(|p| is_meant(p, name)) {
            return Err(Trouble::NoSuchFrame {
                option: "--filter",
                name: name.clone(),
                frames: paths.iter().map(|p| name_of(p)).collect(),
            });
        }
    }
    let (mut opened, mut broken) = (Vec::new(), Vec::new());
    // A slip of the hand is no spoilt file: a name that is none, or an image that its file does not have.
    let is_there = |(path, _): &(PathBuf, FileError)| {
        let (file, image) = select::split(path);
        file.exists() && image.is_none()
    };
    // At once, since a file that is packed as a whole is unpacked here.
    let files: Vec<_> = paths.par_iter().map(|p| FitsFrame::open(p)).collect();
    for (path, file) in paths.iter().zip(files) {
        match file {
            Ok(file) => opened.push((path.clone(), Arc::new(file))),
            Err(e) => broken.push((path.clone(), e)),
        }
    }
    let needed = need == Filters::All && !broken.is_empty();
    if opened.is_empty() || needed || !broken.iter().all(is_there) {
        return Err(Trouble::Files(broken));
    }
    let spoilt = broken.iter().map(|(path, e)| Spoilt {
        file: name_of(path),
        reason: e.to_string(),
    });
    let spoilt = spoilt.collect();
    let paths: Vec<PathBuf> = opened.iter().map(|(path, _)| path.clone()).collect();
    let first = twins(&paths, |p| fingerprint::of_file(p).ok());
    let (mut frames, mut unknown, mut again) = (Vec::new(), Vec::new(), Vec::new());
    for (i, (path, file)) in opened.into_iter().enumerate() {
        let facts = facts::read(&file);
        if let Some(first) = first[i] {
            again.push(left_out_as_twin(&path, &paths[first], &facts));
            continue;
        }
        if facts.kind != Kind::Light {
            return Err(Trouble::NotTheSky {
                file: name_of(&path),
                kind: match facts.kind {
                    Kind::Flat => "flat",
                    Kind::Dark => "dark",
                    Kind::Bias => "bias",
                    _ => "dark-flat",
                },
            });
        }
        if file.planes() == 3 {
            if filters.iter().any(|(_, name)| is_meant(&path, name)) {
                return Err(Trouble::FilterOfColour(name_of(&path)));
            }
            for (plane, filter) in [Filter::R, Filter::G, Filter::B].into_iter().enumerate() {
                frames.push(Frame {
                    path: path.clone(),
                    plane: Some(plane),
                    file: Arc::clone(&file),
                    facts: facts.clone(),
                    filter,
                    calibration: None,
                });
            }
            continue;
        }
        let by_hand = filters.iter().find(|(_, name)| is_meant(&path, name));
        let filter = match by_hand {
            Some((word, _)) => {
                Some(Filter::named_by_hand(word).ok_or_else(|| Trouble::FilterName(word.clone()))?)
            }
            None if need == Filters::Any => Some(facts.filter.clone().unwrap_or_else(|| {
                let word = facts.filter_card.clone();
                Filter::Other(word.unwrap_or_else(|| "unknown".to_owned()))
            })),
            None => facts.filter.clone(),
        };
        match filter {
            Some(filter) => frames.push(Frame {
                path,
                plane: None,
                file,
                facts,
                filter,
                calibration: None,
            }),
            None => unknown.push((name_of(&path), facts.filter_card.clone())),
        }
    }
    if !unknown.is_empty() {
        return Err(Trouble::Filters(unknown));
    }
    Ok(Opened {
        frames,
        again,
        spoilt,
    })
}

/// For each file the one that it is a twin of: by another spelling or a link, or byte for byte. Of twins the one that is
/// no link and was written first counts, or else the one that was named first. `print` gives a file's fingerprint.
pub fn twins<P: AsRef<Path> + Sync>(
    paths: &[P],
    print: impl Fn(&Path) -> Option<String> + Sync,
) -> Vec<Option<usize>> {
    // Two images of one file are two frames.
    let image = |p: &P| select::split(p.as_ref()).1;
    let identities: Vec<_> = paths
        .iter()
        .map(|p| inputs::identity(p.as_ref()).map(|id| (id, image(p))))
        .collect();
    let sizes: Vec<_> = paths
        .iter()
        .map(|p| std::fs::metadata(select::file(p.as_ref())).map_or(0, |m| m.len()))
        .collect();
    let mut by_size: HashMap<u64, usize> = HashMap::new();
    for size in &sizes {
        *by_size.entry(*size).or_default() += 1;
    }
    // Only files of one size are looked into.
    let prints: Vec<Option<String>> = paths
        .par_iter()
        .zip(&sizes)
        .map(|(p, size)| {
            let has_rival = by_size.get(size).is_some_and(|n| *n > 1) && image(p).is_none();
            has_rival.then(|| print(p.as_ref())).flatten()
        })
        .collect();
    let age = |i: usize| {
        let about = select::file(paths[i].as_ref()).symlink_metadata().ok();
        let is_link = about.as_ref().is_none_or(std::fs::Metadata::is_symlink);
        (is_link, about.and_then(|m| m.modified().ok()), i)
    };
    let mut order: Vec<usize> = (0..paths.len()).collect();
    order.sort_by_cached_key(|i| age(*i));
    let mut first_by_identity = HashMap::new();
    let mut first_by_print: HashMap<&str, usize> = HashMap::new();
    let mut twins = vec![None; paths.len()];
    for i in order {
        twins[i] = {
            let named = identities[i]
                .as_ref()
                .and_then(|id| match first_by_identity.entry(id) {
                    Entry::Occupied(first) => Some(*first.get()),
                    Entry::Vacant(place) => {
                        place.insert(i);
                        None
                    }
                });
            let copied = || match first_by_print.entry(prints[i].as_deref()?) {
                Entry::Occupied(first) => Some(*first.get()).filter(|k| {
                    let (a, b) = (paths[*k].as_ref(), paths[i].as_ref());
                    fingerprint::are_equal(a, b).unwrap_or(false)
                }),
                Entry::Vacant(place) => {
                    place.insert(i);
                    None
                }
            };
            named.or_else(copied)
        };
    }
    twins
}

/// The row of a frame that is another one under a second name.
fn left_out_as_twin(path: &Path, first: &Path, facts: &FrameFacts) -> LayoutFrame {
    let word = facts.filter_card.clone();
    let filter = facts.filter.clone();
    let filter =
        filter.unwrap_or_else(|| Filter::Other(word.unwrap_or_else(|| "unknown".to_owned())));
    row_left_out(
        (name_of(path), None, filter),
        facts,
        twin_of(&name_of(first)),
    )
}

/// A frame that is left out before it is measured, as a layout keeps it.
fn row_left_out(
    (file, plane, filter): (String, Option<usize>, Filter),
    facts: &FrameFacts,
    reason: String,
) -> LayoutFrame {
    LayoutFrame {
        file,
        plane,
        filter,
        exposure_s: facts.exposure_s,
        size: facts.size,
        saturation: facts.saturation,
        fingerprint: None,
        hint: None,
        verdict: Verdict::LeftOut(reason),
        facts: Vec::new(),
        notes: Vec::new(),
        panel: None,
        calibration: None,
        measured: Measurements::NONE,
        placement: None,
        balance: None,
    }
}

/// Why a frame is left out that is another one under a second name.
pub fn twin_of(first: &str) -> String {
    format!("it is the same frame as '{first}', whose light counts once")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_frame_is_called_by_path_name_or_stem() {
        let path = Path::new("night/Ha.fits.gz");
        for pattern in ["H*", "Ha.*", "night/*.gz", "[HO]a"] {
            assert!(
                is_meant(path, pattern) && !is_meant(path, "O*"),
                "{pattern}"
            );
        }
        for name in ["night/Ha.fits.gz", "Ha.fits.gz", "Ha"] {
            assert!(is_called(path, name), "{name}");
        }
        assert!(!is_called(path, "ha") && !is_called(path, "night"));
        assert_eq!(stem(Path::new("a/b.c.FIT")), "b.c");
    }
}
