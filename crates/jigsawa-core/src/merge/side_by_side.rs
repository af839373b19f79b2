//! The method that merges nothing: each input becomes a plane of its own. So a single frame comes out
//! placed, and a colour image with its planes.

use super::contract::{Row, TileOp};

/// Each input as a plane of the result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SideBySide {
    /// Number of inputs.
    pub inputs: usize,
}

impl TileOp for SideBySide {
    fn planes(&self) -> usize {
        self.inputs
    }

    fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]) {
        for (to, from) in out.iter_mut().zip(row.values) {
            to.copy_from_slice(from);
        }
    }
}
