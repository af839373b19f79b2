//! The account of `calibrate`, in the form that `--json` prints.

use jigsawa_core::calibrate::defects::Flaw;
use jigsawa_core::frame::Kind;
use jigsawa_work::calibrate::{Calibration, KindFrom, LightsGet};
use jigsawa_work::clock::{Clock, Output, in_units, round};
use jigsawa_work::foreign::name_of;
use jigsawa_work::frames::Spoilt;
use serde::Serialize;

use super::Outcome;
use crate::tell::calibrating::{
    RAYS_BEHIND_COLOURS, REFUSED, blooming, doubt, misfit, moved_dust, other_heat, other_noise,
    other_phase, other_target, stray,
};

/// What a calibration says.
pub type CalibrateAccount = Outcome<Calibrated>;

/// Raw frames sorted, masters, and what lights get.
#[derive(Debug, Serialize)]
pub struct Calibrated {
    /// Frames that were taken alike.
    pub groups: Vec<GroupRow>,
    pub masters: Vec<MasterRow>,
    pub lights: Vec<LightsRow>,
    /// Lights that are doubtful by themselves.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub doubtful: Vec<Spoilt>,
    /// Frames that do not belong to their set.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<Spoilt>,
    /// Files that cannot be used.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub spoilt: Vec<Spoilt>,
}

#[derive(Debug, Serialize)]
pub struct GroupRow {
    pub group: String,
    pub kind: &'static str,
    pub filter: Option<String>,
    pub exposure_s: Option<f64>,
    pub celsius: Option<f64>,
    pub camera: Option<String>,
    pub width: usize,
    pub height: usize,
    pub files: Vec<String>,
    /// Frames that no card says the kind of: their names do.
    #[serde(skip_serializing_if = "is_none")]
    pub by_name: usize,
    /// Frames that nothing says the kind of: it is guessed by their pixels.
    #[serde(skip_serializing_if = "is_none")]
    pub by_pixels: usize,
}

#[derive(Debug, Serialize)]
pub struct MasterRow {
    pub group: String,
    pub file: String,
    pub frames: usize,
    pub level: f64,
    /// Noise of a pixel of it.
    pub noise: Option<f64>,
    /// Values that were left out when it was made; none where the library had it.
    pub clipped_percent: Option<f64>,
}

#[derive(Debug, Serialize)]
pub struct LightsRow {
    pub group: String,
    pub frames: usize,
    /// Groups that they get.
    pub bias: Option<String>,
    pub dark: Option<String>,
    /// The part of the dark's current that is taken off; 1 for a dark of their own exposure.
    pub dark_factor: Option<f64>,
    /// The same by their hot pixels, with its error.
    pub measured_factor: Option<f64>,
    pub measured_factor_error: Option<f64>,
    /// The part of the dark's glow that is taken off, where that is another one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub glow_factor: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub glow_factor_error: Option<f64>,
    pub flat: Option<String>,
    /// Pixels that are made up, by flaw.
    pub defects: std::collections::BTreeMap<&'static str, usize>,
    /// Pixels that are made up in single lights besides, by flaw, in all of them together.
    #[serde(skip_serializing_if = "std::collections::BTreeMap::is_empty")]
    pub own_defects: std::collections::BTreeMap<&'static str, usize>,
    /// Columns of which most is.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<usize>,
    pub electrons: bool,
    /// Noise of a pixel without light, in electrons, and how noisy the lights are against what gain and masters say.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dark_noise_e: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub noise_ratio: Option<f64>,
    /// Colours before a colour camera's pixels, of which red, green and blue are made.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pattern: Option<String>,
    pub doubts: Vec<String>,
}

// Serde hands fields over by reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_none(n: &usize) -> bool {
    *n == 0
}

/// A dark of the same exposure whose hot pixels are off by more than this, and by so many errors, is another one.
const OTHER: f64 = 0.2;
const SIGMAS: f64 = 5.0;

impl CalibrateAccount {
    /// The account of a calibration.
    pub fn of(c: &Calibration, outputs: Vec<Output>, clock: &Clock) -> Self {
        let left_out = c.left_out.iter().map(|l| {
            let raw = &c.raw[l.frame];
            Spoilt {
                file: name_of(&raw.path),
                reason: stray(raw.kind, l.stray),
            }
        });
        let own = Calibrated {
            groups: (0..c.groups.len()).map(|i| group_row(c, i)).collect(),
            masters: (0..c.groups.len())
                .filter_map(|i| master_row(c, i))
                .collect(),
            lights: c.lights.iter().map(|l| lights_row(c, l)).collect(),
            doubtful: c
                .other_targets
                .iter()
                .map(|o| Spoilt {
                    file: name_of(&c.raw[o.frame].path),
                    reason: other_target(&o.is, &o.others),
                })
                .collect(),
            left_out: left_out.collect(),
            spoilt: c.spoilt.clone(),
        };
        let of_files = own.left_out.iter().chain(&own.spoilt);
        let of_files = of_files.map(|s| format!("'{}' is left out: {}", s.file, s.reason));
        let of_lights = own.lights.iter().flat_map(|l| {
            let said = |d: &String| format!("{}: {d}", l.group);
            l.doubts.iter().map(said)
        });
        let of_targets = own.doubtful.iter();
        let of_targets = of_targets.map(|s| format!("'{}': {}", s.file, s.reason));
        let warnings = of_lights.chain(of_targets).chain(of_files).collect();
        Self::new("calibrate", own, outputs, warnings, clock)
    }
}

