//! A set measured: each exposure in turn, the shortest first, since a longer one is judged against the shorter.

use jigsawa_core::balance::{Member, Shape};
use jigsawa_core::hdr::{Exposure, HdrError, Joined, join};
use jigsawa_core::layout::Layout;

use super::sets::Set;
use crate::frames::Frame;
use crate::normalize::KnownFrames;
use crate::run::Stage;
use crate::trouble::Trouble;

/// A set whose exposures are tied to the longest.
pub struct Measured<'a> {
    /// The exposures, the longest first.
    pub exposures: Vec<Exposure<'a>>,
    /// How each is tied to the longest.
    pub joined: Vec<Joined>,
}

/// More of a frame than this part is full: it says nothing.
const ALL_FULL: f64 = 0.9;

/// Measures a set. Frames go through memory one at a time.
pub fn measure_set<'a>(
    set: &Set,
    frames: &[Frame],
    layout: &Layout,
    placed: &'a KnownFrames<'a>,
    saturations: &[(String, f64)],
    shape: Option<Shape>,
    progress: &dyn Stage,
) -> Result<Measured<'a>, Trouble> {
    let mut exposures: Vec<Exposure<'a>> = Vec::with_capacity(set.frames.len());
    let order: Vec<&Frame> = set.frames.iter().rev().map(|i| &frames[*i]).collect();
    // The next frame is read while one is measured; two are in memory.
    std::thread::scope(|scope| -> Result<(), Trouble> {
        let (give, read) = std::sync::mpsc::sync_channel(0);
        let (back, spare) = std::sync::mpsc::channel::<Vec<f32>>();
        let list = order.clone();
        scope.spawn(move || {
            for f in list {
                let buffer = spare.try_recv().unwrap_or_default();
                let plane = f.read_plane(buffer);
                if give.send(plane).is_err() {
                    break;
                }
            }
        });
        for ((i, f), plane) in set.frames.iter().rev().zip(&order).zip(&read) {
            // A used frame has stars and a place.
            let member: Member<'a> = placed.member(*i).ok_or_else(|| Trouble::LeftOut {
                file: f.name(),
                reason: "it shows nothing that can be measured".to_owned(),
            })?;
            let plane = plane.map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))?;
            let known = f.facts.saturation;
            let said = saturations.iter().any(|(name, _)| f.is_called(name));
            let levels = if said { (known, None) } else { (None, known) };
            let shorter: Vec<&Exposure<'_>> = exposures.iter().collect();
            let own = Exposure::measure(&plane, member, layout.canvas.size, levels, &shorter);
            // The reader may have ended already; then the memory is not wanted any more.
            let _ = back.send(plane.into_data());
            if own.full_part() > ALL_FULL {
                return Err(Trouble::AllFull {
                    file: f.name(),
                    limit: own.limit,
                });
            }
            exposures.insert(0, own);
            progress.step();
        }
        Ok(())
    })?;
    let joined = join(&exposures, shape).map_err(|error| {
        let (HdrError::Untied(k) | HdrError::Sky(k, _)) = error;
        Trouble::Hdr {
            file: frames[set.frames[k]].name(),
            longest: frames[set.frames[0]].name(),
            error,
        }
    })?;
    Ok(Measured { exposures, joined })
}
