//! Which frame of a filter the others are matched to: a good one with an even sky.
//!
//! Apart from the frame that all are registered on, since the sharpest frame may be the one with the
//! moon in it. What is left in it is left in all, so the least gradient wins among the frames that are
//! nearly as good as the best; a high altitude decides between equals.

use super::Member;
use super::scale::{common_stars, star_scale};
use crate::number::Convert;
use crate::survey::gradient::gradient;
use crate::survey::reference::{Merits, merit};

/// The frame that is proposed, and why.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// Its number in the list.
    pub frame: usize,
    /// The reason in words.
    pub why: String,
}

/// A frame this good, in parts of the best one's merit, may be the reference.
const NEARLY_AS_GOOD: f64 = 0.85;

/// Gradients closer than this, in noise widths across the frame, are alike.
const ALIKE: f64 = 0.5;

/// What passes for the transparency of a frame that shares no stars with the others.
const UNKNOWN: f64 = 0.5;

/// The part of the light that each frame got, against the clearest of them, by the stars that it shares with
/// the one with the most.
fn transparencies(members: &[Member<'_>]) -> Vec<f64> {
    let most = members
        .iter()
        .enumerate()
        .max_by_key(|(i, m)| (m.catalogue.clean().count(), usize::MAX - i));
    let Some((_, anchor)) = most else {
        return Vec::new();
    };
    let light: Vec<Option<f64>> = members
        .iter()
        .map(|m| {
            let scale = star_scale(&common_stars(anchor, m))?.0.value;
            let exposures = anchor.exposure_s.zip(m.exposure_s);
            Some(exposures.map_or(1.0, |(a, b)| a / b) / scale)
        })
        .collect();
    let best = light.iter().flatten().copied().fold(0.0, f64::max);
    light
        .iter()
        .map(|l| l.map_or(UNKNOWN, |l| l / best))
        .collect()
}

/// The frame of one filter that the others are to be matched to; altitudes in degrees, where known.
/// `None` for an empty list.
pub fn propose(members: &[Member<'_>], altitudes: &[Option<f64>]) -> Option<Proposal> {
    let stars = |m: &Member<'_>| m.catalogue.stars.len().real();
    let usual = members.iter().map(stars).fold(1.0, f64::max);
    let clear = transparencies(members);
    let merits: Vec<f64> = members
        .iter()
        .zip(&clear)
        .map(|(m, transparency)| {
            merit(&Merits {
                stars_ratio: stars(m) / usual,
                width: m.catalogue.fwhm_px.max(0.1),
                elongation: m.catalogue.elongation.max(1.0),
                transparency: *transparency,
                off_middle: 0.0,
            })
        })
        .collect();
    let best = merits
        .iter()
        .copied()
        .filter(|m| m.is_finite())
        .fold(0.0, f64::max);
    let steep = |m: &Member<'_>| gradient(&m.catalogue.sky).0 / m.noise().max(1e-30);
    let good: Vec<(usize, f64)> = (0..members.len())
        .filter(|i| best == 0.0 || merits[*i] >= NEARLY_AS_GOOD * best)
        .map(|i| (i, steep(&members[i])))
        .collect();
    let least = good.iter().map(|g| g.1).fold(f64::INFINITY, f64::min);
    let high = |i: usize| altitudes.get(i).copied().flatten().unwrap_or(0.0);
    let (frame, gradient) = good
        .iter()
        .filter(|g| g.1 <= least + ALIKE)
        .max_by(|a, b| {
            high(a.0)
                .total_cmp(&high(b.0))
                .then(b.1.total_cmp(&a.1))
                .then(b.0.cmp(&a.0))
        })
        .copied()?;
    let why = if members.len() == 1 {
        "the only frame of its filter".to_owned()
    } else {
        let altitude = match high(frame) {
            a if a > 0.0 => format!(", {a:.0} degrees above the horizon"),
            _ => String::new(),
        };
        format!(
            "least gradient ({gradient:.1} noise widths across the frame) of the {} good ones of {}{altitude}",
            good.len(),
            members.len()
        )
    };
    Some(Proposal { frame, why })
}
