//! Images of other programs as frames: TIFF (8, 16, 32 bits, whole numbers and floats) and PNG (8, 16 bits), grey or colour.
//!
//! Values are taken as they stand: a profile or a curve that the file names is not undone, since linear data that another
//! program has saved mostly carries one all the same. What covers pixels (alpha) is passed over. The first row is on top.

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::Path;

use jigsawa_core::number::Convert;
use tiff::ColorType;
use tiff::decoder::{Decoder, DecodingResult, Limits};

use super::pool;
use super::unit::Unit;
use super::unpacked::{Unpacking, shape, whole};
use super::unzip::Unzipped;
use crate::error::FileError;
use crate::stumble::caught;

/// Which of them a file is, by its first bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Picture {
    Tiff,
    Png,
}

/// The most bytes that an image may take when it is unpacked: 500 megapixels of three floats; and so many times the
/// file's own, or this much: what a few bytes promise is not believed.
const MOST_BYTES: usize = 6 << 30;
const MOST_TIMES: usize = 2000;
const LEAST_BYTES: usize = 64 << 20;

impl Picture {
    /// By the first bytes.
    pub(super) fn of(head: &[u8]) -> Option<Self> {
        match head {
            [b'I', b'I', b'*', 0, ..] | [b'M', b'M', 0, b'*', ..] => Some(Self::Tiff),
            [0x89, b'P', b'N', b'G', ..] => Some(Self::Png),
            _ => None,
        }
    }

    /// Unpacks the first image of a file.
    ///
    /// # Errors
    /// When it is damaged, of a kind that is not read, too large, or the disk takes no more.
    pub(super) fn unpack(self, path: &Path) -> Result<(Unit, Unzipped), FileError> {
        let file = pool::open(path)?;
        let length = file
            .metadata()
            .map_err(FileError::io("cannot open it"))?
            .len();
        let most = length
            .index()
            .saturating_mul(MOST_TIMES)
            .clamp(LEAST_BYTES, MOST_BYTES);
        let read = || match self {
            Self::Tiff => tiff(BufReader::new(file), most),
            Self::Png => png(BufReader::new(file), most),
        };
        // A decoder that stumbles over a damaged file says so as an error here.
        caught(read)
            .ok_or_else(|| FileError::Image("it is damaged".to_owned()))??
            .unpacked()
    }
}

/// An image as it was read: values of one pixel after each other.
struct Pixels {
    width: usize,
    height: usize,
    /// Values of a pixel, and those that count: grey or the three colours.
    samples: usize,
    planes: usize,
    /// All of one colour come before those of the next, rather than the colours of a pixel after each other.
    apart: bool,
    values: Values,
}

enum Values {
    Sixteen(Vec<u16>, usize),
    Floats(Vec<f32>),
}

fn tiff<R: Read + std::io::Seek>(file: R, most: usize) -> Result<Pixels, FileError> {
    let wrong = |e: tiff::TiffError| FileError::Image(e.to_string());
    let mut limits = Limits::default();
    limits.decoding_buffer_size = most;
    limits.intermediate_buffer_size = most;
    let mut decoder = Decoder::new(file).map_err(wrong)?.with_limits(limits);
    let (width, height) = decoder.dimensions().map_err(wrong)?;
    let (samples, planes) = match decoder.colortype().map_err(wrong)? {
        ColorType::Gray(_) | ColorType::Multiband { num_samples: 1, .. } => (1, 1),
        ColorType::GrayA(_) => (2, 1),
        ColorType::RGB(_) | ColorType::Multiband { num_samples: 3, .. } => (3, 3),
        ColorType::RGBA(_) => (4, 3),
        other => {
            return Err(FileError::Image(format!(
                "its colours ({other:?}) are neither grey nor red, green and blue"
            )));
        }
    };
    let mut read = DecodingResult::U8(Vec::new());
    let layout = decoder.read_image_to_buffer(&mut read).map_err(wrong)?;
    if read.as_buffer(0).as_bytes().len() < layout.complete_len {
        return Err(FileError::Image("it is too large".to_owned()));
    }
    let values = match read {
        DecodingResult::U8(v) => Values::Sixteen(v.into_iter().map(u16::from).collect(), 255),
        DecodingResult::U16(v) => Values::Sixteen(v, 65_535),
        // What is finer than a float has 24 bits left, more than any sky.
        DecodingResult::U32(v) => Values::Floats(v.into_iter().map(Convert::single).collect()),
        DecodingResult::I16(v) => Values::Floats(v.into_iter().map(f32::from).collect()),
        DecodingResult::I32(v) => Values::Floats(v.into_iter().map(Convert::single).collect()),
        DecodingResult::F16(v) => Values::Floats(v.into_iter().map(f32::from).collect()),
        DecodingResult::F32(v) => Values::Floats(v),
        DecodingResult::F64(v) => Values::Floats(v.into_iter().map(Convert::single).collect()),
        DecodingResult::I8(v) => Values::Floats(v.into_iter().map(f32::from).collect()),
        _ => {
            return Err(FileError::Image(
                "whole numbers of 64 bits are not read".to_owned(),
            ));
        }
    };
    Ok(Pixels {
        width: width as usize,
        height: height as usize,
        samples,
        planes,
        apart: layout.planes > 1,
        values,
    })
}

