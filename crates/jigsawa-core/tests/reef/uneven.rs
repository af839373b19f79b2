//! Frames whose noise is not the same all over: their values count by that of their place.

use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::{MAD_TO_SIGMA, mad, median};
use jigsawa_core::stack::{CanvasGrid, Light, Rule};
use jigsawa_sky::chance::normal;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;

use crate::night::{Night, less, shots};
use crate::setup::figure;

/// How many times a pixel's noise is that of the middle, where corners have been brightened by their flat.
fn times(x: usize, y: usize, (w, h): (f64, f64)) -> f64 {
    let (u, v) = (2.0 * x.real() / w - 1.0, 2.0 * y.real() / h - 1.0);
    1.0 + 0.7 * (u * u + v * v)
}

#[test]
fn dark_corners_of_one_camera_count_less() {
    // Six frames of even noise, and six whose corners have more than twice as much.
    let mut night = shots(12);
    for shot in &mut night {
        shot.optics = Optics::round(2.6);
        shot.transparency = 1.0;
        shot.glow = SkyGlow::even(150.0);
    }
    let camera = night[0].camera;
    let base = camera.noise(150.0 * camera.gain_e_adu, 1);
    let sides = (night[0].size.width().real(), night[0].size.height().real());
    let night = Night::take(night, |i, plane| {
        let width = plane.size().width();
        for (k, v) in plane.data_mut().iter_mut().enumerate().filter(|_| i >= 6) {
            let (x, y) = (k % width, k / width);
            let more = times(x, y, sides).powi(2) - 1.0;
            *v += (base * more.sqrt() * normal(k as u64, 7000 + i as u64)).single();
        }
    });
    let balances = night.balances();
    let truth = night.truth();
    let noise = |lights: Vec<Light>| {
        let got = night.stack_of(&night.frames, &balances, None, lights.clone());
        let ideal = night.stack_of(&truth, &balances, Some(Rule::None), lights);
        let off = less(&got.planes[0], &ideal.planes[0]);
        corners(&off, sides)
    };
    let by_pixel = night.lights(&balances);
    let even: Vec<Light> = by_pixel
        .iter()
        .map(|l| Light {
            counts: CanvasGrid::even(1.0),
            ..l.clone()
        })
        .collect();
    assert!(by_pixel.iter().all(|l| l.counts != CanvasGrid::even(1.0)));
    let (best, of_even) = (noise(by_pixel), noise(even));
    // What theory says: corners are 2.1 times as noisy there on average, the middle 1.47 times.
    let weight = 1.0 / (1.47f64 * 1.47);
    let theory = |w: f64, worse: f64| (6.0 + 6.0 * (w * worse).powi(2)).sqrt() / (6.0 + 6.0 * w);
    let want = theory(1.0 / (2.0 * 2.0), 2.0) / theory(weight, 2.0);
    figure(
        116,
        "Noise of corners where half of the frames have 1.7 to 2.4 times as much, by weights of each place against weights of each frame; by theory",
        &format!("{:.3}; {want:.3}", best / of_even),
    );
    assert!(best / of_even < 0.5 + 0.5 * want, "{best} {of_even}");
}

/// Scatter of means over 8 x 8 pixels in the corners.
fn corners(off: &Plane, sides: (f64, f64)) -> f64 {
    let (w, h) = (off.size().width(), off.size().height());
    let mut means: Vec<f32> = Vec::new();
    for y in (24..h - 32).step_by(8) {
        for x in (24..w - 32).step_by(8) {
            if times(x + 4, y + 4, sides) > 1.7 {
                let block = (0..64).map(|i| off.data()[(y + i / 8) * w + x + i % 8]);
                means.push(block.sum::<f32>() / 64.0);
            }
        }
    }
    let centre = median(&mut means);
    MAD_TO_SIGMA * f64::from(mad(&mut means, centre))
}
