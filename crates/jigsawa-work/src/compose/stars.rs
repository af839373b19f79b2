//! The stars of one composite before the nebula of another.

use jigsawa_core::number::Convert;
use std::path::Path;

use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;

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
    let mut sums: Vec<Vec<f32>> = vec![Vec::new(); 3];
    while let (Some(ground), Some(light)) = (
        ground.next().map_err(unreadable(&name))?,
        light.next().map_err(unreadable(&twin.stars_name))?,
    ) {
        for (sum, ground) in sums.iter_mut().zip(&ground.starless) {
            sum.clear();
            sum.extend_from_slice(ground);
        }
        for i in 0..light.rect.area() {
            let own: [f32; 3] = std::array::from_fn(|c| light.picture[c][i] - light.starless[c][i]);
            // A star without data in one channel of the other composite would be of a false colour.
            if own.iter().all(|v| v.is_finite()) {
                for (sum, v) in sums.iter_mut().zip(own) {
                    sum[i] += v;
                }
            }
        }
        let rows: Vec<&[f32]> = sums.iter().map(Vec::as_slice).collect();
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

/// Planes as what they are read through.
fn doors<P: FrameSource>(planes: &[P]) -> Vec<&dyn FrameSource> {
    planes.iter().map(|p| p as &dyn FrameSource).collect()
}
