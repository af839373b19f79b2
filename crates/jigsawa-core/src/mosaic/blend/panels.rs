//! The method of a merge that joins panels.

use super::{Join, Share};
use crate::merge::{Averaged, LeftOut, Overlay, Row, TileOp};
use crate::space::Rect;

/// Joins panels. Its fields are the weights of each panel, and what is added after joining.
#[derive(Debug)]
pub struct JoinPanels<'a> {
    /// What joins them.
    pub join: &'a Join,
    /// The panel of each frame and how much the frame counts in it.
    pub frames: &'a [(usize, f32)],
    /// Panels.
    pub panels: usize,
    /// Noise of a pixel of each frame, balanced.
    pub noise: &'a [f32],
    /// The balanced sky's level.
    pub sky: f32,
    /// Should the result have a second plane, its noise, and a third: how many frames each pixel rests on?
    pub maps: bool,
    /// Counts what one of three or more frames of a panel alone shows, which is left out.
    pub left_out: &'a LeftOut,
}

impl TileOp for JoinPanels<'_> {
    fn planes(&self) -> usize {
        if self.maps { 3 } else { 1 }
    }

    fn wants(&self, input: usize, tile: Rect) -> bool {
        self.join.present(self.frames[input].0, tile)
    }

    fn overlays(&self) -> usize {
        self.panels + 1
    }

    fn overlay(&self, overlay: usize, tile: Rect) -> Overlay {
        if overlay == self.panels {
            self.join.correction_on(tile)
        } else {
            self.join.weights_on(overlay, tile)
        }
    }

    fn fill(&self, overlay: usize, rect: Rect, out: &mut [f32]) {
        if overlay == self.panels {
            self.join.correction(rect, out);
        } else {
            self.join.weights(overlay, rect, out);
        }
    }

    fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]) {
        let (n, frames) = (self.frames.len(), row.values);
        let (weights, correction) = row.overlays.split_at(self.panels);
        let Some((value, maps)) = out.split_first_mut() else {
            return;
        };
        let there: Vec<usize> = (0..n).filter(|k| !frames[*k].is_empty()).collect();
        if let ([k], true) = (there.as_slice(), maps.is_empty())
            && self.join.share == Share::Seam
        {
            value.copy_from_slice(frames[*k]);
        } else {
            let kept = self.kept(&there, frames);
            let run = |k: usize| match &kept[k] {
                Some(run) => run,
                None => frames[k],
            };
            let frames: Vec<&[f32]> = (0..n).map(run).collect();
            self.several(&there, (&frames, weights), value, maps);
        }
        if let Some(correction) = correction.first().filter(|c| !c.is_empty()) {
            for (v, c) in value.iter_mut().zip(*correction) {
                *v += c;
            }
        }
    }
}

impl JoinPanels<'_> {
    /// Of panels with enough frames their runs without outliers.
    fn kept(&self, there: &[usize], frames: &[&[f32]]) -> Vec<Option<Vec<f32>>> {
        let mut kept: Vec<Option<Vec<f32>>> = vec![None; frames.len()];
        for own in there.chunk_by(|a, b| self.frames[*a].0 == self.frames[*b].0) {
            let averaged = Averaged {
                runs: &own.iter().map(|k| frames[*k]).collect::<Vec<_>>(),
                weights: &own.iter().map(|k| self.frames[*k].1).collect::<Vec<_>>(),
                noise: &own.iter().map(|k| self.noise[*k]).collect::<Vec<_>>(),
                sky: self.sky,
            };
            for (k, run) in own
                .iter()
                .zip(averaged.kept(self.left_out).into_iter().flatten())
            {
                kept[*k] = Some(run);
            }
        }
        kept
    }

    fn several(
        &self,
        there: &[usize],
        (frames, weights): (&[&[f32]], &[&[f32]]),
        value: &mut [f32],
        maps: &mut [&mut [f32]],
    ) {
        let mut noise2 = vec![0.0f32; if maps.is_empty() { 0 } else { value.len() }];
        let mut counts = vec![0.0f32; noise2.len()];
        for (i, v) in value.iter_mut().enumerate() {
            let (mut sum, mut all, mut square, mut count) = (0.0f32, 0.0f32, 0.0f32, 0.0f32);
            // What one frame alone shows is its value to the bit.
            let (mut alone, mut panels) = (f32::NAN, 0);
            let mut from = 0;
            while from < there.len() {
                // The frames of one panel stand together.
                let panel = self.frames[there[from]].0;
                let to = there[from..]
                    .iter()
                    .position(|k| self.frames[*k].0 != panel)
                    .map_or(there.len(), |n| from + n);
                let share = weights[panel].get(i).copied().unwrap_or(0.0);
                let (mut own, mut own_all, mut own_square, mut own_count) =
                    (0.0f32, 0.0f32, 0.0f32, 0.0f32);
                let mut last = f32::NAN;
                for k in &there[from..to] {
                    let (x, w) = (frames[*k][i], self.frames[*k].1);
                    if x.is_finite() {
                        last = x;
                        own += w * x;
                        own_all += w;
                        own_count += 1.0;
                        own_square += (w * self.noise[*k]).powi(2);
                    }
                }
                // In a mean a panel counts by what its frames are worth together.
                let share = match self.join.share {
                    Share::Seam => share,
                    Share::Average => share * own_all,
                };
                if own_all > 0.0 && share > 0.0 {
                    let mean = if own_count == 1.0 {
                        last
                    } else {
                        own / own_all
                    };
                    (alone, panels) = (mean, panels + 1);
                    sum += share * mean;
                    all += share;
                    count += own_count;
                    square += share * share * own_square / (own_all * own_all);
                }
                from = to;
            }
            *v = if panels > 1 { sum / all } else { alone };
            if !maps.is_empty() {
                noise2[i] = if all > 0.0 {
                    square / (all * all)
                } else {
                    f32::NAN
                };
                counts[i] = count;
            }
        }
        if let [noise, frames] = maps {
            for (o, n) in noise.iter_mut().zip(&noise2) {
                *o = n.sqrt();
            }
            frames.copy_from_slice(&counts);
        }
    }
}
