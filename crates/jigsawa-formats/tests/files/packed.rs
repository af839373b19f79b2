//! Packed files: as a whole by gzip, and tile by tile.
#![allow(unsafe_code)]

use std::ffi::{CString, c_void};
use std::io::Write;
use std::path::Path;

use jigsawa_core::space::Rect;
use jigsawa_formats::fits::FitsFrame;
use rstest::rstest;

use crate::build::counting;

/// 40 x 30 pixels of a slope with some noise; two are missing.
pub fn pixels() -> Vec<f32> {
    (0..1200)
        .map(|i| match i {
            77 | 900 => f32::NAN,
            _ => 1000.0 + (i % 40) as f32 + ((i * 7919) % 13) as f32,
        })
        .collect()
}

/// What the library takes for a missing pixel when it quantises floats.
const LIBRARY_MISSING: f32 = -9.119_12e-36;

/// Writes pixels with the library's own compression, which our program only reads. Correctness: all
/// pointers are to live values of the types that the library asks for.
pub fn write_packed(path: &Path, how: &str, bitpix: i32, pixels: &[f32]) {
    use fitsio_sys as c;
    let name = CString::new(format!("{}[compress {how}]", path.display())).unwrap();
    let (mut file, mut status) = (std::ptr::null_mut(), 0);
    let mut axes = [40i64, 30];
    let mut first = [1i64, 1];
    let mut missing = LIBRARY_MISSING;
    let mut floats: Vec<f32> = pixels.to_vec();
    floats
        .iter_mut()
        .filter(|v| v.is_nan())
        .for_each(|v| *v = missing);
    let mut shorts: Vec<i16> = pixels.iter().map(|v| *v as i16).collect();
    let (kind, values): (i32, *mut c_void) = if bitpix > 0 {
        (c::TSHORT as i32, shorts.as_mut_ptr().cast())
    } else {
        (c::TFLOAT as i32, floats.as_mut_ptr().cast())
    };
    unsafe {
        c::ffinit(&raw mut file, name.as_ptr(), &raw mut status);
        c::ffcrimll(file, bitpix, 2, axes.as_mut_ptr().cast(), &raw mut status);
        if bitpix > 0 {
            c::ffppxll(
                file,
                kind,
                first.as_mut_ptr().cast(),
                1200,
                values,
                &raw mut status,
            );
        } else {
            let missing = (&raw mut missing).cast();
            c::ffppxnll(
                file,
                kind,
                first.as_mut_ptr().cast(),
                1200,
                values,
                missing,
                &raw mut status,
            );
        }
        c::ffclos(file, &raw mut status);
    }
    assert_eq!(status, 0, "the library writes {how}");
}

#[rstest]
#[case::rice_of_integers("R", 16, 0.0)]
#[case::gzip_of_integers("G", 16, 0.0)]
#[case::lossless_gzip_of_floats("G; q 0", -32, 0.0)]
#[case::quantised_rice_of_floats("R; q 16", -32, 1.0)]
fn tiles_of_every_packing_are_read(#[case] how: &str, #[case] bitpix: i32, #[case] within: f32) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.fits.fz");
    let mut want = pixels();
    if bitpix > 0 {
        // Whole numbers have no NaN.
        want.iter_mut()
            .filter(|v| v.is_nan())
            .for_each(|v| *v = 5.0);
    }
    write_packed(&path, how, bitpix, &want);
    let frame = FitsFrame::open(&path).unwrap();
    let rect = Rect {
        x: 30,
        y: 1,
        width: 10,
        height: 25,
    };
    let mut got = vec![0.0; rect.area()];
    frame.read(0, rect, &mut got).unwrap();
    for (i, g) in got.iter().enumerate() {
        let w = want[(i / 10 + 1) * 40 + 30 + i % 10];
        assert!(
            (g - w).abs() <= within || (g.is_nan() && w.is_nan()),
            "{i}: {g} for {w}"
        );
    }
    assert_eq!(got.iter().any(|v| v.is_nan()), bitpix < 0);
}

#[test]
fn a_file_packed_as_a_whole_is_read() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.fits.gz");
    let mut out = flate2::write::GzEncoder::new(
        std::fs::File::create(&path).unwrap(),
        flate2::Compression::fast(),
    );
    out.write_all(counting(6, 4, 1).bytes()).unwrap();
    out.finish().unwrap();
    let frame = FitsFrame::open(&path).unwrap();
    let plane = frame.read_plane(0, Vec::new()).unwrap();
    assert_eq!(plane.at(5, 3), 35.0);
}

#[test]
fn brackets_in_a_name_mean_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let path = counting(6, 4, 1).write(dir.path(), "night[1](2)+x.fits");
    assert!(FitsFrame::open(&path).is_ok());
}
