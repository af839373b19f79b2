//! The layout: canvas, placements, balances and verdicts of a set of frames, as one file model.
//!
//! It is all that a merge needs besides the frames themselves; it can be read, corrected by hand and
//! used again. docs/layout.md describes it for users.

use serde::{Deserialize, Serialize};

use crate::balance::flatten::Flatten;
use crate::balance::{Balance, BalanceSettings, ShapeError, Weigh};
use crate::calibrate::record::CalibrationRecord;
use crate::canvas::Canvas;
use crate::filter::Filter;
use crate::matching::{FoundBy, Hint, MatchErrors};
use crate::mosaic::solve::Pose;
use crate::placement::{Described, Distortion, Map, Model, Placement};
use crate::space::Size;
use crate::verdict::Verdict;
use crate::wcs::{Projection, Wcs};

/// The version of the format that this program writes and the newest that it reads.
pub const FORMAT: u32 = 1;

/// A set of frames on a canvas.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Layout {
    /// Version of the format.
    pub format: u32,
    /// Which frame is the reference, and why.
    pub reference: Reference,
    /// The common grid.
    pub canvas: Canvas,
    /// Where the canvas lies on the sky, if any frame says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wcs: Option<Wcs>,
    /// How values were matched, and to which frames; absent before they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub levels: Option<Levels>,
    /// What is common to the panels of a mosaic; absent for other layouts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mosaic: Option<Panels>,
    /// All frames, in the order in which they were given.
    pub frames: Vec<LayoutFrame>,
}

/// What is common to the panels of a mosaic: all that is needed to add one without moving the others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Panels {
    /// The kind of plane that the canvas shows the sky on.
    pub projection: Projection,
    /// 1 / (reference pixels for a radian)²: how curved the sky is on the canvas.
    pub curvature: f64,
    /// What each camera's lens does.
    pub cameras: Vec<CameraRecord>,
    /// What files held here before it stood in each frame's own record: panel and pose in order of the frames.
    #[serde(default, skip_serializing)]
    places: Vec<Option<PanelPlace>>,
}

/// A camera of a mosaic.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CameraRecord {
    /// What tells it from others: name, pixels, arc seconds for a pixel.
    pub camera: String,
    /// From a pixel to where it would be without the lens; absent for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lens: Option<Distortion>,
}

/// Where a frame of a mosaic points.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PanelPlace {
    /// The panel's name.
    pub panel: String,
    /// Its camera, by number among the mosaic's.
    pub camera: usize,
    /// The frame's pose.
    #[serde(flatten)]
    pub pose: Pose,
}

/// How values were matched: what is needed to do it again with another frame.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Levels {
    /// The frame of each filter that the others of it are matched to; the first keeps its scale and its sky.
    pub references: Vec<LevelReference>,
    /// What was asked for.
    #[serde(flatten)]
    pub settings: BalanceSettings,
    /// What weights are made of.
    #[serde(default)]
    pub weigh: Weigh,
    /// How the references' own gradients were taken out; absent for not at all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub flatten: Option<Flatten>,
}

/// The frame that the others of its filter are matched to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LevelReference {
    /// Its filter.
    pub filter: Filter,
    /// Its number among the layout's frames, from 0.
    pub frame: usize,
    /// Why it is the one.
    pub why: String,
}

/// The reference frame and the reason for its choice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Reference {
    /// Its file, as in `frames`.
    pub file: String,
    /// Its plane, when the file is a colour image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plane: Option<usize>,
    /// Why it is the reference.
    pub why: String,
}

/// One frame of a layout.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LayoutFrame {
    /// Path of the file, relative to the layout's folder.
    pub file: String,
    /// Which plane of a colour image; absent for an image of one plane.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plane: Option<usize>,
    /// Its filter.
    pub filter: Filter,
    /// Exposure of a sub-frame in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exposure_s: Option<f64>,
    /// Its pixels.
    #[serde(flatten)]
    pub size: Size,
    /// Value from which pixels are saturated, if known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub saturation: Option<f32>,
    /// The file's fingerprint when it was measured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fingerprint: Option<String>,
    /// What the user said of its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<Hint>,
    /// Used, or left out and why.
    #[serde(flatten)]
    pub verdict: Verdict,
    /// What its file says that should be known: a black border, other images, a filter that only its name tells.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub facts: Vec<String>,
    /// What should be known of a frame that is used all the same, since it is doubtful.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// Its panel and where it points; absent for a frame that is left out, and where there is no mosaic.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub panel: Option<PanelPlace>,
    /// What its raw pixels need before they mean light; absent for a frame that is read as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub calibration: Option<CalibrationRecord>,
    /// What its stars and its sky say.
    pub measured: Measurements,
    /// Where it lies; absent when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub placement: Option<PlacementRecord>,
    /// How its values are matched; absent when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub balance: Option<Balance>,
}

