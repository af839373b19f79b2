//! What a join hands to a merge besides the frames: weights and a correction on the canvas's own pixels, and frames
//! without their ragged borders.

use super::super::border::Coverage;
use super::{Grid, Join, Share, rows_of};
use crate::doors::{DoorError, FrameSource};
use crate::space::{Rect, Size};

/// The weights of one panel as an input of a merge, on the canvas's own pixels.
#[derive(Debug)]
pub struct PanelWeights<'a> {
    /// Of what.
    pub join: &'a Join,
    /// Whose.
    pub panel: usize,
}

impl FrameSource for PanelWeights<'_> {
    fn size(&self) -> Size {
        self.join.cells.canvas
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.join.weights(self.panel, rect, out);
        Ok(())
    }

    fn constant(&self, rect: Rect) -> Option<f32> {
        if self.join.share == Share::Average {
            return None;
        }
        let touched = self.join.cells.touched(rect, 2);
        let label = self.panel as u8 + 1;
        let alone = rows_of(touched, self.join.cells)
            .all(|row| self.join.labels[row].iter().all(|l| *l == label));
        (alone && self.join.discs_in(rect).all(|d| d.owner == label)).then_some(1.0)
    }
}

/// What is added after joining, as an input of a merge.
#[derive(Debug)]
pub struct Correction<'a>(pub &'a Join);

impl Correction<'_> {
    pub(super) fn is_needed(&self, rect: Rect) -> bool {
        let touched = self.0.cells.touched(rect, 1);
        let own = self.0.own.iter().flatten();
        own.map(|g| touched.intersect(g.window))
            .any(|t| !t.is_empty())
    }
}

impl FrameSource for Correction<'_> {
    fn size(&self) -> Size {
        self.0.cells.canvas
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.0.correction(rect, out);
        Ok(())
    }

    fn constant(&self, rect: Rect) -> Option<f32> {
        let touched = self.0.cells.touched(rect, 1);
        let zero = |g: &Grid| {
            let t = touched.intersect(g.window);
            (t.y..t.bottom()).all(|r| (t.x..t.right()).all(|c| g.at(c, r) == 0.0))
        };
        let all = self.0.own.iter().flatten().all(zero) && zero(&self.0.common);
        all.then_some(0.0)
    }
}

/// A frame without what lies outside of its covered part.
#[derive(Debug)]
pub struct Trimmed<S> {
    /// The frame.
    pub source: S,
    /// Its covered part.
    pub coverage: Coverage,
}

impl<S: FrameSource> FrameSource for Trimmed<S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        self.coverage.trim(rect, out);
        Ok(())
    }
}
