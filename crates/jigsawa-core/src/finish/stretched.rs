//! Telling a picture that was stretched already from a linear one.

use super::overview::Overview;
use crate::robust::{median, quantile};

/// Full light of a display, in the numbers that pictures are kept in.
const FULL: [f32; 3] = [1.0, 255.0, 65_535.0];

/// In linear light the brightest is so many times farther above the middle than the brightest hundredth is.
const LINEAR_REACH: f32 = 8.0;

/// Is this picture stretched already?
pub fn looks_stretched(overview: &Overview) -> bool {
    let all = overview.small.iter().flat_map(|p| p.data().iter().copied());
    are_stretched(all.filter(|v| v.is_finite()).collect())
}

/// Are these finite values those of a stretched picture? Its brightest pixels then reach just the full light of a display, and
/// they stand not much higher than the brightest hundredth: in linear light stars tower over everything else.
pub fn are_stretched(mut values: Vec<f32>) -> bool {
    if values.is_empty() {
        return false;
    }
    let (least, most) = (quantile(&mut values, 0.0), quantile(&mut values, 1.0));
    let middle = median(&mut values);
    let high = quantile(&mut values, 0.99);
    let at_full = FULL.iter().any(|f| (0.8..1.001).contains(&(most / f)));
    least >= 0.0 && at_full && most - middle < LINEAR_REACH * (high - middle)
}
