//! Tiles, budget and threads.
//!
//! Tiles are computed in batches by all threads while the batch before is stored: the sink gets them
//! in row order, from one thread. A tile's values depend on nothing but the tile, so any number of
//! threads and any budget give the same bits. An error of any source or of the sink stops the work.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;

use rayon::prelude::*;

use crate::balance::Balance;
use crate::doors::{DoorError, FrameSource, TileSink};
use crate::placement::Placement;
use crate::plane::Plane;
use crate::resample::{Kernel, Resampling, Ringing, Scratch, Shape, Window, resample, window_for};
use crate::space::{Point, Rect, Size};

/// A tile of 512 x 128 pixels: rows long enough to be read at the disk's pace, a window that fits
/// the second-level cache, and a border of the kernel's width that costs 8 %.
const TILE: (usize, usize) = (512, 128);

/// A frame that takes part in a merge.
pub struct Input<'a> {
    /// Its pixels.
    pub source: &'a dyn FrameSource,
    /// Where it lies.
    pub placement: Placement,
    /// How its values are matched.
    pub balance: Balance,
    /// Value from which its pixels are saturated, before balancing; infinity if unknown.
    pub saturation: f32,
    /// How its pixels become those of the canvas.
    pub sampling: Sampling,
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
    /// Flux: the sum over a star. Values go with the area of a canvas pixel in frame pixels.
    Flux,
}

/// A method that merges aligned values.
pub trait TileOp: Sync {
    /// Planes of the result.
    fn planes(&self) -> usize;

    /// Does an input take part in a tile of the canvas? One that does not is neither read nor resampled there.
    fn wants(&self, _input: usize, _tile: Rect) -> bool {
        true
    }

    /// Computes a run of pixels from the same run of every input, placed and balanced, NaN where
    /// there is no data; the run of an input that is not wanted is empty. `out` has a slice for each plane.
    fn run(&self, inputs: &[&[f32]], out: &mut [&mut [f32]]);
}

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

/// A finished tile.
struct Tile {
    rect: Rect,
    planes: Vec<Vec<f32>>,
}

/// Memory of one tile at work, kept from tile to tile.
#[derive(Default)]
struct Buffers {
    window: Vec<f32>,
    /// The part of a window inside of the frame, where the window reaches outside.
    inside: Vec<f32>,
    placed: Vec<Vec<f32>>,
    /// A row of a balance's gain.
    gain: Vec<f32>,
    scratch: Scratch,
}

