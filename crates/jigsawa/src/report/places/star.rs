//! Five stars of a frame, beside those of the reference.

use jigsawa_core::balance::Balance;
use jigsawa_core::doors::DoorError;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::{Layout, LayoutFrame, PlacementRecord};
use jigsawa_core::merge::{Input, placed};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::{Picture, stamps};
use jigsawa_core::space::{CanvasPx, Point, Rect};

use jigsawa_work::frames::Frame;
use jigsawa_work::register::Residual;

/// Side of a stamp in canvas pixels; it is shown at 4:1.
pub const SIDE: usize = 44;

/// A star is looked for within this part of the canvas's diagonal from where it should be.
const REACH: f64 = 0.3;

/// Stars at least this bright make good stamps.
const LEAST_SNR: f64 = 25.0;

/// The places that are shown: names, and where they are, as the picture is seen.
pub const PLACES: [(&str, f64, f64); 5] = [
    ("top left", 0.06, 0.06),
    ("top right", 0.94, 0.06),
    ("centre", 0.5, 0.5),
    ("bottom left", 0.06, 0.94),
    ("bottom right", 0.94, 0.94),
];

/// One place of one frame, as PNG.
pub struct Stamped {
    pub reference: Vec<u8>,
    pub frame: Vec<u8>,
    pub difference: Vec<u8>,
}

/// The stamps of a frame at all places; `None` where it shows no star near one.
pub fn stamped(
    layout: &Layout,
    frames: &[Frame],
    i: usize,
    residuals: &[Residual],
) -> Result<Vec<Option<Stamped>>, DoorError> {
    let reference = layout.reference_index().unwrap_or(0);
    let size = layout.canvas.size;
    let (w, h) = (size.width().real(), size.height().real());
    let Some(back) = layout.canvas.to_reference().map(|m| m.invert()) else {
        return Ok(Vec::new());
    };
    let stars: Vec<Point<CanvasPx>> = residuals
        .iter()
        .filter(|r| r.clean && r.snr > LEAST_SNR)
        .map(|r| back.apply(Point::new(r.at[0], r.at[1])))
        // With all of the stamp on the canvas.
        .filter(|p| {
            let inside = |v: f64, n: f64| v > SIDE.real() / 2.0 && v < n - SIDE.real() / 2.0 - 1.0;
            inside(p.x, w) && inside(p.y, h)
        })
        .collect();
    PLACES
        .iter()
        .map(|(_, x, y)| {
            let y = match layout.canvas.row_order {
                RowOrder::BottomUp => 1.0 - y,
                RowOrder::TopDown => *y,
            };
            let wanted = Point::<CanvasPx>::new(x * w, y * h);
            let near = |a: &&Point<CanvasPx>, b: &&Point<CanvasPx>| {
                a.distance(wanted).total_cmp(&b.distance(wanted))
            };
            let star = stars.iter().min_by(near);
            let Some(star) = star.filter(|s| s.distance(wanted) < REACH * w.hypot(h)) else {
                return Ok(None);
            };
            let rect = Rect {
                x: star.x.round().whole() - SIDE.whole() / 2,
                y: star.y.round().whole() - SIDE.whole() / 2,
                width: SIDE,
                height: SIDE,
            };
            let part = |k: usize| part(&layout.frames[k], &frames[k], rect);
            let (Some(r), Some(f)) = (part(reference)?, part(i)?) else {
                return Ok(None);
            };
            Ok(stamps(&r, &f, layout.canvas.row_order).and_then(|s| {
                Some(Stamped {
                    reference: png(&s.reference)?,
                    frame: png(&s.frame)?,
                    difference: png(&s.difference)?,
                })
            }))
        })
        .collect()
}

/// A part of the canvas from one frame, at the values of its file.
fn part(row: &LayoutFrame, frame: &Frame, rect: Rect) -> Result<Option<Plane>, DoorError> {
    let Some(placement) = row.placement.as_ref().and_then(PlacementRecord::placement) else {
        return Ok(None);
    };
    let unchanged = Balance::unchanged(row.measured.sky_adu, row.measured.noise_adu);
    let source = frame.source();
    let input = Input {
        saturation: row.saturation.unwrap_or(f32::INFINITY),
        ..Input::new(&source, placement, unchanged)
    };
    placed(&input, rect)
}

fn png(picture: &Picture) -> Option<Vec<u8>> {
    jigsawa_formats::png::in_memory((SIDE, SIDE), picture.rgb()).ok()
}
