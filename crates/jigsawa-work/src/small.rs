//! Frames on the canvas, made small: for pictures before and after, and for what is chosen by looking at all of the field.

use jigsawa_core::balance::Balance;
use jigsawa_core::doors::DoorError;
use jigsawa_core::finish::Shade;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::{Layout, PlacementRecord};
use jigsawa_core::merge::{Input, Sampling, placed};
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Map;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::resample::Shape;
use jigsawa_core::space::{CanvasPx, Point, Rect, Size};

use crate::frames::Frame;

/// A frame on the canvas, made small; its values are as in its file.
pub struct Small {
    plane: Plane,
    /// Canvas pixels for one of the picture.
    step: f64,
}

/// Reads a frame, about `width` pixels wide. `None` when it has no place.
pub fn small(
    layout: &Layout,
    frames: &[Frame],
    i: usize,
    width: usize,
) -> Result<Option<Small>, DoorError> {
    let row = &layout.frames[i];
    let canvas = layout.canvas.size;
    let step = (canvas.width().real() / width.real()).max(1.0);
    let (w, h) = (
        (canvas.width().real() / step).round().max(1.0).index(),
        (canvas.height().real() / step).round().max(1.0).index(),
    );
    // From the picture's pixels to the canvas's.
    let aside = 0.5 * (step - 1.0);
    let grown: Option<Map<CanvasPx, CanvasPx>> =
        Map::from_rows([[step, 0.0, aside], [0.0, step, aside], [0.0, 0.0, 1.0]]);
    let placement = row.placement.as_ref().and_then(PlacementRecord::placement);
    let Some(placement) = grown.zip(placement).and_then(|(g, p)| g.then(&p)) else {
        return Ok(None);
    };
    let source = frames[i].source();
    let input = Input {
        sampling: Sampling {
            shape: Shape::Area,
            ..Sampling::default()
        },
        ..Input::new(
            &source,
            placement,
            Balance::unchanged(row.measured.sky_adu, row.measured.noise_adu),
        )
    };
    let rect = Rect {
        x: 0,
        y: 0,
        width: w,
        height: h,
    };
    Ok(placed(&input, rect)?.map(|plane| Small { plane, step }))
}

impl Small {
    /// How it is shown: by the reference, so that all are shown alike.
    pub fn shade(&self, balance: &Balance) -> Option<Shade> {
        Shade::measure(self.with(balance).data())
    }

    /// The values with a balance.
    pub fn with(&self, balance: &Balance) -> Plane {
        let size: Size = self.plane.size();
        Plane::from_fn(size, |x, y| {
            let at = Point::new(
                (x.real() + 0.5) * self.step - 0.5,
                (y.real() + 0.5) * self.step - 0.5,
            );
            let v = self.plane.at(x.whole(), y.whole());
            balance.apply(f64::from(v), at).single()
        })
    }

    /// Scaled and brought to the reference's level, but with its own gradient.
    pub fn before(&self, balance: &Balance, shade: &Shade, order: RowOrder) -> Picture {
        let size = self.plane.size();
        let middle = Point::new(
            0.5 * size.width().real() * self.step,
            0.5 * size.height().real() * self.step,
        );
        let level = Balance {
            surface: jigsawa_core::balance::Surface::constant(balance.surface.at(middle)),
            gain: None,
            added: None,
            ..balance.clone()
        };
        Picture::grey(&self.with(&level), order, shade)
    }

    /// As it is merged.
    pub fn after(&self, balance: &Balance, shade: &Shade, order: RowOrder) -> Picture {
        Picture::grey(&self.with(balance), order, shade)
    }
}