/// What was measured on a frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Measurements {
    /// Stars found.
    pub stars: usize,
    /// Median full width at half maximum; absent without stars.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fwhm_px: Option<f64>,
    /// Median elongation; absent without stars.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub elongation: Option<f64>,
    /// Level of the sky.
    pub sky_adu: f64,
    /// Noise of a pixel of the sky.
    pub noise_adu: f64,
    /// What that of white noise would be which is as strong on large scales: the noise that faint light is seen against.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deep_noise_adu: Option<f64>,
    /// The highest pixel of any star; absent without stars.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub brightest_adu: Option<f32>,
}

impl Measurements {
    /// Of a frame that was not measured.
    pub const NONE: Self = Self {
        stars: 0,
        fwhm_px: None,
        elongation: None,
        sky_adu: 0.0,
        noise_adu: 0.0,
        deep_noise_adu: None,
        brightest_adu: None,
    };
}

/// A placement with its errors, as files keep it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlacementRecord {
    /// Canvas pixels to frame pixels: rows of the matrix on (x, y, 1).
    pub matrix: [[f64; 3]; 3],
    /// What is added to the place in the frame that the matrix gives; absent for the stiffer models.
    #[serde(default, skip_serializing_if = "Option::is_none", alias = "bend")]
    pub distortion: Option<Distortion>,
    /// The model that was fitted; absent for the reference, which needs none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<Model>,
    /// How it was found.
    #[serde(default)]
    pub by: FoundBy,
    /// Stars, or patches of pattern, that it rests on.
    pub pairs: usize,
    /// How many of them lie in each ninth of the frame, row after row; absent for the reference.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub coverage: Option<[usize; 9]>,
    /// How well they agree, in frame pixels.
    #[serde(flatten)]
    pub errors: MatchErrors,
    /// Turn, scale and handedness, to be read.
    #[serde(flatten)]
    pub described: Described,
}

impl PlacementRecord {
    /// The map itself; `None` when the numbers make no map, as after an edit by hand.
    pub fn placement(&self) -> Option<Placement> {
        let plain = Map::from_rows(self.matrix)?;
        match &self.distortion {
            None => Some(plain),
            Some(distortion) if distortion.is_gentle() => plain.distorted(distortion.clone()),
            Some(_) => None,
        }
    }
}

/// A layout that cannot be used.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum LayoutError {
    /// A newer version of the format.
    #[error("it has format {0}, this program knows up to {FORMAT}")]
    Newer(u32),
    /// A format that there has never been.
    #[error("it says format {0}, and there is none below 1")]
    Older(u32),
    /// The reference is not among the frames.
    #[error("its reference '{0}' is not among its frames")]
    NoReference(String),
    /// A used frame lacks its placement or has an impossible one.
    #[error("frame '{0}' is used but its placement is missing or impossible")]
    Placement(String),
    /// A used frame has an impossible balance.
    #[error("frame '{0}' has an impossible balance")]
    Balance(String),
    /// A frame that others are matched to is not there.
    #[error("its frames' values are matched to frame {0}, which it does not have")]
    Level(usize),
    /// The surface that was asked for is none.
    #[error("the shape of its surfaces is impossible: {0}")]
    Shape(ShapeError),
    /// The canvas's numbers make none.
    #[error("its canvas is impossible: scale, turn and origin make no grid")]
    Canvas,
    /// What a frame's raw pixels need cannot be.
    #[error(
        "frame '{0}' has an impossible calibration: a dark that is scaled needs a bias, factors are positive, a pattern is like RGGB"
    )]
    Calibration(String),
    /// The mosaic's parts do not fit its frames.
    #[error("its mosaic does not fit its frames: each panel needs a camera of the mosaic's")]
    Mosaic,
}

impl Panels {
    /// What is common to panels, without one yet.
    pub const fn new(projection: Projection, curvature: f64, cameras: Vec<CameraRecord>) -> Self {
        Self {
            projection,
            curvature,
            cameras,
            places: Vec::new(),
        }
    }

    fn fits(&self, frames: &[LayoutFrame]) -> bool {
        let mut panels = frames.iter().filter_map(|f| f.panel.as_ref());
        panels.all(|p| p.camera < self.cameras.len())
            && self.places.is_empty()
            && self.curvature >= 0.0
            && self.curvature.is_finite()
    }
}

