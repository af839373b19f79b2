//! The filters' references brought to one sky, and to one scale if that is asked for.

use jigsawa_core::balance::flatten::{Gradient, gradients};
use jigsawa_core::balance::{
    Balance, BalanceError, Evidence, Matched, Member, ScaleBy, Shape, Sky, both_skies, colours,
    match_sky, scale,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::measured::Measured as Value;
use rayon::prelude::*;

use super::known::{KnownFrames, Outcome, Standard};
use super::{Across, NormalizeSettings, Seen};
use crate::compose::file_name;
use crate::frames::Frame;
use crate::trouble::Trouble;
use crate::words::ground_words;

/// A filter's reference and how it comes to that of all.
pub struct Level<'a> {
    pub filter: &'a Filter,
    pub frame: usize,
    pub why: String,
    pub sky: Sky<'a>,
    /// Its own balance: flattened, and brought to the first filter's.
    pub balance: Balance,
    pub seen: Option<Seen>,
}

/// The part of the light that passed the air for a filter's reference, against the clearest frame of the
/// filter; 1 where exposures or scales are not known.
pub fn transparency(
    frames: &[Frame],
    standard: &Standard<'_>,
    level: usize,
    rest: &[usize],
    matched: &[Outcome],
) -> f64 {
    let exposure = |i: usize| frames[i].facts.exposure_s;
    let of_reference = exposure(standard.frame);
    let best = rest
        .iter()
        .zip(matched)
        .filter(|(_, (l, _))| *l == level)
        .filter_map(|(i, (_, m))| {
            let b = &m.as_ref().ok()?.balance;
            let ratio = of_reference? / exposure(*i)?;
            (b.scale_by == ScaleBy::Stars).then_some(ratio / b.scale.value)
        })
        .fold(1.0, f64::max);
    1.0 / best
}

/// Flattens the references, if that is asked for, and brings them to the first. `clear` is the
/// transparency of each.
pub fn bring_together<'a>(
    placed: &'a KnownFrames<'a>,
    standards: Vec<Standard<'a>>,
    clear: &[f64],
    wanted: &NormalizeSettings<'_>,
) -> Result<Vec<Level<'a>>, Trouble> {
    let wrong = |i: usize, to: usize, error| Trouble::Balance {
        file: placed.frames[i].name(),
        reference: placed.frames[to].name(),
        error,
    };
    let members: Vec<Member<'_>> = standards.iter().map(|s| s.sky.member).collect();
    let of_picture = colours(&members, 0);
    let flat = flattened(&standards, wanted, wrong)?;
    let first = standards.first().map_or(0, |s| s.frame);
    let mut levels: Vec<Level<'a>> = Vec::new();
    for (k, Standard { frame, why, sky }) in standards.into_iter().enumerate() {
        let (own_sky, own, gradient) = &flat[k];
        let (balance, link, evidence) = if k == 0 || wanted.across == Across::Apart {
            (own.clone(), own.clone(), Evidence::default())
        } else {
            let between = Between {
                first: &flat[0].0,
                own: own_sky,
                clear: clear[0] / clear[k],
                of_picture: of_picture[k],
            };
            match between.join(own, wanted) {
                Ok(joined) => joined,
                Err(error) if wanted.needed.contains(&frame) => {
                    return Err(wrong(frame, first, error));
                }
                // The frames of the filter are still good for each other.
                Err(error) => {
                    let name = file_name(&placed.frames[first].name());
                    let apart = own.clone().noting(format!(
                        "its filter stays apart: it cannot be matched to '{name}', since {error}; it keeps its own scale and level"
                    ));
                    (apart.clone(), apart, Evidence::default())
                }
            }
        };
        levels.push(Level {
            filter: &placed.frames[frame].filter,
            frame,
            why,
            sky,
            balance,
            seen: Some(Seen {
                against: first,
                own: link,
                evidence,
                gradient: gradient.clone(),
            }),
        });
    }
    Ok(levels)
}

/// A reference's sky and balance after its own gradient is taken out, and the gradient.
type Flat<'a> = (Sky<'a>, Balance, Option<Gradient>);

