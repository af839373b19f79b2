//! Raw frames as chips and cameras write them: with an overscan, and in a photographic camera's own format.

use std::path::{Path, PathBuf};

use jigsawa_core::number::Convert;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::error::FileError;
use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;

use crate::build::{Fits, float, image, integer};

/// Light at a pixel of the sky's part.
fn light(x: usize, y: usize) -> i64 {
    (3 * x + 7 * y).whole()
}

/// What the amplifier adds to a row.
fn drift(y: usize) -> i64 {
    500 + (y / 4).whole()
}

/// A chip of 60 x 90 pixels that saw light behind 20 that did not.
fn with_overscan(folder: &Path, more: &[&str]) -> PathBuf {
    let mut records = image(16, &[80, 90]);
    records.extend([
        float("BZERO", 32_768.0),
        "BIASSEC = '[1:18,1:90]'".to_owned(),
        "TRIMSEC = '[21:80,1:90]'".to_owned(),
        "BAYERPAT= 'RGGB'".to_owned(),
        "CTYPE1  = 'RA---TAN'".to_owned(),
        "CTYPE2  = 'DEC--TAN'".to_owned(),
        float("CRVAL1", 80.0),
        float("CRVAL2", 20.0),
        float("CRPIX1", 50.5),
        float("CRPIX2", 45.5),
        float("CD1_1", -5e-4),
        float("CD2_2", 5e-4),
        integer("SATURATE", 60_000),
    ]);
    records.extend(more.iter().map(|m| (*m).to_owned()));
    let pixel = |i: usize| {
        let (x, y) = (i % 80, i / 80);
        drift(y) + if x < 20 { 0 } else { light(x - 20, y) }
    };
    let bytes: Vec<u8> = (0..80 * 90)
        .flat_map(|i| (pixel(i) - 32_768).i16().to_be_bytes())
        .collect();
    Fits::new()
        .header(&records)
        .data(&bytes)
        .write(folder, "chip.fits")
}

#[test]
fn an_overscan_is_taken_off_and_trimmed_and_the_sky_stays_in_place() {
    let dir = tempfile::tempdir().unwrap();
    let frame = FitsFrame::open(&with_overscan(dir.path(), &[])).unwrap();
    assert_eq!(frame.size(), Size::new(60, 90).unwrap());
    let plane = frame.read_plane(0, Vec::new()).unwrap();
    for y in 0..90 {
        for x in 0..60 {
            let (got, want) = (plane.at(x.whole(), y.whole()), light(x, y).single());
            // A drift in whole steps is smoothed.
            assert!((got - want).abs() < 1.1, "{x} {y}: {got} {want}");
        }
    }
    // Any window has the same bits.
    let rect = Rect {
        x: 11,
        y: 30,
        width: 7,
        height: 5,
    };
    let mut window = vec![0.0; rect.area()];
    frame.read(0, rect, &mut window).unwrap();
    assert_eq!(window[8], plane.at(12, 31));
    let facts = facts::read(&frame);
    // Its pixel moves along.
    let header = |name: &str| frame.header().number(name);
    assert_eq!(
        (header("CRPIX1"), header("CRPIX2")),
        (Some(30.5), Some(45.5))
    );
    assert!(facts.wcs.is_some());
    assert_eq!(facts.colour_pattern.as_deref(), Some("RGGB"));
    let full = facts.saturation.unwrap();
    assert!((full - 59_489.0).abs() < 2.0, "{full}");
}

#[test]
fn what_another_program_has_taken_off_is_only_trimmed() {
    let dir = tempfile::tempdir().unwrap();
    let path = with_overscan(
        dir.path(),
        &["OVERSCAN= 'done'", "XBAYROFF=                    1"],
    );
    let frame = FitsFrame::open(&path).unwrap();
    let plane = frame.read_plane(0, Vec::new()).unwrap();
    assert_eq!(plane.at(4, 8), (light(4, 8) + drift(8)).single());
    assert_eq!(facts::read(&frame).colour_pattern.as_deref(), Some("GRBG"));
}

