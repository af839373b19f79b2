//! Turn and scale from the spectra on a log-polar grid, where both are shifts.

use crate::number::Convert;
use rustfft::FftDirection;
use rustfft::num_complex::Complex32;

use super::spectrum::Surface;
use crate::matching::Guess;
use crate::placement::{Map, Registration};
use crate::plane::Plane;

/// Steps of the half turn that a spectrum repeats itself after, and of the logarithm of the frequency:
/// 0.35 degrees and 0.8 %.
const STEPS: usize = 512;

/// Frequencies that are compared, in waves to a pixel.
const LOWEST: f32 = 0.008;
const HIGHEST: f32 = 0.4;

/// Turns that are tried, for each handedness; each stands for two, half a turn apart.
const MOST_TURNS: usize = 3;

/// Scales within this ratio are looked for; beyond, the spectra of the same sky share too little.
const MOST_SCALE: f64 = 4.2;

/// Maps, without shift, that may bring the reference's pattern onto the frame's.
pub(super) fn turns(reference: &Plane, frame: &Plane) -> Vec<Registration> {
    let sizes = (reference.size(), frame.size());
    let polar_of_frame = log_polar(frame, 1.0);
    let mut maps = Vec::new();
    for mirrored in [false, true] {
        // The mirror image of a plane has the mirror image of its spectrum.
        let polar = log_polar(reference, if mirrored { -1.0 } else { 1.0 });
        for (turn_deg, scale) in peaks(&polar, &polar_of_frame) {
            for half in [0.0, 180.0] {
                let guess = Guess {
                    turn_deg: turn_deg + half,
                    scale,
                    mirrored,
                    ..Guess::default()
                };
                maps.extend(guess.map(sizes.0, sizes.1));
            }
        }
    }
    // The same sky the same way up is the likeliest case, and a poor spectrum should not hide it.
    maps.extend([0.0, 180.0].into_iter().filter_map(|turn_deg| {
        let guess = Guess {
            turn_deg,
            ..Guess::default()
        };
        guess.map(sizes.0, sizes.1)
    }));
    maps.push(Map::shift(0.0, 0.0));
    maps
}

/// The spectrum's logarithm over (log frequency, angle), less its mean at each frequency, as a spectrum
/// of its own.
fn log_polar(plane: &Plane, hand: f32) -> Surface {
    let flat = Surface::of(plane, plane.size().rect());
    let size = |x: f32, y: f32| {
        let side = flat.side.isize();
        let at = |x: isize, y: isize| {
            let (x, y) = (x.rem_euclid(side) as usize, y.rem_euclid(side) as usize);
            flat.values[y * flat.side + x].norm()
        };
        let (fx, fy) = (x.floor(), y.floor());
        let (tx, ty) = (x - fx, y - fy);
        let (x, y) = (fx.isize(), fy.isize());
        (at(x, y) * (1.0 - tx) + at(x + 1, y) * tx) * (1.0 - ty)
            + (at(x, y + 1) * (1.0 - tx) + at(x + 1, y + 1) * tx) * ty
    };
    let mut values = vec![Complex32::ZERO; STEPS * STEPS];
    for r in 0..STEPS {
        let part = r.single() / STEPS.single();
        let radius = flat.side.single() * LOWEST * (HIGHEST / LOWEST).powf(part);
        // Fading ends keep the two ends of the frequencies apart.
        let fade = (std::f32::consts::PI * (part + 0.5 / STEPS.single())).sin();
        let row: Vec<f32> = (0..STEPS)
            .map(|a| {
                let angle = std::f32::consts::PI * a.single() / STEPS.single();
                size(hand * radius * angle.cos(), radius * angle.sin()).ln_1p()
            })
            .collect();
        let mean = row.iter().sum::<f32>() / STEPS.single();
        for (a, v) in row.iter().enumerate() {
            values[a * STEPS + r].re = fade * (v - mean);
        }
    }
    let mut surface = Surface {
        side: STEPS,
        values,
    };
    surface.transform(FftDirection::Forward);
    surface
}

/// The turns in degrees and scales of the highest peaks.
fn peaks(reference: &Surface, frame: &Surface) -> Vec<(f64, f64)> {
    let mut product = Surface {
        side: STEPS,
        values: reference
            .values
            .iter()
            .zip(&frame.values)
            .map(|(r, f)| {
                let p = f * r.conj();
                // Half whitened: phases alone are noise where a spectrum is empty.
                let size = p.norm().sqrt();
                if size > 0.0 {
                    p / size
                } else {
                    Complex32::ZERO
                }
            })
            .collect(),
    };
    product.transform(FftDirection::Inverse);
    let log_step = f64::from(HIGHEST / LOWEST).ln() / STEPS.real();
    let mut found: Vec<(f64, f64)> = Vec::new();
    let mut order: Vec<usize> = (0..product.values.len()).collect();
    order.sort_unstable_by(|a, b| {
        let v = |i: &usize| product.values[*i].re;
        v(b).total_cmp(&v(a)).then(a.cmp(b))
    });
    for i in order.into_iter().take(4000) {
        let (a, r) = (product.waves(i / STEPS), product.waves(i % STEPS));
        let turn = f64::from(a) * 180.0 / STEPS.real();
        // A frame of finer pixels shows the same sky at lower frequencies.
        let scale = (-f64::from(r) * log_step).exp();
        let near = |(t, s): &(f64, f64)| {
            let apart = (t - turn).rem_euclid(180.0);
            apart.min(180.0 - apart) < 3.0 && (s / scale).ln().abs() < 0.05
        };
        if (1.0 / MOST_SCALE..MOST_SCALE).contains(&scale) && !found.iter().any(near) {
            found.push((turn, scale));
            if found.len() == MOST_TURNS {
                break;
            }
        }
    }
    found
}
