//! Packed files: as a whole by gzip, and tile by tile. What the C library packs and unpacks is the reference for our own
//! unpacking, to the last bit.
#![allow(unsafe_code)]

use jigsawa_core::number::Convert;
use std::ffi::{CString, c_void};
use std::io::Write;
use std::path::Path;
use std::ptr;

use fitsio_sys as c;
use jigsawa_core::space::Rect;
use jigsawa_formats::fits::FitsFrame;
use rstest::rstest;

use crate::build::counting;

/// Pixels of an image that is packed here.
const WIDTH: usize = 40;
const HEIGHT: usize = 30;

/// A way of packing.
#[derive(Debug, Clone, Copy)]
pub struct How {
    method: u32,
    bitpix: i32,
    /// Noise levels of a step of quantised floats; 0 for lossless.
    steps: f32,
    /// -1 for none, 1 or 2 for the standard's.
    dither: i32,
    tile: [i64; 2],
    /// Loss of the H-transform.
    scale: f32,
}

fn how(method: u32, bitpix: i32) -> How {
    How {
        method,
        bitpix,
        steps: 0.0,
        dither: -1,
        tile: [WIDTH.whole(), 1],
        scale: 0.0,
    }
}

/// Every way of packing that is read.
pub fn ways() -> Vec<How> {
    let mut ways = Vec::new();
    for method in [c::RICE_1, c::GZIP_1, c::GZIP_2] {
        ways.extend([8, 16, 32].map(|bitpix| how(method, bitpix)));
    }
    ways.push(how(c::PLIO_1, 16));
    for bitpix in [-32, -64] {
        ways.extend([c::GZIP_1, c::GZIP_2].map(|m| how(m, bitpix)));
        for dither in [-1, 1, 2] {
            for method in [c::RICE_1, c::GZIP_1, c::GZIP_2] {
                let quantised = How {
                    steps: 4.0,
                    dither,
                    ..how(method, bitpix)
                };
                ways.push(quantised);
                // The library hands back memory of its own for the last tiles of a row of such doubles.
                if bitpix == -32 {
                    ways.push(How {
                        tile: [13, 7],
                        ..quantised
                    });
                }
            }
        }
    }
    for tile in [[40, 30], [16, 16], [13, 7], [40, 4]] {
        for scale in [0.0, 3.0] {
            for bitpix in [16, 32] {
                ways.push(How {
                    tile,
                    scale,
                    ..how(c::HCOMPRESS_1, bitpix)
                });
            }
        }
    }
    ways
}

/// A slope with some noise and a star; two pixels are missing, some are zero.
pub fn pixels() -> Vec<f32> {
    (0..WIDTH * HEIGHT)
        .map(|i| {
            let (x, y) = ((i % WIDTH).single() - 21.0, (i / WIDTH).single() - 11.0);
            let star = 900.0 * (-(x * x + y * y) / 8.0).exp();
            match i {
                77 | 900 => f32::NAN,
                300..310 => 0.0,
                _ => 100.0 + x + star + ((i * 7919) % 13).single() * 1.37,
            }
        })
        .collect()
}

/// What the library takes for a missing pixel when it packs floats.
const LIBRARY_MISSING: f32 = -9.119_12e-36;

fn c_name(path: &Path) -> CString {
    CString::new(path.display().to_string()).unwrap()
}

