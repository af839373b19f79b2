//! The canvas: the common pixel grid that everything is merged on.

use serde::{Deserialize, Serialize};

use crate::frame::RowOrder;
use crate::placement::{Map, Registration};
use crate::space::{CanvasPx, Point, Rect, ReferencePx, Size};

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
    /// The place on the reference's grid that is the centre of the canvas's pixel (0, 0).
    pub origin: [f64; 2],
    /// Canvas pixels for one reference pixel.
    pub scale: f64,
    /// Turn of the canvas's x axis against the reference's, from +x towards +y.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub turn_deg: f64,
    /// Row order, that of the reference.
    pub row_order: RowOrder,
}

// Serde hands fields over by reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_zero(v: &f64) -> bool {
    *v == 0.0
}

/// How fine a canvas is and which way up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Grid {
    /// Canvas pixels for one reference pixel.
    pub scale: f64,
    /// Turn of its x axis against the reference's, from +x towards +y.
    pub turn_deg: f64,
}

impl Grid {
    /// That of the reference itself.
    pub const REFERENCE: Self = Self {
        scale: 1.0,
        turn_deg: 0.0,
    };

    /// The grid of this scale on which a direction of the reference's pixels points up, as the canvas is
    /// shown.
    pub fn with_up([x, y]: [f64; 2], scale: f64, order: RowOrder) -> Self {
        let turn = match order {
            RowOrder::BottomUp => (-x).atan2(y),
            RowOrder::TopDown => x.atan2(-y),
        };
        Self {
            scale,
            turn_deg: turn.to_degrees(),
        }
    }

    /// Reference pixels to canvas pixels, but for the canvas's origin: edges of pixels meet edges where
    /// nothing is turned.
    fn of_reference(self) -> Option<Map<ReferencePx, CanvasPx>> {
        let (s, c) = self.turn_deg.to_radians().sin_cos();
        let k = self.scale;
        let half = 0.5 * (k - 1.0);
        Map::from_rows([[k * c, k * s, half], [-k * s, k * c, half], [0.0, 0.0, 1.0]])
    }
}

/// The frames have no area in common.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CanvasError {
    /// No pixel is covered by all frames.
    #[error("the frames have no area in common")]
    NothingInCommon,
    /// A canvas cannot be so fine or so coarse.
    #[error("a canvas needs a scale from 0.01 to 16")]
    Scale,
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
    /// The canvas of this extent and grid for frames of these sizes, registered on the reference.
    ///
    /// # Errors
    /// When nothing is common to all, when the frames lie absurdly far apart, or the scale is absurd.
    pub fn new(
        extent: Extent,
        grid: Grid,
        reference: Size,
        row_order: RowOrder,
        frames: &[(Registration, Size)],
    ) -> Result<Self, CanvasError> {
        let on_grid = grid
            .of_reference()
            .filter(|_| (0.01..=16.0).contains(&grid.scale))
            .ok_or(CanvasError::Scale)?;
        let own = (Map::shift(0.0, 0.0), reference);
        let outlines = std::iter::once(&own)
            .chain(frames)
            .map(|(map, size)| outline(map, *size).map(|p| on_grid.apply(p)));
        let bounds = match extent {
            Extent::Reference => outlines.take(1).fold(Bounds::NONE, Bounds::around),
            Extent::Union => outlines.fold(Bounds::NONE, Bounds::around),
            Extent::Common => outlines.fold(Bounds::ALL, Bounds::inside),
        };
        let rect = bounds.rect();
        if rect.is_empty() {
            return Err(CanvasError::NothingInCommon);
        }
        let size = Size::new(rect.width, rect.height).ok_or(CanvasError::TooLarge {
            width: rect.width,
            height: rect.height,
        })?;
        let first = Point::new(rect.x as f64, rect.y as f64);
        let origin = on_grid.invert().apply(first);
        Ok(Self {
            size,
            origin: [origin.x, origin.y],
            scale: grid.scale,
            turn_deg: grid.turn_deg,
            row_order,
        })
    }

    /// Canvas pixels to reference pixels; `None` when the numbers, after an edit by hand, make no map.
    pub fn to_reference(&self) -> Option<Map<CanvasPx, ReferencePx>> {
        if self.scale == 1.0 && self.turn_deg == 0.0 {
            return Some(Map::shift(self.origin[0], self.origin[1]));
        }
        let (s, c) = self.turn_deg.to_radians().sin_cos();
        let k = 1.0 / self.scale;
        Map::from_rows([
            [k * c, -k * s, self.origin[0]],
            [k * s, k * c, self.origin[1]],
            [0.0, 0.0, 1.0],
        ])
    }
}

/// A frame's outline, at the outer edges of its pixels, on the reference's grid.
fn outline(map: &Registration, size: Size) -> [Point<ReferencePx>; 4] {
    let back = map.invert();
    let (right, bottom) = (size.width() as f64 - 0.5, size.height() as f64 - 0.5);
    [(-0.5, -0.5), (right, -0.5), (right, bottom), (-0.5, bottom)]
        .map(|(x, y)| back.apply(Point::new(x, y)))
}

/// Bounds of an area of the canvas.
#[derive(Debug, Clone, Copy)]
struct Bounds {
    low: [f64; 2],
    high: [f64; 2],
}