/// A DNG of 16 bits, little end first, whose first column and first two rows saw no light.
pub fn dng(width: u16, height: u16, pixels: &[u16]) -> Vec<u8> {
    let area = [2u16, 1, height, width];
    let (width, height) = (u32::from(width), u32::from(height));
    let mut bytes = b"II*\0\x08\0\0\0".to_vec();
    // Entries: tag, type, count, and the value's bytes; longer ones go behind.
    let short = |v: u16| [v.to_le_bytes(), [0, 0]].concat();
    let text = |t: &str| [t.as_bytes(), &[0]].concat();
    let exif_entries: Vec<(u16, u16, u32, Vec<u8>)> = vec![
        (
            33_434,
            5,
            1,
            [30u32.to_le_bytes(), 1u32.to_le_bytes()].concat(),
        ),
        (34_855, 3, 1, short(1600)),
        (36_867, 2, 20, text("2026:11:03 21:14:00")),
    ];
    let mut entries: Vec<(u16, u16, u32, Vec<u8>)> = vec![
        (254, 4, 1, 0u32.to_le_bytes().to_vec()),
        (256, 4, 1, width.to_le_bytes().to_vec()),
        (257, 4, 1, height.to_le_bytes().to_vec()),
        (258, 3, 1, short(16)),
        (259, 3, 1, short(1)),
        (262, 3, 1, short(32_803)),
        (271, 2, 7, text("Pebble")),
        (272, 2, 5, text("Nine")),
        (273, 4, 1, vec![0; 4]),
        (277, 3, 1, short(1)),
        (278, 4, 1, height.to_le_bytes().to_vec()),
        (279, 4, 1, (2 * width * height).to_le_bytes().to_vec()),
        (
            33_421,
            3,
            2,
            [short(2)[..2].to_vec(), short(2)[..2].to_vec()].concat(),
        ),
        (33_422, 1, 4, vec![0, 1, 1, 2]),
        (34_665, 4, 1, vec![0; 4]),
        (50_706, 1, 4, vec![1, 4, 0, 0]),
        (50_717, 4, 1, 15_000u32.to_le_bytes().to_vec()),
        (
            50_829,
            3,
            4,
            area.iter().flat_map(|v| v.to_le_bytes()).collect(),
        ),
    ];
    let ifd = |n: usize| 2 + 12 * n + 4;
    let exif_at = 8 + ifd(entries.len());
    let mut behind = exif_at + ifd(exif_entries.len());
    entries[14].3 = exif_at.u32().to_le_bytes().to_vec();
    let mut tail: Vec<u8> = Vec::new();
    // Pixels come last.
    let long: usize = entries
        .iter()
        .chain(&exif_entries)
        .map(|e| e.3.len())
        .filter(|n| *n > 4)
        .sum();
    entries[8].3 = (behind + long).u32().to_le_bytes().to_vec();
    for list in [&entries, &exif_entries] {
        bytes.extend(&list.len().u32().to_le_bytes()[..2]);
        for (tag, kind, count, value) in list {
            bytes.extend(tag.to_le_bytes());
            bytes.extend(kind.to_le_bytes());
            bytes.extend(count.to_le_bytes());
            if value.len() <= 4 {
                bytes.extend(value);
                bytes.resize(bytes.len() + 4 - value.len(), 0);
            } else {
                bytes.extend(behind.u32().to_le_bytes());
                behind += value.len();
                tail.extend(value);
            }
        }
        bytes.extend([0; 4]);
    }
    bytes.extend(tail);
    bytes.extend(pixels.iter().flat_map(|p| p.to_le_bytes()));
    bytes
}

#[test]
fn a_cameras_raw_file_is_a_frame_with_its_pattern_and_exposure() {
    let dir = tempfile::tempdir().unwrap();
    let (w, h) = (40u16, 30u16);
    let pixels: Vec<u16> = (0..w * h).map(|i| 1000 + 7 * i).collect();
    let path = dir.path().join("light.dng");
    let bytes = dng(w, h, &pixels);
    std::fs::write(&path, &bytes).unwrap();
    let frame = FitsFrame::open(&path).unwrap();
    assert_eq!(frame.size(), Size::new(39, 28).unwrap());
    let plane = frame.read_plane(0, Vec::new()).unwrap();
    assert_eq!(plane.at(0, 0), f32::from(pixels[2 * 40 + 1]));
    assert_eq!(plane.at(38, 27), f32::from(pixels[29 * 40 + 39]));
    let facts = facts::read(&frame);
    // A column further the pattern begins with green.
    assert_eq!(facts.colour_pattern.as_deref(), Some("GRBG"));
    assert_eq!((facts.exposure_s, facts.iso), (Some(30.0), Some(1600.0)));
    assert_eq!(facts.saturation, Some(15_000.0));
    assert_eq!(facts.camera.as_deref(), Some("Pebble Nine"));
    assert!(facts.start_s.is_some());
    // Cut short or changed anywhere it is an error or a frame, and never ends the program.
    for cut in [9, 60, 200, bytes.len() / 2, bytes.len() - 100] {
        std::fs::write(&path, &bytes[..cut]).unwrap();
        assert!(
            matches!(FitsFrame::open(&path), Err(FileError::CameraRaw(_))),
            "{cut}"
        );
    }
    for at in (0..320).step_by(3) {
        let mut changed = bytes.clone();
        changed[at] ^= 0x5a;
        std::fs::write(&path, &changed).unwrap();
        let _ = FitsFrame::open(&path);
    }
}
