//! Small parts of both frames, and how they lie against each other under a map that is nearly true.

use crate::number::Convert;
use rayon::prelude::*;

use super::spectrum::Surface;
use super::{LEAST_PEAK, PATCH_SIGMA_PX};
use crate::placement::{Pair, Placement, Registration};
use crate::plane::Plane;
use crate::resample::resampled;
use crate::space::{FramePx, Point, Rect, ReferencePx};

/// A patch's centre in the reference, and where the frame shows the same.
pub(super) type Patch = Pair<ReferencePx, FramePx>;

/// Patches along the longer side.
const ALONG: usize = 10;

/// Least part of a patch that both frames must cover.
const LEAST_COVERED: f32 = 0.8;

/// All patches whose pattern is found again.
pub(super) fn patches(
    reference: &Plane,
    frame: &Plane,
    map: &Registration,
    side: usize,
) -> Vec<Patch> {
    let size = reference.size();
    let step = (size.width().max(size.height()) / ALONG)
        .max(side / 2)
        .max(1);
    let starts = |n: usize| (0..=n.saturating_sub(side)).step_by(step);
    let places: Vec<(usize, usize)> = starts(size.height())
        .flat_map(|y| starts(size.width()).map(move |x| (x, y)))
        .collect();
    places
        .par_iter()
        .filter_map(|(x, y)| {
            let rect = Rect {
                x: (*x).whole(),
                y: (*y).whole(),
                width: side.min(size.width()),
                height: side.min(size.height()),
            };
            patch(reference, frame, map, rect)
        })
        .collect()
}

fn patch(reference: &Plane, frame: &Plane, map: &Registration, rect: Rect) -> Option<Patch> {
    let there: Placement = map.retyped();
    let middle = Point::<ReferencePx>::new(
        rect.x.real() + 0.5 * (rect.width.real() - 1.0),
        rect.y.real() + 0.5 * (rect.height.real() - 1.0),
    );
    if !frame.size().holds(map.apply(middle)) {
        return None;
    }
    let moved = resampled(frame, &there, rect, f32::INFINITY)?;
    let covered = |values: &[f32]| {
        values.iter().filter(|v| v.is_finite()).count().single() / values.len().single()
    };
    let mut own = vec![0.0; rect.area()];
    reference.window(rect, &mut own);
    if covered(&own) < LEAST_COVERED || covered(moved.data()) < LEAST_COVERED {
        return None;
    }
    let peak = Surface::of(reference, rect).correlate(&Surface::of(&moved, moved.size().rect()));
    // The pattern at `middle` of the reference is seen in the moved frame at `middle` + shift.
    let seen = Point::<ReferencePx>::new(middle.x + peak.x, middle.y + peak.y);
    let reach = 0.3 * rect.width.real();
    let sure = peak.height > LEAST_PEAK && peak.x.hypot(peak.y) < reach;
    sure.then(|| Pair {
        from: middle,
        to: map.apply(seen),
        weight: 1.0 / (PATCH_SIGMA_PX * PATCH_SIGMA_PX),
    })
}
