//! Tiles, budget and threads.
//!
//! Tiles are computed in batches by all threads while the batch before is stored: the sink gets them
//! in row order, from one thread. A tile's values depend on nothing but the tile, so any number of
//! threads and any budget give the same bits. An error of any source or of the sink stops the work.

use crate::number::Convert;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;

use rayon::prelude::*;

use super::contract::{Band, Budget, Input, MergeError, Overlay, ROWS, Row, TileOp};
use super::place::{Buffers, Kernels, dropped, is_wholly_valid, validity, values};
use crate::doors::{DoorError, TileSink};
use crate::space::{Rect, Size};

/// A tile of 512 x 128 pixels: rows long enough to be read at the disk's pace, a window that fits
/// the second-level cache, and a border of the kernel's width that costs 8 %.
const TILE: (usize, usize) = (512, 128);

/// A finished tile.
struct Tile {
    rect: Rect,
    planes: Vec<Vec<f32>>,
}

/// Memory of one tile at work, kept from tile to tile.
#[derive(Default)]
struct AtWork {
    values: Vec<Vec<f32>>,
    validity: Vec<Vec<f32>>,
    overlays: Vec<Vec<f32>>,
    buffers: Buffers,
    /// Memory of inputs that have no part in the present tile, for those that have: of hundreds of panels a tile shows a few.
    spare: Vec<Vec<f32>>,
}

/// Gives back the memory of runs that are not `wanted`, and takes it for those that are.
fn hand_on(runs: &mut [Vec<f32>], wanted: &[bool], spare: &mut Vec<Vec<f32>>) {
    let mut runs: Vec<(&mut Vec<f32>, &bool)> = runs.iter_mut().zip(wanted).collect();
    for (run, _) in runs.iter_mut().filter(|(_, wanted)| !**wanted) {
        if run.capacity() > 0 {
            spare.push(std::mem::take(*run));
        }
    }
    for (run, _) in runs.iter_mut().filter(|(_, wanted)| **wanted) {
        if run.capacity() == 0 {
            **run = spare.pop().unwrap_or_default();
        }
    }
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
    merge_parts(inputs, &tiles(canvas), op, budget, sink, done)
}

