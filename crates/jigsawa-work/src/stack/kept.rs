//! Masters that are done, kept beside the results until the whole stack is: a run that is stopped is not begun anew.
//!
//! A master and its map lie in the cache as further names of the same files (hard links), which cost no space and no time
//! to make, with what else was found and the hash of every byte, so that what a power cut has left half-written is as
//! good as none.

use std::fs::{self, File};
use std::io::{self, Read, Seek};
use std::path::{Path, PathBuf};

use jigsawa_core::layout::Layout;
use jigsawa_core::resample::Shape;
use jigsawa_formats::whole::{self, Unfinished};

use super::lights::StackSettings;
use super::master::{Master, Paths};
use super::sets::Set;
use super::write::merge_set;
use crate::normalize::KnownFrames;
use crate::outputs::{begin, recipe_step};
use crate::run::Run;
use crate::trouble::Trouble;

/// Changes whenever a master of the same frames comes out otherwise.
const VERSION: u32 = 1;

/// Bytes of the hash that what is kept begins with.
const HASH: usize = 32;

/// Masters that are kept from one run to the next.
pub struct Kept {
    /// Where they lie; nothing where nothing is kept.
    folder: Option<PathBuf>,
}

/// The files of one master.
struct Names {
    master: PathBuf,
    map: PathBuf,
    told: PathBuf,
}

impl Kept {
    /// Those of a run.
    pub fn of(run: &Run<'_>) -> Self {
        Self {
            folder: run.store.lasting().map(Path::to_owned),
        }
    }

    /// A set's master: as an earlier run, which was stopped, has left it, else merged now. It is kept for a next run where
    /// `more` is to be done in this one.
    pub fn merged(
        &self,
        set: &Set,
        known: (&KnownFrames<'_>, &Layout),
        place: (&Paths, bool),
        how: (&StackSettings, Shape),
        (run, more): (&Run<'_>, bool),
    ) -> Result<Master, Trouble> {
        let Some(names) = self.names(set, known, how, run) else {
            return merge_set(set, known, place, how, run);
        };
        if let Some(master) = taken(&names, place)? {
            tracing::info!("the master of {} was done already", set.name());
            return Ok(master);
        }
        let master = merge_set(set, known, place, how, run)?;
        if more && let Err(e) = laid_by(&master, &names) {
            tracing::info!("a master that is done cannot be kept: {e}");
        }
        Ok(master)
    }

    /// All is done: what was kept is not needed any more, and neither is what earlier runs have left.
    pub fn clear(&self) {
        let entries = self.folder.iter().flat_map(fs::read_dir).flatten();
        for path in entries.flatten().map(|e| e.path()) {
            let own = ["master", "map", "stack"];
            if path
                .extension()
                .is_some_and(|e| own.iter().any(|o| e == *o))
            {
                let _ = fs::remove_file(&path);
            }
        }
    }

    /// Names by all that a master depends on; none where something cannot be read.
    fn names(
        &self,
        set: &Set,
        (known, layout): (&KnownFrames<'_>, &Layout),
        (how, shape): (&StackSettings, Shape),
        run: &Run<'_>,
    ) -> Option<Names> {
        let folder = self.folder.as_ref()?;
        let mut hash = blake3::Hasher::new();
        let mut put = |text: &str| {
            hash.update(&(text.len() as u64).to_le_bytes());
            hash.update(text.as_bytes());
        };
        put(&format!("{VERSION} {}", env!("CARGO_PKG_VERSION")));
        put(&format!(
            "{:?} {how:?} {shape:?} {:?}",
            set.planes,
            recipe_step()
        ));
        put(&serde_json::to_string(layout).ok()?);
        for i in set.all() {
            let frame = &known.frames[i];
            put(&run.store.fingerprint(&frame.path)?);
            put(frame.reading().unwrap_or_default());
            // What moves is held still by other placements than the layout's.
            put(&format!("{:?}", known.placements[i]));
        }
        let key = &hash.finalize().to_hex()[..24];
        let file = |ending: &str| folder.join(format!("{key}.{ending}"));
        Some(Names {
            master: file("master"),
            map: file("map"),
            told: file("stack"),
        })
    }
}

/// Keeps a master.
fn laid_by(master: &Master, names: &Names) -> io::Result<()> {
    if let Some(folder) = names.told.parent() {
        fs::create_dir_all(folder)?;
    }
    let link = |from: &Unfinished, to: &Path| {
        let _ = fs::remove_file(to);
        fs::hard_link(from.path(), to)?;
        hash_of(to)
    };
    let told = master.with(
        link(&master.file, &names.master)?,
        link(&master.map, &names.map)?,
    );
    let told = postcard::to_stdvec(&told).map_err(io::Error::other)?;
    let mut bytes = blake3::hash(&told).as_bytes().to_vec();
    bytes.extend(told);
    whole::replace(&names.told, &bytes)
}

/// A master that was kept, as files under temporary names; nothing where it is not there or not whole.
fn taken(names: &Names, (paths, overwrite): (&Paths, bool)) -> Result<Option<Master>, Trouble> {
    let Some(told) = read(&names.told) else {
        return Ok(None);
    };
    let is_whole = |file: &Path, hash: &str| hash_of(file).is_ok_and(|h| h == hash);
    if !is_whole(&names.master, &told.file) || !is_whole(&names.map, &told.map) {
        return Ok(None);
    }
    let copied = |from: &Path, to: &Path| -> Result<Unfinished, Trouble> {
        let file = begin(to, overwrite)?;
        let wrong = |error| Trouble::Write {
            file: to.to_owned(),
            error,
        };
        let mut out = file.file().map_err(wrong)?;
        let copy = File::open(from)
            .and_then(|mut from| out.rewind().and_then(|()| io::copy(&mut from, &mut out)));
        copy.map_err(jigsawa_formats::error::FileError::io("cannot write it"))
            .map_err(wrong)?;
        Ok(file)
    };
    let file = copied(&names.master, &paths.master)?;
    let map = copied(&names.map, &paths.map)?;
    Ok(Some(told.with(file, map)))
}

/// What was found besides the pixels.
fn read(file: &Path) -> Option<Master<String>> {
    let bytes = fs::read(file).ok()?;
    let (hash, told) = bytes.split_at_checked(HASH)?;
    if blake3::hash(told).as_bytes() != hash {
        return None;
    }
    postcard::from_bytes(told).ok()
}

/// The hash of every byte.
fn hash_of(file: &Path) -> io::Result<String> {
    let mut hash = blake3::Hasher::new();
    let (mut file, mut part) = (File::open(file)?, vec![0; 1 << 18]);
    loop {
        match file.read(&mut part)? {
            0 => break,
            n => hash.update(&part[..n]),
        };
    }
    Ok(hash.finalize().to_hex().to_string())
}
