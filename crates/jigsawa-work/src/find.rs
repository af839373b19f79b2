//! The files that are meant by folders, names and patterns.

use std::collections::HashSet;
use std::path::{Component, Path, PathBuf};

use jigsawa_formats::fits::CAMERA_RAW;
use jigsawa_formats::select;
use walkdir::WalkDir;

use crate::foreign::name_of;
use crate::pattern::Pattern;
use crate::trouble::Trouble;

/// A file to be surveyed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundFile {
    /// Where it is.
    pub path: PathBuf,
    /// Its place below the folder that was named, or its name: what it is called in a folder of copies.
    pub relative: PathBuf,
    /// The same as text.
    pub name: String,
}

impl FoundFile {
    /// A file with its place below a folder.
    pub fn new(path: PathBuf, relative: PathBuf) -> Self {
        Self {
            name: name_of(&relative),
            path,
            relative,
        }
    }
}

const ENDINGS: [&str; 9] = [
    ".fits", ".fit", ".fts", ".fits.gz", ".fit.gz", ".fts.gz", ".fits.fz", ".fit.fz", ".fts.fz",
];

fn is_frame(path: &Path) -> bool {
    let name = path
        .file_name()
        .map(|n| n.to_string_lossy().to_lowercase())
        .unwrap_or_default();
    let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase());
    let is_raw = ending.is_some_and(|e| CAMERA_RAW.contains(&e.as_str()));
    !name.starts_with('.') && (is_raw || ENDINGS.iter().any(|e| name.ends_with(e)))
}

/// All frames that are meant, FITS or a camera's raw files, in the order of their paths within each argument, none twice. What
/// lies in one of the folders `apart` is passed over: it has been sorted out before. Who names such a folder, or one in it,
/// means what is in it.
pub fn find(arguments: &[PathBuf], apart: &[&Path]) -> Result<Vec<FoundFile>, Trouble> {
    let apart: Vec<PathBuf> = apart.iter().filter_map(|p| p.canonicalize().ok()).collect();
    let (mut found, mut seen) = (Vec::new(), HashSet::new());
    for argument in arguments {
        let from = if is_pattern(argument) && !argument.exists() {
            start_of(argument)
        } else {
            argument.clone()
        };
        let from = walked(&from).canonicalize().ok();
        let within = |folder: &&PathBuf| from.as_ref().is_some_and(|f| f.starts_with(folder));
        let hiding: Vec<&PathBuf> = apart.iter().filter(|f| !within(f)).collect();
        let files = if argument.is_dir() {
            let (files, others) = below(argument, argument, &is_frame);
            if files.is_empty() {
                return Err(Trouble::NoFrames {
                    place: argument.display().to_string(),
                    others,
                });
            }
            files
        } else if select::file(argument).exists() || !is_pattern(argument) {
            let name = argument.file_name().map(PathBuf::from);
            vec![FoundFile::new(argument.clone(), name.unwrap_or_default())]
        } else {
            matching(argument)?
        };
        for file in files {
            let real = entry(&file.path);
            let sorted_out = hiding.iter().any(|folder| real.starts_with(folder));
            if !sorted_out && seen.insert(real) {
                found.push(file);
            }
        }
    }
    if found.is_empty() {
        let places: Vec<String> = arguments.iter().map(|a| a.display().to_string()).collect();
        return Err(Trouble::NoFrames {
            place: places.join(", "),
            others: 0,
        });
    }
    Ok(found)
}

/// A file's own entry in its folder, whatever way leads there. A link to it is another entry: both are surveyed, and
/// one is left out and said.
fn entry(path: &Path) -> PathBuf {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty());
    let folder = folder.unwrap_or(Path::new(".")).canonicalize();
    match (folder, path.file_name()) {
        (Ok(folder), Some(name)) => folder.join(name),
        _ => path.to_owned(),
    }
}

/// Files below a folder that are wanted, and how many are not.
fn below(folder: &Path, top: &Path, wanted: &dyn Fn(&Path) -> bool) -> (Vec<FoundFile>, usize) {
    let (mut files, mut others) = (Vec::new(), 0);
    for entry in WalkDir::new(folder).sort_by_file_name() {
        let entry = match entry {
            Ok(entry) => entry,
            Err(e) => {
                tracing::warn!("a folder cannot be read: {e}");
                continue;
            }
        };
        if entry.file_type().is_dir() {
            continue;
        }
        if wanted(entry.path()) {
            let relative = entry.path().strip_prefix(top).unwrap_or(entry.path());
            let relative = relative.to_owned();
            files.push(FoundFile::new(entry.into_path(), relative));
        } else {
            others += 1;
        }
    }
    (files, others)
}

