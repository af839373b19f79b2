//! The plain FITS file that an image of another format is unpacked into: it vanishes with the frame.

use std::fs::File;
use std::io::{BufWriter, Write};

use super::stored::Whole;
use super::unit::{Unit, image};
use super::unzip::{Unzipped, keeping};
use crate::error::FileError;

/// A file in the making.
pub(super) struct Unpacking {
    file: Unzipped,
    out: BufWriter<File>,
    bytes: usize,
}

impl Unpacking {
    /// Begins with these records; `END` is added.
    ///
    /// # Errors
    /// When the temporary folder takes no file.
    pub(super) fn begin(records: &[String]) -> Result<Self, FileError> {
        let file = Unzipped::new().map_err(keeping())?;
        let out = File::create_new(file.path()).map_err(keeping())?;
        let mut head = String::new();
        for record in records.iter().map(String::as_str).chain(["END"]) {
            head.extend(record.chars().chain(std::iter::repeat(' ')).take(80));
        }
        let padded = head.len().next_multiple_of(2880);
        let mut out = BufWriter::with_capacity(1 << 18, out);
        out.write_all(format!("{head:<padded$}").as_bytes())
            .map_err(keeping())?;
        Ok(Self {
            file,
            out,
            bytes: 0,
        })
    }

    /// Adds stored bytes.
    ///
    /// # Errors
    /// When the disk takes no more.
    pub(super) fn put(&mut self, bytes: &[u8]) -> Result<(), FileError> {
        self.bytes += bytes.len();
        self.out.write_all(bytes).map_err(keeping())
    }

    /// The file as an image.
    ///
    /// # Errors
    /// When the disk takes no more, or what was written is no image.
    pub(super) fn done(mut self) -> Result<(Unit, Unzipped), FileError> {
        let zeros = vec![0; self.bytes.next_multiple_of(2880) - self.bytes];
        self.out.write_all(&zeros).map_err(keeping())?;
        self.out.flush().map_err(keeping())?;
        drop(self.out);
        let unit = image(&mut Whole::open(self.file.path())?, None)?;
        Ok((unit, self.file))
    }
}

/// The records that every image begins with: numbers of so many bits in so many planes of a size, the first row on top.
pub(super) fn shape(bitpix: i32, [width, height]: [usize; 2], planes: usize) -> Vec<String> {
    let mut all = vec![
        format!("{:<8}= {:>20}", "SIMPLE", "T"),
        format!("{:<8}= {bitpix:>20}", "BITPIX"),
        whole("NAXIS", if planes == 3 { 3 } else { 2 }),
        whole("NAXIS1", width),
        whole("NAXIS2", height),
    ];
    if planes == 3 {
        all.push(whole("NAXIS3", 3));
    }
    if bitpix == 16 {
        // Half of the range lower, as FITS stores what has no sign.
        all.push(number("BZERO", 32_768.0));
        all.push(number("BSCALE", 1.0));
    }
    all.push(text("ROWORDER", "TOP-DOWN"));
    all
}

pub(super) fn number(name: &str, v: f64) -> String {
    format!("{name:<8}= {:>20}", format!("{v:?}"))
}

pub(super) fn whole(name: &str, v: usize) -> String {
    format!("{name:<8}= {v:>20}")
}

pub(super) fn text(name: &str, v: &str) -> String {
    let plain: String = v.chars().filter(|c| (' '..='~').contains(c)).collect();
    format!("{name:<8}= '{}'", plain.trim().replace('\'', ""))
}
