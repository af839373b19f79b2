//! Pixels of an image that is stored as it is: read from their places.
//!
//! A window's rows are read straight into the caller's memory and turned there, so that threads need not
//! take turns at the file. Images that are packed in tiles are unpacked in `tiles/`.

use jigsawa_core::number::Convert;
use std::cell::RefCell;
use std::fs::File;
use std::io;
use std::path::Path;

use jigsawa_core::space::{Rect, Size};
use multiversion::multiversion;

use super::place::read_at;
use super::pool::{self, Pooled};
use super::sense::{self, sound};
use super::unit::Unit;
use crate::error::{FileError, HeaderError};

/// Where the pixels of an image are, and what their numbers mean.
pub(super) struct Plain {
    file: Pooled<File>,
    /// The first pixel's first byte.
    data: u64,
    size: Size,
    stored: Stored,
    /// Value = scale x stored + zero.
    scale: f64,
    zero: f64,
    /// The whole number that means no data.
    blank: Option<i64>,
    /// No number that can be stored is absurd.
    bounded: bool,
}

/// The numbers of an image, by BITPIX.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stored {
    Byte,
    Short,
    Long,
    Longer,
    Float,
    Double,
}

impl Stored {
    fn of(bitpix: i32) -> Option<Self> {
        Some(match bitpix {
            8 => Self::Byte,
            16 => Self::Short,
            32 => Self::Long,
            64 => Self::Longer,
            -32 => Self::Float,
            -64 => Self::Double,
            _ => return None,
        })
    }

    const fn bytes(self) -> usize {
        match self {
            Self::Byte => 1,
            Self::Short => 2,
            Self::Long | Self::Float => 4,
            Self::Longer | Self::Double => 8,
        }
    }
}

/// Values read at a time: what comes from the file is turned while it is in the second-level cache.
const RUN: usize = 64 * 1024;

thread_local! {
    // Bytes of a run that are not of the size of their values.
    static BYTES: RefCell<Vec<u8>> = RefCell::default();
}

impl Plain {
    /// The pixels of a unit that is stored as it is.
    ///
    /// # Errors
    /// When its numbers cannot be scaled, or the file is not there.
    pub(super) fn new(path: &Path, unit: &Unit) -> Result<Self, FileError> {
        let wrong = |name: &str, value: f64| HeaderError::Value {
            name: name.to_owned(),
            value: value.to_string(),
        };
        let bitpix = unit.bitpix;
        let stored = Stored::of(bitpix).ok_or_else(|| wrong("BITPIX", f64::from(bitpix)))?;
        let scale = unit.header.number("BSCALE").unwrap_or(1.0);
        let zero = unit.header.number("BZERO").unwrap_or(0.0);
        if scale == 0.0 {
            return Err(wrong("BSCALE", scale).into());
        }
        let largest = f64::from(unit.bitpix.unsigned_abs()).exp2();
        Ok(Self {
            file: Pooled::new(path, pool::plain)?,
            data: unit.data,
            size: unit.size,
            stored,
            scale,
            zero,
            blank: unit
                .header
                .number("BLANK")
                .filter(|_| bitpix > 0)
                .map(Convert::whole),
            bounded: bitpix > 0 && scale.abs() * largest + zero.abs() < f64::from(sense::ABSURD),
        })
    }

    /// Reads a window of a plane; what is blank, not a number or absurd is missing.
    ///
    /// # Errors
    /// What the disk says.
    pub(super) fn read(&self, plane: usize, rect: Rect, out: &mut [f32]) -> Result<(), FileError> {
        self.read_window(plane, rect, out, false)
    }

    /// The same as it is stored, absurd values and all.
    ///
    /// # Errors
    /// What the disk says.
    pub(super) fn read_as_stored(
        &self,
        plane: usize,
        rect: Rect,
        out: &mut [f32],
    ) -> Result<(), FileError> {
        self.read_window(plane, rect, out, true)
    }

