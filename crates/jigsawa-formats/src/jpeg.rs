//! JPEG out: a grey picture in memory, or a colour one into a file.

use jpeg_encoder::{ColorType, Encoder, SamplingFactor};

use crate::about::{About, EightBits, NextRows, STRIP_ROWS, srgb_profile};
use crate::error::FileError;
use crate::whole::Unfinished;

/// The longest side that the format can say.
pub const LONGEST_SIDE: usize = 65_535;

/// Little enough is lost that stars stay as they are.
const QUALITY: u8 = 93;

/// Writes a colour picture of 8 bits, sRGB with its profile. The encoder wants all of it at once: three bytes
/// a pixel are in memory.
///
/// # Errors
/// When a side is longer than the format allows, what `next` says, or that the disk does not take the file.
pub fn write(
    file: &Unfinished,
    (width, height): (usize, usize),
    about: &About,
    next: &mut NextRows<'_, u16>,
) -> Result<(), FileError> {
    let (w, h) = (side(width)?, side(height)?);
    let mut pixels = Vec::with_capacity(3 * width * height);
    let eight = EightBits::new(width);
    let (mut samples, mut rows) = (Vec::new(), Vec::new());
    for y in (0..height).step_by(STRIP_ROWS) {
        next(STRIP_ROWS.min(height - y), &mut samples)?;
        eight.rows(&samples, y, &mut rows);
        pixels.extend_from_slice(&rows);
    }
    let mut comment = about.text().into_bytes();
    comment.truncate(60_000);
    file.buffered(|out| {
        let mut encoder = Encoder::new(out, QUALITY);
        // Halved colour would smear the small stars' own.
        encoder.set_sampling_factor(SamplingFactor::F_1_1);
        encoder.add_icc_profile(srgb_profile()).map_err(refused)?;
        encoder.add_app_segment(COMMENT, comment).map_err(refused)?;
        encoder
            .encode(&pixels, w, h, ColorType::Rgb)
            .map_err(refused)
    })
}

/// The application segment that holds the words; one that no standard has taken.
const COMMENT: u8 = 11;

fn side(n: usize) -> Result<u16, FileError> {
    u16::try_from(n)
        .map_err(|_| FileError::Picture(format!("JPEG ends at {LONGEST_SIDE} pixels a side")))
}

fn refused(error: jpeg_encoder::EncodingError) -> FileError {
    match error {
        jpeg_encoder::EncodingError::IoError(error) => FileError::Io {
            doing: "cannot write the picture",
            error,
        },
        other => FileError::Picture(other.to_string()),
    }
}

/// A grey picture of 8 bits a pixel, top row first, as the bytes of a JPEG file.
///
/// # Errors
/// When a side is longer than the format allows (65535 pixels), or the values are fewer than pixels.
pub fn grey(pixels: &[u8], width: usize, height: usize, quality: u8) -> Result<Vec<u8>, FileError> {
    let mut bytes = Vec::with_capacity(pixels.len() / 4);
    Encoder::new(&mut bytes, quality)
        .encode(pixels, side(width)?, side(height)?, ColorType::Luma)
        .map_err(refused)?;
    Ok(bytes)
}

/// A colour picture of 8 bits, three bytes a pixel, top row first, as the bytes of a JPEG file.
///
/// # Errors
/// When a side is longer than the format allows, or the values are fewer than pixels.
pub fn colour(rgb: &[u8], width: usize, height: usize, quality: u8) -> Result<Vec<u8>, FileError> {
    let mut bytes = Vec::with_capacity(rgb.len() / 4);
    let mut encoder = Encoder::new(&mut bytes, quality);
    encoder.set_sampling_factor(SamplingFactor::F_1_1);
    encoder
        .encode(rgb, side(width)?, side(height)?, ColorType::Rgb)
        .map_err(refused)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_picture_has_the_marks_of_a_jpeg_and_a_wrong_one_is_refused() {
        let bytes = grey(&[128; 64 * 40], 64, 40, 80).unwrap();
        assert!(bytes.starts_with(&[0xff, 0xd8]) && bytes.ends_with(&[0xff, 0xd9]));
        assert!(grey(&[0; 10], 64, 40, 80).is_err());
        assert!(grey(&[], 70_000, 1, 80).is_err());
    }
}
