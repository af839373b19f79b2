//! The stars of every frame: looked for, or found kept from an earlier run.

use std::borrow::Borrow;

use jigsawa_core::stars::{Catalogue, DetectError, Settings};
use jigsawa_core::survey::stars_and_trails;
use serde::Serialize;

use crate::cache::Way;
use crate::frames::Frame;
use crate::run::Run;
use crate::trouble::Trouble;

/// What a catalogue depends on besides its file.
#[derive(Serialize)]
struct StarsWay<'a> {
    plane: usize,
    settings: Settings,
    /// Raw pixels that are read through masters are others than those of the file.
    reading: Option<&'a str>,
}

impl Way for StarsWay<'_> {
    const KIND: &'static str = "stars";
}

/// Why a frame has no stars.
#[derive(Debug, Clone, thiserror::Error)]
pub enum Unmeasured {
    /// It has nothing to measure.
    #[error(transparent)]
    Nothing(#[from] DetectError),
    /// Its file was opened, but its pixels are spoilt.
    #[error("its pixels cannot be read: {0}")]
    Unreadable(String),
}

impl Unmeasured {
    /// The same of a frame that there is no going on without.
    pub fn of(&self, f: &Frame) -> Trouble {
        let file = f.name();
        match self {
            Self::Nothing(error) => Trouble::Measure {
                file,
                error: *error,
            },
            Self::Unreadable(error) => Trouble::Unreadable {
                file,
                error: error.clone(),
            },
        }
    }
}

/// A frame's catalogue, or why it has none.
pub type Measured = Result<Catalogue, Unmeasured>;

/// How a frame's stars are looked for.
fn way_of<'a>(f: &'a Frame, settings: &Settings) -> StarsWay<'a> {
    StarsWay {
        plane: f.plane.unwrap_or(0),
        settings: *settings,
        reading: f.reading(),
    }
}

/// The stars of every frame. Frames go through memory one at a time; the next is read while one is
/// measured. A needed frame (by its place in the list) that cannot be read, or has nothing to measure, is an error.
pub fn measure<F: Borrow<Frame> + Sync>(
    frames: &[F],
    needed: &[usize],
    settings: &Settings,
    run: &Run<'_>,
) -> Result<Vec<Measured>, Trouble> {
    let mut found: Vec<Option<Measured>> = frames
        .iter()
        .map(Borrow::borrow)
        .map(|f| run.store.load(&f.path, &way_of(f, settings)).map(Ok))
        .collect();
    let rest: Vec<usize> = (0..frames.len()).filter(|i| found[*i].is_none()).collect();
    let progress = run.begin("stars", rest.len());
    std::thread::scope(|scope| {
        let (give, read) = std::sync::mpsc::sync_channel(0);
        let (back, spare) = std::sync::mpsc::channel::<Vec<f32>>();
        let list = rest.clone();
        scope.spawn(move || {
            for i in list {
                let f: &Frame = frames[i].borrow();
                let buffer = spare.try_recv().unwrap_or_default();
                let plane = f.read_plane(buffer);
                if give.send(plane).is_err() {
                    break;
                }
            }
        });
        for (i, plane) in rest.into_iter().zip(&read) {
            let f: &Frame = frames[i].borrow();
            let stars = match &plane {
                Ok(plane) => stars_and_trails(plane, f.facts.saturation, settings)
                    .map(|(s, _)| s)
                    .map_err(Unmeasured::Nothing),
                Err(e) => Err(Unmeasured::Unreadable(e.to_string())),
            };
            match &stars {
                Ok(c) => {
                    run.store.keep(&f.path, &way_of(f, settings), c);
                    tracing::info!(
                        "{}: {} stars, FWHM {:.2} px, sky {:.1}",
                        f.name(),
                        c.stars.len(),
                        c.fwhm_px,
                        c.sky.typical_level()
                    );
                }
                Err(error) if needed.contains(&i) => return Err(error.of(f)),
                Err(error) => tracing::warn!("{}: {error}", f.name()),
            }
            found[i] = Some(stars);
            if let Ok(plane) = plane {
                // The reader may have ended already; then the memory is not wanted any more.
                let _ = back.send(plane.into_data());
            }
            progress.step();
        }
        Ok(())
    })?;
    // Each frame was found kept or has gone through the loop.
    Ok(found
        .into_iter()
        .map(|f| f.unwrap_or(Err(DetectError::NoData.into())))
        .collect())
}
