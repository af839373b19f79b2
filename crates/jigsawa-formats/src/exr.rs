//! EXR out: linear 32-bit float red, green and blue, from the top row down, block by block.

use std::fs::File;
use std::io::BufWriter;

use exr::block::writer::ChunksWriter;
use exr::block::{BlockIndex, UncompressedBlock};
use exr::math::Vec2;
use exr::meta::attribute::{ChannelDescription, LineOrder, SampleType};
use exr::meta::header::{Header, ImageAttributes, LayerAttributes};
use exr::meta::{BlockDescription, MetaData};
use exr::prelude::{Compression, Text};

use crate::about::{About, NextRows};
use crate::error::FileError;
use crate::whole::Unfinished;

/// Writes the rows that `next` gives; values are linear light, 1 being full, and NaN is kept.
///
/// # Errors
/// What `next` says, or that the disk does not take the file.
pub fn write(
    file: &Unfinished,
    size: (usize, usize),
    about: &About,
    next: &mut NextRows<'_, f32>,
) -> Result<(), FileError> {
    let (width, height) = size;
    let out = File::create(file.path()).map_err(FileError::io("cannot write the picture"))?;
    let channel = |name: &str| ChannelDescription::named(Text::from(name), SampleType::F32);
    let mut header = Header::new(
        Text::from("picture"),
        (width, height),
        // The format wants channels in the order of the alphabet.
        ["B", "G", "R"].map(channel).into_iter().collect(),
    )
    .with_encoding(
        Compression::ZIP16,
        BlockDescription::ScanLines,
        LineOrder::Increasing,
    )
    .with_shared_attributes(ImageAttributes::with_size((width, height)));
    header.own_attributes = LayerAttributes {
        software_name: Some(Text::from("Jigsawa")),
        comments: Text::new_or_none(about.text()),
        ..LayerAttributes::named("picture")
    };
    // An error of `next` must come out as it is, and the library knows its own only.
    let mut stopped = None;
    let written = exr::block::write(
        BufWriter::with_capacity(1 << 20, out),
        [header].into_iter().collect(),
        true,
        |meta, writer| blocks(&meta, writer, size, next, &mut stopped),
    );
    match (stopped, written) {
        (Some(e), _) => Err(e),
        (None, Err(exr::error::Error::Io(error))) => Err(FileError::Io {
            doing: "cannot write the picture",
            error,
        }),
        (None, Err(e)) => Err(FileError::Picture(e.to_string())),
        (None, Ok(())) => Ok(()),
    }
}

/// Rows of a block of this compression.
const BLOCK_ROWS: usize = 16;

fn blocks<W: ChunksWriter>(
    meta: &MetaData,
    writer: &mut W,
    (width, height): (usize, usize),
    next: &mut NextRows<'_, f32>,
    stopped: &mut Option<FileError>,
) -> exr::error::UnitResult {
    let mut pixels = Vec::new();
    for (number, y) in (0..height).step_by(BLOCK_ROWS).enumerate() {
        let rows = BLOCK_ROWS.min(height - y);
        if let Err(e) = next(rows, &mut pixels) {
            *stopped = Some(e);
            return Err(exr::error::Error::Aborted);
        }
        let mut data = Vec::with_capacity(12 * width * rows);
        for line in pixels.chunks_exact(3 * width) {
            for channel in [2, 1, 0] {
                let values = line.iter().skip(channel).step_by(3);
                data.extend(values.flat_map(|v| v.to_ne_bytes()));
            }
        }
        let index = BlockIndex {
            layer: 0,
            pixel_position: Vec2(0, y),
            pixel_size: Vec2(width, rows),
            level: Vec2(0, 0),
        };
        let chunk = UncompressedBlock { index, data }.compress_to_chunk(&meta.headers)?;
        writer.write_chunk(number, chunk)?;
    }
    Ok(())
}
