//! Pixels of an image that is packed in tiles: unpacked by the C library, for one thread at a time.

use std::path::Path;
use std::sync::{Mutex, PoisonError};

use jigsawa_core::space::Rect;

use super::handle::Handle;
use super::pool::Pooled;
use super::sense::sound;
use super::unit::Unit;
use crate::error::FileError;

/// An image in tiles.
pub(super) struct Packed(Pooled<Mutex<Handle>>);

impl Packed {
    /// The image of a unit that has been checked.
    ///
    /// # Errors
    /// When the library finds another image there than we have.
    pub(super) fn new(path: &Path, unit: &Unit, number: usize) -> Result<Self, FileError> {
        let mut handle = Handle::open(path)?;
        let (bitpix, axes) = handle.go_to(number)?;
        let side = |i: usize| axes.get(i).copied().unwrap_or(1);
        let ours = (unit.size.width() as i64, unit.size.height() as i64);
        if bitpix != unit.bitpix || (side(0), side(1)) != ours {
            return Err(FileError::Shape {
                axes: axes.iter().map(|n| n.unsigned_abs()).collect(),
            });
        }
        Ok(Self(Pooled::new(path, number, open)?))
    }

    /// Reads a window of a plane; what is blank, not a number or absurd is missing.
    ///
    /// # Errors
    /// What the library or the disk says.
    pub(super) fn read(&self, plane: usize, rect: Rect, out: &mut [f32]) -> Result<(), FileError> {
        self.read_as_stored(plane, rect, out)?;
        for v in out.iter_mut().filter(|v| !sound(**v)) {
            *v = f32::NAN;
        }
        Ok(())
    }

    /// The same with absurd values as they are.
    ///
    /// # Errors
    /// What the library or the disk says.
    pub(super) fn read_as_stored(
        &self,
        plane: usize,
        rect: Rect,
        out: &mut [f32],
    ) -> Result<(), FileError> {
        let handle = self.0.get()?;
        let mut handle = handle.lock().unwrap_or_else(PoisonError::into_inner);
        let (x, y) = ((rect.x, rect.right()), (rect.y, rect.bottom()));
        handle.read(plane, x, y, out)
    }
}

fn open(path: &Path, unit: usize) -> Result<Mutex<Handle>, FileError> {
    let mut handle = Handle::open(path)?;
    handle.go_to(unit)?;
    Ok(Mutex::new(handle))
}
