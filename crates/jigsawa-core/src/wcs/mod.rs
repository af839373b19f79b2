//! Where pixels lie on the sky: the gnomonic projection (TAN) with distortion polynomials (SIP).
//!
//! Calabretta & Greisen 2002, A&A 395, 1077 for the projection; Shupe et al. 2005, ADASS XIV, ASP Conf. 347,
//! 491 for the polynomials. The way back inverts the polynomials themselves; inverse ones that a header
//! may carry are only approximations and are not read. `agree` says which of several frames' words for
//! the sky to believe, `fit` makes one for the canvas. Proved in tests against the papers' own formulas, and
//! by `tools/check_wcs.py` against an independent implementation.

mod agree;
mod fit;
mod projection;
mod sip;

use crate::number::Convert;
use serde::{Deserialize, Serialize};

pub use agree::{AGREE_PX, Agreed, Claim, agreed, on_canvas};
pub use fit::{FitError, fit, fit_flat};
pub use projection::Projection;
pub use sip::Sip;

use crate::placement::{Map, Registration};
use crate::space::{FramePx, Point, ReferencePx, Size};

/// A place on the sky in degrees: right ascension from 0 to 360 and declination.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sky {
    /// Right ascension.
    pub ra_deg: f64,
    /// Declination.
    pub dec_deg: f64,
}

impl Sky {
    /// The angle between two places in degrees, exact for small ones, too.
    pub fn separation_deg(self, other: Self) -> f64 {
        let (a, b) = (self.unit(), other.unit());
        let cross = [
            a[1] * b[2] - a[2] * b[1],
            a[2] * b[0] - a[0] * b[2],
            a[0] * b[1] - a[1] * b[0],
        ];
        let dot: f64 = a.iter().zip(b).map(|(p, q)| p * q).sum();
        let sine = cross.iter().map(|c| c * c).sum::<f64>().sqrt();
        sine.atan2(dot).to_degrees()
    }

    fn unit(self) -> [f64; 3] {
        let (sd, cd) = self.dec_deg.to_radians().sin_cos();
        let (sa, ca) = self.ra_deg.to_radians().sin_cos();
        [cd * ca, cd * sa, sd]
    }
}

/// A world coordinate system: pixels to the sky by a tangent plane.
///
/// # Guarantees
/// All numbers are finite and the matrix can be inverted. Pixels count from 0 at the centre of the first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "Fields", into = "Fields")]
pub struct Wcs {
    fields: Fields,
    /// The inverse of `fields.matrix`.
    back: [[f64; 2]; 2],
}

/// The numbers of a WCS, as files keep them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Fields {
    /// The place on the sky where the tangent plane touches.
    pub touches: Sky,
    /// The pixel there.
    pub at: [f64; 2],
    /// Rows of the matrix from pixels to degrees on the tangent plane, x to the east, y to the north.
    pub matrix: [[f64; 2]; 2],
    /// Native longitude of the celestial pole: 180 degrees unless a header says otherwise.
    pub pole_deg: f64,
    /// Distortion of pixels before the matrix.
    pub sip: Option<Sip>,
    /// Name of the celestial reference system, as in ICRS.
    pub system: Option<String>,
    /// Equinox in years, for the older systems.
    pub equinox: Option<f64>,
    /// What kind of plane it is, for fields too wide for a tangent plane.
    #[serde(default)]
    pub projection: Projection,
}

impl TryFrom<Fields> for Wcs {
    type Error = &'static str;

    fn try_from(fields: Fields) -> Result<Self, Self::Error> {
        Self::new(fields).ok_or("its numbers make no world coordinate system")
    }
}

impl From<Wcs> for Fields {
    fn from(wcs: Wcs) -> Self {
        wcs.fields
    }
}

impl Wcs {
    /// A WCS of these numbers. `None` when one is not finite, or when the matrix cannot be inverted.
    pub fn new(fields: Fields) -> Option<Self> {
        let [[a, b], [c, d]] = fields.matrix;
        let det = a * d - b * c;
        let numbers = [
            fields.touches.ra_deg,
            fields.touches.dec_deg,
            fields.at[0],
            fields.at[1],
            fields.pole_deg,
            det,
        ];
        let sound = numbers.iter().all(|v| v.is_finite())
            && (1e-16..1.0).contains(&det.abs())
            && fields.touches.dec_deg.abs() <= 90.0
            && fields.sip.as_ref().is_none_or(Sip::is_sound);
        sound.then(|| Self {
            back: [[d / det, -b / det], [-c / det, a / det]],
            fields,
        })
    }

    /// The numbers.
    pub fn fields(&self) -> &Fields {
        &self.fields
    }

    /// The same sky for a grid whose (0, 0) is the point (`dx`, `dy`) of this one.
    #[must_use]
    pub fn shifted(&self, dx: f64, dy: f64) -> Self {
        let mut moved = self.clone();
        moved.fields.at[0] -= dx;
        moved.fields.at[1] -= dy;
        moved
    }

    /// Seconds of arc for a pixel, where the plane touches.
    pub fn arcsec_per_px(&self) -> f64 {
        let [[a, b], [c, d]] = self.fields.matrix;
        3600.0 * (a * d - b * c).abs().sqrt()
    }

    /// The sky at a pixel.
    pub fn sky<S>(&self, p: Point<S>) -> Sky {
        let f = &self.fields;
        let (u, v) = (p.x - f.at[0], p.y - f.at[1]);
        let (u, v) = f.sip.as_ref().map_or((u, v), |s| s.apply(u, v));
        let [[a, b], [c, d]] = f.matrix;
        let (x, y) = onto_tangent(f.projection, a * u + b * v, c * u + d * v);
        from_plane(f.touches, f.pole_deg, x, y)
    }

