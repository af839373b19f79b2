//! What was measured is kept: small files in a folder beside the results, each good as long as its frame
//! has the same size, time and fingerprint and is measured in the same way. Each carries a checksum, so that a damaged
//! one is as good as none.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::UNIX_EPOCH;

use jigsawa_formats::scratch::Scratch;
use jigsawa_formats::{fingerprint, select, whole};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::trouble::Trouble;

/// Name of the cache's folder.
const FOLDER: &str = ".jigsawa-cache";

/// Changes whenever what is measured, or how, changes.
const VERSION: u32 = 7;

/// How a frame is measured: all that the result depends on besides the file.
pub trait Way: Serialize {
    /// What is measured, told apart in the cache.
    const KIND: &'static str;
}

/// Bytes of the checksum that each file begins with.
const CHECKSUM: usize = 32;

/// What must be the same for a kept measurement to be good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Key {
    version: u32,
    content: Content,
    way: Vec<u8>,
}

/// What a file is known by.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Content {
    path: PathBuf,
    bytes: u64,
    modified_ns: u128,
    /// Times can be set, and some systems count them in seconds: the file itself is looked into.
    fingerprint: String,
}

/// Where measurements are kept: between two parts of a run, and between runs unless the user wants no cache.
pub struct Store {
    folder: PathBuf,
    /// Files as they were when this run first asked for them, which is before they are read.
    contents: Mutex<HashMap<PathBuf, Content>>,
    /// A folder that vanishes with the store.
    passing: Option<Scratch>,
}

impl Store {
    /// A store beside the results, or a passing one.
    pub fn open(out: &Path, keep: bool) -> Result<Self, Trouble> {
        if !keep {
            return Self::passing();
        }
        // Made when there is something to keep: a run that fails leaves nothing behind.
        Ok(Self {
            folder: out.join(FOLDER),
            contents: Mutex::default(),
            passing: None,
        })
    }

    /// A store that vanishes with the run.
    pub fn passing() -> Result<Self, Trouble> {
        let passing = Scratch::new().map_err(|error| Trouble::Folder {
            folder: std::env::temp_dir(),
            error,
        })?;
        Ok(Self {
            folder: passing.path().to_owned(),
            contents: Mutex::default(),
            passing: Some(passing),
        })
    }

    /// The folder, where what is kept outlives the run; it may not be there yet.
    pub fn lasting(&self) -> Option<&Path> {
        let passes = self.passing.is_some();
        (!passes).then_some(self.folder.as_path())
    }

    /// What this run or an earlier one has kept of a frame, if it is still good; of a passing store what this run has
    /// kept, since it begins empty.
    pub fn load<T: DeserializeOwned, W: Way>(&self, path: &Path, way: &W) -> Option<T> {
        let key = self.key(path, way)?;
        let bytes = fs::read(self.file(&key, W::KIND)).ok()?;
        let (checksum, kept) = bytes.split_at_checked(CHECKSUM)?;
        if blake3::hash(kept).as_bytes() != checksum {
            return None;
        }
        let (kept, value): (Key, T) = postcard::from_bytes(kept).ok()?;
        (kept == key).then_some(value)
    }

    /// The fingerprint of a file, looked into once in a run; `None` when it cannot be read.
    pub fn fingerprint(&self, path: &Path) -> Option<String> {
        self.content(path).map(|c| c.fingerprint)
    }

    /// Keeps what was found. A cache that cannot be written costs time, not results: that is only
    /// logged.
    pub fn keep<T: Serialize, W: Way>(&self, path: &Path, way: &W, value: &T) {
        let Some(key) = self.key(path, way) else {
            return;
        };
        let file = self.file(&key, W::KIND);
        let written = postcard::to_stdvec(&(key, value))
            .map_err(std::io::Error::other)
            .and_then(|kept| {
                fs::create_dir_all(&self.folder)?;
                let mut bytes = blake3::hash(&kept).as_bytes().to_vec();
                bytes.extend(kept);
                whole::replace(&file, &bytes)
            });
        if let Err(e) = written {
            tracing::warn!(
                "the cache in '{}' cannot be written: {e}",
                self.folder.display()
            );
        }
    }

