//! The table that holds a packed image: its columns, and what a row says of its tile.

use super::super::card::Header;
use super::super::unit::{missing, whole};
use crate::error::HeaderError;
use jigsawa_core::number::Convert;

/// Where a table's rows and the bytes that they name are in the file.
pub(super) struct Table {
    pub(super) data: u64,
    pub(super) row_bytes: u64,
    pub(super) heap: u64,
    pub(super) heap_bytes: u64,
}

/// A column of the table.
#[derive(Clone, Copy)]
pub(super) struct Column {
    /// Bytes before it in a row.
    pub(super) offset: u64,
    /// The letter of its form, as in J for a 32-bit number.
    pub(super) form: u8,
    /// That of what it leads to, for P and Q.
    pub(super) of: u8,
}

/// Where in a row its parts are.
pub(super) struct Columns {
    pub(super) packed: Column,
    pub(super) gzipped: Option<Column>,
    pub(super) plain: Option<Column>,
    pub(super) scale: Option<Column>,
    pub(super) zero: Option<Column>,
    pub(super) blank: Option<Column>,
    /// ZSCALE and ZZERO where they are the same for all tiles.
    pub(super) constant: Option<(f64, f64)>,
}

/// Bytes of a value of a form; 0 for what has none that are read here.
pub(super) const fn bytes_of(form: u8) -> u64 {
    match form {
        b'L' | b'B' | b'A' => 1,
        b'I' => 2,
        b'J' | b'E' => 4,
        b'K' | b'D' | b'C' | b'P' => 8,
        b'M' | b'Q' => 16,
        _ => 0,
    }
}

/// A card whose value cannot be.
pub(super) fn value(name: &str, value: &str) -> HeaderError {
    HeaderError::Value {
        name: name.to_owned(),
        value: value.to_owned(),
    }
}

impl Columns {
    /// Reads the columns of a table whose rows have so many bytes.
    pub(super) fn of(h: &Header, row_bytes: u64) -> Result<Self, HeaderError> {
        let fields = whole(h, "TFIELDS", 1..=999)?.ok_or_else(|| missing("TFIELDS"))?;
        let mut found: Vec<(String, Column)> = Vec::new();
        let mut offset = 0u64;
        for i in 1..=fields {
            let name = format!("TFORM{i}");
            let form = h.text(&name).ok_or_else(|| missing(&name))?;
            let letters = form
                .find(|c: char| !c.is_ascii_digit())
                .unwrap_or(form.len());
            let repeat: u64 = if letters == 0 {
                Ok(1)
            } else {
                form[..letters].parse()
            }
            .map_err(|_| value(&name, &form))?;
            let rest = &form.as_bytes()[letters..];
            let (Some(letter), of) = (rest.first().copied(), rest.get(1).copied()) else {
                return Err(value(&name, &form));
            };
            let bytes = match letter {
                b'X' => repeat.div_ceil(8),
                other => repeat.saturating_mul(bytes_of(other)),
            };
            if repeat > 0
                && let Some(title) = h.text(&format!("TTYPE{i}"))
            {
                let column = Column {
                    offset,
                    form: letter,
                    of: of.unwrap_or(b'B'),
                };
                found.push((title.to_uppercase(), column));
            }
            offset = offset.saturating_add(bytes);
        }
        if offset > row_bytes {
            return Err(value("NAXIS1", &row_bytes.to_string()));
        }
        let column = |name: &str| found.iter().find(|(n, _)| n == name).map(|(_, c)| *c);
        let leads = |c: &Column| matches!(c.form, b'P' | b'Q');
        Ok(Self {
            packed: column("COMPRESSED_DATA")
                .filter(leads)
                .ok_or_else(|| missing("COMPRESSED_DATA"))?,
            gzipped: column("GZIP_COMPRESSED_DATA").filter(leads),
            plain: column("UNCOMPRESSED_DATA").filter(leads),
            scale: column("ZSCALE"),
            zero: column("ZZERO"),
            blank: column("ZBLANK"),
            constant: h.number("ZSCALE").zip(h.number("ZZERO")),
        })
    }
}

/// The bytes of a row from a column on.
fn cell<const N: usize>(row: &[u8], column: Column) -> Option<[u8; N]> {
    let from = usize::try_from(column.offset).ok()?;
    row.get(from..from.checked_add(N)?)?.try_into().ok()
}

/// How many values a row leads to, and where they begin in the heap.
pub(super) fn descriptor(row: &[u8], column: Column) -> Option<(u64, u64)> {
    let (count, offset) = if column.form == b'P' {
        let both: [u8; 8] = cell(row, column)?;
        let of = |k: usize| {
            i64::from(i32::from_be_bytes(
                both[k..k + 4].try_into().unwrap_or_default(),
            ))
        };
        (of(0), of(4))
    } else {
        let both: [u8; 16] = cell(row, column)?;
        let of = |k: usize| i64::from_be_bytes(both[k..k + 8].try_into().unwrap_or_default());
        (of(0), of(8))
    };
    Some((u64::try_from(count).ok()?, u64::try_from(offset).ok()?))
}

/// The number in a row.
pub(super) fn number_in(row: &[u8], column: Column) -> Option<f64> {
    Some(match column.form {
        b'D' => f64::from_be_bytes(cell(row, column)?),
        b'E' => f64::from(f32::from_be_bytes(cell(row, column)?)),
        b'J' => f64::from(i32::from_be_bytes(cell(row, column)?)),
        b'I' => f64::from(i16::from_be_bytes(cell(row, column)?)),
        b'K' => i64::from_be_bytes(cell(row, column)?).real(),
        b'B' => f64::from(cell::<1>(row, column)?[0]),
        _ => return None,
    })
}
