//! What has been done: kept beside the results, step by step, so that whatever ends a run loses no more than the step
//! that was under way.

use std::collections::{BTreeMap, HashSet};
use std::ffi::OsString;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use jigsawa_formats::fingerprint;
use jigsawa_work::foreign::path_of;
use jigsawa_work::outputs::{filled, make_folder};
use jigsawa_work::trouble::Trouble;
use serde::{Deserialize, Serialize};

use super::step::Step;

/// The file, and the one that is locked while a run is under way.
const FILE: &str = ".jigsawa-run.json";
const LOCK: &str = ".jigsawa-run.lock";

/// The number of the file's form.
const FORMAT: u32 = 1;

/// A step that was done.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StepRecord {
    /// What it was done with: frames, options, version.
    pub key: String,
    /// Start of its results' names.
    pub name: String,
    /// Its results: name below the folder, kind, and fingerprint.
    pub outputs: Vec<(String, String, String)>,
    /// Files that its results are of no use without, as seen from the folder: calibration masters.
    #[serde(default)]
    pub beside: Vec<String>,
    /// How long it took.
    pub seconds: f64,
    /// Pixels that it went through, in millions.
    pub megapixels: f64,
    /// What was said of it.
    pub warnings: Vec<String>,
    /// The frame that others were brought to.
    #[serde(default)]
    pub reference: Option<String>,
    /// Masters: name, frames, and noise of a pixel.
    #[serde(default)]
    pub masters: Vec<(String, usize, f64)>,
    /// Frames that went into a picture, and the width of their stars.
    #[serde(default)]
    pub widths: Vec<(String, f64)>,
}

/// What has been done in a folder.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct State {
    format: u32,
    /// Steps by their names.
    pub steps: BTreeMap<String, StepRecord>,
    /// The step that is under way: what it has left may be replaced.
    #[serde(default)]
    pub under_way: Option<String>,
    /// The recipe as the last run wrote it, to see whether somebody has changed it.
    #[serde(default)]
    pub recipe: Option<String>,
    /// What a recipe names as its frames, and whether they were seen to be panels by their stars.
    #[serde(default)]
    pub seen: Option<(Vec<String>, bool)>,
    /// Fingerprints of files, with what tells that they are unchanged: bytes and time.
    #[serde(default)]
    marks: BTreeMap<String, (u64, u128, String)>,
}

impl Default for State {
    fn default() -> Self {
        Self {
            format: FORMAT,
            steps: BTreeMap::new(),
            under_way: None,
            recipe: None,
            seen: None,
            marks: BTreeMap::new(),
        }
    }
}

/// A run is under way in a folder as long as this lives.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

impl Lock {
    /// Takes the folder for this run.
    pub fn take(folder: &Path) -> Result<Self, Trouble> {
        make_folder(folder)?;
        let path = folder.join(LOCK);
        let wrong = |error: std::io::Error| Trouble::Write {
            file: path.clone(),
            error: jigsawa_formats::error::FileError::io("cannot create it")(error),
        };
        let file = File::create(&path).map_err(wrong)?;
        match file.try_lock() {
            Err(fs::TryLockError::WouldBlock) => Err(Trouble::RunUnderWay(folder.to_owned())),
            // Where nothing can be locked, two runs at once are the user's care.
            _ => Ok(Self { _file: file }),
        }
    }
}

/// Texts after each other as one number.
#[derive(Default)]
struct Hash(blake3::Hasher);

impl Hash {
    fn put(&mut self, bytes: &[u8]) {
        self.0.update(&(bytes.len() as u64).to_le_bytes());
        self.0.update(bytes);
    }

    /// So many digits of it.
    fn digits(&self, digits: usize) -> String {
        self.0.finalize().to_hex()[..digits].to_owned()
    }
}

