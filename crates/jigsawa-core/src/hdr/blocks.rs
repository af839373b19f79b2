//! The few bright pixels of a plane: of blocks that have none, which are nearly all, only that is found out.

use multiversion::multiversion;

/// Values of a block.
const BLOCK: usize = 64;

/// Calls `found` with the place of each value from `least` on, in order.
pub(super) fn each_from(values: &[f32], least: f32, mut found: impl FnMut(usize)) {
    for (b, block) in values.chunks(BLOCK).enumerate() {
        if any_from(block, least) {
            let bright = block.iter().enumerate().filter(|(_, v)| **v >= least);
            for (i, _) in bright {
                found(b * BLOCK + i);
            }
        }
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn any_from(block: &[f32], least: f32) -> bool {
    block.iter().map(|v| u32::from(*v >= least)).sum::<u32>() > 0
}

/// Maxima that are looked for side by side.
const LANES: usize = 16;

/// The highest value; the lowest number there is where all are missing.
#[multiversion(targets("x86_64+avx2"))]
pub(super) fn highest(values: &[f32]) -> f32 {
    let (blocks, rest) = values.as_chunks::<LANES>();
    let higher = |most: f32, v: f32| if v > most { v } else { most };
    let mut most = [f32::MIN; LANES];
    for block in blocks {
        for k in 0..LANES {
            most[k] = higher(most[k], block[k]);
        }
    }
    most.iter().chain(rest).copied().fold(f32::MIN, higher)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number::Convert;

    #[test]
    fn bright_pixels_are_found_wherever_they_are() {
        let mut values: Vec<f32> = (0..1000).map(|i| (i % 7).single()).collect();
        for (k, i) in [0, 63, 64, 500, 999].into_iter().enumerate() {
            values[i] = 50.0 + k.single();
        }
        values[200] = f32::NAN;
        let mut found = Vec::new();
        each_from(&values, 50.0, |i| found.push(i));
        assert_eq!(found, [0, 63, 64, 500, 999]);
        assert_eq!(highest(&values), 54.0);
        assert_eq!(highest(&values[..3]), 50.0);
        assert_eq!(highest(&[f32::NAN; 20]), f32::MIN);
    }
}
