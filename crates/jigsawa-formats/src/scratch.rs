//! Folders for what a run needs on the way and nobody afterwards: made in the system's folder for such files (`TMPDIR`)
//! for this user alone, gone with their owner, with an interrupted program, and at the latest with the next run.

use std::fs::{self, File};
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, Once, PoisonError, Weak};

use tempfile::TempDir;

use crate::whole::Noted;

/// What the names of such folders begin with.
const PREFIX: &str = "jigsawa-scratch-";

/// The file in it that is locked as long as its process lives.
const LOCK: &str = "lock";

/// A folder that vanishes.
#[derive(Debug)]
pub struct Scratch {
    folder: TempDir,
    _noted: Noted,
    _lock: File,
}

impl Scratch {
    /// Makes one.
    ///
    /// # Errors
    /// When the system's folder takes none.
    pub fn new() -> io::Result<Self> {
        static CLEARED: Once = Once::new();
        CLEARED.call_once(|| clear(&std::env::temp_dir()));
        let folder = tempfile::Builder::new().prefix(PREFIX).tempdir()?;
        let lock = File::create(folder.path().join(LOCK))?;
        // Where nothing can be locked, nothing is cleared either.
        let _ = lock.try_lock();
        Ok(Self {
            _noted: Noted::new(folder.path()),
            folder,
            _lock: lock,
        })
    }

    /// The one that all frames of this process share, as long as any of them wants it: each of its own would hold a handle.
    ///
    /// # Errors
    /// When the system's folder takes none.
    pub fn shared() -> io::Result<Arc<Self>> {
        static SHARED: Mutex<Weak<Scratch>> = Mutex::new(Weak::new());
        let mut shared = SHARED.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(scratch) = shared.upgrade() {
            return Ok(scratch);
        }
        let scratch = Arc::new(Self::new()?);
        *shared = Arc::downgrade(&scratch);
        Ok(scratch)
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }
}

/// Removes such folders of processes that live no more.
fn clear(parent: &Path) {
    let all = fs::read_dir(parent).into_iter().flatten().flatten();
    let named = all.filter(|e| e.file_name().to_string_lossy().starts_with(PREFIX));
    for folder in named.filter(|e| e.file_type().is_ok_and(|t| t.is_dir())) {
        if is_left(&folder.path()) {
            // Another user's cannot be removed, and is left alone.
            let _ = fs::remove_dir_all(folder.path());
        }
    }
}

/// Has its process ended? One without a lock yet is being made.
fn is_left(folder: &Path) -> bool {
    File::open(folder.join(LOCK)).is_ok_and(|lock| lock.try_lock().is_ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_share_one_folder_until_the_last_is_gone() {
        let (a, b) = (Scratch::shared().unwrap(), Scratch::shared().unwrap());
        let path = a.path().to_owned();
        assert_eq!(path, b.path());
        drop(a);
        assert!(path.exists());
        drop(b);
        assert!(!path.exists());
    }

    #[test]
    fn a_folder_goes_with_its_owner_and_a_dead_ones_with_the_next_run() {
        let scratch = Scratch::new().unwrap();
        let path = scratch.path().to_owned();
        fs::write(path.join("a"), "on the way").unwrap();
        clear(path.parent().unwrap());
        assert!(path.exists(), "its owner lives");
        drop(scratch);
        assert!(!path.exists());
        let dir = tempfile::tempdir().unwrap();
        let dead = dir.path().join("jigsawa-scratch-x");
        fs::create_dir(&dead).unwrap();
        fs::write(dead.join(LOCK), "").unwrap();
        let young = dir.path().join("jigsawa-scratch-y");
        fs::create_dir(&young).unwrap();
        clear(dir.path());
        assert!(!dead.exists() && young.exists());
    }
}
