//! The sphere behind the panels: from the tangent plane of one pointing to that of another.
//!
//! A camera sees the sky on a plane that touches the sphere where it points. Beside the reference's own pointing
//! that plane is tilted: scale and perspective of a panel change by a tenth of a percent at two degrees, which is
//! several pixels. With the curvature (1 / (pixels for a radian)²) as one number for all panels, it costs none of
//! their own. A curvature of zero is a flat sky, where all planes are one.

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
}
