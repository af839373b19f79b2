//! How well frames are matched: made-up pairs of frames of one filter under different skies, from the pixels to the
//! balance, against the truth. Prints the table of docs/accuracy.md; with a file's name, writes it there between
//! its markers.
//!
//!     cargo run --release -p jigsawa-sky --example levels [docs/accuracy.md]

mod page;

use jigsawa_core::number::Convert;
use std::fmt::Write as _;

use jigsawa_core::balance::{
    Balance, BalanceSettings, Lattice, Member, Samples, ScaleBy, Sky, match_to,
};
use jigsawa_core::filter::Filter;
use jigsawa_core::placement::Placement;
use jigsawa_core::space::{CanvasPx, Point};
use jigsawa_core::stars::{Settings, detect};
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::levels::{Other, true_sky};
use jigsawa_sky::shot::{Shot, Taken};

/// Skies for a case that is to tell whether errors are honest, and for another.
const MANY: u64 = 50;
const SOME: u64 = 12;

/// A kind of pair.
struct Case {
    name: &'static str,
    skies: u64,
    other: Other,
}

fn cases() -> Vec<Case> {
    let case = |name, other| Case {
        name,
        skies: SOME,
        other,
    };
    let honest = |name, other| Case {
        skies: MANY,
        ..case(name, other)
    };
    let red = |seed| Other {
        filter: Filter::R,
        ..Other::usual(seed)
    };
    vec![
        honest(
            "R, 300 stars and more",
            Other {
                stars: 1000,
                ..red(10_000)
            },
        ),
        honest(
            "R, 25 stars",
            Other {
                stars: 40,
                ..red(20_000)
            },
        ),
        case("Ha, nebula over most of the frame", Other::usual(30_000)),
        case(
            "the same without a nebula",
            Other {
                nebula: false,
                ..Other::usual(40_000)
            },
        ),
        case(
            "skies without gradients",
            Other {
                glow: SkyGlow::even(300.0),
                ..Other::usual(50_000)
            },
        ),
        case(
            "meridian flip, seeing 5 px against 3",
            Other {
                turn_deg: 179.3,
                fwhm_px: 5.0,
                ..Other::usual(60_000)
            },
        ),
        case(
            "a fifth of the light",
            Other {
                transparency: 0.2,
                ..red(70_000)
            },
        ),
    ]
}

/// How one pair came out.
struct Outcome {
    by_stars: bool,
    stars: usize,
    /// Relative error of the scale, and in the errors that are told.
    off: f64,
    pull: f64,
    /// Error of the sky in the reference's pixel noise: root mean square, and worst.
    rms: f64,
    worst: f64,
}

fn main() {
    let mut text = String::from(
        "| pair | skies | stars | scale off, rms | at most | pulls | sky off, rms σ | worst pair σ | anywhere σ |\n|---|---|---|---|---|---|---|---|---|\n",
    );
    for case in cases() {
        let all: Vec<Outcome> = (0..case.skies)
            .map(|k| {
                run(&Other {
                    seed: case.other.seed + k,
                    ..case.other.clone()
                })
            })
            .collect();
        let rms = |of: &dyn Fn(&Outcome) -> f64| {
            (all.iter().map(|o| of(o).powi(2)).sum::<f64>() / all.len().real()).sqrt()
        };
        let most = |of: &dyn Fn(&Outcome) -> f64| all.iter().map(of).fold(0.0, f64::max);
        let mut stars: Vec<usize> = all.iter().map(|o| o.stars).collect();
        stars.sort_unstable();
        let others = all.iter().filter(|o| !o.by_stars).count();
        let row = format!(
            "| {}{} | {} | {} | {:.2} % | {:.2} % | {:.2} | {:.3} | {:.3} | {:.2} |",
            case.name,
            if others > 0 {
                format!(" ({others} not by stars)")
            } else {
                String::new()
            },
            case.skies,
            stars[stars.len() / 2],
            100.0 * rms(&|o| o.off),
            100.0 * most(&|o| o.off.abs()),
            rms(&|o| o.pull),
            rms(&|o| o.rms),
            most(&|o| o.rms),
            most(&|o| o.worst),
        );
        eprintln!("{row}");
        let _ = writeln!(text, "{row}");
    }
    page::put(std::env::args().nth(1), "levels", text.trim_end());
}

fn run(other: &Other) -> Outcome {
    let [(a, Taken { plane: p, .. }), (b, Taken { plane: q, .. })] = other.take();
    let find = |plane| detect(plane, Some(62_000.0), &Settings::default()).expect("it has data");
    let (stars_a, stars_b) = (find(&p), find(&q));
    // The canvas is the first frame's grid; the truth gives the map.
    let here: Placement = Placement::shift(0.0, 0.0);
    let there: Placement = a
        .map()
        .invert()
        .then(&b.map())
        .expect("both are flat")
        .retyped();
    let lattice = Lattice::over(a.size);
    let sky = |shot: &'_ Shot, plane, stars, placement| {
        let samples = Samples::take(plane, placement, stars, Some(62_000.0), lattice);
        (shot.size, samples)
    };
    let (size_a, samples_a) = sky(&a, &p, &stars_a, &here);
    let (size_b, samples_b) = sky(&b, &q, &stars_b, &there);
    let member = |catalogue, placement, size| Member {
        catalogue,
        placement,
        size,
        filter: &other.filter,
        exposure_s: Some(300.0),
        gain_e_adu: None,
    };
    let reference = Sky {
        member: member(&stars_a, &here, size_a),
        samples: samples_a,
    };
    let frame = Sky {
        member: member(&stars_b, &there, size_b),
        samples: samples_b,
    };
    let balance = match_to(&reference, &frame, &BalanceSettings::default())
        .expect("both show the same sky")
        .balance;
    let off = balance.scale.value * other.transparency - 1.0;
    let (rms, worst) = sky_off(&balance, (&a, &b), &there);
    Outcome {
        by_stars: balance.scale_by == ScaleBy::Stars,
        stars: balance.stars,
        off,
        pull: off / (balance.scale.sigma / balance.scale.value),
        rms,
        worst,
    }
}

/// How far the balanced sky is off the reference's over all that both cover, in pixel noise.
fn sky_off(balance: &Balance, (a, b): (&Shot, &Shot), there: &Placement) -> (f64, f64) {
    let noise = a.camera.noise(a.glow.level, a.subs);
    let (mut sum, mut n, mut worst) = (0.0, 0.0, 0.0f64);
    for y in (16..a.size.height()).step_by(32) {
        for x in (16..a.size.width()).step_by(32) {
            let at: Point<CanvasPx> = Point::new(x.real(), y.real());
            let place = there.apply(at);
            if !b.size.holds(place) {
                continue;
            }
            let got = balance.apply(true_sky(b, place), at);
            let off = (got - true_sky(a, Point::new(at.x, at.y))) / noise;
            sum += off * off;
            n += 1.0;
            worst = worst.max(off.abs());
        }
    }
    (f64::sqrt(sum / n), worst)
}
