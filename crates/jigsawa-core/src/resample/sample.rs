//! The plain definition of a sample.
//!
//! A sinc rings: beside a bright star it undershoots the sky, and over a saturated plateau it
//! overshoots. So a sample is never below the lowest of the 16 pixels around it, and where one of
//! these is saturated, never above the highest. Between, a star's peak may rise above all samples of
//! it, as it must. Clamping both ends everywhere was tried first: it flattens sharp stars. Of stars that fall on hardly
//! more than a pixel the undershoot is a part of the light: held back, it made them up to a tenth brighter, so that in
//! frames with such stars it is held back beside full pixels only ([`Ringing`]).
//!
//! Missing pixels (NaN) leave their weight to the others as long as the nearest pixel is there and
//! half of the weight is; else the sample is missing.

use super::kernel::{Kernel, PHASES, Ringing, steps};
use crate::number::Convert;
use crate::space::Rect;

/// Least part of the weight that valid pixels must have.
const LEAST_VALID: f32 = 0.5;

/// Pixels of a frame in memory: the rectangle may reach outside of the frame, where they are NaN.
#[derive(Debug, Clone, Copy)]
pub struct Window<'a> {
    /// Which pixels of the frame.
    pub rect: Rect,
    /// Their values, row after row.
    pub data: &'a [f32],
}

impl Window<'_> {
    fn at(&self, x: i64, y: i64) -> f32 {
        let (dx, dy) = (x - self.rect.x, y - self.rect.y);
        let inside =
            dx >= 0 && dy >= 0 && dx < self.rect.width.whole() && dy < self.rect.height.whole();
        if inside {
            self.data[dy.index() * self.rect.width + dx.index()]
        } else {
            f32::NAN
        }
    }
}

/// The sample at frame position (`x`, `y`), NaN where it is missing. `saturation` is the value from
/// which pixels count as saturated (infinity if unknown).
///
/// This is the definition; `resample` is held to it bit for bit.
pub fn sample(kernel: &Kernel, window: &Window<'_>, x: f64, y: f64, saturation: f32) -> f32 {
    sample_at(kernel, window, (steps(x), steps(y)), saturation)
}

/// The sample at a position in steps.
pub(super) fn sample_at(
    kernel: &Kernel,
    window: &Window<'_>,
    (x, y): (i32, i32),
    saturation: f32,
) -> f32 {
    let ((x0, px), (y0, py)) = (kernel.split(x), kernel.split(y));
    let half = kernel.taps().whole() / 2;
    // The nearest pixel decides whether there is data at all.
    let nearest = |first: i64, phase: usize| first + half - 1 + i64::from(2 * phase >= PHASES);
    if !window.at(nearest(x0, px), nearest(y0, py)).is_finite() {
        return f32::NAN;
    }
    let (wx, wy) = (kernel.weights(px), kernel.weights(py));
    let (from, to) = kernel.around;
    let mut columns = [0.0f32; 8];
    let (mut low, mut high) = (f32::INFINITY, f32::NEG_INFINITY);
    let mut valid = 0.0;
    let mut complete = true;
    for (i, wx) in wx.iter().enumerate().take(kernel.taps()) {
        let mut column = 0.0f32;
        for (j, wy) in wy.iter().enumerate().take(kernel.taps()) {
            let v = window.at(x0 + i.whole(), y0 + j.whole());
            if !v.is_finite() {
                complete = false;
                continue;
            }
            column += wy * v;
            valid += wx * wy;
            if (from..to).contains(&i) && (from..to).contains(&j) {
                low = low.min(v);
                high = high.max(v);
            }
        }
        columns[i % 8] += column * wx;
    }
    // Pairs of lanes first: the order in which a vector register is summed.
    let c = columns;
    let sum = ((c[0] + c[4]) + (c[2] + c[6])) + ((c[1] + c[5]) + (c[3] + c[7]));
    let value = if complete {
        sum
    } else if valid >= LEAST_VALID {
        sum / valid
    } else {
        return f32::NAN;
    };
    limit(value, (low, high), saturation, kernel.ringing())
}