/// Writes the pixels with the library's own packing, which our program only reads. Correctness: all
/// pointers are to live values of the types that the library asks for.
pub fn write_packed(path: &Path, how: How) {
    let name = c_name(path);
    let (mut file, mut status) = (ptr::null_mut(), 0);
    let (mut axes, mut tile, mut first) = ([WIDTH.whole(), HEIGHT.whole()], how.tile, [1i64, 1]);
    let mut missing = LIBRARY_MISSING;
    let mut floats = pixels();
    for v in floats.iter_mut().filter(|v| v.is_nan()) {
        *v = if how.bitpix < 0 { missing } else { 5.0 };
    }
    // Whole numbers are handed over as such.
    let (mut bytes, mut shorts, mut longs): (Vec<u8>, Vec<i16>, Vec<i32>) = (
        floats.iter().map(|v| (*v).byte()).collect(),
        floats.iter().map(|v| (*v).i16()).collect(),
        floats.iter().map(|v| (*v).i32()).collect(),
    );
    let (kind, values): (u32, *mut c_void) = match how.bitpix {
        8 => (c::TBYTE, bytes.as_mut_ptr().cast()),
        16 => (c::TSHORT, shorts.as_mut_ptr().cast()),
        32 => (c::TINT, longs.as_mut_ptr().cast()),
        _ => (c::TFLOAT, floats.as_mut_ptr().cast()),
    };
    let kind = kind.i32();
    let count = floats.len().whole();
    unsafe {
        c::ffdkinit(&raw mut file, name.as_ptr(), &raw mut status);
        c::fits_set_compression_type(file, how.method.i32(), &raw mut status);
        c::fits_set_tile_dim(file, 2, tile.as_mut_ptr(), &raw mut status);
        c::fits_set_quantize_level(file, how.steps, &raw mut status);
        c::fits_set_quantize_dither(file, how.dither, &raw mut status);
        c::fits_set_dither_seed(file, 4321, &raw mut status);
        c::fits_set_hcomp_scale(file, how.scale, &raw mut status);
        c::ffcrimll(
            file,
            how.bitpix,
            2,
            axes.as_mut_ptr().cast(),
            &raw mut status,
        );
        if how.bitpix > 0 {
            c::ffppxll(
                file,
                kind,
                first.as_mut_ptr().cast(),
                count,
                values,
                &raw mut status,
            );
        } else {
            let missing = (&raw mut missing).cast();
            c::ffppxnll(
                file,
                kind,
                first.as_mut_ptr().cast(),
                count,
                values,
                missing,
                &raw mut status,
            );
        }
        c::ffclos(file, &raw mut status);
    }
    assert_eq!(status, 0, "the library writes {how:?}");
}

/// The whole image as the library unpacks it.
fn by_the_library(path: &Path) -> Vec<f32> {
    let name = c_name(path);
    let (mut file, mut status, mut any) = (ptr::null_mut(), 0, 0);
    let mut values = vec![0f32; WIDTH * HEIGHT];
    let mut missing = f32::NAN;
    let (mut kind, mut first) = (0, [1i64, 1]);
    unsafe {
        c::ffdkopn(&raw mut file, name.as_ptr(), 0, &raw mut status);
        c::ffmahd(file, 2, &raw mut kind, &raw mut status);
        c::ffgpxvll(
            file,
            c::TFLOAT.i32(),
            first.as_mut_ptr().cast(),
            values.len().whole(),
            (&raw mut missing).cast(),
            values.as_mut_ptr().cast(),
            &raw mut any,
            &raw mut status,
        );
        c::ffclos(file, &raw mut status);
    }
    assert_eq!(status, 0, "the library reads");
    values
}

#[test]
fn tiles_of_every_packing_are_unpacked_as_the_library_does_it() {
    let dir = tempfile::tempdir().unwrap();
    for (i, how) in ways().into_iter().enumerate() {
        let path = dir.path().join(format!("{i}.fits.fz"));
        write_packed(&path, how);
        let want = by_the_library(&path);
        let frame = FitsFrame::open(&path).unwrap_or_else(|e| panic!("{how:?}: {e}"));
        let whole = frame
            .read_plane(0, Vec::new())
            .unwrap_or_else(|e| panic!("{how:?}: {e}"));
        let same = |a: f32, b: f32| a == b || (a.is_nan() && b.is_nan());
        for (k, (g, w)) in whole.data().iter().zip(&want).enumerate() {
            assert!(
                same(*g, *w),
                "{how:?}: pixel {k} is {g}, the library has {w}"
            );
        }
        // The packing keeps what was packed, or this proves nothing.
        let kept = pixels()
            .iter()
            .zip(&want)
            .filter(|(p, w)| (**p - **w).abs() < 8.0)
            .count();
        assert!(how.bitpix == 8 || kept > 1000, "{how:?}: {kept}");
        let rect = Rect {
            x: 11,
            y: 5,
            width: 23,
            height: 19,
        };
        let mut window = vec![0.0; rect.area()];
        frame.read(0, rect, &mut window).unwrap();
        for (k, v) in window.iter().enumerate() {
            let at = (5 + k / 23) * WIDTH + 11 + k % 23;
            assert!(same(*v, want[at]), "{how:?}");
        }
    }
}

#[rstest]
#[case::missing_pixels(900)]
#[case::and_more(77)]
fn missing_pixels_of_floats_stay_missing(#[case] at: usize) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.fits.fz");
    write_packed(
        &path,
        How {
            steps: 4.0,
            dither: 1,
            ..how(c::RICE_1, -32)
        },
    );
    let frame = FitsFrame::open(&path).unwrap();
    let plane = frame.read_plane(0, Vec::new()).unwrap();
    assert!(plane.data()[at].is_nan() && plane.data()[at + 1].is_finite());
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
