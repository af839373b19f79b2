//! The height of a star that fits its pixels best.

use super::ellipse::Ellipse;
use super::profile::Profile;
use super::window::Window;
use crate::stars::Star;

/// A star and what stands around it in one plane.
pub(super) struct Surroundings<'a, Others> {
    pub(super) star: &'a Star,
    pub(super) ellipse: Ellipse,
    pub(super) window: &'a Window,
    pub(super) plane: usize,
    pub(super) profile: &'a Profile,
    /// The light of the others at a place whose distance from the star has this square; `None` where one that is not
    /// measured yet is nearer.
    pub(super) others: Others,
}

impl<Others: Fn((f64, f64), f64) -> Option<f32>> Surroundings<'_, Others> {
    /// The height that fits the pixels between two distances best, on a sky that may be tilted, the light of others taken
    /// off; of others that are not measured yet, pixels nearer to them do not count. `None` for too few pixels.
    pub(super) fn fitted(&self, (from, to): (f64, f64)) -> Option<f32> {
        // Sky from a ring around, so that star and sky do not trade: the fit has height, level and tilt.
        let far = 1.8 * to;
        let reach = far.ceil() as i64;
        let (cx, cy) = (self.star.at.x.round() as i64, self.star.at.y.round() as i64);
        let mut normal = nalgebra::SMatrix::<f64, 4, 4>::zeros();
        let mut right = nalgebra::SVector::<f64, 4>::zeros();
        let mut count = 0;
        for y in cy - reach..=cy + reach {
            let (first, row) = self.window.row(self.plane, y, (cx - reach, cx + reach + 1));
            let dy = y as f64 - self.star.at.y;
            for (x, v) in (first..).zip(row) {
                let dx = x as f64 - self.star.at.x;
                let r = self.ellipse.distance(dx, dy);
                if r < from || r > far || !v.is_finite() {
                    continue;
                }
                let Some(others) = (self.others)((x as f64, y as f64), dx * dx + dy * dy) else {
                    continue;
                };
                let terms = [f64::from(self.profile.at(r)), 1.0, dx / to, dy / to];
                let over = f64::from(v - others);
                // The matrix is symmetric: its lower half is enough for the solution.
                for i in 0..4 {
                    for j in 0..=i {
                        normal[(i, j)] += terms[i] * terms[j];
                    }
                    right[i] += terms[i] * over;
                }
                count += 1;
            }
        }
        if count < 12 {
            return None;
        }
        let solved = normal.cholesky()?.solve(&right);
        solved[0].is_finite().then_some(solved[0] as f32)
    }
}
