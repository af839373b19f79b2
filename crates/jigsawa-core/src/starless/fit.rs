//! The height of a star that fits its pixels best.

use super::ellipse::Ellipse;
use super::light::StarLight;
use super::profile::Profile;
use super::window::Window;
use crate::stars::Star;

/// A star and what stands around it in one plane.
pub(super) struct Surroundings<'a> {
    pub(super) star: &'a Star,
    pub(super) ellipse: Ellipse,
    pub(super) window: &'a Window,
    pub(super) plane: usize,
    pub(super) profile: &'a Profile,
    pub(super) near: &'a [&'a StarLight],
}

impl Surroundings<'_> {
    /// The height that fits the pixels between two distances best, on a sky that may be tilted, the light of others taken
    /// off; of others that are not measured yet, pixels nearer to them do not count. `None` for too few pixels.
    pub(super) fn fitted(&self, (from, to): (f64, f64)) -> Option<f32> {
        // Sky from a ring around, so that star and sky do not trade: the fit has height, level and tilt.
        let reach = (to * 1.8).ceil() as i64;
        let (cx, cy) = (self.star.at.x.round() as i64, self.star.at.y.round() as i64);
        let mut normal = nalgebra::SMatrix::<f64, 4, 4>::zeros();
        let mut right = nalgebra::SVector::<f64, 4>::zeros();
        let mut count = 0;
        for y in cy - reach..=cy + reach {
            for x in cx - reach..=cx + reach {
                let (dx, dy) = (x as f64 - self.star.at.x, y as f64 - self.star.at.y);
                let r = self.ellipse.distance(dx, dy);
                if r < from || r > 1.8 * to {
                    continue;
                }
                let v = self.window.at(self.plane, x, y);
                if !v.is_finite() {
                    continue;
                }
                let own = dx * dx + dy * dy;
                let mut others = 0.0;
                let mut hidden = false;
                for s in self.near {
                    let (ox, oy) = (x as f64 - s.at.x, y as f64 - s.at.y);
                    if s.measured {
                        others += s.light_at(self.plane, self.profile, ox, oy);
                    } else {
                        hidden |= ox * ox + oy * oy < own;
                    }
                }
                if hidden {
                    continue;
                }
                let terms = nalgebra::SVector::<f64, 4>::new(
                    f64::from(self.profile.at(r)),
                    1.0,
                    dx / to,
                    dy / to,
                );
                normal += terms * terms.transpose();
                right += terms * f64::from(v - others);
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
