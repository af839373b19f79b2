//! Where a mosaic lies on the sky: one WCS for the whole plane, from those of all panels that have one.
//!
//! The plane is what it is by its making, so the WCS needs no distortion; panels whose headers say otherwise than the
//! others are not believed.

use jigsawa_core::placement::Registration;
use jigsawa_core::space::{FramePx, Point, ReferencePx};
use jigsawa_core::wcs::{AGREE_PX, Projection, Sky, Wcs, fit_flat};

use crate::frames::Frame;

/// Places of one frame on the plane and on the sky.
struct Told {
    frame: usize,
    places: Vec<(Point<ReferencePx>, Sky)>,
}

/// The sky on the plane, and what is said of frames whose headers disagree. `on_plane` has the maps from the plane to
/// each frame; `centre` is where the plane touches.
pub fn sky_of_plane(
    frames: &[Frame],
    on_plane: &[Option<Registration>],
    centre: Point<ReferencePx>,
    projection: Projection,
) -> (Option<Wcs>, Vec<(usize, String)>) {
    let mut told: Vec<Told> = frames
        .iter()
        .zip(on_plane)
        .enumerate()
        .filter_map(|(frame, (f, map))| {
            let (wcs, back) = (f.facts.wcs.as_ref()?, map.as_ref()?.invert());
            let at = |k: usize, n: usize| k as f64 / 3.0 * (n as f64 - 1.0);
            let places = (0..16)
                .map(|k| {
                    let p = Point::<FramePx>::new(
                        at(k % 4, f.facts.size.width()),
                        at(k / 4, f.facts.size.height()),
                    );
                    (back.apply(p), wcs.sky(p))
                })
                .collect();
            Some(Told { frame, places })
        })
        .collect();
    let Some(first) = told.first() else {
        return (None, Vec::new());
    };
    let Some(like) = frames[first.frame]
        .facts
        .wcs
        .as_ref()
        .map(|w| w.fields().clone())
    else {
        return (None, Vec::new());
    };
    let mut disagreeing = Vec::new();
    loop {
        let all: Vec<(Point<ReferencePx>, Sky)> =
            told.iter().flat_map(|t| t.places.iter().copied()).collect();
        let Some(wcs) = fit_flat(&all, centre, projection, &like) else {
            return (None, disagreeing);
        };
        let off = |t: &Told| {
            let each = t.places.iter().map(|(p, sky)| {
                wcs.pixel::<ReferencePx>(*sky)
                    .map_or(f64::INFINITY, |q| q.distance(*p))
            });
            each.sum::<f64>() / t.places.len() as f64
        };
        let worst = (0..told.len()).max_by(|a, b| off(&told[*a]).total_cmp(&off(&told[*b])));
        match worst.filter(|w| told.len() > 2 && off(&told[*w]) > AGREE_PX) {
            None => return (Some(wcs), disagreeing),
            Some(w) => {
                let said = format!(
                    "its WCS is {:.0} px away from what the others say, who are believed",
                    off(&told[w])
                );
                disagreeing.push((told.remove(w).frame, said));
            }
        }
    }
}

/// The same sky on another grid of the plane: `to_grid` takes places of the plane to it.
pub fn moved<S>(
    wcs: &Wcs,
    centre: Point<ReferencePx>,
    around: &[Point<ReferencePx>],
    to_grid: &dyn Fn(Point<ReferencePx>) -> Point<S>,
) -> Option<Wcs> {
    let places: Vec<(Point<S>, Sky)> = around.iter().map(|p| (to_grid(*p), wcs.sky(*p))).collect();
    fit_flat(
        &places,
        to_grid(centre),
        wcs.fields().projection,
        wcs.fields(),
    )
}
