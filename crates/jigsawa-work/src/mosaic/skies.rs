//! One look at each frame: what its sky shows at the points of the lattice, up to where it is covered, and a small copy.

use jigsawa_core::number::Convert;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use jigsawa_core::balance::{Lattice, Samples};
use jigsawa_core::binned;
use jigsawa_core::doors::Mask;
use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::mosaic::cells::{Cells, Cover};
use jigsawa_core::placement::Placement;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Point, Rect, Size};
use jigsawa_core::stars::Catalogue;

use crate::frames::Frame;
use crate::run::Run;
use crate::trouble::Trouble;

/// What a frame shows.
pub struct Seen {
    pub samples: Samples,
    /// The part that is covered well.
    pub coverage: Coverage,
    pub cover: Cover,
    /// The frame on the small canvas of the report, as it is.
    pub small: Small,
}

/// A part of a small canvas.
pub struct Small {
    /// Canvas pixels for one of it.
    pub step: usize,
    pub window: Rect,
    pub values: Vec<f32>,
}

/// A frame that is looked at.
pub struct ToSee<'a> {
    pub frame: &'a Frame,
    pub placement: &'a Placement,
    pub catalogue: &'a Catalogue,
}

/// The longer side of the report's small canvas.
const SMALL: usize = 900;

/// Frames that go through memory at once: one is read while another is worked on.
const AT_ONCE: usize = 2;

/// Looks at frames.
pub fn skies(
    frames: &[ToSee<'_>],
    lattice: Lattice,
    cells: Cells,
    run: &Run<'_>,
) -> Result<Vec<Seen>, Trouble> {
    let progress = run.begin("skies", frames.len());
    let next = AtomicUsize::new(0);
    let done: Vec<Mutex<Option<Result<Seen, Trouble>>>> =
        frames.iter().map(|_| Mutex::default()).collect();
    let work = || {
        let mut buffer = Vec::new();
        loop {
            let k = next.fetch_add(1, Ordering::Relaxed);
            let Some(f) = frames.get(k) else { break };
            let seen = one(f, lattice, cells, &mut buffer);
            if let Ok(mut slot) = done[k].lock() {
                *slot = Some(seen);
            }
            progress.step();
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE.min(frames.len()) {
            scope.spawn(work);
        }
    });
    done.into_iter()
        .filter_map(|slot| slot.into_inner().ok().flatten())
        .collect()
}

fn one(
    f: &ToSee<'_>,
    lattice: Lattice,
    cells: Cells,
    buffer: &mut Vec<f32>,
) -> Result<Seen, Trouble> {
    let mut plane = f
        .frame
        .read_plane(std::mem::take(buffer))
        .map_err(|e| Trouble::Files(vec![(f.frame.path.clone(), e)]))?;
    let coverage = Coverage::of(&plane);
    // What another program writes where it has nothing is no sky.
    let whole = plane.size().rect();
    coverage.hide(whole, plane.data_mut());
    let saturation = f.frame.facts.saturation.or(f.catalogue.saturation);
    let seen = Seen {
        samples: Samples::take(&plane, f.placement, f.catalogue, saturation, lattice),
        cover: Cover::of(&plane, f.placement, &coverage, cells),
        small: Small::of(&plane, f.placement, cells.canvas),
        coverage,
    };
    *buffer = plane.into_data();
    Ok(seen)
}

impl Small {
    fn of(plane: &Plane, placement: &Placement, canvas: Size) -> Self {
        let step = canvas.width().max(canvas.height()).div_ceil(SMALL);
        let bin = (step / 2).max(1);
        let fine = binned(plane, bin);
        let back = placement.invert();
        let corners = plane.size().corners().map(|p| back.apply(p));
        let on_small = |v: f64| (v + 0.5) / step.real() - 0.5;
        let around = Rect::around(corners.map(|p| Point::<()>::new(on_small(p.x), on_small(p.y))));
        let whole = Rect {
            x: 0,
            y: 0,
            width: canvas.width().div_ceil(step),
            height: canvas.height().div_ceil(step),
        };
        let window = around.intersect(whole);
        let values = (0..window.area())
            .map(|k| {
                let at = |from: i64, k: usize| {
                    (from + k.whole()).real() * step.real() + 0.5 * (step.real() - 1.0)
                };
                let (x, y) = (
                    at(window.x, k % window.width),
                    at(window.y, k / window.width),
                );
                let p = placement.apply(Point::new(x, y));
                let in_bin = |v: f64| ((v + 0.5) / bin.real()).floor().whole();
                fine.at(in_bin(p.x), in_bin(p.y))
            })
            .collect();
        Self {
            step,
            window,
            values,
        }
    }
}
