//! What a master and its map say of themselves.

use jigsawa_core::layout::Layout;
use jigsawa_core::number::Convert;
use jigsawa_core::stack::Rejection;
use jigsawa_formats::fits::Cards;

use super::lights::Lights;
use super::sets::{Set, is_even, total_s};
use crate::compose::{file_name, frame_line};
use crate::frames::Frame;
use crate::outputs::{canvas_cards, sky_cards};

/// What both files say.
fn common_cards(set: &Set, (frames, layout): (&[Frame], &Layout)) -> Cards {
    let mut cards = Cards::default();
    let mut facts = set.all().map(|i| &frames[i].facts);
    let first = facts.next();
    let object = first
        .into_iter()
        .chain(facts)
        .find_map(|f| f.object.as_deref());
    if let Some(object) = object {
        cards.text("OBJECT", object, "target");
    }
    if let Some(filter) = &set.filter {
        cards.text("FILTER", filter.name(), "");
    }
    let texts = first.map(|f| [("INSTRUME", &f.camera), ("TELESCOP", &f.telescope)]);
    for (name, text) in texts.into_iter().flatten() {
        if let Some(text) = text {
            cards.text(name, text, "");
        }
    }
    canvas_cards(layout, &mut cards);
    sky_cards(layout, frames, &mut cards);
    cards
}

/// What a master is, and what it was made of.
pub(super) fn cards(
    set: &Set,
    planes: &[Lights],
    rejection: &Rejection,
    (frames, layout): (&[Frame], &Layout),
) -> Cards {
    let mut cards = common_cards(set, (frames, layout));
    let units_of = &frames[planes[0].units_of].facts;
    cards.number("NCOMBINE", set.frames().real(), "frames in it");
    if let Some(seconds) = units_of.exposure_s {
        let words = if is_even(set, frames) {
            "[s] of each frame"
        } else {
            "[s] of the frame whose units these are"
        };
        cards.number("EXPTIME", seconds, words);
    }
    if let Some(total) = total_s(set, frames) {
        cards.number("EXPTOTAL", total, "all exposures together, in seconds");
    }
    if let Some(gain) = gain(&planes[planes.len() / 2]).filter(|_| units_of.gain_e_adu.is_some()) {
        cards.number("EGAIN", gain, "[e-/adu] of the mean of all frames");
    }
    if let Some(date) = set
        .all()
        .filter_map(|i| frames[i].facts.date.as_ref())
        .min()
    {
        cards.text("DATE-OBS", date, "start of the first");
    }
    cards.history(&format!(
        "stack: weighted mean, rejection {} {} below, {} above",
        rejection.rule.name(),
        rejection.low,
        rejection.high
    ));
    cards.history(&format!("reference: {}", file_name(&layout.reference.file)));
    for (list, plane) in set.planes.iter().zip(planes) {
        for (i, light) in list.iter().zip(&plane.parts) {
            let line = frame_line(&layout.frames[*i]);
            cards.history(&format!("{line}, weight {:.4}", light.weight));
        }
    }
    cards
}

/// Electrons for a unit of the mean: its photons' variance is their number over it.
fn gain(plane: &Lights) -> Option<f64> {
    let (mut weight, mut variance) = (0.0, 0.0);
    for l in &plane.parts {
        weight += f64::from(l.weight);
        variance += f64::from(l.weight).powi(2) * f64::from(l.photons);
    }
    let gain = weight * weight / variance;
    (gain.is_finite() && gain > 0.0).then_some(gain)
}

/// What a map says of its planes.
pub(super) fn map_cards(set: &Set, planes: &[&str], of: (&[Frame], &Layout)) -> Cards {
    let mut cards = common_cards(set, of);
    let colours = ["red", "green", "blue"];
    for p in 0..set.planes.len() {
        let what = if set.planes.len() > 1 {
            format!("{}: ", colours[p.min(2)])
        } else {
            String::new()
        };
        let first = planes.len() * p + 1;
        cards.history(&format!(
            "planes {first} to {}: {what}{}",
            first + planes.len() - 1,
            planes.join(", ")
        ));
    }
    cards
}
