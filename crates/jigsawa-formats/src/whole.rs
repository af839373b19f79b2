//! Files that are whole or not there: written under a temporary name in the same folder, renamed when
//! finished, removed when dropped before.
//!
//! The temporary file is made exclusively under a name that nobody can foretell, and is locked as long as its process
//! lives. So an interrupted program removes its own ([`remove_unfinished`]), and what a killed one has left is
//! recognised by its name, and as nobody's by its lock, and removed by the next run that writes into that folder.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::{LazyLock, Mutex, MutexGuard, PoisonError};

use tempfile::NamedTempFile;

use crate::error::FileError;
use crate::inputs;

/// What the name of a temporary file has before its random part.
const MARK: &str = ".jigsawa-";

/// What it ends in.
const ENDING: &str = ".part";

/// Letters and digits of the random part.
const RANDOM: usize = 10;

/// Bytes of the target's name that its temporary name keeps: names may have 255.
const NAME_KEPT: usize = 120;

/// Files up to this size are on the disk itself before they get their name, so that a power cut leaves the old or the
/// new one. Larger ones would cost seconds, and can be made again from what the small ones say.
const SYNCED_BYTES: u64 = 16 << 20;

/// Temporary files of this process, and its folders of them, that are neither renamed nor removed yet.
static UNFINISHED: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// Folders that were cleared of what killed runs have left.
static CLEARED: LazyLock<Mutex<HashSet<PathBuf>>> = LazyLock::new(Mutex::default);

fn list() -> MutexGuard<'static, Vec<PathBuf>> {
    UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Removes every temporary file and folder that is not finished: for the moment before an interrupted program
/// ends.
pub fn remove_unfinished() {
    for path in list().drain(..) {
        // Nothing more can be done about one that cannot be removed.
        let _ = if path.is_dir() {
            fs::remove_dir_all(path)
        } else {
            fs::remove_file(path)
        };
    }
}

/// A file in the making.
#[derive(Debug)]
pub struct Unfinished {
    /// Removed when dropped; gone when it has its name.
    temporary: NamedTempFile,
    /// Keeps it in the list; dropped after it.
    noted: Noted,
    target: PathBuf,
    overwrite: bool,
}

/// A path in the list of the unfinished, as long as this lives.
#[derive(Debug)]
pub(crate) struct Noted(PathBuf);

impl Noted {
    pub(crate) fn new(path: &Path) -> Self {
        list().push(path.to_owned());
        Self(path.to_owned())
    }
}

impl Drop for Noted {
    fn drop(&mut self) {
        list().retain(|p| *p != self.0);
    }
}

impl Unfinished {
    /// Prepares to write `target`; its folder must exist.
    ///
    /// # Errors
    /// When the target exists and must not be overwritten, when it is a file that this run reads, or when its folder
    /// takes no files.
    pub fn new(target: &Path, overwrite: bool) -> Result<Self, FileError> {
        may_become(target, overwrite)?;
        let folder = folder_of(target);
        clear_once(folder);
        let name = target.file_name().unwrap_or_default().to_string_lossy();
        let mut kept = NAME_KEPT.min(name.len());
        while !name.is_char_boundary(kept) {
            kept -= 1;
        }
        let temporary = exclusive(folder, &format!(".{}{MARK}", &name[..kept]))
            .map_err(FileError::io("cannot write into the folder"))?;
        Ok(Self {
            noted: Noted::new(temporary.path()),
            temporary,
            target: target.to_owned(),
            overwrite,
        })
    }

    /// Where it is for now.
    pub fn path(&self) -> &Path {
        self.temporary.path()
    }

    /// The file itself, to be written: never opened again by its name, which could be another file's by then.
    ///
    /// # Errors
    /// When the system gives no further handle.
    pub fn file(&self) -> Result<File, FileError> {
        let file = self.temporary.as_file().try_clone();
        file.map_err(FileError::io("cannot write into the folder"))
    }

    /// Writes all of it at once.
    ///
    /// # Errors
    /// When the disk does not take it.
    pub fn fill(&self, bytes: &[u8]) -> Result<(), FileError> {
        let written = self.temporary.as_file().write_all(bytes);
        written.map_err(FileError::io("cannot write the file"))
    }

