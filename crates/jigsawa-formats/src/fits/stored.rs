//! A file as a stream, for headers: read where cards are, and passed over in between.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

use super::pool;
use super::unit::Stream;
use crate::error::FileError;

/// A file that is stored as it is, read from start to end.
pub(super) struct Whole {
    file: File,
    bytes: u64,
    at: u64,
}

impl Whole {
    pub(super) fn open(path: &Path) -> Result<Self, FileError> {
        let file = pool::open(path)?;
        let about = file.metadata().map_err(FileError::io("cannot open it"))?;
        Ok(Self {
            file,
            bytes: about.len(),
            at: 0,
        })
    }
}

impl Stream for Whole {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let found = self.file.read(into)?;
        self.at += found as u64;
        Ok(found)
    }

    fn skip(&mut self, bytes: u64) -> io::Result<u64> {
        let passed = bytes.min(self.at_most());
        self.at = self.file.seek(SeekFrom::Start(self.at + passed))?;
        Ok(passed)
    }

    fn at_most(&self) -> u64 {
        self.bytes.saturating_sub(self.at)
    }
}
