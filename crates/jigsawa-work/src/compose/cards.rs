//! The header of a composite: what it shows and what made it.

use std::fmt::Write as _;
use std::path::Path;

use jigsawa_core::finish::Link;
use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_formats::fits::Cards;

use super::bind::Bound;
use crate::finish::{BROAD, MIXED, NARROW};
use crate::frames::Frame;
use crate::outputs::canvas_cards;

/// What the header says of one composite; `stars_apart` when its stars are of other filters than its nebula.
pub fn cards(
    bound: &Bound,
    layout: &Layout,
    frames: &[Frame],
    object: Option<&str>,
    done: &[String],
    stars_apart: bool,
) -> Cards {
    let mut cards = Cards::default();
    if let Some(object) = object {
        cards.text("OBJECT", object, "target");
    }
    cards.text("FILTER", &bound.palette.name, "palette of the three planes");
    let inputs = bound.inputs();
    let mut filters: Vec<&str> = Vec::new();
    for i in bound.sources.iter().flatten() {
        let name = layout.frames[*i].filter.name();
        if !filters.contains(&name) {
            filters.push(name);
        }
    }
    cards.text("FILTERS", &filters.join(", "), "filters that went into it");
    let channels = match bound.link {
        Link::Linked => BROAD,
        Link::Each if stars_apart => MIXED,
        Link::Each => NARROW,
    };
    cards.text("CHANNELS", channels, "what its planes are made of");
    // A colour camera's three planes are one exposure.
    let mut files: Vec<&Path> = Vec::new();
    let mut total = Some(0.0);
    for i in &inputs {
        let f = &frames[*i];
        if !files.contains(&f.path.as_path()) {
            files.push(&f.path);
            total = total.zip(f.facts.total_s).map(|(a, b)| a + b);
        }
    }
    if let Some(total) = total {
        cards.number("EXPTOTAL", total, "all exposures together, in seconds");
    }
    if let Some(date) = inputs
        .iter()
        .filter_map(|i| frames[*i].facts.date.as_ref())
        .min()
    {
        cards.text("DATE-OBS", date, "start of the first");
    }
    canvas_cards(layout, &mut cards);
    for c in &bound.channels {
        cards.history(&format!("{}: {}", c.name, c.mix));
    }
    for line in done {
        cards.history(line);
    }
    cards.history(&format!("reference: {}", file_name(&layout.reference.file)));
    for i in &inputs {
        cards.history(&frame_line(&layout.frames[*i]));
    }
    cards
}

/// What was done to one frame, for the history.
pub fn frame_line(f: &LayoutFrame) -> String {
    let mut line = format!("frame: {} ({})", file_name(&f.file), f.filter);
    // Writing to a string cannot fail.
    if let Some(p) = &f.placement {
        let d = &p.described;
        let mirrored = if d.mirrored { ", mirrored" } else { "" };
        let _ = write!(
            line,
            ", turn {:.3} deg, scale {:.5}{mirrored}",
            d.rotation_deg, d.scale
        );
        let _ = write!(line, ", {:.3} px rms", p.errors.rms_px);
    }
    if let Some(b) = &f.balance {
        let _ = write!(line, ", factor {:.5}", b.scale.value);
    }
    line
}

/// The last part of a path.
pub fn file_name(path: &str) -> String {
    std::path::Path::new(path)
        .file_name()
        .map_or_else(|| path.to_owned(), |n| n.to_string_lossy().into_owned())
}