fn group_row(c: &Calibration, i: usize) -> GroupRow {
    let g = &c.groups[i];
    let members = || g.members.iter().map(|m| &c.raw[*m]);
    let kind_from = |what: KindFrom| members().filter(|r| r.kind_from == what).count();
    GroupRow {
        group: c.names[i].clone(),
        kind: g.kind.name(),
        filter: g
            .filter
            .as_ref()
            .map(|f| f.name().to_owned())
            .or_else(|| g.filter_card.clone()),
        exposure_s: g.exposure_s,
        celsius: g.celsius.map(|v| round(v, 1)),
        camera: g.setup.camera.clone(),
        width: g.setup.size.width(),
        height: g.setup.size.height(),
        files: members().map(|r| name_of(&r.path)).collect(),
        by_name: kind_from(KindFrom::Name),
        by_pixels: kind_from(KindFrom::Pixels),
    }
}

fn master_row(c: &Calibration, i: usize) -> Option<MasterRow> {
    let m = c.masters[i].as_ref()?;
    let digits = if c.groups[i].kind == Kind::Flat { 5 } else { 3 };
    Some(MasterRow {
        group: c.names[i].clone(),
        file: name_of(&m.path),
        frames: m.frames,
        level: round(f64::from(m.levels.median), digits),
        noise: (m.noise > 0.0).then(|| in_units(f64::from(m.noise), 4)),
        clipped_percent: m.clipped_percent.map(|v| round(v, 4)),
    })
}

/// Lights are as noisy as gain and masters say, to this.
const AS_TOLD: std::ops::Range<f64> = 0.8..1.25;

fn lights_row(c: &Calibration, l: &LightsGet) -> LightsRow {
    let g = &c.groups[l.group];
    let name = |i: Option<usize>| i.map(|i| c.names[i].clone());
    let scaled = l.needs.dark.is_some_and(|d| d.scaled);
    let mut doubts: Vec<String> = l.needs.doubts.iter().map(|d| doubt(d, &c.names)).collect();
    doubts.extend(l.misfit.map(misfit));
    if l.refused {
        doubts.push(REFUSED.to_owned());
    }
    if let Some(f) = l.factor.filter(|_| l.needs.dark.is_some() && !scaled) {
        let off = (f.value - 1.0).abs();
        if off > OTHER && off > SIGMAS * f.sigma {
            doubts.push(other_heat(f.value));
        }
    }
    if let Some(ratio) = l.noise_ratio.filter(|r| !AS_TOLD.contains(r)) {
        doubts.push(other_noise(ratio));
    }
    let (misfits, seen) = l.dust;
    if misfits > 0 && 2 * misfits >= seen {
        doubts.push(moved_dust(misfits, seen));
    }
    if let Some(pattern) = l.pattern.as_ref().filter(|_| l.shifted) {
        let told = g.setup.pattern.as_deref().unwrap_or_default();
        doubts.push(other_phase(told, pattern));
    }
    let own = l.own;
    if own.blooms > 0 {
        doubts.push(blooming(own.frames, g.members.len()));
    }
    if own.refused {
        doubts.push(RAYS_BEHIND_COLOURS.to_owned());
    }
    let electrons = g.members.first().and_then(|m| c.raw[*m].facts.gain_e_adu);
    LightsRow {
        group: c.names[l.group].clone(),
        frames: g.members.len(),
        bias: name(l.needs.bias),
        dark: name(l.needs.dark.map(|d| d.group)),
        dark_factor: l.needs.dark.map(|_| {
            let f = l.factor.filter(|_| scaled);
            f.map_or(1.0, |f| round(f.value, 4))
        }),
        measured_factor: l.factor.map(|f| round(f.value, 4)),
        measured_factor_error: l.factor.map(|f| round(f.sigma, 4)),
        glow_factor: l.glow.map(|g| round(g.value, 4)),
        glow_factor_error: l.glow.map(|g| round(g.sigma, 4)),
        flat: name(l.needs.flat),
        defects: l.defects.iter().copied().collect(),
        own_defects: [(Flaw::Ray, own.rays), (Flaw::Bloom, own.blooms)]
            .into_iter()
            .filter(|f| f.1 > 0)
            .map(|(f, n)| (f.name(), n))
            .collect(),
        columns: l.columns.clone(),
        electrons: electrons.is_some(),
        dark_noise_e: l.noise.map(|n| round(n.dark, 2)),
        noise_ratio: l.noise_ratio.map(|r| round(r, 3)),
        pattern: l.pattern.clone(),
        doubts,
    }
}
