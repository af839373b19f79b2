//! Is a frame linear? By its stars alone, without another frame to compare.
//!
//! On a linear frame stars have one profile, whatever their light. A stretch lifts the faint parts of each: the brighter
//! a star, the wider it becomes. So the widths of bright and of faint clean stars are compared; a tenth of a frame's
//! width for ten times the light is what the gentlest stretch for the eye does, a hundredth what real optics do.

use super::Catalogue;
use crate::measured::Measured;
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad, median};

/// Stars that tell, and how bright they must be, in sigma.
const LEAST_STARS: usize = 18;
const LEAST_SNR: f64 = 25.0;

/// Both thirds must differ by so many powers of ten in light.
const LEAST_APART: f64 = 0.35;

/// A growth of widths by this part for ten times the light, and so many of its errors, is none of the optics'.
const BENT: f64 = 0.06;
const BENT_SIGMA: f64 = 5.0;

impl Catalogue {
    /// By what part stars of ten times the light are wider, where that shows that the frame was stretched.
    pub fn stretched(&self) -> Option<Measured> {
        let growth = self.growth_of_widths()?;
        (growth.value > BENT && growth.value > BENT_SIGMA * growth.sigma).then_some(growth)
    }

    /// By what part stars of ten times the light are wider; `None` with too few stars, or of one brightness.
    fn growth_of_widths(&self) -> Option<Measured> {
        // From bright to faint.
        let stars: Vec<(f64, f64)> = self
            .clean()
            .filter(|s| s.flux > LEAST_SNR * s.flux_sigma)
            .map(|s| (s.flux.log10(), s.fwhm_px.ln()))
            .collect();
        if stars.len() < LEAST_STARS {
            return None;
        }
        let third = stars.len() / 3;
        let of = |part: &[(f64, f64)]| {
            let mut light: Vec<f32> = part.iter().map(|s| s.0.single()).collect();
            let mut widths: Vec<f32> = part.iter().map(|s| s.1.single()).collect();
            let middle = median(&mut widths);
            let spread = f64::from(mad(&mut widths, middle)) * MAD_TO_SIGMA;
            let error = 1.2533 * spread / part.len().real().sqrt();
            (f64::from(median(&mut light)), f64::from(middle), error)
        };
        let (bright, faint) = (of(&stars[..third]), of(&stars[stars.len() - third..]));
        let apart = bright.0 - faint.0;
        (apart > LEAST_APART).then(|| Measured {
            value: (bright.1 - faint.1) / apart,
            sigma: bright.2.hypot(faint.2) / apart,
        })
    }
}
