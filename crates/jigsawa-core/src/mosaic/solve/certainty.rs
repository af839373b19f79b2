//! How surely frames lie beside each other: the covariance of all numbers, carried to where two frames meet.

use crate::number::Convert;
use nalgebra::DMatrix;

use super::Solution;
use super::system::{Row, System};
use crate::space::{FramePx, Point, ReferencePx};

impl System<'_> {
    pub(super) fn uncertainty(&self, s: &mut Solution, covariance: &DMatrix<f64>, spread: f64) {
        let frames = self.problem.frames;
        let middle: Point<ReferencePx> = frames[self.problem.reference].size.centre();
        let variance = |rows: &[Row; 2]| -> f64 {
            let of = |row: &Row| -> f64 {
                let one = |(a, x): &(usize, f64)| {
                    row.iter()
                        .map(|(b, y)| x * y * covariance[(*a, *b)])
                        .sum::<f64>()
                };
                row.iter().map(one).sum()
            };
            (0.5 * (of(&rows[0]) + of(&rows[1]))).max(0.0)
        };
        // Frames that stars tie: how a frame lies against one that only its header has put there is another question.
        let mut tied = vec![false; frames.len()];
        for (track, _) in self.tracks.iter().zip(&s.kept).filter(|(_, k)| **k > 0.0) {
            for sight in track {
                tied[sight.frame] = true;
            }
        }
        for frame in 0..frames.len() {
            let (w, h) = (
                frames[frame].size.width().real() - 1.0,
                frames[frame].size.height().real() - 1.0,
            );
            let edge = (0..9)
                .filter(|k| *k != 4)
                .map(|k| (f64::from(k % 3) * 0.5 * w, f64::from(k / 3) * 0.5 * h));
            let mut worst = 0.0f64;
            for (x, y) in edge {
                let Some((at, own)) = self.sight(s, frame, Point::new(x, y)) else {
                    continue;
                };
                let at = Point::new(middle.x + at[0], middle.y + at[1]);
                for other in (0..frames.len()).filter(|k| *k != frame && tied[*k]) {
                    let there = self
                        .frame_place(s, other, at)
                        .filter(|p| frames[other].size.holds(*p));
                    let Some((_, rows)) = there.and_then(|p| self.sight(s, other, p)) else {
                        continue;
                    };
                    let less = |i: usize| -> Row {
                        let negative = rows[i].iter().map(|(a, v)| (*a, -v));
                        own[i].iter().copied().chain(negative).collect()
                    };
                    worst = worst.max(variance(&[less(0), less(1)]));
                }
            }
            s.corner_sigma_px[frame] = spread * worst.sqrt();
        }
    }

    /// The pixel of a frame that shows a place of the plane.
    fn frame_place(
        &self,
        s: &Solution,
        frame: usize,
        at: Point<ReferencePx>,
    ) -> Option<Point<FramePx>> {
        let pose = s.poses[frame].as_ref()?;
        let [[a, b], [c, d]] = pose.matrix;
        let det = a * d - b * c;
        let mut p: Point<FramePx> = self.problem.frames[frame].size.centre();
        for _ in 0..6 {
            let here = s.place(self.problem, frame, p)?;
            let (dx, dy) = (at.x - here.x, at.y - here.y);
            p = Point::new(p.x + (d * dx - b * dy) / det, p.y + (a * dy - c * dx) / det);
        }
        (p.x.is_finite() && p.y.is_finite()).then_some(p)
    }
}
