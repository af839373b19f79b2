//! A rectangle of the canvas from one input.

use super::contract::{Input, Keep};
use crate::doors::{DoorError, FrameSource, Mask};
use crate::number::Convert;
use crate::placement::Placement;
use crate::plane::Plane;
use crate::resample::{
    Drops, Kernel, Resampling, Scratch, Shape, Window, drop_onto, resample, window_for,
};
use crate::space::{Point, Rect, Size};
use rayon::prelude::*;

/// Memory of the work, kept from tile to tile.
#[derive(Default)]
pub(super) struct Buffers {
    window: Vec<f32>,
    /// The part of a window inside of the frame, where the window reaches outside.
    inside: Vec<f32>,
    /// A row of a balance's gain.
    gain: Vec<f32>,
    scratch: Scratch,
}

/// The kernels of an input: that of its pixels, and that of their validity, which does not ring.
pub(super) struct Kernels {
    pixels: Kernel,
    validity: Kernel,
    /// As far around as drops reach.
    drops: Kernel,
}

impl Kernels {
    /// Of an input around a place of the canvas.
    fn at(input: &Input<'_>, at: Point<crate::space::CanvasPx>) -> Self {
        let ratio = input.placement.area_ratio(at).sqrt();
        let of = |shape| Kernel::new(shape, ratio).with_ringing(input.sampling.ringing);
        Self {
            pixels: of(input.sampling.shape),
            validity: of(Shape::Bilinear),
            // Three pixels to each side: drops have two at the most, and half of a canvas pixel.
            drops: Kernel::new(Shape::Lanczos3, 1.0),
        }
    }

    /// Of an input in its own middle: a panel may lie far from the canvas's.
    pub(super) fn of(input: &Input<'_>) -> Self {
        let middle = input.source.size().centre();
        Self::at(input, input.placement.invert().apply(middle))
    }
}

/// Rows that are placed at a time.
const PLACED_ROWS: usize = 32;

/// A small part of the canvas from one input, placed as a merge places it, and not balanced: for looking at.
/// `None` for an empty rectangle.
///
/// # Errors
/// When the source cannot be read.
pub fn placed(input: &Input<'_>, rect: Rect) -> Result<Option<Plane>, DoorError> {
    let Some(size) = Size::new(rect.width, rect.height) else {
        return Ok(None);
    };
    let at = Point::new(
        rect.x.real() + 0.5 * rect.width.real(),
        rect.y.real() + 0.5 * rect.height.real(),
    );
    let kernels = Kernels::at(input, at);
    let placing = Placing::of_pixels(input, &kernels);
    let mut out = Plane::filled(size, f32::NAN);
    // Some rows at a time, each of which sees a part of the frame alone.
    out.data_mut()
        .par_chunks_mut(rect.width * PLACED_ROWS)
        .enumerate()
        .try_for_each_init(Buffers::default, |buffers, (k, rows)| {
            let band = Rect {
                y: rect.y + (k * PLACED_ROWS).whole(),
                height: rows.len() / rect.width,
                ..rect
            };
            placing.place(band, buffers, rows)
        })?;
    Ok(Some(out))
}

/// Balances a rectangle of an input's values.
fn balanced(input: &Input<'_>, rect: Rect, buffers: &mut Buffers, out: &mut [f32]) {
    for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width)) {
        let gain = &mut buffers.gain;
        input.balance.apply_to_row(rect.x, y, row, gain);
    }
}

/// Fills a rectangle with the input's values, placed and balanced.
pub(super) fn values(
    input: &Input<'_>,
    kernels: &Kernels,
    rect: Rect,
    buffers: &mut Buffers,
    out: &mut [f32],
) -> Result<(), DoorError> {
    Placing::of_pixels(input, kernels).place(rect, buffers, out)?;
    balanced(input, rect, buffers, out);
    if input.sampling.keep == Keep::Flux {
        keep_flux(&input.placement, rect, out);
    }
    Ok(())
}

