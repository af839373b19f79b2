//! What a command starts from: frames as given, or a layout that says which and where.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_core::verdict::Verdict;
use jigsawa_formats::fingerprint;

use crate::find::find;
use crate::foreign::name_of;
use crate::frames::{Filters, Frame, Opened, Spoilt, open_all, twins};
use crate::layout_file;
use crate::trouble::Trouble;

/// What a command starts from.
pub struct Start {
    /// The frames to be used; all frames of a layout whose frames are placed.
    pub frames: Vec<Frame>,
    /// The layout, when its frames are placed already.
    pub placed: Option<Layout>,
    /// The reference that a survey has proposed, and why.
    pub reference: Option<(String, String)>,
    /// Frames that a survey has left out, and those that were given a second time.
    pub left_out: Vec<LayoutFrame>,
    /// Files that are there and cannot be used.
    pub spoilt: Vec<Spoilt>,
}

/// Frames as given, or those of the one layout that is given; a survey's layout says which of them to
/// use and which is the reference.
pub fn start(
    paths: &[PathBuf],
    filters: &[(String, String)],
    relocate: &[(String, String)],
    need: Filters,
    out: &Path,
) -> Result<Start, Trouble> {
    let Some(path) = the_layout(paths, filters)? else {
        if !relocate.is_empty() {
            return Err(Trouble::OnlyWithLayout("--relocate"));
        }
        let files = expanded(paths, out)?;
        let named: HashSet<&Path> = files
            .iter()
            .filter(|f| f.1)
            .map(|f| f.0.as_path())
            .collect();
        let paths: Vec<PathBuf> = files.iter().map(|f| f.0.clone()).collect();
        let Opened {
            mut frames,
            again,
            spoilt,
        } = open_all(&paths, filters, need)?;
        frames.retain(|f| named.contains(f.path.as_path()) || !is_own_picture(f));
        return Ok(Start {
            frames,
            placed: None,
            reference: None,
            left_out: again,
            spoilt,
        });
    };
    let (frames, layout) = layout_file::open(path, relocate)?;
    let is_used = |f: &LayoutFrame| f.verdict == Verdict::Used;
    if layout.is_placed() {
        return Ok(Start {
            frames,
            placed: Some(layout),
            reference: None,
            left_out: Vec::new(),
            spoilt: Vec::new(),
        });
    }
    let keep: Vec<bool> = layout.frames.iter().map(is_used).collect();
    Ok(Start {
        frames: frames
            .into_iter()
            .zip(keep)
            .filter(|(_, keep)| *keep)
            .map(|(f, _)| f)
            .collect(),
        placed: None,
        reference: layout
            .is_measured()
            .then(|| (layout.reference.file.clone(), layout.reference.why.clone())),
        left_out: layout.frames.into_iter().filter(|f| !is_used(f)).collect(),
        spoilt: Vec::new(),
    })
}

/// The frames of the layout that is given first, for those who look at frames one by one; names behind it choose among them.
/// None where no layout is given.
pub fn of_layout(arguments: &[PathBuf]) -> Result<Option<Vec<Frame>>, Trouble> {
    let is_layout = |p: &&PathBuf| p.extension().is_some_and(|e| e == "json");
    let Some((layout, chosen)) = arguments.split_first().filter(|(p, _)| is_layout(p)) else {
        return Ok(None);
    };
    let (mut frames, _) = layout_file::open(layout, &[])?;
    // A colour image is one file.
    frames.retain(|f| f.plane.is_none_or(|p| p == 1));
    if frames.is_empty() {
        return Err(Trouble::NoFrames {
            place: layout.display().to_string(),
            others: 0,
        });
    }
    if chosen.is_empty() {
        return Ok(Some(frames));
    }
    let names = || frames.iter().map(Frame::name).collect();
    let mut order = Vec::new();
    for name in chosen {
        let name = name_of(name);
        let found = frames.iter().position(|f| f.is_called(&name));
        order.push(found.ok_or_else(|| Trouble::NoSuchFrame {
            option: "the command line",
            name: name.clone(),
            frames: names(),
        })?);
    }
    let mut frames: Vec<Option<Frame>> = frames.into_iter().map(Some).collect();
    Ok(Some(
        order.iter().filter_map(|i| frames[*i].take()).collect(),
    ))
}

/// The files that arguments mean, and whether each was named itself rather than found in a folder. Of a folder the one for
/// this run's results does not count.
fn expanded(arguments: &[PathBuf], out: &Path) -> Result<Vec<(PathBuf, bool)>, Trouble> {
    let mut files = Vec::new();
    for argument in arguments {
        let is_folder = argument.is_dir();
        let apart = [out];
        let apart: &[&Path] = if is_folder { &apart } else { &[] };
        let found = find(std::slice::from_ref(argument), apart)?;
        let found = found.into_iter().map(|f| f.path);
        files.extend(
            found
                .filter(|f| !is_folder || !is_map(f))
                .map(|f| (f, !is_folder)),
        );
    }
    Ok(files)
}

/// A map that a merge has written beside its result is no frame: `x-map.fits` beside `x.fits`.
fn is_map(path: &Path) -> bool {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned());
    let of = name.as_deref().and_then(|n| n.strip_suffix("-map.fits"));
    of.is_some_and(|of| path.with_file_name(format!("{of}.fits")).exists())
}

/// Is a frame a result of this program?
pub fn is_own_result(frame: &Frame) -> bool {
    let creator = frame.file.header().text("CREATOR");
    creator.is_some_and(|c| c.starts_with("Jigsawa"))
}

/// A colour picture that this program has made is no frame to begin with: who wants it names it.
fn is_own_picture(frame: &Frame) -> bool {
    frame.plane.is_some() && is_own_result(frame)
}

/// No new frame may be one of a layout's, by whatever name.
pub fn refuse_known(layout: &Path, there: &[Frame], new: &[Frame]) -> Result<(), Trouble> {
    let paths: Vec<&Path> = there.iter().chain(new).map(|f| f.path.as_path()).collect();
    let firsts = twins(&paths, |p| fingerprint::of_file(p).ok());
    let old = |i: usize| i < there.len();
    // Planes of one file are no second frame, and twins among the new ones have been told: a new one and an old one count.
    let known = |i: usize| {
        let first = firsts[i].filter(|first| old(*first) != old(i))?;
        Some((first.min(i), first.max(i)))
    };
    match (0..paths.len()).find_map(known) {
        None => Ok(()),
        Some((old, new)) => Err(Trouble::InTheLayout {
            layout: layout.to_owned(),
            file: name_of(paths[new]),
            known: name_of(paths[old]),
        }),
    }
}

/// The layout among the arguments, if there is one; it must be alone.
fn the_layout<'a>(
    paths: &'a [PathBuf],
    filters: &[(String, String)],
) -> Result<Option<&'a Path>, Trouble> {
    let is_layout = |p: &&PathBuf| {
        p.extension()
            .is_some_and(|e| e.eq_ignore_ascii_case("json"))
    };
    let Some(layout) = paths.iter().find(is_layout) else {
        return Ok(None);
    };
    if paths.len() > 1 {
        return Err(Trouble::LayoutAlone);
    }
    if !filters.is_empty() {
        return Err(Trouble::NotWithLayout("--filter"));
    }
    Ok(Some(layout))
}
