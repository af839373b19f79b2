//! One original to another place: never over anything, never lost on the way.
//!
//! Within a file system a move is one step of the system's own, which refuses to replace. Between two it is a copy that
//! is on the disk, compared with the original, and has its name, before the original goes; times come along. A link
//! stays a link and leads where it led. Whatever fails leaves the original where it was.

use std::fs::{self, File, FileTimes};
use std::io;
use std::path::{Path, PathBuf};

use jigsawa_formats::error::FileError;
use jigsawa_formats::fingerprint;
use jigsawa_formats::whole::Unfinished;

/// Moves a file to a name that nothing has.
///
/// # Errors
/// What the system says; the file then is where it was.
pub fn move_new(from: &Path, to: &Path) -> io::Result<()> {
    if from.symlink_metadata()?.is_symlink() {
        return move_link(from, to);
    }
    match rename_new(from, to) {
        Err(e) if is_no_way(&e) => {}
        done => return done,
    }
    copy_new(from, to)?;
    remove_or_undo(from, to)
}

/// Copies a file to a name that nothing has: whole, on the disk, with the times of the original.
///
/// # Errors
/// What the system says; nothing of the copy is left then.
pub fn copy_new(from: &Path, to: &Path) -> io::Result<()> {
    let about = fs::metadata(from)?;
    let part = Unfinished::new(to, false).map_err(of_file)?;
    let mut copy = part.file().map_err(of_file)?;
    io::copy(&mut File::open(from)?, &mut copy)?;
    // Some file systems have no permissions or times to set: the copy is good without.
    let _ = copy.set_permissions(about.permissions());
    let mut times = FileTimes::new();
    if let Ok(modified) = about.modified() {
        times = times.set_modified(modified);
    }
    let _ = copy.set_times(times);
    copy.sync_all()?;
    if !fingerprint::are_equal(from, part.path())? {
        return Err(io::Error::other("the copy is not what the original is"));
    }
    part.finish().map_err(of_file)?;
    sync_folder(to)
}

/// Are two paths the same content: one file under two names, or equal byte for byte?
pub fn are_same(a: &Path, b: &Path) -> bool {
    let (one, other) = (
        jigsawa_formats::inputs::identity(a),
        jigsawa_formats::inputs::identity(b),
    );
    (one.is_some() && one == other) || fingerprint::are_equal(a, b).unwrap_or(false)
}

/// The original goes when its copy stands; where it cannot go, the copy does. An original that somebody else has taken
/// away leaves the copy as the only one.
pub fn remove_or_undo(from: &Path, to: &Path) -> io::Result<()> {
    if let Err(e) = fs::remove_file(from) {
        if e.kind() == io::ErrorKind::NotFound {
            return sync_folder(to);
        }
        let undone = fs::remove_file(to);
        let left = if undone.is_ok() {
            ""
        } else {
            "; its copy is left, too"
        };
        let words = format!("the original cannot be removed ({e}){left}");
        return Err(io::Error::new(e.kind(), words));
    }
    sync_folder(from)
}

/// A rename that the system refuses where the name is taken.
#[cfg(any(target_os = "linux", target_os = "android", target_vendor = "apple"))]
fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        Ok(()) => sync_folder(to),
        Err(e) => match io::Error::from(e) {
            e if is_unknown(&e) => link_and_remove(from, to),
            e => Err(e),
        },
    }
}

#[cfg(not(any(target_os = "linux", target_os = "android", target_vendor = "apple")))]
fn rename_new(from: &Path, to: &Path) -> io::Result<()> {
    link_and_remove(from, to)
}

/// The same in two steps, where the system has no such rename: the second name is refused where it is taken.
fn link_and_remove(from: &Path, to: &Path) -> io::Result<()> {
    fs::hard_link(from, to)?;
    remove_or_undo(from, to)
}

/// A call that this system, or this file system, does not have.
fn is_unknown(e: &io::Error) -> bool {
    matches!(
        e.kind(),
        io::ErrorKind::Unsupported | io::ErrorKind::InvalidInput
    )
}

/// Is there no way but a copy? Another file system, or one without second names.
fn is_no_way(e: &io::Error) -> bool {
    let kind = e.kind();
    kind == io::ErrorKind::CrossesDevices
        || is_unknown(e)
        || kind == io::ErrorKind::PermissionDenied
}

/// A link that leads where it led, from its new place.
fn move_link(from: &Path, to: &Path) -> io::Result<()> {
    let target = fs::read_link(from)?;
    let target = if target.is_absolute() {
        target
    } else {
        let folder = |p: &Path| folder_of(p).canonicalize();
        let whole = folder(from)?.join(&target);
        pathdiff::diff_paths(&whole, folder(to)?).unwrap_or(whole)
    };
    link(&target, to)?;
    remove_or_undo(from, to)
}

