//! Names of results, and whether they can be written, before any work is done.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::MergeError;
use jigsawa_formats::error::FileError;
use jigsawa_formats::facts::{CutOut, wcs_cards, wcs_records};
use jigsawa_formats::fits::Cards;
use jigsawa_formats::inputs;
use jigsawa_formats::whole::Unfinished;

use crate::clock::Output;
use crate::frames::Frame;
use crate::trouble::Trouble;

/// The files of a composite.
pub struct Names {
    /// The linear result.
    pub linear: PathBuf,
    /// Its picture with 16 bits.
    pub tiff: PathBuf,
    /// Its picture with 8 bits.
    pub png: PathBuf,
    /// The layout.
    pub layout: PathBuf,
    /// What all names start with.
    pub start: String,
    /// Title of the pictures.
    pub title: String,
    /// The target, as a header says it.
    pub object: Option<String>,
}

impl Names {
    /// Names that start with the user's word, or with the target's name, or with the folder's.
    pub fn new(
        (folder, name): (&Path, Option<&str>),
        frames: &[Frame],
        middle: &str,
    ) -> Result<Self, Trouble> {
        let object = frames.iter().find_map(|f| f.facts.object.clone());
        let start = match name {
            Some(name) => plain_name(name)?,
            None => object
                .clone()
                .or_else(|| folder_name(frames))
                .map(|n| slug(&n))
                .filter(|n| !n.is_empty())
                .unwrap_or_else(|| "composite".to_owned()),
        };
        let file = |ending: &str| folder.join(format!("{start}-{middle}.{ending}"));
        Ok(Self {
            linear: file("fits"),
            tiff: file("tif"),
            png: file("png"),
            layout: file("layout.json"),
            title: format!("{} {middle}", object.as_deref().unwrap_or(&start)),
            start,
            object,
        })
    }

    /// Makes the folder and checks that no result would be replaced unasked.
    pub fn check(
        &self,
        overwrite: bool,
        with_layout: bool,
        linear_only: bool,
    ) -> Result<(), Trouble> {
        let all = [&self.linear, &self.tiff, &self.png];
        self.check_these(
            if linear_only { &all[..1] } else { &all },
            overwrite,
            with_layout,
        )
    }

    /// The same for other results.
    pub fn check_these(
        &self,
        files: &[&PathBuf],
        overwrite: bool,
        with_layout: bool,
    ) -> Result<(), Trouble> {
        let mut all = files.to_vec();
        if with_layout {
            all.push(&self.layout);
        }
        are_free(&all, overwrite)?;
        make_folder(self.linear.parent().unwrap_or(Path::new(".")))?;
        // A file that is begun and dropped shows that the folder takes files.
        begin(&self.linear, overwrite).map(drop)
    }
}

/// The folder that a frame lies in, by name: the target's name where no header tells it.
pub fn folder_name(frames: &[Frame]) -> Option<String> {
    let path: PathBuf = frames.first()?.path.canonicalize().ok()?;
    Some(path.parent()?.file_name()?.to_string_lossy().into_owned())
}

/// Bytes that the start of a name may have: what is added to it, and what a temporary name adds, fits into 255.
const LONGEST_NAME: usize = 150;

/// A name that the user gives, if it can be part of a file's name.
pub fn plain_name(name: &str) -> Result<String, Trouble> {
    let plain = !name.is_empty()
        && name.len() <= LONGEST_NAME
        && !name.contains(['/', '\\', '\0'])
        && !name.contains(char::is_control)
        && !name.starts_with('.');
    plain
        .then(|| name.to_owned())
        .ok_or_else(|| Trouble::Name(name.to_owned()))
}

/// Makes a folder if it is not there.
pub fn make_folder(folder: &Path) -> Result<(), Trouble> {
    // The current folder is written as no folder at all.
    if folder.as_os_str().is_empty() {
        return Ok(());
    }
    std::fs::create_dir_all(folder).map_err(|error| Trouble::Folder {
        folder: folder.to_owned(),
        error,
    })
}

/// May results get these names? None may be a file that is read, whatever is asked for, and none may be there already
/// unless it is to be replaced.
pub fn are_free<P: AsRef<Path>>(files: &[P], overwrite: bool) -> Result<(), Trouble> {
    for output in files {
        let output = output.as_ref();
        if let Some(input) = inputs::at(output) {
            return Err(Trouble::IsInput {
                output: output.to_owned(),
                input,
            });
        }
    }
    let is_there = |p: &&P| p.as_ref().symlink_metadata().is_ok();
    let there: Vec<PathBuf> = files
        .iter()
        .filter(is_there)
        .map(|p| p.as_ref().to_owned())
        .collect();
    if there.is_empty() || overwrite {
        Ok(())
    } else {
        Err(Trouble::Exist(there))
    }
}