    /// Writes through a buffer, and brings all of it to the file: a buffer that is dropped swallows the error of a full
    /// disk.
    pub(crate) fn buffered<T>(
        &self,
        write: impl FnOnce(&mut BufWriter<File>) -> Result<T, FileError>,
    ) -> Result<T, FileError> {
        let mut out = BufWriter::with_capacity(1 << 20, self.file()?);
        let done = write(&mut out)?;
        out.flush()
            .map_err(FileError::io("cannot write the picture"))?;
        Ok(done)
    }

    /// Where the file will be.
    pub fn target(&self) -> &Path {
        &self.target
    }

    /// Renames the file to its target. Without `overwrite` the system itself refuses to replace a file that has
    /// appeared in the meantime.
    ///
    /// # Errors
    /// When the target has appeared, or when the system refuses.
    pub fn finish(self) -> Result<PathBuf, FileError> {
        let Self {
            temporary,
            noted: _noted,
            target,
            overwrite,
        } = self;
        may_become(&target, overwrite)?;
        let file = temporary.as_file();
        if file.metadata().is_ok_and(|m| m.len() <= SYNCED_BYTES) {
            file.sync_all()
                .map_err(FileError::io("cannot write the file"))?;
        }
        // A target that is a link is replaced itself; the file that it leads to is another's.
        let named = if overwrite {
            temporary.persist(&target)
        } else {
            temporary.persist_noclobber(&target)
        };
        match named {
            Ok(_) => Ok(target),
            Err(refused) if refused.error.kind() == io::ErrorKind::AlreadyExists => {
                Err(FileError::Exists(target))
            }
            Err(refused) => Err(FileError::io("cannot rename the result")(refused.error)),
        }
    }
}

/// Writes a file of the program's own bookkeeping, whole or not at all, in the place of what is there. It is not waited
/// for until it is on the disk: who reads it must know a damaged one.
///
/// # Errors
/// When the system refuses.
pub fn replace(target: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = folder_of(target);
    clear_once(folder);
    let mut file = exclusive(folder, MARK)?;
    let _noted = Noted::new(file.path());
    file.write_all(bytes)?;
    file.persist(target).map_err(|refused| refused.error)?;
    Ok(())
}

/// May a result get this name?
fn may_become(target: &Path, overwrite: bool) -> Result<(), FileError> {
    if let Some(input) = inputs::at(target) {
        return Err(FileError::IsInput {
            output: target.to_owned(),
            input,
        });
    }
    match fs::symlink_metadata(target) {
        Ok(_) if !overwrite => Err(FileError::Exists(target.to_owned())),
        Ok(_) => Ok(()),
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(e) => Err(FileError::io("cannot use the name")(e)),
    }
}

fn folder_of(target: &Path) -> &Path {
    let folder = target.parent().unwrap_or(Path::new("."));
    if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    }
}

/// A new file of a name that nobody could foretell, locked.
fn exclusive(folder: &Path, prefix: &str) -> io::Result<NamedTempFile> {
    loop {
        let mut builder = tempfile::Builder::new();
        builder.prefix(prefix).suffix(ENDING).rand_bytes(RANDOM);
        // Results may be read by whom the user lets read: what a new file of theirs allows.
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            builder.permissions(fs::Permissions::from_mode(0o666));
        }
        let file = builder.tempfile_in(folder)?;
        // Where nothing can be locked, nothing is cleared either.
        let locked = !matches!(file.as_file().try_lock(), Err(fs::TryLockError::WouldBlock));
        // Another run may have cleared it before it was locked.
        if locked && file.path().exists() {
            return Ok(file);
        }
    }
}

/// Removes what killed runs have left in a folder, once in a run.
fn clear_once(folder: &Path) {
    let Ok(real) = folder.canonicalize() else {
        return;
    };
    let mut cleared = CLEARED.lock().unwrap_or_else(PoisonError::into_inner);
    if cleared.insert(real.clone()) {
        clear(&real);
    }
}

