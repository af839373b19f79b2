//! An overview of a picture of any size: it is read once, from which all later steps take their measure.

use crate::number::Convert;
use rayon::prelude::*;

use super::tile::Tile;
use crate::doors::{DoorError, FrameSource};
use crate::plane::Plane;
use crate::space::{Rect, Size};
use crate::stars::{Catalogue, DetectError, Settings, Star, WIDEST_PX, detect};

/// The three planes of a picture.
pub type Sources<'a> = [&'a dyn FrameSource; 3];

/// The small copy of a picture has at most so many pixels.
const SMALL_AREA: f64 = 1.5e6;

/// Stars are looked for on at most so many pixels; a larger picture is binned for it.
const STARS_AREA: f64 = 1.2e8;

/// Stars that are kept. Steps that spare stars need all that can be seen.
const MOST_STARS: usize = 20_000;

/// What an overview shows.
#[derive(Debug)]
pub struct Overview {
    /// The picture's size.
    pub size: Size,
    /// The planes, each pixel the mean of `factor` x `factor`.
    pub small: [Plane; 3],
    /// How many pixels of the picture are one of the small planes, along a side.
    pub factor: usize,
    /// The stars of the channels' mean, in pixels of the picture; none where there are none.
    pub stars: Option<Catalogue>,
    /// Which pixels of the small planes are covered by all channels everywhere.
    pub covered: Vec<bool>,
}

