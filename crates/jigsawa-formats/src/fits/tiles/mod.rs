//! Pixels of an image that is packed in tiles (FITS 4.0 §10): unpacked by our own code, which reads no byte outside of what a
//! tile's row of the table names, and makes no more values than the tile has.
//!
//! In: a header that `unit.rs` has checked. Out: windows of a plane, tile by tile. A tile that is damaged is an error. The
//! last tile of several rows is kept, since the next window mostly lies in it.

mod bits;
mod dither;
mod hcompress;
mod numbers;
mod plio;
mod rice;
mod table;

use jigsawa_core::number::Convert;
use std::fs::File;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use jigsawa_core::space::{Rect, Size};

use super::card::Header;
use super::place::read_at;
use super::pool::{self, Pooled};
use super::sense::sound;
use super::unit::{Unit, missing, tile_sides, whole};
use crate::error::{FileError, HeaderError};
use dither::Noise;
use numbers::{floats, in_order, inflated, integers, plain};
use table::{Column, Columns, Table, bytes_of, descriptor, number_in, value};

/// An image in tiles.
pub(super) struct Packed {
    file: Pooled<File>,
    size: Size,
    planes: usize,
    /// Width, height and planes of a tile.
    tile: [usize; 3],
    table: Table,
    method: Method,
    /// The image's BITPIX.
    bitpix: i32,
    columns: Columns,
    /// BSCALE and BZERO.
    scaling: (f64, f64),
    /// The number that means no data, for all tiles.
    blank: Option<i64>,
    noise: Option<Dither>,
    kept: Mutex<Option<(usize, Arc<Vec<f32>>)>>,
}

enum Method {
    Rice { block: usize, value_bytes: usize },
    Gzip { shuffled: bool },
    Lines,
    Tree,
    Plain,
}

#[derive(Clone, Copy)]
struct Dither {
    seed: usize,
    /// A number of its own stands for exact zeros.
    zeros: bool,
}

/// The number that stands for an exact zero.
const EXACT_ZERO: i64 = -2_147_483_646;

impl Packed {
    /// The image of a unit that has been checked.
    ///
    /// # Errors
    /// When its table lacks a column or a card, or is packed in a way that nobody knows.
    pub(super) fn new(path: &Path, unit: &Unit) -> Result<Self, FileError> {
        let h = &unit.header;
        let row_bytes = whole(h, "NAXIS1", 1..=u64::MAX)?.ok_or_else(|| missing("NAXIS1"))?;
        let rows = whole(h, "NAXIS2", 0..=u64::MAX)?.ok_or_else(|| missing("NAXIS2"))?;
        let heap = whole(h, "THEAP", 0..=unit.bytes)?.unwrap_or(row_bytes.saturating_mul(rows));
        let scaling = (
            h.number("BSCALE").unwrap_or(1.0),
            h.number("BZERO").unwrap_or(0.0),
        );
        if scaling.0 == 0.0 {
            return Err(value("BSCALE", "0").into());
        }
        let blank = ["ZBLANK", "BLANK"].iter().find_map(|n| h.number(n));
        Ok(Self {
            file: Pooled::new(path, pool::plain)?,
            size: unit.size,
            planes: unit.planes,
            tile: tile_sides(h)?.map(Convert::index),
            table: Table {
                data: unit.data,
                row_bytes,
                heap: unit.data + heap,
                heap_bytes: unit.bytes.saturating_sub(heap),
            },
            method: Method::of(h)?,
            bitpix: unit.bitpix,
            columns: Columns::of(h, row_bytes)?,
            scaling,
            blank: blank.map(Convert::whole),
            noise: Dither::of(h),
            kept: Mutex::new(None),
        })
    }

    /// Reads a window of a plane; what is blank, not a number or absurd is missing.
    ///
    /// # Errors
    /// When a tile is damaged, or what the disk says.
    pub(super) fn read(&self, plane: usize, rect: Rect, out: &mut [f32]) -> Result<(), FileError> {
        self.read_as_stored(plane, rect, out)?;
        for v in out.iter_mut().filter(|v| !sound(**v)) {
            *v = f32::NAN;
        }
        Ok(())
    }

    /// The same with absurd values as they are.
    ///
    /// # Errors
    /// When a tile is damaged, or what the disk says.
    pub(super) fn read_as_stored(
        &self,
        plane: usize,
        rect: Rect,
        out: &mut [f32],
    ) -> Result<(), FileError> {
        assert_eq!(out.len(), rect.area());
        if rect.is_empty() {
            return Ok(());
        }
        let file = self.file.get()?;
        let [tw, th, td] = self.tile;
        let (x0, y0) = (rect.x.index(), rect.y.index());
        let (x1, y1) = (x0 + rect.width, y0 + rect.height);
        for row in y0 / th..=(y1 - 1) / th {
            for column in x0 / tw..=(x1 - 1) / tw {
                let at = (column * tw, row * th, plane / td * td);
                let (w, h, _) = self.shape(at);
                let tile = self.unpacked(&file, at)?;
                // What both the tile and the window have.
                let (from, to) = (at.0.max(x0), (at.0 + w).min(x1));
                for y in at.1.max(y0)..(at.1 + h).min(y1) {
                    let line = ((plane - at.2) * h + y - at.1) * w;
                    let there = (y - y0) * rect.width;
                    out[there + from - x0..there + to - x0]
                        .copy_from_slice(&tile[line + from - at.0..line + to - at.0]);
                }
            }
        }
        Ok(())
    }

