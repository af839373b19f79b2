//! Bytes of a tile as numbers: inflated, put in order, read.

use jigsawa_core::number::Convert;
use std::io::Read;

use flate2::bufread::GzDecoder;

use super::table::bytes_of;

/// Inflates a tile of so many pixels; `None` when it is damaged or larger than pixels can be.
pub(super) fn inflated(packed: &[u8], count: usize) -> Option<Vec<u8>> {
    let most = 8 * count;
    let mut bytes = Vec::new();
    let found = GzDecoder::new(packed)
        .take(most as u64 + 1)
        .read_to_end(&mut bytes);
    (found.is_ok() && bytes.len() <= most).then_some(bytes)
}

/// Bytes that were sorted by their rank (the highest of all values first), value by value.
pub(super) fn in_order(sorted: &[u8], count: usize) -> Vec<u8> {
    let width = sorted.len() / count.max(1);
    if width < 2 || width * count != sorted.len() {
        return sorted.to_vec();
    }
    let mut bytes = vec![0; sorted.len()];
    for (rank, of_rank) in sorted.chunks_exact(count).enumerate() {
        for (i, b) in of_rank.iter().enumerate() {
            bytes[i * width + rank] = *b;
        }
    }
    bytes
}

/// So many floats, of 32 or 64 bits.
pub(super) fn floats(bytes: &[u8], count: usize) -> Option<Vec<f32>> {
    if bytes.len() == 4 * count {
        return plain(bytes, b'E', count);
    }
    (bytes.len() == 8 * count).then(|| plain(bytes, b'D', count))?
}

/// So many whole numbers, of as many bytes as there are for each.
pub(super) fn integers(bytes: &[u8], count: usize) -> Option<Vec<i64>> {
    if count == 0 || !bytes.len().is_multiple_of(count) {
        return None;
    }
    Some(match bytes.len() / count {
        1 => bytes.iter().map(|b| i64::from(*b)).collect(),
        2 => bytes
            .as_chunks()
            .0
            .iter()
            .map(|b| i64::from(i16::from_be_bytes(*b)))
            .collect(),
        4 => bytes
            .as_chunks()
            .0
            .iter()
            .map(|b| i64::from(i32::from_be_bytes(*b)))
            .collect(),
        8 => bytes
            .as_chunks()
            .0
            .iter()
            .map(|b| i64::from_be_bytes(*b))
            .collect(),
        _ => return None,
    })
}

/// So many values of a form.
pub(super) fn plain(bytes: &[u8], form: u8, count: usize) -> Option<Vec<f32>> {
    if bytes.len() as u64 != bytes_of(form) * count as u64 {
        return None;
    }
    Some(match form {
        b'E' => bytes
            .as_chunks()
            .0
            .iter()
            .map(|b| f32::from_be_bytes(*b))
            .collect(),
        b'D' => bytes
            .as_chunks()
            .0
            .iter()
            .map(|b| f64::from_be_bytes(*b).single())
            .collect(),
        _ => integers(bytes, count)?
            .into_iter()
            .map(Convert::single)
            .collect(),
    })
}