/// Merges the inputs over the canvas with `op` into `sink`; `done` is told how many tiles of how many
/// are finished.
///
/// # Errors
/// The first failure of a source or of the sink. What the sink has got until then is not the result.
pub fn merge(
    inputs: &[Input<'_>],
    canvas: Size,
    op: &dyn TileOp,
    budget: Budget,
    sink: &mut (dyn TileSink + Send),
    done: &(dyn Fn(usize, usize) + Sync),
) -> Result<(), MergeError> {
    let kernels: Vec<Kernel> = inputs
        .iter()
        .map(|i| {
            // In the frame's own middle: a panel may lie far from the canvas's.
            let at = i.placement.invert().apply(i.source.size().centre());
            Kernel::new(i.sampling.shape, i.placement.area_ratio(at).sqrt())
                .with_ringing(i.sampling.ringing)
        })
        .collect();
    let tiles = tiles(canvas);
    let batch = batch_size(inputs.len(), op.planes(), budget);
    let pool: Mutex<Vec<Buffers>> = Mutex::default();
    let spare: Mutex<Vec<Vec<Vec<f32>>>> = Mutex::default();
    let finished = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        // One batch may wait while the sink works on the one before.
        let (send, receive) = sync_channel::<Vec<Tile>>(1);
        let spare = &spare;
        let storing = scope.spawn(move || -> Result<(), DoorError> {
            for batch in receive {
                for tile in batch {
                    let planes: Vec<&[f32]> = tile.planes.iter().map(Vec::as_slice).collect();
                    sink.put(tile.rect, &planes)?;
                    lock(spare).push(tile.planes);
                }
            }
            Ok(())
        });
        let mut outcome = Ok(());
        for rects in tiles.chunks(batch) {
            let computed: Result<Vec<Tile>, MergeError> = rects
                .par_iter()
                .map(|rect| {
                    let mut buffers = lock(&pool).pop().unwrap_or_default();
                    let mut planes = lock(spare).pop().unwrap_or_default();
                    let tile = compute(inputs, &kernels, op, *rect, &mut buffers, &mut planes);
                    lock(&pool).push(buffers);
                    done(finished.fetch_add(1, Ordering::Relaxed) + 1, tiles.len());
                    tile.map(|()| Tile {
                        rect: *rect,
                        planes,
                    })
                })
                .collect();
            match computed {
                // A closed channel means that the sink failed: its own error is the better word.
                Ok(batch) => {
                    if send.send(batch).is_err() {
                        break;
                    }
                }
                Err(e) => {
                    outcome = Err(e);
                    break;
                }
            }
        }
        drop(send);
        match storing.join() {
            Ok(stored) => outcome.and(stored.map_err(MergeError::Sink)),
            Err(panic) => std::panic::resume_unwind(panic),
        }
    })
}

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
        rect.x as f64 + 0.5 * rect.width as f64,
        rect.y as f64 + 0.5 * rect.height as f64,
    );
    let kernel = Kernel::new(input.sampling.shape, input.placement.area_ratio(at).sqrt())
        .with_ringing(input.sampling.ringing);
    let mut out = Plane::filled(size, f32::NAN);
    place(
        input,
        &kernel,
        rect,
        &mut Buffers::default(),
        out.data_mut(),
    )?;
    Ok(Some(out))
}

