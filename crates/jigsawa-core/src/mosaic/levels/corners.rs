//! Outer corners: what no overlap of a panel is near to, its surface only guesses.

use crate::balance::surface::{Patch, fit_plainly};
use crate::balance::{Balance, Shape, both_skies};
use crate::robust::{MAD_TO_SIGMA, median, quantile};
use crate::space::{CanvasPx, Point};

use super::{Overlap, ToLevel};

/// A corner is unseen that is further than this part of the diagonal from all overlaps. A rise towards it is steep from
/// so many sigma on, and even where it is so many times what patches scatter beside it.
const UNSEEN: f64 = 0.3;
const STEEP: f64 = 5.0;
const EVEN: f64 = 1.0;

/// And it begins so near to the darkest sky of all, in sigma.
const BEGINS: f64 = 15.0;

/// By how much each frame, balanced, rises evenly towards an outer corner that no overlap is near to, in sigma:
/// moonlight, it may be, that nothing measures. What is rough there is nebula.
pub(super) fn unseen_change(
    frames: &[ToLevel<'_>],
    balances: &[Balance],
    overlaps: &[Overlap],
    anchor: usize,
) -> Vec<Option<f64>> {
    let noise = balances[anchor].scale.value * frames[anchor].sky.member.noise();
    let mut all: Vec<f32> = overlaps
        .iter()
        .flat_map(|o| o.patches.iter().map(|p| p.mean as f32))
        .collect();
    if all.is_empty() {
        return vec![None; frames.len()];
    }
    let dark = f64::from(quantile(&mut all, 0.05));
    let towards = |i: usize, corner: Point<CanvasPx>, near: f64| -> Option<f64> {
        let samples = &frames[i].sky.samples;
        let own: Vec<Patch> = both_skies(samples, samples)
            .into_iter()
            .filter(|p| p.at.distance(corner) < near)
            .map(|p| Patch {
                at: p.at,
                value: balances[i].apply(p.frame, p.at),
                weight: p.filled,
            })
            .collect();
        let plane = fit_plainly(Shape::Plane, &own, samples.lattice().canvas())?;
        let mut off: Vec<f32> = own
            .iter()
            .map(|p| (p.value - plane.at(p.at)).abs() as f32)
            .collect();
        let rough = f64::from(median(&mut off)) * MAD_TO_SIGMA;
        // A nebula that begins further in is no moonlight.
        let mut values: Vec<f32> = own.iter().map(|p| p.value as f32).collect();
        if values.is_empty() || f64::from(quantile(&mut values, 0.1)) > dark + BEGINS * noise {
            return None;
        }
        let far = own.iter().map(|p| plane.at(corner) - plane.at(p.at));
        let change = far.fold(0.0, f64::max);
        (change > STEEP * noise.max(EVEN * rough)).then_some(change / noise.max(1e-30))
    };
    let one = |i: usize| -> Option<f64> {
        let m = &frames[i].sky.member;
        let back = m.placement.invert();
        let corners = m.size.corners().map(|c| back.apply(c));
        let near = UNSEEN * corners[0].distance(corners[2]);
        let own = || overlaps.iter().filter(|o| o.a == i || o.b == i);
        let seen = |c: &Point<CanvasPx>| {
            own()
                .flat_map(|o| &o.patches)
                .any(|p| p.at.distance(*c) < near)
        };
        let changes = corners
            .into_iter()
            .filter(|c| !seen(c))
            .filter_map(|c| towards(i, c, near));
        changes.max_by(f64::total_cmp)
    };
    (0..frames.len()).map(one).collect()
}