/// Begins a result and writes all of it.
pub fn filled(path: &Path, bytes: &[u8], overwrite: bool) -> Result<Unfinished, Trouble> {
    let file = begin(path, overwrite)?;
    file.fill(bytes).map_err(|error| Trouble::Write {
        file: path.to_owned(),
        error,
    })?;
    Ok(file)
}

/// Begins a result.
pub fn begin(path: &Path, overwrite: bool) -> Result<Unfinished, Trouble> {
    Unfinished::new(path, overwrite).map_err(|e| match e {
        FileError::Exists(file) => Trouble::Exist(vec![file]),
        FileError::IsInput { output, input } => Trouble::IsInput { output, input },
        FileError::Io { error, .. } => Trouble::Folder {
            folder: path.parent().unwrap_or(Path::new(".")).to_owned(),
            error,
        },
        error => Trouble::Write {
            file: path.to_owned(),
            error,
        },
    })
}

/// A merge that stopped, in words: `name` is that of an input.
pub fn stopped(error: MergeError, name: impl Fn(usize) -> String, target: &Path) -> Trouble {
    let (file, verb, why) = match error {
        MergeError::Source { input, error } => (name(input), "read", error),
        MergeError::Sink(error) => (target.display().to_string(), "written", error),
    };
    Trouble::Merge {
        message: format!("'{file}' cannot be {verb}: {why}"),
        file: Some(file),
    }
}

/// Gives finished files their names; they stand before the outputs that are there already.
pub fn finish_first(
    files: Vec<(Unfinished, &'static str)>,
    outputs: &mut Vec<Output>,
) -> Result<(), Trouble> {
    for (file, kind) in files.into_iter().rev() {
        let target = file.target().to_owned();
        let done = file.finish().map_err(|error| match error {
            FileError::Exists(file) => Trouble::Exist(vec![file]),
            error => Trouble::Write {
                file: target,
                error,
            },
        })?;
        outputs.insert(
            0,
            Output {
                file: done.display().to_string(),
                kind,
            },
        );
    }
    Ok(())
}

/// Letters of a target's name that a file's name takes over: file systems end at 255 bytes.
const SLUG: usize = 60;

/// A target's name as part of a file's name: letters and digits stay, anything else becomes a hyphen.
pub fn slug(text: &str) -> String {
    let words: Vec<String> = text
        .split(|c: char| !c.is_alphanumeric() && c != '_')
        .filter(|w| !w.is_empty())
        .map(str::to_owned)
        .collect();
    let short: String = words.join("-").chars().take(SLUG).collect();
    short.trim_end_matches('-').to_owned()
}

/// What every result on a canvas says: the order of its rows, and what made it.
pub fn canvas_cards(layout: &Layout, cards: &mut Cards) {
    let order = match layout.canvas.row_order {
        RowOrder::BottomUp => "BOTTOM-UP",
        RowOrder::TopDown => "TOP-DOWN",
    };
    cards.text("ROWORDER", order, "order of the rows");
    creator_card(cards);
}

/// What made a file: the program, and the step of a recipe where there is one.
pub fn creator_card(cards: &mut Cards) {
    let creator = concat!("Jigsawa ", env!("CARGO_PKG_VERSION"));
    cards.text("CREATOR", creator, "");
    recipe_card(cards);
}

/// The step of a recipe that this process is at.
static STEP: Mutex<Option<String>> = Mutex::new(None);

/// A step of a recipe begins, or there is none any more: what is written from now on says so.
pub fn at_step(step: Option<String>) {
    *STEP.lock().unwrap_or_else(PoisonError::into_inner) = step;
}

/// The step of a recipe that this process is at, where there is one.
pub fn recipe_step() -> Option<String> {
    STEP.lock().unwrap_or_else(PoisonError::into_inner).clone()
}

/// The step of a recipe that a file is made by, where there is one.
pub fn recipe_card(cards: &mut Cards) {
    if let Some(step) = recipe_step() {
        cards.history(&format!("recipe: {step}"));
    }
}

/// Where a canvas lies on the sky, as cards: by the layout's own WCS; else, on the reference's own pixels, by
/// what its header says in a projection that is only carried.
pub fn sky_cards(layout: &Layout, frames: &[Frame], cards: &mut Cards) {
    let canvas = &layout.canvas;
    if let Some(wcs) = &layout.wcs {
        wcs_cards(wcs, canvas.size, cards);
        return;
    }
    let whole = canvas.to_reference().and_then(|m| m.whole_shift());
    if let (Some((x, y)), Some(reference)) = (whole, layout.reference_index()) {
        for record in wcs_records(frames[reference].file.header(), &CutOut::moved([x, y])) {
            cards.record(&record);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_targets_name_becomes_part_of_a_files_name() {
        assert_eq!(slug("Lantern Reef (east)"), "Lantern-Reef-east");
        assert_eq!(slug("../.."), "");
        assert!(slug(&"x".repeat(500)).len() < 100);
    }
}
