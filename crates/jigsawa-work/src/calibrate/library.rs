//! The library: a folder of masters that are kept over the nights.
//!
//! A master's name says what it is and ends in a mark of the frames that it was made of, so that one of the same frames is
//! found again and never made twice.

use std::path::{Path, PathBuf};

use jigsawa_formats::fingerprint;
use jigsawa_formats::fits::FitsFrame;

use super::raw::Raw;

/// Changes whenever masters are made otherwise.
const VERSION: &str = "calibration masters 1";

/// The card that holds the mark.
pub(super) const MARK: &str = "SETMARK";

/// All masters in the library.
pub(super) fn masters(library: &Path) -> Vec<PathBuf> {
    let Ok(entries) = std::fs::read_dir(library) else {
        return Vec::new();
    };
    let mut found: Vec<PathBuf> = entries
        .filter_map(|e| Some(e.ok()?.path()))
        .filter(|p| p.extension().is_some_and(|e| e == "fits"))
        .collect();
    found.sort();
    found
}

/// The mark of frames, and of the masters that they are freed of light's absence with.
pub(super) fn mark<'a>(
    frames: impl Iterator<Item = &'a Raw>,
    with: impl Iterator<Item = &'a Path>,
) -> String {
    let mut prints: Vec<String> = frames
        .map(|r| fingerprint::of_file(&r.path).unwrap_or_default())
        .collect();
    prints.sort();
    prints.extend(with.map(|p| fingerprint::of_file(p).unwrap_or_default()));
    let mut hash = blake3::Hasher::new();
    hash.update(VERSION.as_bytes());
    for p in prints {
        hash.update(p.as_bytes());
    }
    hash.finalize().to_hex()[..12].to_owned()
}

/// Is a master of this mark there and whole?
pub(super) fn has(path: &Path, mark: &str) -> bool {
    FitsFrame::glance(path).is_ok_and(|f| f.header().text(MARK).as_deref() == Some(mark))
}
