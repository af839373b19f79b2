//! What a raw frame needs, as a layout keeps it: names of masters, and how they are used.

use serde::{Deserialize, Serialize};

use super::noise::NoiseModel;
use super::pattern::Pattern;
use crate::measured::Measured;

/// What a raw frame needs before its values mean light. Paths are as that of the frame.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CalibrationRecord {
    /// The bias master.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bias: Option<String>,
    /// The dark master.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dark: Option<DarkRecord>,
    /// The flat master.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub flat: Option<String>,
    /// The list of pixels that are made up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub defects: Option<String>,
    /// The list of those that are made up in this frame alone: cosmic rays and blooms.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own_defects: Option<String>,
    /// Colours before a colour camera's pixels, from the first one stored: the frame is one of three planes that are made of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
    /// Electrons for a unit of the raw file, which values are brought to; absent where they stay in the file's units.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gain_e_adu: Option<f64>,
    /// What its values scatter by; absent where no master tells.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise: Option<NoiseModel>,
}

/// A dark master and how much of it a frame has.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DarkRecord {
    /// The master.
    pub file: String,
    /// The part of its current that the frame has; absent for all of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub factor: Option<Measured>,
    /// The part of its amplifier's glow that the frame has, where that is another one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub glow: Option<f64>,
}

impl CalibrationRecord {
    /// All files that it names.
    pub fn files_mut(&mut self) -> impl Iterator<Item = &mut String> {
        let dark = self.dark.as_mut().map(|d| &mut d.file);
        let others = [
            &mut self.bias,
            &mut self.flat,
            &mut self.defects,
            &mut self.own_defects,
        ];
        dark.into_iter().chain(others.into_iter().flatten())
    }

    /// Do its numbers make sense?
    pub(crate) fn is_sound(&self) -> bool {
        let some = |v: f64| v.is_finite() && v >= 0.0;
        let dark = self.dark.as_ref().is_none_or(|d| {
            // One that is scaled needs the bias apart.
            d.factor
                .is_none_or(|f| some(f.value) && self.bias.is_some())
                && d.glow.is_none_or(some)
        });
        let pattern = self.pattern.as_deref();
        let pattern = pattern.is_none_or(|p| Pattern::from_letters(p).is_some());
        let noise = self.noise.is_none_or(|n| n.is_sound());
        dark && pattern && noise && self.gain_e_adu.is_none_or(|g| g.is_finite() && g > 0.0)
    }
}
