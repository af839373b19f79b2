//! A light as the camera wrote it and as it is read: whole, and a part of it pixel by pixel.

use jigsawa_core::binned;
use jigsawa_core::finish::Shade;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::space::Rect;
use maud::{Markup, html};

use crate::report::picture::{As, figure};
use jigsawa_work::calibrate::Calibration;
use jigsawa_work::foreign::path_of;
use jigsawa_work::pixels::{Masters, in_memory};
use jigsawa_work::survey::cut;
use jigsawa_work::trouble::Trouble;

/// Longest side of the whole.
const SIDE: usize = 640;

/// Sides of the part that is shown pixel by pixel.
const PART: usize = 140;

/// The middle light of the group that has most of them. Nothing without lights.
pub fn before_and_after(c: &Calibration) -> Result<Option<Markup>, Trouble> {
    let largest = c
        .lights
        .iter()
        .max_by_key(|l| c.groups[l.group].members.len());
    let (Some(largest), Some(layout)) = (largest, &c.layout) else {
        return Ok(None);
    };
    let members = &c.groups[largest.group].members;
    let raw = &c.raw[members[members.len() / 2]];
    let row = layout.frames.iter().find(|f| path_of(&f.file) == raw.path);
    let Some(record) = row.and_then(|f| f.calibration.as_ref()) else {
        return Ok(None);
    };
    let calibrating = Masters::default().open(record, raw.facts.size)?;
    let read = |e: jigsawa_core::doors::DoorError| Trouble::Unreadable {
        file: raw.path.display().to_string(),
        error: e.to_string(),
    };
    let before = in_memory(&raw.file.plane(0)).map_err(read)?;
    let after = in_memory(&calibrating.read_through(&raw.file, 1)).map_err(read)?;
    let order = raw.facts.row_order;
    let name = raw
        .path
        .file_name()
        .map(|n| n.to_string_lossy().into_owned());
    let both = [
        ("as the camera wrote it", &before),
        ("as it is read", &after),
    ];
    Ok(Some(html! {
        p { b { (name.unwrap_or_default()) } ", each stretched by its own sky. Below, its middle and its last corner, pixel by pixel." }
        div.charts { @for (words, plane) in both { (whole(words, plane, order)) } }
        @for at in parts(&before) {
            div.charts { @for (words, plane) in both { (part(words, plane, at, order)) } }
        }
    }))
}

fn whole(words: &str, plane: &Plane, order: RowOrder) -> Markup {
    let longest = plane.size().width().max(plane.size().height());
    let small = binned(plane, longest.div_ceil(SIDE));
    html! {
        @if let Some(shade) = Shade::measure(small.data()) {
            (figure(words, &Picture::grey(&small, order, &shade), As::Photograph))
        }
    }
}

/// The middle of the frame, and its last corner, where amplifiers glow.
fn parts(plane: &Plane) -> [Rect; 2] {
    let (w, h) = (plane.size().width(), plane.size().height());
    let (width, height) = (PART.min(w), (PART * 2 / 3).min(h));
    let at = |x: usize, y: usize| Rect {
        x: x.whole(),
        y: y.whole(),
        width,
        height,
    };
    [
        at((w - width) / 2, (h - height) / 2),
        at(w - width, h - height),
    ]
}

fn part(words: &str, plane: &Plane, rect: Rect, order: RowOrder) -> Markup {
    let cut = cut(plane, rect);
    html! {
        @if let Some(shade) = Shade::measure(cut.data()) {
            (figure(words, &Picture::grey(&cut, order, &shade), As::Cells))
        }
    }
}
