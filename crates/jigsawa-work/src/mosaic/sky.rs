//! Where a mosaic lies on the sky: one WCS for the whole plane, from those of all panels that have one.
//!
//! The plane is what it is by its making, so the WCS needs no distortion; panels whose headers say otherwise than the
//! others are not believed.

use jigsawa_core::number::Convert;
use jigsawa_core::placement::Registration;
use jigsawa_core::space::{FramePx, Point, ReferencePx};
use jigsawa_core::wcs::{AGREE_PX, Projection, Sky, Wcs, fit_flat};

use crate::frames::Frame;

/// Places of one frame on the plane and on the sky.
struct OnSky {
    frame: usize,
    places: Vec<(Point<ReferencePx>, Sky)>,
}

/// The sky on the plane, and what is said of frames whose headers disagree. `on_plane` has the maps from the plane to
/// each frame; `centre` is where the plane touches.
pub fn sky_of_plane(
    (frames, reference): (&[Frame], usize),
    on_plane: &[Option<Registration>],
    centre: Point<ReferencePx>,
    projection: Projection,
) -> (Option<Wcs>, Vec<(usize, String)>) {
    let mut told: Vec<OnSky> = frames
        .iter()
        .zip(on_plane)
        .enumerate()
        .filter_map(|(frame, (f, map))| {
            let (wcs, back) = (f.facts.wcs.as_ref()?, map.as_ref()?.invert());
            let at = |k: usize, n: usize| k.real() / 3.0 * (n.real() - 1.0);
            let places = (0..16)
                .map(|k| {
                    let p = Point::<FramePx>::new(
                        at(k % 4, f.facts.size.width()),
                        at(k / 4, f.facts.size.height()),
                    );
                    (back.apply(p), wcs.sky(p))
                })
                .collect();
            Some(OnSky { frame, places })
        })
        .collect();
    // Where nothing else decides the reference is believed.
    told.sort_by_key(|t| t.frame != reference);
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
    let mut disagreeing = voted_out(&mut told, frames, |places| {
        fit_flat(places, centre, projection, &like)
    });
    loop {
        let all: Vec<(Point<ReferencePx>, Sky)> =
            told.iter().flat_map(|t| t.places.iter().copied()).collect();
        let Some(wcs) = fit_flat(&all, centre, projection, &like) else {
            return (None, disagreeing);
        };
        let off = |t: &OnSky| {
            let each = t.places.iter().map(|(p, sky)| {
                wcs.pixel::<ReferencePx>(*sky)
                    .map_or(f64::INFINITY, |q| q.distance(*p))
            });
            each.sum::<f64>() / t.places.len().real()
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

/// A WCS that was solved alone is off by so much of the distance to another panel.
const FAR: f64 = 0.003;

/// Takes out the claims that most others contradict, and says so: each alone says where on the plane the others' places
/// lie. Fitted together a wrong one would pull the sky to itself.
fn voted_out(
    told: &mut Vec<OnSky>,
    frames: &[Frame],
    fit: impl Fn(&[(Point<ReferencePx>, Sky)]) -> Option<Wcs>,
) -> Vec<(usize, String)> {
    let alone: Vec<Option<Wcs>> = told.iter().map(|t| fit(&t.places)).collect();
    let apart = |i: usize, j: usize| -> f64 {
        let Some(wcs) = &alone[i] else {
            return f64::INFINITY;
        };
        let off = told[j].places.iter().map(|(p, sky)| {
            let there = wcs.pixel::<ReferencePx>(*sky);
            there.map_or(f64::INFINITY, |q| q.distance(*p))
        });
        off.fold(0.0, f64::max)
    };
    let agree = |i: usize, j: usize| {
        let between = told[i].places[0].0.distance(told[j].places[0].0);
        apart(i, j) < AGREE_PX + FAR * between
    };
    let all: Vec<usize> = (0..told.len()).collect();
    let friends = |i: usize| all.iter().filter(|j| agree(i, **j)).count();
    let Some(best) = all
        .iter()
        .copied()
        .max_by_key(|i| (friends(*i), std::cmp::Reverse(*i)))
    else {
        return Vec::new();
    };
    let out: Vec<bool> = all.iter().map(|j| !agree(best, *j)).collect();
    let lone = friends(best) < 2;
    let said: Vec<(usize, String)> = all
        .iter()
        .filter(|j| out[**j])
        .map(|j| {
            let px = apart(best, *j);
            let far = if px.is_finite() {
                format!("{px:.0} px away from")
            } else {
                "on another part of the sky than".to_owned()
            };
            let whom = if lone {
                format!(
                    "what '{}' says, and nothing tells which is right: that one is believed",
                    frames[told[best].frame].name()
                )
            } else {
                "what the others say, who are believed".to_owned()
            };
            (told[*j].frame, format!("its WCS is {far} {whom}"))
        })
        .collect();
    let mut k = 0;
    told.retain(|_| {
        k += 1;
        !out[k - 1]
    });
    said
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
