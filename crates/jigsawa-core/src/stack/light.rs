//! What a frame counts in a stack, and how far its values may stray.

use super::grid::CanvasGrid;
use crate::balance::{Balance, Member};
use crate::calibrate::noise::NoiseModel;
use crate::number::Convert;
use crate::space::Size;

/// A frame of a stack.
#[derive(Debug, Clone, PartialEq)]
pub struct Light {
    /// How much it counts.
    pub weight: f32,
    /// How much its values count at a place of the canvas, against that: [`weigh_places`](super::weigh_places) sets it.
    pub counts: CanvasGrid,
    /// The noise of its sky, balanced.
    pub noise: CanvasGrid,
    /// What a unit of light above the sky adds to the variance, balanced; 0 where nothing tells.
    pub photons: f32,
    /// The noise of its flat, as a part of the light.
    pub of_flat: f32,
    /// The gain tells them; else they are taken for all the noise that there is.
    pub photons_known: bool,
    /// The part of the change of light from a pixel to its neighbours that its values may differ by.
    pub of_change: f32,
    /// The part of the light that they may differ by.
    pub of_light: f32,
    /// The square of its stars' width, in canvas pixels.
    pub spread: f32,
}

/// What a frame's part in a stack is told from.
#[derive(Debug, Clone, Copy)]
pub struct LightSource<'a> {
    /// Stars, sky and place.
    pub member: Member<'a>,
    /// How it is matched.
    pub balance: &'a Balance,
    /// The canvas.
    pub canvas: Size,
    /// The middle width of the stars of all frames, in canvas pixels.
    pub fwhm_px: f64,
    /// What its calibration says of its noise.
    pub noise: Option<NoiseModel>,
}

/// Frames of equal seeing differ by this part of the change of light: a tenth of a pixel that they are misplaced by, and
/// where in a pixel a star's middle falls.
pub(super) const OF_CHANGE: f32 = 0.2;

/// The parts of the light that frames differ by: what flats and scales leave, with the photons known and without.
const OF_LIGHT: [f64; 2] = [0.02, 0.08];

impl Light {
    /// A frame's part.
    pub fn new(from: &LightSource<'_>) -> Self {
        let LightSource {
            member,
            balance,
            canvas,
            fwhm_px,
            noise,
        } = *from;
        let scale = balance.scale.value;
        let pixels = member.pixels();
        let own = member.catalogue.noise.pixel();
        // On a coarser canvas several pixels become one.
        let sigma = scale * own / pixels.max(1.0);
        let level = f64::from(member.catalogue.sky.typical_level());
        let known = member.gain_e_adu.is_some();
        // Without a gain all noise of the sky is taken to be that of its photons: too much rather than too little.
        let adu = match member.gain_e_adu {
            Some(gain) => 1.0 / gain,
            None if level > 0.0 => own * own / level,
            None => 0.0,
        };
        let width = member.fwhm_on_canvas();
        let contrast = (fwhm_px / width).powi(2);
        let contrast = if contrast.is_finite() && contrast > 0.0 {
            contrast.max(1.0 / contrast)
        } else {
            2.0
        };
        Self {
            weight: balance.weight.single(),
            counts: CanvasGrid::even(1.0),
            noise: CanvasGrid::noise(
                &member.catalogue.sky,
                member.placement,
                canvas,
                sigma.single(),
            ),
            photons: (scale * adu / pixels.max(1.0).powi(2)).single(),
            of_flat: noise.map_or(0.0, |n| n.flat / pixels.max(1.0)).single(),
            photons_known: known,
            of_change: OF_CHANGE + (1.5 * (contrast - 1.0)).single(),
            of_light: OF_LIGHT[usize::from(!known)].single(),
            spread: (width * width).single(),
        }
    }

    /// A frame of even noise whose light is known to be exact: for tests, and where nothing is measured.
    pub fn even(weight: f32, sigma: f32) -> Self {
        Self {
            weight,
            counts: CanvasGrid::even(1.0),
            noise: CanvasGrid::even(sigma),
            photons: 0.0,
            of_flat: 0.0,
            photons_known: true,
            of_change: OF_CHANGE,
            of_light: OF_LIGHT[0].single(),
            spread: 9.0,
        }
    }

    /// How much its values count at a place of the canvas.
    pub(super) fn weight_at(&self, x: f32, y: f32) -> f32 {
        self.weight * self.counts.at(x, y)
    }

    /// Variance of a value at light so far above the sky, where the sky's noise is `sigma`.
    pub(super) fn variance(&self, sigma: f32, light: f32) -> f32 {
        let light = light.max(0.0);
        sigma * sigma + self.photons * light + (self.of_flat * light).powi(2)
    }
}
