//! Whose word for the sky to believe, when several frames of one canvas bring one.
//!
//! The frames' places on the canvas are known from their stars. Each WCS, taken through its frame's
//! placement, says where on the sky nine points of the canvas lie; those that say the same are believed.
//! A lone WCS cannot be checked and is taken as it is.

use super::{Sky, Wcs};
use crate::number::Convert;
use crate::placement::Placement;
use crate::space::{CanvasPx, Point, Size};

/// What one frame says.
#[derive(Debug, Clone, Copy)]
pub struct Claim<'a> {
    /// Its WCS.
    pub wcs: &'a Wcs,
    /// Where it lies on the canvas.
    pub placement: &'a Placement,
    /// Its pixels.
    pub size: Size,
}

/// Whom to believe.
#[derive(Debug, Clone, PartialEq)]
pub struct Agreed {
    /// The claim that most others agree with; the first of them.
    pub claim: usize,
    /// How far each claim is from it, in canvas pixels.
    pub apart_px: Vec<f64>,
}

/// Claims this near to each other, in canvas pixels, agree: solutions differ by a pixel and more.
pub const AGREE_PX: f64 = 3.0;

/// The claim that most agree with; earlier ones win ties, so the reference should come first. `None` without
/// claims.
pub fn agreed(claims: &[Claim<'_>], canvas: Size) -> Option<Agreed> {
    let said: Vec<Vec<Sky>> = claims.iter().map(|c| points(c, canvas)).collect();
    let apart = |i: usize, j: usize| {
        let px = claims[i].wcs.arcsec_per_px() / 3600.0
            * claims[i].placement.area_ratio(canvas.centre()).sqrt();
        let far = said[i]
            .iter()
            .zip(&said[j])
            .map(|(a, b)| a.separation_deg(*b));
        far.fold(0.0, f64::max) / px
    };
    let friends = |i: usize| {
        let near = |j: &usize| apart(i, *j) < AGREE_PX;
        (0..claims.len()).filter(near).count()
    };
    let best = (0..claims.len()).max_by_key(|i| (friends(*i), std::cmp::Reverse(*i)))?;
    Some(Agreed {
        claim: best,
        apart_px: (0..claims.len()).map(|j| apart(best, j)).collect(),
    })
}

/// The sky at nine points of the canvas.
fn points(claim: &Claim<'_>, canvas: Size) -> Vec<Sky> {
    let at = |k: usize, n: usize| k.real() / 2.0 * (n.real() - 1.0);
    (0..9)
        .map(|k| {
            let p = Point::<CanvasPx>::new(at(k % 3, canvas.width()), at(k / 3, canvas.height()));
            claim.wcs.sky(claim.placement.apply(p))
        })
        .collect()
}

/// The claim as a WCS of the canvas. `None` when the canvas is so wide that no plane holds it.
pub fn on_canvas(claim: &Claim<'_>, canvas: Size) -> Option<Wcs> {
    const STEPS: usize = 15;
    if let Some((dx, dy)) = claim.placement.whole_shift() {
        return Some(claim.wcs.shifted(dx.real(), dy.real()));
    }
    let at = |k: usize, n: usize| k.real() / (STEPS - 1).real() * (n.real() - 1.0);
    let places: Vec<(Point<CanvasPx>, Sky)> = (0..STEPS * STEPS)
        .map(|k| {
            let x = at(k % STEPS, canvas.width());
            let p = Point::new(x, at(k / STEPS, canvas.height()));
            (p, claim.wcs.sky(claim.placement.apply(p)))
        })
        .collect();
    super::fit(&places, canvas.centre(), claim.wcs.fields())
        .ok()
        .map(|(wcs, _)| wcs)
}
