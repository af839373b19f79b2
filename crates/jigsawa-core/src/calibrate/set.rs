//! The noise of a frame of a set, all of which show the same: what two of them differ by.

use rayon::prelude::*;

use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::robust::{clipped, median};
use crate::space::Rect;

/// Pairs of frames that are compared, and rows of each.
const PAIRS: usize = 4;
const ROWS: usize = 48;

/// Differences beyond so many of their widths are no noise.
const CLIP: f32 = 3.0;

/// What a value of a set scatters by.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SetNoise {
    /// The usual value.
    pub level: f32,
    /// Standard deviation of one frame's value there.
    pub sigma: f32,
    /// Units of variance for a unit of light above the level: 1 / (electrons for a unit), 0 where that is not known.
    pub of_light: f32,
}

impl SetNoise {
    /// Measures it on pairs of frames. `gain_e_adu` is how many electrons a unit is.
    ///
    /// # Errors
    /// When a frame cannot be read.
    pub fn measure(
        frames: &[&dyn FrameSource],
        gain_e_adu: Option<f64>,
    ) -> Result<Self, DoorError> {
        let pairs = frames.chunks(2).take(PAIRS).collect::<Vec<_>>();
        let told: Result<Vec<_>, DoorError> = pairs.into_par_iter().map(of_pair).collect();
        let (levels, sigmas): (Vec<_>, Vec<_>) = told?.into_iter().unzip();
        let mut levels: Vec<f32> = levels.into_iter().flatten().collect();
        let mut sigmas: Vec<f32> = sigmas.into_iter().flatten().collect();
        let middle = |v: &mut Vec<f32>| if v.is_empty() { 0.0 } else { median(v) };
        Ok(Self {
            level: middle(&mut levels),
            sigma: middle(&mut sigmas),
            of_light: gain_e_adu.map_or(0.0, |g| (1.0 / g).single()),
        })
    }

    /// Variance of a frame's value where its mean is `value`.
    #[inline]
    pub fn variance(&self, value: f32) -> f32 {
        self.sigma * self.sigma + (value - self.level).max(0.0) * self.of_light
    }
}

/// The level of the first of two frames, and the noise of either by their differences; of one alone no noise.
fn of_pair(pair: &[&dyn FrameSource]) -> Result<(Option<f32>, Option<f32>), DoorError> {
    let first = sample(pair[0], ROWS)?;
    let mut values: Vec<f32> = first.iter().copied().filter(|v| v.is_finite()).collect();
    let level = (!values.is_empty()).then(|| median(&mut values));
    let [_, second] = pair else {
        return Ok((level, None));
    };
    let second = sample(*second, ROWS)?;
    values.clear();
    let differences = first.iter().zip(&second).map(|(a, b)| a - b);
    values.extend(differences.filter(|d| d.is_finite()));
    let width = clipped(&mut values, CLIP, CLIP, &mut Vec::new());
    Ok((level, width.map(|w| w.sigma / 2f32.sqrt())))
}

/// So many values tell a level to a three-hundredth of their scatter, and that to a five-hundredth of itself.
const VALUES: usize = 128 * 1024;

/// Some rows of a frame, evenly spread over it: fewer of a wide frame's.
///
/// # Errors
/// When it cannot be read.
pub fn sample(frame: &dyn FrameSource, rows: usize) -> Result<Vec<f32>, DoorError> {
    let size = frame.size();
    let rows = rows.min(VALUES.div_ceil(size.width())).min(size.height());
    let mut values = vec![0.0; rows * size.width()];
    for (i, row) in values.chunks_exact_mut(size.width()).enumerate() {
        let y = (2 * i + 1) * size.height() / (2 * rows);
        let rect = Rect {
            x: 0,
            y: y.whole(),
            width: size.width(),
            height: 1,
        };
        frame.read(rect, row)?;
    }
    Ok(values)
}
