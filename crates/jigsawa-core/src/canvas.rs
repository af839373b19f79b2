//! The canvas: the common pixel grid that everything is merged on.

use crate::number::Convert;
use serde::{Deserialize, Serialize};

use crate::convex::cut;
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
#[serde(deny_unknown_fields)]
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
            Extent::Common => common(outlines.collect()),
        };
        let rect = bounds.rect();
        if rect.is_empty() {
            return Err(CanvasError::NothingInCommon);
        }
        let size = Size::new(rect.width, rect.height).ok_or(CanvasError::TooLarge {
            width: rect.width,
            height: rect.height,
        })?;
        let first = Point::new(rect.x.real(), rect.y.real());
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
    let (right, bottom) = (size.width().real() - 0.5, size.height().real() - 0.5);
    [(-0.5, -0.5), (right, -0.5), (right, bottom), (-0.5, bottom)]
        .map(|(x, y)| back.apply(Point::new(x, y)))
}

/// The largest upright rectangle inside of all outlines, each of which is convex.
fn common(outlines: Vec<[Point<CanvasPx>; 4]>) -> Bounds {
    let mut outlines = outlines.into_iter();
    let Some(first) = outlines.next() else {
        return Bounds::NONE;
    };
    let shared = outlines.fold(first.to_vec(), |shared, o| within(&shared, &o));
    let ends = |of: fn(&Point<CanvasPx>) -> f64| {
        let all = shared.iter().map(of);
        all.fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), v| {
            (a.min(v), b.max(v))
        })
    };
    let (left, right) = ends(|p| p.x);
    if shared.is_empty() || left >= right {
        return Bounds::NONE;
    }
    // Between two columns the area is as high as in the lower of both, since it is convex.
    let rectangle = |a: f64, b: f64| {
        let ((a0, a1), (b0, b1)) = (heights(&shared, a)?, heights(&shared, b)?);
        let (top, bottom) = (a0.max(b0), a1.min(b1));
        Some(((b - a) * (bottom - top).max(0.0), (top, bottom)))
    };
    let area = |a: f64, b: f64| rectangle(a, b).map_or(0.0, |r| r.0);
    // A grid first, then ever finer steps around the best: the area has one top only.
    let mut best = (left, right);
    let mut step = (right - left) / GRID.real();
    for i in 0..GRID {
        for k in i + 1..=GRID {
            let (a, b) = (left + i.real() * step, left + k.real() * step);
            if area(a, b) > area(best.0, best.1) {
                best = (a, b);
            }
        }
    }
    while step > FINEST {
        let around = [-1.0, 0.0, 1.0];
        let tries = around.into_iter().flat_map(|i| around.map(|k| (i, k)));
        let next = tries
            .map(|(i, k)| {
                (
                    (best.0 + i * step).max(left),
                    (best.1 + k * step).min(right),
                )
            })
            .max_by(|p, q| area(p.0, p.1).total_cmp(&area(q.0, q.1)));
        match next {
            Some(next) if area(next.0, next.1) > area(best.0, best.1) => best = next,
            _ => step *= 0.5,
        }
    }
    match rectangle(best.0, best.1) {
        Some((_, (top, bottom))) => Bounds {
            low: [best.0, top],
            high: [best.1, bottom],
        },
        None => Bounds::NONE,
    }
}

/// Columns that the largest rectangle is looked for between, and the finest step in pixels.
const GRID: usize = 64;
const FINEST: f64 = 1e-7;

/// From where to where a convex outline reaches in a column; `None` beside it.
fn heights(outline: &[Point<CanvasPx>], x: f64) -> Option<(f64, f64)> {
    let mut ends = (f64::INFINITY, f64::NEG_INFINITY);
    for (i, p) in outline.iter().enumerate() {
        let q = outline[(i + 1) % outline.len()];
        if (p.x.min(q.x)..=p.x.max(q.x)).contains(&x) {
            let ys = if p.x == q.x {
                [p.y, q.y]
            } else {
                [p.y + (q.y - p.y) * (x - p.x) / (q.x - p.x); 2]
            };
            ends = ys.iter().fold(ends, |(a, b), y| (a.min(*y), b.max(*y)));
        }
    }
    (ends.0 <= ends.1).then_some(ends)
}

/// The part of a convex outline that lies inside of another.
fn within(shared: &[Point<CanvasPx>], by: &[Point<CanvasPx>; 4]) -> Vec<Point<CanvasPx>> {
    let middle = |of: fn(&Point<CanvasPx>) -> f64| by.iter().map(of).sum::<f64>() / 4.0;
    let centre = Point::new(middle(|p| p.x), middle(|p| p.y));
    (0..4).fold(shared.to_vec(), |left, i| {
        let (p, q) = (by[i], by[(i + 1) % 4]);
        let side = |r: Point<CanvasPx>| (q.x - p.x) * (r.y - p.y) - (q.y - p.y) * (r.x - p.x);
        // Mirrored frames run the other way round.
        let hand = side(centre).signum();
        cut(&left, |r| hand * side(r))
    })
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

    /// With an outline inside of them.
    fn around(self, outline: [Point<CanvasPx>; 4]) -> Self {
        outline.iter().fold(self, |b, p| Self {
            low: [b.low[0].min(p.x), b.low[1].min(p.y)],
            high: [b.high[0].max(p.x), b.high[1].max(p.y)],
        })
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
            x: first(self.low[0]).whole(),
            y: first(self.low[1]).whole(),
            width: whole(self.low[0], self.high[0]).index(),
            height: whole(self.low[1], self.high[1]).index(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

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

    #[rstest]
    // As large as a square turned by this lets it be: its side over cos + sin.
    #[case(0.0, 600, 600)]
    #[case(45.0, 424, 424)]
    #[case(90.0, 600, 600)]
    #[case(3.0, 570, 570)]
    fn the_common_canvas_of_turned_frames_is_the_largest(
        #[case] turn_deg: f64,
        #[case] width: usize,
        #[case] height: usize,
    ) {
        let size = Size::new(600, 600).unwrap();
        let (s, c) = turn_deg.to_radians().sin_cos();
        let m = 299.5;
        let rows = [
            [c, -s, m - c * m + s * m],
            [s, c, m - s * m - c * m],
            [0.0, 0.0, 1.0],
        ];
        let frames = [(Map::from_rows(rows).unwrap(), size)];
        let got = Canvas::new(
            Extent::Common,
            Grid::REFERENCE,
            size,
            RowOrder::BottomUp,
            &frames,
        );
        let got = got.unwrap().size;
        let near = |a: usize, b: usize| a.abs_diff(b) <= 1;
        assert!(
            got.area().abs_diff(width * height) < 2000
                && (turn_deg != 90.0 || near(got.width(), 600)),
            "{got:?}"
        );
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
