//! Whole tiles at a time: the fast twin of the plain sample.
//!
//! Positions of a row are computed first, then each pixel is six rows of eight values weighted by y,
//! summed by x: all of it in fixed arrays of eight, which the compiler turns into vector
//! instructions; with AVX2 where the machine has it. Multiplications and additions stay apart, so
//! both versions give the same bits. A sum that is not finite has met a missing pixel, and goes the
//! plain way.

use multiversion::multiversion;

use crate::placement::Placement;
use crate::space::{Point, Rect, Size};

use super::kernel::{Kernel, PHASES, Window, limit, sample};

/// Taps of the kernel that is not stretched: the case that is fast.
const PLAIN_TAPS: usize = 6;

/// Memory of [`resample`], kept from tile to tile.
#[derive(Debug, Default)]
pub struct Scratch {
    at: Vec<(f64, f64)>,
}

/// The pixels of the frame that a tile of the canvas needs, or `None` when it needs none. The
/// rectangle reaches outside of the frame by up to the kernel's width.
pub fn window_for(kernel: &Kernel, map: &Placement, tile: Rect, frame: Size) -> Option<Rect> {
    // The map is projective and without a fold on the canvas: corners bound the inside.
    let (x0, y0) = (tile.x as f64, tile.y as f64);
    let (x1, y1) = ((tile.right() - 1) as f64, (tile.bottom() - 1) as f64);
    let needed = Rect::around([(x0, y0), (x1, y0), (x1, y1), (x0, y1)].map(|(x, y)| {
        let p = map.apply(Point::new(x, y));
        // Far outside is as good as just outside.
        let bound = |v: f64, n: usize| v.clamp(-64.0, n as f64 + 64.0);
        Point::<crate::space::FramePx>::new(bound(p.x, frame.width()), bound(p.y, frame.height()))
    }));
    if needed.intersect(frame.rect()).is_empty() {
        return None;
    }
    let half = kernel.taps() / 2;
    Some(Rect {
        x: needed.x - half as i64,
        y: needed.y - half as i64,
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
    kernel: &Kernel,
    window: &Window<'_>,
    map: &Placement,
    frame: Size,
    saturation: f32,
    tile: Rect,
    scratch: &mut Scratch,
    out: &mut [f32],
) {
    assert_eq!(out.len(), tile.area());
    for (i, row) in out.chunks_exact_mut(tile.width).enumerate() {
        positions(map, tile, tile.y + i as i64, &mut scratch.at);
        if kernel.taps() == PLAIN_TAPS {
            row_of_six(kernel, window, frame, saturation, &scratch.at, row);
        } else {
            for (v, (x, y)) in row.iter_mut().zip(&scratch.at) {
                *v = if frame.holds(Point::<crate::space::FramePx>::new(*x, *y)) {
                    sample(kernel, window, *x, *y, saturation)
                } else {
                    f32::NAN
                };
            }
        }
    }
}

/// Frame positions of one row of the tile.
fn positions(map: &Placement, tile: Rect, y: i64, at: &mut Vec<(f64, f64)>) {
    let m = map.rows();
    let y = y as f64;
    at.clear();
    let (bx, by) = (m[0][1] * y + m[0][2], m[1][1] * y + m[1][2]);
    if m[2][0] == 0.0 && m[2][1] == 0.0 {
        at.extend((tile.x..tile.right()).map(|x| {
            let x = x as f64;
            (m[0][0] * x + bx, m[1][0] * x + by)
        }));
    } else {
        let bz = m[2][1] * y + m[2][2];
        at.extend((tile.x..tile.right()).map(|x| {
            let x = x as f64;
            let z = m[2][0] * x + bz;
            ((m[0][0] * x + bx) / z, (m[1][0] * x + by) / z)
        }));
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn row_of_six(
    kernel: &Kernel,
    window: &Window<'_>,
    frame: Size,
    saturation: f32,
    at: &[(f64, f64)],
    out: &mut [f32],
) {
    let (right, bottom) = (frame.width() as f64 - 0.5, frame.height() as f64 - 0.5);
    let (wide, tall) = (window.rect.width as i64, window.rect.height as i64);
    for (value, (x, y)) in out.iter_mut().zip(at) {
        if !(*x >= -0.5 && *y >= -0.5 && *x < right && *y < bottom) {
            *value = f32::NAN;
            continue;
        }
        // As `Kernel::split`, in steps that vectorise: positions here are never far below zero.
        let (sx, sy) = (
            (*x * PHASES as f64).round_ties_even() as i64,
            (*y * PHASES as f64).round_ties_even() as i64,
        );
        let (px, py) = (
            (sx & (PHASES as i64 - 1)) as usize,
            (sy & (PHASES as i64 - 1)) as usize,
        );
        let half = PLAIN_TAPS as i64 / 2;
        let x0 = (sx >> PHASES.trailing_zeros()) + 1 - half - window.rect.x;
        let y0 = (sy >> PHASES.trailing_zeros()) + 1 - half - window.rect.y;
        if x0 < 0 || y0 < 0 || x0 + 8 > wide || y0 + PLAIN_TAPS as i64 > tall {
            *value = sample(kernel, window, *x, *y, saturation);
            continue;
        }
        let wx = kernel.weights(px);
        let wy = kernel.weights(py);
        let mut columns = [0.0f32; 8];
        let mut low = [f32::INFINITY; 8];
        let mut high = [f32::NEG_INFINITY; 8];
        let mut from = y0 as usize * wide as usize + x0 as usize;
        for j in 0..PLAIN_TAPS {
            let row = &window.data[from..from + 8];
            let w = wy[j];
            for l in 0..8 {
                columns[l] += w * row[l];
            }
            if j > 0 && j < PLAIN_TAPS - 1 {
                for l in 0..8 {
                    low[l] = if row[l] < low[l] { row[l] } else { low[l] };
                    high[l] = if row[l] > high[l] { row[l] } else { high[l] };
                }
            }
            from += wide as usize;
        }
        for l in 0..8 {
            columns[l] *= wx[l];
        }
        let c = columns;
        let sum = ((c[0] + c[4]) + (c[2] + c[6])) + ((c[1] + c[5]) + (c[3] + c[7]));
        if !sum.is_finite() {
            *value = sample(kernel, window, *x, *y, saturation);
            continue;
        }
        let least = |a: f32, b: f32| if a < b { a } else { b };
        let most = |a: f32, b: f32| if a > b { a } else { b };
        *value = limit(
            sum,
            least(least(low[1], low[2]), least(low[3], low[4])),
            most(most(high[1], high[2]), most(high[3], high[4])),
            saturation,
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Map;
    use crate::plane::Plane;
    use proptest::prelude::*;

    fn rough_plane(size: Size, holes: bool) -> Plane {
        Plane::from_fn(size, |x, y| {
            let v = (x * 7919 + y * 104_729) % 1009;
            if holes && v % 97 == 3 {
                f32::NAN
            } else if v == 500 {
                40_000.0
            } else {
                v as f32 - 300.0
            }
        })
    }

    /// Both ways over one tile; gives how many samples there were.
    fn compare(map: &Placement, plane: &Plane, tile: Rect, saturation: f32) -> usize {
        let kernel = Kernel::lanczos3(map.area_ratio(Point::new(0.0, 0.0)).sqrt());
        let mut out = vec![0.0; tile.area()];
        let Some(rect) = window_for(&kernel, map, tile, plane.size()) else {
            return 0;
        };
        let mut data = vec![0.0; rect.area()];
        plane.window(rect, &mut data);
        let window = Window { rect, data: &data };
        let size = plane.size();
        resample(
            &kernel,
            &window,
            map,
            size,
            saturation,
            tile,
            &mut Scratch::default(),
            &mut out,
        );
        let whole = Window {
            rect: size.rect(),
            data: plane.data(),
        };
        let mut seen = 0;
        let mut at = Vec::new();
        for (i, row) in out.chunks_exact(tile.width).enumerate() {
            positions(map, tile, tile.y + i as i64, &mut at);
            for (v, (x, y)) in row.iter().zip(&at) {
                let inside = size.holds(Point::<crate::space::FramePx>::new(*x, *y));
                let want = if inside {
                    sample(&kernel, &whole, *x, *y, saturation)
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
            scale in 0.4..2.5f64,
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
            let plane = rough_plane(Size::new(90, 70).unwrap(), holes);
            let tile = Rect { x: -10, y: -5, width: 60, height: 40 };
            compare(&map, &plane, tile, saturation);
        }
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
            assert!(compare(&map, &plane, tile, f32::INFINITY) >= least);
        }
    }

    #[test]
    fn a_frame_on_its_own_grid_comes_out_bit_for_bit() {
        let plane = rough_plane(Size::new(50, 40).unwrap(), true);
        let kernel = Kernel::lanczos3(1.0);
        let map = Map::shift(0.0, 0.0);
        let tile = plane.size().rect();
        let rect = window_for(&kernel, &map, tile, plane.size()).unwrap();
        let mut data = vec![0.0; rect.area()];
        plane.window(rect, &mut data);
        let mut out = vec![0.0; tile.area()];
        resample(
            &kernel,
            &Window { rect, data: &data },
            &map,
            plane.size(),
            f32::INFINITY,
            tile,
            &mut Scratch::default(),
            &mut out,
        );
        for (got, want) in out.iter().zip(plane.data()) {
            assert!(got.to_bits() == want.to_bits() || (got.is_nan() && want.is_nan()));
        }
    }
}
