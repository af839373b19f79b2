//! How much of a dark's amplifier glow lights have: fitted on the lights themselves, and held against what the exposures say.
//!
//! The glow goes with the time, but not strictly: an amplifier may rest while the shutter is open, or glow most at readout. In a light
//! it lies under the sky, whose own gradient may rise into the same corner. So the medians of a light's cells are taken as a
//! polynomial of the place, seen through the flat, and a part of the glow, which is not; stars and nebulae are
//! outliers above. The fit is made with polynomials of degree two and three: what they differ by is an error of
//! the part, and so is what lights differ by. The part by the exposures is known to a fifth, and both are averaged by their errors.

use nalgebra::{DMatrix, DVector};
use rayon::prelude::*;

use super::glow::{Glow, levels};
use crate::doors::{DoorError, FrameSource};
use crate::measured::Measured;
use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad, median};

/// The part by the exposures is known to this part of it.
const TOLD: f64 = 0.2;

/// No fit is surer than this part of it: what nebulae do to it is alike in all lights, and in both fits.
const LEAST: f64 = 0.1;

/// A part that is known worse than this, where no exposures tell it, is none.
const SURE: f64 = 0.2;

/// A fit that differs from the exposures by more errors of both was of something else, a gradient of the sky.
const OTHER: f64 = 3.0;

/// Cells farther below and above the fit, in their scatter, are none of it: stars and nebulae are above.
const BELOW: f32 = 4.0;
const ABOVE: f32 = 2.5;

/// Rounds of clipping; they settle after a few.
const ROUNDS: usize = 12;

/// Cells for each unknown at the least.
const CELLS: usize = 6;

/// Degrees of the polynomials that are the sky.
const DEGREES: [usize; 2] = [2, 3];

/// The part of a dark's glow that lights have. They are without the dark's other current, with all of their glow, and not divided
/// by the flat, which is 1 where the light is usual. `told` is the part by the exposures. `None` where nothing tells it.
///
/// # Errors
/// When a light or the flat cannot be read.
pub fn part(
    glow: &Glow,
    lights: &[&dyn FrameSource],
    flat: Option<&dyn FrameSource>,
    told: Option<f64>,
) -> Result<Option<Measured>, DoorError> {
    let flat = flat.map(levels).transpose()?;
    let of_light = |light: &&dyn FrameSource| -> Result<Option<[f64; 2]>, DoorError> {
        let levels = levels(*light)?;
        let fit = |degree| fitted(glow.cells(), &levels, flat.as_ref(), degree);
        let [low, high] = DEGREES.map(fit);
        Ok(low.zip(high).map(|(low, high)| [low, high]))
    };
    let fits: Result<Vec<_>, DoorError> = lights.par_iter().map(of_light).collect();
    let fits: Vec<[f64; 2]> = fits?.into_iter().flatten().collect();
    Ok(agreed(by_lights(&fits), told))
}

/// The middle of the parts of some lights, by two degrees each.
fn by_lights(fits: &[[f64; 2]]) -> Option<Measured> {
    if fits.is_empty() {
        return None;
    }
    let middle = |of: &dyn Fn(&[f64; 2]) -> f64| {
        let mut all: Vec<f32> = fits.iter().map(|f| of(f).single()).collect();
        let centre = median(&mut all);
        let scatter = f64::from(mad(&mut all, centre)) * MAD_TO_SIGMA;
        (f64::from(centre), scatter)
    };
    let (value, scatter) = middle(&|f| f[1]);
    let (between, _) = middle(&|f| f[1] - f[0]);
    Some(Measured {
        value,
        sigma: between
            .hypot(scatter / fits.len().real().sqrt())
            .hypot(LEAST * value),
    })
}

/// What a fit and the exposures say together.
fn agreed(fit: Option<Measured>, told: Option<f64>) -> Option<Measured> {
    let told = told.map(|value| Measured {
        value,
        sigma: TOLD * value,
    });
    match (fit, told) {
        (Some(fit), None) => (fit.sigma < SURE * fit.value).then_some(fit),
        (Some(fit), Some(told)) => {
            let off = (fit.value - told.value).abs();
            if off > OTHER * fit.sigma.hypot(told.sigma) {
                return Some(told);
            }
            let [a, b] = [fit, told].map(|m| 1.0 / m.sigma.powi(2).max(f64::MIN_POSITIVE));
            Some(Measured {
                value: (a * fit.value + b * told.value) / (a + b),
                sigma: 1.0 / (a + b).sqrt(),
            })
        }
        (None, told) => told,
    }
}

