//! How often and how well frames are registered: a grid of made-up pairs of frames, from the pixels to the map,
//! against the truth. Prints the table of docs/accuracy.md; with a file's name, writes it there between its
//! markers.
//!
//!     cargo run --release -p jigsawa-sky --example accuracy [docs/accuracy.md]

mod page;

use jigsawa_core::number::Convert;
use std::fmt::Write as _;
use std::time::Instant;

use jigsawa_core::filter::Filter;
use jigsawa_core::matching::{MatchSettings, Matched, match_frames, spots};
use jigsawa_core::placement::{Map, Registration};
use jigsawa_core::space::{FramePx, Point, ReferencePx, Size};
use jigsawa_core::stars::{Catalogue, Settings, detect};
use jigsawa_sky::camera::Camera;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::{Pointing, SkyPx};
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::Crowd;

/// Skies for each case.
const SEEDS: u64 = 20;

/// A map that is off by more than this anywhere that both frames cover is no success, in pixels of the coarser grid.
const GOOD_PX: f64 = 0.35;

/// A pair of frames.
#[derive(Debug, Clone, Copy)]
struct Case {
    name: &'static str,
    /// Stars that the reference shows, about.
    stars: usize,
    /// Part of the light that the frame gets: its signal-to-noise goes with it.
    light: f64,
    turn_deg: f64,
    mirrored: bool,
    scale: f64,
    /// Displacement by the frame's lens in its corners.
    lens_px: f64,
    /// Part of the reference that the frame covers.
    overlap: f64,
    /// Seeing of the frame.
    fwhm_px: f64,
    size: (usize, usize),
}

const USUAL: Case = Case {
    name: "300 stars, shifted",
    stars: 300,
    light: 1.0,
    turn_deg: 0.4,
    mirrored: false,
    scale: 1.0,
    lens_px: 0.0,
    overlap: 0.95,
    fwhm_px: 3.0,
    size: (1500, 1000),
};

/// The grid.
const CASES: &[Case] = &[
    Case {
        name: "25 stars",
        stars: 25,
        ..USUAL
    },
    Case {
        name: "50 stars",
        stars: 50,
        ..USUAL
    },
    Case {
        name: "100 stars",
        stars: 100,
        ..USUAL
    },
    USUAL,
    Case {
        name: "1000 stars",
        stars: 1000,
        ..USUAL
    },
    Case {
        name: "3000 stars",
        stars: 3000,
        size: (3000, 2000),
        ..USUAL
    },
    Case {
        name: "10,000 stars",
        stars: 10_000,
        size: (3000, 2000),
        ..USUAL
    },
    Case {
        name: "meridian flip",
        turn_deg: 180.9,
        ..USUAL
    },
    Case {
        name: "turned by 67°",
        turn_deg: 67.0,
        ..USUAL
    },
    Case {
        name: "mirrored, turned by 120°",
        turn_deg: 120.0,
        mirrored: true,
        ..USUAL
    },
    Case {
        name: "scale 0.25",
        scale: 0.25,
        stars: 600,
        turn_deg: 33.0,
        ..USUAL
    },
    Case {
        name: "scale 0.5",
        scale: 0.5,
        turn_deg: 10.0,
        ..USUAL
    },
    Case {
        name: "scale 2",
        scale: 2.0,
        turn_deg: 10.0,
        ..USUAL
    },
    Case {
        name: "scale 4",
        scale: 4.0,
        stars: 1000,
        turn_deg: 33.0,
        fwhm_px: 6.0,
        ..USUAL
    },
    Case {
        name: "lens of 1 px",
        lens_px: 1.0,
        ..USUAL
    },
    Case {
        name: "lens of 5 px",
        lens_px: 5.0,
        ..USUAL
    },
    Case {
        name: "lens of 5 px, 1000 stars, flip",
        lens_px: 5.0,
        stars: 1000,
        turn_deg: 179.0,
        ..USUAL
    },
    Case {
        name: "lens of 5 px, 60 stars",
        lens_px: 5.0,
        stars: 60,
        ..USUAL
    },
    Case {
        name: "a tenth of the light",
        light: 0.1,
        ..USUAL
    },
    Case {
        name: "a thirtieth of the light",
        light: 0.03,
        ..USUAL
    },
    Case {
        name: "a hundredth of the light",
        light: 0.01,
        ..USUAL
    },
    Case {
        name: "seeing 6 px against 3",
        fwhm_px: 6.0,
        ..USUAL
    },
    Case {
        name: "half in common",
        overlap: 0.5,
        ..USUAL
    },
    Case {
        name: "30 % in common",
        overlap: 0.3,
        ..USUAL
    },
    Case {
        name: "15 % in common",
        overlap: 0.15,
        ..USUAL
    },
    Case {
        name: "15 % in common, 1000 stars, flip",
        overlap: 0.15,
        stars: 1000,
        turn_deg: 180.0,
        ..USUAL
    },
];

