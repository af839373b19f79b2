//! Whole tiles at a time: the fast twin of the plain sample.
//!
//! Positions of a row are computed first; what lies well inside of the frame is one run of the row, which
//! `run` fills; the few samples at edges go the plain way.

use crate::number::Convert;
use std::ops::Range;

use multiversion::multiversion;

use crate::placement::{Distortion, Placement};
use crate::space::{FramePx, Point, Rect, Size};

use super::kernel::{Kernel, PHASES, inside, steps};
use super::run::Run;
use super::sample::{Window, sample_at};

/// Memory of [`resample`], kept from tile to tile.
#[derive(Debug, Default)]
pub struct Scratch {
    /// Frame positions of a row of the tile, in steps.
    x: Vec<i32>,
    y: Vec<i32>,
}

/// How one frame is resampled.
#[derive(Debug, Clone, Copy)]
pub struct Resampling<'a> {
    /// The weights.
    pub kernel: &'a Kernel,
    /// Where the frame lies.
    pub map: &'a Placement,
    /// Its pixels.
    pub frame: Size,
    /// The value from which its pixels are saturated; infinity if unknown.
    pub saturation: f32,
}

/// The pixels of the frame that a tile of the canvas needs, or `None` when it needs none. The
/// rectangle reaches outside of the frame by up to the kernel's width.
pub fn window_for(how: &Resampling<'_>, tile: Rect) -> Option<Rect> {
    let Resampling {
        kernel, map, frame, ..
    } = *how;
    // The matrix is projective and without a fold on the canvas: corners bound the inside, and a distortion
    // moves no point by more than its bound.
    let (x0, y0) = (tile.x.real(), tile.y.real());
    let (x1, y1) = ((tile.right() - 1).real(), (tile.bottom() - 1).real());
    let [grow_x, grow_y] = map.distortion().map_or([0.0; 2], Distortion::bound);
    let corners = [(x0, y0), (x1, y0), (x1, y1), (x0, y1)];
    let reached = corners.into_iter().flat_map(|(x, y)| {
        let p = map.unbent(Point::new(x, y));
        [(-grow_x, -grow_y), (grow_x, grow_y)].map(|(dx, dy)| (p.x + dx, p.y + dy))
    });
    let needed = Rect::around(reached.map(|(x, y)| {
        // Far outside is as good as just outside.
        let bound = |v: f64, n: usize| v.clamp(-64.0, n.real() + 64.0);
        Point::<FramePx>::new(bound(x, frame.width()), bound(y, frame.height()))
    }));
    if needed.intersect(frame.rect()).is_empty() {
        return None;
    }
    let half = kernel.taps() / 2;
    Some(Rect {
        x: needed.x - half.whole(),
        y: needed.y - half.whole(),
        width: needed.width + 2 * half + kernel.padding(),
        height: needed.height + 2 * half,
    })
}

/// Fills the tile of the canvas from a window of the frame that [`window_for`] asked for. Outside of
/// the frame, and where pixels are missing, the tile is NaN.
///
/// # Panics
/// When `out` does not have `tile.area()` values.
pub fn resample(
    how: &Resampling<'_>,
    window: &Window<'_>,
    tile: Rect,
    scratch: &mut Scratch,
    out: &mut [f32],
) {
    let Resampling {
        kernel,
        map,
        frame,
        saturation,
    } = *how;
    assert_eq!(out.len(), tile.area());
    for (i, row) in out.chunks_exact_mut(tile.width).enumerate() {
        let Scratch { x, y } = scratch;
        positions(map, tile, tile.y + i.whole(), x, y);
        // The frame is convex: what lies well inside of it is one run of the row.
        let run = inner_run(kernel, window, frame, x, y);
        let (from, to) = (run.start, run.end);
        let inner = Run {
            kernel,
            window,
            saturation,
            x: &x[from..to],
            y: &y[from..to],
            out: &mut row[from..to],
        };
        inner.fill();
        for i in (0..from).chain(to..tile.width) {
            row[i] = if inside(x[i], frame.width()) && inside(y[i], frame.height()) {
                sample_at(kernel, window, (x[i], y[i]), saturation)
            } else {
                f32::NAN
            };
        }
    }
}

