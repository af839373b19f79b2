//! The mean of what falls on each pixel of the canvas: the method for pixels that are dropped and not interpolated.

use super::stacked::Group;
use super::work::{cells, middle_of_cell};
use crate::merge::{Band, Row, TileOp};
use crate::number::Convert;

/// Planes of each group: the mean, how many values are in it by the area that they cover, and its noise.
pub const DROPPED_PLANES: usize = 3;

/// Averages what falls on each pixel. Nothing is judged here: its inputs are vetted before.
#[derive(Debug)]
pub struct Dropped {
    /// The groups.
    pub groups: Vec<Group>,
    /// Of each input: the variance of what falls on a pixel against that of one value of the frame.
    pub spreads: Vec<f32>,
}

impl TileOp for Dropped {
    fn planes(&self) -> usize {
        DROPPED_PLANES * self.groups.len()
    }

    /// A row alone: a band of one.
    fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]) {
        let width = out.first().map_or(0, |o| o.len());
        self.run_band(&Band::of_row(*row, width), out);
    }

    fn run_band(&self, band: &Band<'_>, out: &mut [&mut [f32]]) {
        for (group, out) in self.groups.iter().zip(out.chunks_exact_mut(DROPPED_PLANES)) {
            for plane in out.iter_mut() {
                plane.fill(0.0);
            }
            for (k, light) in group.inputs.clone().zip(&group.lights) {
                let values = band.runs.values[k];
                let coverage = band.runs.validity_of(k);
                for part in cells(band.rect) {
                    let (x, y) = middle_of_cell(part.x, part.y);
                    let (sigma, counts) = (light.noise.at(x, y), light.weight_at(x, y));
                    for y in part.y..part.bottom() {
                        let from = (y - band.rect.y).index() * band.rect.width;
                        let from = from + (part.x - band.rect.x).index();
                        for i in from..from + part.width {
                            let area = coverage[i];
                            if area > 0.0 && values[i].is_finite() {
                                let weight = counts * area;
                                let of = light.variance(sigma, values[i] - group.sky);
                                out[0][i] += weight * values[i];
                                out[1][i] += area;
                                out[2][i] += weight * weight * of * self.spreads[k];
                            }
                        }
                    }
                }
            }
            finish(group, band, out);
        }
    }
}

/// Sums into means.
fn finish(group: &Group, band: &Band<'_>, out: &mut [&mut [f32]]) {
    let [mean, _, noise] = out else { return };
    let mut counts = Vec::with_capacity(group.lights.len());
    for part in cells(band.rect) {
        let (x, y) = middle_of_cell(part.x, part.y);
        counts.clear();
        counts.extend(group.lights.iter().map(|l| l.weight_at(x, y)));
        for y in part.y..part.bottom() {
            let from = (y - band.rect.y).index() * band.rect.width;
            let from = from + (part.x - band.rect.x).index();
            for i in from..from + part.width {
                let mut weight = 0.0f32;
                for (k, counts) in group.inputs.clone().zip(&counts) {
                    if band.runs.values[k][i].is_finite() {
                        weight += counts * band.runs.validity_of(k)[i];
                    }
                }
                (mean[i], noise[i]) = if weight > 0.0 {
                    (mean[i] / weight, noise[i].sqrt() / weight)
                } else {
                    (f32::NAN, f32::NAN)
                };
            }
        }
    }
}
