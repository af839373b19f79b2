//! The canvas: the common pixel grid that everything is merged on.

use serde::{Deserialize, Serialize};

use crate::frame::RowOrder;
use crate::placement::{Map, Registration};
use crate::space::{CanvasPx, FramePx, Point, Rect, ReferencePx, Size};

/// Which part of the sky the canvas covers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Extent {
    /// The reference frame's own grid.
    #[default]
    Reference,
    /// All that any frame covers.
    Union,
    /// Only what all frames cover.
    Common,
}

/// Size of the canvas and where it lies on the reference frame's grid.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Canvas {
    /// Pixels.
    #[serde(flatten)]
    pub size: Size,
    /// The reference pixel that is the canvas's (0, 0).
    pub origin: [i64; 2],
    /// Canvas pixels for one reference pixel.
    pub scale: f64,
    /// Row order, that of the reference.
    pub row_order: RowOrder,
}

/// The frames have no area in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CanvasError {
    /// No pixel is covered by all frames.
    #[error("the frames have no area in common")]
    NothingInCommon,
    /// The frames lie so far apart that the canvas would be absurdly large.
    #[error("a canvas around all frames would be {width} x {height} pixels")]
    TooLarge {
        /// Columns.
        width: usize,
        /// Rows.
        height: usize,
    },
}

impl Canvas {
    /// The canvas of this extent for frames of these sizes, registered on the reference.
    ///
    /// # Errors
    /// When nothing is common to all, or when the frames lie absurdly far apart.
    pub fn new(
        extent: Extent,
        reference: Size,
        row_order: RowOrder,
        frames: &[(Registration, Size)],
    ) -> Result<Self, CanvasError> {
        let rect = match extent {
            Extent::Reference => reference.rect(),
            Extent::Union => Rect::around(
                reference
                    .corners()
                    .into_iter()
                    .chain(frames.iter().flat_map(|(map, size)| outline(map, *size))),
            ),
            Extent::Common => frames
                .iter()
                .map(|(map, size)| inner(map, *size))
                .fold(reference.rect(), Rect::intersect),
        };
        if rect.is_empty() {
            return Err(CanvasError::NothingInCommon);
        }
        let size = Size::new(rect.width, rect.height).ok_or(CanvasError::TooLarge {
            width: rect.width,
            height: rect.height,
        })?;
        Ok(Self {
            size,
            origin: [rect.x, rect.y],
            scale: 1.0,
            row_order,
        })
    }

    /// Canvas pixels to reference pixels.
    pub fn to_reference(&self) -> Map<CanvasPx, ReferencePx> {
        Map::shift(self.origin[0] as f64, self.origin[1] as f64)
    }
}

/// A frame's corners on the reference's grid.
fn outline(map: &Registration, size: Size) -> [Point<ReferencePx>; 4] {
    let back = map.invert();
    size.corners::<FramePx>().map(|p| back.apply(p))
}

/// A rectangle inside of a frame's outline: from the second and third of its sorted corner
/// coordinates, which is the largest for a frame that is turned little or by right angles.
fn inner(map: &Registration, size: Size) -> Rect {
    let corners = outline(map, size);
    let middle = |of: fn(&Point<ReferencePx>) -> f64| {
        let mut v = corners.each_ref().map(of);
        v.sort_by(f64::total_cmp);
        (v[1].ceil() as i64, v[2].floor() as i64)
    };
    let (x0, x1) = middle(|p| p.x);
    let (y0, y1) = middle(|p| p.y);
    Rect {
        x: x0,
        y: y0,
        width: (x1 - x0 + 1).max(0) as usize,
        height: (y1 - y0 + 1).max(0) as usize,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shifted(dx: f64, dy: f64) -> (Registration, Size) {
        (Map::shift(dx, dy), Size::new(100, 80).unwrap())
    }

    #[test]
    fn extents_of_two_shifted_frames() {
        let reference = Size::new(100, 80).unwrap();
        let frames = [shifted(10.0, -5.0)];
        let make = |e| Canvas::new(e, reference, RowOrder::BottomUp, &frames).unwrap();
        let own = make(Extent::Reference);
        assert_eq!((own.size, own.origin), (reference, [0, 0]));
        let union = make(Extent::Union);
        assert_eq!((union.size.width(), union.size.height()), (110, 85));
        assert_eq!(union.origin, [-10, 0]);
        let common = make(Extent::Common);
        assert_eq!((common.size.width(), common.size.height()), (90, 75));
        assert_eq!(common.origin, [0, 5]);
    }

    #[test]
    fn frames_apart_have_nothing_in_common() {
        let got = Canvas::new(
            Extent::Common,
            Size::new(100, 80).unwrap(),
            RowOrder::BottomUp,
            &[shifted(500.0, 0.0)],
        );
        assert_eq!(got, Err(CanvasError::NothingInCommon));
    }
}
