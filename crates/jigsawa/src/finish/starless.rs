//! Stars of a picture measured and taken out into files.

use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_core::plane::Plane;
use jigsawa_core::starless::Stars;
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_formats::fits::FitsWriter;

use crate::cli::Common;
use crate::tell::Trouble;
use crate::terminal::Progress;

/// Stars that are looked for, at the most.
const MOST: usize = 40_000;

/// They are looked for down to this height over the noise.
const SIGMA: f64 = 4.0;

/// Finds the stars of the planes' mean and measures their light in each.
pub fn measure_stars(
    planes: &[&dyn FrameSource],
    file: &str,
) -> Result<(Catalogue, Stars), Trouble> {
    let unreadable = |e: DoorError| Trouble::Unreadable {
        file: file.to_owned(),
        error: e.to_string(),
    };
    let size = planes[0].size();
    let mut mean = Plane::filled(size, 0.0);
    planes[0]
        .read(size.rect(), mean.data_mut())
        .map_err(unreadable)?;
    if planes.len() > 1 {
        let mut other = vec![0.0; size.area()];
        for p in &planes[1..] {
            p.read(size.rect(), &mut other).map_err(unreadable)?;
            for (m, v) in mean.data_mut().iter_mut().zip(&other) {
                *m += v;
            }
        }
        let share = 1.0 / planes.len() as f32;
        for m in mean.data_mut() {
            *m *= share;
        }
    }
    let settings = Settings {
        threshold_sigma: SIGMA,
        lowest_sigma: SIGMA,
        most: MOST,
        ..Settings::default()
    };
    let catalogue = detect(&mean, None, &settings).map_err(|error| Trouble::Measure {
        file: file.to_owned(),
        error,
    })?;
    drop(mean);
    let stars = Stars::measure(planes, &catalogue).map_err(unreadable)?;
    Ok((catalogue, stars))
}

/// Writes what lies behind the stars, and what was taken out.
pub fn take_out(
    planes: &[&dyn FrameSource],
    stars: &Stars,
    behind: &mut FitsWriter,
    mut taken: Option<&mut FitsWriter>,
    file: &str,
    common: &Common,
) -> Result<(), Trouble> {
    let height = planes[0].size().height();
    let progress = Progress::begin("stars", height, common);
    let mut light: Vec<Vec<f32>> = vec![Vec::new(); planes.len()];
    stars
        .take_out(
            planes,
            |rect, originals, starless| -> Result<(), DoorError> {
                behind.put(rect, starless)?;
                if let Some(out) = &mut taken {
                    for ((light, o), s) in light.iter_mut().zip(originals).zip(starless) {
                        light.clear();
                        light.extend(o.iter().zip(*s).map(|(o, s)| o - s));
                    }
                    let light: Vec<&[f32]> = light.iter().map(Vec::as_slice).collect();
                    out.put(rect, &light)?;
                }
                progress.of(rect.bottom() as usize, height);
                Ok(())
            },
        )
        .map_err(|e| Trouble::Unreadable {
            file: file.to_owned(),
            error: e.to_string(),
        })
}
