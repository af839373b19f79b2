//! Rows of one picture into several files at once, each encoded by a thread of its own.

use jigsawa_core::number::Convert;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use jigsawa_core::doors::TileSink;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::about::{About, NextRows, sixteen_bits};
use jigsawa_formats::error::FileError;
use jigsawa_formats::exr::{self, Pixel};
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::png::Bits;
use jigsawa_formats::whole::Unfinished;
use jigsawa_formats::{jpeg, jxl, png, tiff};
use rayon::prelude::*;

use crate::trouble::Trouble;

/// What a picture is written as.
#[derive(Debug, Clone, PartialEq)]
pub enum Format {
    /// TIFF of 16 bits.
    Tiff,
    /// TIFF of 32-bit float: sRGB from 0 to 1, or linear values as they are.
    TiffFloat {
        /// Is it encoded for the screen, and not linear?
        encoded: bool,
    },
    /// PNG.
    Png(Bits),
    /// JPEG.
    Jpeg,
    /// JPEG XL of 16 bits, without loss.
    Jxl,
    /// EXR: linear light, from values encoded as sRGB, or as they are.
    Exr {
        /// Are the values that come encoded for the screen?
        encoded: bool,
    },
    /// FITS of 32-bit float, three planes, rows stored in this order.
    Fits(Cards, RowOrder),
}

impl Format {
    /// Does it take values as they are, and not 16 bits?
    const fn takes_floats(&self) -> bool {
        matches!(
            self,
            Self::TiffFloat { .. } | Self::Exr { .. } | Self::Fits(..)
        )
    }
}

/// The files of one picture in the making.
pub struct Encoder {
    floats: Vec<SyncSender<Arc<Vec<f32>>>>,
    sixteen: Vec<SyncSender<Arc<Vec<u16>>>>,
    /// Bands that were handed over; their memory is used again when all are done with it.
    used_floats: Vec<Arc<Vec<f32>>>,
    used_sixteen: Vec<Arc<Vec<u16>>>,
}

/// Values that a thread turns into 16 bits at a time.
const PART: usize = 1 << 15;

/// Bands that may wait for an encoder.
const WAITING: usize = 2;

impl Encoder {
    /// The next rows, from the top down: red, green, blue of each pixel from 0 to 1, or as they are for formats
    /// that take them so. `false` when no file takes any more: one has failed, and will tell why.
    pub fn rows(&mut self, rows: &[f32]) -> bool {
        let mut taken = true;
        if !self.floats.is_empty() {
            let band = filled(&mut self.used_floats, |out| {
                out.clear();
                out.extend_from_slice(rows);
            });
            for to in &self.floats {
                taken &= to.send(Arc::clone(&band)).is_ok();
            }
        }
        if !self.sixteen.is_empty() {
            let band = filled(&mut self.used_sixteen, |out| {
                out.resize(rows.len(), 0);
                out.par_chunks_mut(PART)
                    .zip(rows.par_chunks(PART))
                    .for_each(|(out, rows)| sixteen_bits(rows, out));
            });
            for to in &self.sixteen {
                taken &= to.send(Arc::clone(&band)).is_ok();
            }
        }
        taken
    }
}

/// A band filled in memory that nobody else holds any more.
fn filled<T>(used: &mut Vec<Arc<Vec<T>>>, fill: impl FnOnce(&mut Vec<T>)) -> Arc<Vec<T>> {
    let free = used
        .iter_mut()
        .position(|band| Arc::get_mut(band).is_some());
    let mut band = free.map_or_else(Arc::default, |i| used.swap_remove(i));
    if let Some(memory) = Arc::get_mut(&mut band) {
        fill(memory);
    }
    used.push(Arc::clone(&band));
    band
}

/// Writes the rows that `produce` hands over into all files, which stay under their temporary names.
pub fn encode(
    files: Vec<(Unfinished, Format)>,
    shape: (usize, usize),
    about: &About,
    produce: impl FnOnce(&mut Encoder) -> Result<(), Trouble>,
) -> Result<Vec<Unfinished>, Trouble> {
    std::thread::scope(|scope| {
        let mut encoder = Encoder {
            floats: Vec::new(),
            sixteen: Vec::new(),
            used_floats: Vec::new(),
            used_sixteen: Vec::new(),
        };
        let mut writing = Vec::new();
        for (file, format) in files {
            let path = file.target().to_owned();
            let thread = if format.takes_floats() {
                let (send, rows) = sync_channel(WAITING);
                encoder.floats.push(send);
                scope.spawn(move || write_floats(file, &format, shape, about, rows))
            } else {
                let (send, rows) = sync_channel(WAITING);
                encoder.sixteen.push(send);
                scope.spawn(move || write_sixteen(file, &format, shape, about, rows))
            };
            writing.push((path, thread));
        }
        let produced = produce(&mut encoder);
        drop(encoder);
        let written: Vec<(std::path::PathBuf, Result<Unfinished, FileError>)> = writing
            .into_iter()
            .map(|(path, thread)| {
                let done = thread
                    .join()
                    .unwrap_or_else(|panic| std::panic::resume_unwind(panic));
                (path, done)
            })
            .collect();
        // A file that ended early because its rows did is not what went wrong.
        produced?;
        let wrong = |path: &Path, error| Trouble::Write {
            file: path.to_owned(),
            error,
        };
        written
            .into_iter()
            .map(|(path, done)| done.map_err(|e| wrong(&path, e)))
            .collect()
    })
}