/// The glow's part in the cells of one light.
fn fitted(glow: &Plane, light: &Plane, flat: Option<&Plane>, degree: usize) -> Option<f64> {
    let size = light.size();
    let side = size.width().max(size.height()).real();
    // The unknowns of a cell: the glow's part first, then the sky's.
    let row = |i: usize| -> DVector<f64> {
        let (x, y) = (i % size.width(), i / size.width());
        let (u, v) = (2.0 * x.real() / side - 1.0, 2.0 * y.real() / side - 1.0);
        let seen = flat.map_or(1.0, |f| f64::from(f.data()[i]));
        let mut row = vec![f64::from(glow.data()[i])];
        for d in 0..=degree {
            row.extend((0..=d).map(|k| {
                let powers = [d - k, k].map(|p| i32::try_from(p).unwrap_or(0));
                seen * u.powi(powers[0]) * v.powi(powers[1])
            }));
        }
        DVector::from_vec(row)
    };
    let known = |i: &usize| light.data()[*i].is_finite() && flat.is_none_or(|f| f.data()[*i] > 0.0);
    let cells: Vec<(DVector<f64>, f64)> = (0..size.area())
        .filter(known)
        .map(|i| (row(i), f64::from(light.data()[i])))
        .collect();
    let n = cells.first()?.0.len();
    let mut kept: Vec<usize> = (0..cells.len()).collect();
    let mut found = DVector::zeros(n);
    for _ in 0..ROUNDS {
        if kept.len() < CELLS * n {
            return None;
        }
        let (mut normal, mut right) = (DMatrix::zeros(n, n), DVector::zeros(n));
        for i in &kept {
            let (row, level) = &cells[*i];
            right.axpy(*level, row, 1.0);
            normal.ger(1.0, row, row, 1.0);
        }
        found = normal.cholesky()?.solve(&right);
        let off = |i: usize| {
            let (row, level) = &cells[i];
            (level - row.dot(&found)).single()
        };
        let mut all: Vec<f32> = kept.iter().map(|i| off(*i)).collect();
        let centre = median(&mut all);
        let width = mad(&mut all, centre) * MAD_TO_SIGMA.single();
        let inside = |i: &usize| {
            let off = off(*i) - centre;
            off >= -BELOW * width && off <= ABOVE * width
        };
        let next: Vec<usize> = (0..cells.len()).filter(inside).collect();
        if next == kept {
            break;
        }
        kept = next;
    }
    found[0].is_finite().then_some(found[0])
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const TIMES: f64 = 0.6;

    #[rstest]
    // A fit that is sure counts for itself, a poor one next to nothing.
    #[case(Some((0.5, 0.01)), Some(TIMES), Some((0.5007, 0.01)))]
    #[case(Some((0.7, 0.4)), Some(TIMES), Some((0.608, 0.115)))]
    // A gradient that looks like five times the glow is none of it.
    #[case(Some((3.0, 0.02)), Some(TIMES), Some((TIMES, 0.12)))]
    #[case(None, Some(TIMES), Some((TIMES, 0.12)))]
    #[case(Some((0.5, 0.02)), None, Some((0.5, 0.02)))]
    #[case(Some((0.5, 0.2)), None, None)]
    #[case(None, None, None)]
    fn a_fit_and_the_exposures_settle_it(
        #[case] fit: Option<(f64, f64)>,
        #[case] told: Option<f64>,
        #[case] wanted: Option<(f64, f64)>,
    ) {
        let fit = fit.map(|(value, sigma)| Measured { value, sigma });
        let got = agreed(fit, told).map(|m| (m.value, m.sigma));
        let near =
            |(a, b): ((f64, f64), (f64, f64))| (a.0 - b.0).abs() < 2e-3 && (a.1 - b.1).abs() < 2e-3;
        assert!(got.is_some() == wanted.is_some(), "{got:?}");
        assert!(got.zip(wanted).is_none_or(near), "{got:?}");
    }
}
