//! A FITS file, written tile by tile: the header first, the pixels straight to their places.

use jigsawa_core::number::Convert;
use std::fs;
use std::io::{Seek, SeekFrom, Write};

use jigsawa_core::doors::{DoorError, TileSink};
use jigsawa_core::space::{Rect, Size};
use multiversion::multiversion;

use super::card::{free_records, text_records};
use crate::error::FileError;
use crate::whole::Unfinished;

/// An image of one or more planes in the making.
///
/// Tiles come in row order; a band of them is kept until its last tile is there and then written as
/// whole rows, which the disk likes better than pieces.
pub struct FitsWriter {
    /// The file, past its header.
    out: fs::File,
    file: Unfinished,
    size: Size,
    planes: usize,
    depth: Depth,
    /// Where the first pixel's first byte is.
    data: u64,
    /// Bytes of the current band as the file has them, its planes one after the other.
    band: Vec<u8>,
    band_rows: usize,
}

/// What goes into the header of a result.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Cards {
    records: Vec<String>,
}

impl Cards {
    /// A card with text.
    pub fn text(&mut self, name: &str, value: &str, comment: &str) {
        self.records.extend(text_records(name, value, comment));
    }

    /// A card with a number.
    pub fn number(&mut self, name: &str, value: f64, comment: &str) {
        let mut record = format!(
            "{name:<8}= {:>20}",
            format!("{:?}", value + 0.0).to_uppercase()
        );
        if !comment.is_empty() && record.len() + comment.len() + 3 <= 80 {
            record = format!("{record} / {comment}");
        }
        self.records.push(record);
    }

    /// A line of history.
    pub fn history(&mut self, text: &str) {
        self.records.extend(free_records("HISTORY", text));
    }

    /// All records.
    pub fn records(&self) -> Vec<String> {
        self.records.clone()
    }

    /// A record as it stood in another header.
    pub fn record(&mut self, record: &str) {
        self.records.push(record.trim_end().to_owned());
    }
}

/// The numbers of an image in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// 32-bit float.
    Float,
    /// Whole numbers from 0 to 65535; values are rounded, NaN cannot be kept.
    Sixteen,
}

impl FitsWriter {
    /// Begins a file with these cards.
    ///
    /// # Errors
    /// When the disk does not take the header.
    pub fn create(
        file: Unfinished,
        size: Size,
        planes: usize,
        depth: Depth,
        cards: &Cards,
    ) -> Result<Self, FileError> {
        let header = header(size, planes, depth, cards);
        let pixels = (size.area() * planes * depth.bytes()) as u64;
        let data = header.len() as u64;
        let end = (data + pixels).next_multiple_of(BLOCK as u64);
        let mut out = file.file()?;
        out.write_all(&header)
            .and_then(|()| out.set_len(end))
            .map_err(FileError::io("cannot write into the folder"))?;
        Ok(Self {
            out,
            file,
            size,
            planes,
            depth,
            data,
            band: Vec::new(),
            band_rows: 0,
        })
    }

    /// Writes a part over what is there, once all tiles are.
    ///
    /// # Errors
    /// When the disk does not take it.
    pub fn patch(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), FileError> {
        let (width, bytes) = (self.size.width(), self.depth.bytes());
        let mut line = vec![0u8; rect.width * bytes];
        for (p, part) in planes.iter().enumerate() {
            for (y, row) in (rect.y.index()..).zip(part.chunks_exact(rect.width)) {
                self.depth.write(row, &mut line);
                let pixel = (p * self.size.height() + y) * width + rect.x.index();
                let at = SeekFrom::Start(self.data + (pixel * bytes) as u64);
                let written = self.out.seek(at).and_then(|_| self.out.write_all(&line));
                written.map_err(FileError::io(PIXELS))?;
            }
        }
        Ok(())
    }

    /// Completes the file, still under its temporary name.
    ///
    /// # Errors
    /// When the disk does not take the last of it.
    pub fn complete(mut self) -> Result<Unfinished, FileError> {
        self.out.flush().map_err(FileError::io(PIXELS))?;
        Ok(self.file)
    }

