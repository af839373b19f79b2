//! A float FITS file, written tile by tile.

use jigsawa_core::doors::{DoorError, TileSink};
use jigsawa_core::space::{Rect, Size};

use super::card::{free_records, text_records};
use super::handle::Handle;
use crate::error::FileError;
use crate::whole::Unfinished;

/// A linear 32-bit float image of one or three planes in the making.
///
/// Tiles come in row order; a band of them is kept until its last tile is there and then written as
/// whole rows, which the disk likes better than pieces.
pub struct FitsWriter {
    handle: Handle,
    file: Unfinished,
    size: Size,
    planes: usize,
    /// Planes of the current band, one after the other.
    band: Vec<f32>,
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
    /// When the library cannot create the file or its header.
    pub fn create(
        file: Unfinished,
        size: Size,
        planes: usize,
        depth: Depth,
        cards: &Cards,
    ) -> Result<Self, FileError> {
        // The library wants to make the file itself.
        std::fs::remove_file(file.path()).map_err(FileError::io("cannot write into the folder"))?;
        let mut handle = Handle::create(file.path())?;
        let mut axes = vec![size.width() as i64, size.height() as i64];
        if planes > 1 {
            axes.push(planes as i64);
        }
        handle.create_image(&axes, depth == Depth::Sixteen)?;
        for record in &cards.records {
            handle.write_record(record)?;
        }
        Ok(Self {
            handle,
            file,
            size,
            planes,
            band: Vec::new(),
            band_rows: 0,
        })
    }

    /// Completes the file, still under its temporary name.
    ///
    /// # Errors
    /// When the disk does not take the last of it.
    pub fn complete(self) -> Result<Unfinished, FileError> {
        self.handle.close()?;
        Ok(self.file)
    }

    fn put_tile(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), FileError> {
        let width = self.size.width();
        if rect.x == 0 {
            self.band_rows = rect.height;
            // Fully overwritten by the band's tiles: old values need no clearing.
            self.band.resize(self.planes * width * rect.height, 0.0);
        }
        for (p, tile) in planes.iter().enumerate() {
            for (r, row) in tile.chunks_exact(rect.width).enumerate() {
                let at = (p * self.band_rows + r) * width + rect.x as usize;
                self.band[at..at + rect.width].copy_from_slice(row);
            }
        }
        if rect.right() == width as i64 {
            let plane_len = width * self.band_rows;
            for (p, rows) in self.band.chunks_exact_mut(plane_len).enumerate() {
                self.handle.write_rows(p, rect.y as usize, rows)?;
            }
        }
        Ok(())
    }
}

impl TileSink for FitsWriter {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        self.put_tile(rect, planes)
            .map_err(|e| DoorError(Box::new(e)))
    }
}