/// Frame positions of one row of the tile, in steps.
#[multiversion(targets("x86_64+avx2"))]
fn positions(map: &Placement, tile: Rect, y: i64, at_x: &mut Vec<i32>, at_y: &mut Vec<i32>) {
    at_x.resize(tile.width, 0);
    at_y.resize(tile.width, 0);
    let line = Line::new(map, y.real());
    if let Some(distortion) = map.distortion() {
        return distorted_positions(distortion, &line, tile, at_x, at_y);
    }
    for (i, (px, py)) in at_x.iter_mut().zip(at_y.iter_mut()).enumerate() {
        let (u, v) = line.at(tile.x.real() + i.real());
        (*px, *py) = (steps(u), steps(v));
    }
}

/// A row of the canvas through the matrix of a placement.
struct Line {
    slope: [f64; 3],
    start: [f64; 3],
    affine: bool,
}

impl Line {
    fn new(map: &Placement, y: f64) -> Self {
        let m = map.rows();
        Self {
            slope: [m[0][0], m[1][0], m[2][0]],
            start: [0, 1, 2].map(|k| m[k][1] * y + m[k][2]),
            affine: m[2][0] == 0.0 && m[2][1] == 0.0,
        }
    }

    #[inline]
    fn at(&self, x: f64) -> (f64, f64) {
        let [u, v, z] = [0, 1, 2].map(|k| self.slope[k] * x + self.start[k]);
        if self.affine { (u, v) } else { (u / z, v / z) }
    }
}

/// Columns between those at which what a distortion adds is exact.
const KNOT: i64 = 32;

/// The same through a distortion. What it adds is exact at every thirty-second column of the canvas and on a cubic
/// through the four nearest of these between: off by less than a hundredth of a step for a lens of 5 px over 1000 px.
/// Exact everywhere was the simpler way, at the cost of the interpolation itself, and lines between every eighth
/// column still took half of it.
#[inline]
fn distorted_positions(
    distortion: &Distortion,
    line: &Line,
    tile: Rect,
    at_x: &mut [i32],
    at_y: &mut [i32],
) {
    let added = |x: i64| {
        let (u, v) = line.at(x.real());
        let (p, q) = distortion.apply(u, v);
        [p - u, q - v]
    };
    let mut knot = tile.x.div_euclid(KNOT) * KNOT;
    let mut near = [-1, 0, 1, 2].map(|k| added(knot + k * KNOT));
    while knot < tile.right() {
        let [a, b] = [0, 1].map(|axis| cubic(near.map(|n| n[axis])));
        let from = knot.max(tile.x);
        let run = (from - tile.x).index()..((knot + KNOT).min(tile.right()) - tile.x).index();
        let columns = at_x[run.clone()].iter_mut().zip(&mut at_y[run]);
        for (i, (px, py)) in columns.enumerate() {
            let x = (from + i.whole()).real();
            let (u, v) = line.at(x);
            let t = (x - knot.real()) / KNOT.real();
            (*px, *py) = (
                steps(u + (a[0] + t * (a[1] + t * (a[2] + t * a[3])))),
                steps(v + (b[0] + t * (b[1] + t * (b[2] + t * b[3])))),
            );
        }
        knot += KNOT;
        if knot < tile.right() {
            near = [near[1], near[2], near[3], added(knot + 2 * KNOT)];
        }
    }
}

/// The cubic through values at -1, 0, 1 and 2, from its constant on.
fn cubic([before, here, next, after]: [f64; 4]) -> [f64; 4] {
    let bend = 0.5 * (before + next) - here;
    let twist = (after - before - 3.0 * (next - here)) / 6.0;
    [here, next - here - bend - twist, bend, twist]
}

