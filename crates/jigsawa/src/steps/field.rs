//! Do several frames of a filter show one field, or panels of a larger one?
//!
//! By what the recipe says, else by cards, else by where headers place them on the sky, else by their stars: some of them are
//! registered, which costs nothing, as their stars are needed anyhow. Frames of one field lie on each other but for dithers.

use std::path::{Path, PathBuf};

use jigsawa_core::filter::Filter;
use jigsawa_core::layout::{LayoutFrame, PlacementRecord};
use jigsawa_core::number::Convert;
use jigsawa_core::space::FramePx;
use jigsawa_work::clock::Clock;
use jigsawa_work::frames::Filters;
use jigsawa_work::register::{RegisterSettings, lay};
use jigsawa_work::start::start;
use jigsawa_work::trouble::Trouble;

use super::contents::{Found, OneFile, Part};
use crate::cli::Common;
use crate::recipe::Recipe;
use crate::terminal;

/// Exposures that differ by less than this factor are of one kind.
pub const OTHER_EXPOSURE: f64 = 1.5;

/// Frames of one field lie apart by less than this part of a side.
const QUARTER: f64 = 0.25;

/// So many frames of the filter with most tell by their stars.
const ASKED: usize = 4;

/// What several frames of a filter show.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Field {
    /// No filter has several.
    Single,
    /// One field, and why.
    One(&'static str),
    /// Panels, and why.
    Panels(&'static str),
    /// Headers do not say; stars would.
    Unknown,
}

/// What recipe and headers say.
pub fn by_headers(recipe: &Recipe, found: &Found) -> Field {
    let several = several(found);
    if several.is_empty() {
        return Field::Single;
    }
    let known = several.iter().filter(|f| f.facts.wcs.is_some()).count();
    match recipe.panels {
        Some(true) => Field::Panels("the recipe says so"),
        Some(false) => Field::One("the recipe says so"),
        None if several.iter().any(|f| f.panel.is_some()) => {
            Field::Panels("their headers name panels")
        }
        None if known < several.len() => Field::Unknown,
        None if lie_apart(&several) => Field::Panels("by their headers they lie beside each other"),
        None => Field::One("by their headers they lie on each other"),
    }
}

/// Frames of filters of which there are several with one exposure, and that are no sub-frames for certain.
fn several(found: &Found) -> Vec<&OneFile> {
    let all: Vec<&OneFile> = found
        .files
        .iter()
        .filter(|f| matches!(f.part, Part::Master | Part::Unsure))
        .collect();
    let alike = |a: &OneFile, b: &OneFile| {
        let seconds = a.facts.exposure_s.zip(b.facts.exposure_s);
        let same = seconds.is_none_or(|(s, t)| s.max(t) < OTHER_EXPOSURE * s.min(t));
        a.facts.filter == b.facts.filter && same
    };
    let many = |f: &&&OneFile| all.iter().filter(|g| alike(f, g)).count() > 1;
    all.iter().filter(many).copied().collect()
}

/// Do frames of a filter lie apart, by their places on the sky?
fn lie_apart(all: &[&OneFile]) -> bool {
    all.iter().enumerate().any(|(i, a)| {
        all[..i].iter().any(|b| {
            let (Some(of_a), Some(of_b)) = (&a.facts.wcs, &b.facts.wcs) else {
                return false;
            };
            let size = a.facts.size;
            let sky = of_b.sky(b.facts.size.centre::<FramePx>());
            let centre = size.centre::<FramePx>();
            let side = size.width().min(size.height()).real();
            let there = of_a.pixel::<FramePx>(sky);
            a.facts.filter == b.facts.filter
                && there.is_none_or(|p| (p.x - centre.x).hypot(p.y - centre.y) > QUARTER * side)
        })
    })
}

/// What stars say: of some frames of the filter with most.
pub fn by_stars(found: &Found, out: &Path, common: &Common) -> Result<Field, Trouble> {
    let several = several(found);
    let filters: Vec<Option<Filter>> = several.iter().map(|f| f.facts.filter.clone()).collect();
    let count = |filter: &Option<Filter>| filters.iter().filter(|f| *f == filter).count();
    let Some(most) = filters.iter().max_by_key(|f| count(f)) else {
        return Ok(Field::Single);
    };
    let own: Vec<PathBuf> = several
        .iter()
        .filter(|f| f.facts.filter == *most)
        .map(|f| f.path.clone())
        .take(ASKED)
        .collect();
    let run = terminal::run(common, out, Clock::start())?;
    let begun = start(&own, &[], &[], Filters::Known, out)?;
    let beside = Field::Panels("by their stars they lie beside each other");
    let wanted = RegisterSettings::default();
    let Ok((_, registered, _)) = lay(begun, wanted, &run) else {
        // None of them finds its place on another: what they share is little, if it is anything.
        return Ok(beside);
    };
    let layout = registered.layout;
    let middle = layout.canvas.size.centre();
    let near = |f: &&LayoutFrame| {
        let placement = f.placement.as_ref().and_then(PlacementRecord::placement);
        placement.is_some_and(|p| {
            let (there, centre) = (p.apply(middle), f.size.centre::<FramePx>());
            let side = f.size.width().min(f.size.height()).real();
            (there.x - centre.x).hypot(there.y - centre.y) < QUARTER * side
        })
    };
    let on_each_other = layout.frames.iter().filter(near).count();
    // The reference lies on itself.
    Ok(if 2 * on_each_other > own.len() {
        Field::One("by their stars they lie on each other")
    } else {
        beside
    })
}
