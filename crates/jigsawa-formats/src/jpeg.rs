//! JPEG out, in memory.

use jpeg_encoder::{ColorType, Encoder};

use crate::error::FileError;

/// A grey picture of 8 bits a pixel, top row first, as the bytes of a JPEG file.
///
/// # Errors
/// When a side is longer than the format allows (65535 pixels), or the values are fewer than pixels.
pub fn grey(pixels: &[u8], width: usize, height: usize, quality: u8) -> Result<Vec<u8>, FileError> {
    let side = |n: usize| {
        u16::try_from(n).map_err(|_| FileError::Picture("it is too large for JPEG".to_owned()))
    };
    let mut bytes = Vec::with_capacity(pixels.len() / 4);
    Encoder::new(&mut bytes, quality)
        .encode(pixels, side(width)?, side(height)?, ColorType::Luma)
        .map_err(|e| FileError::Picture(e.to_string()))?;
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