    /// The file of what is measured of a frame in one way: each plane of a colour image has its own.
    fn file(&self, key: &Key, kind: &str) -> PathBuf {
        let mut hash = blake3::Hasher::new();
        hash.update(key.content.path.as_os_str().as_encoded_bytes());
        hash.update(&key.way);
        let name = hash.finalize().to_hex();
        self.folder.join(format!("{}.{kind}", &name[..24]))
    }

    fn key<W: Way>(&self, path: &Path, way: &W) -> Option<Key> {
        Some(Key {
            version: VERSION,
            content: self.content(path)?,
            way: postcard::to_stdvec(way).ok()?,
        })
    }

    fn content(&self, path: &Path) -> Option<Content> {
        let known = || self.contents.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(content) = known().get(path) {
            return Some(content.clone());
        }
        let file = select::file(path);
        let about = fs::metadata(&file).ok().filter(fs::Metadata::is_file)?;
        let modified = about.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
        let content = Content {
            path: select::respelled(path, file.canonicalize().ok()?),
            bytes: about.len(),
            modified_ns: modified.as_nanos(),
            fingerprint: fingerprint::of_file(path).ok()?,
        };
        known().insert(path.to_owned(), content.clone());
        Some(content)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Serialize)]
    struct Side(u32);

    impl Way for Side {
        const KIND: &'static str = "side";
    }

    #[derive(Serialize)]
    struct Other(u32);

    impl Way for Other {
        const KIND: &'static str = "other";
    }

    #[test]
    fn what_is_kept_is_good_until_the_file_or_the_way_changes() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.fits");
        fs::write(&path, "one").unwrap();
        let store = Store::open(dir.path(), true).unwrap();
        assert_eq!(store.load::<u32, _>(&path, &Side(1)), None);
        store.keep(&path, &Side(1), &77u32);
        assert_eq!(store.load(&path, &Side(1)), Some(77u32));
        assert_eq!(store.load::<u32, _>(&path, &Side(2)), None);
        assert_eq!(store.load::<u32, _>(&path, &Other(1)), None);
        // What is measured in another way takes nothing's place.
        store.keep(&path, &Side(2), &78u32);
        assert_eq!(store.load(&path, &Side(1)), Some(77u32));
        // Another content of the same length, with the time of the first.
        let time = fs::metadata(&path).unwrap().modified().unwrap();
        fs::write(&path, "two").unwrap();
        let file = fs::File::options().write(true).open(&path).unwrap();
        file.set_modified(time).unwrap();
        let next = Store::open(dir.path(), true).unwrap();
        assert_eq!(next.load::<u32, _>(&path, &Side(1)), None);
    }

    #[test]
    fn a_cache_with_any_damaged_byte_is_as_good_as_none() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.fits");
        fs::write(&path, "one").unwrap();
        let store = Store::open(dir.path(), true).unwrap();
        store.keep(&path, &Side(1), &77u32);
        let mut files = fs::read_dir(dir.path().join(FOLDER)).unwrap();
        let file = files.next().unwrap().unwrap().path();
        let sound = fs::read(&file).unwrap();
        for at in 0..sound.len() {
            let mut damaged = sound.clone();
            damaged[at] ^= 0x10;
            fs::write(&file, damaged).unwrap();
            assert_eq!(store.load::<u32, _>(&path, &Side(1)), None, "byte {at}");
            fs::write(&file, &sound[..at]).unwrap();
            assert_eq!(store.load::<u32, _>(&path, &Side(1)), None, "cut at {at}");
        }
        fs::write(&file, &sound).unwrap();
        assert_eq!(store.load(&path, &Side(1)), Some(77u32));
    }

    #[test]
    fn a_passing_store_keeps_within_the_run_only() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.fits");
        fs::write(&path, "one").unwrap();
        let store = Store::open(dir.path(), false).unwrap();
        store.keep(&path, &Side(1), &5u32);
        assert_eq!(store.load(&path, &Side(1)), Some(5u32));
        let next = Store::open(dir.path(), false).unwrap();
        assert_eq!(next.load::<u32, _>(&path, &Side(1)), None);
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1);
    }
}
