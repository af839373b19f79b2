//! PNG out: 8 bits a channel, from the top row down.

use std::fs::File;
use std::io::{BufWriter, Write};

use crate::error::FileError;
use crate::whole::Unfinished;

/// An RGB picture in the making.
pub struct PngWriter {
    file: Unfinished,
    stream: png::StreamWriter<'static, BufWriter<File>>,
    row: Vec<u8>,
}

impl PngWriter {
    /// Begins a picture; `title` goes into its text.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn create(
        file: Unfinished,
        width: usize,
        height: usize,
        title: &str,
    ) -> Result<Self, FileError> {
        let mut encoder = encoder(&file, width, height)?;
        encoder
            .add_itxt_chunk("Title".to_owned(), title.to_owned())
            .map_err(refused)?;
        encoder
            .add_itxt_chunk("Software".to_owned(), "Jigsawa".to_owned())
            .map_err(refused)?;
        let stream = encoder
            .write_header()
            .and_then(|w| w.into_stream_writer_with_size(1 << 18))
            .map_err(refused)?;
        Ok(Self {
            file,
            stream,
            row: Vec::new(),
        })
    }

    /// Appends whole rows of 16-bit samples (red, green, blue), rounded to 8 bits.
    ///
    /// # Errors
    /// When the disk does not take them.
    pub fn rows(&mut self, samples: &[u16]) -> Result<(), FileError> {
        self.row.clear();
        self.row
            .extend(samples.iter().map(|v| ((u32::from(*v) + 128) / 257) as u8));
        self.stream
            .write_all(&self.row)
            .map_err(FileError::io("cannot write the picture"))
    }

    /// Completes the file, still under its temporary name.
    ///
    /// # Errors
    /// When rows are missing or the disk does not take the last of it.
    pub fn complete(self) -> Result<Unfinished, FileError> {
        self.stream.finish().map_err(refused)?;
        Ok(self.file)
    }
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
    let mut encoder = encoder(&file, width, height)?;
    if pictures.len() > 1 {
        encoder
            .set_animated(pictures.len() as u32, 0)
            .and_then(|()| {
                encoder.set_frame_delay((1000.0 * seconds).clamp(1.0, 60_000.0) as u16, 1000)
            })
            .map_err(refused)?;
    }
    let mut writer = encoder.write_header().map_err(refused)?;
    for p in pictures {
        writer.write_image_data(p).map_err(refused)?;
    }
    writer.finish().map_err(refused)?;
    Ok(file)
}

/// A small picture in memory, for pages that hold their pictures. Three bytes a pixel, top row first.
///
/// # Errors
/// When the bytes are not those of the size.
pub fn in_memory((width, height): (usize, usize), rgb: &[u8]) -> Result<Vec<u8>, FileError> {
    let mut bytes = Vec::new();
    let mut writer = settled(&mut bytes, width, height)
        .write_header()
        .map_err(refused)?;
    writer.write_image_data(rgb).map_err(refused)?;
    writer.finish().map_err(refused)?;
    Ok(bytes)
}

/// An encoder into a file for 8-bit sRGB of this size.
fn encoder(
    file: &Unfinished,
    width: usize,
    height: usize,
) -> Result<png::Encoder<'static, BufWriter<File>>, FileError> {
    let out = File::create(file.path()).map_err(FileError::io("cannot write the picture"))?;
    Ok(settled(BufWriter::new(out), width, height))
}

fn settled<'a, W: Write>(out: W, width: usize, height: usize) -> png::Encoder<'a, W> {
    let mut encoder = png::Encoder::new(out, width as u32, height as u32);
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