fn is_pattern(path: &Path) -> bool {
    path.to_string_lossy().contains(['*', '?', '[', '{'])
}

/// The part of a pattern before its first wild card: a folder to start from.
fn start_of(pattern: &Path) -> PathBuf {
    let parts = pattern.components();
    parts
        .take_while(|c| match c {
            Component::Normal(name) => !is_pattern(Path::new(name)),
            _ => true,
        })
        .collect()
}

/// A folder as it is walked through: no name means the one that we are in.
fn walked(folder: &Path) -> &Path {
    if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    }
}

/// A TIFF or PNG file, by its ending.
fn is_picture(path: &Path) -> bool {
    let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase());
    ending.is_some_and(|e| ["tif", "tiff", "png"].contains(&e.as_str()))
}

/// The files that a pattern means.
fn matching(pattern: &Path) -> Result<Vec<FoundFile>, Trouble> {
    let text = pattern.to_string_lossy();
    let asked = Pattern::new(&text).map_err(|error| Trouble::Pattern {
        pattern: text.to_string(),
        error,
    })?;
    let start = start_of(pattern);
    // Pictures count where they are asked for.
    let pictures = is_picture(pattern);
    let wanted = |path: &Path| {
        let bare = path.strip_prefix("./").unwrap_or(path);
        let fits = asked.fits(path) || asked.fits(bare);
        fits && (is_frame(path) || pictures && is_picture(path))
    };
    let (files, _) = below(walked(&start), &start, &wanted);
    if files.is_empty() {
        return Err(Trouble::NoFrames {
            place: text.to_string(),
            others: 0,
        });
    }
    Ok(files)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(found: &[FoundFile]) -> Vec<String> {
        found
            .iter()
            .map(|f| f.relative.display().to_string())
            .collect()
    }

    #[test]
    fn folders_files_and_patterns_are_found_once() {
        let dir = tempfile::tempdir().unwrap();
        let at = |n: &str| dir.path().join(n);
        std::fs::create_dir_all(at("a/rest")).unwrap();
        for n in [
            "a/1.fits",
            "a/2.FIT",
            "a/3.fits.fz",
            "a/x.txt",
            "a/.4.fits",
            "a/rest/5.fits",
        ] {
            std::fs::write(at(n), "x").unwrap();
        }
        let all = find(&[at("a"), at("a/1.fits")], &[]).unwrap();
        assert_eq!(names(&all), ["1.fits", "2.FIT", "3.fits.fz", "rest/5.fits"]);
        // By another way it is the same entry.
        let again = find(&[at("a"), at("a/rest/../1.fits"), at("a/../a")], &[]).unwrap();
        assert_eq!(again.len(), 4);
        // What is named counts, wherever results go.
        for out in ["", "a", "a/rest"] {
            let inside = find(&[at("a/rest")], &[&at(out)]).unwrap();
            assert_eq!(names(&inside), ["5.fits"], "{out}");
            let inside = find(&[at("a/rest/*.fits")], &[&at(out)]).unwrap();
            assert_eq!(names(&inside), ["5.fits"], "{out}");
        }
        let without = find(&[at("a")], &[&at("a/rest")]).unwrap();
        assert_eq!(without.len(), 3);
        assert_eq!(names(&find(&[at("a/*.fits")], &[]).unwrap()), ["1.fits"]);
        assert_eq!(find(&[at("**/*.fits")], &[]).unwrap().len(), 2);
        assert!(matches!(
            find(&[at("a/*.xyz")], &[]),
            Err(Trouble::NoFrames { .. })
        ));
        std::fs::create_dir(at("b")).unwrap();
        assert!(matches!(
            find(&[at("b")], &[]),
            Err(Trouble::NoFrames { .. })
        ));
        // A name that is not there stays, so that the reader says what is wrong with it.
        assert_eq!(find(&[at("no.fits")], &[]).unwrap().len(), 1);
    }
}
