//! The part of its dark's amplifier glow that a group of lights has.

use jigsawa_core::calibrate::defects::Defects;
use jigsawa_core::calibrate::glow_part::part;
use jigsawa_core::calibrate::light::{Calibrated, Calibration, Dark};
use jigsawa_core::calibrate::needs::{DarkFor, Needs};
use jigsawa_core::doors::FrameSource;
use jigsawa_core::measured::Measured;
use std::sync::Arc;

use super::Lights;
use crate::pixels::Masters;
use crate::trouble::Trouble;

/// Lights of these on which the part of the glow is fitted.
const GLOWING: usize = 3;

impl Lights<'_> {
    /// A glow goes with the time alone, more or less: the part that some lights have, by the exposures and by what they show.
    pub(super) fn part_of_glow(
        &self,
        needs: &Needs,
        dark: DarkFor,
        factor: f64,
    ) -> Result<Option<Measured>, Trouble> {
        let masters = self.master(Some(dark.group)).zip(self.master(needs.bias));
        let Some((master, bias)) = masters else {
            return Ok(None);
        };
        let glow = Masters::default().glow(&master.path, &bias.path, self.size())?;
        let Some(glow) = glow else {
            return Ok(None);
        };
        let of_dark = master.file.header().number("EXPTIME");
        let exposures = of_dark.filter(|s| *s > 0.0).zip(self.group.exposure_s);
        let told = exposures.map(|(of_dark, of_light)| of_light / of_dark);
        let some = self.some();
        let step = some.len().div_ceil(GLOWING);
        let lights: Vec<_> = some
            .iter()
            .step_by(step.max(1))
            .map(|r| {
                let without_glow = Dark {
                    master: master.file.plane(0),
                    factor,
                    glow: Some((glow.clone(), 0.0)),
                };
                let with = Calibration {
                    bias: Some(bias.file.plane(0)),
                    dark: Some(without_glow),
                    ..Calibration::<_, Arc<Defects>>::default()
                };
                Calibrated::new(r.file.plane(0), with)
            })
            .collect();
        let sources: Vec<&dyn FrameSource> = lights.iter().map(|l| l as &dyn FrameSource).collect();
        let flat = self.master(needs.flat).map(|m| m.file.plane(0));
        let flat = flat.as_ref().map(|f| f as &dyn FrameSource);
        part(&glow, &sources, flat, told).map_err(self.unreadable())
    }
}
