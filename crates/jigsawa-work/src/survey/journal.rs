//! Moves of originals, written down before the first of them: what goes where stands on the disk in the folder that they
//! go to, until all are there. A run that was killed or stopped by a full disk is gone on with by the next one, exactly
//! as it was decided.

use std::fs::{self, File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};

use jigsawa_formats::error::FileError;
use jigsawa_formats::whole::Unfinished;
use serde::{Deserialize, Serialize};

use super::transfer::{are_same, move_new, remove_or_undo, sync_folder};
use crate::foreign::{name_of, path_of};
use crate::outputs::make_folder;
use crate::trouble::Trouble;

/// The journal's name in the folder that originals go to.
const NAME: &str = ".jigsawa-moves.json";

/// Version of its form.
const FORMAT: u32 = 1;

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    format: u32,
    moves: Vec<Move>,
}

/// From, to: absolute, as names that [`path_of`] reads.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Move {
    from: String,
    to: String,
}

/// Moves under way.
pub struct Journal {
    path: PathBuf,
    moves: Vec<(PathBuf, PathBuf)>,
    /// Holds other runs off as long as it is open.
    _lock: File,
}

/// What is true of a move.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// The original is where it was.
    Waits,
    /// It is where it goes.
    Done,
    /// It is in both places: it was about to go from the first.
    Twice,
    /// Another file has the name by now.
    Taken,
    /// It is nowhere: somebody else has moved it.
    Gone,
}

/// What has come of an interrupted run.
#[derive(Debug)]
pub struct Resumed {
    /// Moves of that run.
    pub of: usize,
    /// Those that were done now: from, to.
    pub moved: Vec<(PathBuf, PathBuf)>,
    /// Originals that are in neither place any more.
    pub gone: Vec<PathBuf>,
}

impl Journal {
    /// Writes down what is to be moved.
    pub fn begin(folder: &Path, moves: &[(PathBuf, PathBuf)]) -> Result<Self, Trouble> {
        make_folder(folder)?;
        let absolute = |p: &Path| std::path::absolute(p).map_err(|e| cannot_write(folder, e));
        let moves: Vec<(PathBuf, PathBuf)> = moves
            .iter()
            .map(|(from, to)| Ok((absolute(from)?, absolute(to)?)))
            .collect::<Result<_, Trouble>>()?;
        let written = Written {
            format: FORMAT,
            moves: moves
                .iter()
                .map(|(from, to)| Move {
                    from: name_of(from),
                    to: name_of(to),
                })
                .collect(),
        };
        let text = serde_json::to_string_pretty(&written)
            .map_err(|e| cannot_write(folder, io::Error::other(e)))?;
        let path = folder.join(NAME);
        let of_file = |e| match e {
            FileError::Exists(_) => Trouble::MovesUnderWay(folder.to_owned()),
            FileError::Io { error, .. } => cannot_write(folder, error),
            e => cannot_write(folder, io::Error::other(e.to_string())),
        };
        let file = Unfinished::new(&path, false).map_err(of_file)?;
        // The lock of the temporary file goes on under its new name.
        let lock = file.file().map_err(of_file)?;
        file.fill(text.as_bytes()).map_err(of_file)?;
        file.finish().map_err(of_file)?;
        sync_folder(&path).map_err(|e| cannot_write(folder, e))?;
        Ok(Self {
            path,
            moves,
            _lock: lock,
        })
    }

    /// The journal that an interrupted run has left in a folder.
    pub fn left_in(folder: &Path) -> Result<Option<Self>, Trouble> {
        let path = folder.join(NAME);
        let lock = match File::open(&path) {
            Ok(file) => file,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(cannot_read(&path, &e)),
        };
        if let Err(TryLockError::WouldBlock) = lock.try_lock() {
            return Err(Trouble::MovesUnderWay(folder.to_owned()));
        }
        let text = fs::read_to_string(&path).map_err(|e| cannot_read(&path, &e))?;
        let written: Written = serde_json::from_str(&text).map_err(|e| cannot_read(&path, &e))?;
        if written.format != FORMAT {
            return Err(cannot_read(&path, &"it is of another version"));
        }
        let moves = written
            .moves
            .iter()
            .map(|m| (path_of(&m.from), path_of(&m.to)))
            .collect();
        Ok(Some(Self {
            path,
            moves,
            _lock: lock,
        }))
    }

    /// How many originals have not gone yet.
    pub fn waiting(&self) -> usize {
        let waits = |(from, to): &&(PathBuf, PathBuf)| {
            matches!(state(from, to), State::Waits | State::Twice)
        };
        self.moves.iter().filter(waits).count()
    }

