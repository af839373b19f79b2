//! The layout as a file: JSON, frames by paths relative to it.

use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::calibrate::record::CalibrationRecord;
use jigsawa_core::layout::{FORMAT, FRAME_KEYS, Layout, LayoutError, LayoutFrame};
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::whole::Unfinished;
use jigsawa_formats::{facts, fingerprint, inputs, select};

use crate::foreign::{name_of, path_of};
use crate::frames::Frame;
use crate::outputs;
use crate::pixels::Masters;
use crate::trouble::Trouble;

/// Reads a layout and opens its frames, which may have moved: `relocate` says from where to where.
pub fn open(path: &Path, relocate: &[(String, String)]) -> Result<(Vec<Frame>, Layout), Trouble> {
    let text = inputs::read_text(path).map_err(|error| {
        let doing = "cannot open it";
        Trouble::Files(vec![(path.to_owned(), FileError::Io { doing, error })])
    })?;
    let mut layout = parse(path, &text)?;
    let folder = path.parent().unwrap_or(Path::new(""));
    move_all(&mut layout, folder, relocate)?;
    let (mut frames, mut broken, mut moved) = (Vec::new(), Vec::new(), Vec::new());
    let mut masters = Masters::default();
    for f in &layout.frames {
        let file_path = path_of(&f.file);
        if !select::file(&file_path).exists() {
            moved.push(file_path);
            continue;
        }
        let calibration = f.calibration.as_ref();
        let calibration = calibration.map(|c| masters.open(c, f.size)).transpose()?;
        match FitsFrame::open(&file_path) {
            Ok(file) => frames.push(Frame::calibrated(checked(path, f, file)?, calibration, f)),
            Err(e) => broken.push((file_path, e)),
        }
    }
    if !moved.is_empty() {
        moved.dedup();
        return Err(Trouble::Moved {
            layout: path.to_owned(),
            files: moved,
        });
    }
    if broken.is_empty() {
        Ok((frames, layout))
    } else {
        Err(Trouble::Files(broken))
    }
}

/// The calibration masters and lists that a layout's frames are read through; none where it cannot be read.
pub fn masters(path: &Path) -> Vec<PathBuf> {
    let layout = inputs::read_text(path)
        .ok()
        .and_then(|t| parse(path, &t).ok());
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut all: Vec<PathBuf> = Vec::new();
    for mut frame in layout.into_iter().flat_map(|l| l.frames) {
        let own = frame.calibration.iter_mut();
        let own = own.flat_map(CalibrationRecord::files_mut);
        all.extend(own.map(|file| folder.join(in_our_way(file, folder))));
    }
    all.sort_unstable();
    all.dedup();
    all
}

/// The layout in a text, if it can be used.
fn parse(path: &Path, text: &str) -> Result<Layout, Trouble> {
    newer(path, text)?;
    let read: Result<Layout, _> = serde_json::from_str(text);
    let layout = read.map(Layout::with_own_places);
    let layout = layout.map_err(|e| Trouble::LayoutText {
        file: path.to_owned(),
        error: e.to_string(),
    })?;
    unknown_key(path, text)?;
    layout.check().map_err(|error| Trouble::Layout {
        file: path.to_owned(),
        line: line_of(text, &error),
        error,
    })?;
    Ok(layout)
}

/// A key of a frame that means nothing is a slip of an editor's hand: with it the frame would be used otherwise than meant.
fn unknown_key(path: &Path, text: &str) -> Result<(), Trouble> {
    #[derive(serde::Deserialize)]
    struct Keys {
        frames: Vec<serde_json::Map<String, serde_json::Value>>,
    }
    let Ok(read) = serde_json::from_str::<Keys>(text) else {
        return Ok(());
    };
    let mut keys = read.frames.iter().flat_map(serde_json::Map::keys);
    let Some(key) = keys.find(|k| !FRAME_KEYS.contains(&k.as_str())) else {
        return Ok(());
    };
    let line = text.lines().position(|l| {
        let l = l.trim_start();
        l.starts_with(&format!("\"{key}\""))
    });
    let at = line.map_or(String::new(), |n| format!(" at line {}", n + 1));
    Err(Trouble::LayoutText {
        file: path.to_owned(),
        error: format!(
            "unknown field `{key}` of a frame, expected one of {}{at}",
            FRAME_KEYS.map(|k| format!("`{k}`")).join(", ")
        ),
    })
}

