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
}

impl Pointing {
    /// Upright at the plane's scale.
    pub const fn at(x: f64, y: f64) -> Self {
        Self {
            centre: (x, y),
            turn_deg: 0.0,
            scale: 1.0,
            mirrored: false,
        }
    }

    /// The map from the plane to the pixels of a frame of this size.
    ///
    /// # Panics
    /// When the scale is zero or not finite: no camera has such a one.
    pub fn map(&self, size: Size) -> Map<SkyPx, FramePx> {
        let (s, c) = self.turn_deg.to_radians().sin_cos();
        let (s, c) = (s * self.scale, c * self.scale);
        let m = if self.mirrored { -1.0 } else { 1.0 };
        let (a, b, d, e) = (c * m, -s, s * m, c);
        let middle = size.centre::<FramePx>();
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
}
