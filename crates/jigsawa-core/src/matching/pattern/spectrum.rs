//! Fourier transforms of planes, and the shift that correlates two of them best.

use crate::number::Convert;
use rustfft::algorithm::Radix4;
use rustfft::num_complex::Complex32;
use rustfft::{Fft, FftDirection};

use crate::plane::Plane;
use crate::robust::{median, quantile};
use crate::space::Rect;

/// Frequencies beyond this part of the highest one are damped: noise, and the corners of pixels.
const LOW_PASS: f32 = 0.5;

/// Frequencies below this many waves over the frame are left out: glow, gradients, the window.
const LOWEST_WAVES: f32 = 2.0;

/// From this part of the highest frequency on, pixels show noise alone.
const NOISE_FROM: f32 = 0.8;

/// Products of so many times the noise's count half.
const NOISE_FLOOR: f32 = 6.0;

/// Values are compressed beyond this many times their scatter, as by a logarithm.
const SOFT: f32 = 3.0;

/// Where two planes correlate best.
#[derive(Debug, Clone, Copy)]
pub(super) struct Peak {
    /// The second plane shows at (x + `x`, y + `y`) what the first shows at (x, y).
    pub(super) x: f64,
    pub(super) y: f64,
    /// Height of the peak over the scatter of the correlation.
    pub(super) height: f64,
}

/// A square of complex numbers, with sides a power of two.
pub(super) struct Surface {
    pub(super) side: usize,
    pub(super) values: Vec<Complex32>,
}

impl Surface {
    /// The spectrum of a part of a plane, compressed, with missing pixels as the median and the edges faded.
    pub(super) fn of(plane: &Plane, rect: Rect) -> Self {
        let side = rect.width.max(rect.height).next_power_of_two();
        let mut pixels = vec![0.0f32; rect.area()];
        plane.window(rect, &mut pixels);
        soften(&mut pixels);
        let fade = |i: usize, n: usize| {
            let t = (i.single() + 0.5) / n.single();
            (std::f32::consts::PI * t).sin().powi(2)
        };
        let mut values = vec![Complex32::ZERO; side * side];
        for (y, row) in pixels.chunks_exact(rect.width).enumerate() {
            let fy = fade(y, rect.height);
            for (x, v) in row.iter().enumerate() {
                values[y * side + x].re = v * fy * fade(x, rect.width);
            }
        }
        let mut surface = Self { side, values };
        surface.transform(FftDirection::Forward);
        surface
    }

    /// The transform of both directions, not normalised.
    pub(super) fn transform(&mut self, direction: FftDirection) {
        // A planner brings the code for every length, which took a sixth of this crate's time to compile.
        let fft = Radix4::new(self.side, direction);
        rows(&fft, &mut self.values);
        self.transpose();
        rows(&fft, &mut self.values);
        self.transpose();
    }

    fn transpose(&mut self) {
        for y in 0..self.side {
            for x in y + 1..self.side {
                self.values.swap(y * self.side + x, x * self.side + y);
            }
        }
    }

    /// Signed frequency of a place, in waves over the side.
    pub(super) fn waves(&self, i: usize) -> f32 {
        if i <= self.side / 2 {
            i.single()
        } else {
            i.single() - self.side.single()
        }
    }

    /// Correlates by phases (Kuglin & Hines 1975), both being spectra of one side. Frequencies at which there is
    /// nothing but noise, as most are of a smooth nebula, count little: their phases say nothing.
    pub(super) fn correlate(&self, other: &Self) -> Peak {
        let side = self.side;
        let mut product = Self {
            side,
            values: vec![Complex32::ZERO; side * side],
        };
        let edge = LOW_PASS * side.single() / 2.0;
        let floor = NOISE_FLOOR * self.noise_with(other);
        for y in 0..side {
            for x in 0..side {
                let i = y * side + x;
                let f = self.waves(x).hypot(self.waves(y));
                if f < LOWEST_WAVES {
                    continue;
                }
                let p = other.values[i] * self.values[i].conj();
                let size = p.norm();
                if size > 0.0 {
                    product.values[i] = p * ((-(f / edge).powi(2)).exp() / (size + floor));
                }
            }
        }
        product.transform(FftDirection::Inverse);
        product.peak()
    }

