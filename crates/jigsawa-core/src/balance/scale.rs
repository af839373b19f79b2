//! The factor between two frames: from the fluxes of the stars that both show, from the nebula that
//! both show, from what their headers say, or from their noise.
//!
//! Fluxes are those of apertures of 1.8 widths of each frame's own stars, carried by each frame's curve of growth to
//! one that is large against both seeings. Stars with neighbours were taken, too, at
//! first: worse seeing lets more of a neighbour into the aperture, which put scales off by up to 1 %.

use super::Member;
use super::patches::BothSkies;
use super::surface::{Patch, Shape, fit_plainly};
use crate::matching::{pairs_under, spots};
use crate::measured::Measured;
use crate::number::Convert;
use crate::placement::Registration;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median, robust_ratio};
use crate::space::Size;
use crate::stars::{Catalogue, Star, profiles};

/// Stars this bright, in sigma, enter; fainter ones add noise and the bias of their detection.
pub(crate) const LEAST_SNR: f64 = 15.0;

/// No ratio is known better than this: photon noise, flat fields and neighbours too faint to be seen
/// remain. Without it a handful of the brightest stars decides alone, and its error is told too small.
const LEAST_ERROR: f64 = 0.006;

/// Fewer common stars than this say too little.
const LEAST_STARS: usize = 8;

/// A star that both frames show.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CommonStar {
    /// Flux in the reference, as the canvas shows it.
    pub reference: f64,
    /// Flux in the frame, as the canvas shows it, before scaling.
    pub frame: f64,
    /// Relative error of the ratio of both, from the noise.
    pub error: f64,
    /// Relative error that the ratios of all stars share, since profiles differ.
    pub shared: f64,
}

/// The stars that both show well: clean, bright, and within two pixels of each other.
pub fn common_stars(reference: &Member<'_>, frame: &Member<'_>) -> Vec<CommonStar> {
    let Some(map) = reference.placement.invert().then(frame.placement) else {
        return Vec::new();
    };
    let map: Registration = map.retyped();
    let pairs = pairs_under(
        &map,
        &spots(reference.catalogue),
        &spots(frame.catalogue),
        (reference.size, frame.size),
    );
    let good = good_pairs(reference, frame, pairs, LEAST_SNR);
    good.into_iter().map(|g| g.1).collect()
}

/// Those of these pairs (places in the catalogues) that both frames show well, at least so bright in sigma, with their
/// stars.
pub(crate) fn good_pairs(
    reference: &Member<'_>,
    frame: &Member<'_>,
    pairs: Vec<(usize, usize)>,
    least_snr: f64,
) -> Vec<((usize, usize), CommonStar)> {
    let usable = |s: &Star| s.flags.is_clean() && s.flux > least_snr * s.flux_sigma;
    // In canvas pixels the wider of both; each frame has its own scale.
    let reach = |m: &Member<'_>| CLEAR * wider(reference, frame) * m.pixels();
    let alone = isolated(reference.catalogue, reach(reference));
    let alone_too = isolated(frame.catalogue, reach(frame));
    let good: Vec<(usize, usize)> = pairs
        .iter()
        .filter(|(i, k)| alone[*i] && alone_too[*k])
        .copied()
        .collect();
    // Through another filter the stars' own colours scatter more than neighbours do, and many tell better
    // than few.
    let alone_counts = reference.filter == frame.filter && good.len() >= ENOUGH;
    let pairs = if alone_counts { good } else { pairs };
    let width = |m: &Member<'_>| m.catalogue.fwhm_px / m.pixels();
    let ([own, other], shared) = profiles(
        [reference, frame].map(|m| m.catalogue.growth.as_ref()),
        [width(reference), width(frame)],
        [reference, frame].map(|m| m.catalogue.elongation.max(1.0).sqrt()),
    );
    pairs
        .into_iter()
        .filter_map(|(i, k)| {
            let (a, f) = (&reference.catalogue.stars[i], &frame.catalogue.stars[k]);
            let star = CommonStar {
                reference: own * canvas_flux(reference, a),
                frame: other * canvas_flux(frame, f),
                error: (a.flux_sigma / a.flux)
                    .hypot(f.flux_sigma / f.flux)
                    .hypot(LEAST_ERROR),
                shared,
            };
            (usable(a) && usable(f)).then_some(((i, k), star))
        })
        .collect()
}

/// A star is alone when nothing of a hundredth of its light lies within so many widths: the ring for its sky
/// begins at three, and worse seeing lets neighbours into the aperture.
const CLEAR: f64 = 4.0;
const NEIGHBOUR: f64 = 0.01;

