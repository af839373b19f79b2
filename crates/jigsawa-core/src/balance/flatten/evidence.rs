//! Which patches may be sky, by how smooth they are in every filter.
//!
//! A nebula has folds; a sky, whatever its gradient, has none within a patch. A patch that is rough in any filter is
//! nebula in all of them, and so are its neighbours, into which the nebula fades. Darkness comes later: it needs the
//! gradient to be known ([`settle`](super::settle)).

use super::patch::OwnPatch;
use crate::number::Convert;
use crate::robust::quantile;

/// Mean roughness of a patch and its neighbours up to which it may be sky, in that of the smoothest fifth of the frame:
/// nine patches of noise scatter by a seventh.
const SMOOTH: f64 = 1.9;

/// And that of the patch alone: noise scatters by a half.
const SMOOTH_ALONE: f64 = 3.6;

/// The smoothest fifth tells what noise is, within these bounds: the noise was measured on a part of the frame, and
/// faint stars that nobody finds are in all of it. Beyond, it is nebula that is everywhere.
const FLOOR: (f64, f64) = (0.7, 1.6);

/// A frame's patches, as a grid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Grid {
    pub(super) columns: usize,
    pub(super) rows: usize,
}

impl Grid {
    /// The numbers of a patch and of the neighbours around it.
    pub(super) fn around(self, k: usize) -> impl Iterator<Item = usize> {
        let (x, y) = (k % self.columns, k / self.columns);
        let (from_x, to_x) = (x.saturating_sub(1), (x + 1).min(self.columns - 1));
        let (from_y, to_y) = (y.saturating_sub(1), (y + 1).min(self.rows - 1));
        (from_y..=to_y).flat_map(move |y| (from_x..=to_x).map(move |x| y * self.columns + x))
    }
}

/// Which patches of one frame are smooth, those that are not there among them.
pub(super) fn smooth(patches: &[Option<OwnPatch>], grid: Grid) -> Vec<bool> {
    let rough = |k: usize| patches[k].as_ref().and_then(|p| p.rough);
    let near: Vec<Option<f64>> = (0..patches.len())
        .map(|k| {
            let known: Vec<f64> = grid.around(k).filter_map(rough).collect();
            // One wild patch is a star's halo, and says nothing of its neighbours.
            let mean = known.iter().map(|r| r.min(10.0)).sum::<f64>() / known.len().real();
            (!known.is_empty()).then_some(mean)
        })
        .collect();
    let mut all: Vec<f32> = near.iter().flatten().map(|r| (*r).single()).collect();
    let floor = if all.is_empty() {
        1.0
    } else {
        f64::from(quantile(&mut all, 0.2)).clamp(FLOOR.0, FLOOR.1)
    };
    (0..patches.len())
        .map(|k| {
            near[k].is_none_or(|r| r <= SMOOTH * floor)
                && rough(k).is_none_or(|r| r <= SMOOTH_ALONE * floor)
        })
        .collect()
}

/// Patches that may be sky, without those next to one that may not.
pub(super) fn inner(may: &[bool], grid: Grid) -> Vec<bool> {
    (0..may.len())
        .map(|k| may[k] && grid.around(k).all(|n| may[n]))
        .collect()
}