    fn read_window(
        &self,
        plane: usize,
        rect: Rect,
        out: &mut [f32],
        as_stored: bool,
    ) -> Result<(), FileError> {
        assert_eq!(out.len(), rect.area());
        if rect.is_empty() {
            return Ok(());
        }
        let file = self.file.get()?;
        // Whole rows follow each other in the file.
        let run = if rect.width == self.size.width() {
            RUN
        } else {
            rect.width
        };
        for (i, values) in out.chunks_mut(run).enumerate() {
            let first = i * run;
            let (x, y) = (first % rect.width, first / rect.width);
            let row = plane * self.size.height() + rect.y.index() + y;
            let pixel = row * self.size.width() + rect.x.index() + x;
            self.read_run(&file, pixel, values, as_stored)
                .map_err(|e| match e.kind() {
                    io::ErrorKind::UnexpectedEof => FileError::Changed,
                    _ => FileError::io("cannot read its pixels")(e),
                })?;
        }
        Ok(())
    }

    /// Values from pixel number `first` of the file on.
    fn read_run(
        &self,
        file: &File,
        first: usize,
        out: &mut [f32],
        as_stored: bool,
    ) -> io::Result<()> {
        let bytes = self.stored.bytes();
        let at = self.data + (first * bytes) as u64;
        if self.stored == Stored::Float {
            read_at(file, bytemuck::cast_slice_mut(out), at)?;
            if self.scale == 1.0 && self.zero == 0.0 && !as_stored {
                turn(out);
                return Ok(());
            }
            for v in out.iter_mut() {
                *v = self.scaled(f64::from(f32::from_bits(u32::from_be(v.to_bits()))));
            }
        } else {
            BYTES.with_borrow_mut(|buffer| {
                buffer.resize(out.len() * bytes, 0);
                read_at(file, buffer, at)?;
                self.number(buffer, out);
                io::Result::Ok(())
            })?;
        }
        if !as_stored && !self.bounded {
            for v in out.iter_mut() {
                *v = measured(*v);
            }
        }
        Ok(())
    }

    /// Bytes into values.
    fn number(&self, bytes: &[u8], out: &mut [f32]) {
        match self.stored {
            Stored::Byte => self.integers(bytes, |[b]: [u8; 1]| i64::from(b), out),
            Stored::Short => self.shorts(bytes, out),
            Stored::Long => self.integers(bytes, |b| i64::from(i32::from_be_bytes(b)), out),
            Stored::Longer => self.integers(bytes, i64::from_be_bytes, out),
            Stored::Float | Stored::Double => {
                for (v, b) in out.iter_mut().zip(bytes.as_chunks().0) {
                    *v = self.scaled(f64::from_be_bytes(*b));
                }
            }
        }
    }

    fn scaled(&self, stored: f64) -> f32 {
        (self.scale * stored + self.zero).single()
    }

    fn integers<const N: usize>(
        &self,
        bytes: &[u8],
        number: impl Fn([u8; N]) -> i64,
        out: &mut [f32],
    ) {
        for (v, b) in out.iter_mut().zip(bytes.as_chunks::<N>().0) {
            let n = number(*b);
            *v = if Some(n) == self.blank {
                f32::NAN
            } else {
                self.scaled(n.real())
            };
        }
    }

    /// What cameras write, and so what is read most.
    fn shorts(&self, bytes: &[u8], out: &mut [f32]) {
        let number = |b: [u8; 2]| i64::from(i16::from_be_bytes(b));
        let steps = self.scale.single();
        let whole = f64::from(steps) == self.scale && self.zero.fract() == 0.0;
        if self.blank.is_none() && whole && steps == 1.0 && self.zero.abs() < 65_536.0 {
            whole_shorts(bytes, self.zero.i32(), out);
        } else {
            self.integers(bytes, number, out);
        }
    }
}

const fn measured(v: f32) -> f32 {
    if sound(v) { v } else { f32::NAN }
}

/// Big-endian floats in place; an infinite or absurd value is no measurement, whatever made it.
#[multiversion(targets("x86_64+avx2"))]
fn turn(values: &mut [f32]) {
    for v in values {
        *v = measured(f32::from_bits(u32::from_be(v.to_bits())));
    }
}

/// Big-endian 16-bit numbers and a whole zero: no rounding anywhere.
#[multiversion(targets("x86_64+avx2"))]
fn whole_shorts(bytes: &[u8], zero: i32, out: &mut [f32]) {
    let (cells, _) = bytes.as_chunks::<2>();
    for (v, b) in out.iter_mut().zip(cells) {
        *v = (i32::from(i16::from_be_bytes(*b)) + zero).single();
    }
}
