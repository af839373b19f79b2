//! The files that this run reads: none of them is ever written over, by whatever spelling or link its name comes back
//! as an output.
//!
//! A file is known by what the system knows it by (device and number), so that links and other spellings mean the same
//! file; a copy is another file.

use std::collections::HashMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, MutexGuard, PoisonError};

use crate::select;

/// Files that were opened for reading, and the path that each was opened by.
static READ: LazyLock<Mutex<HashMap<Identity, PathBuf>>> = LazyLock::new(Mutex::default);

fn list() -> MutexGuard<'static, HashMap<Identity, PathBuf>> {
    READ.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What tells a file from all others.
#[cfg(unix)]
pub type Identity = (u64, u64);

/// What tells a file from all others.
#[cfg(not(unix))]
pub type Identity = PathBuf;

/// The identity of the file that a path leads to; `None` when there is none.
#[cfg(unix)]
pub fn identity(path: &Path) -> Option<Identity> {
    use std::os::unix::fs::MetadataExt;
    let about = fs::metadata(select::file(path)).ok()?;
    Some((about.dev(), about.ino()))
}

/// The identity of the file that a path leads to; `None` when there is none.
#[cfg(not(unix))]
pub fn identity(path: &Path) -> Option<Identity> {
    fs::canonicalize(select::file(path)).ok()
}

/// This file is read in this run.
pub fn remember(path: &Path) {
    if let Some(identity) = identity(path) {
        list().insert(identity, path.to_owned());
    }
}

/// What was read does not count any more: another command begins, in the same process.
pub fn forget() {
    list().clear();
}

/// Bytes of a text that is read whole: a layout of ten thousand frames has some tens of millions.
const LONGEST_TEXT: u64 = 1 << 30;

/// The text of a file that is read in this run: a layout, palettes, a catalogue. A device or a pipe is refused, since it
/// may have no end.
///
/// # Errors
/// When it is no regular file, too long or no text, or cannot be read.
pub fn read_text(path: &Path) -> io::Result<String> {
    let about = fs::metadata(path)?;
    if !about.is_file() {
        return Err(io::Error::other("it is no regular file"));
    }
    if about.len() > LONGEST_TEXT {
        return Err(io::Error::other("it is longer than any such file"));
    }
    let text = fs::read_to_string(path)?;
    remember(path);
    Ok(text)
}

/// This file is read and brought up to date in its place: what its user asks for.
pub fn update(path: &Path) {
    if let Some(identity) = identity(path) {
        list().remove(&identity);
    }
}

/// The input, as it was named, that an output of this name would replace.
pub fn at(output: &Path) -> Option<PathBuf> {
    let wanted = identity(output)?;
    let read = list().get(&wanted).cloned()?;
    // The system gives a number again when its file is gone: then this is another file.
    (identity(&read) == Some(wanted)).then_some(read)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_input_is_known_by_any_name_and_forgotten_when_it_is_gone() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.fits");
        fs::write(&path, "light").unwrap();
        assert_eq!(at(&path), None);
        remember(&path);
        let other = dir.path().join("../").join(dir.path().file_name().unwrap());
        assert_eq!(at(&other.join("a.fits")), Some(path.clone()));
        #[cfg(unix)]
        {
            let link = dir.path().join("link.fits");
            std::os::unix::fs::symlink(&path, &link).unwrap();
            assert_eq!(at(&link), Some(path.clone()));
            let hard = dir.path().join("hard.fits");
            fs::hard_link(&path, &hard).unwrap();
            assert_eq!(at(&hard), Some(path.clone()));
            // The name that was read is gone: what keeps the number under another name is another file to us.
            fs::remove_file(&path).unwrap();
            assert_eq!(at(&hard), None);
        }
    }
}