/// A newer format may have changed anything, so its number is looked at before the rest.
fn newer(path: &Path, text: &str) -> Result<(), Trouble> {
    #[derive(serde::Deserialize)]
    struct Head {
        format: u32,
    }
    match serde_json::from_str::<Head>(text) {
        Ok(head) if head.format > FORMAT => {
            let error = LayoutError::Newer(head.format);
            Err(Trouble::Layout {
                file: path.to_owned(),
                line: line_of(text, &error),
                error,
            })
        }
        _ => Ok(()),
    }
}

/// The paths as they are from here, after the frames' move.
fn move_all(
    layout: &mut Layout,
    folder: &Path,
    relocate: &[(String, String)],
) -> Result<(), Trouble> {
    let mut used = vec![false; relocate.len()];
    let mut there = |file: &str| {
        let stored = in_our_way(file, folder);
        let whole = if has_drive(file) {
            stored.clone()
        } else {
            tidy(&folder.join(&stored))
        };
        for (k, (old, new)) in relocate.iter().enumerate() {
            let old = if stored == path_of(file) {
                old.clone()
            } else {
                slashes(old)
            };
            let rest = stored
                .strip_prefix(&old)
                .or_else(|_| whole.strip_prefix(&old));
            if let Ok(rest) = rest {
                used[k] = true;
                let moved = Path::new(new);
                let moved = if rest.as_os_str().is_empty() {
                    moved.to_owned()
                } else {
                    moved.join(rest)
                };
                return name_of(&moved);
            }
        }
        name_of(&whole)
    };
    let first = layout.frames.first().map(|f| f.file.clone());
    layout.reference.file = there(&layout.reference.file);
    for f in &mut layout.frames {
        f.file = there(&f.file);
        let masters = f
            .calibration
            .iter_mut()
            .flat_map(CalibrationRecord::files_mut);
        masters.for_each(|file| *file = there(file));
    }
    match used.iter().position(|u| !u) {
        None => Ok(()),
        Some(k) => Err(Trouble::Relocation {
            old: relocate[k].0.clone(),
            file: name_of(&tidy(&folder.join(path_of(&first.unwrap_or_default())))),
        }),
    }
}

/// A path as this system writes it: a layout may have been written where backslashes part folders, which elsewhere are letters of a
/// name like others. One that is there keeps them.
fn in_our_way(file: &str, folder: &Path) -> PathBuf {
    let stored = path_of(file);
    if cfg!(windows) || !file.contains('\\') || select::file(&folder.join(&stored)).exists() {
        stored
    } else {
        path_of(&slashes(file))
    }
}

fn slashes(file: &str) -> String {
    file.replace('\\', "/")
}

/// Does a path begin with the letter of a drive? It is none of this system's then.
fn has_drive(file: &str) -> bool {
    let bytes = file.as_bytes();
    !cfg!(windows) && bytes.len() > 2 && bytes[0].is_ascii_alphabetic() && &bytes[1..3] == b":\\"
}

/// The path without the folders that it only passes through, as in `a/../b`.
fn tidy(path: &Path) -> PathBuf {
    let mut short = PathBuf::new();
    for part in path.components() {
        let back = part == Component::ParentDir
            && matches!(short.components().next_back(), Some(Component::Normal(_)));
        if back {
            short.pop();
        } else if part != Component::CurDir {
            short.push(part);
        }
    }
    // Through a link, back is elsewhere: then the long way is the right one.
    let real = |p: &Path| p.canonicalize().ok();
    if path.exists() && real(&short) != real(path) {
        path.to_owned()
    } else {
        short
    }
}