/// Why a picture cannot be looked at.
#[derive(Debug, thiserror::Error)]
pub enum OverviewError {
    /// It cannot be read.
    #[error(transparent)]
    Source(#[from] DoorError),
    /// Its channels have different sizes.
    #[error("its planes have different sizes")]
    Sizes,
    /// A channel has no value at all, red being 0.
    #[error("channel {0} has no value at all")]
    Empty(usize),
    /// All values of a channel are the same, red being 0.
    #[error("channel {0} has one value everywhere")]
    Constant(usize),
}

/// Reads the picture once, and looks for its stars.
///
/// # Errors
/// When a plane cannot be read, holds no value or one only.
pub fn overview(sources: Sources<'_>) -> Result<Overview, OverviewError> {
    overview_with(sources, None)
}

/// The same of a picture whose stars may be known already, as where they are to be taken out.
///
/// # Errors
/// As for [`overview`].
pub fn overview_with(
    sources: Sources<'_>,
    known: Option<&Catalogue>,
) -> Result<Overview, OverviewError> {
    let size = sources[0].size();
    if sources.iter().any(|s| s.size() != size) {
        return Err(OverviewError::Sizes);
    }
    let by = |most: f64| (size.area().real() / most).sqrt().ceil().index().max(1);
    let (factor, coarse) = (by(SMALL_AREA), by(STARS_AREA));
    let smaller = |k: usize| Size::new((size.width() / k).max(1), (size.height() / k).max(1));
    let (Some(small_size), Some(light_size)) = (smaller(factor), smaller(coarse)) else {
        return Err(OverviewError::Sizes);
    };
    let mut small: [Plane; 3] = std::array::from_fn(|_| Plane::filled(small_size, f32::NAN));
    let mut covered = vec![false; small_size.area()];
    // What stars are looked for in.
    let mut light = match known {
        Some(_) => None,
        None => Some(Plane::filled(light_size, f32::NAN)),
    };
    // Bands that are whole blocks of both: their pixels of either result belong to them alone.
    let rows = factor * coarse * 64usize.div_ceil(factor * coarse);
    let width = size.width();
    let [r, g, b] = &mut small;
    let rows_of = |k: usize, across: usize| rows / k * across;
    let light_bands: Vec<&mut [f32]> = match &mut light {
        Some(light) => {
            let band = rows_of(coarse, light_size.width());
            light.data_mut().chunks_mut(band).collect()
        }
        None => std::iter::repeat_with(Default::default)
            .take(size.height().div_ceil(rows))
            .collect(),
    };
    let pieces = (
        r.data_mut()
            .par_chunks_mut(rows_of(factor, small_size.width())),
        g.data_mut()
            .par_chunks_mut(rows_of(factor, small_size.width())),
        b.data_mut()
            .par_chunks_mut(rows_of(factor, small_size.width())),
        covered.par_chunks_mut(rows_of(factor, small_size.width())),
        light_bands,
    );
    pieces.into_par_iter().enumerate().try_for_each_init(
        || (Tile::default(), Vec::new()),
        |(tile, mean), (k, (r, g, b, covered, light))| -> Result<(), DoorError> {
            let rect = Rect {
                x: 0,
                y: (k * rows).whole(),
                width,
                height: rows.min(size.height() - k * rows),
            };
            tile.set(rect);
            for (source, plane) in sources.iter().zip(&mut tile.planes) {
                source.read(rect, plane)?;
            }
            for (out, plane) in [r, g, b].into_iter().zip(&tile.planes) {
                shrink(plane, width, factor, small_size.width(), out);
            }
            mean.resize(rect.area(), 0.0);
            for (i, m) in mean.iter_mut().enumerate() {
                *m = (tile.planes[0][i] + tile.planes[1][i] + tile.planes[2][i]) / 3.0;
            }
            whole(mean, width, factor, small_size.width(), covered);
            if !light.is_empty() {
                shrink(mean, width, coarse, light_size.width(), light);
            }
            Ok(())
        },
    )?;
    for (c, plane) in small.iter().enumerate() {
        let mut finite = plane.data().iter().filter(|v| v.is_finite());
        let Some(first) = finite.next() else {
            return Err(OverviewError::Empty(c));
        };
        if finite.all(|v| v == first) {
            return Err(OverviewError::Constant(c));
        }
    }
    let stars = match light {
        Some(light) => found(&light, coarse),
        None => known.cloned(),
    };
    Ok(Overview {
        size,
        small,
        factor,
        stars: stars.filter(|s| s.fwhm_px < WIDEST_PX),
        covered,
    })
}

/// The stars of a picture's light, each pixel of which is `coarse` of the picture's own wide.
fn found(light: &Plane, coarse: usize) -> Option<Catalogue> {
    let settings = Settings {
        most: MOST_STARS,
        ..Settings::default()
    };
    match detect(light, None, &settings) {
        Ok(found) => Some(in_pixels(found, coarse)),
        Err(DetectError::NoData | DetectError::Constant) => None,
    }
}

/// Means of blocks; missing pixels do not count.
fn shrink(plane: &[f32], width: usize, factor: usize, across: usize, out: &mut [f32]) {
    if factor == 1 {
        out.copy_from_slice(&plane[..out.len()]);
        return;
    }
    // Row by row, so that the sums of blocks beside each other do not wait for each other.
    let mut counts = vec![0.0f32; across];
    let blocks = out
        .chunks_exact_mut(across)
        .zip(plane.chunks(factor * width));
    for (sums, rows) in blocks {
        sums.fill(0.0);
        counts.fill(0.0);
        for row in rows.chunks_exact(width) {
            let of = sums.iter_mut().zip(&mut counts);
            for ((sum, n), run) in of.zip(row.chunks(factor)) {
                for v in run {
                    let there = v.is_finite();
                    *sum += if there { *v } else { 0.0 };
                    *n += if there { 1.0 } else { 0.0 };
                }
            }
        }
        for (sum, n) in sums.iter_mut().zip(&counts) {
            *sum = if *n > 0.0 { *sum / n } else { f32::NAN };
        }
    }
}

/// Blocks without a missing pixel.
fn whole(mean: &[f32], width: usize, factor: usize, across: usize, out: &mut [bool]) {
    for (y, row) in out.chunks_exact_mut(across).enumerate() {
        for (x, o) in row.iter_mut().enumerate() {
            *o = (0..factor).all(|dy| {
                let at = (y * factor + dy) * width + x * factor;
                mean.get(at..at + factor)
                    .is_some_and(|run| run.iter().all(|v| v.is_finite()))
            });
        }
    }
}

/// Stars found on means of blocks, in the picture's own pixels.
fn in_pixels(mut found: Catalogue, factor: usize) -> Catalogue {
    if factor > 1 {
        let k = factor.real();
        let own = |s: &Star| Star {
            at: crate::space::Point::new((s.at.x + 0.5) * k - 0.5, (s.at.y + 0.5) * k - 0.5),
            flux: s.flux * k * k,
            flux_sigma: s.flux_sigma * k * k,
            fwhm_px: s.fwhm_px * k,
            position_sigma_px: s.position_sigma_px * k,
            ..*s
        };
        found.stars = found.stars.iter().map(own).collect();
        found.fwhm_px *= k;
        found.growth = found.growth.map(|g| g.enlarged(k));
    }
    found
}
