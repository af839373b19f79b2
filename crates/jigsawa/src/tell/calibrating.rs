//! Sentences about raw frames: what does not belong to its set, and what lights lack.

use jigsawa_core::calibrate::needs::Doubt;
use jigsawa_core::calibrate::strays::{Misfit, Stray};
use jigsawa_core::frame::Kind;

/// Why a frame was kept out of its set.
pub fn stray(kind: Kind, stray: Stray) -> String {
    match stray {
        Stray::OtherLevel { is, others } if is > others => format!(
            "its level is {is:.0}, that of the others {others:.0}: a {} with light in it",
            kind.name()
        ),
        Stray::OtherLevel { is, others } => {
            format!("its level is {is:.0}, that of the others {others:.0}: it is none of them")
        }
        Stray::OtherHeat { times } => format!(
            "its hot pixels are {times:.2} times as hot as those of the others: another exposure or temperature than its \
             header says"
        ),
        Stray::TooBright { part } => format!(
            "it is at {:.0} % of the full value, where cameras are not linear any more",
            100.0 * part
        ),
        Stray::TooDim { part } => format!(
            "it is at {:.1} % of the full value: its noise would be larger than what it corrects",
            100.0 * part
        ),
        Stray::Empty => "it has no values".to_owned(),
    }
}

/// What is missing or doubtful, and what that costs or how to mend it.
pub fn doubt(doubt: &Doubt, names: &[String]) -> String {
    match doubt {
        Doubt::NoDarkNorBias => {
            "no dark and no bias of this camera and gain: sky and stars keep the camera's pedestal, so a flat cannot be right, \
             and hot pixels are found in the lights themselves"
                .to_owned()
        }
        Doubt::NoDark => {
            "no dark of this camera and gain: the bias alone is taken off; hot pixels are found in the lights themselves, an \
             amplifier's glow stays"
                .to_owned()
        }
        Doubt::NoBiasToScale { exposure_s } => format!(
            "the only darks are of {exposure_s} s: they would have to be scaled, which needs biases; nothing is taken off"
        ),
        Doubt::DarkWarmer { by_c } => format!(
            "the dark is {:.1} degrees {}: its part is measured on the hot pixels of the lights",
            by_c.abs(),
            if *by_c > 0.0 { "warmer" } else { "colder" }
        ),
        Doubt::NoFlat { words } if words.is_empty() => {
            "no flat of this filter: corners stay dark, and dust leaves its rings".to_owned()
        }
        Doubt::NoFlat { words } => format!(
            "no flat of this filter; there are flats whose filter is called {}: --use LIGHTS=FLAT says which is whose",
            quoted(words)
        ),
        Doubt::FlatByElimination { word } => format!(
            "its flat calls its filter '{word}': it is taken, as the only one without a known filter for the only filter \
             without a flat"
        ),
        Doubt::FlatOfOtherNight { days } => format!(
            "its flat is of another night, {days:.1} days apart: dust may have moved"
        ),
        Doubt::FlatTurned { deg } => format!(
            "the camera was turned by {deg:.0} degrees between flat and lights: dust and corners may not fit"
        ),
        Doubt::FlatWithoutDark => {
            "its flats are freed of nothing, as there is neither bias nor dark-flat: corners will be corrected too little"
                .to_owned()
        }
        Doubt::Few { group, frames } => format!(
            "{} has {frames} {}: its noise shows in the lights",
            names[*group],
            if *frames == 1 { "frame" } else { "frames" }
        ),
    }
}

/// Why a dark that had to be scaled is not used.
pub const REFUSED: &str = "the dark would have to be scaled, but too few hot pixels of the lights tell by how much: the bias alone is \
                           taken off";

/// A dark of the lights' own exposure whose hot pixels are not theirs.
pub fn other_heat(factor: f64) -> String {
    format!(
        "hot pixels of the lights are {factor:.2} times those of the dark, whose header says that it fits: another temperature?"
    )
}

/// Lights whose noise is not that of their photons.
pub fn other_noise(ratio: f64) -> String {
    format!(
        "their noise is {ratio:.2} times what their gain (EGAIN) and the masters' noise make: is the gain another one, or are they no \
         single exposures as the camera gave them?"
    )
}

/// A dark or bias that cannot be the lights'.
pub fn misfit(misfit: Misfit) -> String {
    match misfit {
        Misfit::Brighter { is, lights } => format!(
            "the dark or bias that fits by its header has a level of {is:.1}, above that of the lights, {lights:.1}: it is not taken \
             off. Was light in it, or is its offset another one?"
        ),
        Misfit::OtherScale => "the dark or bias that fits by its header has values of another scale than the lights (from 0 to 1, \
                               as some programs write them): it is not taken off. Give the frames that it was made of"
            .to_owned(),
    }
}

/// Dust that lies elsewhere in the lights.
pub fn moved_dust(misfits: usize, seen: usize) -> String {
    format!(
        "{misfits} of {seen} shadows of dust in its flat do not fit the lights: dust has moved, or the camera was turned or taken off \
         since; flats of the same setting are needed"
    )
}

/// Colours that begin a row later than a header says.
pub fn other_phase(told: &str, is: &str) -> String {
    format!(
        "its header says {told}, but in the flat those greens are not alike and the others are: it is read as {is}, a row further; \
         --pattern settles it"
    )
}

/// Charge of full stars that ran along columns.
pub fn blooming(frames: usize, of: usize) -> String {
    format!(
        "charge of full stars ran along their columns in {frames} of {of} {}: those pixels are filled from beside",
        if of == 1 { "light" } else { "lights" }
    )
}

/// Why rays are not looked for behind a pattern of colours.
pub const RAYS_BEHIND_COLOURS: &str = "--cosmic-rays looks for nothing behind a pattern of colours, where a star's pixels of one colour are as sharp as a ray: a \
                                       stack of five and more finds rays by the other frames";

/// A light of another target than the others.
pub fn other_target(is: &str, others: &str) -> String {
    format!(
        "its target is '{is}', that of most lights '{others}': it gets a calibration, and will find no place among them"
    )
}

fn quoted(words: &[String]) -> String {
    let all: Vec<String> = words.iter().map(|w| format!("'{w}'")).collect();
    all.join(", ")
}
