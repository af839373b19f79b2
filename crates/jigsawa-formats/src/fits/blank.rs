//! Pixels that carry a number and have no data: runs of them, row after row, as [`borders`](super::borders) finds them.

use jigsawa_core::number::Convert;
use jigsawa_core::space::Rect;

/// What has no data in a plane.
#[derive(Debug)]
pub(super) struct Blank {
    /// Runs of pixels, first and end (exclusive), row after row.
    pub(super) runs: Vec<(u32, u32)>,
    /// Where each row's runs begin, and the end of all.
    pub(super) rows: Vec<u32>,
    /// The part of all pixels.
    pub(super) share: f32,
    /// The value that they have.
    pub(super) value: f32,
}

impl Blank {
    /// Makes the pixels of a window missing.
    pub(super) fn hide(&self, rect: Rect, out: &mut [f32]) {
        for (i, row) in out.chunks_exact_mut(rect.width).enumerate() {
            let y = rect.y.index() + i;
            let (Some(from), Some(to)) = (self.rows.get(y), self.rows.get(y + 1)) else {
                continue;
            };
            for (a, b) in &self.runs[*from as usize..*to as usize] {
                let inside = |v: u32| (i64::from(v) - rect.x).clamp(0, rect.width.whole()).index();
                row[inside(*a)..inside(*b)].fill(f32::NAN);
            }
        }
    }
}
