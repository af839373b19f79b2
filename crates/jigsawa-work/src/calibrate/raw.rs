//! A raw frame, and what says what it is.

use std::path::PathBuf;
use std::sync::Arc;

use jigsawa_core::calibrate::guess::guess;
use jigsawa_core::doors::DoorError;
use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_formats::fits::FitsFrame;

/// A raw frame, or a master of the library.
pub struct Raw {
    /// The file.
    pub path: PathBuf,
    /// The open file.
    pub file: Arc<FitsFrame>,
    /// What its header says.
    pub facts: FrameFacts,
    /// What it is.
    pub kind: Kind,
    /// What says so.
    pub kind_from: KindFrom,
}

/// What says what kind of frame it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KindFrom {
    /// A card.
    Card,
    /// Its name, or that of its folder.
    Name,
    /// Its pixels alone: a guess.
    Pixels,
}

impl Raw {
    /// The value of a full pixel, where it is known: by a card, or by what the file's numbers can hold.
    pub fn full(&self) -> Option<f32> {
        full_value(&self.file, &self.facts)
    }
}

fn full_value(file: &FitsFrame, facts: &FrameFacts) -> Option<f32> {
    const SIXTEEN_BITS: f32 = 65_535.0;
    let by_bits = || (facts.bits == Some(16)).then(|| SIXTEEN_BITS - file.lowered());
    facts.saturation.or_else(by_bits)
}

/// What a frame is by its pixels, where neither card nor name says it: a guess.
///
/// # Errors
/// When it cannot be read.
pub fn kind_by_pixels(file: &FitsFrame, facts: &FrameFacts) -> Result<Kind, DoorError> {
    // Of a bias the header says 0, which is no exposure.
    let none = file.header().number("EXPTIME").filter(|s| *s == 0.0);
    let exposure_s = facts.exposure_s.or(none);
    guess(&file.plane(0), exposure_s, full_value(file, facts))
}