/// The frame, if it still is what was measured.
fn checked(layout: &Path, f: &LayoutFrame, file: FitsFrame) -> Result<Frame, Trouble> {
    let path = path_of(&f.file);
    let changed = |problem: String| Trouble::LayoutFrame {
        layout: layout.to_owned(),
        file: f.file.clone(),
        problem,
    };
    let is_colour = f.calibration.as_ref().is_some_and(|c| c.pattern.is_some());
    let planes = if is_colour { 3 } else { file.planes() };
    if file.size() != f.size || f.plane.is_some_and(|p| p >= planes) {
        return Err(changed(format!(
            "it has {} x {} pixels, not {} x {}",
            file.size().width(),
            file.size().height(),
            f.size.width(),
            f.size.height()
        )));
    }
    let now = fingerprint::of_file(&path).ok();
    if f.fingerprint.is_some() && f.fingerprint != now {
        return Err(changed(
            "its content has changed since it was measured (size alike, fingerprint not)"
                .to_owned(),
        ));
    }
    Ok(Frame {
        path,
        plane: f.plane,
        facts: facts::read(&file),
        file: Arc::new(file),
        filter: f.filter.clone(),
        calibration: None,
    })
}

/// The line of a layout's text that an error is about: layouts are written with a key on each line.
fn line_of(text: &str, error: &LayoutError) -> Option<usize> {
    let find = |from: usize, what: &str| {
        let line = text
            .lines()
            .skip(from)
            .position(|l| l.trim_start().starts_with(what))?;
        Some(from + line)
    };
    let of_frame = |file: &str, key: &str| {
        let name = serde_json::to_string(file).ok()?;
        let frames = find(0, "\"frames\"")?;
        let frame = find(frames, &format!("\"file\": {name}"))?;
        // The next frame's key would be another's: the frame's own place is better then.
        let end = find(frame + 1, "\"file\"").unwrap_or(usize::MAX);
        Some(find(frame, key).filter(|l| *l < end).unwrap_or(frame))
    };
    let line = match error {
        LayoutError::Newer(_) | LayoutError::Older(_) => find(0, "\"format\""),
        LayoutError::NoReference(_) => find(0, "\"reference\""),
        LayoutError::Canvas => find(0, "\"canvas\""),
        LayoutError::Mosaic => find(0, "\"mosaic\""),
        LayoutError::Level(_) | LayoutError::Shape(_) => find(0, "\"levels\""),
        LayoutError::Placement(file) => of_frame(file, "\"placement\""),
        LayoutError::Balance(file) => of_frame(file, "\"balance\""),
        LayoutError::Calibration(file) => of_frame(file, "\"calibration\""),
    }?;
    Some(line + 1)
}

/// Writes a layout, under a temporary name still.
pub fn write(path: &Path, layout: &Layout, overwrite: bool) -> Result<Unfinished, Trouble> {
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut stored = layout.clone();
    stored.reference.file = relative(&stored.reference.file, folder);
    for f in &mut stored.frames {
        f.file = relative(&f.file, folder);
        let masters = f
            .calibration
            .iter_mut()
            .flat_map(CalibrationRecord::files_mut);
        masters.for_each(|file| *file = relative(file, folder));
    }
    let mut text = serde_json::to_string_pretty(&stored).map_err(|error| Trouble::LayoutText {
        file: path.to_owned(),
        error: error.to_string(),
    })?;
    text.push('\n');
    outputs::filled(path, text.as_bytes(), overwrite)
}

