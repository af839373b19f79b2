//! The units of a FITS file: headers read by our own hand and checked, before anything else believes them.
//!
//! A unit is a header (records of 80 characters in blocks of 2880 bytes, up to END) and the data that it promises
//! (Pence et al. 2010, A&A 524, A42, §4.4.1). What comes out is the first unit with an image, stored as it is or packed
//! in tiles (Pence et al. 2010, §10.1 of version 4.0 of the standard), with all numbers within what can be. Memory is
//! bounded by the header's length; nothing is allocated by a number that a header says.

use jigsawa_core::number::Convert;
use std::io;

use jigsawa_core::space::Size;

use super::card::{Header, Value};
use crate::error::{FileError, HeaderError};
use crate::select::Choice;

/// Bytes of a block.
const BLOCK: usize = 2880;

/// Bytes of a record.
const RECORD: usize = 80;

/// Blocks that a header may have: 58,000 records, where the history of 500 frames takes some thousands.
const HEADER_BLOCKS: u64 = 1600;

/// Units that are looked through for an image.
const UNITS: usize = 1000;

/// Axes that an image may have by the standard.
const AXES: u64 = 999;

/// Fields that a table may have by the standard.
const FIELDS: u64 = 999;

/// How many times smaller tiles can be than what they hold: gzip reaches 1032, sky never beyond 200.
const PACKED: u64 = 2000;

/// Images up to this size are believed whatever they are packed into.
const BELIEVED: u64 = 64 << 20;

/// The first unit with an image.
#[derive(Debug)]
pub(super) struct Unit {
    /// Its header.
    pub(super) header: Header,
    /// Pixels of a plane.
    pub(super) size: Size,
    /// 1, or 3 for colour.
    pub(super) planes: usize,
    /// BITPIX of the image.
    pub(super) bitpix: i32,
    /// Where its data begin.
    pub(super) data: u64,
    /// Bytes of its data, without padding.
    pub(super) bytes: u64,
    /// Is it packed in tiles?
    pub(super) packed: bool,
}

/// What is read from start to end.
pub(super) trait Stream {
    /// Reads on.
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize>;
    /// Passes over so many bytes; how many there were.
    fn skip(&mut self, bytes: u64) -> io::Result<u64>;
    /// Bytes that can follow at most.
    fn at_most(&self) -> u64;
}

/// Finds the first unit with an image, or the chosen one. The stream then stands at its data.
///
/// # Errors
/// What is wrong with the first header that cannot be read; `NoImage` when there is none.
pub(super) fn image(stream: &mut dyn Stream, choice: Option<&Choice>) -> Result<Unit, FileError> {
    let (mut at, mut images) = (0, 0);
    for number in 1..=UNITS {
        let Some(header) = read_header(stream, &mut at)? else {
            break;
        };
        let promise = Promise::of(&header, number == 1)?;
        images += usize::from(promise.image.is_some());
        let is_wanted = match choice {
            None => true,
            Some(Choice::Number(n)) => *n == images,
            Some(Choice::Name(name)) => header
                .text("EXTNAME")
                .is_some_and(|n| n.trim().eq_ignore_ascii_case(name)),
        };
        if let Some((axes, bitpix, packed)) = promise.image.filter(|_| is_wanted) {
            let (size, planes) = size_of(&axes)?;
            let bytes = promise.bytes;
            if bytes > stream.at_most() {
                return Err(truncated(at, bytes, stream.at_most()));
            }
            return Ok(Unit {
                header,
                size,
                planes,
                bitpix,
                data: at,
                bytes,
                packed,
            });
        }
        let padded = promise.bytes.next_multiple_of(BLOCK as u64);
        let passed = stream.skip(padded).map_err(reading)?;
        at += padded;
        if passed < padded {
            break;
        }
    }
    Err(match choice {
        Some(choice) if images > 0 => FileError::NoSuchImage {
            wanted: choice.to_string(),
            found: images,
        },
        _ => FileError::NoImage,
    })
}

/// Images with pixels that follow the data of one. What cannot be read is none: it is not asked for.
pub(super) fn further(stream: &mut dyn Stream, after: &Unit) -> usize {
    let mut at = after.data;
    let mut pass = after.bytes.next_multiple_of(BLOCK as u64);
    let mut images = 0;
    for _ in 0..UNITS {
        if stream.skip(pass).ok() != Some(pass) {
            break;
        }
        let Ok(Some(header)) = read_header(stream, &mut at) else {
            break;
        };
        let Ok(promise) = Promise::of(&header, false) else {
            break;
        };
        images += usize::from(promise.image.is_some());
        pass = promise.bytes.next_multiple_of(BLOCK as u64);
    }
    images
}

