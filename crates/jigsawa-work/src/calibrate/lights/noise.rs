//! What the values of calibrated lights scatter by: as gain and masters tell it, and as they do.

use jigsawa_core::calibrate::noise::{NoiseModel, measured};
use jigsawa_core::calibrate::record::CalibrationRecord;
use jigsawa_core::doors::DoorError;
use jigsawa_core::number::Convert;
use jigsawa_core::robust::median;
use rayon::prelude::*;

use super::{Found, Lights};
use crate::calibrate::masters::Master;
use crate::calibrate::raw::Raw;
use crate::pixels::Masters;
use crate::trouble::Trouble;

impl Lights<'_> {
    /// What its values scatter by: what frames of the dark did, or those of the bias, with what the masters have themselves.
    pub(super) fn noise(&self, found: &Found) -> Option<NoiseModel> {
        let needs = &found.needs;
        let gain = self.first().facts.gain_e_adu?;
        let dark = self.master(needs.dark.map(|d| d.group));
        let bias = self.master(needs.bias);
        let scaled = found
            .factor
            .filter(|_| needs.dark.is_some_and(|d| d.scaled));
        let variance = match (dark, bias, scaled) {
            (Some(dark), _, None) => of_frame(dark)? + of_master(dark),
            // Of another exposure's dark only the reading is alike, and it takes a part of its noise along.
            (Some(dark), Some(bias), Some(part)) => {
                let (k, current) = (part.value, (of_frame(dark)? - of_frame(bias)?).max(0.0));
                let masters = k * k * of_master(dark) + (1.0 - k).powi(2) * of_master(bias);
                of_frame(bias)? + k * current + masters
            }
            (None, Some(bias), _) => of_frame(bias)? + of_master(bias),
            _ => return None,
        };
        let flat = self.master(needs.flat);
        Some(NoiseModel {
            dark: gain * variance.sqrt(),
            of_light: 1.0,
            flat: flat.map_or(0.0, |m| f64::from(m.noise)),
        })
    }

    /// How noisy some lights are against what their calibration says, where that says it.
    pub(super) fn noise_ratio(&self, record: &CalibrationRecord) -> Result<Option<f64>, Trouble> {
        let Some(model) = record.noise else {
            return Ok(None);
        };
        // Read through the pattern, colours would be interpolated.
        let one_colour = CalibrationRecord {
            pattern: None,
            ..record.clone()
        };
        let calibrating = Masters::default().open(&one_colour, self.size())?;
        let ratio = |r: &&Raw| -> Result<Option<f32>, DoorError> {
            let told = measured(&calibrating.read_through(&r.file, 0))?;
            Ok(told.map(|(level, is)| (is / model.variance(level).sqrt()).single()))
        };
        let all: Result<Vec<Option<f32>>, DoorError> = self.some().par_iter().map(ratio).collect();
        let mut all: Vec<f32> = all
            .map_err(self.unreadable())?
            .into_iter()
            .flatten()
            .collect();
        Ok((!all.is_empty()).then(|| f64::from(median(&mut all))))
    }
}

/// Variance of a frame of a master's set, in units of the file; none where it is not known.
fn of_frame(master: &Master) -> Option<f64> {
    (master.frame_noise > 0.0).then(|| f64::from(master.frame_noise).powi(2))
}

/// Variance of the master itself.
fn of_master(master: &Master) -> f64 {
    f64::from(master.noise).powi(2)
}
