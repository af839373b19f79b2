//! The survey's account, in the form that `--json` prints.

use jigsawa_core::number::Convert;
use jigsawa_core::survey::group::{Group, filter_label};
use jigsawa_core::survey::quantity::{Measure, QUANTITIES, Value};
use jigsawa_core::survey::{Cell, Course};
use serde::Serialize;

use super::{Outcome, Reference};
use jigsawa_work::clock::{Clock, Output, in_units, round};
use jigsawa_work::foreign::name_of;
use jigsawa_work::survey::Night;

/// What a survey says.
pub type SurveyAccount = Outcome<Surveyed>;

/// A night's frames, judged.
#[derive(Debug, Serialize)]
pub struct Surveyed {
    /// The same for the terminal.
    #[serde(skip)]
    pub text: String,
    /// Frames that were measured in this run; the others were known.
    pub measured: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reference: Option<Reference>,
    pub groups: Vec<Group>,
    pub frames: Vec<SurveyRow>,
}

/// One file.
#[derive(Debug, Serialize)]
pub struct SurveyRow {
    pub file: String,
    pub kind: Option<&'static str>,
    pub master: Option<bool>,
    pub filter: Option<String>,
    pub exposure_s: Option<f64>,
    pub verdict: &'static str,
    pub reason: Option<String>,
    pub doubts: Vec<String>,
    pub date: Option<String>,
    pub width: Option<usize>,
    pub height: Option<usize>,
    pub bits: Option<i32>,
    pub fwhm_px: Option<f64>,
    pub fwhm_arcsec: Option<f64>,
    pub fwhm_spread_px: Option<f64>,
    pub elongation_spread: Option<f64>,
    pub threshold_sigma: Option<f64>,
    /// Level and noise in electrons, where the gain is known.
    pub sky_e: Option<f64>,
    pub noise_e: Option<f64>,
    /// The parts of the score.
    pub parts: Option<Parts>,
    /// The course over the field.
    pub course: Option<Course>,
    /// The field in nine parts, row after row.
    pub map: Option<[Option<Cell>; 9]>,
    /// Ends of trails, in pixels of the frame.
    pub trail_ends: Vec<[f64; 4]>,
    /// All other quantities by their names; parts as 0 to 1.
    #[serde(flatten)]
    pub quantities: serde_json::Map<String, serde_json::Value>,
}

#[derive(Debug, Serialize)]
pub struct Parts {
    pub sharpness: f64,
    pub roundness: f64,
    pub transparency: f64,
    pub quiet: f64,
}

/// Quantities that have keys of their own.
const OWN: [&str; 5] = ["file", "kind", "filter", "exposure", "fwhm"];

impl SurveyRow {
    fn of(night: &Night, i: usize) -> Self {
        let (facts, measures, judged) = (&night.facts[i], &night.measures[i], &night.judged[i]);
        let known = night.known_of(i);
        let m = measures.as_ref();
        let width = m.and_then(|m| m.fwhm_px);
        let gain = facts.gain_e_adu;
        let mut quantities = serde_json::Map::new();
        for q in QUANTITIES.iter().filter(|q| !OWN.contains(&q.name)) {
            let places = q.digits.i32() + 1;
            let value = match (q.of)(&known) {
                Some(Value::Number(v)) if q.measure == Measure::Light => {
                    in_units(v, q.digits + 1).into()
                }
                Some(Value::Number(v)) => round(v, places).into(),
                Some(Value::Words(text)) => text.into(),
                None => serde_json::Value::Null,
            };
            quantities.insert(q.name.to_owned(), value);
        }
        Self {
            file: name_of(&night.files[i].path),
            kind: Some(facts.kind.name()),
            master: Some(facts.master),
            filter: filter_label(facts),
            exposure_s: facts.exposure_s,
            verdict: judged.verdict.word(),
            reason: judged.verdict.reason().map(str::to_owned),
            doubts: judged.doubts.clone(),
            date: facts.date.clone(),
            width: Some(facts.size.width()),
            height: Some(facts.size.height()),
            bits: facts.bits,
            fwhm_px: width.map(|w| round(w.median, 3)),
            fwhm_arcsec: width
                .zip(facts.arcsec_per_px())
                .map(|(w, scale)| round(w.median * scale, 3)),
            fwhm_spread_px: width.map(|w| round(w.spread, 3)),
            elongation_spread: m.and_then(|m| m.elongation).map(|e| round(e.spread, 3)),
            threshold_sigma: m.map(|m| m.threshold_sigma),
            sky_e: m.zip(gain).map(|(m, g)| round(m.sky * g, 2)),
            noise_e: m.zip(gain).map(|(m, g)| round(m.noise * g, 3)),
            parts: night.scores[i].map(|s| Parts {
                sharpness: round(s.sharpness, 4),
                roundness: round(s.roundness, 4),
                transparency: round(s.transparency, 4),
                quiet: round(s.quiet, 4),
            }),
            course: m.and_then(|m| m.course).map(|c| Course {
                tilt: round(c.tilt, 4),
                curvature: round(c.curvature, 4),
            }),
            map: m.filter(|m| m.fwhm_px.is_some()).map(|m| {
                m.map.map(|cell| {
                    cell.map(|c| Cell {
                        fwhm_px: round(c.fwhm_px, 3),
                        elongation: round(c.elongation, 3),
                        angle_deg: round(c.angle_deg, 1),
                        ..c
                    })
                })
            }),
            trail_ends: m
                .map(|m| m.trails.as_slice())
                .unwrap_or_default()
                .iter()
                .map(|t| [t.from.0, t.from.1, t.to.0, t.to.1].map(|v| round(v, 1)))
                .collect(),
            quantities,
        }
    }

    fn unreadable(file: &str, reason: &str) -> Self {
        Self {
            file: file.to_owned(),
            kind: None,
            master: None,
            filter: None,
            exposure_s: None,
            verdict: "left out",
            reason: Some(format!("it cannot be read: {reason}")),
            doubts: Vec::new(),
            date: None,
            width: None,
            height: None,
            bits: None,
            fwhm_px: None,
            fwhm_arcsec: None,
            fwhm_spread_px: None,
            elongation_spread: None,
            threshold_sigma: None,
            sky_e: None,
            noise_e: None,
            parts: None,
            course: None,
            map: None,
            trail_ends: Vec::new(),
            quantities: serde_json::Map::new(),
        }
    }
}

impl SurveyAccount {
    /// The account of a night.
    pub fn of_night(night: &Night, measured: usize, outputs: Vec<Output>, clock: &Clock) -> Self {
        let mut frames: Vec<SurveyRow> = (0..night.files.len())
            .map(|i| SurveyRow::of(night, i))
            .collect();
        frames.extend(
            night
                .unreadable
                .iter()
                .map(|(f, why)| SurveyRow::unreadable(&name_of(&f.path), why)),
        );
        let mut warnings = night.events();
        for f in &frames {
            warnings.extend(
                f.reason
                    .iter()
                    .map(|r| format!("'{}' is left out: {r}", f.file)),
            );
            warnings.extend(f.doubts.iter().map(|d| format!("'{}': {d}", f.file)));
        }
        let own = Surveyed {
            text: String::new(),
            measured,
            reference: night.reference.as_ref().map(|(i, why)| Reference {
                file: name_of(&night.files[*i].path),
                plane: None,
                why: why.clone(),
            }),
            groups: night.groups.clone(),
            frames,
        };
        Self::new("survey", own, outputs, warnings, clock)
    }
}
