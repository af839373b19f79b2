//! A set measured: each exposure in turn, the shortest first, since a longer one is judged against the shorter.

use jigsawa_core::balance::{Member, Shape};
use jigsawa_core::hdr::{Exposure, HdrError, Joined, join};
use jigsawa_core::layout::Layout;

use super::sets::Set;
use crate::cli::HdrArgs;
use crate::frames::Frame;
use crate::normalize::Field;
use crate::tell::Trouble;
use crate::terminal::Progress;

/// A set whose exposures are tied to the longest.
pub struct Measured<'a> {
    pub exposures: Vec<Exposure<'a>>,
    pub joined: Vec<Joined>,
}

/// More of a frame than this part is full: it says nothing.
const ALL_FULL: f64 = 0.9;

/// Measures a set. Frames go through memory one at a time.
pub fn measure_set<'a>(
    set: &Set,
    frames: &[Frame],
    layout: &Layout,
    field: &'a Field<'a>,
    args: &HdrArgs,
    shape: Option<Shape>,
    progress: &Progress,
) -> Result<Measured<'a>, Trouble> {
    let mut exposures: Vec<Exposure<'a>> = Vec::with_capacity(set.frames.len());
    let mut buffer = Vec::new();
    for i in set.frames.iter().rev() {
        let f = &frames[*i];
        // A used frame has stars and a place.
        let member: Member<'a> = field.member(*i).ok_or_else(|| Trouble::LeftOut {
            file: f.name(),
            reason: "it shows nothing that can be measured".to_owned(),
        })?;
        let plane = f
            .file
            .read_plane(f.plane.unwrap_or(0), std::mem::take(&mut buffer))
            .map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))?;
        let known = f.facts.saturation;
        let said = args.saturations.iter().any(|(name, _)| f.is_called(name));
        let levels = if said { (known, None) } else { (None, known) };
        let shorter: Vec<&Exposure<'_>> = exposures.iter().collect();
        let own = Exposure::measure(&plane, member, layout.canvas.size, levels, &shorter);
        buffer = plane.into_data();
        if own.full_part() > ALL_FULL {
            return Err(Trouble::AllFull {
                file: f.name(),
                limit: own.limit,
            });
        }
        exposures.insert(0, own);
        progress.step();
    }
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
