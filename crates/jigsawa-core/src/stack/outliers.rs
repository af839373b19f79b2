//! Which values go: those far off in pixels that are in doubt, and what lies beside them.

use super::averages::OUTVOTE;
use super::column::{Column, Usual};
use super::judge::{Place, off};
use super::work::{BESIDE, CHANGE, Gone, Known, Work};
use crate::number::Convert;

/// Beside a rejected value others of its frame go from this part of their limit on.
const BESIDE_LIMIT: f32 = 0.5;

/// Where light changes by more noise widths from a pixel to the next, values go with their frame's seeing.
const STEEP: f32 = 3.0;

/// Values that tell how they go with the seeing, one of them an outlier.
const SEEING: usize = 5;

/// With the square of the stars' width a value goes by this part of the change of light at the most: seeing spreads light as heat
/// goes, by 1 / (16 ln 2) of its Laplacian for widths at half of the height, and that is four times the change at the most.
const WITH_WIDTH: f32 = 0.3;

impl Work<'_> {
    /// Finds the values that go.
    pub(super) fn reject(&self, known: &mut Known) {
        known.rejected.clear();
        let by_rank = self.group.rejection.rule.is_by_rank();
        let mut unsure = std::mem::take(&mut known.unsure);
        for (at, usual) in &mut unsure {
            let place = self.place(known, *at);
            if !by_rank && place.change > STEEP * usual.sigma {
                let mut column = std::mem::take(&mut known.column);
                *usual = self.by_width(*at, usual, place.change, &mut column);
                known.column = column;
            }
            let before = known.rejected.len();
            self.reject_at(*at, usual, place, &mut known.rejected);
            if by_rank {
                continue;
            }
            // Once more against the mean of what is left, which is surer than any middle value.
            if let Some(centre) = self.centre_without(*at, usual, &known.rejected[before..]) {
                usual.centre = centre;
                known.rejected.truncate(before);
                self.reject_at(*at, usual, place, &mut known.rejected);
            }
        }
        if !by_rank {
            self.beside(known, &unsure);
        }
        known.unsure = unsure;
        known.rejected.sort_unstable();
        known.rejected.dedup();
    }

    /// What is usual among the values of a pixel where light changes steeply, if there are enough of them.
    fn by_width(&self, at: usize, usual: &Usual, change: f32, column: &mut Column) -> Usual {
        self.gather(at, column);
        if column.values.len() < SEEING {
            return *usual;
        }
        let width = |k: u32| self.group.lights[k.index()].spread;
        let how = &self.group.rejection;
        column.usual_by_width(how, usual.sigma, width, WITH_WIDTH * change)
    }

    /// The mean of what frames of the middle width would show, without some frames.
    fn centre_without(&self, at: usize, usual: &Usual, rejected: &[Gone]) -> Option<f32> {
        let (x, y) = self.on_canvas(at);
        let (mut sum, mut weight) = (0.0f32, 0.0f32);
        for (k, (values, light)) in self.values.iter().zip(&self.group.lights).enumerate() {
            if values[at].is_finite() && rejected.iter().all(|r| r.1.index() != k) {
                let w = self.weight(k, x, y);
                sum += w * (values[at] - usual.of_width(light.spread));
                weight += w;
            }
        }
        (weight > 0.0).then(|| sum / weight)
    }

    fn reject_at(&self, at: usize, usual: &Usual, place: Place, into: &mut Vec<Gone>) {
        for k in 0..self.values.len() {
            let (limits, high) = self.off((k, at), usual, place);
            if limits > 1.0 {
                into.push((at, k.u32(), high));
            }
        }
    }

    /// Values beside rejected ones of the same frame that lie off as well.
    fn beside(&self, known: &mut Known, unsure: &[(usize, Usual)]) {
        let (width, height) = (self.around.width, self.around.height);
        let mut more = Vec::new();
        for (at, k, _) in &known.rejected {
            let (x, y) = (at % width, at / width);
            for row in y.saturating_sub(BESIDE)..(y + BESIDE + 1).min(height) {
                for column in x.saturating_sub(BESIDE)..(x + BESIDE + 1).min(width) {
                    let near = row * width + column;
                    if near == *at || known.count[near] < OUTVOTE {
                        continue;
                    }
                    let usual = match unsure.binary_search_by_key(&near, |(at, _)| *at) {
                        Ok(i) => unsure[i].1,
                        Err(_) => Usual::about(known.mean[near]),
                    };
                    let place = self.place(known, near);
                    let (limits, high) = self.off((k.index(), near), &usual, place);
                    if limits > BESIDE_LIMIT {
                        more.push((near, *k, high));
                    }
                }
            }
        }
        known.rejected.append(&mut more);
    }

    /// What surrounds a pixel.
    fn place(&self, known: &Known, at: usize) -> Place {
        let (width, height) = (self.around.width, self.around.height);
        let (x, y) = (at % width, at / width);
        let (mut low, mut high) = (f32::INFINITY, f32::NEG_INFINITY);
        for row in y.saturating_sub(CHANGE)..(y + CHANGE + 1).min(height) {
            let from = row * width;
            let near = from + x.saturating_sub(CHANGE)..from + (x + CHANGE + 1).min(width);
            for v in known.centre[near].iter().filter(|v| v.is_finite()) {
                (low, high) = (low.min(*v), high.max(*v));
            }
        }
        Place {
            light: (known.centre[at] - self.group.sky).max(0.0),
            change: (high - low).max(0.0),
        }
    }

    /// How far a frame's value lies off, in units of its limit; 0 for none.
    fn off(&self, (k, at): (usize, usize), usual: &Usual, place: Place) -> (f32, bool) {
        let value = self.values[k][at];
        if !value.is_finite() {
            return (0.0, false);
        }
        let (x, y) = self.on_canvas(at);
        let (light, sigma) = (&self.group.lights[k], self.sigma(k, x, y));
        let off = off(value, light, sigma, usual, place, &self.group.rejection);
        (off.limits, off.high)
    }
}