#[cfg(unix)]
fn link(target: &Path, at: &Path) -> io::Result<()> {
    std::os::unix::fs::symlink(target, at)
}

#[cfg(not(unix))]
fn link(target: &Path, at: &Path) -> io::Result<()> {
    std::os::windows::fs::symlink_file(target, at)
}

pub fn folder_of(path: &Path) -> PathBuf {
    let folder = path.parent().unwrap_or(Path::new(""));
    if folder.as_os_str().is_empty() {
        PathBuf::from(".")
    } else {
        folder.to_owned()
    }
}

/// Names are on the disk when their folder is. Where a folder cannot be opened, the system does it in its own time.
pub fn sync_folder(of: &Path) -> io::Result<()> {
    match File::open(folder_of(of)) {
        Ok(folder) if cfg!(unix) => folder
            .sync_all()
            .or_else(|e| if is_unknown(&e) { Ok(()) } else { Err(e) }),
        _ => Ok(()),
    }
}

fn of_file(error: FileError) -> io::Error {
    match error {
        FileError::Io { error, .. } => error,
        FileError::Exists(_) => io::ErrorKind::AlreadyExists.into(),
        error => io::Error::other(error.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> tempfile::TempDir {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("to")).unwrap();
        fs::write(dir.path().join("a"), "light").unwrap();
        dir
    }

    #[test]
    fn nothing_is_ever_replaced() {
        let dir = folder();
        let (from, to) = (dir.path().join("a"), dir.path().join("to/a"));
        fs::write(&to, "another's").unwrap();
        for transfer in [move_new, copy_new, rename_new, link_and_remove] {
            let e = transfer(&from, &to).unwrap_err();
            assert_eq!(e.kind(), io::ErrorKind::AlreadyExists);
            assert_eq!(fs::read_to_string(&to).unwrap(), "another's");
            assert_eq!(fs::read_to_string(&from).unwrap(), "light");
        }
    }

    #[test]
    fn a_copy_has_the_original_s_time_and_a_move_leaves_nothing() {
        let dir = folder();
        let (from, to) = (dir.path().join("a"), dir.path().join("to/a"));
        let then =
            std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1_000_000_000);
        File::options()
            .write(true)
            .open(&from)
            .unwrap()
            .set_modified(then)
            .unwrap();
        copy_new(&from, &to).unwrap();
        assert_eq!(to.metadata().unwrap().modified().unwrap(), then);
        fs::remove_file(&to).unwrap();
        move_new(&from, &to).unwrap();
        assert!(!from.exists() && fs::read_to_string(&to).unwrap() == "light");
        move_new(&to, &from).unwrap();
        link_and_remove(&from, &to).unwrap();
        assert!(!from.exists() && to.exists());
    }

    #[test]
    fn an_original_that_is_gone_leaves_its_copy_alone() {
        let dir = folder();
        let to = dir.path().join("to/a");
        fs::copy(dir.path().join("a"), &to).unwrap();
        fs::remove_file(dir.path().join("a")).unwrap();
        remove_or_undo(&dir.path().join("a"), &to).unwrap();
        assert_eq!(fs::read_to_string(&to).unwrap(), "light");
        // A folder cannot be removed as a file: then the copy goes, and the original stays.
        fs::create_dir(dir.path().join("b")).unwrap();
        let e = remove_or_undo(&dir.path().join("b"), &to).unwrap_err();
        assert!(e.to_string().contains("cannot be removed"), "{e}");
        assert!(dir.path().join("b").exists() && !to.exists());
    }

    #[cfg(unix)]
    #[test]
    fn a_link_leads_where_it_led() {
        let dir = folder();
        let (from, to) = (dir.path().join("link"), dir.path().join("to/link"));
        std::os::unix::fs::symlink("a", &from).unwrap();
        move_new(&from, &to).unwrap();
        assert!(to.symlink_metadata().unwrap().is_symlink());
        assert_eq!(fs::read_to_string(&to).unwrap(), "light");
        assert!(from.symlink_metadata().is_err());
    }

    #[cfg(target_os = "linux")]
    #[test]
    fn between_file_systems_the_original_goes_when_the_copy_stands() {
        use std::os::unix::fs::MetadataExt;
        let dir = folder();
        let Ok(other) = tempfile::tempdir_in("/dev/shm") else {
            return;
        };
        if other.path().metadata().unwrap().dev() == dir.path().metadata().unwrap().dev() {
            return;
        }
        let (from, to) = (dir.path().join("a"), other.path().join("a"));
        let time = from.metadata().unwrap().modified().unwrap();
        move_new(&from, &to).unwrap();
        assert!(!from.exists());
        assert_eq!(fs::read_to_string(&to).unwrap(), "light");
        assert_eq!(to.metadata().unwrap().modified().unwrap(), time);
    }
}
