//! What a merge and its method have to do with each other: what takes part, and what the method gets of it.

use crate::balance::Balance;
use crate::doors::{DoorError, FrameSource, Mask};
use crate::placement::Placement;
use crate::resample::{Drops, Ringing, Shape};
use crate::space::Rect;

/// A frame that takes part in a merge.
pub struct Input<'a> {
    /// Its pixels.
    pub source: &'a dyn FrameSource,
    /// Those of them that do not count, whatever they hold.
    pub mask: Option<&'a dyn Mask>,
    /// How far each of them is to be trusted, from 0 to 1, on the frame's own pixels; it is placed as they are. `None` where
    /// all are.
    pub validity: Option<&'a dyn FrameSource>,
    /// Where it lies.
    pub placement: Placement,
    /// How its values are matched.
    pub balance: Balance,
    /// Value from which its pixels are saturated, before balancing; infinity if unknown.
    pub saturation: f32,
    /// How its pixels become those of the canvas.
    pub sampling: Sampling,
    /// They are dropped onto the canvas instead, and what falls on a pixel is told as how far it is to be trusted.
    pub drops: Option<Drops>,
}

impl<'a> Input<'a> {
    /// A frame whose pixels all count, and of which nothing is saturated.
    pub fn new(source: &'a dyn FrameSource, placement: Placement, balance: Balance) -> Self {
        Self {
            source,
            mask: None,
            validity: None,
            placement,
            balance,
            saturation: f32::INFINITY,
            sampling: Sampling::default(),
            drops: None,
        }
    }
}

/// How a frame's pixels become those of the canvas.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Sampling {
    /// The kernel.
    pub shape: Shape,
    /// What stays the same where the canvas is finer or coarser than the frame.
    pub keep: Keep,
    /// What is done with the kernel's undershoot.
    pub ringing: Ringing,
}

impl Sampling {
    /// The same for a frame whose stars are so wide: very sharp ones keep the kernel's undershoot.
    #[must_use]
    pub fn for_stars(self, fwhm_px: Option<f64>) -> Self {
        Self {
            ringing: Ringing::for_stars(fwhm_px),
            ..self
        }
    }
}

/// What a change of scale leaves as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Keep {
    /// Surface brightness: the level of the sky and of nebulae. What merging wants, since a canvas pixel
    /// then means the same whatever frame it comes from.
    #[default]
    Brightness,
    /// Flux: the sum over a star. Balanced values go with the area of a canvas pixel in frame pixels.
    Flux,
}

/// A run of pixels of the canvas, as a method gets it. What has no part in it is empty.
#[derive(Debug, Clone, Copy)]
pub struct Row<'a> {
    /// The values of each input, placed and balanced, NaN where there is no data.
    pub values: &'a [&'a [f32]],
    /// How far they are to be trusted; empty where an input is wholly.
    pub validity: &'a [&'a [f32]],
    /// The method's own fields of the canvas.
    pub overlays: &'a [&'a [f32]],
}

impl<'a> Row<'a> {
    /// A run of values alone.
    pub const fn of(values: &'a [&'a [f32]]) -> Self {
        Self {
            values,
            validity: &[],
            overlays: &[],
        }
    }

    /// The validities of an input; empty where it is wholly valid.
    pub fn validity_of(&self, input: usize) -> &'a [f32] {
        self.validity.get(input).copied().unwrap_or_default()
    }
}

/// A band of rows of a tile, as a method gets it that looks at neighbours: the runs of all rows, one after the other, each
/// with so many pixels around as the method reaches.
#[derive(Debug, Clone, Copy)]
pub struct Band<'a> {
    /// The pixels of the canvas that are computed.
    pub rect: Rect,
    /// Pixels around them that the runs hold as well.
    pub reach: usize,
    /// The band's values, validities and fields, as those of a row.
    pub runs: Row<'a>,
}

impl<'a> Band<'a> {
    /// A row alone, so many pixels wide: a band of one, of which nothing around is known.
    pub const fn of_row(runs: Row<'a>, width: usize) -> Self {
        Self {
            rect: Rect {
                x: 0,
                y: 0,
                width,
                height: 1,
            },
            reach: 0,
            runs,
        }
    }

    /// What the runs hold: the band with what is around it.
    pub fn around(&self) -> Rect {
        self.rect.grown(self.reach)
    }

    /// A row of a band without anything around; what is empty stays so.
    pub fn row<'b>(&self, row: usize, parts: &'b mut Parts<'a>) -> Row<'b> {
        let width = self.rect.width;
        let here = row * width..(row + 1) * width;
        let cut = |all: &[&'a [f32]], into: &mut Vec<&'a [f32]>| {
            into.clear();
            into.extend(all.iter().map(|run| {
                let part = if run.is_empty() { 0..0 } else { here.clone() };
                &run[part]
            }));
        };
        cut(self.runs.values, &mut parts.0);
        cut(self.runs.validity, &mut parts.1);
        cut(self.runs.overlays, &mut parts.2);
        Row {
            values: &parts.0,
            validity: &parts.1,
            overlays: &parts.2,
        }
    }
}

/// Memory for the parts of a row.
#[derive(Debug, Default)]
pub struct Parts<'a>(Vec<&'a [f32]>, Vec<&'a [f32]>, Vec<&'a [f32]>);

/// What a field of a method is over a tile.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Overlay {
    /// It plays no part.
    Absent,
    /// One value.
    Level(f32),
    /// Something else at every pixel.
    Varies,
}

/// A method that merges aligned values. It sees runs of pixels, and knows nothing of files, threads or memory.
pub trait TileOp: Sync {
    /// Planes of the result.
    fn planes(&self) -> usize;

    /// Does an input take part in a tile of the canvas? One that does not is neither read nor resampled there.
    fn wants(&self, _input: usize, _tile: Rect) -> bool {
        true
    }

    /// How many fields of its own the method has: weights and corrections that belong to places of the canvas.
    fn overlays(&self) -> usize {
        0
    }

    /// What one of them is over a tile.
    fn overlay(&self, _field: usize, _tile: Rect) -> Overlay {
        Overlay::Absent
    }

    /// One of them over a rectangle in which it varies, row after row.
    fn fill(&self, _field: usize, _rect: Rect, _out: &mut [f32]) {}

    /// How many pixels around a tile it looks at.
    fn reach(&self) -> usize {
        0
    }

    /// Computes a run of pixels. `out` has a slice for each plane.
    fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]);

    /// Computes a band of rows, whose number is a multiple of [`ROWS`] but for a tile's last. `out` has a slice for each plane,
    /// without what is around.
    fn run_band(&self, band: &Band<'_>, out: &mut [&mut [f32]]) {
        let width = band.rect.width;
        let mut parts = Parts::default();
        for row in 0..band.rect.height {
            let here = row * width..(row + 1) * width;
            let mut out: Vec<&mut [f32]> = out.iter_mut().map(|p| &mut p[here.clone()]).collect();
            self.run(&band.row(row, &mut parts), &mut out);
        }
    }
}

/// Bands of a tile have so many rows, or a multiple of them: each reads the kernel's border anew.
pub const ROWS: usize = 8;

/// How much memory the tiles in flight may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Budget {
    /// Bytes.
    pub bytes: usize,
}

/// Why a merge stopped.
#[derive(Debug, thiserror::Error)]
pub enum MergeError {
    /// A frame could not be read.
    #[error("cannot read frame {input}: {error}")]
    Source {
        /// Which input.
        input: usize,
        /// What its source says.
        error: DoorError,
    },
    /// The result could not be stored.
    #[error("cannot store the result: {0}")]
    Sink(DoorError),
}
