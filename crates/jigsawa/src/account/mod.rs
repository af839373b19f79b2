//! What happened: one record that the terminal and `--json` read.

mod calibrate;
mod finish;
mod hdr;
mod mosaic;
mod outcome;
mod run;
mod stack;
mod survey;

use jigsawa_core::canvas::Canvas;
use jigsawa_core::layout::{Layout, LayoutFrame, PlacementRecord};
use jigsawa_core::space::{FramePx, Point};
use serde::Serialize;

pub use calibrate::{CalibrateAccount, Calibrated, LightsRow};
pub use finish::{
    FinishAccount, Finished, account as finish_account, gradient_doubt, linear_doubt, steps,
};
pub use hdr::{HdrRow, rows as hdr_rows};
use jigsawa_work::clock::{Clock, Output, in_units, round};
pub use mosaic::{MosaicAccount, OverlapRow, mosaic_account};
pub use outcome::Outcome;
pub use run::{Ran, RunAccount, StepRow, StepState};
pub use stack::{ComparedRow, LightRow, MasterRow, row as master_row, several_of_a_filter};
pub use survey::{SurveyAccount, Surveyed};

use jigsawa_work::compose::{Channel, LineRow};
use jigsawa_work::frames::Spoilt;

/// What the account calls a frame merged of several exposures, one joined of panels, and one stacked.
pub const HDR_FRAME: &str = "HDR frame, linear 32-bit float";
pub const MOSAIC_FRAME: &str = "mosaic, linear 32-bit float";
pub const MASTER_FRAME: &str = "master, linear 32-bit float";

/// And a colour picture, linear.
pub const LINEAR_PICTURE: &str = "linear 32-bit float, 3 planes";

/// The account of a command that lays frames on a canvas.
pub type Account = Outcome<LaidOut>;

/// Frames on a canvas, and what was made of them.
#[derive(Debug, Serialize)]
pub struct LaidOut {
    pub reference: Reference,
    pub canvas: CanvasRow,
    /// The frames that the others of their filters are matched to.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub levels: Vec<LevelRow>,
    pub frames: Vec<FrameRow>,
    /// Files among them that cannot be used, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub spoilt: Vec<Spoilt>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub channels: Vec<Channel>,
    /// How strong lines were made against each other.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub lines: Vec<LineRow>,
    /// Where three or more frames of a filter overlap: the part of their values, in per cent, that only one shows and
    /// that was left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub outliers_percent: Option<f64>,
    /// Exposures that were merged.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub exposures: Vec<HdrRow>,
    /// Masters that were stacked.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub masters: Vec<MasterRow>,
    /// Panels and how they hang together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mosaic: Option<MosaicAccount>,
}

#[derive(Debug, Serialize)]
pub struct Reference {
    pub file: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plane: Option<usize>,
    pub why: String,
}

#[derive(Debug, Serialize)]
pub struct LevelRow {
    pub filter: String,
    pub file: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plane: Option<usize>,
    pub why: String,
}

#[derive(Debug, Serialize)]
pub struct CanvasRow {
    pub width: usize,
    pub height: usize,
    pub origin: [f64; 2],
    pub scale: f64,
    #[serde(skip_serializing_if = "is_zero")]
    pub turn_deg: f64,
}

/// One frame in the account.
#[derive(Debug, Serialize)]
pub struct FrameRow {
    pub file: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plane: Option<usize>,
    pub filter: String,
    pub exposure_s: Option<f64>,
    pub width: usize,
    pub height: usize,
    pub verdict: &'static str,
    pub reason: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    pub stars: usize,
    pub fwhm_px: Option<f64>,
    pub elongation: Option<f64>,
    pub sky: f64,
    pub noise: f64,
    /// What that of white noise would be which is as strong on large scales.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub deep_noise: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub placement: Option<PlacementRow>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub balance: Option<BalanceRow>,
}

#[derive(Debug, Serialize)]
pub struct PlacementRow {
    /// `None` for the reference, which needs no model.
    pub model: Option<&'static str>,
    /// How it was found.
    pub by: &'static str,
    pub pairs: usize,
    pub rms_px: f64,
    pub max_px: f64,
    /// Standard error of the map at the worst corner.
    pub corner_sigma_px: f64,
    /// Pairs in each ninth of the frame.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub coverage: Option<[usize; 9]>,
    pub rotation_deg: f64,
    pub scale: f64,
    pub mirrored: bool,
    /// Where the canvas's centre lies in the frame, from the frame's centre, in frame pixels.
    pub shift: [f64; 2],
    /// The longest way that the distortion moves a point, in frame pixels.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub distortion_px: Option<f64>,
}

#[derive(Debug, Serialize)]
pub struct BalanceRow {
    pub scale: f64,
    pub scale_error: f64,
    pub scale_by: jigsawa_core::balance::ScaleBy,
    /// What is added after scaling, at the canvas's centre.
    pub offset: f64,
    pub residual_sigma: f64,
    /// What the surface leaves of patches that it has not seen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub crossval_sigma: Option<f64>,
    /// Stars, or patches of nebula, behind the scale.
    pub stars: usize,
    pub patches: usize,
    /// The surface's kind, in words.
    pub surface: String,
    pub weight: f64,
}

/// How a command that was done ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// With all frames.
    Whole,
    /// With frames left out.
    WithoutSome,
}

impl Ending {
    /// By whether frames were left out.
    pub fn of(left_out: bool) -> Self {
        if left_out {
            Self::WithoutSome
        } else {
            Self::Whole
        }
    }

    /// 0, or 3 for frames left out where that is not to be passed over.
    pub fn exit_code(self, strict: bool) -> u8 {
        if strict && self == Self::WithoutSome {
            3
        } else {
            0
        }
    }
}

