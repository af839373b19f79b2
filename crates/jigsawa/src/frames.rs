//! Frames as the user gave them: opened, with facts and filter, checked all at once.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_formats::facts;
use jigsawa_formats::fits::{FitsFrame, FitsPlane};

use crate::tell::Trouble;

/// One plane of one file, ready to be measured and merged.
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
}

impl Frame {
    /// The file as it was typed.
    pub fn name(&self) -> String {
        self.path.display().to_string()
    }

    /// The pixels.
    pub fn source(&self) -> FitsPlane<'_> {
        self.file.plane(self.plane.unwrap_or(0))
    }

    /// Is this the frame that an option means? By path, by file name, or by file name without ending.
    pub fn is_called(&self, name: &str) -> bool {
        is_called(&self.path, name)
    }
}

/// The part of a file's name that can name a frame in a mix: up to the first dot of its endings.
pub fn stem(path: &Path) -> String {
    let name = path
        .file_name()
        .map(|n| n.to_string_lossy().into_owned())
        .unwrap_or_default();
    let lower = name.to_lowercase();
    for ending in [
        ".fits.gz", ".fits.fz", ".fit.gz", ".fit.fz", ".fits", ".fit", ".fts",
    ] {
        if lower.ends_with(ending) {
            return name[..name.len() - ending.len()].to_owned();
        }
    }
    name
}

fn is_called(path: &Path, name: &str) -> bool {
    path == Path::new(name)
        || path
            .file_name()
            .is_some_and(|n| n.to_string_lossy() == name)
        || stem(path) == name
}

/// What a command must know of its frames' filters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Filters {
    /// Each frame's: they are merged by them.
    Known,
    /// Nothing: filters are only carried on.
    Any,
}

/// Opens all files; the user's words for filters go before the headers'. A colour image gives three
/// frames, R, G and B.
pub fn open_all(
    paths: &[PathBuf],
    filters: &[(String, String)],
    need: Filters,
) -> Result<Vec<Frame>, Trouble> {
    for (i, path) in paths.iter().enumerate() {
        if paths[..i].contains(path) {
            return Err(Trouble::Twice(path.display().to_string()));
        }
    }
    for (_, name) in filters {
        if !paths.iter().any(|p| is_called(p, name)) {
            return Err(Trouble::NoSuchFrame {
                option: "--filter",
                name: name.clone(),
                frames: paths.iter().map(|p| p.display().to_string()).collect(),
            });
        }
    }
    let (mut opened, mut broken) = (Vec::new(), Vec::new());
    for path in paths {
        match FitsFrame::open(path) {
            Ok(file) => opened.push((path.clone(), Arc::new(file))),
            Err(e) => broken.push((path.clone(), e)),
        }
    }
    if !broken.is_empty() {
        return Err(Trouble::Files(broken));
    }
    let (mut frames, mut unknown) = (Vec::new(), Vec::new());
    for (path, file) in opened {
        let facts = facts::read(&file);
        if facts.kind != Kind::Light {
            return Err(Trouble::NotTheSky {
                file: path.display().to_string(),
                kind: match facts.kind {
                    Kind::Flat => "flat",
                    Kind::Dark => "dark",
                    Kind::Bias => "bias",
                    _ => "dark-flat",
                },
            });
        }
        if file.planes() == 3 {
            if filters.iter().any(|(_, name)| is_called(&path, name)) {
                return Err(Trouble::FilterOfColour(path.display().to_string()));
            }
            for (plane, filter) in [Filter::R, Filter::G, Filter::B].into_iter().enumerate() {
                frames.push(Frame {
                    path: path.clone(),
                    plane: Some(plane),
                    file: Arc::clone(&file),
                    facts: facts.clone(),
                    filter,
                });
            }
            continue;
        }
        let by_hand = filters.iter().find(|(_, name)| is_called(&path, name));
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
            }),
            None => unknown.push((path.display().to_string(), facts.filter_card.clone())),
        }
    }
    if !unknown.is_empty() {
        return Err(Trouble::Filters(unknown));
    }
    Ok(frames)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_frame_is_called_by_path_name_or_stem() {
        let path = Path::new("night/Ha.fits.gz");
        for name in ["night/Ha.fits.gz", "Ha.fits.gz", "Ha"] {
            assert!(is_called(path, name), "{name}");
        }
        assert!(!is_called(path, "ha") && !is_called(path, "night"));
        assert_eq!(stem(Path::new("a/b.c.FIT")), "b.c");
    }
}