    /// Rows of as many whole tiles as have about so many.
    pub(super) const fn rows_of_tiles(&self, rows: usize) -> usize {
        self.tile[1] * rows.div_ceil(self.tile[1])
    }

    /// Width, height and planes of the tile that begins at a place: those at the edges are smaller.
    fn shape(&self, (x, y, z): (usize, usize, usize)) -> (usize, usize, usize) {
        let [tw, th, td] = self.tile;
        let (w, h) = (self.size.width(), self.size.height());
        (tw.min(w - x), th.min(h - y), td.min(self.planes - z))
    }

    /// The values of the tile that begins at a place.
    fn unpacked(&self, file: &File, at: (usize, usize, usize)) -> Result<Arc<Vec<f32>>, FileError> {
        let [tw, th, td] = self.tile;
        let across = self.size.width().div_ceil(tw);
        let down = self.size.height().div_ceil(th);
        let number = (at.2 / td * down + at.1 / th) * across + at.0 / tw;
        let kept = || self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, values)) = kept().as_ref().filter(|(n, _)| *n == number) {
            return Ok(Arc::clone(values));
        }
        let values = Arc::new(self.unpack(file, number, self.shape(at))?);
        if th > 1 {
            *kept() = Some((number, Arc::clone(&values)));
        }
        Ok(values)
    }

    fn unpack(
        &self,
        file: &File,
        number: usize,
        shape: (usize, usize, usize),
    ) -> Result<Vec<f32>, FileError> {
        let damaged = || FileError::Tile {
            number: number as u64 + 1,
        };
        let c = &self.columns;
        let count = shape.0 * shape.1 * shape.2;
        let mut row = vec![0; self.table.row_bytes.index()];
        let at = self.table.data + number as u64 * self.table.row_bytes;
        read_at(file, &mut row, at).map_err(reading)?;
        let heap = |column: Column| {
            self.bytes(file, column, &row, count)
                .map_err(|e| e.unwrap_or_else(damaged))
        };
        let packed = heap(c.packed)?;
        if packed.is_empty() {
            // What could not be packed in the usual way.
            let gzipped = c.gzipped.map(heap).transpose()?.filter(|b| !b.is_empty());
            if let Some(gzipped) = gzipped {
                return inflated(&gzipped, count)
                    .and_then(|bytes| floats(&bytes, count))
                    .ok_or_else(damaged);
            }
            let Some(column) = c.plain else {
                return Err(damaged());
            };
            return plain(&heap(column)?, column.of, count).ok_or_else(damaged);
        }
        if self.is_lossless() {
            let bytes = match self.method {
                Method::Gzip { shuffled } => {
                    inflated(&packed, count).map(|b| if shuffled { in_order(&b, count) } else { b })
                }
                Method::Plain => Some(packed),
                _ => None,
            };
            let values = bytes.and_then(|b| floats(&b, count)).ok_or_else(damaged)?;
            let (scale, zero) = self.scaling;
            if (scale, zero) == (1.0, 0.0) {
                return Ok(values);
            }
            let scaled = |v: f32| (scale * f64::from(v) + zero).single();
            return Ok(values.into_iter().map(scaled).collect());
        }
        let numbers = self.numbers(&packed, shape, count).ok_or_else(damaged)?;
        Ok(self.scaled(&numbers, &row, number))
    }

    /// Are the numbers floats themselves, and not whole numbers that stand for them?
    fn is_lossless(&self) -> bool {
        self.bitpix < 0 && self.columns.scale.is_none() && self.columns.constant.is_none()
    }

    /// The whole numbers of a tile.
    fn numbers(
        &self,
        packed: &[u8],
        (w, h, d): (usize, usize, usize),
        count: usize,
    ) -> Option<Vec<i64>> {
        let wide = |v: Vec<i32>| v.into_iter().map(i64::from).collect();
        match self.method {
            Method::Rice { block, value_bytes } => {
                rice::unpack(packed, value_bytes, block, count).map(wide)
            }
            Method::Gzip { shuffled } => {
                let bytes = inflated(packed, count)?;
                let bytes = if shuffled {
                    in_order(&bytes, count)
                } else {
                    bytes
                };
                integers(&bytes, count)
            }
            Method::Plain => integers(packed, count),
            Method::Lines => {
                let (words, _) = packed.as_chunks::<2>();
                let words: Vec<i16> = words.iter().map(|w| i16::from_be_bytes(*w)).collect();
                plio::unpack(&words, count).map(wide)
            }
            Method::Tree => hcompress::unpack(packed, (w, h * d)),
        }
    }

    /// Numbers into values.
    fn scaled(&self, numbers: &[i64], row: &[u8], tile: usize) -> Vec<f32> {
        let c = &self.columns;
        let (bscale, bzero) = self.scaling;
        let own = |column: Option<Column>| column.and_then(|c| number_in(row, c));
        let of_tile = own(c.scale).zip(own(c.zero)).or(c.constant);
        let (scale, zero) = match of_tile {
            Some((1.0, 0.0)) | None => (bscale, bzero),
            Some((scale, zero)) if self.bitpix < 0 => (scale * bscale, zero * bscale + bzero),
            Some(both) => both,
        };
        // Lists of lines hold no negative numbers: unsigned ones are stored without their zero.
        let zero = if matches!(self.method, Method::Lines) && bzero == 32_768.0 {
            zero - 32_768.0
        } else {
            zero
        };
        let blank = own(c.blank).map(Convert::whole).or(self.blank);
        let mut noise = self
            .noise
            .filter(|_| self.bitpix < 0)
            .map(|d| (Noise::new(tile, d.seed), d.zeros));
        numbers
            .iter()
            .map(|n| {
                let (shift, exact) = match &mut noise {
                    Some((noise, zeros)) => (0.5 - noise.next(), *zeros && *n == EXACT_ZERO),
                    None => (0.0, false),
                };
                match () {
                    () if Some(*n) == blank => f32::NAN,
                    () if exact => 0.0,
                    () => (((*n).real() + shift) * scale + zero).single(),
                }
            })
            .collect()
    }

    /// The bytes that a row names. An error of the system, or none for names that lead nowhere.
    fn bytes(
        &self,
        file: &File,
        column: Column,
        row: &[u8],
        pixels: usize,
    ) -> Result<Vec<u8>, Option<FileError>> {
        let (count, offset) = descriptor(row, column).ok_or(None)?;
        let bytes = count.checked_mul(bytes_of(column.of)).ok_or(None)?;
        let end = offset.checked_add(bytes).ok_or(None)?;
        // Nothing packs a pixel into more than twice what it takes.
        let most = 16 * pixels as u64 + 4096;
        if end > self.table.heap_bytes || bytes > most {
            return Err(None);
        }
        let mut found = vec![0; bytes.index()];
        read_at(file, &mut found, self.table.heap + offset).map_err(|e| Some(reading(e)))?;
        Ok(found)
    }
}