    /// Does what is still to be done, and ends the journal.
    pub fn carry_out(self) -> Result<Resumed, Trouble> {
        let (mut moved, mut gone) = (Vec::new(), Vec::new());
        for (done, (from, to)) in self.moves.iter().enumerate() {
            let failed = |error: String| Trouble::Carry {
                from: from.clone(),
                to: to.clone(),
                error,
                done,
                of: self.moves.len(),
                journal: Some(self.path.clone()),
            };
            if let Some(folder) = to.parent() {
                make_folder(folder)?;
            }
            let step = match state(from, to) {
                State::Waits => move_new(from, to),
                State::Twice => remove_or_undo(from, to),
                State::Taken => return Err(failed("another file has that name".to_owned())),
                State::Done => continue,
                State::Gone => {
                    gone.push(from.clone());
                    continue;
                }
            };
            step.map_err(|e| failed(e.to_string()))?;
            moved.push((from.clone(), to.clone()));
        }
        fs::remove_file(&self.path).map_err(|e| cannot_write(&self.path, e))?;
        Ok(Resumed {
            of: self.moves.len(),
            moved,
            gone,
        })
    }
}

fn state(from: &Path, to: &Path) -> State {
    let is_there = |p: &Path| p.symlink_metadata().is_ok();
    match (is_there(from), is_there(to)) {
        (true, false) => State::Waits,
        (false, true) => State::Done,
        (true, true) if are_same(from, to) => State::Twice,
        (true, true) => State::Taken,
        (false, false) => State::Gone,
    }
}

fn cannot_write(folder: &Path, error: io::Error) -> Trouble {
    Trouble::Folder {
        folder: folder.to_owned(),
        error,
    }
}

fn cannot_read(path: &Path, error: &dyn std::fmt::Display) -> Trouble {
    Trouble::Journal {
        file: path.to_owned(),
        error: error.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Three originals, and where they go.
    fn night() -> (tempfile::TempDir, Vec<(PathBuf, PathBuf)>) {
        let dir = tempfile::tempdir().unwrap();
        let moves: Vec<(PathBuf, PathBuf)> = ["a", "b", "c"]
            .map(|n| {
                fs::write(dir.path().join(n), n).unwrap();
                (dir.path().join(n), dir.path().join("rest").join(n))
            })
            .to_vec();
        (dir, moves)
    }

    #[test]
    fn an_interrupted_run_is_gone_on_with_from_every_state() {
        let (dir, moves) = night();
        let rest = dir.path().join("rest");
        drop(Journal::begin(&rest, &moves).unwrap());
        // Killed after the first, in the middle of the second.
        fs::rename(&moves[0].0, &moves[0].1).unwrap();
        fs::copy(&moves[1].0, &moves[1].1).unwrap();
        let left = Journal::left_in(&rest).unwrap().unwrap();
        assert_eq!(left.waiting(), 2);
        let resumed = left.carry_out().unwrap();
        assert_eq!((resumed.of, resumed.moved.len()), (3, 2));
        for (from, to) in &moves {
            assert!(!from.exists() && to.exists());
        }
        assert!(Journal::left_in(&rest).unwrap().is_none());
    }

    #[test]
    fn nothing_is_replaced_and_the_journal_stays_until_all_is_done() {
        let (dir, moves) = night();
        let rest = dir.path().join("rest");
        drop(Journal::begin(&rest, &moves).unwrap());
        fs::write(&moves[1].1, "another's").unwrap();
        let stopped = Journal::left_in(&rest).unwrap().unwrap().carry_out();
        assert!(matches!(
            stopped,
            Err(Trouble::Carry { done: 1, of: 3, .. })
        ));
        assert_eq!(fs::read_to_string(&moves[1].1).unwrap(), "another's");
        assert!(moves[0].1.exists() && moves[1].0.exists() && moves[2].0.exists());
        fs::remove_file(&moves[1].1).unwrap();
        fs::remove_file(&moves[2].0).unwrap();
        let resumed = Journal::left_in(&rest)
            .unwrap()
            .unwrap()
            .carry_out()
            .unwrap();
        assert_eq!((resumed.moved.len(), resumed.gone.len()), (1, 1));
    }

    #[test]
    fn two_runs_do_not_move_into_one_folder() {
        let (dir, moves) = night();
        let rest = dir.path().join("rest");
        let first = Journal::begin(&rest, &moves).unwrap();
        assert!(matches!(
            Journal::begin(&rest, &moves),
            Err(Trouble::MovesUnderWay(_))
        ));
        assert!(matches!(
            Journal::left_in(&rest),
            Err(Trouble::MovesUnderWay(_))
        ));
        first.carry_out().unwrap();
        fs::write(rest.join(NAME), "{").unwrap();
        assert!(matches!(
            Journal::left_in(&rest),
            Err(Trouble::Journal { .. })
        ));
    }
}
