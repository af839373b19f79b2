//! Raw frames opened, and what each of them is.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::calibrate::group::{Group, groups};
use jigsawa_core::calibrate::pattern::Pattern;
use jigsawa_core::calibrate::strays::{Levels, strays};
use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::{facts, select};
use rayon::prelude::*;

use super::raw::{KindFrom, Raw, kind_by_pixels};
use super::{CalibrateSettings, LeftOut, library};
use crate::find::find;
use crate::foreign::name_of;
use crate::frames::{Spoilt, is_meant};
use crate::run::Run;
use crate::trouble::Trouble;

/// All frames that were found.
pub(super) struct Gathered {
    pub raw: Vec<Raw>,
    pub spoilt: Vec<Spoilt>,
}

/// Opens all that is meant, and the library's masters.
pub(super) fn gather(wanted: &CalibrateSettings<'_>, run: &Run<'_>) -> Result<Gathered, Trouble> {
    let mut files: Vec<PathBuf> = Vec::new();
    for argument in wanted.paths {
        // Results of this run lie apart, unless one of them is named itself.
        let apart: Vec<&Path> = if argument.is_dir() && inside(wanted.out, argument) {
            vec![wanted.out, wanted.library]
        } else {
            vec![wanted.library]
        };
        let found = find(std::slice::from_ref(argument), &apart)?;
        files.extend(found.into_iter().map(|f| f.path));
    }
    files.sort();
    files.dedup();
    let count = files.len();
    files.extend(library::masters(wanted.library));
    let progress = run.begin("headers", files.len());
    let opened: Vec<_> = files
        .par_iter()
        .map(|path| {
            let file = FitsFrame::open(path);
            progress.step();
            file
        })
        .collect();
    let (mut raw, mut broken, mut passed) = (Vec::new(), Vec::new(), 0);
    for (k, (path, file)) in files.into_iter().zip(opened).enumerate() {
        match file {
            Ok(file) => match of_file(path, file, k >= count, wanted.pattern) {
                Some(frame) => raw.push(frame),
                None => passed += 1,
            },
            Err(e) => broken.push((path, e)),
        }
    }
    // A name that is none is a slip of the hand, and not a spoilt frame.
    let gone = |(path, _): &(PathBuf, FileError)| !select::file(path).exists();
    if (raw.is_empty() && !broken.is_empty()) || broken.iter().any(gone) {
        return Err(Trouble::Files(broken));
    }
    if raw.is_empty() {
        return Err(Trouble::NothingToCalibrate(passed));
    }
    name_filters(&mut raw, wanted.filters)?;
    guess_kinds(&mut raw)?;
    let spoilt = broken.iter().map(|(path, e)| Spoilt {
        file: name_of(path),
        reason: e.to_string(),
    });
    let spoilt = spoilt.collect();
    Ok(Gathered { raw, spoilt })
}

/// What the user says of filters comes before the headers' words.
fn name_filters(raw: &mut [Raw], filters: &[(String, String)]) -> Result<(), Trouble> {
    for (name, pattern) in filters {
        let filter = Filter::from_spelling(name).unwrap_or(Filter::Other(name.clone()));
        let mut meant = false;
        for r in raw.iter_mut().filter(|r| is_meant(&r.path, pattern)) {
            r.facts.filter = Some(filter.clone());
            meant = true;
        }
        if !meant {
            return Err(Trouble::NoSuchFrame {
                option: "--filter",
                name: pattern.clone(),
                frames: raw.iter().map(|r| name_of(&r.path)).collect(),
            });
        }
    }
    Ok(())
}

/// Frames that nothing says the kind of are looked at.
fn guess_kinds(raw: &mut [Raw]) -> Result<(), Trouble> {
    raw.par_iter_mut()
        .filter(|r| r.kind_from == KindFrom::Pixels)
        .try_for_each(|r| {
            let kind = kind_by_pixels(&r.file, &r.facts);
            r.kind = kind.map_err(|e| Trouble::Unreadable {
                file: name_of(&r.path),
                error: e.to_string(),
            })?;
            Ok(())
        })
}

/// Does a folder lie inside of another, and is not that one?
fn inside(folder: &Path, other: &Path) -> bool {
    let real = |p: &Path| p.canonicalize().ok();
    let both = real(folder).zip(real(other));
    both.is_some_and(|(a, b)| a != b && a.starts_with(b))
}

