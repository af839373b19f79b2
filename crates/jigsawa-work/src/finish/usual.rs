//! What is wanted of every step of a picture where nothing is asked for.

use jigsawa_core::balance::flatten::Hints;
use jigsawa_core::finish::{
    Crop, FinishSettings, GradientSettings, Link, Quiet, SkyFrom, Tone, TonePoint, WhiteFrom,
};

/// The part of a green cast that is held down in broadband pictures.
pub const USUAL_GREEN: f32 = 0.8;

/// What a composite is, as far as defaults depend on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Kind {
    /// Has it a plane for each colour?
    pub colour: bool,
    /// Are its colours those of broadband, stars and nebula?
    pub broad: bool,
    /// How it is stretched.
    pub link: Link,
}

/// What is wanted of every step where nothing is asked for.
pub fn usual_settings(kind: Kind) -> FinishSettings {
    let Kind {
        colour,
        broad,
        link,
    } = kind;
    FinishSettings {
        crop: Crop::Covered,
        gradient: Some(GradientSettings {
            shape: None,
            hints: Hints::default(),
        }),
        neutral: Some(SkyFrom::Darkest),
        white: if broad {
            WhiteFrom::Stars
        } else {
            WhiteFrom::AsItIs
        },
        green: if broad { USUAL_GREEN } else { 0.0 },
        quiet: Quiet {
            brightness: 0.6,
            colour: if colour { 0.9 } else { 0.0 },
        },
        deconvolution_rounds: 0,
        tone: Tone {
            link,
            sky: 0.08,
            black: TonePoint::Sigma(3.0),
            white: TonePoint::Structure,
        },
        range_compression: 0.0,
        linear: false,
        contrast: 0.3,
        saturation: 1.0,
        hues: Vec::new(),
        stars: 1.0,
        sharpen: 0.25,
    }
}
