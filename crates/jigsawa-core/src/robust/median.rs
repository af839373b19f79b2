//! Median, quantiles and the median absolute deviation, by selection in place.

use crate::number::Convert;

/// For normal noise sigma = 1.4826 x the median absolute deviation: 1 / (quantile of 3/4).
pub const MAD_TO_SIGMA: f64 = 1.482_602_218_505_602;

/// The median of finite values, which are reordered; NaN for none. For an even number the mean of
/// the two in the middle.
pub fn median(values: &mut [f32]) -> f32 {
    let n = values.len();
    if n == 0 {
        return f32::NAN;
    }
    let (low, mid, _) = values.select_nth_unstable_by(n / 2, f32::total_cmp);
    if n % 2 == 1 {
        return *mid;
    }
    let below = low.iter().copied().fold(f32::NEG_INFINITY, f32::max);
    0.5 * (below + *mid)
}

/// The median of finite values that may be whole numbers: among equal values in the middle it lies as
/// far up their step as the count says (the median of grouped data). For values without ties it is
/// the usual median. They are reordered; NaN for none.
pub fn grouped_median(values: &mut [f32]) -> f32 {
    let middle = median(values);
    let (mut below, mut equal) = (0usize, 0usize);
    let (mut last, mut next) = (f32::NEG_INFINITY, f32::INFINITY);
    for v in values.iter() {
        if *v < middle {
            below += 1;
            last = last.max(*v);
        } else if *v > middle {
            next = next.min(*v);
        } else {
            equal += 1;
        }
    }
    if equal < 2 || !last.is_finite() || !next.is_finite() {
        return middle;
    }
    let (low, high) = (0.5 * (last + middle), 0.5 * (middle + next));
    let part = (values.len().single() / 2.0 - below.single()) / equal.single();
    low + part * (high - low)
}

/// The value below which the fraction `q` (0..=1) of the finite values lies; they are reordered.
/// NaN for none.
pub fn quantile(values: &mut [f32], q: f64) -> f32 {
    if values.is_empty() {
        return f32::NAN;
    }
    let at = ((values.len() - 1).real() * q.clamp(0.0, 1.0))
        .round()
        .index();
    *values.select_nth_unstable_by(at, f32::total_cmp).1
}

/// The median absolute deviation from `centre`; the values are replaced by their deviations.
pub fn mad(values: &mut [f32], centre: f32) -> f32 {
    for v in values.iter_mut() {
        *v = (*v - centre).abs();
    }
    median(values)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_median_of_few_values_is_known() {
        assert!(median(&mut []).is_nan());
        assert_eq!(median(&mut [4.0]), 4.0);
        assert_eq!(median(&mut [4.0, 1.0]), 2.5);
        assert_eq!(median(&mut [9.0, -1.0, 3.0]), 3.0);
        assert_eq!(mad(&mut [1.0, 2.0, 3.0, 100.0], 2.5), 1.0);
        assert_eq!(quantile(&mut [5.0, 1.0, 3.0], 0.0), 1.0);
        assert_eq!(quantile(&mut [5.0, 1.0, 3.0], 1.0), 5.0);
    }

    #[test]
    fn whole_numbers_give_a_median_between_them() {
        // 10 values of 4, 60 of 5, 30 of 6: the half lies 40 of 60 up the step from 4.5 to 5.5.
        let mut v: Vec<f32> = [(4.0, 10), (5.0, 60), (6.0, 30)]
            .into_iter()
            .flat_map(|(v, n)| std::iter::repeat_n(v, n))
            .collect();
        assert!((grouped_median(&mut v) - (4.5 + 40.0 / 60.0)).abs() < 1e-6);
        assert_eq!(grouped_median(&mut [1.0, 2.0, 4.0]), 2.0);
        assert_eq!(grouped_median(&mut [3.0; 7]), 3.0);
    }

    proptest! {
        #[test]
        fn the_median_is_the_sorted_middle(mut v in prop::collection::vec(-1e6f32..1e6, 1..60)) {
            let got = median(&mut v.clone());
            v.sort_by(f32::total_cmp);
            let n = v.len();
            let want = if n % 2 == 1 { v[n / 2] } else { 0.5 * (v[n / 2 - 1] + v[n / 2]) };
            prop_assert_eq!(got, want);
        }
    }
}