/// A frame that can take part: of one plane, and no result of this program unless it is a master of the library.
fn of_file(
    path: PathBuf,
    file: FitsFrame,
    of_library: bool,
    pattern: Option<Pattern>,
) -> Option<Raw> {
    let mut facts = facts::read(&file);
    if let Some(pattern) = pattern {
        facts.colour_pattern = Some(pattern.letters());
    }
    let ours = file.header().text("CREATOR");
    let ours = ours.is_some_and(|c| c.starts_with("Jigsawa"));
    if file.planes() != 1 || (ours && !of_library) || (facts.master && facts.kind == Kind::Light) {
        return None;
    }
    let file = Arc::new(file);
    let named = kind_by_name(&path);
    let (kind, kind_from) = match named {
        _ if facts.kind_by_card => (facts.kind, KindFrom::Card),
        Some(kind) => (kind, KindFrom::Name),
        None => (facts.kind, KindFrom::Pixels),
    };
    Some(Raw {
        path,
        file,
        facts,
        kind,
        kind_from,
    })
}

/// What a frame is by its name, or by that of its folder.
pub fn kind_by_name(path: &Path) -> Option<Kind> {
    let of = |part: &std::ffi::OsStr| {
        let word: String = part
            .to_string_lossy()
            .to_lowercase()
            .chars()
            .filter(|c| c.is_alphabetic())
            .collect();
        let has = |w: &str| word.contains(w);
        match () {
            () if has("darkflat") || has("flatdark") => Some(Kind::DarkFlat),
            () if has("bias") => Some(Kind::Bias),
            () if has("dark") => Some(Kind::Dark),
            () if has("flat") => Some(Kind::Flat),
            () if has("light") => Some(Kind::Light),
            () => None,
        }
    };
    let by_file = path.file_name().and_then(of);
    by_file.or_else(|| path.parent()?.file_name().and_then(of))
}

/// Groups of the frames, without those that do not belong to their set.
pub(super) fn sorted(raw: &[Raw], run: &Run<'_>) -> Result<(Vec<Group>, Vec<LeftOut>), Trouble> {
    let frames: Vec<(Kind, &FrameFacts)> = raw.iter().map(|r| (r.kind, &r.facts)).collect();
    let mut all = groups(&frames);
    let sets: usize = all
        .iter()
        .filter(|g| is_set(g))
        .map(|g| g.members.len())
        .sum();
    let progress = run.begin("levels", sets);
    let mut left_out = Vec::new();
    for g in all.iter_mut().filter(|g| is_set(g)) {
        let levels: Result<Vec<Option<Levels>>, Trouble> = g
            .members
            .par_iter()
            .map(|m| {
                let levels = Levels::measure(&raw[*m].file.plane(0));
                progress.step();
                levels.map_err(|e| Trouble::Unreadable {
                    file: name_of(&raw[*m].path),
                    error: e.to_string(),
                })
            })
            .collect();
        let full = g.members.first().and_then(|m| raw[*m].full());
        let found = strays(g.kind, &levels?, full);
        let of = |(frame, stray): (&usize, &Option<_>)| {
            stray.map(|stray| LeftOut {
                frame: *frame,
                stray,
            })
        };
        left_out.extend(g.members.iter().zip(&found).filter_map(of));
        let mut keep = found.iter().map(Option::is_none);
        g.members.retain(|_| keep.next().unwrap_or(true));
    }
    all.retain(|g| !g.members.is_empty());
    Ok((all, left_out))
}

/// Is it a set of which a master is made?
fn is_set(g: &Group) -> bool {
    g.kind != Kind::Light && !g.master
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("night/flats/001.fits", Some(Kind::Flat))]
    #[case("night/Dark_Flat_3.fit", Some(Kind::DarkFlat))]
    #[case("cal/bias-001.fits", Some(Kind::Bias))]
    #[case("darks/a.fits", Some(Kind::Dark))]
    #[case("night/reef_001.fits", None)]
    fn names_tell_kinds(#[case] path: &str, #[case] want: Option<Kind>) {
        assert_eq!(kind_by_name(Path::new(path)), want);
    }
}