fn reading(error: std::io::Error) -> FileError {
    match error.kind() {
        std::io::ErrorKind::UnexpectedEof => FileError::Changed,
        _ => FileError::io("cannot read its pixels")(error),
    }
}

impl Method {
    fn of(h: &Header) -> Result<Self, HeaderError> {
        let name = h.text("ZCMPTYPE").ok_or_else(|| missing("ZCMPTYPE"))?;
        // Settings come in pairs of a name and a value.
        let setting = |name: &str| {
            (1..=9).find_map(|i| {
                let is_it = h.text(&format!("ZNAME{i}")).as_deref() == Some(name);
                is_it.then(|| h.number(&format!("ZVAL{i}"))).flatten()
            })
        };
        Ok(match name.as_str() {
            "RICE_1" | "RICE_ONE" => {
                let bytes = setting("BYTEPIX").unwrap_or(4.0);
                if ![1.0, 2.0, 4.0].contains(&bytes) {
                    return Err(value("BYTEPIX", &bytes.to_string()));
                }
                Self::Rice {
                    block: setting("BLOCKSIZE").unwrap_or(32.0).clamp(1.0, 1e6).index(),
                    value_bytes: bytes.index(),
                }
            }
            "GZIP_1" => Self::Gzip { shuffled: false },
            "GZIP_2" => Self::Gzip { shuffled: true },
            "PLIO_1" => Self::Lines,
            "HCOMPRESS_1" => Self::Tree,
            "NOCOMPRESS" => Self::Plain,
            _ => return Err(value("ZCMPTYPE", &format!("'{name}'"))),
        })
    }
}

impl Dither {
    fn of(h: &Header) -> Option<Self> {
        let how = h.text("ZQUANTIZ")?;
        let zeros = match how.as_str() {
            "SUBTRACTIVE_DITHER_1" => false,
            "SUBTRACTIVE_DITHER_2" => true,
            _ => return None,
        };
        let seed = h.number("ZDITHER0").unwrap_or(1.0).clamp(1.0, 10_000.0);
        Some(Self {
            seed: seed.index(),
            zeros,
        })
    }
}
