//! The layout as a file: JSON, frames by paths relative to it.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::layout::Layout;
use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::whole::Unfinished;

use crate::frames::Frame;
use crate::outputs;
use crate::tell::Trouble;

/// Reads a layout and opens its frames.
pub fn open(path: &Path) -> Result<(Vec<Frame>, Layout), Trouble> {
    let text = fs::read_to_string(path).map_err(|error| Trouble::LayoutText {
        file: path.to_owned(),
        error: error.to_string(),
    })?;
    let mut layout: Layout = serde_json::from_str(&text).map_err(|error| Trouble::LayoutText {
        file: path.to_owned(),
        error: error.to_string(),
    })?;
    layout.check().map_err(|error| Trouble::Layout {
        file: path.to_owned(),
        error,
    })?;
    let folder = path.parent().unwrap_or(Path::new(""));
    let there = |file: &str| folder.join(file).display().to_string();
    layout.reference.file = there(&layout.reference.file);
    let (mut frames, mut broken) = (Vec::new(), Vec::new());
    for f in &mut layout.frames {
        f.file = there(&f.file);
        let file_path = PathBuf::from(&f.file);
        let file = match FitsFrame::open(&file_path) {
            Ok(file) => Arc::new(file),
            Err(e) => {
                broken.push((file_path, e));
                continue;
            }
        };
        if file.size() != f.size || f.plane.is_some_and(|p| p >= file.planes()) {
            return Err(Trouble::LayoutFrame {
                layout: path.to_owned(),
                file: f.file.clone(),
                problem: format!(
                    "it has {} x {} pixels, not {} x {}",
                    file.size().width(),
                    file.size().height(),
                    f.size.width(),
                    f.size.height()
                ),
            });
        }
        frames.push(Frame {
            path: file_path,
            plane: f.plane,
            facts: facts::read(&file),
            file,
            filter: f.filter.clone(),
        });
    }
    if broken.is_empty() {
        Ok((frames, layout))
    } else {
        Err(Trouble::Files(broken))
    }
}

/// Writes a layout, under a temporary name still.
pub fn write(path: &Path, layout: &Layout, overwrite: bool) -> Result<Unfinished, Trouble> {
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut stored = layout.clone();
    stored.reference.file = relative(&stored.reference.file, folder);
    for f in &mut stored.frames {
        f.file = relative(&f.file, folder);
    }
    let file = outputs::begin(path, overwrite)?;
    let mut text = serde_json::to_string_pretty(&stored).map_err(|error| Trouble::LayoutText {
        file: path.to_owned(),
        error: error.to_string(),
    })?;
    text.push('\n');
    fs::write(file.path(), text).map_err(|error| Trouble::Folder {
        folder: folder.to_owned(),
        error,
    })?;
    Ok(file)
}

/// The way from a folder to a file, so that both can be moved together.
fn relative(file: &str, folder: &Path) -> String {
    let folder = if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    };
    let way = || {
        pathdiff::diff_paths(
            Path::new(file).canonicalize().ok()?,
            folder.canonicalize().ok()?,
        )
    };
    way().map_or_else(|| file.to_owned(), |p| p.display().to_string())
}