    /// The pixel at a place of the sky; `None` on the half of the sky that the plane does not show.
    pub fn pixel<S>(&self, sky: Sky) -> Option<Point<S>> {
        let f = &self.fields;
        let (x, y) = to_plane(f.touches, f.pole_deg, sky)?;
        let (x, y) = from_tangent(f.projection, x, y);
        let [[a, b], [c, d]] = self.back;
        let (u, v) = (a * x + b * y, c * x + d * y);
        let (u, v) = f.sip.as_ref().map_or((u, v), |s| s.undo(u, v));
        let p = Point::new(u + f.at[0], v + f.at[1]);
        (p.x.is_finite() && p.y.is_finite()).then_some(p)
    }

    /// Polynomials that undo the distortion on a grid of this size, to a hundredth of a pixel and better,
    /// for readers that want them beside those that make it. `None` without distortion.
    pub fn inverse_sip(&self, size: Size) -> Option<Sip> {
        fit::inverse_sip(&self.fields, size)
    }

    /// Direction of north at a pixel, as a unit vector in pixels; `None` at a pole.
    pub fn north<S>(&self, p: Point<S>) -> Option<[f64; 2]> {
        let here = self.sky(p);
        let step = self.arcsec_per_px() / 3600.0;
        let (up, down) = (
            Sky {
                dec_deg: (here.dec_deg + step).min(90.0),
                ..here
            },
            Sky {
                dec_deg: (here.dec_deg - step).max(-90.0),
                ..here
            },
        );
        let (a, b): (Point<S>, Point<S>) = (self.pixel(down)?, self.pixel(up)?);
        let length = a.distance(b);
        (length > 0.1).then(|| [(b.x - a.x) / length, (b.y - a.y) / length])
    }
}

/// The map between two frames by what their headers say of the sky, as a guess: affine, and good to what
/// distortion adds. `None` when the two look at different parts of the sky.
pub fn guess(
    (reference, reference_size): (&Wcs, Size),
    (frame, frame_size): (&Wcs, Size),
) -> Option<Registration> {
    const STEPS: usize = 5;
    let mut pairs = Vec::new();
    for j in 0..STEPS {
        for i in 0..STEPS {
            let part = |k: usize, n: usize| k.real() / (STEPS - 1).real() * (n.real() - 1.0);
            let from = Point::<ReferencePx>::new(
                part(i, reference_size.width()),
                part(j, reference_size.height()),
            );
            let to = frame.pixel::<FramePx>(reference.sky(from))?;
            pairs.push(crate::placement::Pair {
                from,
                to,
                weight: 1.0,
            });
        }
    }
    let map = Map::fit(crate::placement::Model::Affine, &pairs, None)?;
    let middle: Point<FramePx> = map.apply(reference_size.centre());
    let reach = 2.0 * frame_size.width().real().hypot(frame_size.height().real());
    let centre: Point<FramePx> = frame_size.centre();
    (middle.distance(centre) < reach).then_some(map)
}

/// A place of a plane, in degrees, on the tangent plane. What no such plane shows comes to lie far out.
fn onto_tangent(projection: Projection, x: f64, y: f64) -> (f64, f64) {
    let r = x.hypot(y).to_radians();
    if projection == Projection::Tangent || r < 1e-12 {
        return (x, y);
    }
    // Less than a right angle from the middle: beyond, the tangent plane has no places.
    let angle = projection.angle(r).unwrap_or(f64::INFINITY).min(1.57);
    let k = angle.tan() / r;
    (k * x, k * y)
}

/// And back.
fn from_tangent(projection: Projection, x: f64, y: f64) -> (f64, f64) {
    let r = x.hypot(y).to_radians();
    if projection == Projection::Tangent || r < 1e-12 {
        return (x, y);
    }
    let k = projection.distance(r.atan()) / r;
    (k * x, k * y)
}

/// The sky at a place of the tangent plane, in degrees from the point where it touches.
fn from_plane(touches: Sky, pole_deg: f64, x: f64, y: f64) -> Sky {
    // Standard coordinates; a pole elsewhere turns the plane.
    let (s, c) = (pole_deg - 180.0).to_radians().sin_cos();
    let (x, y) = (x.to_radians(), y.to_radians());
    let (xi, eta) = (c * x - s * y, s * x + c * y);
    let (sd, cd) = touches.dec_deg.to_radians().sin_cos();
    let below = cd - eta * sd;
    let ra = touches.ra_deg + xi.atan2(below).to_degrees();
    let dec = (sd + eta * cd).atan2(xi.hypot(below)).to_degrees();
    Sky {
        ra_deg: ra.rem_euclid(360.0),
        dec_deg: dec,
    }
}

/// The place on the tangent plane, in degrees.
fn to_plane(touches: Sky, pole_deg: f64, sky: Sky) -> Option<(f64, f64)> {
    let (sd, cd) = touches.dec_deg.to_radians().sin_cos();
    let (s, c) = sky.dec_deg.to_radians().sin_cos();
    let (sa, ca) = (sky.ra_deg - touches.ra_deg).to_radians().sin_cos();
    let towards = s * sd + c * cd * ca;
    if towards <= 1e-9 {
        return None;
    }
    let (xi, eta) = (c * sa / towards, (s * cd - c * sd * ca) / towards);
    let (sp, cp) = (pole_deg - 180.0).to_radians().sin_cos();
    let (x, y) = (cp * xi + sp * eta, -sp * xi + cp * eta);
    Some((x.to_degrees(), y.to_degrees()))
}

#[cfg(test)]
mod tests;