/// The run of a row whose positions lie on the frame with all their taps in the window.
fn inner_run(
    kernel: &Kernel,
    window: &Window<'_>,
    frame: Size,
    x: &[i32],
    y: &[i32],
) -> Range<usize> {
    let before = kernel.taps().whole() / 2 - 1;
    let bounds = |pixels: usize, first: i64, len: usize, taps: i64| {
        let half = PHASES.whole() / 2;
        let low = ((first + before) * PHASES.whole()).max(-half);
        let high = ((first + len.whole() - taps + before + 1) * PHASES.whole())
            .min(pixels.whole() * PHASES.whole() - half);
        low.i32()..high.i32()
    };
    let rect = window.rect;
    let in_x = bounds(
        frame.width(),
        rect.x,
        rect.width,
        (kernel.taps() + kernel.padding()).whole(),
    );
    let in_y = bounds(frame.height(), rect.y, rect.height, kernel.taps().whole());
    let fits = |i: &usize| in_x.contains(&x[*i]) && in_y.contains(&y[*i]);
    let Some(from) = (0..x.len()).find(fits) else {
        return 0..0;
    };
    let to = (from..x.len()).rfind(fits).map_or(from, |i| i + 1);
    from..to
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Map;
    use crate::plane::Plane;
    use crate::resample::Shape;
    use crate::resample::lanes::Portable;
    use proptest::prelude::*;

    fn rough_plane(size: Size, holes: bool) -> Plane {
        Plane::from_fn(size, |x, y| {
            let v = (x * 7919 + y * 104_729) % 1009;
            if holes && v % 97 == 3 {
                f32::NAN
            } else if v == 500 {
                40_000.0
            } else {
                v.single() - 300.0
            }
        })
    }

    /// Both ways over one tile; gives how many samples there were.
    fn compare(shape: Shape, map: &Placement, plane: &Plane, tile: Rect, saturation: f32) -> usize {
        let kernel = Kernel::new(shape, map.area_ratio(Point::new(0.0, 0.0)).sqrt());
        let mut out = vec![0.0; tile.area()];
        let how = Resampling {
            kernel: &kernel,
            map,
            frame: plane.size(),
            saturation,
        };
        let Some(rect) = window_for(&how, tile) else {
            return 0;
        };
        let mut data = vec![0.0; rect.area()];
        plane.window(rect, &mut data);
        let window = Window { rect, data: &data };
        let size = plane.size();
        resample(&how, &window, tile, &mut Scratch::default(), &mut out);
        let whole = Window {
            rect: size.rect(),
            data: plane.data(),
        };
        let mut seen = 0;
        let (mut xs, mut ys) = (Vec::new(), Vec::new());
        for (i, row) in out.chunks_exact(tile.width).enumerate() {
            positions(map, tile, tile.y + i.whole(), &mut xs, &mut ys);
            // The way of machines without wide vectors gives the same.
            let run = inner_run(&kernel, &window, size, &xs, &ys);
            let mut again = vec![0.0; run.len()];
            let portable = Run {
                kernel: &kernel,
                window: &window,
                saturation,
                x: &xs[run.clone()],
                y: &ys[run.clone()],
                out: &mut again,
            };
            portable.fill_by(Portable);
            for (a, b) in again.iter().zip(&row[run]) {
                assert!(a.to_bits() == b.to_bits() || (a.is_nan() && b.is_nan()));
            }
            for (v, (x, y)) in row.iter().zip(xs.iter().zip(&ys)) {
                let on_frame = inside(*x, size.width()) && inside(*y, size.height());
                let want = if on_frame {
                    sample_at(&kernel, &whole, (*x, *y), saturation)
                } else {
                    f32::NAN
                };
                assert!(
                    v.to_bits() == want.to_bits() || (v.is_nan() && want.is_nan()),
                    "({x}, {y}): {v} for {want}"
                );
                seen += usize::from(want.is_finite());
            }
        }
        seen
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn the_fast_way_is_the_plain_way_bit_for_bit(
            turn in 0.0..std::f64::consts::TAU,
            scale in 0.4..3.5f64,
            lens in -4.0..4.0f64,
            shape in prop::sample::select(Shape::ALL.to_vec()),
            shift in -20.0..60.0f64,
            tilt in -1e-4..1e-4f64,
            holes in any::<bool>(),
            saturation in prop::sample::select(vec![650.0f32, f32::INFINITY]),
        ) {
            let (s, c) = turn.sin_cos();
            let map = Map::from_rows([
                [scale * c, -scale * s, shift],
                [scale * s, scale * c, 60.0 - shift],
                [tilt, 0.0, 1.0],
            ]).unwrap();
            let distortion = |k: f64| vec![0.0, 0.0, 0.0, k, 0.5 * k, -k];
            let map = map.distorted(Distortion::new([45.0, 35.0], [45.0, 35.0], distortion(lens), distortion(-lens)).unwrap()).unwrap();
            let plane = rough_plane(Size::new(90, 70).unwrap(), holes);
            let tile = Rect { x: -10, y: -5, width: 60, height: 40 };
            compare(shape, &map, &plane, tile, saturation);
        }
    }

    #[test]
    fn steps_round_to_the_nearest_and_ties_to_even() {
        for (at, want) in [
            (0.0, 0),
            (1.0, 1024),
            (-0.25, -256),
            (0.5 / 1024.0, 0),
            (1.5 / 1024.0, 2),
        ] {
            assert_eq!(steps(at), want, "{at}");
        }
        assert_eq!(steps(-2.5 / 1024.0), -2);
        assert_eq!(steps(1e30), 1_024_000_000);
        assert_eq!(steps(f64::NAN), 1_024_000_000);
    }

    #[test]
    fn frames_of_one_pixel_and_one_row_are_sampled() {
        let map = Map::shift(0.3, 0.0);
        let tile = Rect {
            x: -4,
            y: -4,
            width: 16,
            height: 9,
        };
        for (w, h, least) in [(1, 1, 1), (12, 1, 11), (1, 5, 5)] {
            let plane = rough_plane(Size::new(w, h).unwrap(), false);
            assert!(compare(Shape::Lanczos3, &map, &plane, tile, f32::INFINITY) >= least);
        }
    }

    #[test]
    fn a_frame_on_its_own_grid_comes_out_bit_for_bit() {
        let plane = rough_plane(Size::new(50, 40).unwrap(), true);
        let kernel = Kernel::new(Shape::Lanczos3, 1.0);
        let map = Map::shift(0.0, 0.0);
        let tile = plane.size().rect();
        let how = Resampling {
            kernel: &kernel,
            map: &map,
            frame: plane.size(),
            saturation: f32::INFINITY,
        };
        let rect = window_for(&how, tile).unwrap();
        let mut data = vec![0.0; rect.area()];
        plane.window(rect, &mut data);
        let mut out = vec![0.0; tile.area()];
        let window = Window { rect, data: &data };
        resample(&how, &window, tile, &mut Scratch::default(), &mut out);
        for (got, want) in out.iter().zip(plane.data()) {
            assert!(got.to_bits() == want.to_bits() || (got.is_nan() && want.is_nan()));
        }
    }

    #[test]
    fn positions_through_a_distortion_are_those_of_the_map() {
        let (s, c) = 0.3f64.sin_cos();
        let flat = Map::from_rows([[c, -s, 40.0], [s, c, -30.0], [0.0, 0.0, 1.0]]).unwrap();
        let (mut bx, mut by) = (vec![0.0; 10], vec![0.0; 10]);
        (bx[6], bx[8], by[7], by[9]) = (2.0, 2.0, 2.0, 2.0);
        let distortion = Distortion::new([500.0, 400.0], [500.0, 400.0], bx, by).unwrap();
        let map: Placement = flat.distorted(distortion).unwrap();
        let tile = Rect {
            x: 130,
            y: 70,
            width: 500,
            height: 1,
        };
        let (mut xs, mut ys) = (Vec::new(), Vec::new());
        positions(&map, tile, 70, &mut xs, &mut ys);
        for (i, (x, y)) in xs.iter().zip(&ys).enumerate() {
            let want = map.apply(Point::new((130 + i).real(), 70.0));
            let at = |v: i32| f64::from(v) / PHASES.real();
            let off = (at(*x) - want.x).hypot(at(*y) - want.y);
            assert!(off < 0.002, "{i}: {off}");
        }
    }
}