/// A poisoned pool only means that another thread has panicked; its buffers are still buffers.
fn lock<T>(m: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    m.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// All tiles of the canvas in row order.
fn tiles(canvas: Size) -> Vec<Rect> {
    let (w, h) = TILE;
    (0..canvas.height())
        .step_by(h)
        .flat_map(|y| (0..canvas.width()).step_by(w).map(move |x| (x, y)))
        .map(|(x, y)| Rect {
            x: x as i64,
            y: y as i64,
            width: w.min(canvas.width() - x),
            height: h.min(canvas.height() - y),
        })
        .collect()
}

/// Tiles a batch: as many as the budget holds three times (one computed, one waiting, one stored),
/// but enough to keep all threads busy.
fn batch_size(inputs: usize, planes: usize, budget: Budget) -> usize {
    let threads = rayon::current_num_threads();
    let pixels = TILE.0 * TILE.1 * size_of::<f32>();
    let at_work = threads * (inputs + 2) * pixels;
    let fitting = budget.bytes.saturating_sub(at_work) / (3 * planes * pixels);
    fitting.clamp(2 * threads, 64 * threads)
}

/// One tile from all inputs.
fn compute(
    inputs: &[Input<'_>],
    kernels: &[Kernel],
    op: &dyn TileOp,
    rect: Rect,
    buffers: &mut Buffers,
    planes: &mut Vec<Vec<f32>>,
) -> Result<(), MergeError> {
    let mut all = std::mem::take(&mut buffers.placed);
    all.resize_with(inputs.len(), Vec::new);
    for (i, ((input, kernel), placed)) in inputs.iter().zip(kernels).zip(&mut all).enumerate() {
        if !op.wants(i, rect) {
            placed.clear();
            continue;
        }
        placed.resize(rect.area(), 0.0);
        place(input, kernel, rect, buffers, placed)
            .map_err(|error| MergeError::Source { input: i, error })?;
        if input.sampling.keep == Keep::Flux {
            keep_flux(&input.placement, rect, placed);
        }
        for (r, row) in placed.chunks_exact_mut(rect.width).enumerate() {
            let y = rect.y + r as i64;
            input
                .balance
                .apply_to_row(rect.x, y, row, &mut buffers.gain);
        }
    }
    buffers.placed = all;
    planes.resize_with(op.planes(), Vec::new);
    for p in planes.iter_mut() {
        p.resize(rect.area(), 0.0);
    }
    for start in (0..rect.area()).step_by(rect.width) {
        let run = start..start + rect.width;
        let part = |p: &'_ Vec<f32>| if p.is_empty() { 0..0 } else { run.clone() };
        let from: Vec<&[f32]> = buffers.placed.iter().map(|p| &p[part(p)]).collect();
        let mut to: Vec<&mut [f32]> = planes.iter_mut().map(|p| &mut p[run.clone()]).collect();
        op.run(&from, &mut to);
    }
    Ok(())
}

/// Turns surface brightness into flux: each value times the frame pixels that its canvas pixel covers.
fn keep_flux(placement: &Placement, rect: Rect, values: &mut [f32]) {
    if placement.whole_shift().is_some() {
        return;
    }
    for (i, v) in values.iter_mut().enumerate() {
        let (x, y) = (i % rect.width, i / rect.width);
        let at = Point::new((rect.x + x as i64) as f64, (rect.y + y as i64) as f64);
        *v *= placement.area_ratio(at) as f32;
    }
}

/// The input's pixels on the tile: copied where the placement only shifts by whole pixels, resampled
/// once elsewhere.
fn place(
    input: &Input<'_>,
    kernel: &Kernel,
    rect: Rect,
    buffers: &mut Buffers,
    out: &mut [f32],
) -> Result<(), DoorError> {
    let size = input.source.size();
    if let Some((dx, dy)) = input.placement.whole_shift() {
        let there = Rect {
            x: rect.x + dx,
            y: rect.y + dy,
            ..rect
        };
        if let Some(v) = constant(input.source, there) {
            out.fill(v);
            return Ok(());
        }
        return read_padded(input.source, there, &mut buffers.inside, out);
    }
    let how = Resampling {
        kernel,
        map: &input.placement,
        frame: size,
        saturation: input.saturation,
    };
    let Some(needed) = window_for(&how, rect) else {
        out.fill(f32::NAN);
        return Ok(());
    };
    if let Some(v) = constant(input.source, needed) {
        out.fill(v);
        return Ok(());
    }
    buffers.window.resize(needed.area(), 0.0);
    read_padded(
        input.source,
        needed,
        &mut buffers.inside,
        &mut buffers.window,
    )?;
    let window = Window {
        rect: needed,
        data: &buffers.window,
    };
    resample(&how, &window, rect, &mut buffers.scratch, out);
    Ok(())
}

/// The one value of a rectangle that lies inside of the frame, where its source knows of one.
fn constant(source: &dyn FrameSource, rect: Rect) -> Option<f32> {
    let inside = rect.intersect(source.size().rect()) == rect;
    inside.then(|| source.constant(rect)).flatten()
}

/// Reads a rectangle that may reach outside of the frame; NaN there.
fn read_padded(
    source: &dyn FrameSource,
    rect: Rect,
    spare: &mut Vec<f32>,
    out: &mut [f32],
) -> Result<(), DoorError> {
    let inside = rect.intersect(source.size().rect());
    if inside == rect {
        return source.read(rect, out);
    }
    out.fill(f32::NAN);
    if inside.is_empty() {
        return Ok(());
    }
    spare.resize(inside.area(), 0.0);
    source.read(inside, spare)?;
    for (i, row) in spare.chunks_exact(inside.width).enumerate() {
        let at = (inside.y - rect.y) as usize + i;
        let at = at * rect.width + (inside.x - rect.x) as usize;
        out[at..at + inside.width].copy_from_slice(row);
    }
    Ok(())
}
