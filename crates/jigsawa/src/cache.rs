//! What was measured is kept: small files in a folder beside the results, each good as long as its frame
//! has the same size and time and is measured in the same way.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::tell::Trouble;

/// Name of the cache's folder.
const FOLDER: &str = ".jigsawa-cache";

/// Changes whenever what is measured, or how, changes.
const VERSION: u32 = 3;

/// How a frame is measured: all that the result depends on besides the file.
pub trait Way: Serialize {
    /// What is measured, told apart in the cache.
    const KIND: &'static str;
}

/// What must be the same for a kept measurement to be good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Key {
    version: u32,
    path: PathBuf,
    bytes: u64,
    modified_ns: u128,
    way: Vec<u8>,
}

/// Where measurements are kept: between two parts of a run, and between runs unless the user wants no cache.
pub struct Store {
    folder: PathBuf,
    /// A folder that vanishes with the store.
    _temporary: Option<tempfile::TempDir>,
}

impl Store {
    /// A store beside the results, or a passing one.
    pub fn open(out: &Path, keep: bool) -> Result<Self, Trouble> {
        if !keep {
            let temporary = tempfile::tempdir().map_err(|error| Trouble::Folder {
                folder: std::env::temp_dir(),
                error,
            })?;
            return Ok(Self {
                folder: temporary.path().to_owned(),
                _temporary: Some(temporary),
            });
        }
        // Made when there is something to keep: a run that fails leaves nothing behind.
        Ok(Self {
            folder: out.join(FOLDER),
            _temporary: None,
        })
    }

    /// What this run or an earlier one has kept of a frame, if it is still good; of a passing store what this run has
    /// kept, since it begins empty.
    pub fn load<T: DeserializeOwned, W: Way>(&self, path: &Path, way: &W) -> Option<T> {
        let key = key(path, way)?;
        let bytes = fs::read(self.file(&key, W::KIND)).ok()?;
        let (kept, value): (Key, T) = postcard::from_bytes(&bytes).ok()?;
        (kept == key).then_some(value)
    }

    /// Keeps what was found. A cache that cannot be written costs time, not results: that is only
    /// logged.
    pub fn keep<T: Serialize, W: Way>(&self, path: &Path, way: &W, value: &T) {
        let Some(key) = key(path, way) else { return };
        let file = self.file(&key, W::KIND);
        let written = postcard::to_stdvec(&(key, value))
            .map_err(std::io::Error::other)
            .and_then(|bytes| {
                fs::create_dir_all(&self.folder)?;
                let part = file.with_extension("part");
                fs::write(&part, bytes)?;
                fs::rename(&part, &file)
            });
        if let Err(e) = written {
            tracing::warn!(
                "the cache in '{}' cannot be written: {e}",
                self.folder.display()
            );
        }
    }

    fn file(&self, key: &Key, kind: &str) -> PathBuf {
        let name = blake3::hash(key.path.as_os_str().as_encoded_bytes()).to_hex();
        self.folder.join(format!("{}.{kind}", &name[..24]))
    }
}

fn key<W: Way>(path: &Path, way: &W) -> Option<Key> {
    let about = fs::metadata(path).ok()?;
    let modified = about.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
    Some(Key {
        version: VERSION,
        path: path.canonicalize().ok()?,
        bytes: about.len(),
        modified_ns: modified.as_nanos(),
        way: postcard::to_stdvec(way).ok()?,
    })
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
        fs::write(&path, "other").unwrap();
        assert_eq!(store.load::<u32, _>(&path, &Side(1)), None);
        // A damaged cache is as good as none.
        store.keep(&path, &Side(1), &77u32);
        for f in fs::read_dir(dir.path().join(FOLDER)).unwrap() {
            fs::write(f.unwrap().path(), "junk").unwrap();
        }
        assert_eq!(store.load::<u32, _>(&path, &Side(1)), None);
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