/// The error of a file that ends before its data do.
pub(super) fn truncated(header: u64, promised: u64, found: u64) -> FileError {
    FileError::Truncated {
        promised: header.saturating_add(promised),
        found: header.saturating_add(found),
    }
}

fn reading(error: io::Error) -> FileError {
    FileError::Io {
        doing: "cannot read it",
        error,
    }
}

/// The next header; `None` at the end of the file. Anything may stand behind the last unit.
fn read_header(stream: &mut dyn Stream, at: &mut u64) -> Result<Option<Header>, FileError> {
    let mut records: Vec<String> = Vec::new();
    let mut block = [0; BLOCK];
    for number in 0..HEADER_BLOCKS {
        let found = fill(stream, &mut block).map_err(reading)?;
        let begins = block.starts_with(b"SIMPLE  =") || block.starts_with(b"XTENSION=");
        if number == 0 && (found < RECORD || !begins) {
            return Ok(None);
        }
        *at += BLOCK as u64;
        let whole = found / RECORD * RECORD;
        for record in block[..whole].chunks_exact(RECORD) {
            if record.starts_with(b"END") && record[3..].iter().all(|b| *b == b' ') {
                return Ok(Some(Header::from_records(&records)));
            }
            records.push(readable(record));
        }
        if found < BLOCK {
            return Err(FileError::Truncated {
                promised: *at,
                found: *at - (BLOCK - found) as u64,
            });
        }
    }
    Err(HeaderError::NoEnd(HEADER_BLOCKS * BLOCK as u64).into())
}

/// A record as text: letters that the standard does not allow become question marks, so that nothing that a header
/// says can steer a terminal.
fn readable(record: &[u8]) -> String {
    let letter = |b: &u8| {
        if (b' '..=b'~').contains(b) {
            char::from(*b)
        } else {
            '?'
        }
    };
    record.iter().map(letter).collect()
}