/// All keys of a frame's record. Serde cannot refuse others itself, since size and verdict are parts of the record.
pub const FRAME_KEYS: [&str; 18] = [
    "file",
    "plane",
    "filter",
    "exposure_s",
    "width",
    "height",
    "saturation",
    "fingerprint",
    "hint",
    "verdict",
    "reason",
    "facts",
    "notes",
    "panel",
    "calibration",
    "measured",
    "placement",
    "balance",
];

impl Layout {
    /// The same layout with each panel's place in its frame's own record, where older files have a list of them.
    #[must_use]
    pub fn with_own_places(mut self) -> Self {
        let Some(mosaic) = &mut self.mosaic else {
            return self;
        };
        for (f, place) in self.frames.iter_mut().zip(mosaic.places.drain(..)) {
            f.panel = f.panel.take().or(place);
        }
        self
    }

    /// Names of a mosaic's panels in the order of their numbers.
    pub fn panels(&self) -> Vec<&str> {
        let mut order: Vec<&str> = Vec::new();
        for p in self.frames.iter().filter_map(|f| f.panel.as_ref()) {
            if !order.contains(&p.panel.as_str()) {
                order.push(&p.panel);
            }
        }
        order
    }

    /// Checks what a reader of the layout relies on: that all used frames are placed, or none is.
    ///
    /// # Errors
    /// The first thing that cannot be.
    pub fn check(&self) -> Result<(), LayoutError> {
        if self.format > FORMAT {
            return Err(LayoutError::Newer(self.format));
        }
        if self.format == 0 {
            return Err(LayoutError::Older(self.format));
        }
        if self.reference_index().is_none() {
            return Err(LayoutError::NoReference(self.reference.file.clone()));
        }
        if self.canvas.to_reference().is_none() {
            return Err(LayoutError::Canvas);
        }
        let levels = self.levels.iter().flat_map(|l| &l.references);
        if let Some(gone) = levels.map(|r| r.frame).find(|i| *i >= self.frames.len()) {
            return Err(LayoutError::Level(gone));
        }
        if let Some(shape) = self.levels.as_ref().and_then(|l| l.settings.shape) {
            shape.check().map_err(LayoutError::Shape)?;
        }
        if self.mosaic.as_ref().is_some_and(|m| !m.fits(&self.frames)) {
            return Err(LayoutError::Mosaic);
        }
        let unsound = |f: &&LayoutFrame| f.calibration.as_ref().is_some_and(|c| !c.is_sound());
        if let Some(f) = self.frames.iter().find(unsound) {
            return Err(LayoutError::Calibration(f.file.clone()));
        }
        if !self.is_placed() {
            return Ok(());
        }
        for f in self.frames.iter().filter(|f| f.verdict == Verdict::Used) {
            let sound = f
                .placement
                .as_ref()
                .and_then(PlacementRecord::placement)
                .is_some_and(|m| m.is_sound_on(self.canvas.size));
            if !sound {
                return Err(LayoutError::Placement(f.file.clone()));
            }
            if f.balance
                .as_ref()
                .is_some_and(|b| !b.is_sound_on(self.canvas.size))
            {
                return Err(LayoutError::Balance(f.file.clone()));
            }
        }
        Ok(())
    }

    /// Has any frame a placement? A survey's layout has verdicts and a reference only.
    pub fn is_placed(&self) -> bool {
        self.frames.iter().any(|f| f.placement.is_some())
    }

    /// Has any frame been measured? In one of `calibrate` none has, and its reference is no choice yet.
    pub fn is_measured(&self) -> bool {
        self.frames.iter().any(|f| f.measured.stars > 0)
    }

    /// Have all used frames a balance? A layout of `register` has placements only.
    pub fn is_balanced(&self) -> bool {
        let mut used = self.frames.iter().filter(|f| f.verdict == Verdict::Used);
        used.all(|f| f.balance.is_some())
    }

    /// The frame whose scale and sky all others are brought to: that of the values, or else the reference.
    pub fn level_index(&self) -> Option<usize> {
        let first = self.levels.as_ref().and_then(|l| l.references.first());
        match first {
            Some(r) if r.frame < self.frames.len() => Some(r.frame),
            _ => self.reference_index(),
        }
    }

    /// The place of the reference among the frames.
    pub fn reference_index(&self) -> Option<usize> {
        self.frames
            .iter()
            .position(|f| f.file == self.reference.file && f.plane == self.reference.plane)
    }
}
