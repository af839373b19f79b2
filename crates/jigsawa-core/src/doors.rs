//! The only doors between pixels and the core: a source that reads windows of a frame, and a sink
//! that takes finished tiles. Files, memory and tests stand behind the same two traits.

use crate::number::Convert;
use crate::plane::Plane;
use crate::space::{Rect, Size};

/// What went wrong behind a door; the text comes from whoever stands there (a file reader, say).
#[derive(Debug, thiserror::Error)]
#[error(transparent)]
pub struct DoorError(#[from] pub Box<dyn std::error::Error + Send + Sync>);

/// Pixels that can be read by windows, from several threads at once.
pub trait FrameSource: Sync {
    /// Width and height of the frame.
    fn size(&self) -> Size;

    /// Reads the pixels of `rect`, which lies inside of the frame, into `out` row after row, in the
    /// units of the file, NaN for no data.
    ///
    /// # Errors
    /// Whatever keeps the pixels from being read. The caller stops its whole work: a merge with a
    /// hole that is not in the data would be worse than none.
    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError>;

    /// The one value that all pixels of `rect` have, where the source knows of one: nothing is resampled there then.
    fn constant(&self, _rect: Rect) -> Option<f32> {
        None
    }
}

/// Pixels of a frame that do not count, whatever they hold: ragged borders, defects.
pub trait Mask: Sync {
    /// Makes them missing in the pixels of `rect`, row after row.
    fn hide(&self, rect: Rect, pixels: &mut [f32]);
}

/// A taker of finished tiles.
pub trait TileSink {
    /// Takes the tile `rect` of the canvas, one slice of `rect.area()` values for each plane. Tiles
    /// come in row order of their origin, whatever order they were computed in.
    ///
    /// # Errors
    /// Whatever keeps the tile from being stored; no further tile is sent then.
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError>;
}

impl<S: FrameSource + ?Sized> FrameSource for &S {
    fn size(&self) -> Size {
        (**self).size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        (**self).read(rect, out)
    }

    fn constant(&self, rect: Rect) -> Option<f32> {
        (**self).constant(rect)
    }
}

impl FrameSource for Plane {
    fn size(&self) -> Size {
        Self::size(self)
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.window(rect, out);
        Ok(())
    }
}

/// Planes in memory take tiles too: for small results and for tests.
impl TileSink for Vec<Plane> {
    fn put(&mut self, rect: Rect, planes: &[&[f32]]) -> Result<(), DoorError> {
        for (plane, tile) in self.iter_mut().zip(planes) {
            let w = plane.size().width();
            for (i, row) in tile.chunks_exact(rect.width).enumerate() {
                let at = (rect.y.index() + i) * w + rect.x.index();
                plane.data_mut()[at..at + rect.width].copy_from_slice(row);
            }
        }
        Ok(())
    }
}