    fn put_tile(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), FileError> {
        let (width, bytes) = (self.size.width(), self.depth.bytes());
        if rect.x == 0 {
            self.band_rows = rect.height;
            // Fully overwritten by the band's tiles: old values need no clearing.
            self.band
                .resize(self.planes * width * rect.height * bytes, 0);
        }
        for (p, tile) in planes.iter().enumerate() {
            for (r, row) in tile.chunks_exact(rect.width).enumerate() {
                let at = ((p * self.band_rows + r) * width + rect.x.index()) * bytes;
                let to = &mut self.band[at..at + rect.width * bytes];
                self.depth.write(row, to);
            }
        }
        if rect.right() == width.whole() {
            let plane_bytes = width * self.band_rows * bytes;
            let mut write = || -> std::io::Result<()> {
                for (p, rows) in self.band.chunks_exact(plane_bytes).enumerate() {
                    let row = p * self.size.height() + rect.y.index();
                    let at = self.data + (row * width * bytes) as u64;
                    self.out.seek(SeekFrom::Start(at))?;
                    self.out.write_all(rows)?;
                }
                Ok(())
            };
            write().map_err(FileError::io(PIXELS))?;
        }
        Ok(())
    }
}

/// Bytes of a block.
const BLOCK: usize = 2880;

/// The header in whole blocks: what the standard asks for first, then these cards.
fn header(size: Size, planes: usize, depth: Depth, cards: &Cards) -> Vec<u8> {
    let mut first = Cards::default();
    let mut fixed = |name: &str, value: &str, comment: &str| {
        first.record(&format!("{name:<8}= {value:>20} / {comment}"));
    };
    fixed("SIMPLE", "T", "file does conform to FITS standard");
    fixed("BITPIX", depth.bitpix(), "number of bits per data pixel");
    fixed(
        "NAXIS",
        if planes > 1 { "3" } else { "2" },
        "number of data axes",
    );
    let sides = [size.width(), size.height(), planes];
    for (i, side) in sides
        .iter()
        .take(if planes > 1 { 3 } else { 2 })
        .enumerate()
    {
        let name = format!("NAXIS{}", i + 1);
        let comment = format!("length of data axis {}", i + 1);
        fixed(&name, &side.to_string(), &comment);
    }
    fixed("EXTEND", "T", "FITS dataset may contain extensions");
    if depth == Depth::Sixteen {
        fixed(
            "BZERO",
            "32768",
            "offset data range to that of unsigned short",
        );
        fixed("BSCALE", "1", "default scaling factor");
    }
    let mut bytes = Vec::new();
    for record in first.records.iter().chain(&cards.records) {
        // A record of another header may be longer than ours may be.
        bytes.extend(format!("{record:<80}").bytes().take(80));
    }
    bytes.extend(format!("{:<80}", "END").bytes());
    bytes.resize(bytes.len().next_multiple_of(BLOCK), b' ');
    bytes
}

/// What fails when the disk is full.
const PIXELS: &str = "cannot write the pixels";

impl Depth {
    const fn bitpix(self) -> &'static str {
        match self {
            Self::Float => "-32",
            Self::Sixteen => "16",
        }
    }

    const fn bytes(self) -> usize {
        match self {
            Self::Float => 4,
            Self::Sixteen => 2,
        }
    }

    /// Values as the file has them.
    fn write(self, row: &[f32], to: &mut [u8]) {
        match self {
            Self::Float => floats(row, to),
            Self::Sixteen => sixteen(row, to),
        }
    }
}

/// Values as big-endian floats. The library's own way, through its buffers, took twice the time.
#[multiversion(targets("x86_64+avx2"))]
fn floats(row: &[f32], to: &mut [u8]) {
    let (cells, _) = to.as_chunks_mut::<4>();
    for (cell, v) in cells.iter_mut().zip(row) {
        *cell = v.to_be_bytes();
    }
}

/// Values as big-endian unsigned 16-bit numbers: signed ones, with the zero at 32768.
#[multiversion(targets("x86_64+avx2"))]
fn sixteen(row: &[f32], to: &mut [u8]) {
    let (cells, _) = to.as_chunks_mut::<2>();
    for (cell, v) in cells.iter_mut().zip(row) {
        // A conversion from float cuts fractions off, holds to the bounds, and makes NaN 0.
        let whole = (v + 0.5).u16();
        *cell = (i32::from(whole) - 32_768).i16().to_be_bytes();
    }
}

impl TileSink for FitsWriter {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        self.put_tile(rect, planes)
            .map_err(|e| DoorError(Box::new(e)))
    }
}
