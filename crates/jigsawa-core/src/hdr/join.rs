//! Exposures joined: each with its balance, its noise, and what its stars need, to be merged with the longest.

use crate::number::Convert;
use rayon::prelude::*;

use super::cascade::Part;
use super::chain::{Link, chain};
use super::exposure::Exposure;
use super::mask::Border;
use super::profile::{Disc, Profile, Reprofile};
use crate::balance::scale::{common_stars, exposure_scale, star_scale};
use crate::balance::{Balance, BalanceError, Member, ScaleBy, Shape, Surface, match_scaled};
use crate::measured::Measured;
use crate::placement::Registration;
use crate::robust::median;
use crate::space::{CanvasPx, Point};
use crate::stars::Star;

/// An exposure as it takes part in the merge.
#[derive(Debug, Clone)]
pub struct Joined {
    /// How its values become those of the longest.
    pub balance: Balance,
    /// Its noise after that.
    pub part: Part,
    /// How it came to the longest; absent for the longest itself, and where headers alone tell.
    pub link: Option<Link>,
    /// What headers say of its factor.
    pub by_headers: Option<f64>,
    /// How stars that are full in a longer one get the longest one's profile, where seeing differs.
    pub profile: Option<Reprofile>,
}

/// Exposures that cannot be joined; numbers are places in their list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum HdrError {
    /// Nothing tells the factor of an exposure.
    #[error("neither light that it shares with another exposure nor headers tell its factor")]
    Untied(usize),
    /// Its sky cannot be matched.
    #[error("its sky cannot be matched: {1}")]
    Sky(usize, BalanceError),
}

/// Headers and measurement may differ by so much.
const AGREE: f64 = 0.03;

/// Stars and smooth light may differ by so much, and by so many errors.
const SAME: f64 = 0.02;
const SAME_SIGMA: f64 = 3.0;

