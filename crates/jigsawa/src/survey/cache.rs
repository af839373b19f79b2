//! What was measured is kept: one small file a frame in a folder beside the results, valid as long as
//! the frame has the same size and time and is measured in the same way.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use jigsawa_core::survey::Area;
use serde::{Deserialize, Serialize};

use super::look::{Looked, Way};
use crate::tell::Trouble;

/// Name of the cache's folder.
const FOLDER: &str = ".jigsawa-survey";

/// Changes whenever what is measured, or how, changes.
const VERSION: u32 = 1;

/// What must be the same for a kept measurement to be good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Key {
    version: u32,
    path: PathBuf,
    bytes: u64,
    modified_ns: u128,
    area: Area,
    preview_side: Option<usize>,
}

#[derive(Serialize, Deserialize)]
struct Kept {
    key: Key,
    looked: Looked,
}

/// Where measurements, with their previews, are kept between measuring and reporting; and between runs
/// unless the user wants no cache.
pub struct Store {
    folder: PathBuf,
    /// A folder that vanishes with the store.
    temporary: Option<tempfile::TempDir>,
}

impl Store {
    /// A store beside the results, or a passing one.
    pub fn open(out: &Path, keep: bool) -> Result<Self, Trouble> {
        let failed = |folder: PathBuf| move |error| Trouble::Folder { folder, error };
        if !keep {
            let temporary = tempfile::tempdir().map_err(failed(std::env::temp_dir()))?;
            return Ok(Self {
                folder: temporary.path().to_owned(),
                temporary: Some(temporary),
            });
        }
        let folder = out.join(FOLDER);
        fs::create_dir_all(&folder).map_err(failed(folder.clone()))?;
        Ok(Self {
            folder,
            temporary: None,
        })
    }

    /// What is kept of a frame, if it is still good.
    pub fn load(&self, path: &Path, way: &Way) -> Option<Looked> {
        if self.temporary.is_some() {
            return None;
        }
        self.read(path, way)
    }

    /// What this run has kept of a frame, or found kept.
    pub fn read(&self, path: &Path, way: &Way) -> Option<Looked> {
        let key = key(path, way)?;
        let bytes = fs::read(self.file(&key)).ok()?;
        let kept: Kept = postcard::from_bytes(&bytes).ok()?;
        (kept.key == key).then_some(kept.looked)
    }

    /// Keeps what was found. A cache that cannot be written costs time, not results: that is only
    /// logged.
    pub fn keep(&self, path: &Path, way: &Way, looked: &Looked) {
        let Some(key) = key(path, way) else { return };
        let file = self.file(&key);
        let written = postcard::to_stdvec(&Kept {
            key,
            looked: looked.clone(),
        })
        .map_err(std::io::Error::other)
        .and_then(|bytes| {
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

    fn file(&self, key: &Key) -> PathBuf {
        let name = blake3::hash(key.path.as_os_str().as_encoded_bytes()).to_hex();
        self.folder.join(format!("{}.kept", &name[..24]))
    }
}

fn key(path: &Path, way: &Way) -> Option<Key> {
    let about = fs::metadata(path).ok()?;
    let modified = about.modified().ok()?.duration_since(UNIX_EPOCH).ok()?;
    Some(Key {
        version: VERSION,
        path: path.canonicalize().ok()?,
        bytes: about.len(),
        modified_ns: modified.as_nanos(),
        area: way.area,
        preview_side: way.preview_side,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_kept_look_is_good_until_the_file_or_the_way_changes() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.fits");
        fs::write(&path, "one").unwrap();
        let way = Way {
            area: Area::Whole,
            preview_side: None,
        };
        let looked = Looked::nothing();
        let store = Store::open(dir.path(), true).unwrap();
        assert!(store.load(&path, &way).is_none());
        store.keep(&path, &way, &looked);
        assert!(store.load(&path, &way).is_some());
        let other = Way {
            area: Area::Half,
            ..way
        };
        assert!(store.load(&path, &other).is_none());
        fs::write(&path, "other").unwrap();
        assert!(store.load(&path, &way).is_none());
        // A damaged cache is as good as none.
        store.keep(&path, &way, &looked);
        for f in fs::read_dir(dir.path().join(FOLDER)).unwrap() {
            fs::write(f.unwrap().path(), "junk").unwrap();
        }
        assert!(store.load(&path, &way).is_none());
    }

    #[test]
    fn a_passing_store_keeps_within_the_run_only() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.fits");
        fs::write(&path, "one").unwrap();
        let way = Way {
            area: Area::Whole,
            preview_side: Some(100),
        };
        let store = Store::open(dir.path(), false).unwrap();
        store.keep(&path, &way, &Looked::nothing());
        assert!(store.load(&path, &way).is_none() && store.read(&path, &way).is_some());
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1);
    }
}
