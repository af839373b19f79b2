//! Darks of another exposure and temperature: how much of their current and of their glow lights have.

use jigsawa_core::calibrate::glow::Glow;
use jigsawa_core::calibrate::glow_part::part;
use jigsawa_core::calibrate::light::{Calibrated, Calibration, Dark};
use jigsawa_core::calibrate::scaling::HotPixels;
use jigsawa_core::doors::FrameSource;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::{MAD_TO_SIGMA, mad, median};
use jigsawa_sky::chip::{Chip, Exposure};

use crate::calibrate::{
    LIGHT, Light, SKY_E, chip, frames, light, master, mean, night, response, size, sky, train,
};
use crate::setup::figure;

#[test]
fn a_dark_of_another_length_and_warmth_does_as_well_as_a_fitting_one() {
    let warm = Exposure {
        seconds: 120.0,
        celsius: -7.0,
    };
    let raw = frames(6, SKY_E, warm, 8000);
    let fitting = master(&frames(20, 0.0, warm, 9000), Some(chip().gain_e_adu));
    let hot = HotPixels::of(&night().dark.plane, chip().full_adu().single()).unwrap();
    let factors: Vec<_> = raw
        .iter()
        .map(|r| hot.factor(r, chip().full_adu().single()).unwrap().unwrap())
        .collect();
    let factor = factors.iter().map(|f| f.value).sum::<f64>() / factors.len().real();
    let truth = warm.seconds / LIGHT.seconds * 2f64.powf(0.5);
    let pulls = factors.iter().map(|f| (f.value - truth) / f.sigma);
    let within = pulls.filter(|p| p.abs() < 2.5).count();
    assert!(within >= 5, "{factors:?} for {truth}");
    let mut current = night().dark.plane.clone();
    for (c, b) in current.data_mut().iter_mut().zip(night().bias.plane.data()) {
        *c -= b;
    }
    let glow = Glow::measure(&current, 2.0).unwrap();
    let scaled = |with_glow: bool| Dark {
        master: night().dark.plane.clone(),
        factor,
        glow: with_glow.then(|| (glow.clone(), warm.seconds / LIGHT.seconds)),
    };
    let whole = Dark {
        master: fitting.plane,
        factor: 1.0,
        glow: None,
    };
    let spread = |dark: &Dark<Plane>| {
        let lights: Vec<Light> = raw.iter().map(|r| light(r.clone(), dark.clone())).collect();
        let plane = master(&lights, Some(1.0)).plane;
        let mut off: Vec<f32> = plane.data().iter().map(|v| v - sky().single()).collect();
        let centre = median(&mut off);
        let noise = f64::from(mad(&mut off, centre)) * MAD_TO_SIGMA;
        let (w, h) = (size().width(), size().height());
        let corner = mean((h - 30..h).flat_map(|y| plane.row(y)[w - 30..].iter().copied()));
        (noise, (corner - sky()) / noise)
    };
    let (own, other, without) = (
        spread(&whole),
        spread(&scaled(true)),
        spread(&scaled(false)),
    );
    figure(
        93,
        "lights of 120 s at -7 degrees with a dark of 180 s at -10, scaled: noise of six against that with a fitting dark; the glow's corner, and without its own part",
        &format!(
            "factor {factor:.4} for {truth:.4}; {:.3}; {:+.2}, {:+.2} sigma",
            other.0 / own.0,
            other.1,
            without.1
        ),
    );
    assert!((factor / truth - 1.0).abs() < 0.02, "{factor}");
    assert!(other.0 < 1.05 * own.0, "{other:?} {own:?}");
    assert!(other.1.abs() < 0.3, "{other:?}");
    assert!(without.1.abs() > 2.0 * other.1.abs(), "{without:?}");
}

#[test]
fn the_glows_part_is_fitted_beneath_a_gradient_and_a_nebula() {
    // An amplifier that rests while it exposes: three quarters of the glow that the exposures say.
    let warm = Exposure {
        seconds: 120.0,
        celsius: -7.0,
    };
    let resting = Chip {
        glow_e_s: 0.75 * chip().glow_e_s,
        ..chip()
    };
    let (known, answers) = (resting.known(&train()), response());
    let (w, h) = (size().width().real(), size().height().real());
    let raw: Vec<Plane> = (0..3u64)
        .map(|k| {
            let mut plane = known.even(SKY_E, warm, 8700 + k);
            for (i, v) in plane.data_mut().iter_mut().enumerate() {
                let (x, y) = (
                    (i % size().width()).real() / w,
                    (i / size().width()).real() / h,
                );
                // A fifth of the sky more in the glow's corner, and a nebula beside it that moves with the dithers.
                let gradient = 0.1 * (x * x + y * y);
                let off = ((x - 0.72 - 0.01 * k.real()) * w).hypot((y - 0.8) * h);
                let nebula = 0.3 * (-0.5 * (off / 25.0).powi(2)).exp();
                let more = SKY_E * (gradient + nebula) / resting.gain_e_adu;
                *v += more.single() * answers.data()[i];
            }
            plane
        })
        .collect();
    let dark = &night().dark.plane;
    let mut current = dark.clone();
    for (c, b) in current.data_mut().iter_mut().zip(night().bias.plane.data()) {
        *c -= b;
    }
    let glow = Glow::measure(&current, 2.0).unwrap();
    let factor = warm.seconds / LIGHT.seconds * 2f64.powf(0.5);
    let with_glow: Vec<Light> = raw
        .into_iter()
        .map(|r| {
            let calibration = Calibration {
                bias: Some(night().bias.plane.clone()),
                dark: Some(Dark {
                    master: dark.clone(),
                    factor,
                    glow: Some((glow.clone(), 0.0)),
                }),
                ..Calibration::default()
            };
            Calibrated::new(r, calibration)
        })
        .collect();
    let sources: Vec<&dyn FrameSource> = with_glow.iter().map(|l| l as &dyn FrameSource).collect();
    let told = warm.seconds / LIGHT.seconds;
    let found = part(&glow, &sources, Some(&night().flat.plane), Some(told)).unwrap();
    let found = found.unwrap();
    let truth = 0.75 * told;
    figure(
        117,
        "the glow's part in lights with a gradient of a fifth of the sky and a nebula in its corner, an amplifier that glows less than the exposures say: by the exposures, fitted, truth",
        &format!(
            "{told:.3}; {:.3} ± {:.3}; {truth:.3}",
            found.value, found.sigma
        ),
    );
    assert!(
        (found.value - truth).abs() < 3.0 * found.sigma,
        "{found:?} {truth}"
    );
    assert!((found.value / truth - 1.0).abs() < 0.1, "{found:?} {truth}");
}
