//! Files spoilt by chance: whatever comes in, the reader gives an image or an error, and never ends, hangs or takes memory
//! that no file promises. `JIGSAWA_FUZZ_RUNS` says how many are tried.

use std::path::Path;

use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_sky::garble::{Garble, runs};

use tiff::encoder::colortype::{Gray16, RGB32Float};
use tiff::encoder::{Compression, DeflateLevel};

use crate::packed::{ways, write_packed};
use crate::raw::dng;
use crate::read_pictures::{png, written};

/// Tries where nothing else is asked for: some seconds for both targets.
const USUAL: u64 = 20_000;

/// Where every image is unpacked into a file first.
const USUAL_UNPACKED: u64 = 3_000;

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

#[test]
fn no_spoilt_tiff_or_png_harms_its_decoder() {
    let dir = folder();
    let path = dir.path().join("seed");
    let mut seeds = Vec::new();
    let mut keep = |path: &Path| seeds.push(std::fs::read(path).unwrap());
    for how in [
        Compression::Uncompressed,
        Compression::Lzw,
        Compression::Packbits,
    ] {
        written::<Gray16>(&path, how, |v| v * 100);
        keep(&path);
    }
    written::<RGB32Float>(&path, Compression::Deflate(DeflateLevel::Fast), f32::from);
    keep(&path);
    png(&path, png::ColorType::Rgba, png::BitDepth::Sixteen);
    keep(&path);
    let runs = runs(USUAL_UNPACKED);
    let images = read_all(&mut Garble::new(seeds), "a.tif", runs);
    // A checksum, or a place that a list of places names, does not bear much.
    assert!(
        images > runs / 50 && images < runs - runs / 20,
        "{images} of {runs}"
    );
}

#[test]
fn no_spoilt_raw_file_of_a_camera_harms_its_decoder() {
    let pixels: Vec<u16> = (0..64 * 48).map(|i| 500 + i % 700).collect();
    let runs = runs(USUAL_UNPACKED);
    let images = read_all(&mut Garble::new(vec![dng(64, 48, &pixels)]), "a.dng", runs);
    assert!(
        images > runs / 20 && images < runs - runs / 20,
        "{images} of {runs}"
    );
}