/// Fills a rectangle with the means of what falls on its pixels, balanced, and how much that is.
pub(super) fn dropped(
    (input, drops): (&Input<'_>, &Drops),
    kernels: &Kernels,
    rect: Rect,
    buffers: &mut Buffers,
    (out, coverage): (&mut [f32], &mut [f32]),
) -> Result<(), DoorError> {
    let placing = Placing {
        kernel: &kernels.drops,
        ..Placing::of_pixels(input, kernels)
    };
    let how = placing.resampling();
    let Some(needed) = window_for(&how, rect) else {
        out.fill(f32::NAN);
        coverage.fill(0.0);
        return Ok(());
    };
    buffers.window.resize(needed.area(), 0.0);
    placing.read(needed, &mut buffers.inside, &mut buffers.window)?;
    let window = Window {
        rect: needed,
        data: &buffers.window,
    };
    drop_onto(drops, &input.placement, &window, rect, (out, coverage));
    balanced(input, rect, buffers, out);
    Ok(())
}

/// Is an input wholly valid on a tile of the canvas, as far as its validity knows?
pub(super) fn is_wholly_valid(input: &Input<'_>, kernels: &Kernels, tile: Rect) -> bool {
    if input.drops.is_some() {
        return false;
    }
    let Some(source) = input.validity else {
        return true;
    };
    let needed = if let Some((dx, dy)) = input.placement.whole_shift() {
        Some(Rect {
            x: tile.x + dx,
            y: tile.y + dy,
            ..tile
        })
    } else {
        let how = Resampling {
            kernel: &kernels.validity,
            map: &input.placement,
            frame: source.size(),
            saturation: f32::INFINITY,
        };
        window_for(&how, tile)
    };
    needed.is_some_and(|needed| {
        let inside = needed.intersect(source.size().rect()) == needed;
        inside && source.constant(needed) == Some(1.0)
    })
}

/// Fills a rectangle with how far the input's values are valid.
pub(super) fn validity(
    (input, source): (&Input<'_>, &dyn FrameSource),
    kernels: &Kernels,
    rect: Rect,
    buffers: &mut Buffers,
    out: &mut [f32],
) -> Result<(), DoorError> {
    let from = Placing {
        source,
        mask: None,
        kernel: &kernels.validity,
        saturation: f32::INFINITY,
        placement: &input.placement,
    };
    from.place(rect, buffers, out)
}

/// Turns surface brightness into flux: each value times the frame pixels that its canvas pixel covers.
fn keep_flux(placement: &Placement, rect: Rect, values: &mut [f32]) {
    if placement.whole_shift().is_some() {
        return;
    }
    for (i, v) in values.iter_mut().enumerate() {
        let (x, y) = (i % rect.width, i / rect.width);
        let at = Point::new((rect.x + x.whole()).real(), (rect.y + y.whole()).real());
        *v *= placement.area_ratio(at).single();
    }
}

/// What pixels come from, and how they are placed.
struct Placing<'a> {
    source: &'a dyn FrameSource,
    mask: Option<&'a dyn Mask>,
    kernel: &'a Kernel,
    saturation: f32,
    placement: &'a Placement,
}

impl<'a> Placing<'a> {
    /// An input's own pixels.
    fn of_pixels(input: &'a Input<'a>, kernels: &'a Kernels) -> Self {
        Self {
            source: input.source,
            mask: input.mask,
            kernel: &kernels.pixels,
            saturation: input.saturation,
            placement: &input.placement,
        }
    }

    fn resampling(&self) -> Resampling<'a> {
        Resampling {
            kernel: self.kernel,
            map: self.placement,
            frame: self.source.size(),
            saturation: self.saturation,
        }
    }

    /// Pixels of a rectangle of the canvas: copied where the placement only shifts by whole pixels, resampled once
    /// elsewhere.
    fn place(&self, rect: Rect, buffers: &mut Buffers, out: &mut [f32]) -> Result<(), DoorError> {
        if let Some((dx, dy)) = self.placement.whole_shift() {
            let there = Rect {
                x: rect.x + dx,
                y: rect.y + dy,
                ..rect
            };
            return self.read(there, &mut buffers.inside, out);
        }
        let how = self.resampling();
        let Some(needed) = window_for(&how, rect) else {
            out.fill(f32::NAN);
            return Ok(());
        };
        buffers.window.resize(needed.area(), 0.0);
        self.read(needed, &mut buffers.inside, &mut buffers.window)?;
        let window = Window {
            rect: needed,
            data: &buffers.window,
        };
        resample(&how, &window, rect, &mut buffers.scratch, out);
        Ok(())
    }

    /// Reads a rectangle that may reach outside of the frame; NaN there, and where pixels do not count.
    fn read(&self, rect: Rect, spare: &mut Vec<f32>, out: &mut [f32]) -> Result<(), DoorError> {
        let inside = rect.intersect(self.source.size().rect());
        if inside == rect {
            self.source.read(rect, out)?;
            if let Some(mask) = self.mask {
                mask.hide(rect, out);
            }
            return Ok(());
        }
        out.fill(f32::NAN);
        if inside.is_empty() {
            return Ok(());
        }
        spare.resize(inside.area(), 0.0);
        self.source.read(inside, spare)?;
        if let Some(mask) = self.mask {
            mask.hide(inside, spare);
        }
        for (i, row) in spare.chunks_exact(inside.width).enumerate() {
            let at = (inside.y - rect.y).index() + i;
            let at = at * rect.width + (inside.x - rect.x).index();
            out[at..at + inside.width].copy_from_slice(row);
        }
        Ok(())
    }
}
