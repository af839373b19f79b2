//! What is stacked: groups of frames, what is rejected of them, and what streaks cover.

use std::ops::Range;

use super::light::Light;
use super::rejected::Rejected;
use super::residuals::Residuals;
use super::rule::Rejection;
use super::streak::Streak;
use crate::merge::Band;

/// Planes of each group: the mean, values in it, rejected below, rejected above, and its noise.
pub const PLANES: usize = 5;

/// Frames that become one plane of a master.
#[derive(Debug)]
pub struct Group {
    /// Their numbers among the merge's inputs.
    pub inputs: Range<usize>,
    /// What each counts.
    pub lights: Vec<Light>,
    /// The level of the sky.
    pub sky: f32,
    /// How outliers are told.
    pub rejection: Rejection,
}

/// Averages each group.
#[derive(Debug)]
pub struct Stacked {
    /// The groups.
    pub groups: Vec<Group>,
    /// What is rejected of each input.
    pub rejected: Rejected,
    /// What goes on over the whole canvas.
    pub pass: Pass,
}

/// The first merge, of all, or another one of parts in which something was found.
#[derive(Debug)]
pub enum Pass {
    /// How far each input lies off is kept.
    First(Residuals),
    /// What streaks of an input cover is none of its values.
    Without(Vec<Vec<Streak>>),
}

impl Stacked {
    /// The values of all inputs, those that streaks cover missing.
    pub(super) fn without_streaks<'a>(
        &self,
        band: &Band<'a>,
        spare: &'a mut Vec<Vec<f32>>,
    ) -> Vec<&'a [f32]> {
        let around = band.around();
        let Pass::Without(streaks) = &self.pass else {
            return band.runs.values.to_vec();
        };
        spare.resize_with(streaks.len(), Vec::new);
        let all = band.runs.values.iter().zip(streaks).zip(spare);
        all.map(|((values, streaks), spare)| {
            if !streaks.iter().any(|s| s.touches(around)) {
                return *values;
            }
            spare.clear();
            spare.extend_from_slice(values);
            for (y, row) in (around.y..).zip(spare.chunks_exact_mut(around.width)) {
                for span in streaks.iter().filter_map(|s| s.span(y, around)) {
                    row[span].fill(f32::NAN);
                }
            }
            spare.as_slice()
        })
        .collect()
    }
}