/// The same over parts of the canvas alone, each no larger than a tile; a pixel gets the same bits as with the whole.
///
/// # Errors
/// As [`merge`].
pub fn merge_parts(
    inputs: &[Input<'_>],
    tiles: &[Rect],
    op: &dyn TileOp,
    budget: Budget,
    sink: &mut (dyn TileSink + Send),
    done: &(dyn Fn(usize, usize) + Sync),
) -> Result<(), MergeError> {
    let kernels: Vec<Kernels> = inputs.iter().map(Kernels::of).collect();
    let work = Work {
        inputs,
        kernels: &kernels,
        op,
        most_bytes: budget.bytes / (2 * rayon::current_num_threads()),
    };
    let batch = batch_size(op.planes(), budget);
    let pool: Mutex<Vec<AtWork>> = Mutex::default();
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
                    let mut at_work = lock(&pool).pop().unwrap_or_default();
                    let mut planes = lock(spare).pop().unwrap_or_default();
                    let tile = work.tile(*rect, &mut at_work, &mut planes);
                    lock(&pool).push(at_work);
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

/// A poisoned pool only means that another thread has panicked; its buffers are still buffers.
fn lock<T>(m: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    m.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// All tiles of the canvas in row order.
fn tiles(canvas: Size) -> Vec<Rect> {
    parts(canvas, TILE)
}

/// A canvas cut into rectangles of a size, the last ones smaller, in row order.
pub fn parts(canvas: Size, (w, h): (usize, usize)) -> Vec<Rect> {
    (0..canvas.height())
        .step_by(h)
        .flat_map(|y| (0..canvas.width()).step_by(w).map(move |x| (x, y)))
        .map(|(x, y)| Rect {
            x: x.whole(),
            y: y.whole(),
            width: w.min(canvas.width() - x),
            height: h.min(canvas.height() - y),
        })
        .collect()
}

/// Tiles a batch: as many as half of the budget holds three times (one computed, one waiting, one stored), but enough to keep
/// all threads busy.
fn batch_size(planes: usize, budget: Budget) -> usize {
    let threads = rayon::current_num_threads();
    let tile = TILE.0 * TILE.1 * size_of::<f32>();
    let fitting = budget.bytes / (2 * 3 * planes * tile);
    fitting.clamp(threads, 64 * threads)
}

/// What all tiles have in common.
struct Work<'a> {
    inputs: &'a [Input<'a>],
    kernels: &'a [Kernels],
    op: &'a dyn TileOp,
    /// Bytes that the inputs of one tile may take.
    most_bytes: usize,
}

impl Work<'_> {
    /// One tile from all inputs. What is decided for it is decided for the whole of it, so that its values do not depend on
    /// how many of its rows are at work at once.
    fn tile(
        &self,
        tile: Rect,
        at_work: &mut AtWork,
        planes: &mut Vec<Vec<f32>>,
    ) -> Result<(), MergeError> {
        let Self {
            inputs,
            kernels,
            op,
            ..
        } = self;
        let reach = op.reach();
        let wide = tile.grown(reach);
        let wanted: Vec<bool> = (0..inputs.len()).map(|i| op.wants(i, tile)).collect();
        let doubted: Vec<bool> = (0..inputs.len())
            .map(|i| wanted[i] && !is_wholly_valid(&inputs[i], &kernels[i], wide))
            .collect();
        let overlays: Vec<Overlay> = (0..op.overlays()).map(|k| op.overlay(k, wide)).collect();
        let count = |all: &[bool]| all.iter().filter(|on| **on).count();
        let present = overlays.iter().filter(|f| **f != Overlay::Absent).count();
        let of_row = (count(&wanted) + count(&doubted) + present + 2) * wide.width;
        let rows = self.most_bytes / (of_row * size_of::<f32>());
        let rows = (rows / ROWS * ROWS).clamp(ROWS, TILE.1);
        planes.resize_with(op.planes(), Vec::new);
        for p in planes.iter_mut() {
            p.resize(tile.area(), 0.0);
        }
        at_work.values.resize_with(inputs.len(), Vec::new);
        at_work.validity.resize_with(inputs.len(), Vec::new);
        at_work.overlays.resize_with(overlays.len(), Vec::new);
        hand_on(&mut at_work.values, &wanted, &mut at_work.spare);
        hand_on(&mut at_work.validity, &doubted, &mut at_work.spare);
        for from in (0..tile.height).step_by(rows) {
            let band = Rect {
                y: tile.y + from.whole(),
                height: rows.min(tile.height - from),
                ..tile
            };
            self.gather(band.grown(reach), (&wanted, &doubted, &overlays), at_work)
                .map_err(|(input, error)| MergeError::Source { input, error })?;
            self.run((band, reach), from, at_work, planes);
        }
        Ok(())
    }

    /// Brings together what the method gets of a band of rows.
    fn gather(
        &self,
        band: Rect,
        (wanted, doubted, overlays): (&[bool], &[bool], &[Overlay]),
        at_work: &mut AtWork,
    ) -> Result<(), (usize, DoorError)> {
        let buffers = &mut at_work.buffers;
        for (i, (input, kernels)) in self.inputs.iter().zip(self.kernels).enumerate() {
            let (placed, valid) = (&mut at_work.values[i], &mut at_work.validity[i]);
            placed.resize(if wanted[i] { band.area() } else { 0 }, 0.0);
            valid.resize(if doubted[i] { band.area() } else { 0 }, 0.0);
            if let Some(drops) = input.drops.as_ref().filter(|_| wanted[i]) {
                dropped((input, drops), kernels, band, buffers, (placed, valid))
                    .map_err(|e| (i, e))?;
                continue;
            }
            if wanted[i] {
                values(input, kernels, band, buffers, placed).map_err(|e| (i, e))?;
            }
            if let Some(source) = input.validity.filter(|_| doubted[i]) {
                validity((input, source), kernels, band, buffers, valid).map_err(|e| (i, e))?;
            }
        }
        for (k, (overlay, out)) in overlays.iter().zip(&mut at_work.overlays).enumerate() {
            match overlay {
                Overlay::Absent => out.clear(),
                Overlay::Level(level) => {
                    out.clear();
                    out.resize(band.area(), *level);
                }
                Overlay::Varies => {
                    out.resize(band.area(), 0.0);
                    self.op.fill(k, band, out);
                }
            }
        }
        Ok(())
    }

    /// Hands a band to the method; its rows become those of the tile from `first` on.
    fn run(
        &self,
        (rect, reach): (Rect, usize),
        first: usize,
        at_work: &AtWork,
        planes: &mut [Vec<f32>],
    ) {
        fn slices(all: &[Vec<f32>]) -> Vec<&[f32]> {
            all.iter().map(Vec::as_slice).collect()
        }
        let there = first * rect.width..first * rect.width + rect.area();
        let mut out: Vec<&mut [f32]> = planes.iter_mut().map(|p| &mut p[there.clone()]).collect();
        let runs = Row {
            values: &slices(&at_work.values),
            validity: &slices(&at_work.validity),
            overlays: &slices(&at_work.overlays),
        };
        self.op.run_band(&Band { rect, reach, runs }, &mut out);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::balance::{Balance, Surface};
    use crate::doors::FrameSource;
    use crate::placement::Map;
    use crate::plane::Plane;

    /// A frame that remembers the largest window that was read of it.
    struct Watched {
        plane: Plane,
        most: AtomicUsize,
    }

    impl FrameSource for Watched {
        fn size(&self) -> Size {
            self.plane.size()
        }

        fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
            self.most.fetch_max(rect.area(), Ordering::Relaxed);
            self.plane.read(rect, out)
        }
    }

    /// The mean of what is valid, with a field of its own that is added.
    struct Mean(usize);

    impl TileOp for Mean {
        fn planes(&self) -> usize {
            1
        }

        fn wants(&self, input: usize, tile: Rect) -> bool {
            input < self.0 || tile.x == 0
        }

        fn overlays(&self) -> usize {
            3
        }

        fn overlay(&self, overlay: usize, tile: Rect) -> Overlay {
            match overlay {
                0 => Overlay::Absent,
                1 => Overlay::Level(0.5),
                _ if tile.y == 0 => Overlay::Varies,
                _ => Overlay::Absent,
            }
        }

        fn fill(&self, overlay: usize, rect: Rect, out: &mut [f32]) {
            assert_eq!(overlay, 2);
            for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width)) {
                row.fill(y.single());
            }
        }

        fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]) {
            assert!(row.overlays[0].is_empty());
            for (x, o) in out[0].iter_mut().enumerate() {
                let (mut sum, mut all) = (0.0, 0.0);
                for (i, values) in row.values.iter().enumerate() {
                    let valid = row.validity_of(i).get(x).copied().unwrap_or(1.0);
                    if let Some(v) = values.get(x).filter(|v| v.is_finite() && valid > 0.0) {
                        sum += valid * v;
                        all += valid;
                    }
                }
                let varies = row.overlays[2].get(x).copied().unwrap_or(0.0);
                *o = sum / all + row.overlays[1][x] + varies;
            }
        }
    }

    #[test]
    fn of_many_inputs_only_those_of_a_tile_have_memory() {
        let (mut runs, mut spare) = (vec![Vec::new(); 60], Vec::new());
        for tile in 0..59 {
            let wanted: Vec<bool> = (0..60).map(|i| i == tile || i == tile + 1).collect();
            hand_on(&mut runs, &wanted, &mut spare);
            for (run, _) in runs.iter_mut().zip(&wanted).filter(|(_, w)| **w) {
                run.resize(100, 1.0);
            }
            let held = runs.iter().chain(&spare).filter(|r| r.capacity() > 0);
            assert_eq!(held.count(), 2);
        }
    }

    #[test]
    fn little_memory_takes_fewer_rows_at_once_and_gives_the_same_bits() {
        let size = Size::new(700, 300).unwrap();
        let frames: Vec<Watched> = (0..24)
            .map(|k| Watched {
                plane: Plane::from_fn(size, |x, y| ((x * 7 + y * 13 + k) % 101).single()),
                most: AtomicUsize::new(0),
            })
            .collect();
        let valid = Plane::from_fn(size, |x, y| ((x + y) % 9).single() / 8.0);
        let inputs: Vec<Input<'_>> = (frames.iter().enumerate())
            .map(|(k, f)| Input {
                validity: (k % 3 == 0).then_some(&valid as &dyn FrameSource),
                ..Input::new(
                    f,
                    Map::shift(0.1 * k.real(), 1.7),
                    Balance {
                        surface: Surface::constant(k.real()),
                        ..Balance::unchanged(0.0, 1.0)
                    },
                )
            })
            .collect();
        let merged = |bytes: usize| {
            for f in &frames {
                f.most.store(0, Ordering::Relaxed);
            }
            let mut out = vec![Plane::filled(size, 0.0)];
            let budget = Budget { bytes };
            merge(&inputs, size, &Mean(20), budget, &mut out, &|_, _| ()).unwrap();
            let most = frames.iter().map(|f| f.most.load(Ordering::Relaxed)).max();
            (out.remove(0), most.unwrap())
        };
        let (much, wide) = merged(1 << 30);
        let (little, narrow) = merged(1 << 20);
        let bits = |p: &Plane| p.data().iter().map(|v| v.to_bits()).collect::<Vec<_>>();
        assert!(bits(&much) == bits(&little));
        // All but the two rows below all frames.
        assert!(much.data()[..700 * 298].iter().all(|v| v.is_finite()));
        // Eight rows with the kernel's border, and not a hundred and twenty-eight.
        assert!(narrow <= 16 * 520 && wide > 128 * 512, "{narrow} {wide}");
    }
}