/// The references without their own gradients, if that is asked for: what is sky is wanted on all of them together.
fn flattened<'a>(
    standards: &[Standard<'a>],
    wanted: &NormalizeSettings<'_>,
    wrong: impl Fn(usize, usize, BalanceError) -> Trouble + Sync,
) -> Result<Vec<Flat<'a>>, Trouble> {
    let as_it_is = |sky: &Sky<'a>| (sky.clone(), Balance::identity(sky.member.catalogue));
    let Some(how) = &wanted.flatten else {
        let all = standards.iter().map(|s| as_it_is(&s.sky));
        return Ok(all.map(|(sky, balance)| (sky, balance, None)).collect());
    };
    let skies: Vec<&Sky<'_>> = standards.iter().map(|s| &s.sky).collect();
    let found = gradients(&skies, wanted.settings.shape, &how.hints);
    standards
        .par_iter()
        .zip(found)
        .map(|(s, found)| {
            let sky = &s.sky;
            let Some(found) = found else {
                let (sky, balance) = as_it_is(sky);
                let said = "it shows no sky of its own: its gradient is left as it is".to_owned();
                return Ok((sky, balance.noting(said), None));
            };
            let said = found.ground.is_unsure().then(|| doubt(&found));
            let noted = |b: Balance| said.iter().fold(b, |b, s| b.noting(s.clone()));
            if found.surface.is_zero() {
                let (sky, balance) = as_it_is(sky);
                return Ok((sky, noted(balance), Some(found)));
            }
            let balance = found
                .balance(how.way, sky)
                .map(noted)
                .map_err(|e| wrong(s.frame, s.frame, e))?;
            let flat = Sky {
                member: sky.member,
                samples: sky.samples.clone().balanced(&balance),
            };
            Ok((flat, balance, Some(found)))
        })
        .collect()
}

/// What should be known of a gradient where nothing is surely sky.
fn doubt(found: &Gradient) -> String {
    let why = ground_words(found.ground);
    let show = "show places of dark sky with --sample add:X,Y";
    if found.surface.is_zero() {
        format!("its gradient is left as it is: {why}; {show}, or name its shape with --surface")
    } else {
        format!("the gradient that was asked for rests on little: {why}; {show}")
    }
}

/// The references of two filters.
struct Between<'a> {
    first: &'a Sky<'a>,
    own: &'a Sky<'a>,
    /// Transparency of the first over that of the other.
    clear: f64,
    /// The scale that a picture wants.
    of_picture: Result<(Value, ScaleBy, usize), BalanceError>,
}

impl Between<'_> {
    /// The whole way of the second: its own balance, then to the first.
    fn join(
        &self,
        own: &Balance,
        wanted: &NormalizeSettings<'_>,
    ) -> Result<(Balance, Balance, Evidence), BalanceError> {
        // After flattening a level is all that can differ.
        let shape = match wanted.flatten {
            Some(_) => Some(Shape::Level),
            None => wanted.settings.shape,
        };
        let scale = self.scale(wanted)?;
        let Matched { balance, evidence } = match_sky(self.first, self.own, scale, shape)?;
        let joined = Balance {
            scale_by: balance.scale_by,
            stars: balance.stars,
            residual_sigma: balance.residual_sigma,
            crossval_sigma: balance.crossval_sigma,
            patches: balance.patches,
            notes: own.notes.iter().chain(&balance.notes).cloned().collect(),
            ..own.clone().then(&balance)
        };
        Ok((joined, balance, evidence))
    }

    fn scale(
        &self,
        wanted: &NormalizeSettings<'_>,
    ) -> Result<(Value, ScaleBy, usize), BalanceError> {
        let (first, own) = (&self.first.member, &self.own.member);
        let known = |s: Option<Value>, by, e| s.map(|s| (s, by, 0)).ok_or(e);
        match wanted.settings.scale_by {
            None if wanted.across == Across::Colours => self.of_picture,
            None | Some(ScaleBy::None | ScaleBy::Reference) => {
                Ok((Value::exact(1.0), ScaleBy::None, 0))
            }
            Some(ScaleBy::Stars) => {
                let stars = scale::common_stars(first, own);
                scale::star_scale(&stars)
                    .map(|(s, n)| (s, ScaleBy::Stars, n))
                    .ok_or(BalanceError::FewStars(stars.len()))
            }
            Some(ScaleBy::Noise) => {
                let s = scale::noise_scale(first.catalogue, own.catalogue);
                known(s, ScaleBy::Noise, BalanceError::NoNoise)
            }
            Some(ScaleBy::Exposure) => {
                let s =
                    scale::exposure_scale(first, own).map(|s| s.times(Value::exact(self.clear)));
                known(s, ScaleBy::Exposure, BalanceError::NoExposure)
            }
            Some(ScaleBy::Signal) => {
                let both = both_skies(&self.first.samples, &self.own.samples);
                scale::signal_scale(&both, self.first.samples.lattice().canvas())
                    .map(|(s, n)| (s, ScaleBy::Signal, n))
                    .ok_or(BalanceError::NoSignal)
            }
        }
    }
}
