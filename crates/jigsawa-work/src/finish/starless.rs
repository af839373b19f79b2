//! Stars of a picture measured and taken out into files.

use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_core::number::Convert;
use jigsawa_core::starless::{FindError, Stars, find, find_with};
use jigsawa_core::stars::Catalogue;
use jigsawa_formats::fits::FitsWriter;

use crate::run::Watch;
use crate::trouble::Trouble;

/// Finds the stars of the planes' mean and measures their light in each.
pub fn measure_stars(
    planes: &[&dyn FrameSource],
    file: &str,
) -> Result<(Catalogue, Stars), Trouble> {
    find(planes).map_err(|e| trouble(e, file))
}

/// The same with the stars that another picture on the same canvas is known to have.
pub fn measure_stars_with(
    planes: &[&dyn FrameSource],
    known: &Catalogue,
    file: &str,
) -> Result<(Catalogue, Stars), Trouble> {
    find_with(planes, known).map_err(|e| trouble(e, file))
}

fn trouble(error: FindError, file: &str) -> Trouble {
    match error {
        FindError::Source(e) => Trouble::Unreadable {
            file: file.to_owned(),
            error: e.to_string(),
        },
        FindError::Detect(error) => Trouble::Measure {
            file: file.to_owned(),
            error,
        },
    }
}

/// Writes what lies behind the stars, and what was taken out.
pub fn take_out(
    planes: &[&dyn FrameSource],
    stars: &Stars,
    behind: &mut FitsWriter,
    mut taken: Option<&mut FitsWriter>,
    file: &str,
    watch: &dyn Watch,
) -> Result<(), Trouble> {
    let height = planes[0].size().height();
    let progress = watch.begin("stars", height);
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
                progress.of(rect.bottom().index(), height);
                Ok(())
            },
        )
        .map_err(|e| Trouble::Unreadable {
            file: file.to_owned(),
            error: e.to_string(),
        })
}
