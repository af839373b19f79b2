//! How long steps will take, and how large their results will be.

use jigsawa_core::number::Convert;

use super::contents::Found;
use super::state::State;
use super::step::Step;

/// Seconds that a step takes: as it took here before, else as on a laptop of two cores.
pub fn seconds(step: &Step, state: &State) -> f64 {
    let own = state.steps.get(&step.id);
    let alike = || {
        let word = |id: &str| id.split(' ').next().unwrap_or_default().to_owned();
        let same = state
            .steps
            .iter()
            .find(|(id, _)| word(id) == word(&step.id));
        same.map(|(_, r)| r)
    };
    if let Some(record) = own.or_else(alike).filter(|r| r.megapixels > 0.0) {
        return record.seconds * step.megapixels / record.megapixels;
    }
    // Seconds for a million pixels: docs/accuracy.md does not hold them, they are only to wait by.
    let of_megapixel = match step.command {
        "calibrate" => 0.003,
        "stack" => 0.04,
        "finish" => 0.15,
        _ => 0.06,
    };
    0.3 + of_megapixel * step.megapixels
}

/// Megabytes of a step's results.
pub fn megabytes(step: &Step, found: &Found) -> f64 {
    let areas = found.files.iter().map(|f| f.facts.size.area().real() / 1e6);
    let one = areas.fold(0.0, f64::max);
    let filters = found.filters().len().real();
    one * match step.command {
        "calibrate" => 4.0 * 6.0,
        // A master and its map.
        "stack" => 20.0 * filters,
        "hdr" | "mosaic" => 4.0 * filters,
        "compose" => 12.0,
        // 16 bits twice, one of them packed.
        "finish" => 11.0,
        _ => 1.0,
    }
}