/// How one pair came out.
enum Outcome {
    /// Root mean square and largest error of the map, in pixels.
    Right(f64, f64),
    /// Accepted, and wrong.
    Wrong(f64),
    /// Left out, and what was said.
    Refused(String),
}

fn main() {
    let mut table = String::from(
        "| case | stars found | registered | rms px | worst px | told corner px | matching ms |\n|---|---|---|---|---|---|---|\n",
    );
    let (mut right, mut wrong, mut all, mut worst) = (0, 0, 0, 0.0f64);
    let mut reasons = String::new();
    for case in CASES {
        let told = run(case);
        right += told.right;
        wrong += told.wrong;
        all += SEEDS.index();
        worst = worst.max(told.worst_px);
        let _ = writeln!(table, "{}", told.row);
        reasons.push_str(&told.reasons);
        eprintln!("{}", told.row);
    }
    let mut text = format!(
        "{all} pairs of frames, {SEEDS} skies for each case: {right} registered, {wrong} wrongly; worst error of the \
         registered anywhere that both frames cover {worst:.3} px.\n\n{table}"
    );
    if !reasons.is_empty() {
        let _ = write!(text, "\nNot registered, and what was said:\n\n{reasons}");
    }
    page::put(std::env::args().nth(1), "accuracy", &text);
}

/// A row of the table, and what it adds to the sums.
struct Told {
    row: String,
    reasons: String,
    right: usize,
    wrong: usize,
    worst_px: f64,
}

fn run(case: &Case) -> Told {
    let (mut rms, mut worst, mut corners, mut times) = (Vec::new(), 0.0f64, Vec::new(), Vec::new());
    let (mut found, mut wrong) = (Vec::new(), Vec::new());
    let mut reasons: Vec<String> = Vec::new();
    for seed in 0..SEEDS {
        let (reference, frame) = shots(case, seed);
        let crowd = crowd(case, seed);
        let of_reference = stars(&reference, &crowd);
        let of_frame = stars(&frame, &crowd);
        found.push(of_frame.stars.len());
        let start = Instant::now();
        let sizes = (reference.size, frame.size);
        let matched = match_frames(
            &spots(&of_reference),
            &spots(&of_frame),
            sizes,
            &MatchSettings::default(),
        );
        times.push(start.elapsed().as_secs_f64() * 1e3);
        if let Ok(m) = &matched {
            corners.push(m.errors.corner_sigma_px);
        }
        match judge(&reference, &frame, matched.map_err(|e| e.to_string())) {
            Outcome::Right(r, w) => {
                rms.push(r);
                worst = worst.max(w);
            }
            Outcome::Wrong(w) => wrong.push(w),
            Outcome::Refused(reason) => reasons.push(reason),
        }
    }
    let middle = |v: &mut Vec<f64>| {
        v.sort_by(f64::total_cmp);
        v.get(v.len() / 2).copied().unwrap_or(f64::NAN)
    };
    found.sort_unstable();
    let registered = match wrong.len() {
        0 => format!("{} of {SEEDS}", rms.len()),
        n => format!("{} of {SEEDS}, {n} WRONG", rms.len()),
    };
    let right = rms.len();
    let row = format!(
        "| {} | {} | {registered} | {:.3} | {worst:.3} | {:.3} | {:.1} |",
        case.name,
        found[found.len() / 2],
        middle(&mut rms),
        middle(&mut corners),
        middle(&mut times),
    );
    reasons.sort();
    let said = reasons.first().map_or(String::new(), |r| {
        format!("- {}: {} of {SEEDS}; \"{r}\"\n", case.name, reasons.len())
    });
    Told {
        row,
        reasons: said,
        right,
        wrong: wrong.len(),
        worst_px: worst,
    }
}

