//! A WCS for a grid, fitted to places that are known on it and on the sky.

use crate::number::Convert;
use nalgebra::{DMatrix, DVector};

use super::sip::Sip;
use super::{Fields, Projection, Sky, Wcs, from_tangent, to_plane};
use crate::placement::{powers_of, terms};
use crate::space::{Point, Size};

/// Error at which no higher order is tried, in pixels.
const GOOD_PX: f64 = 0.001;

/// The highest order that is tried.
const MOST_ORDER: u8 = 5;

/// Why there is no WCS.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FitError {
    /// Too few places, or all on a line.
    #[error("the known places do not fix a world coordinate system")]
    NotFixed,
    /// A place lies on the other half of the sky.
    #[error("the known places cover half the sky")]
    TooWide,
}

/// The WCS that brings these places together, touching the sky at pixel `centre`, and its largest error in
/// pixels. Distortion of the least order that brings the error below a thousandth of a pixel.
///
/// # Errors
/// When the places do not fix it.
pub fn fit<S>(
    places: &[(Point<S>, Sky)],
    centre: Point<S>,
    like: &Fields,
) -> Result<(Wcs, f64), FitError> {
    let touches = near(places, centre).ok_or(FitError::NotFixed)?;
    let mut touches = touches;
    let mut best: Option<(Wcs, f64)> = None;
    for order in 1..=MOST_ORDER {
        if places.len() < terms(order) + 1 {
            break;
        }
        // The plane should touch where the centre is seen, which a first fit tells.
        for _ in 0..2 {
            let (wcs, offset) = of_order(places, centre, touches, order, like)?;
            touches = offset;
            let error = worst(&wcs, places);
            if best.as_ref().is_none_or(|(_, e)| error < *e) {
                best = Some((wcs, error));
            }
        }
        if best.as_ref().is_some_and(|(_, e)| *e < GOOD_PX) {
            break;
        }
    }
    best.ok_or(FitError::NotFixed)
}

/// The WCS without distortion that brings these places together best, touching the sky at pixel `at`, on a plane of
/// this kind: for a grid that is such a plane by its making. `None` when the places do not fix it.
pub fn fit_flat<S>(
    places: &[(Point<S>, Sky)],
    at: Point<S>,
    projection: Projection,
    like: &Fields,
) -> Option<Wcs> {
    let mut touches = near(places, at)?;
    let mut found = None;
    let spread = places
        .iter()
        .map(|(p, _)| p.distance(at))
        .fold(1.0, f64::max);
    // Each round knows better where the plane touches.
    for _ in 0..6 {
        let mut normal = nalgebra::Matrix3::<f64>::zeros();
        let (mut east, mut north) = (nalgebra::Vector3::zeros(), nalgebra::Vector3::zeros());
        for (p, sky) in places {
            let (x, y) = to_plane(touches, 180.0, *sky)?;
            let (x, y) = from_tangent(projection, x, y);
            let row = nalgebra::Vector3::new(1.0, (p.x - at.x) / spread, (p.y - at.y) / spread);
            normal += row * row.transpose();
            east += row * x;
            north += row * y;
        }
        let inverse = normal.try_inverse()?;
        let (x, y) = (inverse * east, inverse * north);
        found = Wcs::new(Fields {
            touches,
            at: [at.x, at.y],
            matrix: [
                [x[1] / spread, x[2] / spread],
                [y[1] / spread, y[2] / spread],
            ],
            pole_deg: 180.0,
            sip: None,
            system: like.system.clone(),
            equinox: like.equinox,
            projection,
        });
        touches = super::from_plane(touches, 180.0, x[0], y[0]);
    }
    found
}

