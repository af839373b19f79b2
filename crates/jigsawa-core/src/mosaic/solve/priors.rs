//! What is known without stars: frames of a camera are alike, lenses are gentle, the reference lies on its own pixels.

use nalgebra::{DMatrix, DVector};

use super::system::{Row, System};
use super::{LENS, OWN_SHAPE, Solution, half};
use crate::measured::Measured;

/// A frame's place is known to this in each round, without a star.
const ANYWHERE_PX: f64 = 1000.0;

impl System<'_> {
    /// What is known without stars.
    pub(super) fn priors(
        &self,
        s: &Solution,
        scales: &[f64],
        normal: &mut DMatrix<f64>,
        right: &mut DVector<f64>,
    ) {
        let mut add = |row: &[(usize, f64)], off: f64, sigma: f64| {
            let w = 1.0 / (sigma * sigma);
            for (a, x) in row {
                right[*a] += w * x * off;
                for (b, y) in row {
                    normal[(*a, *b)] += w * x * y;
                }
            }
        };
        for (frame, first) in self.free.iter().enumerate() {
            let (Some(first), Some(pose)) = (first, &s.poses[frame]) else {
                continue;
            };
            let camera = self.problem.cameras[frame];
            let h = half(self.problem.frames[frame].size);
            let [[a, b], [c, d]] = pose.matrix;
            // The matrix is a turn (perhaps of a mirror image) of something nearly even: what is left after
            // turning back, by how each number changes it.
            let hand = (a * d - b * c).signum();
            let turn = (c - hand * b).atan2(a + hand * d);
            let (sin, cos) = turn.sin_cos();
            // Rows of (turn back) (matrix) (mirror).
            let xx = [(0, cos), (2, sin)];
            let yy = [(1, -sin * hand), (3, cos * hand)];
            let xy = [(1, cos * hand), (3, sin * hand)];
            let yx = [(0, -sin), (2, cos)];
            let m = [a, b, c, d];
            let value = |row: &[(usize, f64)]| row.iter().map(|(i, k)| k * m[*i]).sum::<f64>();
            let number = |parts: &[(&[(usize, f64)], f64)]| -> Row {
                let all = parts
                    .iter()
                    .flat_map(|(row, k)| row.iter().map(move |(i, v)| (*i, k * v / h)));
                all.map(|(i, v)| (first + i, v)).collect()
            };
            let (x, y) = (value(&xx), value(&yy));
            let stretch = number(&[(&xx, 0.5), (&yy, -0.5)]);
            add(&stretch, -0.5 * (x - y), OWN_SHAPE);
            let shear = number(&[(&xy, 0.5), (&yx, 0.5)]);
            add(&shear, -0.5 * (value(&xy) + value(&yx)), OWN_SHAPE);
            let mut scale = number(&[(&xx, 0.5), (&yy, 0.5)]);
            scale.push((self.scale_at(camera), -1.0 / h));
            add(&scale, scales[camera] - 0.5 * (x + y), OWN_SHAPE);
            // A frame that no star ties stays where it was put, and spoils nobody's solution.
            add(&[(first + 4, 1.0)], 0.0, ANYWHERE_PX);
            add(&[(first + 5, 1.0)], 0.0, ANYWHERE_PX);
            let turned = number(&[(&xy, 0.5), (&yx, -0.5)]);
            add(&turned, 0.0, ANYWHERE_PX / h);
            if frame == self.problem.reference {
                // It lies on its own pixels.
                const SURE: f64 = 1e-7;
                add(&[(first + 4, 1.0)], -pose.at[0], SURE);
                add(&[(first + 5, 1.0)], -pose.at[1], SURE);
                add(
                    &[(first + 1, -0.5), (first + 2, 0.5)],
                    0.5 * h * (b - c),
                    SURE,
                );
                add(
                    &[(*first, 0.5), (first + 3, 0.5)],
                    h - 0.5 * h * (a + d),
                    SURE,
                );
            }
        }
        for camera in 0..self.cameras {
            // A camera's scale is open, unless frames that stay tell it.
            let told = self.problem.kept.is_some_and(|k| {
                let own = self.problem.cameras.iter().zip(&k.poses);
                own.into_iter()
                    .any(|(c, pose)| *c == camera && pose.is_some())
            });
            let frame = self.problem.cameras.iter().position(|c| *c == camera);
            let h = frame.map_or(1.0, |f| half(self.problem.frames[f].size));
            let sigma = if told { h * OWN_SHAPE } else { 1e6 };
            add(&[(self.scale_at(camera), 1.0)], 0.0, sigma);
            if let Some(lens) = s.lenses[camera].as_ref().filter(|_| self.lens_terms > 0) {
                let (x, y) = lens.coefficients();
                let frame = self.problem.cameras.iter().position(|c| *c == camera);
                let usual = LENS * frame.map_or(1.0, |f| half(self.problem.frames[f].size));
                for t in 0..self.lens_terms {
                    add(&[(self.lens_at(camera) + t, 1.0)], -x[t + 3], usual);
                    add(
                        &[(self.lens_at(camera) + self.lens_terms + t, 1.0)],
                        -y[t + 3],
                        usual,
                    );
                }
            }
        }
        let at = self.curvature_at();
        if self.with_lens {
            // Without a word from a header: a flat sky, or pixels of some two seconds of arc.
            let known = self.problem.curvature.unwrap_or(Measured {
                value: 0.0,
                sigma: 1e-10,
            });
            let unit = self.curvature_unit;
            add(
                &[(at, 1.0)],
                (known.value - s.curvature) / unit,
                known.sigma.max(1e-16) / unit,
            );
        } else {
            add(&[(at, 1.0)], 0.0, 1e-6);
        }
    }
}
