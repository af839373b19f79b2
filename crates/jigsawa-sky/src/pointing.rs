//! Where a frame lies on the plane of the sky.

use jigsawa_core::placement::Map;
use jigsawa_core::space::{FramePx, Size};

/// The plane of the made-up sky.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SkyPx {}

/// How the camera looks at the plane.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pointing {
    /// The place of the plane in the middle of the frame.
    pub centre: (f64, f64),
    /// Turn from the plane to the frame, +x towards +y.
    pub turn_deg: f64,
    /// Frame pixels for one unit of the plane.
    pub scale: f64,
    /// Is the frame a mirror image?
    pub mirrored: bool,
    /// The sphere that the camera looks at; `None` where the sky is as flat as its plane.
    pub sphere: Option<Sphere>,
}

/// The sphere of the sky, which the plane touches: a camera that points beside this place sees the plane tilted.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sphere {
    /// Where the plane touches.
    pub touches: (f64, f64),
    /// Units of the plane for a radian there.
    pub radius: f64,
}

impl Sphere {
    /// From the plane to a plane in the same units that touches the sphere where `centre` is seen, with its
    /// own (0, 0) there: rows of the matrix. The axes are turned along the great circle between both.
    fn tilted(self, centre: (f64, f64)) -> [[f64; 3]; 3] {
        let (x0, y0) = self.touches;
        let r = self.radius;
        let (u, v) = ((centre.0 - x0) / r, (centre.1 - y0) / r);
        let n = (1.0 + u * u + v * v).sqrt();
        let (a, b, w) = (u / n, v / n, 1.0 / n);
        let axes = [
            [1.0 - a * a / (1.0 + w), -a * b / (1.0 + w), -a],
            [-a * b / (1.0 + w), 1.0 - b * b / (1.0 + w), -b],
            [a, b, w],
        ];
        // A point of the plane as a direction is (x - x0, y - y0, r).
        axes.map(|[p, q, s]| [p, q, s * r - p * x0 - q * y0])
            .map(|row| row.map(|v| v / r))
    }
}

impl Pointing {
    /// Upright at the plane's scale.
    pub const fn at(x: f64, y: f64) -> Self {
        Self {
            centre: (x, y),
            turn_deg: 0.0,
            scale: 1.0,
            mirrored: false,
            sphere: None,
        }
    }

    /// The map from the plane to the pixels of a frame of this size.
    ///
    /// # Panics
    /// When the scale is zero or not finite, or when the camera points a right angle aside: none has such a one.
    pub fn map(&self, size: Size) -> Map<SkyPx, FramePx> {
        let (s, c) = self.turn_deg.to_radians().sin_cos();
        let (s, c) = (s * self.scale, c * self.scale);
        let m = if self.mirrored { -1.0 } else { 1.0 };
        let (a, b, d, e) = (c * m, -s, s * m, c);
        let middle = size.centre::<FramePx>();
        if let Some(sphere) = self.sphere {
            let tilted: Option<Map<SkyPx, FramePx>> = Map::from_rows({
                let [p, q, w] = sphere.tilted(self.centre);
                [p, q, w.map(|v| v / sphere.radius)]
            });
            let seen: Option<Map<FramePx, FramePx>> =
                Map::from_rows([[a, b, middle.x], [d, e, middle.y], [0.0, 0.0, 1.0]]);
            return tilted
                .zip(seen)
                .and_then(|(tilted, seen)| tilted.then(&seen))
                .expect("a camera that points less than a right angle aside sees the plane");
        }
        let (x, y) = self.centre;
        Map::from_rows([
            [a, b, middle.x - a * x - b * y],
            [d, e, middle.y - d * x - e * y],
            [0.0, 0.0, 1.0],
        ])
        .expect("a camera has a finite scale above zero")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_core::space::Point;

    #[test]
    fn the_centre_falls_on_the_middle_and_the_turn_is_as_said() {
        let size = Size::new(101, 81).unwrap();
        let p = Pointing {
            turn_deg: 30.0,
            scale: 0.9,
            mirrored: true,
            ..Pointing::at(500.0, 300.0)
        };
        let map = p.map(size);
        assert!(
            map.apply(Point::new(500.0, 300.0))
                .distance(Point::new(50.0, 40.0))
                < 1e-9
        );
        let seen = map.describe(Point::new(500.0, 300.0));
        assert!((seen.rotation_deg - 30.0).abs() < 1e-9 && seen.mirrored);
        assert!((seen.scale - 0.9).abs() < 1e-12);
    }

    #[test]
    fn a_camera_beside_the_middle_sees_the_sphere_and_not_the_plane() {
        let size = Size::new(101, 81).unwrap();
        let sphere = Sphere {
            touches: (0.0, 0.0),
            radius: 1000.0,
        };
        // At 30 degrees from the middle.
        let x = 1000.0 * 30f64.to_radians().tan();
        let aside = Pointing {
            sphere: Some(sphere),
            ..Pointing::at(x, 0.0)
        };
        let map = aside.map(size);
        assert!(
            map.apply(Point::new(x, 0.0))
                .distance(Point::new(50.0, 40.0))
                < 1e-9
        );
        // A degree further is a degree's tangent from its middle.
        let further = 1000.0 * 31f64.to_radians().tan();
        let seen = map.apply(Point::new(further, 0.0));
        let want = 50.0 + 1000.0 * 1f64.to_radians().tan();
        assert!((seen.x - want).abs() < 1e-9 && (seen.y - 40.0).abs() < 1e-9);
        // Across, lengths on the plane shrink by the distance from the sphere's middle: by the cosine.
        let across = map.apply(Point::new(x, 1.0)).y - 40.0;
        assert!((across - 30f64.to_radians().cos()).abs() < 1e-6);
    }
}
