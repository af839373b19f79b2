//! Mosaics with one wrong panel each: none is merged without a word, and the right panels are.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use rstest::rstest;

use crate::mosaic_odd::row;
use crate::night::{Frame, Night, frame};

/// What is wrong with the last of four panels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Wrong {
    Nothing,
    /// Of another field, as large, by the same camera.
    OtherField,
    /// The same, with a header that puts it here.
    OtherTarget,
    NotLinear,
    /// Its header shows the sky mirrored.
    Mirrored,
    NoStars,
    /// The second panel under another name.
    Twice,
}

/// So many mosaics of each kind are made; `JIGSAWA_MOSAICS` for more.
fn rounds() -> u64 {
    let asked = std::env::var("JIGSAWA_MOSAICS");
    asked.ok().and_then(|n| n.parse().ok()).unwrap_or(2)
}

/// A number from 0 to 1.
fn luck(seed: u64, n: u64) -> f64 {
    let mut z = (seed * 16 + n + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    ((z ^ (z >> 27)) >> 11).real() / (1u64 << 53).real()
}

fn stretched(mut p: Plane) -> Plane {
    for v in p.data_mut() {
        *v = 2000.0 * ((*v - 100.0).max(0.0) / 500.0).asinh();
    }
    p
}

/// Noise of the same strength, and nothing else.
fn only_noise(mut p: Plane) -> Plane {
    for (k, v) in p.data_mut().iter_mut().enumerate() {
        let four = (0..4).map(|n| luck(k as u64, n)).sum::<f64>() - 2.0;
        *v = 600.0 + 3.0 * four.single();
    }
    p
}

/// With a header that puts it so many pixels from the field's middle.
pub fn solved(f: Frame, (dx, dy): (f64, f64), mirrored: bool) -> Frame {
    let across = if mirrored { 0.0004 } else { -0.0004 };
    f.with("CTYPE1  = 'RA---TAN'")
        .with("CTYPE2  = 'DEC--TAN'")
        .with(&format!("CRPIX1  = {}", 230.5 - dx))
        .with(&format!("CRPIX2  = {}", 170.5 - dy))
        .with("CRVAL1  = 153.0")
        .with("CRVAL2  = 28.4")
        .with(&format!("CD1_1   = {across}"))
        .with("CD1_2   = 0.0")
        .with("CD2_1   = 0.0")
        .with("CD2_2   = 0.0004")
}

fn night(wrong: Wrong, seed: u64) -> Night {
    let part = |n| luck(seed, n);
    let around = (300.0 * (part(0) - 0.5), 240.0 * (part(1) - 0.5));
    let of = |k: u64, c: f64, r: f64| -> Frame {
        let at = (320.0 * (c - 0.5), 230.0 * (r - 0.5));
        let f = frame(Filter::R, "Red")
            .sized(460, 340)
            .with("INSTRUME= 'Pebble 24'")
            .shifted(around.0 + at.0, around.1 + at.1)
            .hazy(0.6 + 0.4 * part(2 + k))
            .again(100 * seed + k);
        // Headers are all right or there is none.
        if matches!(wrong, Wrong::OtherTarget | Wrong::Mirrored) {
            let mirrored = wrong == Wrong::Mirrored && k == 3;
            solved(f, at, mirrored)
        } else {
            f
        }
    };
    let last = of(3, 1.0, 1.0);
    let last = match wrong {
        Wrong::Nothing | Wrong::Twice | Wrong::Mirrored => last,
        Wrong::OtherField | Wrong::OtherTarget => {
            last.shifted(-3000.0 - 900.0 * part(7), 2500.0 + 700.0 * part(8))
        }
        Wrong::NotLinear => last.after(stretched),
        Wrong::NoStars => last.after(only_noise),
    };
    let night = Night::new()
        .frame("a.fits", of(0, 0.0, 0.0))
        .frame("b.fits", of(1, 1.0, 0.0))
        .frame("c.fits", of(2, 0.0, 1.0));
    if wrong == Wrong::Twice {
        let bytes = std::fs::read(night.path("b.fits")).unwrap();
        return night.file("d.fits", &bytes);
    }
    night.frame("d.fits", last)
}

#[rstest]
#[case(Wrong::Nothing)]
#[case(Wrong::OtherField)]
#[case(Wrong::OtherTarget)]
#[case(Wrong::NotLinear)]
#[case(Wrong::Mirrored)]
#[case(Wrong::NoStars)]
#[case(Wrong::Twice)]
fn a_wrong_panel_is_left_out_or_told(#[case] wrong: Wrong) {
    for seed in 0..rounds() {
        let told = night(wrong, seed)
            .run("mosaic a.fits b.fits c.fits d.fits --out r --name reef --linear-only --no-report --json")
            .success()
            .json();
        let d = row(&told, "d.fits");
        let doubts = told["mosaic"]["overlaps"].to_string().contains("doubts");
        let said = format!("{} {}", told["warnings"], d["notes"]);
        let what = format!("{wrong:?} {seed}: {said} {d}");
        let is_out = d["verdict"] == "left out";
        match wrong {
            // Few stars between two neighbours may be told; nothing else is.
            Wrong::Nothing => {
                let quiet = told["warnings"].as_array().is_none_or(Vec::is_empty);
                assert!(!is_out && quiet, "{what}");
            }
            Wrong::OtherField | Wrong::OtherTarget | Wrong::NoStars | Wrong::Twice => {
                assert!(is_out, "{what}");
            }
            Wrong::NotLinear => assert!(is_out || said.contains("not linear") || doubts, "{what}"),
            Wrong::Mirrored => assert!(said.contains("its WCS is"), "{what}"),
        }
        // A right one may have too few stars in its overlaps, and is then left out with its reason. None is spoilt.
        let right = ["a.fits", "b.fits", "c.fits"].map(|name| row(&told, name));
        let used: Vec<_> = right.iter().filter(|r| r["verdict"] == "used").collect();
        assert!(used.len() >= 2, "{what}");
        // What lies by its header alone is told to a pixel, and that nothing checks it.
        let by_stars = |r: &&&serde_json::Value| r["placement"]["by"] != "WCS alone";
        for r in used.iter().filter(by_stars) {
            let rms = r["placement"]["rms_px"].as_f64().unwrap();
            assert!(rms < 0.3, "{what}: {r}");
        }
    }
}
