//! Rice coding of differences (Rice, Yeh & Miller 1993, AIAA 93-4541), as FITS 4.0 §10.4.1 writes it down.
//!
//! The first value stands as it is. Blocks of values follow, each with the number of low bits that are written
//! plainly: differences to the value before, folded so that small ones of either sign are small numbers, their high part as that many
//! zeros and a one.

use super::bits::Bits;
use jigsawa_core::number::Convert;

/// Bits of a value, of the number that begins a block, and that number for plain differences.
const KINDS: [(u32, u32, u32); 3] = [(8, 3, 6), (16, 4, 14), (32, 5, 25)];

/// Unpacks `count` values of so many bytes. `None` when the stream ends before, or has no such values.
pub(super) fn unpack(
    bytes: &[u8],
    value_bytes: usize,
    block: usize,
    count: usize,
) -> Option<Vec<i32>> {
    let (bits, begins, plain) = *KINDS.iter().find(|k| k.0 as usize == 8 * value_bytes)?;
    let mut stream = Bits::new(bytes);
    let mut last = stream.take(bits)?;
    let mask = u32::MAX >> (32 - bits);
    let mut values = Vec::with_capacity(count);
    while values.len() < count {
        let wanted = block.max(1).min(count - values.len());
        let low = stream.take(begins)?;
        if low == 0 {
            values.resize(values.len() + wanted, signed(last, bits));
            continue;
        }
        let low = low - 1;
        for _ in 0..wanted {
            let folded = if low == plain {
                stream.take(bits)?
            } else {
                // A high part beyond the value's bits is no value; what is left of it is cut as arithmetic would.
                let high = stream.zeros()?;
                high.checked_shl(low).unwrap_or(0) | stream.take(low)?
            };
            let difference = if folded & 1 == 0 {
                folded >> 1
            } else {
                !(folded >> 1)
            };
            last = last.wrapping_add(difference) & mask;
            values.push(signed(last, bits));
        }
    }
    Some(values)
}

/// Bytes are unsigned, the others signed.
fn signed(value: u32, bits: u32) -> i32 {
    if bits == 16 {
        i32::from(value.u16().i16())
    } else {
        value.i32()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_worked_out_by_hand() {
        // 100; one block with 1 low bit: +1 is 2 (high 1, low 0), -1 is 1 (high 0, low 1), 0 is 0.
        // 00000000 01100100, then 0010 | 01 0 | 1 1 | 1 0
        let bytes = [0, 100, 0b0010_0101, 0b1100_0000];
        assert_eq!(unpack(&bytes, 2, 32, 3), Some(vec![101, 100, 100]));
        assert_eq!(unpack(&bytes[..3], 2, 32, 3), None);
        assert_eq!(unpack(&bytes, 3, 32, 3), None);
        // A block of equal values.
        assert_eq!(unpack(&[200, 0], 1, 32, 5), Some(vec![200; 5]));
    }
}