/// The stars of a case: nearly all of them bright enough to be found in the reference.
fn crowd(case: &Case, seed: u64) -> Crowd {
    let (w, h) = case.size;
    Crowd {
        beacons: &[],
        per_cell: case.stars.real() / (w * h).real() * 1e4,
        magnitudes: (9.5, 16.0),
        seed: 1000 * seed + 77,
    }
}

fn shots(case: &Case, seed: u64) -> (Shot, Shot) {
    let size = Size::new(case.size.0, case.size.1).expect("a size");
    let (w, h) = (case.size.0.real(), case.size.1.real());
    // Moved by the same part along both sides.
    let away = 1.0 - case.overlap.sqrt();
    let reference = Shot {
        filter: Filter::G,
        size,
        pointing: Pointing::at(5000.0, 4000.0),
        optics: Optics::round(3.0),
        camera: Camera::usual(),
        glow: SkyGlow::even(300.0),
        transparency: 1.0,
        spoilt: Spoilt::default(),
        subs: 20,
        seed: 2 * seed + 1,
    };
    let frame = Shot {
        pointing: Pointing {
            centre: (5000.0 + away * w, 4000.0 - away * h),
            turn_deg: case.turn_deg,
            scale: case.scale,
            mirrored: case.mirrored,
            sphere: None,
        },
        optics: Optics {
            distortion_px: case.lens_px,
            ..Optics::round(case.fwhm_px)
        },
        transparency: case.light,
        seed: 2 * seed + 2,
        ..reference.clone()
    };
    (reference, frame)
}

fn stars(shot: &Shot, crowd: &Crowd) -> Catalogue {
    let taken = shot.take(crowd, None);
    detect(
        &taken.plane,
        Some(shot.camera.full_adu.single()),
        &Settings::default(),
    )
    .expect("a frame with noise can be measured")
}

/// The map against the true one on a grid of places that both frames cover.
fn judge(reference: &Shot, frame: &Shot, matched: Result<Matched, String>) -> Outcome {
    const STEPS: usize = 25;
    let found: Registration = match matched {
        Ok(m) => m.map,
        Err(reason) => return Outcome::Refused(reason),
    };
    let to_sky: Map<FramePx, SkyPx> = reference.map().invert();
    let to_frame = frame.map();
    let unit = frame.pointing.scale.max(1.0);
    let (mut sum, mut count, mut worst) = (0.0, 0usize, 0.0f64);
    for k in 0..STEPS * STEPS {
        let part = |k: usize, n: usize| k.real() / (STEPS - 1).real() * (n.real() - 1.0);
        let (x, y) = (
            part(k % STEPS, reference.size.width()),
            part(k / STEPS, reference.size.height()),
        );
        let truth = to_frame.apply(to_sky.apply(Point::new(x, y)));
        if !frame.size.holds(truth) {
            continue;
        }
        let off = found.apply(Point::<ReferencePx>::new(x, y)).distance(truth) / unit;
        sum += off * off;
        count += 1;
        worst = worst.max(off);
    }
    if worst > GOOD_PX {
        return Outcome::Wrong(worst);
    }
    Outcome::Right((sum / count.max(1).real()).sqrt(), worst)
}