impl FrameRow {
    /// The row of a frame of a layout.
    pub fn new(f: &LayoutFrame, canvas: &Canvas) -> Self {
        Self {
            file: f.file.clone(),
            plane: f.plane,
            filter: f.filter.name().to_owned(),
            exposure_s: f.exposure_s,
            width: f.size.width(),
            height: f.size.height(),
            verdict: if f.verdict.reason().is_none() {
                "used"
            } else {
                "left out"
            },
            reason: f.verdict.reason().map(str::to_owned),
            notes: notes_of(f),
            stars: f.measured.stars,
            fwhm_px: f.measured.fwhm_px.map(|v| round(v, 3)),
            elongation: f.measured.elongation.map(|v| round(v, 3)),
            sky: in_units(f.measured.sky_adu, 3),
            noise: in_units(f.measured.noise_adu, 4),
            deep_noise: f.measured.deep_noise_adu.map(|v| in_units(v, 4)),
            placement: f.placement.as_ref().map(|p| PlacementRow {
                model: p.model.map(jigsawa_core::placement::Model::name),
                by: p.by.name(),
                pairs: p.pairs,
                rms_px: round(p.errors.rms_px, 4),
                max_px: round(p.errors.max_px, 4),
                corner_sigma_px: round(p.errors.corner_sigma_px, 4),
                coverage: p.coverage,
                rotation_deg: round(p.described.rotation_deg, 4),
                scale: round(p.described.scale, 6),
                mirrored: p.described.mirrored,
                shift: shift(p, f, canvas),
                distortion_px: p.distortion.as_ref().map(|b| round(b.most(), 2)),
            }),
            balance: f.balance.as_ref().map(|b| BalanceRow {
                scale: round(b.scale.value, 5),
                scale_error: round(b.scale.sigma, 6),
                scale_by: b.scale_by,
                offset: in_units(b.surface.at(canvas.size.centre()), 3),
                residual_sigma: round(b.residual_sigma, 4),
                crossval_sigma: b.crossval_sigma.map(|v| round(v, 4)),
                stars: b.stars,
                patches: b.patches,
                surface: surface_words(b),
                weight: round(b.weight, 5),
            }),
        }
    }
}

impl Account {
    /// The account of a command that ends in these outputs.
    pub fn of_layout(
        command: &'static str,
        layout: &Layout,
        channels: Vec<Channel>,
        outputs: Vec<Output>,
        clock: &Clock,
    ) -> Self {
        let warnings = layout
            .frames
            .iter()
            .flat_map(|f| {
                let left_out = f.verdict.reason().map(|r| format!("is left out: {r}"));
                let said = left_out.into_iter().chain(notes_of(f));
                said.map(|s| format!("'{}': {s}", f.file))
                    .collect::<Vec<_>>()
            })
            .collect();
        let canvas = &layout.canvas;
        let own = LaidOut {
            reference: Reference {
                file: layout.reference.file.clone(),
                plane: layout.reference.plane,
                why: layout.reference.why.clone(),
            },
            canvas: CanvasRow {
                width: canvas.size.width(),
                height: canvas.size.height(),
                origin: canvas.origin.map(|v| round(v, 4)),
                scale: canvas.scale,
                turn_deg: round(canvas.turn_deg, 4),
            },
            levels: level_rows(layout),
            frames: layout
                .frames
                .iter()
                .map(|f| FrameRow::new(f, canvas))
                .collect(),
            spoilt: Vec::new(),
            channels,
            lines: Vec::new(),
            outliers_percent: None,
            exposures: Vec::new(),
            masters: Vec::new(),
            mosaic: None,
        };
        Self::new(command, own, outputs, warnings, clock)
    }

    /// The same with files that could not be used.
    pub fn without(mut self, spoilt: Vec<Spoilt>) -> Self {
        let said = spoilt
            .iter()
            .map(|s| format!("'{}': is left out: {}", s.file, s.reason));
        self.warnings.extend(said);
        self.own.spoilt = spoilt;
        self
    }
}

/// What should be known of a frame: of its place, and of its values.
fn notes_of(f: &LayoutFrame) -> Vec<String> {
    let of_values = f.balance.iter().flat_map(|b| b.notes.iter());
    f.facts
        .iter()
        .chain(&f.notes)
        .chain(of_values)
        .cloned()
        .collect()
}

/// The frames that the others of their filters are matched to.
fn level_rows(layout: &Layout) -> Vec<LevelRow> {
    let references = layout.levels.iter().flat_map(|l| &l.references);
    references
        .filter_map(|r| {
            let f = layout.frames.get(r.frame)?;
            Some(LevelRow {
                filter: r.filter.name().to_owned(),
                file: f.file.clone(),
                plane: f.plane,
                why: r.why.clone(),
            })
        })
        .collect()
}

/// What is added, in words; and that all is divided, where it is, and what is added then.
fn surface_words(b: &jigsawa_core::balance::Balance) -> String {
    let words = if b.surface.is_zero() {
        "none".to_owned()
    } else {
        b.surface.words()
    };
    let divided = b.gain.iter().map(|g| format!(", divided by {}", g.words()));
    let added = b.added.iter().map(|a| format!(", then {}", a.words()));
    words + &divided.chain(added).collect::<String>()
}

/// Where the canvas's centre lies in a frame, from the frame's own.
fn shift(p: &PlacementRecord, f: &LayoutFrame, canvas: &Canvas) -> [f64; 2] {
    let there = p.placement().map(|m| m.apply(canvas.size.centre()));
    let middle: Point<FramePx> = f.size.centre();
    there.map_or([0.0; 2], |t| {
        [round(t.x - middle.x, 3), round(t.y - middle.y, 3)]
    })
}

// Serde hands fields over by reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_zero(v: &f64) -> bool {
    *v == 0.0
}