/// Holds ringing down: see the head of this file.
#[inline]
pub(super) fn limit(value: f32, (low, high): (f32, f32), saturation: f32, ringing: Ringing) -> f32 {
    let held = ringing == Ringing::Held || high >= saturation;
    let value = if held && value < low { low } else { value };
    if high >= saturation && value > high {
        high
    } else {
        value
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use crate::resample::Shape;
    use crate::space::Size;

    fn value(plane: &Plane, kernel: &Kernel, x: f64, y: f64) -> f32 {
        let window = Window {
            rect: plane.size().rect(),
            data: plane.data(),
        };
        sample(kernel, &window, x, y, f32::INFINITY)
    }

    #[test]
    fn a_sample_on_a_pixel_is_the_pixel() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let p = Plane::from_fn(Size::new(9, 8).unwrap(), |x, y| {
            (x * x + 3 * y).single() - 5.5
        });
        for y in 0..8 {
            for x in 0..9 {
                assert_eq!(value(&p, &k, x.real(), y.real()), p.at(x, y));
            }
        }
        assert!(value(&p, &k, -0.6, 3.0).is_nan());
        assert!(value(&p, &k, 4.0, 7.6).is_nan());
    }

    #[test]
    fn a_level_stays_and_a_slope_is_followed() {
        for ratio in [1.0, 1.7, 3.0] {
            let k = Kernel::new(Shape::Lanczos3, ratio);
            let p = Plane::from_fn(Size::new(40, 40).unwrap(), |x, y| {
                100.0 + 2.0 * x.single() - y.single()
            });
            // On a phase of the table, so that its steps do not count.
            let got = value(&p, &k, 19.300_781_25, 20.799_804_687_5);
            assert!(
                (got - (100.0 + 38.601_562 - 20.799_805)).abs() < 0.002,
                "{ratio}: {got}"
            );
        }
    }

    #[test]
    fn beside_a_spike_nothing_falls_below_the_sky() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let mut p = Plane::filled(Size::new(20, 20).unwrap(), 10.0);
        p.data_mut()[10 * 20 + 10] = 60_000.0;
        for i in 0..200 {
            let v = value(&p, &k, 5.0 + 0.05 * f64::from(i), 10.3);
            assert!(v >= 10.0, "{i}: {v}");
        }
    }

    #[test]
    fn a_saturated_plateau_is_not_overshot_and_a_peak_may_rise() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let flat = Plane::from_fn(Size::new(20, 20).unwrap(), |x, y| {
            if (7..13).contains(&x) && (7..13).contains(&y) {
                1000.0
            } else {
                0.0
            }
        });
        let window = Window {
            rect: flat.size().rect(),
            data: flat.data(),
        };
        assert!(sample(&k, &window, 7.5, 7.5, f32::INFINITY) > 1050.0);
        assert_eq!(sample(&k, &window, 7.5, 7.5, 1000.0), 1000.0);
        let peak = Plane::from_fn(Size::new(20, 20).unwrap(), |x, y| {
            let d2 = (x.single() - 9.5).powi(2) + (y.single() - 9.5).powi(2);
            1000.0 * (-0.5 * d2 / 1.2).exp()
        });
        assert!((value(&peak, &k, 9.5, 9.5) - 1000.0).abs() < 15.0);
    }

    #[test]
    fn missing_pixels_leave_their_weight_to_the_others() {
        let k = Kernel::new(Shape::Lanczos3, 1.0);
        let mut p = Plane::filled(Size::new(20, 20).unwrap(), 7.0);
        for y in 0..20 {
            for x in 0..9 {
                p.data_mut()[y * 20 + x] = f32::NAN;
            }
        }
        assert!(value(&p, &k, 8.4, 10.0).is_nan());
        assert!((value(&p, &k, 8.6, 10.3) - 7.0).abs() < 1e-5);
    }

    #[test]
    fn every_shape_keeps_a_level_and_gives_pixels_back() {
        let p = Plane::from_fn(Size::new(60, 50).unwrap(), |x, y| {
            (x * x % 17 + 3 * y % 11).single()
        });
        let level = Plane::filled(Size::new(60, 50).unwrap(), 37.0);
        for shape in Shape::ALL {
            let k = Kernel::new(shape, 1.0);
            for (x, y) in [(20, 17), (33, 8)] {
                assert_eq!(value(&p, &k, x.real(), y.real()), p.at(x, y), "{shape:?}");
            }
            for ratio in [0.5, 1.0, 2.0, 3.7] {
                let k = Kernel::new(shape, ratio);
                let got = value(&level, &k, 25.371, 24.88);
                assert!((got - 37.0).abs() < 1e-4, "{shape:?} {ratio}: {got}");
            }
        }
    }

    #[test]
    fn the_area_kernel_is_the_mean_of_the_area() {
        let p = Plane::from_fn(Size::new(40, 40).unwrap(), |x, y| {
            ((x * 31 + y * 17) % 13).single()
        });
        let k = Kernel::new(Shape::Area, 2.0);
        // A canvas pixel over four whole pixels.
        let got = value(&p, &k, 10.5, 20.5);
        let want = (p.at(10, 20) + p.at(11, 20) + p.at(10, 21) + p.at(11, 21)) / 4.0;
        assert!((got - want).abs() < 1e-5, "{got} {want}");
        // And over halves: 0.5, 1, 0.5 in each direction.
        let got = value(&p, &k, 10.0, 20.0);
        let mut want = 0.0;
        for (dy, wy) in [(-1, 0.5), (0, 1.0), (1, 0.5)] {
            for (dx, wx) in [(-1, 0.5), (0, 1.0), (1, 0.5)] {
                want += wx * wy * p.at(10 + dx, 20 + dy) / 4.0;
            }
        }
        assert!((got - want).abs() < 1e-5, "{got} {want}");
    }
}
