//! What is wanted of every step, and why it may not be had.

use super::denoise::Quiet;
use super::neutral::{GradientSettings, SkyFrom};
use super::stretch::Tone;
use super::white::{Index, KnownStar, WhiteError};
use crate::doors::DoorError;
use crate::space::Rect;

/// What is cut off.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Crop {
    /// Nothing.
    None,
    /// What not all channels cover.
    Covered,
    /// All but this.
    To(Rect),
}

/// Where white comes from.
#[derive(Debug, Clone, PartialEq)]
pub enum WhiteFrom {
    /// Channels stay as they are.
    AsItIs,
    /// The typical star; where too few show their colour, channels stay as they are.
    Stars,
    /// A patch.
    Patch(Rect),
    /// Stars of known colour.
    Catalogue {
        /// The stars.
        known: Vec<KnownStar>,
        /// What their colour is.
        index: Index,
    },
}

/// What is wanted of every step.
#[derive(Debug, Clone, PartialEq)]
pub struct FinishSettings {
    /// What is cut off.
    pub crop: Crop,
    /// The gradient; absent for leaving it.
    pub gradient: Option<GradientSettings>,
    /// The sky that becomes neutral; absent for leaving it.
    pub neutral: Option<SkyFrom>,
    /// White.
    pub white: WhiteFrom,
    /// The part of green's excess that is taken.
    pub green: f32,
    /// The part of the noise that is taken.
    pub quiet: Quiet,
    /// Rounds of deconvolution.
    pub deconvolution_rounds: usize,
    /// The stretch.
    pub tone: Tone,
    /// How far bright surroundings are held back, 0 for not at all.
    pub range_compression: f32,
    /// Does it end in linear light, before the stretch?
    pub linear: bool,
    /// The part by which structures of middle size are lifted.
    pub contrast: f32,
    /// The factor of colours.
    pub saturation: f32,
    /// Factors of hues, by their place in [`super::saturation::HUES`].
    pub hues: Vec<(usize, f32)>,
    /// The part of the stars' light that stays.
    pub stars: f32,
    /// The part by which small detail is lifted.
    pub sharpen: f32,
}

/// Why a picture cannot be finished.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// It cannot be read.
    #[error(transparent)]
    Source(#[from] DoorError),
    /// No pixel has all channels.
    #[error("no pixel has all channels")]
    Nothing,
    /// What is to stay lies outside.
    #[error("the rectangle lies outside of the picture")]
    Outside,
    /// No white.
    #[error(transparent)]
    White(#[from] WhiteError),
    /// A catalogue, and a picture that does not say where it lies on the sky.
    #[error("the picture has no WCS to find the catalogue's stars by")]
    NoWcs,
}
