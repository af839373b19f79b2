//! The sky behind a crowd of stars.
//!
//! Where stars stand so close that hardly a pixel is free of their wings, a clipped median lies above the sky: by two
//! noise widths at a star in ten pixels square, by five and more in a star cloud. The darkest pixels still show it: of
//! pure noise the lowest fiftieth and sixth lie 2.05 and 1 widths below its level, 1.05 apart. What they are farther
//! apart is starlight, and tells how much of it is under both. How much, was found on made-up crowds of one star in 400
//! to 50 pixels, where it leaves a tenth to nine tenths of a width. Noise is taken from the corners around the darkest
//! pixels, which stars' slopes reach least. Fields that are not crowded are left alone: a median is better known.

use crate::number::Convert;
use rayon::prelude::*;

use super::sky::SkyMesh;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, median, quantile};

/// A cell is crowded where its upper quartile lies so many times farther from the median than its lower one.
const SKEWED: f32 = 1.8;

/// A field is where so many of its cells are.
const MOST_CELLS: f64 = 0.6;

/// Cells that are asked first.
const ASKED: usize = 60;

/// Quantiles that are compared, how far below the level they lie in pure noise, and the correction for what they are
/// farther apart, in noise widths.
const LOW: (f64, f32) = (0.02, 2.054);
const HIGH: (f64, f32) = (0.16, 0.994);
const CORRECTION: (f32, f32) = (1.9, 0.45);

/// Of cells sorted by their noise this one's is taken.
const QUIETEST: f64 = 0.25;

/// Around pixels below this quantile of their cell there is least starlight.
const DARK: f64 = 0.12;

/// The mesh of a crowded field's sky; `None` for any other field.
pub(super) fn behind(plane: &Plane, mesh: &SkyMesh) -> Option<SkyMesh> {
    let (columns, rows) = mesh.shape();
    let cells = columns * rows;
    let values = |i: usize| mesh.values_of(plane, i);
    let stride = (cells / ASKED).max(1);
    let skewed: Vec<bool> = (0..cells)
        .into_par_iter()
        .step_by(stride)
        .filter_map(|i| {
            let mut v = values(i);
            let [a, b, c] = [0.25, 0.5, 0.75].map(|q| quantile(&mut v, q));
            (v.len() > 100 && b > a).then_some(c - b > SKEWED * (b - a))
        })
        .collect();
    let crowded = skewed.iter().filter(|s| **s).count().real();
    if skewed.is_empty() || crowded < MOST_CELLS * skewed.len().real() {
        return None;
    }
    let mut noises: Vec<f32> = (0..cells)
        .into_par_iter()
        .filter_map(|i| around_dark(plane, mesh.cell_rect(i)))
        .collect();
    let sigma = quantile(&mut noises, QUIETEST);
    let levels: Vec<f32> = (0..cells)
        .into_par_iter()
        .map(|i| {
            let mut v = values(i);
            let (low, high) = (quantile(&mut v, LOW.0), quantile(&mut v, HIGH.0));
            let apart = ((high - low) / sigma - (LOW.1 - HIGH.1)).max(0.0);
            low + sigma * (LOW.1 - CORRECTION.0 * apart / (1.0 + CORRECTION.1 * apart))
        })
        .collect();
    (sigma > 0.0).then(|| mesh.with_levels(&levels, sigma))
}

/// Noise of a cell by the corners around its darkest pixels, crosswise, so that slopes and what is bent one way drop out;
/// `None` with too little data. That a pixel is dark says nothing of its neighbours' noise.
fn around_dark(plane: &Plane, ([x0, x1], [y0, y1]): ([usize; 2], [usize; 2])) -> Option<f32> {
    let places =
        || (y0.whole()..y1.whole()).flat_map(|y| (x0.whole()..x1.whole()).map(move |x| (x, y)));
    let mut values: Vec<f32> = places()
        .map(|(x, y)| plane.at(x, y))
        .filter(|v| v.is_finite())
        .collect();
    let bar = quantile(&mut values, DARK);
    let mut sizes: Vec<f32> = places()
        .filter(|(x, y)| plane.at(*x, *y) <= bar)
        .filter_map(|(x, y)| {
            let at = |dx: i64, dy: i64| plane.at(x + dx, y + dy);
            let d = (at(-1, -1) + at(1, 1)) - (at(-1, 1) + at(1, -1));
            d.is_finite().then_some((0.5 * d).abs())
        })
        .collect();
    (sizes.len() > 50).then(|| median(&mut sizes) * MAD_TO_SIGMA.single())
}
