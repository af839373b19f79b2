//! A frame as one exposure of several: what it shows, from where it is full, and how it responds to light.

use crate::number::Convert;
use rayon::prelude::*;

use super::light::{Light, LightGrid};
use super::mask::{Border, Mask};
use super::response::{Response, respond};
use super::saturation::{Saturation, saturation};
use crate::balance::{Lattice, Member, Samples, Sky};
use crate::plane::Plane;
use crate::space::Size;
use crate::starless::wing_exponent;

/// A frame as one exposure of several.
#[derive(Debug)]
pub struct Exposure<'a> {
    /// Its sky at points of the canvas, and what is known of it.
    pub sky: Sky<'a>,
    /// From where its pixels are full, if anything tells.
    pub saturation: Option<Saturation>,
    /// From this value on it is not trusted: below full, or from its shoulder on.
    pub limit: f32,
    /// Its smooth light.
    pub light: Light,
    /// The exponent of its stars' wings, where enough bright stars tell it.
    pub wings: Option<f64>,
    /// Where it is valid.
    pub mask: Mask,
    /// How it responds against each shorter exposure, in the order in which they were given.
    pub responses: Vec<Option<Response>>,
}

/// The part of the range up to full that is trusted: where sub-frames were averaged, those of a moment of good seeing
/// were full a little earlier than their mean shows.
const TRUSTED: f32 = 0.95;

impl<'a> Exposure<'a> {
    /// Measures a frame. `said` and `header` are the values from which it is full; `shorter` are the exposures shorter
    /// than it, which were measured before.
    pub fn measure(
        plane: &Plane,
        member: Member<'a>,
        canvas: Size,
        (said, header): (Option<f32>, Option<f32>),
        shorter: &[&Exposure<'_>],
    ) -> Self {
        let catalogue = member.catalogue;
        let (level, sigma) = (catalogue.sky.typical_level(), catalogue.sky.typical_sigma());
        let saturation = saturation(plane.data(), level, said, header, catalogue.saturation);
        let top = saturation.map_or(f32::INFINITY, |f| f.level);
        let grid = LightGrid::over(canvas);
        // What goes by one thread goes beside what goes by another.
        let ((light, responses), wings) = rayon::join(
            || {
                let light = Light::take(
                    plane,
                    member.placement,
                    grid,
                    (level, sigma, &catalogue.noise),
                    top,
                );
                let responses: Vec<Option<Response>> = shorter
                    .par_iter()
                    .map(|s| respond(&light, &s.light, top))
                    .collect();
                (light, responses)
            },
            // A plane in memory can be read.
            || wing_exponent(plane, catalogue).ok().flatten(),
        );
        let shoulder = responses
            .iter()
            .flatten()
            .filter_map(|r| r.shoulder)
            .fold(f32::INFINITY, f32::min);
        let limit = (level + TRUSTED * (top - level)).min(shoulder);
        let lattice = Lattice::over(canvas);
        let (samples, mask) = rayon::join(
            || Samples::take(plane, member.placement, catalogue, Some(limit), lattice),
            || Mask::new(plane, limit, Border::default()),
        );
        Self {
            sky: Sky { member, samples },
            saturation,
            limit,
            light,
            wings,
            mask,
            responses,
        }
    }

    /// What is known of the frame.
    pub const fn member(&self) -> &Member<'a> {
        &self.sky.member
    }

    /// From where it bends, if that is below what full alone forbids.
    pub fn shoulder(&self) -> Option<f32> {
        let shoulders = self.responses.iter().flatten().filter_map(|r| r.shoulder);
        shoulders.min_by(f32::total_cmp)
    }

    /// The part of the frame that is full.
    pub fn full_part(&self) -> f64 {
        self.mask.saturated_pixels().real() / self.sky.member.size.area().real()
    }
}
