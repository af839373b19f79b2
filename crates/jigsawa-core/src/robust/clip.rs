//! Level and noise of a set of values most of which are background: repeated clipping around the
//! median (the usual kappa-sigma clipping, with robust centre and width).

use super::median::{MAD_TO_SIGMA, mad, median};

/// The outcome of [`clipped`].
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Clipped {
    /// Median of the values that were kept.
    pub level: f32,
    /// Standard deviation of the noise, from their median absolute deviation.
    pub sigma: f32,
    /// How many values were kept.
    pub kept: usize,
}

/// Level and noise of finite values by clipping at `low` and `high` sigma around the median until
/// nothing changes, five rounds at most. Values are reordered; `scratch` is used for deviations.
/// `None` for no values.
pub fn clipped(
    values: &mut [f32],
    low: f32,
    high: f32,
    scratch: &mut Vec<f32>,
) -> Option<Clipped> {
    if values.is_empty() {
        return None;
    }
    let mut kept = values.len();
    loop {
        let level = median(&mut values[..kept]);
        scratch.clear();
        scratch.extend_from_slice(&values[..kept]);
        let sigma = mad(scratch, level) * MAD_TO_SIGMA as f32;
        let (floor, ceiling) = (level - low * sigma, level + high * sigma);
        let before = kept;
        let mut i = 0;
        while i < kept {
            if values[i] < floor || values[i] > ceiling {
                kept -= 1;
                values.swap(i, kept);
            } else {
                i += 1;
            }
        }
        // 1 % more or less moves the level by a hundredth of sigma: not worth another selection.
        if (before - kept) * 100 <= before || sigma == 0.0 {
            return Some(Clipped { level, sigma, kept });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bright_outliers_do_not_move_the_level() {
        let mut v: Vec<f32> = (0..1000).map(|i| 100.0 + (i % 21) as f32 - 10.0).collect();
        v.extend((0..200).map(|i| 500.0 + i as f32));
        let c = clipped(&mut v, 3.0, 3.0, &mut Vec::new()).unwrap();
        assert!((c.level - 100.0).abs() < 0.6, "{c:?}");
        assert_eq!(c.kept, 1000);
    }

    #[test]
    fn constant_values_have_no_noise_and_none_have_no_level() {
        let c = clipped(&mut [7.0; 50], 3.0, 3.0, &mut Vec::new()).unwrap();
        assert_eq!((c.level, c.sigma, c.kept), (7.0, 0.0, 50));
        assert!(clipped(&mut [], 3.0, 3.0, &mut Vec::new()).is_none());
    }
}
