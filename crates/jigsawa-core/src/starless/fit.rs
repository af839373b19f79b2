//! The height of a star that fits its pixels best.

use super::ellipse::Ellipse;
use super::light::StarLight;
use super::profile::Profile;
use super::window::Window;
use crate::stars::Star;

/// Sky comes from a ring around what is fitted, out to so many of its radii, so that star and sky do not trade.
pub(super) const SKY_RING: f64 = 1.8;

/// With fewer pixels nothing is fitted.
const LEAST_PIXELS: usize = 12;

/// The pixels around a star: the same in every plane, for every fit.
pub(super) struct Surroundings {
    /// Rows of it: where they lie, their first column, and how many pixels they have.
    rows: Vec<(i64, i64, usize)>,
    /// Of each pixel the way from the star's middle, and the distance along its ellipse.
    x: Vec<f64>,
    y: Vec<f64>,
    r: Vec<f64>,
    at: (f64, f64),
}

/// What they show in one plane.
pub(super) struct Seen<'a> {
    around: &'a Surroundings,
    /// Each pixel less the light of others; NaN for one that does not count.
    values: Vec<f64>,
    /// The profile at each.
    heights: Vec<f64>,
}

impl Surroundings {
    /// Of a star whose pixels are fitted out to a radius.
    pub(super) fn new(star: &Star, ellipse: Ellipse, to: f64) -> Self {
        let far = SKY_RING * to;
        let reach = far.ceil() as i64;
        let (cx, cy) = (star.at.x.round() as i64, star.at.y.round() as i64);
        let mut all = Self {
            rows: Vec::new(),
            x: Vec::new(),
            y: Vec::new(),
            r: Vec::new(),
            at: (star.at.x, star.at.y),
        };
        for y in cy - reach..=cy + reach {
            let dy = y as f64 - star.at.y;
            let (mut first, mut count) = (0, 0);
            for x in cx - reach..=cx + reach {
                let dx = x as f64 - star.at.x;
                let r = ellipse.distance(dx, dy);
                if r <= far {
                    if count == 0 {
                        first = x;
                    }
                    count += 1;
                    all.x.push(dx);
                    all.y.push(dy);
                    all.r.push(r);
                }
            }
            if count > 0 {
                all.rows.push((y, first, count));
            }
        }
        all
    }

    /// What a plane shows there. The light of `near` ones is taken off; of those that are not measured yet, pixels nearer to
    /// them do not count.
    pub(super) fn seen<'a>(
        &'a self,
        window: &Window,
        (plane, profile): (usize, &Profile),
        near: &[&StarLight],
    ) -> Seen<'a> {
        let mut values = Vec::with_capacity(self.r.len());
        for (y, first, count) in &self.rows {
            let (left, row) = window.row(plane, *y, (*first, first + *count as i64));
            let end = values.len() + count;
            if !row.is_empty() {
                values.resize(values.len() + (left - first) as usize, f64::NAN);
                values.extend(row.iter().map(|v| f64::from(*v)));
            }
            values.resize(end, f64::NAN);
        }
        for s in near {
            let (ox, oy) = (self.at.0 - s.at.x, self.at.1 - s.at.y);
            let places = self.x.iter().zip(&self.y).zip(&mut values);
            if s.measured {
                for ((dx, dy), v) in places {
                    *v -= f64::from(s.light_at(plane, profile, dx + ox, dy + oy));
                }
            } else {
                for ((dx, dy), v) in places {
                    let (x, y) = (dx + ox, dy + oy);
                    if x * x + y * y < dx * dx + dy * dy {
                        *v = f64::NAN;
                    }
                }
            }
        }
        Seen {
            around: self,
            values,
            heights: self.r.iter().map(|r| f64::from(profile.at(*r))).collect(),
        }
    }
}

impl Seen<'_> {
    /// The height that fits the pixels between two distances best, on a sky that may be tilted. `None` for too few pixels.
    pub(super) fn fitted(&self, (from, to): (f64, f64)) -> Option<f32> {
        let far = SKY_RING * to;
        // The fit has height, level and tilt.
        let mut normal = nalgebra::SMatrix::<f64, 4, 4>::zeros();
        let mut right = nalgebra::SVector::<f64, 4>::zeros();
        let mut count = 0;
        let Surroundings { x, y, r, .. } = self.around;
        let pixels = self.values.iter().zip(&self.heights).zip(x).zip(y).zip(r);
        for ((((v, h), x), y), r) in pixels {
            if *r < from || *r > far || !v.is_finite() {
                continue;
            }
            let terms = [*h, 1.0, x / to, y / to];
            // The matrix is symmetric: its lower half is enough for the solution.
            for i in 0..4 {
                for j in 0..=i {
                    normal[(i, j)] += terms[i] * terms[j];
                }
                right[i] += terms[i] * v;
            }
            count += 1;
        }
        if count < LEAST_PIXELS {
            return None;
        }
        let solved = normal.cholesky()?.solve(&right);
        solved[0].is_finite().then_some(solved[0] as f32)
    }
}
