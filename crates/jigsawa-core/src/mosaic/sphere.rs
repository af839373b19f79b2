//! The sphere behind the panels: from the tangent plane of one pointing to that of another, and the planes that a
//! canvas can show it on.
//!
//! A camera sees the sky on a plane that touches the sphere where it points. Beside the reference's own pointing
//! that plane is tilted: scale and perspective of a panel change by a tenth of a percent at two degrees, which is
//! several pixels. With the curvature (1 / (pixels for a radian)²) as one number for all panels, it costs none of
//! their own. A curvature of zero is a flat sky, where all planes are one.

use serde::{Deserialize, Serialize};

/// What kind of plane the canvas shows the sphere on (Calabretta & Greisen 2002, A&A 395, 1077).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Projection {
    /// The tangent plane, on which great circles are straight: TAN.
    #[default]
    Tangent,
    /// Stereographic: small shapes stay what they are however wide the field is: STG.
    Stereographic,
    /// Zenithal equal area: surface brightness stays flux: ZEA.
    EqualArea,
}

impl Projection {
    /// Its name for people.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Tangent => "tangent plane",
            Self::Stereographic => "stereographic",
            Self::EqualArea => "equal area",
        }
    }

    /// Distance from the middle for an angle from it, both in radians.
    pub(crate) fn distance(self, angle: f64) -> f64 {
        match self {
            Self::Tangent => angle.tan(),
            Self::Stereographic => 2.0 * (0.5 * angle).tan(),
            Self::EqualArea => 2.0 * (0.5 * angle).sin(),
        }
    }

    /// The angle of a distance; `None` where the plane shows no sky.
    pub(crate) fn angle(self, distance: f64) -> Option<f64> {
        match self {
            Self::Tangent => Some(distance.atan()),
            Self::Stereographic => Some(2.0 * (0.5 * distance).atan()),
            Self::EqualArea if distance <= 2.0 => Some(2.0 * (0.5 * distance).asin()),
            Self::EqualArea => None,
        }
    }

    /// A place of the tangent plane on this one; both in pixels from where they touch the sphere.
    pub(crate) fn from_tangent(self, curvature: f64, (x, y): (f64, f64)) -> (f64, f64) {
        let r = curvature.sqrt() * x.hypot(y);
        if self == Self::Tangent || r < 1e-9 {
            return (x, y);
        }
        let k = self.distance(r.atan()) / r;
        (k * x, k * y)
    }
}

/// A place seen at `(p, q)` on the plane that touches the sphere at `at`, on the plane that touches at (0, 0); all in
/// pixels. `at` is a place of the latter.
pub(super) fn untilted(curvature: f64, at: [f64; 2], (p, q): (f64, f64)) -> [f64; 2] {
    let [u, v] = at;
    // The axes of the tilted plane, along the great circle from (0, 0); all terms with their powers of curvature, so
    // that a flat sky is a limit like any other.
    let n2 = 1.0 + curvature * (u * u + v * v);
    let n = n2.sqrt();
    let f = curvature / (n2 * (1.0 + 1.0 / n));
    let ex = [1.0 - f * u * u, -f * u * v];
    let ey = [-f * u * v, 1.0 - f * v * v];
    let across = [u / n + p * ex[0] + q * ey[0], v / n + p * ex[1] + q * ey[1]];
    let along = 1.0 / n - curvature * (p * u + q * v) / n;
    across.map(|a| a / along)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_plane_aside_is_the_sphere_seen_from_there() {
        let r = 1000.0f64;
        let k = 1.0 / (r * r);
        let x = r * 30f64.to_radians().tan();
        assert_eq!(untilted(k, [x, 0.0], (0.0, 0.0)), [x, 0.0]);
        let further = untilted(k, [x, 0.0], (r * 1f64.to_radians().tan(), 0.0));
        assert!((further[0] - r * 31f64.to_radians().tan()).abs() < 1e-9);
        let flat = untilted(0.0, [x, 7.0], (3.0, -4.0));
        assert!((flat[0] - x - 3.0).abs() < 1e-12 && (flat[1] - 3.0).abs() < 1e-12);
    }

    #[rstest]
    #[case(Projection::Tangent)]
    #[case(Projection::Stereographic)]
    #[case(Projection::EqualArea)]
    fn distance_and_angle_are_each_others_way_back(#[case] p: Projection) {
        for deg in [0.0, 1.0, 20.0, 80.0] {
            let angle = f64::to_radians(deg);
            assert!((p.angle(p.distance(angle)).unwrap() - angle).abs() < 1e-12);
        }
        assert!(p.distance(0.3) > 0.29);
    }

    #[test]
    fn an_equal_area_plane_keeps_areas() {
        // A ring from 40 to 41 degrees.
        let p = |deg: f64| Projection::EqualArea.distance(deg.to_radians());
        let ring = p(41.0).powi(2) - p(40.0).powi(2);
        let true_ring = 2.0 * (40f64.to_radians().cos() - 41f64.to_radians().cos());
        assert!((ring - true_ring).abs() < 1e-12);
        let (x, y) = Projection::EqualArea.from_tangent(1e-6, (300.0, 400.0));
        assert!((x / y - 0.75).abs() < 1e-12 && x < 300.0);
    }
}