fn png(file: BufReader<File>, most: usize) -> Result<Pixels, FileError> {
    let wrong = |e: png::DecodingError| FileError::Image(e.to_string());
    let mut decoder = png::Decoder::new_with_limits(file, png::Limits { bytes: most });
    decoder.set_transformations(png::Transformations::EXPAND);
    let mut reader = decoder.read_info().map_err(wrong)?;
    let bytes = reader
        .output_buffer_size()
        .filter(|b| *b <= most)
        .ok_or_else(|| FileError::Image("it is too large".to_owned()))?;
    let mut buffer = Vec::new();
    buffer
        .try_reserve_exact(bytes)
        .map_err(|_| FileError::Image("it does not fit into memory".to_owned()))?;
    buffer.resize(bytes, 0);
    let frame = reader.next_frame(&mut buffer).map_err(wrong)?;
    buffer.truncate(frame.buffer_size());
    let samples = frame.color_type.samples();
    let values = if frame.bit_depth == png::BitDepth::Sixteen {
        let pairs = buffer.as_chunks::<2>().0;
        Values::Sixteen(
            pairs.iter().map(|b| u16::from_be_bytes(*b)).collect(),
            65_535,
        )
    } else {
        Values::Sixteen(buffer.into_iter().map(u16::from).collect(), 255)
    };
    Ok(Pixels {
        width: frame.width as usize,
        height: frame.height as usize,
        samples,
        planes: if samples >= 3 { 3 } else { 1 },
        apart: false,
        values,
    })
}

impl Pixels {
    fn unpacked(self) -> Result<(Unit, Unzipped), FileError> {
        let area = self.width * self.height;
        let (bitpix, count) = match &self.values {
            Values::Sixteen(v, _) => (16, v.len()),
            Values::Floats(v) => (-32, v.len()),
        };
        if count != area * self.samples || area == 0 {
            return Err(FileError::Image("it is cut short".to_owned()));
        }
        let mut records = shape(bitpix, [self.width, self.height], self.planes);
        if let Values::Sixteen(_, full) = &self.values {
            records.push(whole("SATURATE", *full));
        }
        let mut out = Unpacking::begin(&records)?;
        // From one value of a plane to its next, and from a plane's first to that of the next.
        let (step, next) = if self.apart {
            (1, area)
        } else {
            (self.samples, 1)
        };
        let row = self.width * step;
        let mut bytes = Vec::new();
        for plane in 0..self.planes {
            for y in 0..self.height {
                bytes.clear();
                let from = plane * next + y * row;
                let own = from..from + (self.width - 1) * step + 1;
                match &self.values {
                    Values::Sixteen(v, _) => {
                        let own = v[own].iter().step_by(step);
                        bytes.extend(own.flat_map(|v| (v ^ 0x8000).to_be_bytes()));
                    }
                    Values::Floats(v) => {
                        let own = v[own].iter().step_by(step);
                        bytes.extend(own.flat_map(|v| v.to_be_bytes()));
                    }
                }
                out.put(&bytes)?;
            }
        }
        out.done()
    }
}
