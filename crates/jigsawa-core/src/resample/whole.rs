//! A part of a canvas from one frame in memory, at once: for quick looks. Merges go tile by tile.

use super::kernel::{Kernel, Shape};
use super::rows::{Resampling, Scratch, resample, window_for};
use super::sample::Window;
use crate::number::Convert;
use crate::placement::Placement;
use crate::plane::Plane;
use crate::space::{Rect, Size};

/// Rows at a time, so that a turned frame's window stays small.
const BAND_ROWS: usize = 128;

/// The pixels `rect` of the canvas from a frame that lies there by `map` (canvas to frame); NaN where the
/// frame has no data. `None` for an empty rectangle.
pub fn resampled(frame: &Plane, map: &Placement, rect: Rect, saturation: f32) -> Option<Plane> {
    let size = Size::new(rect.width, rect.height)?;
    let kernel = Kernel::new(Shape::default(), map.describe(frame.size().centre()).scale);
    let how = Resampling {
        kernel: &kernel,
        map,
        frame: frame.size(),
        saturation,
    };
    let mut out = Plane::filled(size, f32::NAN);
    let (mut pixels, mut scratch) = (Vec::new(), Scratch::default());
    for (i, band) in out
        .data_mut()
        .chunks_mut(BAND_ROWS * rect.width)
        .enumerate()
    {
        let tile = Rect {
            y: rect.y + (i * BAND_ROWS).whole(),
            height: band.len() / rect.width,
            ..rect
        };
        let Some(needed) = window_for(&how, tile) else {
            continue;
        };
        pixels.resize(needed.area(), 0.0);
        frame.window(needed, &mut pixels);
        let window = Window {
            rect: needed,
            data: &pixels,
        };
        resample(&how, &window, tile, &mut scratch, band);
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::Map;

    #[test]
    fn a_shifted_frame_comes_back_to_its_place() {
        let light = |x: f64, y: f64| (1000.0 + 300.0 * (0.2 * x).sin() * (0.17 * y).cos()).single();
        let frame = Plane::from_fn(Size::new(300, 280).unwrap(), |x, y| {
            light(x.real() - 3.4, y.real() + 2.7)
        });
        let rect = Rect {
            x: 40,
            y: 10,
            width: 120,
            height: 250,
        };
        let back = resampled(&frame, &Map::shift(3.4, -2.7), rect, f32::INFINITY).unwrap();
        for (x, y) in [(0, 0), (60, 127), (61, 128), (119, 249)] {
            let want = light((x + 40).real(), (y + 10).real());
            assert!((back.at(x, y) - want).abs() < 0.5, "{x} {y}");
        }
        assert!(
            resampled(
                &frame,
                &Map::shift(0.0, 0.0),
                Rect { width: 0, ..rect },
                1.0
            )
            .is_none()
        );
    }
}
