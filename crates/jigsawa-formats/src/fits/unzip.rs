//! A gzip file (RFC 1952) inflated as far as its first image needs: into a file that vanishes with the frame, through
//! buffers of some kilobytes.
//!
//! What lies behind the image is not inflated, so a small file that would inflate to gigabytes costs what its header
//! promises. Inflating into memory, as the C library does, held every frame of a night there at once.

use jigsawa_core::number::Convert;
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use flate2::bufread::GzDecoder;

use super::pool;
use super::unit::{Stream, Unit, image, truncated};
use crate::error::FileError;
use crate::scratch::Scratch;
use crate::select::Choice;

/// Deflate's best: so many bytes out of one.
const BEST: u64 = 1032;

/// Bytes behind the image that are inflated to come to the end of the file, where its checksum stands.
const BEHIND: u64 = 1 << 20;

/// What is said where the temporary folder takes no more.
pub(super) fn keeping() -> impl FnOnce(io::Error) -> FileError {
    FileError::io("cannot unpack it into the folder for temporary files")
}

/// The inflated file, which vanishes with this.
pub(super) struct Unzipped {
    path: PathBuf,
    _folder: Arc<Scratch>,
}

impl Unzipped {
    /// A name for it.
    pub(super) fn new() -> io::Result<Self> {
        static NUMBER: AtomicU64 = AtomicU64::new(0);
        let folder = Scratch::shared()?;
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        Ok(Self {
            path: folder.path().join(format!("{number}.fits")),
            _folder: folder,
        })
    }

    /// Where it is.
    pub(super) fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for Unzipped {
    fn drop(&mut self) {
        // The folder goes with the last of them, and takes what is left along.
        let _ = fs::remove_file(&self.path);
    }
}

/// Inflates a file up to the end of its first image, or the chosen one.
///
/// # Errors
/// When it is damaged or cut short, has no image, or the disk takes no more.
pub(super) fn unzip(path: &Path, choice: Option<&Choice>) -> Result<(Unit, Unzipped), FileError> {
    let file = pool::open(path)?;
    let packed = file.metadata().map_err(FileError::io("cannot open it"))?;
    let unzipped = Unzipped::new().map_err(keeping())?;
    let to = File::create_new(unzipped.path()).map_err(keeping())?;
    let mut stream = Inflating {
        from: Some(GzDecoder::new(BufReader::with_capacity(1 << 16, file))),
        to: BufWriter::with_capacity(1 << 16, to),
        inflated: 0,
        most: packed.len().saturating_mul(BEST),
    };
    let unit = image(&mut stream, choice)?;
    let unpacking = || FileError::io("cannot unpack it");
    let found = stream.skip(unit.bytes).map_err(unpacking())?;
    if found < unit.bytes {
        return Err(truncated(unit.data, unit.bytes, found));
    }
    let padding = unit.bytes.next_multiple_of(2880) - unit.bytes;
    let padded = stream.skip(padding).map_err(unpacking())?;
    let zeros = vec![0; (padding - padded).index()];
    stream.to.write_all(&zeros).map_err(unpacking())?;
    stream.to.flush().map_err(unpacking())?;
    stream.check_end().map_err(unpacking())?;
    Ok((unit, unzipped))
}

/// What is inflated is kept on the way.
struct Inflating {
    /// The member of the file that is inflated now; none at the end.
    from: Option<GzDecoder<BufReader<File>>>,
    to: BufWriter<File>,
    inflated: u64,
    /// What the file can inflate to at most.
    most: u64,
}

impl Inflating {
    /// Inflates on, from member to member; what follows the last one is no part of the file.
    fn inflate(&mut self, into: &mut [u8]) -> io::Result<usize> {
        while let Some(mut from) = self.from.take() {
            let found = from.read(into)?;
            if found > 0 || into.is_empty() {
                self.from = Some(from);
                return Ok(found);
            }
            let mut rest = from.into_inner();
            if rest.fill_buf()?.starts_with(&[0x1f, 0x8b]) {
                self.from = Some(GzDecoder::new(rest));
            }
        }
        Ok(0)
    }

    /// Comes to the end of the file where that is near: its checksum is compared there.
    fn check_end(&mut self) -> io::Result<()> {
        let mut buffer = [0; 1 << 13];
        let mut passed = 0;
        while passed < BEHIND {
            match self.inflate(&mut buffer)? {
                0 => break,
                n => passed += n as u64,
            }
        }
        Ok(())
    }
}

impl Stream for Inflating {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let found = self.inflate(into)?;
        self.to.write_all(&into[..found])?;
        self.inflated += found as u64;
        Ok(found)
    }

    fn skip(&mut self, bytes: u64) -> io::Result<u64> {
        let mut buffer = vec![0; 1 << 16];
        let mut passed = 0;
        while passed < bytes {
            let most = buffer.len().min((bytes - passed).index());
            match self.read(&mut buffer[..most])? {
                0 => break,
                n => passed += n as u64,
            }
        }
        Ok(passed)
    }

    fn at_most(&self) -> u64 {
        self.most.saturating_sub(self.inflated)
    }
}
