//! What a calibrated light's values scatter by, told from its calibration: the camera's reading and dark current, the photons, and
//! the noise of the masters that were taken off and divided by. And the same measured on the light, which shows whether the
//! gain of its header is the camera's.

use serde::{Deserialize, Serialize};

use super::set::sample;
use crate::doors::{DoorError, FrameSource};
use crate::robust::{clipped, median};

/// The parts of a calibrated value's noise, in the units of the light as it is read: electrons where its gain is known.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NoiseModel {
    /// Standard deviation without light: of reading, the dark current's photons, and the masters that are taken off.
    pub dark: f64,
    /// Variance that a unit of light adds by its photons: 1 for electrons.
    pub of_light: f64,
    /// Standard deviation of the flat master, as a part of the light.
    pub flat: f64,
}

impl NoiseModel {
    /// Variance of a value of so much light, where the flat is 1.
    pub fn variance(&self, light: f64) -> f64 {
        let light = light.max(0.0);
        self.dark.powi(2) + self.of_light * light + (self.flat * light).powi(2)
    }

    /// Do its numbers make sense?
    pub(crate) fn is_sound(&self) -> bool {
        let all = [self.dark, self.of_light, self.flat];
        all.iter().all(|v| v.is_finite() && *v >= 0.0)
    }
}

/// Rows of a light that are looked at.
const ROWS: usize = 96;

/// Pixels of one colour whose differences show the noise are so far apart.
const STEP: usize = 2;

/// Stars are farther off than so many widths.
const CLIP: f32 = 3.0;

/// The level of a light and the noise of its pixels there, by what neighbours of one colour differ by. `None` where it shows nothing.
///
/// # Errors
/// When it cannot be read.
pub fn measured(light: &dyn FrameSource) -> Result<Option<(f64, f64)>, DoorError> {
    let values = sample(light, ROWS)?;
    let mut off = Vec::with_capacity(values.len());
    for row in values.chunks_exact(light.size().width()) {
        let pairs = row.iter().zip(row.iter().skip(STEP));
        off.extend(pairs.map(|(a, b)| a - b).filter(|d| d.is_finite()));
    }
    let width = clipped(&mut off, CLIP, CLIP, &mut Vec::new());
    let mut levels: Vec<f32> = values.into_iter().filter(|v| v.is_finite()).collect();
    let told = width.filter(|w| w.sigma > 0.0).map(|w| {
        let level = f64::from(median(&mut levels));
        (level, f64::from(w.sigma) / 2f64.sqrt())
    });
    Ok(told)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::number::Convert;
    use crate::plane::Plane;
    use crate::space::Size;
    use jigsawa_sky::chance::normal;

    #[test]
    fn a_light_is_as_noisy_as_its_model_says() {
        let model = NoiseModel {
            dark: 3.0,
            of_light: 1.0,
            flat: 0.01,
        };
        let sigma = model.variance(400.0).sqrt();
        assert!((sigma - (9.0f64 + 400.0 + 16.0).sqrt()).abs() < 1e-9);
        assert_eq!(model.variance(-50.0), 9.0);
        let light = Plane::from_fn(Size::new(300, 200).unwrap(), |x, y| {
            let star = if x % 40 == 7 && y % 4 == 0 {
                9000.0
            } else {
                0.0
            };
            let slope = 0.2 * x.real();
            (400.0 + slope + star + sigma * normal((300 * y + x) as u64, 77)).single()
        });
        let (level, is) = measured(&light).unwrap().unwrap();
        assert!((level - 430.0).abs() < 2.0, "{level}");
        assert!((is / sigma - 1.0).abs() < 0.02, "{is} {sigma}");
        let even = Plane::filled(Size::new(30, 20).unwrap(), 5.0);
        assert_eq!(measured(&even).unwrap(), None);
    }
}