/// Joins exposures of one filter, the longest being the first, as they stand on one canvas. `shape` is that of the surfaces
/// between skies, chosen where it is absent.
///
/// # Errors
/// The first exposure that cannot be joined.
pub fn join(exposures: &[Exposure<'_>], shape: Option<Shape>) -> Result<Vec<Joined>, HdrError> {
    let found = factors(exposures);
    let tied = |(i, factor): (usize, &Option<Factor>)| -> Result<Joined, HdrError> {
        let factor = factor.as_ref().ok_or(HdrError::Untied(i))?;
        let balance = if i == 0 {
            Balance::identity(exposures[0].member().catalogue)
        } else {
            factor.balance(exposures, i, shape)?
        };
        let scale = balance.scale.value;
        let light = &exposures[i].light;
        let first = f64::from(exposures[0].light.variance);
        let variance = scale * scale * f64::from(light.variance);
        Ok(Joined {
            part: Part {
                // A frame without noise has all the weight that numbers can give.
                variance: variance.max(1e-30).single(),
                per_light: (scale * f64::from(light.variance_per_unit)).single(),
            },
            balance: Balance {
                weight: if variance > 0.0 {
                    first / variance
                } else {
                    1.0
                },
                ..balance
            },
            link: factor.link,
            by_headers: by_headers(exposures, i),
            profile: None,
        })
    };
    let mut all: Vec<Joined> = found
        .par_iter()
        .enumerate()
        .map(tied)
        .collect::<Result<_, _>>()?;
    share_photon_noise(&mut all);
    let scales: Vec<f64> = all.iter().map(|j| j.balance.scale.value).collect();
    let bright = bright_stars(exposures, &scales);
    for (i, j) in all.iter_mut().enumerate().skip(1) {
        j.profile = reprofile(exposures, i, (&bright, &scales), &mut j.balance.notes);
    }
    Ok(all)
}

/// An exposure that does not tell how its noise grows with light has the same camera as the others: its light's noise
/// is theirs, scaled as its values are.
fn share_photon_noise(all: &mut [Joined]) {
    let mut known: Vec<f32> = all
        .iter()
        .filter(|j| j.part.per_light > 0.0)
        .map(|j| j.part.per_light / j.balance.scale.value.single())
        .collect();
    if known.is_empty() {
        return;
    }
    let typical = median(&mut known);
    for j in all.iter_mut().filter(|j| j.part.per_light <= 0.0) {
        j.part.per_light = typical * j.balance.scale.value.single();
    }
}

/// The factor on an exposure.
#[derive(Debug, Clone)]
struct Factor {
    value: Measured,
    by: ScaleBy,
    stars: usize,
    link: Option<Link>,
    notes: Vec<String>,
}

/// What headers say of an exposure's factor.
fn by_headers(exposures: &[Exposure<'_>], i: usize) -> Option<f64> {
    exposure_scale(exposures[0].member(), exposures[i].member()).map(|m| m.value)
}

/// The factor of each exposure; `None` where nothing tells it.
fn factors(exposures: &[Exposure<'_>]) -> Vec<Option<Factor>> {
    let n = exposures.len();
    let pairs: Vec<Vec<Pair>> = (0..n)
        .map(|i| (i + 1..n).map(|j| Pair::of(exposures, i, j)).collect())
        .collect();
    let links = chain(n, |i, j| pairs[i][j - i - 1].factor);
    (0..n)
        .map(|i| {
            if i == 0 {
                return Some(Factor {
                    value: Measured::exact(1.0),
                    by: ScaleBy::Reference,
                    stars: 0,
                    link: None,
                    notes: Vec::new(),
                });
            }
            let by_headers = by_headers(exposures, i);
            if let Some(link) = links[i] {
                let pair = &pairs[link.with][i - link.with - 1];
                let mut notes = pair.notes.clone();
                let reason = by_headers.and_then(|t| mismatch(exposures, i, link.scale.value, t));
                notes.extend(reason);
                return Some(Factor {
                    value: link.scale,
                    by: pair.by,
                    stars: pair.stars,
                    link: Some(link),
                    notes,
                });
            }
            by_headers.map(|by_headers| Factor {
                value: Measured {
                    value: by_headers,
                    sigma: AGREE * by_headers,
                },
                by: ScaleBy::Exposure,
                stars: 0,
                link: None,
                notes: vec![
                    "it shares too little light with the other exposures: headers alone tell its factor".to_owned(),
                ],
            })
        })
        .collect()
}

/// What two exposures say of the factor between them.
struct Pair {
    factor: Option<Measured>,
    by: ScaleBy,
    stars: usize,
    notes: Vec<String>,
}

impl Pair {
    fn of(exposures: &[Exposure<'_>], i: usize, j: usize) -> Self {
        let (longer, shorter) = (&exposures[i], &exposures[j]);
        let stars = star_scale(&common_stars(longer.member(), shorter.member()));
        // Responses of the longer stand in the order of the shorter ones.
        let light = longer
            .responses
            .get(j - i - 1)
            .and_then(Option::as_ref)
            .map(|r| r.slope);
        let mut notes = Vec::new();
        let (factor, by) = match (stars, light) {
            (Some((s, _)), Some(l)) => {
                let apart = (s.value / l.value - 1.0).abs();
                let error = (s.sigma / s.value).hypot(l.sigma / l.value);
                if apart > SAME && apart > SAME_SIGMA * error {
                    notes.push(format!(
                        "its stars tell a factor of {:.3} and its nebula {:.3}: one of the two frames is not linear, or \
                         stars are full at less than is known",
                        s.value, l.value
                    ));
                    // Smooth light is what an HDR frame is made for.
                    (Some(l), ScaleBy::Signal)
                } else {
                    let by = if s.sigma / s.value < l.sigma / l.value {
                        ScaleBy::Stars
                    } else {
                        ScaleBy::Signal
                    };
                    (Some(mean(s, l)), by)
                }
            }
            (Some((s, _)), None) => (Some(s), ScaleBy::Stars),
            (None, Some(l)) => (Some(l), ScaleBy::Signal),
            (None, None) => (None, ScaleBy::None),
        };
        let points = longer.responses.get(j - i - 1).and_then(Option::as_ref);
        Self {
            factor,
            by,
            stars: match by {
                ScaleBy::Signal => points.map_or(0, |r| r.points),
                _ => stars.map_or(0, |s| s.1),
            },
            notes,
        }
    }
}

/// The mean of two measurements of one thing, each by its error.
fn mean(a: Measured, b: Measured) -> Measured {
    let (wa, wb) = (a.sigma.powi(-2), b.sigma.powi(-2));
    if !(wa.is_finite() && wb.is_finite()) {
        return if a.sigma < b.sigma { a } else { b };
    }
    Measured {
        value: (wa * a.value + wb * b.value) / (wa + wb),
        sigma: (wa + wb).sqrt().recip(),
    }
}

/// A factor that is not what headers say, with what is likely behind it.
fn mismatch(exposures: &[Exposure<'_>], i: usize, scale: f64, by_headers: f64) -> Option<String> {
    let ratio = scale / by_headers;
    if (ratio - 1.0).abs() <= AGREE {
        return None;
    }
    let gains = |e: &Exposure<'_>| e.member().gain_e_adu;
    let to_one = |k: f64| (k.log2().abs() - 16.0).abs() < 0.6;
    let cause = if to_one(ratio) {
        "one of the two has values from 0 to 1, the other counts"
    } else if gains(&exposures[0]).is_none() || gains(&exposures[i]).is_none() {
        "a gain that a header does not tell, or cloud"
    } else if ratio > 1.0 {
        "cloud or haze before this one, another telescope, or a wrong exposure in a header"
    } else {
        "cloud or haze before the longest, another telescope, or a wrong exposure in a header"
    };
    Some(format!(
        "its light is to be multiplied by {scale:.4}, while exposures and gains say {by_headers:.4} ({:+.1} %): likely {cause}. \
         What is measured is used",
        100.0 * (ratio - 1.0)
    ))
}

impl Factor {
    /// The whole balance: the factor, and the surface between the skies.
    fn balance(
        &self,
        exposures: &[Exposure<'_>],
        i: usize,
        shape: Option<Shape>,
    ) -> Result<Balance, HdrError> {
        let (first, own) = (&exposures[0], &exposures[i]);
        let matched = match_scaled(
            &first.sky,
            &own.sky,
            (self.value, self.by, self.stars),
            shape,
        );
        let mut balance = match (matched, first.responses.get(i - 1)) {
            (Ok(matched), _) => matched.balance,
            // No patch of sky: the smooth light's own line says what is added.
            (Err(BalanceError::NoCommonSky), Some(Some(r))) => {
                let catalogue = own.member().catalogue;
                Balance {
                    scale: self.value,
                    scale_by: self.by,
                    stars: self.stars,
                    surface: Surface::constant(r.offset[0]),
                    ..Balance::identity(catalogue)
                }
            }
            (Err(error), _) => return Err(HdrError::Sky(i, error)),
        };
        balance.notes.extend(self.notes.iter().cloned());
        Ok(balance)
    }
}

/// A star that may be full in a long exposure.
struct Bright {
    at: Point<CanvasPx>,
    /// Its height, in the longest exposure's units.
    amplitude: f64,
}

/// The bright stars of all exposures, each from the shortest that shows it: there it is not full, while a long one may
/// show no more of it than a white disc.
fn bright_stars(exposures: &[Exposure<'_>], scales: &[f64]) -> Vec<Bright> {
    let least = 0.5 * f64::from(exposures[0].limit - exposures[0].light.sky);
    let mut all: Vec<Bright> = Vec::new();
    for (e, scale) in exposures.iter().zip(scales).rev() {
        let back = e.member().placement.invert();
        let typical = e.member().catalogue.fwhm_px;
        // The brightest knot of a nebula is no star: it is wider than all others.
        let like_a_star = |s: &&Star| (s.fwhm_px / typical).ln().abs() < ODD_WIDTH;
        for s in e.member().catalogue.stars.iter().filter(like_a_star) {
            let at = back.apply(s.at);
            let amplitude = scale * s.amplitude;
            if amplitude > least && all.iter().all(|b| b.at.distance(at) > 3.0) {
                all.push(Bright { at, amplitude });
            }
        }
    }
    all
}

/// A star's width differs from that of the others by less than this, in logarithms.
const ODD_WIDTH: f64 = 0.2;

/// Of a wide circle around a full star most is valid, whatever trail its bloom leaves; where the nebula is full, little is.
const LEAST_CLEAR: f64 = 0.6;

impl Bright {
    /// How far around the star an exposure, whose scale is given, is not valid, if the star is why.
    fn reach_in(&self, e: &Exposure<'_>, scale: f64, wings: f64) -> Option<f64> {
        let at = e.member().placement.apply(self.at);
        if e.mask.at(at.x.round().whole(), at.y.round().whole()) >= 1.0 {
            return None;
        }
        let border = Border::default();
        let border_px = (border.grow_px + border.feather_px).real();
        let profile = Profile::round(e.member().catalogue.fwhm_px, wings);
        let saturation = f64::from(e.limit - e.light.sky) * scale / self.amplitude;
        let reach = profile.radius(saturation) + border_px;
        (e.mask.clear_part(at, reach + 2.0 * border_px) > LEAST_CLEAR).then_some(reach)
    }
}

/// How the stars of exposure `i` that are full in a longer one get the profile of the longest.
fn reprofile(
    exposures: &[Exposure<'_>],
    i: usize,
    (bright, scales): (&[Bright], &[f64]),
    notes: &mut Vec<String>,
) -> Option<Reprofile> {
    let own = exposures[i].member();
    let first = exposures[0].member();
    let wings = wings(exposures);
    let from = Profile::of(own.catalogue, wings);
    // The longest one's as this frame would show it.
    let to = Profile::of(first.catalogue, wings).mapped(between(first, own)?);
    if !from.can_become(to) {
        if (to.fwhm_px() / from.fwhm_px()).ln().abs() > 0.1 {
            notes.push(format!(
                "its stars are {:.1} px wide where those of the longest exposure are {:.1} px: stars that are full there \
                 change their width from core to wings",
                from.fwhm_px(),
                to.fwhm_px()
            ));
        }
        return None;
    }
    let scale = to.fwhm_px() / from.fwhm_px();
    let discs: Vec<Disc> = bright
        .iter()
        .filter_map(|star| {
            let radius = (0..i)
                .filter_map(|j| star.reach_in(&exposures[j], scales[j], wings))
                .reduce(f64::max)?;
            let there = own.placement.apply(star.at);
            // Its own middle is surer than one that another exposure shows.
            let near = own.catalogue.stars.iter();
            let at = near
                .filter(|o| o.at.distance(there) < 2.0)
                .min_by(|a, b| a.at.distance(there).total_cmp(&b.at.distance(there)))
                .map_or(there, |o| o.at);
            Some(Disc {
                at: [at.x, at.y],
                radius_px: radius * scale.recip().max(1.0) + 1.0,
                around: f64::from(own.catalogue.sky.level_at(at)),
            })
        })
        .collect();
    (!discs.is_empty()).then_some(Reprofile { from, to, discs })
}

/// One exponent for the wings of all: two that differ by chance would pull wings apart that are alike.
fn wings(exposures: &[Exposure<'_>]) -> f64 {
    let mut known: Vec<f32> = exposures
        .iter()
        .filter_map(|e| Some(e.wings?.single()))
        .collect();
    if known.is_empty() {
        known = exposures
            .iter()
            .map(|e| e.member().catalogue.beta.single())
            .collect();
    }
    f64::from(median(&mut known))
}

/// How a small step in one frame looks in another, at the middle of the first.
fn between(one: &Member<'_>, other: &Member<'_>) -> Option<[[f64; 2]; 2]> {
    let map: Registration = one.placement.invert().then(other.placement)?.retyped();
    Some(map.jacobian(one.size.centre()))
}