/// The polynomials from distorted to plain offsets, of one order more than those that distort.
pub(super) fn inverse_sip(fields: &Fields, size: Size) -> Option<Sip> {
    const STEPS: usize = 12;
    let sip = fields.sip.as_ref()?;
    let order = (sip.order + 1).min(super::sip::MOST_ORDER);
    let count = terms(order);
    let spread = size.width().real().hypot(size.height().real());
    let mut design = DMatrix::zeros(STEPS * STEPS, count);
    let (mut x, mut y) = (DVector::zeros(STEPS * STEPS), DVector::zeros(STEPS * STEPS));
    let mut row = vec![0.0; count];
    for k in 0..STEPS * STEPS {
        let at = |k: usize, n: usize| k.real() / (STEPS - 1).real() * (n.real() - 1.0);
        let u = at(k % STEPS, size.width()) - fields.at[0];
        let v = at(k / STEPS, size.height()) - fields.at[1];
        let (p, q) = sip.apply(u, v);
        powers_of(p / spread, q / spread, order, &mut row);
        design.row_mut(k).copy_from_slice(&row);
        (x[k], y[k]) = (u - p, v - q);
    }
    let qr = design.qr();
    let solve = |right: &DVector<f64>| -> Option<DVector<f64>> {
        qr.r().solve_upper_triangular(&(qr.q().transpose() * right))
    };
    let (a, b) = (solve(&x)?, solve(&y)?);
    let inverse = Sip::from_terms(order, |p, q| {
        let k = super::sip::place(p, q);
        let scale = spread.powi(-(p + q).i32());
        (a[k] * scale, b[k] * scale)
    });
    inverse.is_sound().then_some(inverse)
}

fn near<S>(places: &[(Point<S>, Sky)], centre: Point<S>) -> Option<Sky> {
    let closer = |a: &&(Point<S>, Sky), b: &&(Point<S>, Sky)| {
        a.0.distance(centre).total_cmp(&b.0.distance(centre))
    };
    places.iter().min_by(closer).map(|p| p.1)
}

fn worst<S>(wcs: &Wcs, places: &[(Point<S>, Sky)]) -> f64 {
    let off = |(p, sky): &(Point<S>, Sky)| {
        wcs.pixel::<S>(*sky)
            .map_or(f64::INFINITY, |q| q.distance(*p))
    };
    places.iter().map(off).fold(0.0, f64::max)
}

/// The fit of one order around a point of the sky, and the point of the sky that it puts at the centre.
fn of_order<S>(
    places: &[(Point<S>, Sky)],
    centre: Point<S>,
    touches: Sky,
    order: u8,
    like: &Fields,
) -> Result<(Wcs, Sky), FitError> {
    let count = terms(order);
    let spread = places
        .iter()
        .map(|(p, _)| p.distance(centre))
        .fold(1.0, f64::max);
    let mut design = DMatrix::zeros(places.len(), count);
    let (mut east, mut north) = (DVector::zeros(places.len()), DVector::zeros(places.len()));
    let mut row = vec![0.0; count];
    for (i, (p, sky)) in places.iter().enumerate() {
        let (u, v) = ((p.x - centre.x) / spread, (p.y - centre.y) / spread);
        powers_of(u, v, order, &mut row);
        design.row_mut(i).copy_from_slice(&row);
        (east[i], north[i]) = to_plane(touches, 180.0, *sky).ok_or(FitError::TooWide)?;
    }
    let qr = design.qr();
    let solve = |right: &DVector<f64>| -> Option<Vec<f64>> {
        let solved = qr
            .r()
            .solve_upper_triangular(&(qr.q().transpose() * right))?;
        Some(solved.as_slice().to_vec())
    };
    let (x, y) = solve(&east).zip(solve(&north)).ok_or(FitError::NotFixed)?;
    let matrix = [
        [x[1] / spread, x[2] / spread],
        [y[1] / spread, y[2] / spread],
    ];
    let [[a, b], [c, d]] = matrix;
    let det = a * d - b * c;
    let sip = (order > 1).then(|| {
        Sip::from_terms(order, |p, q| {
            if p + q < 2 {
                return (0.0, 0.0);
            }
            let k = super::sip::place(p, q);
            let scale = spread.powi(-(p + q).i32());
            let (x, y) = (x[k] * scale, y[k] * scale);
            ((d * x - b * y) / det, (a * y - c * x) / det)
        })
    });
    let wcs = Wcs::new(Fields {
        touches,
        at: [centre.x, centre.y],
        matrix,
        pole_deg: 180.0,
        sip,
        system: like.system.clone(),
        equinox: like.equinox,
        projection: Projection::Tangent,
    })
    .ok_or(FitError::NotFixed)?;
    let seen = super::from_plane(touches, 180.0, x[0], y[0]);
    Ok((wcs, seen))
}
