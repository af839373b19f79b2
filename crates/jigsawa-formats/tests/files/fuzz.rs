//! Files spoilt by chance: whatever comes in, the reader gives an image or an error, and never ends, hangs or takes memory
//! that no file promises. `JIGSAWA_FUZZ_RUNS` says how many are tried.

use std::path::Path;

use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_sky::garble::{Garble, runs};

use crate::packed::{ways, write_packed};

/// Tries where nothing else is asked for: some seconds for both targets.
const USUAL: u64 = 20_000;

/// Pixels of an image that is read to the end; a larger one is looked at only.
const READ: usize = 1 << 20;

fn corpus(name: &str) -> Garble {
    Garble::of_folder(
        &Path::new(env!("CARGO_MANIFEST_DIR"))
            .join("tests/corpus")
            .join(name),
    )
}

/// A folder in memory where there is one: a million files are written.
fn folder() -> tempfile::TempDir {
    tempfile::tempdir_in("/dev/shm").unwrap_or_else(|_| tempfile::tempdir().unwrap())
}

/// Opens and reads all; how many gave an image.
fn read_all(garble: &mut Garble, name: &str, runs: u64) -> u64 {
    let dir = folder();
    let path = dir.path().join(name);
    let mut images = 0;
    for number in 0..runs {
        std::fs::write(&path, garble.bytes(number)).unwrap();
        let Ok(frame) = FitsFrame::open(&path) else {
            continue;
        };
        images += 1;
        let facts = facts::read(&frame);
        assert!(
            facts.exposure_s.is_none_or(|s| s > 0.0 && s.is_finite()),
            "{number}"
        );
        assert!(
            facts.saturation.is_none_or(|s| s > 0.0 && s.is_finite()),
            "{number}"
        );
        if frame.size().area() <= READ {
            for plane in 0..frame.planes() {
                if let Ok(plane) = frame.read_plane(plane, Vec::new()) {
                    assert!(plane.data().iter().all(|v| !v.is_infinite()), "{number}");
                }
            }
        }
    }
    images
}

#[test]
fn no_spoilt_header_or_image_harms_the_reader() {
    let runs = runs(USUAL);
    let images = read_all(&mut corpus("headers"), "a.fits", runs);
    // Neither all refused nor all taken: the harm reaches what it should.
    assert!(
        images > runs / 20 && images < runs - runs / 20,
        "{images} of {runs}"
    );
}

#[test]
fn no_spoilt_packed_image_harms_the_unpacking() {
    let dir = folder();
    let mut seeds = Vec::new();
    for (i, how) in ways().into_iter().enumerate() {
        let path = dir.path().join(i.to_string());
        write_packed(&path, how);
        seeds.push(std::fs::read(&path).unwrap());
    }
    let kept = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/packed");
    if kept.is_dir() {
        seeds.extend_from_slice(Garble::of_folder(&kept).seeds());
    }
    let runs = runs(USUAL);
    let images = read_all(&mut Garble::new(seeds), "a.fits.fz", runs);
    assert!(
        images > runs / 20 && images < runs - runs / 20,
        "{images} of {runs}"
    );
}
