//! Times the built program on made-up frames of several sizes and numbers, and writes docs/speed.md with its plot:
//!
//!     cargo build --release && cargo run --release -p jigsawa --example speed -- target/release/jigsawa docs
//!
//! Frames are written into a temporary folder first (some 12 GB for all of it; `--quick` leaves large sizes and many
//! frames away) and lie in the page cache when they are read. Each command runs three times; the fastest counts. The
//! limit is what it takes to read the inputs' bytes once and to write the results' once, measured on the same files.

mod chart;
mod frames;
mod page;
mod run;

use std::path::PathBuf;

use frames::Scene;
use page::{Page, Row};
use run::{Limits, Timed, timed};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words: Vec<String> = std::env::args().skip(1).collect();
    let quick = words.iter().any(|w| w == "--quick");
    words.retain(|w| w != "--quick");
    let [program, out] = &words[..] else {
        return Err("give the program and the folder of docs".into());
    };
    let (program, out) = (PathBuf::from(program).canonicalize()?, PathBuf::from(out));
    let scratch = tempfile::tempdir()?;
    let folder = scratch.path();
    let limits = Limits::measure(folder)?;
    let time = |line: &str, threads: usize| timed(&program, folder, line, threads);
    let mut page = Page::new(&limits);
    let side = |megapixels: u32| f64::from(megapixels * 1_500_000).sqrt();
    let scene = Scene::new(folder, side(24));
    scene.masters()?;
    scene.exposures()?;
    scene.panels()?;
    scene.night(24)?;
    scene.darks(20)?;
    for (what, line) in COMMANDS {
        let two = time(line, 2)?;
        eprintln!("{what}: {:.2} s", two.seconds);
        page.commands.push(Row {
            what: (*what).to_owned(),
            limit_s: limits.seconds(&two),
            on: vec![time(line, 1)?, two, time(line, 4)?],
        });
    }
    scene.clear()?;
    for megapixels in if quick {
        &[6, 24][..]
    } else {
        &[6, 24, 60, 150]
    } {
        let scene = Scene::new(folder, side(*megapixels));
        scene.broadband()?;
        let on: Result<Vec<Timed>, _> = SIZES.iter().map(|(_, line)| time(line, 2)).collect();
        eprintln!("{megapixels} megapixels");
        page.sizes.push((*megapixels, on?));
        scene.clear()?;
    }
    page.of_sizes = SIZES.map(|(what, _)| what);
    let scene = Scene::new(folder, side(6));
    for frames in if quick {
        &[4, 16][..]
    } else {
        &[4, 16, 64, 128]
    } {
        scene.night(*frames)?;
        let on: Result<Vec<Timed>, _> = NUMBERS.iter().map(|(_, line)| time(line, 2)).collect();
        eprintln!("{frames} frames");
        page.numbers.push((*frames, on?));
    }
    page.of_numbers = NUMBERS.map(|(what, _)| what);
    page.write(&out)?;
    chart::draw(&page, &out.join("speed.svg"))?;
    Ok(())
}

/// What is timed at 24 megapixels; `{}` is a new folder for results.
const COMMANDS: &[(&str, &str)] = &[
    (
        "register four masters and write them placed",
        "register masters/reef_Ha.fits masters/reef_R.fits masters/reef_G.fits masters/reef_B.fits --out {} --write-frames {}/placed",
    ),
    (
        "compose three masters: FITS, TIFF, PNG",
        "compose masters/reef_R.fits masters/reef_G.fits masters/reef_B.fits --palette RGB --out {}",
    ),
    (
        "six masters to a finished picture and its report",
        "run masters --palettes SHO --out {}",
    ),
    (
        "a second palette from the layout",
        "compose first/reef-SHO.layout.json --palette HOO --out {} --name second",
    ),
    (
        "nebula of the lines, stars of the broadband (six masters, linear)",
        "compose masters --palette lantern --linear-only --out {}",
    ),
    (
        "HDR of three exposures, linear",
        "hdr exposures --linear-only --out {}",
    ),
    (
        "mosaic of four panels, linear",
        "mosaic panels --linear-only --out {}",
    ),
    (
        "finish a colour picture, with its report",
        "finish first/reef-SHO.fits --out {}",
    ),
    (
        "survey of 24 frames, with its report",
        "survey night --out {}",
    ),
    (
        "stack of 24 frames from nothing: stars, places, balances, rejection",
        "stack night --out {}",
    ),
    (
        "calibration master of 20 frames of 16 bits",
        "calibrate darks --out {}",
    ),
];

/// What is timed at several sizes.
const SIZES: [(&str, &str); 3] = [
    (
        "register two",
        "register masters/reef_R.fits masters/reef_G.fits --out {}",
    ),
    ("compose three", "compose masters --palette RGB --out {}"),
    ("finish", "finish masters/reef_R.fits --out {}"),
];

/// What is timed with several numbers of frames.
const NUMBERS: [(&str, &str); 2] = [
    ("survey", "survey night --out {}"),
    ("stack", "stack night --out {}"),
];