/// The way from a folder to a file, so that both can be moved together.
fn relative(file: &str, folder: &Path) -> String {
    let folder = if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    };
    let way = || {
        let path = path_of(file);
        let real = select::file(&path).canonicalize().ok()?;
        let way = pathdiff::diff_paths(real, folder.canonicalize().ok()?)?;
        Some(select::respelled(&path, way))
    };
    let named = |p: PathBuf| {
        let name = name_of(&p);
        // Written so that every system reads it.
        if cfg!(windows) { slashes(&name) } else { name }
    };
    way().map_or_else(|| file.to_owned(), named)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_core::layout::PlacementRecord;
    use jigsawa_core::space::{CanvasPx, Point};
    use jigsawa_core::verdict::Verdict;
    use jigsawa_sky::garble::{Garble, runs};

    #[test]
    #[cfg(unix)]
    fn paths_of_another_system_are_found_and_names_with_backslashes_too() {
        let dir = tempfile::tempdir().unwrap();
        let at = |name: &str| dir.path().join(name);
        std::fs::create_dir(at("night")).unwrap();
        for name in ["night/ha.fits", "o\\iii.fits"] {
            std::fs::write(at(name), "").unwrap();
        }
        let way = |file| in_our_way(file, dir.path());
        assert_eq!(way("night\\ha.fits"), Path::new("night/ha.fits"));
        assert_eq!(way("o\\iii.fits"), Path::new("o\\iii.fits"));
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/layouts");
        let text = std::fs::read_to_string(folder.join("moz-mosaic.json")).unwrap();
        let mut layout: Layout = serde_json::from_str(&text).unwrap();
        layout.frames.truncate(1);
        layout.frames[0].file = "D:\\night\\a\\ha.fits".to_owned();
        layout.reference.file.clone_from(&layout.frames[0].file);
        let moved = |old: &str| {
            let mut layout = layout.clone();
            let by = [(old.to_owned(), "/home/me".to_owned())];
            move_all(&mut layout, dir.path(), &by).map(|()| layout.frames[0].file.clone())
        };
        assert_eq!(moved("D:\\night").unwrap(), "/home/me/a/ha.fits");
        assert!(moved("E:\\night").is_err());
        move_all(&mut layout, dir.path(), &[]).unwrap();
        assert_eq!(layout.frames[0].file, "D:/night/a/ha.fits");
    }

    #[test]
    fn layouts_of_before_are_read_with_the_names_that_they_have() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/layouts");
        let text = std::fs::read_to_string(folder.join("moz-mosaic.json")).unwrap();
        assert!(text.contains("\"bend\"") && text.contains("\"corner_px\""));
        let layout = parse(Path::new("before"), &text).unwrap();
        let placed = layout.frames.iter().filter_map(|f| f.placement.as_ref());
        let distorted = placed.filter(|p| p.distortion.is_some() && p.errors.corner_sigma_px > 0.0);
        assert_eq!(distorted.count(), text.matches("\"bend\"").count());
        // What is written has the names of today, and says the same.
        let written = serde_json::to_string(&layout).unwrap();
        assert!(!written.contains("\"bend\"") && !written.contains("\"corner_px\""));
        assert_eq!(parse(Path::new("after"), &written).unwrap(), layout);
    }

    #[test]
    fn spoilt_layouts_are_refused_or_make_sense() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/layouts");
        let mut garble = Garble::of_folder(&folder);
        for seed in garble.seeds() {
            let text = String::from_utf8(seed.clone()).unwrap();
            assert!(parse(Path::new("seed"), &text).is_ok(), "{text}");
        }
        let (runs, mut sound) = (runs(3_000), 0);
        for number in 0..runs {
            let Ok(mut layout) = parse(Path::new("spoilt"), &garble.text(number)) else {
                continue;
            };
            sound += 1;
            let corners = layout.canvas.size.corners::<CanvasPx>();
            for f in layout.frames.iter().filter(|f| f.verdict == Verdict::Used) {
                let Some(map) = f.placement.as_ref().and_then(PlacementRecord::placement) else {
                    continue;
                };
                for corner in corners {
                    let there = map.apply(corner);
                    assert!(
                        there.x.is_finite() && there.y.is_finite(),
                        "{number}: {there:?}"
                    );
                }
                let middle: Point<CanvasPx> = layout.canvas.size.centre();
                if let Some(b) = &f.balance {
                    assert!(b.surface.at(middle).is_finite(), "{number}");
                }
            }
            let _ = move_all(&mut layout, Path::new("somewhere"), &[]);
        }
        assert!(sound > runs / 50 && sound < runs, "{sound} of {runs}");
    }
}
