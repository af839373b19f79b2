//! The stars of a picture found, and once more what the first ones have hidden.
//!
//! Where another picture of the canvas has told its stars, as the broadband of a field does for its lines, they are known
//! here, too: only what that one does not show is looked for.

use rayon::prelude::*;

use super::measure::Shared;
use super::removal::Removal;
use super::window::Windows;
use super::{Planes, Stars, plateau};
use crate::doors::{DoorError, FrameSource};
use crate::finish::smooth;
use crate::plane::Plane;
use crate::stars::{
    Catalogue, DetectError, Settings, SkyMesh, Star, WIDEST_PX, detect, detect_more,
};

/// Stars are looked for down to this height over the noise, and so many of them at the most.
const FIND_SIGMA: f64 = 4.0;
const MOST_STARS: usize = 60_000;

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

/// The same where the stars of another picture on this canvas are `known`: they are measured, and others looked for.
///
/// # Errors
/// As for [`find`].
pub fn find_others(planes: Planes<'_>, known: &Catalogue) -> Result<(Catalogue, Stars), FindError> {
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
    let mut found = match known {
        None => {
            let flat = without_nebula(&mean).ok_or(DetectError::NoData)?;
            detect(&flat, None, &settings)?
        }
        Some(known) => here(known, &mean)?,
    };
    let mut windows = Windows::default();
    if found.fwhm_px > WIDEST_PX {
        found.stars.clear();
        let none = Stars::measure_in(planes, (&found, &[]), &mut windows)?;
        return Ok((found, none));
    }
    let overlooked = plateau::overlooked(&mean, &found);
    found.stars.extend(overlooked);
    found.stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    let mut shared = Shared::measure(&[&mean], &found, &mut windows)?;
    let noise = shared.noise[0];
    // What a star hides is judged by the noise of one plane, as it will be when its light is taken off each.
    shared.noise[0] *= (planes.len() as f32).sqrt();
    let first = Stars::with(shared, &[&mean], (&found.stars, &[]), &mut windows)?;
    // What is left after the first stars.
    let mut behind = Plane::filled(mean.size(), 0.0);
    let seen: [&dyn FrameSource; 1] = [&mean];
    let mut removal = Removal::for_search(&first, &seen, windows);
    while let Some(rows) = removal.next()? {
        let from = rows.rect.y as usize * rows.rect.width;
        behind.data_mut()[from..from + rows.rect.area()].copy_from_slice(rows.starless[0]);
    }
    windows = removal.into_windows();
    drop(mean);
    if known.is_some() {
        let width = found.fwhm_px;
        let shown = first.lights.iter().filter_map(|s| s.shown(noise, width));
        found.stars = shown.collect();
        found.stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    }
    let (mut late, mut wide) = (Vec::new(), 0);
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

/// Another picture's catalogue with this one's sky, and with the width that its stars have here.
fn here(known: &Catalogue, mean: &Plane) -> Result<Catalogue, FindError> {
    let sky = SkyMesh::measure(mean).ok_or(DetectError::NoData)?;
    let mut found = Catalogue {
        sky,
        ..known.clone()
    };
    if let Some(fwhm_px) = super::width(mean, &found)? {
        found.fwhm_px = fwhm_px;
    }
    Ok(found)
}

/// The mean of a picture's planes.
fn mean(planes: Planes<'_>) -> Result<Plane, DoorError> {
    let size = planes[0].size();
    let mut mean = Plane::filled(size, 0.0);
    let mut other = vec![0.0; if planes.len() > 1 { size.area() } else { 0 }];
    for (p, plane) in planes.iter().enumerate() {
        if p == 0 {
            plane.read(size.rect(), mean.data_mut())?;
        } else {
            plane.read(size.rect(), &mut other)?;
            for (m, v) in mean.data_mut().iter_mut().zip(&other) {
                *m += v;
            }
        }
    }
    let share = 1.0 / planes.len() as f32;
    for m in mean.data_mut() {
        *m *= share;
    }
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
    let (mut other, mut spare) = (smoothed.clone(), smoothed.clone());
    for j in 0..NEBULA_SCALES {
        smooth(&smoothed, &mut other, &mut spare, width, 1 << j);
        std::mem::swap(&mut smoothed, &mut other);
    }
    for (s, v) in smoothed.iter_mut().zip(mean.data()) {
        *s = v - *s;
    }
    Plane::new(size, smoothed)
}