/// Bands as they come, cut into the rows that a writer asks for.
struct Feed<T> {
    rows: Receiver<Arc<Vec<T>>>,
    band: Arc<Vec<T>>,
    at: usize,
    width: usize,
}

impl<T: Copy> Feed<T> {
    fn new(rows: Receiver<Arc<Vec<T>>>, width: usize) -> Self {
        Self {
            rows,
            band: Arc::default(),
            at: 0,
            width,
        }
    }

    fn next(&mut self, rows: usize, out: &mut Vec<T>) -> Result<(), FileError> {
        out.clear();
        let mut wanted = 3 * self.width * rows;
        while wanted > 0 {
            if self.at == self.band.len() {
                self.band = self
                    .rows
                    .recv()
                    .map_err(|_| FileError::Picture("its rows ended early".to_owned()))?;
                self.at = 0;
            }
            let n = wanted.min(self.band.len() - self.at);
            out.extend_from_slice(&self.band[self.at..self.at + n]);
            self.at += n;
            wanted -= n;
        }
        Ok(())
    }
}

fn write_sixteen(
    file: Unfinished,
    format: &Format,
    shape: (usize, usize),
    about: &About,
    rows: Receiver<Arc<Vec<u16>>>,
) -> Result<Unfinished, FileError> {
    let mut feed = Feed::new(rows, shape.0);
    let next: &mut NextRows<'_, u16> = &mut |n, out| feed.next(n, out);
    match format {
        Format::Png(bits) => png::write(&file, shape, *bits, about, next)?,
        Format::Jpeg => jpeg::write(&file, shape, about, next)?,
        Format::Jxl => jxl::write(&file, shape, next)?,
        _ => tiff::write_16(&file, shape, about, next)?,
    }
    Ok(file)
}

fn write_floats(
    file: Unfinished,
    format: &Format,
    shape: (usize, usize),
    about: &About,
    rows: Receiver<Arc<Vec<f32>>>,
) -> Result<Unfinished, FileError> {
    let mut feed = Feed::new(rows, shape.0);
    match format {
        Format::Fits(cards, order) => {
            return write_fits(file, shape, cards, *order, &mut |n, out| feed.next(n, out));
        }
        Format::Exr { encoded } => {
            let mut linear = |n: usize, out: &mut Vec<f32>| {
                feed.next(n, out)?;
                for v in out.iter_mut().filter(|_| *encoded) {
                    *v = decoded(*v);
                }
                Ok(())
            };
            exr::write(&file, shape, Pixel::COLOUR, about, &mut linear)?;
        }
        _ => {
            let encoded = *format == Format::TiffFloat { encoded: true };
            tiff::write_float(&file, shape, encoded, about, &mut |n, out| {
                feed.next(n, out)
            })?;
        }
    }
    Ok(file)
}

/// Linear light of a value that is encoded as a screen expects it (IEC 61966-2-1).
fn decoded(v: f32) -> f32 {
    if v <= 0.040_45 {
        v / 12.92
    } else {
        ((v + 0.055) / 1.055).powf(2.4)
    }
}

/// Rows in a band of the FITS file.
const FITS_ROWS: usize = 128;

fn write_fits(
    file: Unfinished,
    (width, height): (usize, usize),
    cards: &Cards,
    order: RowOrder,
    next: &mut NextRows<'_, f32>,
) -> Result<Unfinished, FileError> {
    let size = Size::new(width, height)
        .ok_or_else(|| FileError::Picture("it has no pixels".to_owned()))?;
    let mut out = FitsWriter::create(file, size, 3, Depth::Float, cards)?;
    let mut pixels = Vec::new();
    let mut planes: [Vec<f32>; 3] = Default::default();
    for y in (0..height).step_by(FITS_ROWS) {
        let rows = FITS_ROWS.min(height - y);
        next(rows, &mut pixels)?;
        for plane in &mut planes {
            plane.clear();
        }
        let line = |i: usize| &pixels[3 * width * i..3 * width * (i + 1)];
        for i in 0..rows {
            let stored = match order {
                RowOrder::TopDown => i,
                RowOrder::BottomUp => rows - 1 - i,
            };
            for (c, plane) in planes.iter_mut().enumerate() {
                plane.extend(line(stored).iter().skip(c).step_by(3));
            }
        }
        let first = match order {
            RowOrder::TopDown => y,
            RowOrder::BottomUp => height - y - rows,
        };
        let rect = Rect {
            x: 0,
            y: first.whole(),
            width,
            height: rows,
        };
        out.put(rect, &planes.each_ref().map(Vec::as_slice))
            .map_err(|e| FileError::Picture(e.to_string()))?;
    }
    out.complete()
}
