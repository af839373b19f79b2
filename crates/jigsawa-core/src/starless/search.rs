//! The stars of a picture found, and once more what the first ones have hidden.
//!
//! Where another picture of the canvas has told its stars, as the broadband of a field does for its lines, those of them
//! that are too faint to be found here are known nevertheless.

use crate::number::Convert;
use rayon::prelude::*;

use super::light::StarLight;
use super::measure::Shared;
use super::removal::Removal;
use super::window::Windows;
use super::{Planes, STRIP, Stars, plateau};
use crate::doors::{DoorError, FrameSource};
use crate::finish::smooth;
use crate::plane::Plane;
use crate::space::{FramePx, Point, Rect};
use crate::stars::{
    Catalogue, DetectError, Flag, Settings, SkyMesh, Star, WIDEST_PX, detect, detect_more,
};

/// Stars are looked for down to this height over the noise, and so many of them at the most.
const FIND_SIGMA: f64 = 4.0;
const MOST_STARS: usize = 60_000;

/// Stars of two pictures that are nearer than this, in widths, are one.
const APART: f64 = 0.7;

/// Why a picture cannot be taken apart.
#[derive(Debug, thiserror::Error)]
pub enum FindError {
    /// It cannot be read.
    #[error(transparent)]
    Source(#[from] DoorError),
    /// It has nothing to measure.
    #[error(transparent)]
    Detect(#[from] DetectError),
}

/// Finds the stars of a picture, once more what the first ones have hidden (the fainter of close pairs), and measures
/// their light.
///
/// # Errors
/// When a plane cannot be read, or holds nothing or one value only.
pub fn find(planes: Planes<'_>) -> Result<(Catalogue, Stars), FindError> {
    search(planes, None)
}

/// The same with the help of another picture on this canvas, whose stars are `known`: those of them that are not found here
/// are measured where they should be, and taken for stars where they stand over the noise.
///
/// # Errors
/// As for [`find`].
pub fn find_with(planes: Planes<'_>, known: &Catalogue) -> Result<(Catalogue, Stars), FindError> {
    search(planes, Some(known))
}

fn search(planes: Planes<'_>, known: Option<&Catalogue>) -> Result<(Catalogue, Stars), FindError> {
    let settings = Settings {
        threshold_sigma: FIND_SIGMA,
        lowest_sigma: FIND_SIGMA,
        most: MOST_STARS,
        ..Settings::default()
    };
    let mean = mean(planes)?;
    let flat = without_nebula(&mean).ok_or(DetectError::NoData)?;
    let mut found = detect(&flat, None, &settings)?;
    drop(flat);
    let mut windows = Windows::default();
    if found.fwhm_px > WIDEST_PX {
        found.stars.clear();
        let none = Stars::measure_in(planes, (&found, &[]), &mut windows)?;
        return Ok((found, none));
    }
    let overlooked = plateau::overlooked(&mean, &found);
    found.stars.extend(overlooked);
    found.stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    let mut shared = Shared::measure(&[&mean], &found)?;
    let noise = shared.noise[0];
    // What a star hides is judged by the noise of one plane, as it will be when its light is taken off each.
    shared.noise[0] *= planes.len().single().sqrt();
    let others = known.map_or_else(Vec::new, |k| not_found(&k.stars, &found));
    let first = Stars::with(shared, &[&mean], (&found.stars, &others), &mut windows)?;
    // What is left after the first stars.
    let mut behind = Plane::filled(mean.size(), 0.0);
    let seen: [&dyn FrameSource; 1] = [&mean];
    let mut removal = Removal::for_search(&first, &seen, windows);
    while let Some(rows) = removal.next()? {
        let from = rows.rect.y.index() * rows.rect.width;
        behind.data_mut()[from..from + rows.rect.area()].copy_from_slice(rows.starless[0]);
    }
    windows = removal.into_windows();
    drop(mean);
    let shown = first
        .lights
        .iter()
        .filter(|s| s.late && s.shows(noise, found.fwhm_px));
    let (mut late, mut wide): (Vec<Star>, _) = (shown.map(StarLight::star).collect(), 0);
    if let Some(flat) = without_nebula(&behind) {
        drop(behind);
        let more = detect_more(&flat, &found, &settings);
        let new = |s: &&Star| !first.hides(s.at);
        wide = more.wide.iter().filter(new).count();
        late.extend(more.stars.iter().filter(new));
    }
    let mut stars = Stars::measure_in(planes, (&found, &late), &mut windows)?;
    stars.wide = wide;
    found.stars.extend(late);
    found.stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    Ok((found, stars))
}

/// Those of another picture's stars that have none of this one's beside them.
fn not_found(known: &[Star], found: &Catalogue) -> Vec<Star> {
    let far = APART * found.fwhm_px;
    let mut own: Vec<Point<FramePx>> = found.stars.iter().map(|s| s.at).collect();
    own.sort_by(|a, b| a.y.total_cmp(&b.y));
    let beside = |at: Point<FramePx>| {
        let first = own.partition_point(|o| o.y < at.y - far);
        let mut near = own[first..].iter().take_while(|o| o.y <= at.y + far);
        near.any(|o| o.distance(at) < far)
    };
    let new = known.iter().filter(|s| !beside(s.at)).copied();
    // What is saturated there is not here, where nobody has found it.
    new.map(|s| Star {
        flags: s.flags.without(Flag::Saturated),
        ..s
    })
    .collect()
}

/// The mean of a picture's planes.
fn mean(planes: Planes<'_>) -> Result<Plane, DoorError> {
    let size = planes[0].size();
    let width = size.width();
    let mut mean = Plane::filled(size, 0.0);
    let share = 1.0 / planes.len().single();
    let strips = mean.data_mut().par_chunks_mut(STRIP * width).enumerate();
    strips.try_for_each_init(Vec::new, |other, (i, strip)| {
        let rect = Rect {
            x: 0,
            y: (i * STRIP).whole(),
            width,
            height: strip.len() / width,
        };
        other.resize(strip.len(), 0.0);
        for (p, plane) in planes.iter().enumerate() {
            if p == 0 {
                plane.read(rect, strip)?;
                continue;
            }
            plane.read(rect, other)?;
            for (m, v) in strip.iter_mut().zip(other.iter()) {
                *m += v;
            }
        }
        for m in strip {
            *m *= share;
        }
        Ok::<(), DoorError>(())
    })?;
    Ok(mean)
}

/// Scales that are taken off before stars are looked for: nebulae of sixteen pixels and more.
const NEBULA_SCALES: usize = 4;

/// What stands higher than this over the sky, in its noise, is star or core for the nebula's sake.
const NEBULA_SIGMA: f32 = 8.0;

/// A picture less its larger structures, in which faint stars before a nebula can be found: the noise of a bright
/// nebula's folds would hide them.
pub fn without_nebula(mean: &Plane) -> Option<Plane> {
    let sky = SkyMesh::measure(mean)?;
    let size = mean.size();
    let width = size.width();
    let bar = NEBULA_SIGMA * sky.typical_sigma();
    let mut smoothed = vec![0.0f32; size.area()];
    smoothed.par_chunks_mut(width).enumerate().for_each_init(
        || vec![0.0; width],
        |level, (y, row)| {
            sky.level_row(y, level);
            for ((o, v), l) in row.iter_mut().zip(mean.row(y)).zip(level.iter()) {
                *o = if v.is_finite() { v.min(l + bar) } else { *l };
            }
        },
    );
    let (mut other, mut spare) = (vec![0.0; size.area()], vec![0.0; size.area()]);
    for j in 0..NEBULA_SCALES {
        smooth(&smoothed, &mut other, &mut spare, width, 1 << j);
        std::mem::swap(&mut smoothed, &mut other);
    }
    let rows = smoothed
        .par_chunks_mut(width)
        .zip(mean.data().par_chunks(width));
    rows.for_each(|(row, own)| {
        for (s, v) in row.iter_mut().zip(own) {
            *s = v - *s;
        }
    });
    Plane::new(size, smoothed)
}