/// With fewer stars that are alone, in a crowded field, all serve.
const ENOUGH: usize = 20;

/// Width of the stars of the frame with the worse seeing, in canvas pixels.
fn wider(a: &Member<'_>, b: &Member<'_>) -> f64 {
    let width = |m: &Member<'_>| m.catalogue.fwhm_px / m.pixels();
    width(a).max(width(b))
}

/// Which stars have no neighbour that matters within `reach`.
fn isolated(catalogue: &Catalogue, reach: f64) -> Vec<bool> {
    let stars = &catalogue.stars;
    let mut order: Vec<usize> = (0..stars.len()).collect();
    order.sort_by(|a, b| stars[*a].at.x.total_cmp(&stars[*b].at.x));
    let mut alone = vec![true; stars.len()];
    for (n, i) in order.iter().enumerate() {
        for k in &order[n + 1..] {
            if stars[*k].at.x - stars[*i].at.x > reach {
                break;
            }
            if stars[*i].at.distance(stars[*k].at) < reach {
                alone[*i] &= stars[*k].flux < NEIGHBOUR * stars[*i].flux;
                alone[*k] &= stars[*i].flux < NEIGHBOUR * stars[*k].flux;
            }
        }
    }
    alone
}

/// The flux that the star has after its frame is resampled onto the canvas: values stay, so a star
/// that covers fewer pixels of the frame than of the canvas gains light.
fn canvas_flux(member: &Member<'_>, star: &Star) -> f64 {
    let there = member.placement.invert().apply(star.at);
    star.flux / member.placement.area_ratio(there)
}

/// The factor that brings the frame's star fluxes to the reference's, and the number of stars behind
/// it. `None` with too few common stars.
pub fn star_scale(stars: &[CommonStar]) -> Option<(Measured, usize)> {
    if stars.len() < LEAST_STARS {
        return None;
    }
    let ratios: Vec<(f64, f64, f64)> = stars
        .iter()
        .map(|s| (s.frame, s.reference, s.error))
        .collect();
    let ratio = robust_ratio(&ratios)?;
    // Few stars show too little of their own scatter.
    let n = ratio.used.max(2).real();
    let slope = Measured {
        sigma: ratio.slope.sigma * (n / (n - 1.0)).sqrt(),
        ..ratio.slope
    };
    let alike = Measured {
        value: 1.0,
        sigma: stars[0].shared,
    };
    Some((slope.times(alike), ratio.used))
}

/// A ratio that changes by more than this over a factor of ten in brightness is worth a word.
const BENT: f64 = 0.01;

/// By what part the ratio of stars changes over a factor of ten in brightness, where that shows that one of both frames
/// is not linear.
pub(crate) fn bend_of(stars: &[CommonStar], scale: f64) -> Option<f64> {
    let bent = nonlinearity(stars, scale)?;
    let steep = bent.value.abs() > BENT.max(4.0 * bent.sigma);
    steep
        .then_some(bent.value)
        .or_else(|| bright_end(stars, scale))
}

/// Of so many of the brightest stars, at least so many lie off the others, all to one side, by so much of their light; few
/// must do so by more.
const BRIGHTEST: [(usize, usize, f64); 3] = [(5, 3, 0.05), (3, 2, 0.08), (1, 1, 0.2)];

/// And by this in their errors.
const OFF_SIGMA: f64 = 5.0;

/// What the brightest stars show that a line through all does not: a curve that is straight for the many faint ones and
/// bends where few are. By what part the ratio changes over a factor of ten in brightness from them to these.
fn bright_end(stars: &[CommonStar], scale: f64) -> Option<f64> {
    let mut points: Vec<(f64, f64, f64)> = stars
        .iter()
        .map(|s| {
            let off = (s.reference / s.frame / scale).ln();
            (s.reference.log10(), off, s.error)
        })
        .collect();
    points.sort_by(|a, b| b.0.total_cmp(&a.0));
    let middle = |of: fn(&(f64, f64, f64)) -> f64, list: &[(f64, f64, f64)]| {
        let mut all: Vec<f32> = list.iter().map(|p| of(p).single()).collect();
        f64::from(median(&mut all))
    };
    BRIGHTEST.into_iter().find_map(|(brightest, least, by)| {
        let (bright, rest) = points.split_at_checked(brightest)?;
        let (level, at) = (middle(|p| p.1, rest), middle(|p| p.0, rest));
        let far: Vec<(f64, f64)> = bright
            .iter()
            .map(|(x, y, e)| (x - at, y - level, e))
            .filter(|(_, off, e)| off.abs() > by.max(OFF_SIGMA * *e))
            .map(|(x, off, _)| (x, off))
            .collect();
        let first = far.first()?.1;
        let together = far.iter().all(|(_, off)| off.signum() == first.signum());
        if far.len() < least || !together {
            return None;
        }
        let (x, off) = far.iter().fold((0.0, 0.0), |(a, b), f| (a + f.0, b + f.1));
        Some(off / x.max(0.3 * far.len().real()))
    })
}