    /// The usual product of both at the highest frequencies, where pixels show noise alone.
    fn noise_with(&self, other: &Self) -> f32 {
        let side = self.side;
        let highest = NOISE_FROM * side.single() / 2.0;
        let mut sizes: Vec<f32> = (0..side * side)
            .filter(|i| self.waves(i % side).abs().max(self.waves(i / side).abs()) > highest)
            .map(|i| (other.values[i] * self.values[i].conj()).norm())
            .collect();
        if sizes.is_empty() {
            0.0
        } else {
            median(&mut sizes)
        }
    }

    fn peak(&self) -> Peak {
        let side = self.side;
        let re = |x: usize, y: usize| self.values[(y % side) * side + x % side].re;
        let (mut best, mut at) = (f32::NEG_INFINITY, 0);
        let (mut sum, mut squares) = (0.0f64, 0.0f64);
        for (i, v) in self.values.iter().enumerate() {
            if v.re > best {
                (best, at) = (v.re, i);
            }
            sum += f64::from(v.re);
            squares += f64::from(v.re).powi(2);
        }
        let (x, y) = (at % side, at / side);
        let count = self.values.len().real();
        let scatter = (squares / count - (sum / count).powi(2)).max(0.0).sqrt();
        // The logarithms of a peak that the low pass has made Gaussian lie on a parabola.
        let between = |before: f32, after: f32| {
            let positive = before > 0.0 && after > 0.0 && best > 0.0;
            if !positive {
                return 0.0;
            }
            let (a, b, c) = (
                f64::from(before).ln(),
                f64::from(best).ln(),
                f64::from(after).ln(),
            );
            let bend = a - 2.0 * b + c;
            if bend < 0.0 {
                (0.5 * (a - c) / bend).clamp(-0.5, 0.5)
            } else {
                0.0
            }
        };
        let dx = between(re(x + side - 1, y), re(x + 1, y));
        let dy = between(re(x, y + side - 1), re(x, y + 1));
        Peak {
            x: f64::from(self.waves(x)) + dx,
            y: f64::from(self.waves(y)) + dy,
            height: if scatter > 0.0 {
                (f64::from(best) - sum / count) / scatter
            } else {
                0.0
            },
        }
    }
}

fn rows(fft: &Radix4<f32>, values: &mut [Complex32]) {
    let mut scratch = vec![Complex32::ZERO; fft.get_inplace_scratch_len()];
    fft.process_with_scratch(values, &mut scratch);
}

/// Takes the median off, puts it where pixels are missing, and compresses what stands out.
fn soften(values: &mut [f32]) {
    let mut finite: Vec<f32> = values.iter().copied().filter(|v| v.is_finite()).collect();
    if finite.is_empty() {
        values.fill(0.0);
        return;
    }
    let middle = median(&mut finite);
    let mut off: Vec<f32> = finite.iter().map(|v| (v - middle).abs()).collect();
    let scatter = (1.48 * median(&mut off)).max(1e-20);
    for v in values.iter_mut() {
        *v = if v.is_finite() {
            ((*v - middle) / (SOFT * scatter)).asinh()
        } else {
            0.0
        };
    }
}

