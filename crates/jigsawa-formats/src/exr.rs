//! EXR out: linear light from the top row down, block by block: red, green and blue, or brightness alone, as 32-bit
//! float or as half.

use exr::block::writer::ChunksWriter;
use exr::block::{BlockIndex, UncompressedBlock};
use exr::math::Vec2;
use exr::meta::attribute::{ChannelDescription, LineOrder, SampleType};
use exr::meta::header::{Header, ImageAttributes, LayerAttributes};
use exr::meta::{BlockDescription, MetaData};
use exr::prelude::{Compression, Text, f16};

use crate::about::{About, NextRows};
use crate::error::FileError;
use crate::whole::Unfinished;

/// What a pixel of the file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pixel {
    /// Red, green and blue; else brightness alone.
    pub colour: bool,
    /// 16-bit float of up to 65504, known to a two-thousandth; else 32-bit.
    pub half: bool,
}

impl Pixel {
    /// Red, green and blue as 32-bit float.
    pub const COLOUR: Self = Self {
        colour: true,
        half: false,
    };

    /// Names of the channels, as the format wants them: in the order of the alphabet; and the place of each in a pixel of
    /// the rows that are given.
    const fn channels(self) -> &'static [(&'static str, usize)] {
        if self.colour {
            &[("B", 2), ("G", 1), ("R", 0)]
        } else {
            &[("Y", 0)]
        }
    }
}

/// Writes the rows that `next` gives, three values a pixel or one; values are linear light, 1 being full, and NaN is kept.
///
/// # Errors
/// What `next` says, or that the disk does not take the file.
pub fn write(
    file: &Unfinished,
    size: (usize, usize),
    pixel: Pixel,
    about: &About,
    next: &mut NextRows<'_, f32>,
) -> Result<(), FileError> {
    let (width, height) = size;
    let kind = if pixel.half {
        SampleType::F16
    } else {
        SampleType::F32
    };
    let channel = |(name, _): &(&str, usize)| ChannelDescription::named(Text::from(*name), kind);
    let mut header = Header::new(
        Text::from("picture"),
        (width, height),
        pixel.channels().iter().map(channel).collect(),
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
    file.buffered(|out| {
        let written =
            exr::block::write(out, [header].into_iter().collect(), true, |meta, writer| {
                blocks(&meta, writer, (size, pixel), next, &mut stopped)
            });
        match (stopped, written) {
            (Some(e), _) => Err(e),
            (None, Err(exr::error::Error::Io(error))) => Err(FileError::Io {
                doing: "cannot write the picture",
                error,
            }),
            (None, Err(e)) => Err(FileError::Picture(e.to_string())),
            (None, Ok(())) => Ok(()),
        }
    })
}

/// Rows of a block of this compression.
const BLOCK_ROWS: usize = 16;

fn blocks<W: ChunksWriter>(
    meta: &MetaData,
    writer: &mut W,
    ((width, height), pixel): ((usize, usize), Pixel),
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
        let channels = pixel.channels();
        let mut data = Vec::with_capacity(4 * channels.len() * width * rows);
        for line in pixels.chunks_exact(channels.len() * width) {
            for (_, place) in channels {
                let values = line.iter().skip(*place).step_by(channels.len());
                if pixel.half {
                    data.extend(values.flat_map(|v| f16::from_f32(*v).to_ne_bytes()));
                } else {
                    data.extend(values.flat_map(|v| v.to_ne_bytes()));
                }
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
