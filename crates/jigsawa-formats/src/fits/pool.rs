//! Files that are open when they are read: a frame keeps its place in the pool, not a handle of its own, so that any
//! number of frames works within the system's limit of open files.
//!
//! Who reads borrows the open file; when more than [`MOST`] are open, the one that was opened first and that nobody
//! reads just now is closed, and opened again when it is wanted. A file that is another one by then is an error.

use std::collections::VecDeque;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::time::SystemTime;

use crate::error::FileError;
use crate::inputs::{self, Identity};

/// Files that stay open at most: a process may have 256 on some systems, and less by its user's wish; threads and results
/// need some. Opening one again takes some microseconds.
const MOST: usize = 32;

/// What was opened, in order.
static OPEN: Mutex<VecDeque<Weak<dyn Closes>>> = Mutex::new(VecDeque::new());

/// Something in the pool that can be closed.
trait Closes: Send + Sync {
    /// Closes it, unless somebody asks for it just now: then it stays, and false comes back. Who reads keeps it open
    /// until done.
    fn close(&self) -> bool;
}

/// What is kept of a file while it is closed.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Stamp {
    identity: Option<Identity>,
    bytes: u64,
    modified: Option<SystemTime>,
}

impl Stamp {
    fn of(path: &Path) -> Result<Self, FileError> {
        let about = fs::metadata(path).map_err(FileError::io("cannot open it"))?;
        Ok(Self {
            identity: inputs::identity(path),
            bytes: about.len(),
            modified: about.modified().ok(),
        })
    }
}

struct Slot<T> {
    path: PathBuf,
    stamp: Stamp,
    open: fn(&Path) -> Result<T, FileError>,
    /// The open file, while it is open.
    file: Mutex<Option<Arc<T>>>,
}

impl<T: Send + Sync> Closes for Slot<T> {
    fn close(&self) -> bool {
        let Ok(mut file) = self.file.try_lock() else {
            return false;
        };
        *file = None;
        true
    }
}

/// A file of the pool.
pub(super) struct Pooled<T>(Arc<Slot<T>>);

impl<T: Send + Sync + 'static> Pooled<T> {
    /// A file that `open` opens when it is first wanted.
    pub(super) fn new(
        path: &Path,
        open: fn(&Path) -> Result<T, FileError>,
    ) -> Result<Self, FileError> {
        Ok(Self(Arc::new(Slot {
            path: path.to_owned(),
            stamp: Stamp::of(path)?,
            open,
            file: Mutex::new(None),
        })))
    }

    /// The open file.
    pub(super) fn get(&self) -> Result<Arc<T>, FileError> {
        let slot = &self.0;
        let mut file = slot.file.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = &*file {
            return Ok(Arc::clone(file));
        }
        if Stamp::of(&slot.path)? != slot.stamp {
            return Err(FileError::Changed);
        }
        let open = || (slot.open)(&slot.path).map(Arc::new);
        // Where the system has no handle left, those of the pool are given back first.
        let opened = open().or_else(|_| {
            close_down_to(0);
            open()
        })?;
        *file = Some(Arc::clone(&opened));
        drop(file);
        let slot: Weak<Slot<T>> = Arc::downgrade(slot);
        list().push_back(slot);
        close_down_to(MOST);
        Ok(opened)
    }
}

/// Opens a file for reading at places.
pub(super) fn plain(path: &Path) -> Result<File, FileError> {
    File::open(path).map_err(FileError::io("cannot open it"))
}

/// Opens a file that is read at once and closed: where the system has no handle left, those of the pool are given back.
pub(crate) fn open(path: &Path) -> Result<File, FileError> {
    plain(path).or_else(|_| {
        close_down_to(0);
        plain(path)
    })
}

fn list() -> MutexGuard<'static, VecDeque<Weak<dyn Closes>>> {
    OPEN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Closes what was opened first until so many are left; one that is asked for just now goes to the end of the list.
fn close_down_to(most: usize) {
    // Each is tried once: those that are all asked for at the same moment are not waited for.
    let tries = list().len();
    for _ in 0..tries {
        let mut open = list();
        if open.len() <= most {
            return;
        }
        let first = open.pop_front();
        // Closing takes the file's own lock, and nobody waits for two at once.
        drop(open);
        if let Some(slot) = first.as_ref().and_then(Weak::upgrade)
            && !slot.close()
        {
            list().extend(first);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn any_number_of_files_is_read_and_a_changed_one_is_not() {
        let dir = tempfile::tempdir().unwrap();
        let files: Vec<Pooled<File>> = (0..3 * MOST)
            .map(|i| {
                let path = dir.path().join(format!("{i}"));
                fs::write(&path, "a").unwrap();
                Pooled::new(&path, plain).unwrap()
            })
            .collect();
        for _ in 0..2 {
            for f in &files {
                f.get().unwrap();
            }
        }
        let open = |f: &&Pooled<File>| f.0.file.lock().unwrap().is_some();
        assert!(files.iter().filter(open).count() <= MOST);
        // The first ones are closed by now.
        fs::write(dir.path().join("0"), "other").unwrap();
        assert!(matches!(files[0].get(), Err(FileError::Changed)));
        assert!(files[1].get().is_ok());
    }
}
