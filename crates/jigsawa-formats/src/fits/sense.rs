//! Do an image's numbers make sense? Floats in the wrong order of bytes, or behind a place where bytes were lost, have
//! exponents by chance: a quarter of them is beyond anything that light can be. Those of whole numbers, whose last
//! bytes are zero, become smaller than any.
//!
//! A sample of rows is looked at when a file is opened. What is infinite or beyond [`ABSURD`] counts as no data
//! wherever it stands; where such values are of many kinds (one kind is some program's mark for no data), the file is
//! refused. Bytes that are swapped within 16-bit numbers cannot be told from light this way.

use crate::error::FileError;
use jigsawa_core::number::Convert;

/// No measurement is larger: its square still is a 32-bit float.
pub(super) const ABSURD: f32 = 1e18;

/// Rows that are looked at, and values at most where rows are very long.
pub(super) const ROWS: usize = 48;
pub(super) const MOST_VALUES: usize = 1 << 21;

/// Different absurd values that no mark for missing data explains.
const KINDS: usize = 8;

/// Such a share of values that are too small to be normal numbers (below 1.2e-38, but not zero) is no light. The tails of
/// made-up stars come so low, in a thin ring.
const TINY_SHARE: f32 = 0.25;

/// Is it a measurement?
pub(super) const fn sound(v: f32) -> bool {
    // Not true of NaN either.
    v.abs() <= ABSURD
}

/// The share of values in a sample that are no measurements and not marked as missing by NaN.
///
/// # Errors
/// When there are such of many kinds.
pub(super) fn check(sample: &[f32]) -> Result<f32, FileError> {
    let mut kinds: Vec<f32> = Vec::new();
    let (mut absurd, mut tiny, mut valued) = (0usize, 0usize, 0usize);
    for v in sample.iter().filter(|v| !v.is_nan()) {
        valued += 1;
        if sound(*v) {
            tiny += usize::from(v.is_subnormal());
            continue;
        }
        absurd += 1;
        if v.is_finite() && kinds.len() < KINDS && !kinds.contains(v) {
            kinds.push(*v);
        }
    }
    let share = |n: usize| n.single() / valued.max(1).single();
    if kinds.len() >= KINDS || share(tiny) > TINY_SHARE {
        return Err(FileError::Senseless {
            percent: f64::from(share(absurd + tiny)) * 100.0,
        });
    }
    Ok(share(absurd))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn swapped_bytes_are_told_from_marks_and_light() {
        let light: Vec<f32> = (0..5000)
            .map(|i| 1000.0 + (i * 7919 % 1013).single() * 0.31)
            .collect();
        assert_eq!(check(&light).unwrap(), 0.0);
        let swapped = |v: &f32| f32::from_bits(v.to_bits().swap_bytes());
        let of_light: Vec<f32> = light.iter().map(swapped).collect();
        assert!(matches!(check(&of_light), Err(FileError::Senseless { .. })));
        let of_whole: Vec<f32> = light.iter().map(|v| swapped(&v.round())).collect();
        assert!(matches!(check(&of_whole), Err(FileError::Senseless { .. })));
        let mut marked = light;
        marked[..500].fill(f32::MAX);
        marked[500..1000].fill(f32::INFINITY);
        marked[1000..2000].fill(f32::NAN);
        assert_eq!(check(&marked).unwrap(), 0.25);
        assert_eq!(check(&[]).unwrap(), 0.0);
    }
}
