//! JPEG XL out (ISO/IEC 18181): 16 bits without loss, sRGB, in about two thirds of a PNG's bytes.

use std::io::Write;

use zune_core::bit_depth::BitDepth;
use zune_core::colorspace::ColorSpace;
use zune_core::options::EncoderOptions;
use zune_jpegxl::{JxlEncodeErrors, JxlSimpleEncoder};

use crate::about::{NextRows, STRIP_ROWS};
use crate::error::FileError;
use crate::stumble::caught;
use crate::whole::Unfinished;

/// Writes the rows that `next` gives. The encoder wants all of them at once: six bytes a pixel are in memory. Words about the
/// picture are not kept: the encoder writes the bare stream.
///
/// # Errors
/// When a side has one pixel, when its noise is too strong for the encoder, what `next` says, or that the disk does not take the file.
pub fn write(
    file: &Unfinished,
    (width, height): (usize, usize),
    next: &mut NextRows<'_, u16>,
) -> Result<(), FileError> {
    let mut pixels: Vec<u8> = Vec::with_capacity(6 * width * height);
    let mut samples = Vec::new();
    for y in (0..height).step_by(STRIP_ROWS) {
        next(STRIP_ROWS.min(height - y), &mut samples)?;
        pixels.extend_from_slice(bytemuck::cast_slice(&samples));
    }
    // Beside the other files' encoders one thread each is enough.
    let options =
        EncoderOptions::new(width, height, ColorSpace::RGB, BitDepth::Sixteen).set_num_threads(1);
    let mut stream = Vec::new();
    let encode = || JxlSimpleEncoder::new(&pixels, options).encode(&mut stream);
    // It runs out of room where noise is a sixteenth of the whole range in a picture of at most 256 pixels a side.
    caught(encode)
        .ok_or_else(|| {
            let why = "JPEG XL has no room for noise as strong as this: write it as PNG or TIFF";
            FileError::Picture(why.to_owned())
        })?
        .map_err(refused)?;
    file.buffered(|out| {
        out.write_all(&stream)
            .map_err(FileError::io("cannot write the picture"))
    })
}

fn refused(error: JxlEncodeErrors) -> FileError {
    FileError::Picture(match error {
        JxlEncodeErrors::ZeroDimension(side) => {
            format!("JPEG XL begins at two pixels a side, and its {side} is less")
        }
        other => format!("{other:?}").trim().to_owned(),
    })
}