/// Removes the temporary files in a folder that no process holds.
fn clear(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let ours = is_temporary(&entry.file_name().to_string_lossy())
            && entry.file_type().is_ok_and(|t| t.is_file());
        if ours
            && let Ok(file) = File::open(entry.path())
            && file.try_lock().is_ok()
        {
            // One that cannot be removed does no harm.
            let _ = fs::remove_file(entry.path());
        }
    }
}

fn is_temporary(name: &str) -> bool {
    let random = name
        .strip_suffix(ENDING)
        .and_then(|n| n.rsplit_once(MARK))
        .map(|(_, random)| random)
        .filter(|_| name.starts_with('.'));
    random.is_some_and(|r| r.len() == RANDOM && r.chars().all(|c| c.is_ascii_alphanumeric()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn count(folder: &Path) -> usize {
        fs::read_dir(folder).unwrap().count()
    }

    #[test]
    fn a_dropped_file_leaves_nothing_and_a_finished_one_is_there() {
        let dir = tempfile::tempdir().unwrap();
        let target = dir.path().join("a.txt");
        let u = Unfinished::new(&target, false).unwrap();
        u.fill(b"half").unwrap();
        drop(u);
        assert_eq!(count(dir.path()), 0);
        let u = Unfinished::new(&target, false).unwrap();
        u.fill(b"whole").unwrap();
        u.finish().unwrap();
        assert_eq!(fs::read_to_string(&target).unwrap(), "whole");
        assert_eq!(count(dir.path()), 1);
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
        u.fill(b"new").unwrap();
        assert_eq!(fs::read_to_string(&target).unwrap(), "old");
        u.finish().unwrap();
        assert_eq!(fs::read_to_string(&target).unwrap(), "new");
    }

    #[test]
    fn a_file_that_appears_meanwhile_is_not_replaced() {
        let dir = tempfile::tempdir().unwrap();
        let target = dir.path().join("a.txt");
        let u = Unfinished::new(&target, false).unwrap();
        fs::write(&target, "another's").unwrap();
        assert!(matches!(u.finish(), Err(FileError::Exists(_))));
        assert_eq!(fs::read_to_string(&target).unwrap(), "another's");
        assert_eq!(count(dir.path()), 1);
    }

    #[test]
    fn a_file_that_is_read_is_never_replaced() {
        let dir = tempfile::tempdir().unwrap();
        let target = dir.path().join("a.fits");
        fs::write(&target, "light").unwrap();
        inputs::remember(&target);
        let again = dir.path().join("./a.fits");
        assert!(matches!(
            Unfinished::new(&again, true),
            Err(FileError::IsInput { .. })
        ));
        assert_eq!(fs::read_to_string(&target).unwrap(), "light");
    }

    #[test]
    fn what_killed_runs_have_left_is_removed_and_what_is_in_work_is_not() {
        let dir = tempfile::tempdir().unwrap();
        let left = dir.path().join(".a.fits.jigsawa-Ab3dEf7h9K.part");
        let others = [
            "mine.part",
            ".b.jigsawa-short.part",
            ".a.fits.jigsawa-Ab3dEf7h9K",
        ];
        fs::write(&left, "half").unwrap();
        for other in others {
            fs::write(dir.path().join(other), "kept").unwrap();
        }
        let in_work = Unfinished::new(&dir.path().join("b.txt"), false).unwrap();
        assert!(!left.exists());
        clear(dir.path());
        assert!(in_work.path().exists());
        assert!(others.iter().all(|o| dir.path().join(o).exists()));
    }

    #[cfg(unix)]
    #[test]
    fn a_link_in_the_way_is_replaced_and_not_followed() {
        let dir = tempfile::tempdir().unwrap();
        let (other, target) = (dir.path().join("other"), dir.path().join("a.txt"));
        fs::write(&other, "another's").unwrap();
        std::os::unix::fs::symlink(&other, &target).unwrap();
        let u = Unfinished::new(&target, true).unwrap();
        u.fill(b"new").unwrap();
        u.finish().unwrap();
        assert_eq!(fs::read_to_string(&other).unwrap(), "another's");
        assert!(!target.symlink_metadata().unwrap().is_symlink());
    }
}
