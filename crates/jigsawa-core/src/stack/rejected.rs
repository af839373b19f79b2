//! What was rejected of each frame, counted over blocks of the canvas: in all, and as a picture.

use std::sync::atomic::{AtomicU8, AtomicU64, Ordering};

use crate::number::Convert;
use crate::plane::Plane;
use crate::space::{Rect, Size};

/// Side of the blocks in pixels; bands of tiles are multiples of it, so that a block is one thread's.
pub const BLOCK: usize = crate::merge::ROWS;

/// What was rejected of each frame.
#[derive(Debug)]
pub struct Rejected {
    blocks: Size,
    frames: Vec<OfFrame>,
}

#[derive(Debug)]
struct OfFrame {
    values: AtomicU64,
    picture: Vec<AtomicU8>,
}

impl Rejected {
    /// Nothing yet, of so many frames.
    pub fn new(canvas: Size, frames: usize) -> Self {
        let blocks = canvas.blocks(BLOCK);
        let none = |_| OfFrame {
            values: AtomicU64::new(0),
            picture: (0..blocks.area()).map(|_| AtomicU8::new(0)).collect(),
        };
        Self {
            blocks,
            frames: (0..frames).map(none).collect(),
        }
    }

    /// So many more values of a frame were there.
    pub(super) fn seen(&self, frame: usize, values: u64) {
        let of = &self.frames[frame];
        of.values.fetch_add(values, Ordering::Relaxed);
    }

    /// The blocks of a part of the canvas are counted anew.
    pub(super) fn again(&self, frame: usize, rect: Rect) {
        let (x, y) = (rect.x.index() / BLOCK, rect.y.index() / BLOCK);
        let (right, bottom) = (rect.right().index(), rect.bottom().index());
        for row in y..bottom.div_ceil(BLOCK) {
            let from = row * self.blocks.width();
            let here = from + x..from + right.div_ceil(BLOCK);
            for count in &self.frames[frame].picture[here] {
                count.store(0, Ordering::Relaxed);
            }
        }
    }

    /// A value of a frame was rejected at a pixel of the canvas.
    pub(super) fn put(&self, frame: usize, (x, y): (usize, usize)) {
        let at = y / BLOCK * self.blocks.width() + x / BLOCK;
        self.frames[frame].picture[at].fetch_add(1, Ordering::Relaxed);
    }

    /// Values of a frame that were there.
    pub fn values(&self, frame: usize) -> u64 {
        self.frames[frame].values.load(Ordering::Relaxed)
    }

    /// Values of a frame that were rejected.
    pub fn of(&self, frame: usize) -> u64 {
        let counts = self.frames[frame].picture.iter();
        counts.map(|c| u64::from(c.load(Ordering::Relaxed))).sum()
    }

    /// How many of each block's pixels were rejected of a frame: a picture of what spoils it.
    pub fn picture(&self, frame: usize) -> Plane {
        let counts = &self.frames[frame].picture;
        let width = self.blocks.width();
        Plane::from_fn(self.blocks, |x, y| {
            counts[y * width + x].load(Ordering::Relaxed).single()
        })
    }
}
