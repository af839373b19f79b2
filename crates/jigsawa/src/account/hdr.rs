//! What a merge of exposures has found, to be told.

use jigsawa_core::number::Convert;
use serde::Serialize;

use jigsawa_work::clock::{in_units, round};
use jigsawa_work::frames::Frame;
use jigsawa_work::hdr::{Measured, Merged, Set};

/// One exposure in the account.
#[derive(Debug, Clone, Serialize)]
pub struct HdrRow {
    pub file: String,
    pub filter: String,
    pub exposure_s: f64,
    /// From this value its pixels are full; absent where nothing tells.
    pub full: Option<f64>,
    pub full_by: Option<&'static str>,
    /// Up to this value it is trusted.
    pub trusted: Option<f64>,
    /// From this value on it is not linear, if it is seen to bend.
    pub shoulder: Option<f64>,
    /// The part of its pixels that is full.
    pub full_percent: f64,
    /// What its values are multiplied by, and what exposures and gains say.
    pub factor: f64,
    pub factor_error: f64,
    pub factor_told: Option<f64>,
    /// The exposure that it was compared with.
    pub by_way_of: Option<String>,
    /// The part of the canvas that comes from it most.
    pub share_percent: f64,
    /// Stars that got the longest exposure's profile.
    pub stars_matched: usize,
}

/// The rows of a set.
pub fn rows(set: &Set, measured: &Measured<'_>, merged: &Merged, frames: &[Frame]) -> Vec<HdrRow> {
    let all: usize = merged.from.iter().sum::<usize>() + merged.saturated;
    let percent = |part: usize, of: usize| round(100.0 * part.real() / of.max(1).real(), 4);
    set.frames
        .iter()
        .zip(measured.exposures.iter().zip(&measured.joined))
        .enumerate()
        .map(|(k, (i, (e, j)))| HdrRow {
            file: frames[*i].name(),
            filter: set.filter.name().to_owned(),
            exposure_s: frames[*i].facts.exposure_s.unwrap_or(0.0),
            full: e.saturation.map(|f| in_units(f64::from(f.level), 3)),
            full_by: e.saturation.map(|f| f.by.words()),
            trusted: e.limit.is_finite().then(|| in_units(f64::from(e.limit), 3)),
            shoulder: e.shoulder().map(|s| in_units(f64::from(s), 3)),
            full_percent: round(100.0 * e.full_part(), 4),
            factor: round(j.balance.scale.value, 5),
            factor_error: round(j.balance.scale.sigma, 5),
            factor_told: j.by_headers.filter(|_| k > 0).map(|t| round(t, 5)),
            by_way_of: j
                .link
                .filter(|l| l.with > 0)
                .map(|l| frames[set.frames[l.with]].name()),
            share_percent: percent(merged.from[k], all),
            stars_matched: j.profile.as_ref().map_or(0, |p| p.discs.len()),
        })
        .collect()
}
