//! TIFF out: 16-bit or 32-bit float RGB, from the top row down, in strips, plain (a photo editor opens
//! it at once); `BigTIFF` where four gigabytes do not suffice.

use jigsawa_core::number::Convert;
use std::fs::File;
use std::io::BufWriter;

use tiff::encoder::colortype::{ColorType, RGB16, RGB32Float};
use tiff::encoder::{ImageEncoder, Rational, TiffEncoder, TiffKind, TiffKindBig, TiffKindStandard};
use tiff::tags::{ResolutionUnit, Tag};

use crate::about::{About, NextRows, STRIP_ROWS, srgb_profile};
use crate::error::FileError;
use crate::whole::Unfinished;

/// Beyond this many bytes of pixels the 32-bit offsets of plain TIFF would not suffice.
const MOST_PLAIN_BYTES: u64 = 4_000_000_000;

/// Writes 16-bit samples, sRGB with its profile. `next` gives the rows.
///
/// # Errors
/// What `next` says, or that the disk does not take the file.
pub fn write_16(
    file: &Unfinished,
    size: (usize, usize),
    about: &About,
    next: &mut NextRows<'_, u16>,
) -> Result<(), FileError> {
    write::<RGB16>(file, size, true, about, next)
}

/// Writes 32-bit float samples as they are. `encoded` says that they are sRGB from 0 to 1, which the profile then
/// tells; linear values have none.
///
/// # Errors
/// What `next` says, or that the disk does not take the file.
pub fn write_float(
    file: &Unfinished,
    size: (usize, usize),
    encoded: bool,
    about: &About,
    next: &mut NextRows<'_, f32>,
) -> Result<(), FileError> {
    write::<RGB32Float>(file, size, encoded, about, next)
}

fn write<C: ColorType>(
    file: &Unfinished,
    size: (usize, usize),
    encoded: bool,
    about: &About,
    next: &mut NextRows<'_, C::Inner>,
) -> Result<(), FileError>
where
    [C::Inner]: tiff::encoder::TiffValue,
{
    let bytes = (size.0 * size.1 * 3 * size_of::<C::Inner>()) as u64;
    file.buffered(|out| {
        if bytes > MOST_PLAIN_BYTES {
            let encoder = TiffEncoder::<_, TiffKindBig>::new_generic(out).map_err(refused)?;
            strips::<C, _>(encoder, size, encoded, about, next)
        } else {
            let encoder = TiffEncoder::<_, TiffKindStandard>::new_generic(out).map_err(refused)?;
            strips::<C, _>(encoder, size, encoded, about, next)
        }
    })
}

fn strips<C: ColorType, K: TiffKind>(
    mut encoder: TiffEncoder<&mut BufWriter<File>, K>,
    (width, height): (usize, usize),
    encoded: bool,
    about: &About,
    next: &mut NextRows<'_, C::Inner>,
) -> Result<(), FileError>
where
    [C::Inner]: tiff::encoder::TiffValue,
{
    let mut image: ImageEncoder<'_, _, C, K> = encoder
        .new_image::<C>(width.u32(), height.u32())
        .map_err(refused)?;
    image.rows_per_strip(STRIP_ROWS.u32()).map_err(refused)?;
    image.resolution(ResolutionUnit::Inch, Rational { n: 300, d: 1 });
    let tags = image.encoder();
    tags.write_tag(Tag::ImageDescription, about.ascii().as_str())
        .map_err(refused)?;
    tags.write_tag(Tag::Software, "Jigsawa").map_err(refused)?;
    if encoded {
        tags.write_tag(Tag::IccProfile, srgb_profile())
            .map_err(refused)?;
    }
    let mut rows = Vec::new();
    for y in (0..height).step_by(STRIP_ROWS) {
        next(STRIP_ROWS.min(height - y), &mut rows)?;
        image.write_strip(&rows).map_err(refused)?;
    }
    image.finish().map_err(refused)
}

fn refused(error: tiff::TiffError) -> FileError {
    match error {
        tiff::TiffError::IoError(error) => FileError::Io {
            doing: "cannot write the picture",
            error,
        },
        other => FileError::Picture(other.to_string()),
    }
}