/// How a step is done, whatever its frames are, as one number: its results carry it.
pub fn settings(step: &Step) -> String {
    let mut hash = Hash::default();
    hash.put(env!("CARGO_PKG_VERSION").as_bytes());
    hash.put(step.command.as_bytes());
    hash.put(step.name.as_bytes());
    for word in &step.options {
        hash.put(OsString::as_os_str(word).as_encoded_bytes());
    }
    hash.digits(16)
}

impl State {
    /// What has been done in a folder; nothing where the file is not there or cannot be read.
    pub fn read(folder: &Path) -> Self {
        let text = fs::read_to_string(folder.join(FILE)).ok();
        let read = text.and_then(|t| serde_json::from_str::<Self>(&t).ok());
        read.filter(|s| s.format == FORMAT).unwrap_or_default()
    }

    /// Keeps it.
    pub fn write(&self, folder: &Path) -> Result<(), Trouble> {
        let path = folder.join(FILE);
        let text = serde_json::to_string_pretty(self).unwrap_or_default();
        let file = filled(&path, text.as_bytes(), true)?;
        let written = file.finish();
        written.map_err(|error| Trouble::Write { file: path, error })?;
        Ok(())
    }

    /// A file's fingerprint; that of before where bytes and time are the same.
    pub fn mark(&mut self, file: &Path) -> Option<String> {
        let about = fs::metadata(file).ok()?;
        let since = about.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
        let tells = (about.len(), since.as_nanos());
        let name = file.to_string_lossy().into_owned();
        if let Some((bytes, time, mark)) = self.marks.get(&name)
            && (*bytes, *time) == tells
        {
            return Some(mark.clone());
        }
        let mark = fingerprint::of_file(file).ok()?;
        self.marks.insert(name, (tells.0, tells.1, mark.clone()));
        Some(mark)
    }

    /// What a step is done with, as one number: another one wants it done again.
    pub fn key(&mut self, step: &Step, inputs: &[PathBuf]) -> String {
        let mut hash = Hash::default();
        hash.put(settings(step).as_bytes());
        for input in inputs {
            hash.put(input.file_name().unwrap_or_default().as_encoded_bytes());
            hash.put(self.mark(input).unwrap_or_default().as_bytes());
        }
        hash.digits(32)
    }

    /// Is a step done, with this key, and are its results whole?
    pub fn is_done(&mut self, id: &str, key: &str, folder: &Path) -> bool {
        let Some(record) = self.steps.get(id).cloned() else {
            return false;
        };
        record.key == key
            && record
                .beside
                .iter()
                .all(|f| folder.join(path_of(f)).exists())
            && record
                .outputs
                .iter()
                .all(|(file, _, mark)| self.mark(&folder.join(file)).as_ref() == Some(mark))
    }

    /// Results that a later step has brought up to date in their places.
    pub fn again(&mut self, files: &[PathBuf], folder: &Path) {
        for file in files {
            let mark = self.mark(file);
            let records = self.steps.values_mut().flat_map(|r| &mut r.outputs);
            for output in records.filter(|o| folder.join(&o.0) == *file) {
                output.2 = mark.clone().unwrap_or_default();
            }
        }
    }

    /// Were these frames of a recipe seen to be panels?
    pub fn panels(&self, frames: &[String]) -> Option<bool> {
        let (of, panels) = self.seen.as_ref()?;
        (of == frames).then_some(*panels)
    }

    /// All that has been made.
    pub fn all_made(&self, folder: &Path) -> HashSet<PathBuf> {
        let all = self.steps.values().flat_map(|r| &r.outputs);
        all.map(|o| folder.join(&o.0)).collect()
    }

    /// Results of a kind that a step has made.
    pub fn made(&self, id: &str, kind: &str, folder: &Path) -> Vec<PathBuf> {
        let record = self.steps.get(id);
        let all = record.iter().flat_map(|r| &r.outputs);
        all.filter(|o| o.1 == kind)
            .map(|o| folder.join(&o.0))
            .collect()
    }
}
