//! Files that are whole or not there: written under a temporary name in the same folder, renamed when
//! finished, removed when dropped before. A list of the unfinished lets an interrupted program clean
//! up.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::error::FileError;

/// Temporary files of this process that are neither renamed nor removed yet.
static UNFINISHED: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

fn list() -> MutexGuard<'static, Vec<PathBuf>> {
    UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Removes every temporary file that is not finished: for the moment before an interrupted program
/// ends.
pub fn remove_unfinished() {
    for path in list().drain(..) {
        // Nothing more can be done about a file that cannot be removed.
        let _ = fs::remove_file(path);
    }
}

/// A file in the making.
#[derive(Debug)]
pub struct Unfinished {
    temporary: PathBuf,
    target: PathBuf,
    overwrite: bool,
}

impl Unfinished {
    /// Prepares to write `target`; its folder must exist.
    ///
    /// # Errors
    /// When the target exists and must not be overwritten, or when its folder takes no files.
    pub fn new(target: &Path, overwrite: bool) -> Result<Self, FileError> {
        if target.exists() && !overwrite {
            return Err(FileError::Exists(target.to_owned()));
        }
        let name = target.file_name().unwrap_or_default().to_string_lossy();
        let temporary = target.with_file_name(format!(".{name}.{}.part", std::process::id()));
        list().push(temporary.clone());
        let made = Self {
            temporary,
            target: target.to_owned(),
            overwrite,
        };
        fs::File::create(&made.temporary).map_err(FileError::io("cannot write into the folder"))?;
        Ok(made)
    }

    /// Where to write for now.
    pub fn path(&self) -> &Path {
        &self.temporary
    }

    /// Where the file will be.
    pub fn target(&self) -> &Path {
        &self.target
    }

    /// Renames the file to its target.
    ///
    /// # Errors
    /// When the target has appeared in the meantime, or when the system refuses.
    pub fn finish(self) -> Result<PathBuf, FileError> {
        if self.target.exists() && !self.overwrite {
            return Err(FileError::Exists(self.target.clone()));
        }
        fs::rename(&self.temporary, &self.target)
            .map_err(FileError::io("cannot rename the result"))?;
        list().retain(|p| *p != self.temporary);
        Ok(self.target.clone())
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        let mut list = list();
        if let Some(i) = list.iter().position(|p| *p == self.temporary) {
            list.swap_remove(i);
            let _ = fs::remove_file(&self.temporary);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dropped_file_leaves_nothing_and_a_finished_one_is_there() {
        let dir = tempfile::tempdir().unwrap();
        let target = dir.path().join("a.txt");
        let u = Unfinished::new(&target, false).unwrap();
        fs::write(u.path(), "half").unwrap();
        drop(u);
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0);
        let u = Unfinished::new(&target, false).unwrap();
        fs::write(u.path(), "whole").unwrap();
        u.finish().unwrap();
        assert_eq!(fs::read_to_string(&target).unwrap(), "whole");
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 1);
    }

    #[test]
    fn an_existing_file_is_only_replaced_when_asked() {
        let dir = tempfile::tempdir().unwrap();
        let target = dir.path().join("a.txt");
        fs::write(&target, "old").unwrap();
        assert!(matches!(
            Unfinished::new(&target, false),
            Err(FileError::Exists(_))
        ));
        let u = Unfinished::new(&target, true).unwrap();
        fs::write(u.path(), "new").unwrap();
        assert_eq!(fs::read_to_string(&target).unwrap(), "old");
        u.finish().unwrap();
        assert_eq!(fs::read_to_string(&target).unwrap(), "new");
    }
}