/// Fewer stars do not tell whether a ratio changes with brightness.
const LEAST_FOR_COURSE: usize = 15;

/// By how much the ratio of fluxes changes for a star ten times as bright, in parts of the ratio: 0
/// for two linear frames. `None` with too few stars, or with stars of about one brightness.
pub fn nonlinearity(stars: &[CommonStar], scale: f64) -> Option<Measured> {
    let points: Vec<(f64, f64, f64)> = stars
        .iter()
        .map(|s| {
            let off = (s.reference / s.frame / scale).ln();
            (s.reference.log10(), off, s.error.max(1e-4))
        })
        .collect();
    if points.len() < LEAST_FOR_COURSE {
        return None;
    }
    // A scatter of the stars' own counts as error. The line goes through all at first: bright stars that are far off
    // are what shows a frame that is not linear. Those far from the line do not count after that.
    let spread_of = |off: &[f64]| {
        let mut sizes: Vec<f32> = off.iter().map(|v| v.abs().single()).collect();
        f64::from(median(&mut sizes)) * MAD_TO_SIGMA
    };
    let mut off: Vec<f64> = points.iter().map(|p| p.1).collect();
    let mut kept = vec![1.0; points.len()];
    let mut told = None;
    for _ in 0..ROUNDS {
        let spread = spread_of(&off);
        let mut sums = [0.0f64; 5];
        for ((x, y, e), k) in points.iter().zip(&kept) {
            let w = k / (e * e + 0.5 * spread * spread);
            for (s, v) in sums.iter_mut().zip([w, w * x, w * y, w * x * x, w * x * y]) {
                *s += v;
            }
        }
        let [w, x, y, xx, xy] = sums;
        let det = w * xx - x * x;
        // Brightnesses must cover some half a decade.
        if w <= 0.0 || det / (w * w) < 0.04 {
            return None;
        }
        let slope = (w * xy - x * y) / det;
        let at_zero = (y - slope * x) / w;
        told = Some(Measured {
            value: slope,
            sigma: (w / det).sqrt(),
        });
        for ((o, k), (x, y, e)) in off.iter_mut().zip(&mut kept).zip(&points) {
            *o = y - at_zero - slope * x;
            *k = biweight(*o, BIWEIGHT_REACH * e.hypot(spread));
        }
    }
    told
}

/// Rounds in which stars are doubted.
const ROUNDS: usize = 8;

/// Waves longer than this part of the canvas's shorter side may be sky in one frame and not in the other.
const SKY: Shape = Shape::Spline { stiffness: 0.5 };

/// How well what is left of both must agree before it is called a nebula that both show.
const LEAST_LIKENESS: f64 = 0.8;

/// Fewer patches say too little.
const LEAST_PATCHES: usize = 24;

