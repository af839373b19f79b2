//! The mean of all values of each pixel, and which pixels have some that lie far off.

use std::ops::Range;

use super::column::{Column, Usual};
use super::residuals::{Residuals, Sums};
use super::rule::Rule;
use super::stacked::Pass;
use super::strip::{OfFrame, Strip, error, mark_beyond};
use super::work::{Known, Work, cells};
use crate::number::Convert;
use crate::space::Rect;

/// Fewest values of a pixel among which one is outvoted.
pub(super) const OUTVOTE: f32 = 3.0;

/// Values of a cell that noise alone rejects, as a part of all, and some more.
const USUAL: f32 = 0.002;
const MANY: f32 = 16.0;

impl Work<'_> {
    /// Means of all pixels, cell by cell of the canvas.
    pub(super) fn averages(&self, known: &mut Known) {
        let residuals = match &self.stacked.pass {
            Pass::First(residuals) => Some(residuals),
            Pass::Without(_) => None,
        };
        let around = self.around;
        for plane in [
            &mut known.centre,
            &mut known.mean,
            &mut known.count,
            &mut known.error,
        ] {
            plane.resize(around.area(), 0.0);
        }
        known.unsure.clear();
        let mut frames = vec![OfFrame::default(); self.values.len()];
        let mut strip = Strip::new();
        for cell in cells(around) {
            for (k, (frame, light)) in frames.iter_mut().zip(&self.group.lights).enumerate() {
                *frame = OfFrame {
                    weight: self.weight(k, cell.x, cell.y),
                    variance: self.sigma(k, cell.x, cell.y).powi(2),
                    photons: light.photons,
                    flat: light.of_flat * light.of_flat,
                };
            }
            // Around the band, and beyond the canvas's last row and column, pixels are none of its blocks.
            let inside = cell.intersect(self.band.rect);
            known.sums.clear();
            known.sums.resize(frames.len(), Sums::NONE);
            for row in 0..cell.height {
                let y = (cell.y - around.y).index() + row;
                let from = y * around.width + (cell.x - around.x).index();
                self.strip(from..from + cell.width, &frames, &mut strip, known);
                if residuals.is_some() && row < inside.height {
                    let here = from..from + inside.width;
                    let all = known.sums.iter_mut().zip(self.values).zip(&frames);
                    for ((sums, values), frame) in all {
                        let sigma = frame.variance.sqrt();
                        sums.add(&values[here.clone()], &strip.mean[..inside.width], sigma);
                    }
                }
            }
            if let Some(residuals) = residuals.filter(|_| !inside.is_empty()) {
                self.keep(inside, known, residuals);
            }
        }
        known.unsure.sort_unstable_by_key(|(at, _)| *at);
    }

    /// Keeps how far each frame lies off over the blocks of a cell.
    fn keep(&self, cell: Rect, known: &Known, residuals: &Residuals) {
        for (k, sums) in known.sums.iter().enumerate() {
            residuals.put(self.group.inputs.start + k, cell, sums);
        }
    }

    /// How far each frame lies off the mean of what was kept, once more for cells in which much was not: a bright trail of one
    /// frame is a dark one of all others while it is in the mean.
    pub(super) fn residuals(&self, known: &mut Known, residuals: &Residuals) {
        let (around, rect) = (self.around, self.band.rect);
        let spoilt: Vec<Rect> = cells(rect).filter(|c| self.is_spoilt(*c, known)).collect();
        for cell in spoilt {
            known.sums.clear();
            known.sums.resize(self.values.len(), Sums::NONE);
            for (k, (values, sums)) in self.values.iter().zip(&mut known.sums).enumerate() {
                let sigma = self.sigma(k, cell.x, cell.y);
                for row in 0..cell.height {
                    let y = (cell.y - around.y).index() + row;
                    let from = y * around.width + (cell.x - around.x).index();
                    let here = from..from + cell.width;
                    sums.add(&values[here.clone()], &known.mean[here], sigma);
                }
            }
            self.keep(cell, known, residuals);
        }
    }

    /// Was more rejected in a cell than noise alone has?
    fn is_spoilt(&self, cell: Rect, known: &Known) -> bool {
        let around = self.around;
        let (x, y) = ((cell.x - around.x).index(), (cell.y - around.y).index());
        let rejected = (y..y + cell.height).map(|y| {
            let from = y * around.width + x;
            let first = known.rejected.partition_point(|r| r.0 < from);
            let end = known.rejected.partition_point(|r| r.0 < from + cell.width);
            end - first
        });
        let usual = USUAL * (cell.area() * self.values.len()).single();
        rejected.sum::<usize>().single() > MANY + usual
    }

    fn strip(&self, here: Range<usize>, frames: &[OfFrame], strip: &mut Strip, known: &mut Known) {
        let how = &self.group.rejection;
        let values = self.values.iter().map(|v| &v[here.clone()]);
        strip.average(here.len(), frames, values, self.group.sky);
        let judged = how.rule != Rule::None;
        if judged && !how.rule.is_by_rank() {
            for (values, frame) in self.values.iter().zip(frames) {
                mark_beyond(&values[here.clone()], *frame, how.least(), strip);
            }
        }
        for (i, at) in here.enumerate() {
            known.mean[at] = strip.mean[i];
            known.centre[at] = strip.mean[i];
            known.count[at] = strip.count[i];
            known.error[at] = error(strip, i);
            let doubtful = strip.beyond[i] > 0.0 || how.rule.is_by_rank();
            if judged && doubtful && strip.count[i] >= OUTVOTE {
                let usual = self.usual(at, frames, &mut known.column);
                known.centre[at] = usual.centre;
                known.unsure.push((at, usual));
            }
        }
    }

    /// What is usual among the values of a pixel.
    fn usual(&self, at: usize, frames: &[OfFrame], column: &mut Column) -> Usual {
        self.gather(at, column);
        let own = column.values.iter().map(|v| frames[v.1.index()].variance);
        let quietest = own.fold(f32::INFINITY, f32::min);
        column.usual(&self.group.rejection, quietest.sqrt())
    }

    /// The values of a pixel that are there.
    pub(super) fn gather(&self, at: usize, column: &mut Column) {
        column.values.clear();
        let all = (0u32..).zip(self.values).map(|(k, values)| (values[at], k));
        column.values.extend(all.filter(|v| v.0.is_finite()));
    }
}
