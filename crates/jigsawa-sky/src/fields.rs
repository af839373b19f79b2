//! What else lies on planes of the made-up sky, beside the Lantern Reef: fields that show what it does not.
//!
//! Each is a formula from a place of the plane to its light, as the reef is: a small spiral galaxy behind faint dust that
//! leaves no dark corner, dust alone, a dark cloud before a bright field, and nothing but the reflection around a
//! cluster's stars. All have their middle where the demo's frames point.

use crate::noise::{bell, billows, ridges, step};

/// A field of the plane.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Field {
    /// The nebula of Lantern Reef.
    Reef,
    /// The Weathervane: a small spiral galaxy behind faint dust.
    Weathervane,
    /// Faint dust alone, everywhere.
    Dust,
    /// A dark cloud before a bright field.
    DarkCloud,
    /// Dust that reflects the light of a cluster's stars.
    Cluster,
}

/// The middle of all fields.
const MIDDLE: (f64, f64) = (960.0, 640.0);

/// Light at a place: hydrogen, oxygen, sulphur, light that dust reflects, what passes from the stars, and old stars' light.
pub(crate) type Light = [f64; 6];

impl Field {
    /// The light at a place of the plane, for all but the reef, which has its own.
    pub(crate) fn light(self, x: f64, y: f64) -> Light {
        match self {
            Self::Reef => [0.0, 0.0, 0.0, 0.0, 1.0, 0.0],
            Self::Weathervane => weathervane(x, y),
            Self::Dust => [0.0, 0.0, 0.0, dust(x, y), 1.0, 0.0],
            Self::DarkCloud => dark_cloud(x, y),
            Self::Cluster => cluster(x, y),
        }
    }
}

/// Faint dust in wisps, thinnest at a fifth of its brightest and nowhere gone.
fn dust(x: f64, y: f64) -> f64 {
    let (u, v) = ((x - MIDDLE.0) / 420.0, (y - MIDDLE.1) / 420.0);
    let (bx, by) = (billows(u, v, 4, 211), billows(u + 4.0, v - 3.0, 4, 223));
    let wisps = ridges(0.9 * u + 0.5 * bx, 0.9 * v + 0.5 * by, 6, 227);
    let broad = 0.5 + 0.5 * billows(0.6 * u - 2.0, 0.6 * v + 1.0, 3, 229);
    0.03 + 0.16 * (0.35 + 0.65 * broad) * wisps * wisps
}

/// Lean of the galaxy's disc against the sky, and where its long axis points.
const LEAN_COS: f64 = 0.52;
const AXIS_RAD: f64 = 0.55;

/// The galaxy's disc fades by e over this many units, and its arms open by this angle.
const DISC: f64 = 62.0;
const PITCH_TAN: f64 = 0.32;

fn weathervane(x: f64, y: f64) -> Light {
    let (dx, dy) = (x - MIDDLE.0, y - MIDDLE.1);
    let (s, c) = AXIS_RAD.sin_cos();
    let (along, across) = (dx * c + dy * s, (dy * c - dx * s) / LEAN_COS);
    let r = along.hypot(across);
    let fold = billows(0.02 * along, 0.02 * across, 4, 233);
    let angle = across.atan2(along);
    let wound = 2.0 * (angle - (r.max(4.0) / 12.0).ln() / PITCH_TAN) + 1.1 * fold;
    let arm = (0.5 + 0.5 * wound.cos()).powf(2.2) * step(10.0, 34.0, r);
    // Dust runs along the inner edge of each arm.
    let lane = (0.5 + 0.5 * (wound - 1.0).cos()).powf(6.0) * step(6.0, 22.0, r) * bell(r, 150.0);
    let through = (-1.1 * lane * (0.5 + ridges(0.05 * along, 0.05 * across, 4, 239))).exp();
    let disc = (-r / DISC).exp();
    let bulge = 6.0 * (1.0 + (along.hypot(across * 0.8) / 7.0).powi(2)).powf(-1.25);
    let grain = ridges(0.06 * along, 0.06 * across, 4, 241);
    let knots = step(
        0.70,
        0.92,
        ridges(0.075 * along + 3.0, 0.075 * across, 3, 251),
    );
    let old = (bulge + 0.85 * disc) * through;
    let young = 1.9 * arm * disc.powf(0.8) * (0.35 + 0.9 * grain * grain) * through;
    let ha = 1.5 * arm * knots * disc.powf(0.8) * through;
    [ha, 0.25 * ha, 0.2 * ha, young + dust(x, y), 1.0, old]
}

fn dark_cloud(x: f64, y: f64) -> Light {
    let (u, v) = ((x - MIDDLE.0) / 300.0, (y - MIDDLE.1) / 300.0);
    let (bx, by) = (billows(u, v, 5, 257), billows(u - 5.0, v + 2.0, 5, 263));
    let (p, q) = (u + 0.5 * bx, v + 0.45 * by);
    let body = 1.0 - step(0.25, 0.85, (0.55 * p).hypot(1.5 * q));
    let tendrils = step(0.55, 0.9, ridges(0.8 * p, 1.5 * q + 2.0, 5, 269)) * bell(q, 1.1);
    let thick = 2.6 * body + 1.0 * tendrils;
    let through = (-thick).exp();
    // The unresolved light of the field behind it, and its own faint rim.
    let field = 0.10 + 0.05 * billows(0.7 * u, 0.7 * v, 4, 271);
    let rim = 0.05 * bell(thick - 0.8, 0.5);
    [0.03 * through, 0.0, 0.0, rim, through, field * through]
}

/// Where the cluster's bright stars stand, about the middle, and how much each lights up.
const LAMPS: [(f64, f64, f64); 5] = [
    (-120.0, -40.0, 1.0),
    (70.0, -95.0, 0.7),
    (15.0, 60.0, 0.9),
    (160.0, 85.0, 0.6),
    (-60.0, 130.0, 0.5),
];

fn cluster(x: f64, y: f64) -> Light {
    let (dx, dy) = (x - MIDDLE.0, y - MIDDLE.1);
    let near: f64 = LAMPS
        .iter()
        .map(|(lx, ly, light)| light / (1.0 + ((dx - lx).powi(2) + (dy - ly).powi(2)) / 2500.0))
        .sum();
    let threads = ridges(0.008 * x + 0.002 * y, 0.012 * y, 5, 277);
    [0.0, 0.0, 0.0, 0.45 * near * threads * threads, 1.0, 0.0]
}
