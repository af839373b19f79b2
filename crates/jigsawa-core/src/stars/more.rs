//! A second look at a frame whose stars are taken out: for what they have hidden.
//!
//! What is left of the first stars is no star, and would tell a wrong width and a wrong shape; those of the first stars
//! are used.

use crate::number::Convert;
use rayon::prelude::*;

use super::filter::MatchedFilter;
use super::shape::{Shape, Shapes};
use super::{Catalogue, Settings, SkyMesh, Star};
use super::{find, flag_blends, flux, halved, measure};
use crate::plane::Plane;

/// What a second look finds.
#[derive(Debug, Default)]
pub struct More {
    /// Stars like those of the first look, from bright to faint.
    pub stars: Vec<Star>,
    /// What stands out as clearly as a bright star does and is too wide for one: a galaxy's core, a comet, a knot.
    pub wide: Vec<Star>,
}

/// What stands out this much, in errors of its light, would show if it were a star.
const CLEAR_SNR: f64 = 40.0;

/// Looks once more; nothing where nothing can be measured.
pub fn detect_more(plane: &Plane, first: &Catalogue, settings: &Settings) -> More {
    let Some(sky) = SkyMesh::measure(plane) else {
        return More::default();
    };
    let clean = first.clean().map(|s| Shape::of(s.elongation, s.angle_rad));
    let shape = Shape::common(&clean.collect::<Vec<_>>());
    let shapes = Shapes::over(&first.stars, shape);
    let (width, beta) = (first.fwhm_px, first.beta);
    let bar = settings.threshold_sigma.single();
    let found = if halved::is_better(plane, width) {
        halved::find(plane, &sky, (width, shape), bar)
    } else {
        find::find(plane, &sky, &MatchedFilter::shaped(width, shape), bar, 1)
    };
    let chosen = find::spread(found, plane, 1.2 * width, settings.most);
    let all: Vec<Star> = chosen
        .par_iter()
        .map_init(flux::Scratch::default, |scratch, c| {
            measure(plane, &sky, c, width, beta, None, scratch)
        })
        .flatten()
        .collect();
    let (mut stars, others): (Vec<Star>, Vec<Star>) =
        all.into_iter().partition(|s| shapes.allow(s, width));
    let wide = |s: &Star| s.fwhm_px > width && s.flux > CLEAR_SNR * s.flux_sigma;
    stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    flag_blends(&mut stars, 2.0 * width);
    let wide = others.into_iter().filter(wide).collect();
    More { stars, wide }
}