impl Bounds {
    const NONE: Self = Self {
        low: [f64::INFINITY; 2],
        high: [f64::NEG_INFINITY; 2],
    };
    const ALL: Self = Self {
        low: [f64::NEG_INFINITY; 2],
        high: [f64::INFINITY; 2],
    };

    /// With an outline inside of them.
    fn around(self, outline: [Point<CanvasPx>; 4]) -> Self {
        outline.iter().fold(self, |b, p| Self {
            low: [b.low[0].min(p.x), b.low[1].min(p.y)],
            high: [b.high[0].max(p.x), b.high[1].max(p.y)],
        })
    }

    /// Cut to a rectangle inside of an outline: from the second and third of its sorted coordinates,
    /// which is the largest for a frame that is turned little or by right angles.
    fn inside(self, outline: [Point<CanvasPx>; 4]) -> Self {
        let middle = |of: fn(&Point<CanvasPx>) -> f64| {
            let mut v = outline.each_ref().map(of);
            v.sort_by(f64::total_cmp);
            (v[1], v[2])
        };
        let ((x0, x1), (y0, y1)) = (middle(|p| p.x), middle(|p| p.y));
        Self {
            low: [self.low[0].max(x0), self.low[1].max(y0)],
            high: [self.high[0].min(x1), self.high[1].min(y1)],
        }
    }

    /// The pixels whose centres lie inside.
    fn rect(self) -> Rect {
        // Edges that rounding has moved by nothing to speak of stay where they are.
        const SLACK: f64 = 1e-6;
        let first = |v: f64| (v - SLACK).ceil();
        let count = |low: f64, high: f64| ((high + SLACK).floor() - first(low) + 1.0).max(0.0);
        let whole = |low: f64, high: f64| {
            // A last edge on a centre belongs to the next pixel.
            let n = count(low, high);
            if (high - (first(low) + n - 1.0)).abs() < 2.0 * SLACK && n > 0.0 {
                n - 1.0
            } else {
                n
            }
        };
        Rect {
            x: first(self.low[0]) as i64,
            y: first(self.low[1]) as i64,
            width: whole(self.low[0], self.high[0]) as usize,
            height: whole(self.low[1], self.high[1]) as usize,
        }
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
        let make =
            |e| Canvas::new(e, Grid::REFERENCE, reference, RowOrder::BottomUp, &frames).unwrap();
        let own = make(Extent::Reference);
        assert_eq!((own.size, own.origin), (reference, [0.0, 0.0]));
        let union = make(Extent::Union);
        assert_eq!((union.size.width(), union.size.height()), (110, 85));
        assert_eq!(union.origin, [-10.0, 0.0]);
        let common = make(Extent::Common);
        assert_eq!((common.size.width(), common.size.height()), (90, 75));
        assert_eq!(common.origin, [0.0, 5.0]);
    }

    #[test]
    fn frames_apart_have_nothing_in_common() {
        let got = Canvas::new(
            Extent::Common,
            Grid::REFERENCE,
            Size::new(100, 80).unwrap(),
            RowOrder::BottomUp,
            &[shifted(500.0, 0.0)],
        );
        assert_eq!(got, Err(CanvasError::NothingInCommon));
    }

    #[test]
    fn a_finer_canvas_covers_the_same_sky_edge_to_edge() {
        let reference = Size::new(100, 80).unwrap();
        for (scale, width, height) in [
            (2.0, 200, 160),
            (3.0, 300, 240),
            (0.5, 50, 40),
            (1.5, 150, 120),
        ] {
            let grid = Grid {
                scale,
                turn_deg: 0.0,
            };
            let canvas =
                Canvas::new(Extent::Reference, grid, reference, RowOrder::BottomUp, &[]).unwrap();
            assert_eq!((canvas.size.width(), canvas.size.height()), (width, height));
            let edge = canvas.to_reference().unwrap().apply(Point::new(-0.5, -0.5));
            assert!(
                edge.distance(Point::new(-0.5, -0.5)) < 1e-9,
                "{scale}: {edge:?}"
            );
        }
    }

    #[test]
    fn a_direction_is_turned_up_and_nothing_is_cropped() {
        let reference = Size::new(100, 80).unwrap();
        let (s, c) = 0.4f64.sin_cos();
        for order in [RowOrder::BottomUp, RowOrder::TopDown] {
            let grid = Grid::with_up([s, c], 1.0, order);
            let canvas = Canvas::new(Extent::Reference, grid, reference, order, &[]).unwrap();
            let map = canvas.to_reference().unwrap();
            let up = if order == RowOrder::BottomUp {
                1.0
            } else {
                -1.0
            };
            let (a, b) = (
                map.apply(Point::new(50.0, 40.0)),
                map.apply(Point::new(50.0, 40.0 + up)),
            );
            assert!((b.x - a.x - s).abs() < 1e-9 && (b.y - a.y - c).abs() < 1e-9);
            for corner in reference.corners::<ReferencePx>() {
                assert!(canvas.size.holds(map.invert().apply(corner)), "{corner:?}");
            }
        }
    }

    #[test]
    fn an_absurd_scale_is_refused() {
        let grid = Grid {
            scale: 400.0,
            turn_deg: 0.0,
        };
        let got = Canvas::new(
            Extent::Union,
            grid,
            Size::new(10, 10).unwrap(),
            RowOrder::BottomUp,
            &[],
        );
        assert_eq!(got, Err(CanvasError::Scale));
    }
}
