//! The stars of one composite before the nebula of another.

use std::path::{Path, PathBuf};

use jigsawa_core::doors::{DoorError, FrameSource, TileSink};
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;

use crate::finish::{LinearFile, measure_stars, take_out};
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
    if size != other || !stars.is_colour() {
        return Err(Trouble::OtherCanvas {
            file: twin.stars_name.clone(),
            size: (other.width(), other.height()),
            canvas: (size.width(), size.height()),
        });
    }
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let name = path.display().to_string();
    // What lies behind the stars, as a file of its own until the stars are added.
    let aside: PathBuf = path.with_extension("behind");
    let behind = outputs::begin(&aside, true)?;
    let planes = nebula.planes();
    let doors: Vec<&dyn FrameSource> = planes.iter().map(|p| p as &dyn FrameSource).collect();
    let (_, found) = measure_stars(&doors, &name)?;
    let mut sink =
        FitsWriter::create(behind, size, 3, Depth::Float, &Cards::default()).map_err(wrong)?;
    take_out(&doors, &found, &mut sink, None, &name, run)?;
    let behind = sink.complete().map_err(wrong)?;
    let out = found.count();
    drop(found);
    let ground = LinearFile::open(behind.path())?;
    let ground = ground.planes();
    let planes = stars.planes();
    let doors: Vec<&dyn FrameSource> = planes.iter().map(|p| p as &dyn FrameSource).collect();
    let (_, mut found) = measure_stars(&doors, &twin.stars_name)?;
    found.grain = false;
    let file = outputs::begin(path, overwrite)?;
    let mut sink = FitsWriter::create(file, size, 3, Depth::Float, cards).map_err(wrong)?;
    let mut sums: Vec<Vec<f32>> = vec![Vec::new(); 3];
    found
        .take_out(
            &doors,
            |rect, originals, starless| -> Result<(), DoorError> {
                for (c, sum) in sums.iter_mut().enumerate() {
                    sum.resize(rect.area(), 0.0);
                    ground[c].read(rect, sum)?;
                }
                for i in 0..rect.area() {
                    let light: [f32; 3] = std::array::from_fn(|c| originals[c][i] - starless[c][i]);
                    // A star without data in one channel of the other composite would be of a false colour.
                    if light.iter().all(|v| v.is_finite()) {
                        for (sum, v) in sums.iter_mut().zip(light) {
                            sum[i] += v;
                        }
                    }
                }
                let rows: Vec<&[f32]> = sums.iter().map(Vec::as_slice).collect();
                sink.put(rect, &rows)
            },
        )
        .map_err(|e| Trouble::Unreadable {
            file: twin.stars_name.clone(),
            error: e.to_string(),
        })?;
    Ok(Exchanged {
        file: sink.complete().map_err(wrong)?,
        out,
        brought: found.count(),
    })
}