/// The factor that brings the frame's nebula to the reference's brightness, and the patches behind it:
/// from what either shows beyond a smooth sky, so that no gradient counts. `None` where there is too
/// little nebula.
pub fn signal_scale(patches: &[BothSkies], canvas: Size) -> Option<(Measured, usize)> {
    if patches.len() < LEAST_PATCHES {
        return None;
    }
    let beyond = |of: fn(&BothSkies) -> f64| -> Option<Vec<f64>> {
        let points: Vec<Patch> = patches
            .iter()
            .map(|p| Patch {
                at: p.at,
                value: of(p),
                weight: p.filled,
            })
            .collect();
        let sky = fit_plainly(SKY, &points, canvas)?;
        Some(points.iter().map(|p| p.value - sky.at(p.at)).collect())
    };
    let (r, f) = (beyond(|p| p.reference)?, beyond(|p| p.frame)?);
    let dot = |a: &[f64], b: &[f64], w: &[f64]| -> f64 {
        let all = a.iter().zip(b).zip(w);
        all.map(|((a, b), w)| w * a * b).sum()
    };
    let mut weights = vec![1.0; r.len()];
    let (mut slope, mut sigma) = (0.0, 0.0);
    for _ in 0..20 {
        let (rr, ff, rf) = (
            dot(&r, &r, &weights),
            dot(&f, &f, &weights),
            dot(&r, &f, &weights),
        );
        if rf <= LEAST_LIKENESS * (rr * ff).sqrt() {
            return None;
        }
        // Both have errors: the middle of the slopes of either on the other.
        slope = (rr / ff).sqrt();
        let off: Vec<f64> = r.iter().zip(&f).map(|(r, f)| r - slope * f).collect();
        // Neighbouring patches share their errors: as good as a quarter of their number.
        sigma = 2.0 * (dot(&off, &off, &weights) / ff / weights.iter().sum::<f64>()).sqrt();
        let mut sizes: Vec<f32> = off.iter().map(|v| v.abs().single()).collect();
        let spread = f64::from(median(&mut sizes)) * MAD_TO_SIGMA;
        for (w, o) in weights.iter_mut().zip(&off) {
            *w = biweight(*o, BIWEIGHT_REACH * spread.max(1e-30));
        }
    }
    let used = weights.iter().filter(|w| **w > 0.25).count();
    (slope.is_finite() && slope > 0.0 && used >= LEAST_PATCHES).then_some((
        Measured {
            value: slope,
            sigma,
        },
        used,
    ))
}

/// The factor that brings the noise of `frame`'s sky to that of `reference`, on the scales of faint light, so that a
/// frame that was smoothed is no quieter for it. `None` when one of them has none.
pub fn noise_scale(reference: &Catalogue, frame: &Catalogue) -> Option<Measured> {
    let (r, f) = (reference.noise.deep(), frame.noise.deep());
    let value = r / f;
    (r > 0.0 && f > 0.0 && value.is_finite()).then_some(Measured {
        value,
        sigma: NOISE_ERROR * value,
    })
}

/// How well noise on the scales of faint light is known of two frames.
const NOISE_ERROR: f64 = 0.06;

/// What headers of exposures do not know: how clear the air was. Between frames that imagers keep it differs by so
/// much; shutters and roundings are nothing against it.
const EXPOSURE_ERROR: f64 = 0.15;

/// The factor by which exposures and gains differ. `None` where a header does not tell.
pub fn exposure_scale(reference: &Member<'_>, frame: &Member<'_>) -> Option<Measured> {
    let value = reference.exposure_s? / frame.exposure_s?;
    // Electrons a unit: a higher number makes the same light fewer units.
    let gains = reference.gain_e_adu.zip(frame.gain_e_adu);
    let value = value * gains.map_or(1.0, |(r, f)| f / r);
    (value > 0.0 && value.is_finite()).then_some(Measured {
        value,
        sigma: EXPOSURE_ERROR * value,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stars(of: impl Fn(f64) -> f64) -> Vec<CommonStar> {
        (0..120)
            .map(|i| {
                let frame = 500.0 * 10f64.powf(f64::from(i) / 50.0);
                let wobble = 1.0 + 0.004 * (f64::from(i) * 2.3).sin();
                CommonStar {
                    frame,
                    reference: of(frame) * wobble,
                    error: 0.004,
                    shared: 0.0,
                }
            })
            .collect()
    }

    #[test]
    fn a_frame_that_saturates_softly_is_seen_to_be_bent() {
        let straight = nonlinearity(&stars(|f| 1.3 * f), 1.3).unwrap();
        assert!(straight.value.abs() < 3.0 * straight.sigma, "{straight:?}");
        let bent = nonlinearity(&stars(|f| 1.3 * f.powf(1.03)), 1.6).unwrap();
        assert!((bent.value - 0.03 * 10f64.ln()).abs() < 0.01, "{bent:?}");
        assert!(bent.value > 5.0 * bent.sigma);
        assert!(nonlinearity(&stars(|f| f)[..12], 1.0).is_none());
    }

    #[test]
    fn a_curve_that_bends_for_the_brightest_alone_is_seen() {
        // The last five stars of a hundred lose from a tenth to half of their light.
        let brightest = 500.0 * 10f64.powf(114.0 / 50.0);
        let lost = |f: f64| f * (f / brightest).max(1.0).powf(0.5 * 10f64.ln());
        assert!(bend_of(&stars(|f| 1.3 * f), 1.3).is_none());
        assert!(bend_of(&stars(|f| 1.3 * lost(f)), 1.3).is_some_and(|b| b > 0.05));
    }
}