/// Takes off what varies over an eighth of the frame, a low quantile of cells and straight lines between
/// them, so that gradients correlate with nothing.
pub(super) fn flatten(plane: &mut Plane) {
    const CELLS: usize = 6;
    let size = plane.size();
    let (w, h) = (size.width(), size.height());
    let cell = |i: usize, n: usize| (i * n / CELLS)..((i + 1) * n / CELLS).max(i * n / CELLS + 1);
    let mut levels = [[0.0f32; CELLS]; CELLS];
    for (j, row) in levels.iter_mut().enumerate() {
        for (i, level) in row.iter_mut().enumerate() {
            let mut values: Vec<f32> = cell(j, h)
                .filter(|y| *y < h)
                .flat_map(|y| {
                    plane.row(y)[cell(i, w).start.min(w - 1)..cell(i, w).end.min(w)].iter()
                })
                .copied()
                .filter(|v| v.is_finite())
                .collect();
            *level = if values.is_empty() {
                f32::NAN
            } else {
                quantile(&mut values, 0.3)
            };
        }
    }
    let mut known: Vec<f32> = levels
        .iter()
        .flatten()
        .copied()
        .filter(|v| v.is_finite())
        .collect();
    let usual = if known.is_empty() {
        0.0
    } else {
        median(&mut known)
    };
    let at = |i: usize, j: usize| {
        let v = levels[j.min(CELLS - 1)][i.min(CELLS - 1)];
        if v.is_finite() { v } else { usual }
    };
    let place = |p: usize, n: usize| {
        let t = ((p.single() + 0.5) / n.single() * CELLS.single() - 0.5)
            .clamp(0.0, CELLS.single() - 1.0);
        (t.index(), t.fract())
    };
    for y in 0..h {
        let (j, ty) = place(y, h);
        for x in 0..w {
            let (i, tx) = place(x, w);
            let upper = at(i, j) * (1.0 - tx) + at(i + 1, j) * tx;
            let lower = at(i, j + 1) * (1.0 - tx) + at(i + 1, j + 1) * tx;
            plane.data_mut()[y * w + x] -= upper * (1.0 - ty) + lower * ty;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    fn scene(dx: f64, dy: f64) -> Plane {
        Plane::from_fn(Size::new(120, 100).unwrap(), |x, y| {
            let (x, y) = (x.real() - dx, y.real() - dy);
            let blob = |cx: f64, cy: f64, s: f64| {
                (-((x - cx).powi(2) + (y - cy).powi(2)) / (2.0 * s * s)).exp()
            };
            (100.0
                + 20.0 * blob(40.0, 50.0, 4.0)
                + 15.0 * blob(75.0, 30.0, 3.0)
                + 9.0 * blob(60.0, 70.0, 6.0)
                + 0.2 * (x * 12.9898 + y * 78.233).sin())
            .single()
        })
    }

    #[test]
    fn a_shift_is_found_to_a_tenth_of_a_pixel() {
        let rect = Size::new(120, 100).unwrap().rect();
        let a = Surface::of(&scene(0.0, 0.0), rect);
        for (dx, dy) in [(0.0, 0.0), (5.0, -3.0), (2.4, 6.7)] {
            let peak = a.correlate(&Surface::of(&scene(dx, dy), rect));
            assert!(
                (peak.x - dx).abs() < 0.15 && (peak.y - dy).abs() < 0.15,
                "{dx} {dy}: {peak:?}"
            );
            assert!(peak.height > 6.0);
        }
    }

    #[test]
    fn a_transform_and_its_inverse_give_the_values_back() {
        let mut s = Surface {
            side: 16,
            values: (0..256)
                .map(|i| Complex32::new((i * 37 % 11).single(), 0.0))
                .collect(),
        };
        s.transform(FftDirection::Forward);
        s.transform(FftDirection::Inverse);
        for (i, v) in s.values.iter().enumerate() {
            assert!((v.re / 256.0 - (i * 37 % 11).single()).abs() < 1e-4);
        }
    }

    #[test]
    fn a_gradient_is_taken_off() {
        let mut p = Plane::from_fn(Size::new(90, 60).unwrap(), |x, y| {
            500.0 + 3.0 * x.single() - y.single()
        });
        p.data_mut()[5] = f32::NAN;
        flatten(&mut p);
        for (x, y) in [(20, 20), (45, 30), (70, 40)] {
            assert!(p.at(x, y).abs() < 12.0, "{}", p.at(x, y));
        }
        assert!(p.at(5, 0).is_nan());
    }
}
