//! From the solution to placements: for each frame a projective matrix and a distortion that take the canvas's plane to
//! its pixels.
//!
//! The way from a pixel to the plane is known exactly; the way back, which resampling needs, is fitted to it on a grid
//! over the frame. A matrix holds all but the lens and, on planes that are no tangent planes, what the projection
//! bends; a polynomial of the fifth degree holds those to a few thousandths of a pixel.

use super::solve::{Problem, Solution};
use crate::number::Convert;
use crate::placement::{Map, Model, Pair, Registration};
use crate::space::{FramePx, Point, Rect, ReferencePx};
use crate::wcs::Projection;

/// Points of the grid along each side.
const STEPS: usize = 25;

/// A lens moves nothing farther.
const MARGIN_PX: i64 = 32;

/// No distortion is needed where the matrix is as true as this.
const TRUE_PX: f64 = 0.001;

/// The frame's pixels from the reference's plane, shown by `projection`, with the model that it takes and the largest
/// error of the fit in frame pixels. `None` for a frame without a pose.
pub fn registration(
    problem: &Problem<'_>,
    solution: &Solution,
    projection: Projection,
    frame: usize,
) -> Option<(Registration, Model, f64)> {
    let size = problem.frames[frame].size;
    let centre: Point<ReferencePx> = problem.frames[problem.reference].size.centre();
    let at = |k: usize, n: usize| k.real() / (STEPS - 1).real() * n.real() - 0.5;
    let pairs: Vec<Pair<ReferencePx, FramePx>> = (0..STEPS * STEPS)
        .map(|k| {
            let to = Point::new(at(k % STEPS, size.width()), at(k / STEPS, size.height()));
            let on_plane = solution.place(problem, frame, to)?;
            let aside = (on_plane.x - centre.x, on_plane.y - centre.y);
            let (x, y) = projection.from_tangent(solution.curvature, aside);
            Some(Pair {
                from: Point::new(centre.x + x, centre.y + y),
                to,
                weight: 1.0,
            })
        })
        .collect::<Option<_>>()?;
    let worst = |map: &Registration| {
        let off = pairs.iter().map(|p| map.apply(p.from).distance(p.to));
        off.fold(0.0, f64::max)
    };
    let flat = Map::fit(Model::Homography, &pairs, None)?;
    let error = worst(&flat);
    if error < TRUE_PX {
        return Some((flat, Model::Homography, error));
    }
    // What the matrix alone gives may lie a little outside of the frame.
    let domain = Rect {
        x: -MARGIN_PX,
        y: -MARGIN_PX,
        width: size.width() + 2 * MARGIN_PX.index(),
        height: size.height() + 2 * MARGIN_PX.index(),
    };
    let distorted = flat.bent_to(&pairs, 5, domain)?;
    let error = worst(&distorted);
    Some((distorted, Model::Smooth(5), error))
}
