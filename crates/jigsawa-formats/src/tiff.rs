//! TIFF out: 16-bit or 32-bit float RGB, from the top row down, in strips, plain (a photo editor opens
//! it at once); `BigTIFF` where four gigabytes do not suffice.

use std::fs::File;
use std::io::BufWriter;
use std::sync::Arc;

use tiff::encoder::colortype::{ColorType, RGB16, RGB32Float};
use tiff::encoder::{ImageEncoder, Rational, TiffEncoder, TiffKind, TiffKindBig, TiffKindStandard};
use tiff::tags::{ResolutionUnit, Tag};

use crate::error::FileError;
use crate::whole::Unfinished;

/// Rows a strip: `next` is asked for this many, fewer only at the end.
pub const STRIP_ROWS: usize = 64;

/// Beyond this many bytes of pixels the 32-bit offsets of plain TIFF would not suffice.
const MOST_PLAIN_BYTES: u64 = 4_000_000_000;

/// Rows of a picture, asked for from the top.
pub type NextRows<'a, T> = dyn FnMut(usize) -> Result<Arc<Vec<T>>, FileError> + 'a;

/// Writes 16-bit samples: red, green, blue of each pixel. `next(n)` gives the next `n` rows.
///
/// # Errors
/// What `next` says, or that the disk does not take the file.
pub fn write_16(
    file: &Unfinished,
    size: (usize, usize),
    title: &str,
    next: &mut NextRows<'_, u16>,
) -> Result<(), FileError> {
    write::<RGB16>(file, size, title, next)
}

/// Writes 32-bit float samples: linear values as they are.
///
/// # Errors
/// What `next` says, or that the disk does not take the file.
pub fn write_float(
    file: &Unfinished,
    size: (usize, usize),
    title: &str,
    next: &mut NextRows<'_, f32>,
) -> Result<(), FileError> {
    write::<RGB32Float>(file, size, title, next)
}

fn write<C: ColorType>(
    file: &Unfinished,
    size: (usize, usize),
    title: &str,
    next: &mut NextRows<'_, C::Inner>,
) -> Result<(), FileError>
where
    [C::Inner]: tiff::encoder::TiffValue,
{
    let out = File::create(file.path()).map_err(FileError::io("cannot write the picture"))?;
    let out = BufWriter::with_capacity(1 << 20, out);
    let bytes = (size.0 * size.1 * 3 * size_of::<C::Inner>()) as u64;
    if bytes > MOST_PLAIN_BYTES {
        let encoder = TiffEncoder::<_, TiffKindBig>::new_generic(out).map_err(refused)?;
        strips::<C, _>(encoder, size, title, next)
    } else {
        let encoder = TiffEncoder::<_, TiffKindStandard>::new_generic(out).map_err(refused)?;
        strips::<C, _>(encoder, size, title, next)
    }
}

fn strips<C: ColorType, K: TiffKind>(
    mut encoder: TiffEncoder<BufWriter<File>, K>,
    (width, height): (usize, usize),
    title: &str,
    next: &mut NextRows<'_, C::Inner>,
) -> Result<(), FileError>
where
    [C::Inner]: tiff::encoder::TiffValue,
{
    let mut image: ImageEncoder<'_, _, C, K> = encoder
        .new_image::<C>(width as u32, height as u32)
        .map_err(refused)?;
    image.rows_per_strip(STRIP_ROWS as u32).map_err(refused)?;
    image.resolution(ResolutionUnit::Inch, Rational { n: 300, d: 1 });
    let printable: String = title
        .chars()
        .map(|c| if (' '..='~').contains(&c) { c } else { '?' })
        .collect();
    let tags = image.encoder();
    tags.write_tag(Tag::ImageDescription, printable.as_str())
        .map_err(refused)?;
    tags.write_tag(Tag::Software, "Jigsawa").map_err(refused)?;
    for y in (0..height).step_by(STRIP_ROWS) {
        let rows = next(STRIP_ROWS.min(height - y))?;
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
