//! What single raw frames have besides their chip's flaws: cosmic rays, and blooms of full stars.

use jigsawa_core::calibrate::blooms::blooms;
use jigsawa_core::calibrate::defects::{Defects, usual_standing};
use jigsawa_core::calibrate::rays::rays;
use jigsawa_core::calibrate::repair::Repair;
use jigsawa_core::calibrate::set::SetNoise;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::median;
use jigsawa_core::space::Size;
use jigsawa_sky::chip::{Chip, Exposure};
use jigsawa_sky::train::Train;
use rstest::rstest;

use crate::setup::figure;

fn size() -> Size {
    Size::new(600, 500).unwrap()
}

/// A chip without flaws of its own.
fn clean() -> Chip {
    Chip {
        hot: 0.0,
        telegraph: 0.0,
        cold: 0.0,
        warm_columns: 0,
        glow_e_s: 0.0,
        columns_adu: 0.0,
        // A flat takes care of it.
        response: 0.0,
        ..Chip::usual(size())
    }
}

/// A number from 0 to 1 for each whole one (mixed as Steele, Lea & Flood 2014 do).
fn any(k: u64) -> f64 {
    let mut z = k.wrapping_add(1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    (z >> 11).real() / (1u64 << 53).real()
}

const EXPOSURE: Exposure = Exposure {
    seconds: 300.0,
    celsius: -20.0,
};

/// Stars of all brightnesses on a nebula's slope, as electrons; `fwhm` in pixels, elongated by a tenth.
fn stars(fwhm: f64, brightest_e: f64) -> (Plane, Vec<(f64, f64, f64)>) {
    let all: Vec<(f64, f64, f64)> = (0..500)
        .map(|k| {
            let part = |what: u64| any(5 * k + what);
            let faint = part(3).powi(4);
            let at = |side: usize, what: u64| 8.0 + part(what) * (side.real() - 16.0);
            (at(600, 1), at(500, 2), brightest_e * faint.max(2e-4))
        })
        .collect();
    let mut light = Plane::from_fn(size(), |x, y| {
        250.0 + 0.2 * x.single() + 120.0 * (-(y.single() - 250.0).powi(2) / 9e3).exp()
    });
    let sigma = fwhm / 2.3548;
    for (cx, cy, e) in &all {
        let reach = (6.0 * fwhm).ceil().whole();
        let (x0, y0) = (cx.round().whole(), cy.round().whole());
        for y in (y0 - reach).max(0)..(y0 + reach + 1).min(500) {
            for x in (x0 - reach).max(0)..(x0 + reach + 1).min(600) {
                // Means over the pixel by nine points: stars narrower than two pixels are no bells.
                let sum: f64 = (0..9)
                    .map(|k| {
                        let (i, j) = ((k % 3 - 1).real() / 3.0, (k / 3 - 1).real() / 3.0);
                        let (dx, dy) = (x.real() + i - cx, y.real() + j - cy);
                        let r2 = (dx / 1.05).powi(2) + (dy * 1.05).powi(2);
                        // Wings as optics have.
                        0.9 * (-r2 / (2.0 * sigma * sigma)).exp()
                            + 0.1 / (1.0 + r2 / (2.5 * sigma * sigma)).powi(2)
                    })
                    .sum::<f64>()
                    / 9.0;
                let peak = e / (std::f64::consts::TAU * sigma * sigma);
                let at = y.index() * 600 + x.index();
                light.data_mut()[at] += (peak * sum).single();
            }
        }
    }
    (light, all)
}

fn noise(frame: &Plane, chip: &Chip) -> SetNoise {
    let mut values = frame.data().to_vec();
    SetNoise {
        level: median(&mut values),
        sigma: usual_standing(frame).unwrap() / 1.09,
        of_light: (1.0 / chip.gain_e_adu).single(),
    }
}

#[rstest]
#[case::undersampled(1.5)]
#[case::usual(2.6)]
#[case::wide(4.5)]
fn rays_of_a_single_frame_are_found_and_stars_are_none(#[case] fwhm: f64) {
    let chip = Chip {
        rays: 40.0,
        ..clean()
    };
    let (light, stars) = stars(fwhm, 2e6);
    // The same frame with and without rays: they are drawn from numbers of their own.
    let hit = chip.read(&light, &Train::even(), EXPOSURE, 5);
    let calm = Chip {
        rays: 0.0,
        ..chip.clone()
    }
    .read(&light, &Train::even(), EXPOSURE, 5);
    let full = (chip.full_adu() * 0.98).single();
    let told = noise(&hit, &chip);
    let found = rays(&hit, &told, full).unwrap();
    let sigma = told.sigma;
    let places = Defects::new(size(), found.clone());
    let is_found: Vec<bool> = {
        let mut all = vec![false; size().area()];
        places.all().for_each(|(x, y, _)| all[y * 600 + x] = true);
        all
    };
    let (mut strong, mut missed) = (0usize, 0usize);
    let mut beside_ray = vec![false; size().area()];
    for (i, (a, b)) in hit.data().iter().zip(calm.data()).enumerate() {
        if a - b > 4.0 * sigma {
            let near = (-1i64..=1).flat_map(|dy| (-1i64..=1).map(move |dx| (dx, dy)));
            for (dx, dy) in near {
                let (x, y) = ((i % 600).whole() + dx, (i / 600).whole() + dy);
                if (0..600).contains(&x) && (0..500).contains(&y) {
                    beside_ray[y.index() * 600 + x.index()] = true;
                }
            }
        }
    }
    let mut false_pixels = 0usize;
    for (i, (a, b)) in hit.data().iter().zip(calm.data()).enumerate() {
        let extra = a - b;
        let sure = told.variance(*b).sqrt();
        if extra > 10.0 * sure {
            strong += 1;
            missed += usize::from(!is_found[i]);
        }
        false_pixels += usize::from(is_found[i] && !beside_ray[i]);
    }
    // A core is a star's if it stands out at all.
    let cores = stars.iter().filter(|s| {
        let (x, y) = (s.0.round().index(), s.1.round().index());
        is_found[y * 600 + x] && hit.data()[y * 600 + x] - calm.data()[y * 600 + x] < 3.0 * sigma
    });
    let cores = cores.count();
    figure(
        113,
        "rays of a single frame, stars of 1.5 / 2.6 / 4.5 px: pixels above 10 sigma missed, sound pixels taken for one, stars' cores among them",
        &format!(
            "{fwhm} px: {missed} of {strong}, {false_pixels} of {}, {cores}",
            size().area()
        ),
    );
    assert!(strong > 200, "{strong}");
    assert!(missed * 10 < strong, "{missed} of {strong} missed");
    assert!(false_pixels * 5000 < size().area(), "{false_pixels} wrong");
    // Of stars narrower than two pixels a few are as sharp as a ray.
    let spared = if fwhm < 2.0 { 5 } else { 0 };
    assert!(cores <= spared, "{cores} of {}", stars.len());
}

#[test]
fn blooms_are_cut_and_filled_from_beside_and_full_stars_stay() {
    let chip = Chip {
        rays: 0.0,
        blooms: true,
        ..clean()
    };
    let (light, _) = stars(3.0, 6e6);
    let drained = Chip {
        blooms: false,
        ..chip.clone()
    };
    let raw = chip.read(&light, &Train::even(), EXPOSURE, 7);
    let want = drained.read(&light, &Train::even(), EXPOSURE, 7);
    let full = (chip.full_adu() * 0.95).single();
    let found = blooms(&raw, full).unwrap();
    let own = Defects::new(size(), found);
    let mut mended = raw.data().to_vec();
    let repair = Repair {
        chip: None,
        own: Some(&own),
        step: 1,
    };
    let whole = size().rect();
    repair
        .repair(whole, &mut mended, |_, _| unreachable!("all is there"))
        .unwrap();
    let sigma = noise(&want, &chip).sigma;
    // Pixels that a bloom has brightened and the star itself has not, and what is left of it.
    let mut bloomed: Vec<usize> = Vec::new();
    for (i, (r, w)) in raw.data().iter().zip(want.data()).enumerate() {
        if r - w > 0.3 * full && *w < 0.03 * full {
            bloomed.push(i);
        }
    }
    let off = |i: &usize| mended[*i] - want.data()[*i];
    let added = |i: usize| raw.data()[i] - want.data()[i];
    let left = bloomed
        .iter()
        .filter(|i| off(i).abs() > 0.1 * added(**i))
        .count();
    let mut offs: Vec<f32> = bloomed.iter().map(off).collect();
    let middle = median(&mut offs);
    let touched = own.len() - bloomed.len().min(own.len());
    figure(
        114,
        "blooms of full stars filled from beside: pixels of which more than a tenth is left, of; the usual error in noise widths; sound pixels filled along with them",
        &format!(
            "{left} of {}, {:.2}, {touched}",
            bloomed.len(),
            middle / sigma
        ),
    );
    assert!(bloomed.len() > 500, "{}", bloomed.len());
    assert!(left * 10 < bloomed.len(), "{left} of {}", bloomed.len());
    assert!(middle.abs() < 3.0 * sigma, "{middle} against {sigma}");
    assert!(touched < 6 * bloomed.len(), "{touched}");
}
