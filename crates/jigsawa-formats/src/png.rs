//! PNG out: from the top row down, sRGB with its profile.

use jigsawa_core::number::Convert;
use std::borrow::Cow;
use std::io::Write;

use crate::about::{About, EightBits, NextRows, STRIP_ROWS, srgb_profile};
use crate::error::FileError;
use crate::whole::Unfinished;

/// Bits of a sample.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Bits {
    /// To look at and to share.
    Eight,
    /// For further work.
    Sixteen,
}

/// Writes the rows that `next` gives.
///
/// # Errors
/// What `next` says, or that the disk does not take the file.
pub fn write(
    file: &Unfinished,
    (width, height): (usize, usize),
    bits: Bits,
    about: &About,
    next: &mut NextRows<'_, u16>,
) -> Result<(), FileError> {
    file.buffered(|out| {
        let mut info = png::Info::with_size(width.u32(), height.u32());
        info.icc_profile = Some(Cow::Borrowed(srgb_profile()));
        let mut encoder = png::Encoder::with_info(out, info).map_err(refused)?;
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(match bits {
            Bits::Eight => png::BitDepth::Eight,
            Bits::Sixteen => png::BitDepth::Sixteen,
        });
        encoder.set_compression(png::Compression::Fast);
        let facts = about.lines.iter().map(|(n, v)| (n.as_str(), v.as_str()));
        for (name, text) in [("Title", about.title.as_str()), ("Software", "Jigsawa")]
            .into_iter()
            .chain(facts)
        {
            encoder
                .add_itxt_chunk(name.to_owned(), text.to_owned())
                .map_err(refused)?;
        }
        let mut writer = encoder.write_header().map_err(refused)?;
        let mut stream = writer.stream_writer_with_size(1 << 18).map_err(refused)?;
        let eight = EightBits::new(width);
        let (mut samples, mut bytes) = (Vec::new(), Vec::new());
        for y in (0..height).step_by(STRIP_ROWS) {
            next(STRIP_ROWS.min(height - y), &mut samples)?;
            match bits {
                Bits::Eight => eight.rows(&samples, y, &mut bytes),
                Bits::Sixteen => {
                    bytes.clear();
                    bytes.extend(samples.iter().flat_map(|v| v.to_be_bytes()));
                }
            }
            stream
                .write_all(&bytes)
                .map_err(FileError::io("cannot write the picture"))?;
        }
        stream.finish().map_err(refused)?;
        writer.finish().map_err(refused)
    })
}

/// Writes a small picture at once, or several of one size that a viewer shows one after the other
/// (animated PNG), each for so many seconds. Three bytes a pixel, top row first; still under its
/// temporary name.
///
/// # Errors
/// When there is no picture, when their sizes differ, or when the disk does not take them.
pub fn write_all(
    file: Unfinished,
    (width, height): (usize, usize),
    pictures: &[&[u8]],
    seconds: f64,
) -> Result<Unfinished, FileError> {
    if pictures.is_empty() || pictures.iter().any(|p| p.len() != 3 * width * height) {
        return Err(FileError::Picture(
            "the pictures have other sizes".to_owned(),
        ));
    }
    file.buffered(|out| {
        let mut encoder = encoder_of(out, width, height);
        if pictures.len() > 1 {
            encoder
                .set_animated(pictures.len().u32(), 0)
                .and_then(|()| {
                    encoder.set_frame_delay((1000.0 * seconds).clamp(1.0, 60_000.0).u16(), 1000)
                })
                .map_err(refused)?;
        }
        let mut writer = encoder.write_header().map_err(refused)?;
        for p in pictures {
            writer.write_image_data(p).map_err(refused)?;
        }
        writer.finish().map_err(refused)
    })?;
    Ok(file)
}

/// A small picture in memory, for pages that hold their pictures. Three bytes a pixel, top row first.
///
/// # Errors
/// When the bytes are not those of the size.
pub fn in_memory((width, height): (usize, usize), rgb: &[u8]) -> Result<Vec<u8>, FileError> {
    let mut bytes = Vec::new();
    let mut writer = encoder_of(&mut bytes, width, height)
        .write_header()
        .map_err(refused)?;
    writer.write_image_data(rgb).map_err(refused)?;
    writer.finish().map_err(refused)?;
    Ok(bytes)
}

/// An encoder for 8-bit sRGB of this size.
fn encoder_of<'a, W: Write>(out: W, width: usize, height: usize) -> png::Encoder<'a, W> {
    let mut encoder = png::Encoder::new(out, width.u32(), height.u32());
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    // The high levels take seconds for a large frame and save a tenth.
    encoder.set_compression(png::Compression::Fast);
    encoder.set_source_srgb(png::SrgbRenderingIntent::Perceptual);
    encoder
}

fn refused(error: png::EncodingError) -> FileError {
    match error {
        png::EncodingError::IoError(error) => FileError::Io {
            doing: "cannot write the picture",
            error,
        },
        other => FileError::Picture(other.to_string()),
    }
}
