//! The planes that a canvas can show the sphere on.

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
    pub fn from_tangent(self, curvature: f64, (x, y): (f64, f64)) -> (f64, f64) {
        let r = curvature.sqrt() * x.hypot(y);
        if self == Self::Tangent || r < 1e-9 {
            return (x, y);
        }
        let k = self.distance(r.atan()) / r;
        (k * x, k * y)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

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