fn fill(stream: &mut dyn Stream, into: &mut [u8]) -> io::Result<usize> {
    let mut found = 0;
    while found < into.len() {
        match stream.read(&mut into[found..]) {
            Ok(0) => break,
            Ok(n) => found += n,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(found)
}

/// What a header promises.
struct Promise {
    /// Bytes of data, without padding.
    bytes: u64,
    /// Axes and BITPIX of its image, and whether it is packed.
    image: Option<(Vec<u64>, i32, bool)>,
}

impl Promise {
    fn of(h: &Header, primary: bool) -> Result<Self, HeaderError> {
        let bitpix = bitpix(h, "BITPIX")?;
        let axes = axes(h, "NAXIS", AXES)?;
        let (extra, groups) = if primary {
            (0, 1)
        } else {
            (
                whole(h, "PCOUNT", 0..=u64::MAX)?.unwrap_or(0),
                whole(h, "GCOUNT", 0..=u64::MAX)?.unwrap_or(1),
            )
        };
        let pixels = product(&axes, "NAXIS")?;
        let bytes = pixels
            .checked_add(extra)
            .and_then(|n| n.checked_mul(groups))
            .and_then(|n| n.checked_mul(u64::from(bitpix.unsigned_abs() / 8)))
            .filter(|n| *n < 1 << 62)
            .ok_or_else(|| cannot_be("NAXIS", &axes))?;
        let is_image =
            primary || matches!(h.text("XTENSION").as_deref(), Some("IMAGE" | "IUEIMAGE"));
        let image = if is_image {
            (pixels > 0).then_some((axes, bitpix, false))
        } else {
            packed(h, &axes, bytes)?.map(|(axes, bitpix)| (axes, bitpix, true))
        };
        Ok(Self { bytes, image })
    }
}

/// Axes and BITPIX of an image that is packed into a table; `None` for any other table.
fn packed(h: &Header, table: &[u64], bytes: u64) -> Result<Option<(Vec<u64>, i32)>, HeaderError> {
    let says = h.get("ZIMAGE") == Some(&Value::Logical(true));
    if !says || h.text("XTENSION").as_deref() != Some("BINTABLE") {
        return Ok(None);
    }
    let stored = bitpix(h, "ZBITPIX")?;
    let axes = axes(h, "ZNAXIS", 9)?;
    let pixels = product(&axes, "ZNAXIS")?;
    whole(h, "TFIELDS", 1..=FIELDS)?.ok_or_else(|| missing("TFIELDS"))?;
    let [width, rows] = *table else {
        return Err(cannot_be("NAXIS", table));
    };
    if width == 0 || h.text("ZCMPTYPE").is_none() {
        return Err(missing("ZCMPTYPE"));
    }
    let sides = tile_sides(h)?;
    let tiles = axes.iter().enumerate().fold(1u64, |n, (i, axis)| {
        n.saturating_mul(axis.div_ceil(sides.get(i).copied().unwrap_or(1)))
    });
    if pixels > 0 && tiles != rows {
        return Err(HeaderError::Tiles { rows, tiles });
    }
    let promised = pixels.saturating_mul(u64::from(stored.unsigned_abs() / 8));
    if promised > BELIEVED.saturating_add(bytes.saturating_mul(PACKED)) {
        return Err(HeaderError::Packed {
            promised,
            found: bytes,
        });
    }
    // Where the packed bytes begin in the table's data.
    if let Some(heap) = whole(h, "THEAP", 0..=u64::MAX)?
        && (heap < width.saturating_mul(rows) || heap > bytes)
    {
        return Err(cannot_be("THEAP", &[heap]));
    }
    Ok((pixels > 0).then_some((axes, stored)))
}

/// Width, height and planes of the tiles of a packed image: one row of one plane where the header does not say.
pub(super) fn tile_sides(h: &Header) -> Result<[u64; 3], HeaderError> {
    let width = whole(h, "ZNAXIS1", 0..=1 << 53)?.unwrap_or(1).max(1);
    let mut sides = [width, 1, 1];
    for (i, side) in sides.iter_mut().enumerate() {
        let name = format!("ZTILE{}", i + 1);
        *side = whole(h, &name, 1..=u64::from(u32::MAX))?.unwrap_or(*side);
    }
    Ok(sides)
}

/// Width, height and planes; axes of length 1 at the end do not count.
fn size_of(axes: &[u64]) -> Result<(Size, usize), FileError> {
    let shape = || FileError::Shape {
        axes: axes.to_vec(),
    };
    let count = axes.iter().rposition(|n| *n != 1).map_or(0, |i| i + 1);
    let planes = match count {
        0..=2 => 1,
        3 if axes[2] == 3 => 3,
        _ => return Err(shape()),
    };
    let side = |i: usize| usize::try_from(axes.get(i).copied().unwrap_or(1)).unwrap_or(0);
    let size = Size::new(side(0), side(1)).ok_or_else(shape)?;
    Ok((size, planes))
}

fn bitpix(h: &Header, name: &str) -> Result<i32, HeaderError> {
    let number = h.number(name).ok_or_else(|| missing(name))?;
    match number.whole() {
        n @ (8 | 16 | 32 | 64 | -32 | -64) if number.fract() == 0.0 => Ok(n.i32()),
        _ => Err(HeaderError::Value {
            name: name.to_owned(),
            value: number.to_string(),
        }),
    }
}

fn axes(h: &Header, name: &str, most: u64) -> Result<Vec<u64>, HeaderError> {
    let count = whole(h, name, 0..=most)?.ok_or_else(|| missing(name))?;
    (1..=count)
        .map(|i| {
            let name = format!("{name}{i}");
            whole(h, &name, 0..=1 << 53)?.ok_or_else(|| missing(&name))
        })
        .collect()
}

/// Pixels in all; none for no axes.
fn product(axes: &[u64], name: &str) -> Result<u64, HeaderError> {
    if axes.is_empty() {
        return Ok(0);
    }
    let product = axes.iter().try_fold(1u64, |n, axis| n.checked_mul(*axis));
    product.ok_or_else(|| cannot_be(name, axes))
}

/// A card's whole number; `None` when it is not there.
pub(super) fn whole(
    h: &Header,
    name: &str,
    range: std::ops::RangeInclusive<u64>,
) -> Result<Option<u64>, HeaderError> {
    let Some(value) = h.get(name) else {
        return Ok(None);
    };
    let number = h.number(name).filter(|n| n.fract() == 0.0 && *n >= 0.0);
    match number.map(Convert::u64) {
        Some(n) if range.contains(&n) => Ok(Some(n)),
        _ => Err(HeaderError::Value {
            name: name.to_owned(),
            value: match value {
                Value::Text(t) => format!("'{t}'"),
                Value::Number(n) => n.to_string(),
                Value::Logical(l) => l.to_string(),
            },
        }),
    }
}

pub(super) fn missing(name: &str) -> HeaderError {
    HeaderError::Missing(name.to_owned())
}

fn cannot_be(name: &str, values: &[u64]) -> HeaderError {
    let values: Vec<String> = values.iter().map(ToString::to_string).collect();
    HeaderError::Value {
        name: name.to_owned(),
        value: values.join(" x "),
    }
}
