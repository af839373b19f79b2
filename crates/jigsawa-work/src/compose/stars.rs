//! The stars of one composite before the nebula of another.

use jigsawa_core::number::Convert;
use std::path::Path;

use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_core::starless::Band;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use rayon::prelude::*;

use crate::finish::{LinearFile, measure_stars, measure_stars_with};
use crate::outputs;
use crate::run::Run;
use crate::trouble::Trouble;

/// Two linear files on one canvas.
pub struct Twin<'a> {
    /// Whose stars are taken out.
    pub nebula: &'a Path,
    /// Whose stars take their place.
    pub stars: &'a Path,
    /// What that file is called in messages.
    pub stars_name: String,
}

/// How many stars went and came.
pub struct Exchanged {
    pub file: Unfinished,
    pub out: usize,
    pub brought: usize,
}

/// Writes the nebula of the one with the stars of the other, under a temporary name still.
pub fn with_stars(
    path: &Path,
    overwrite: bool,
    cards: &Cards,
    twin: &Twin<'_>,
    run: &Run<'_>,
) -> Result<Exchanged, Trouble> {
    let (nebula, stars) = (
        LinearFile::open(twin.nebula)?,
        LinearFile::open(twin.stars)?,
    );
    let (size, other) = (nebula.file.size(), stars.file.size());
    if !stars.is_colour() {
        return Err(Trouble::GreyStars(twin.stars_name.clone()));
    }
    if size != other {
        return Err(Trouble::OtherCanvas {
            file: twin.stars_name.clone(),
            size: (other.width(), other.height()),
            canvas: (size.width(), size.height()),
        });
    }
    let name = path.display().to_string();
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let unreadable = |file: &str| {
        let file = file.to_owned();
        move |e: DoorError| Trouble::Unreadable {
            file,
            error: e.to_string(),
        }
    };
    let planes = (nebula.planes(), stars.planes());
    let doors = (doors(&planes.0), doors(&planes.1));
    let (known, mut come) = measure_stars(&doors.1, &twin.stars_name)?;
    come.grain = false;
    // One field: a star that broadband shows is in the lines, too, where it hardly stands out of them.
    let (_, gone) = measure_stars_with(&doors.0, &known, &name)?;
    let file = outputs::begin(path, overwrite)?;
    let mut sink = FitsWriter::create(file, size, 3, Depth::Float, cards).map_err(wrong)?;
    let progress = run.begin("stars", size.height());
    let (mut ground, mut light) = (gone.removal(&doors.0), come.removal(&doors.1));
    loop {
        // Each has parts in which one core waits for the other.
        let (ground, light) = rayon::join(|| ground.next(), || light.next());
        let ground = ground.map_err(unreadable(&name))?;
        let light = light.map_err(unreadable(&twin.stars_name))?;
        let (Some(mut ground), Some(light)) = (ground, light) else {
            break;
        };
        add_stars(&mut ground, &light);
        let rows: Vec<&[f32]> = ground.starless.iter().map(|row| &**row).collect();
        sink.put(ground.rect, &rows).map_err(|e| Trouble::Merge {
            message: format!("'{name}' cannot be written: {e}"),
            file: Some(name.clone()),
        })?;
        progress.of(ground.rect.bottom().index(), size.height());
    }
    Ok(Exchanged {
        file: sink.complete().map_err(wrong)?,
        out: gone.count(),
        brought: come.count(),
    })
}

/// Lays the stars of one over the nebula of the other, in rows of three planes.
fn add_stars(nebula: &mut Band<'_>, light: &Band<'_>) {
    let width = light.rect.width;
    let [red, green, blue] = &mut nebula.starless[..] else {
        return;
    };
    let lines = red
        .par_chunks_mut(width)
        .zip(green.par_chunks_mut(width))
        .zip(blue.par_chunks_mut(width))
        .enumerate();
    lines.for_each(|(j, ((red, green), blue))| {
        let of = |c: usize| {
            let at = j * width..(j + 1) * width;
            (&light.picture[c][at.clone()], &light.starless[c][at])
        };
        let own = [of(0), of(1), of(2)];
        for x in 0..width {
            let stars = own.map(|(picture, starless)| picture[x] - starless[x]);
            // A star without data in one channel of the other composite would be of a false colour.
            if stars.iter().all(|v| v.is_finite()) {
                red[x] += stars[0];
                green[x] += stars[1];
                blue[x] += stars[2];
            }
        }
    });
}

/// Planes as what they are read through.
fn doors<P: FrameSource>(planes: &[P]) -> Vec<&dyn FrameSource> {
    planes.iter().map(|p| p as &dyn FrameSource).collect()
}
