//! Images read as they were meant, and results read back as they were written.

use jigsawa_core::doors::TileSink;
use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{Kind, RowOrder};
use jigsawa_core::number::Convert;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::error::FileError;
use jigsawa_formats::facts;
use jigsawa_formats::fits::{Cards, Depth, FitsFrame, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use rstest::rstest;

use crate::build::{Fits, counting, float, floats, image, integer};

fn values(frame: &FitsFrame, plane: usize) -> Vec<f32> {
    frame.read_plane(plane, Vec::new()).unwrap().into_data()
}

#[rstest]
#[case::bytes(8, vec![0, 7, 255], vec![f32::NAN, 13.5, 137.5])]
#[case::short(16, [0i16, 7, -300].iter().flat_map(|v| v.to_be_bytes()).collect(), vec![f32::NAN, 13.5, -140.0])]
#[case::long(32, [0i32, 7, -300].iter().flat_map(|v| v.to_be_bytes()).collect(), vec![f32::NAN, 13.5, -140.0])]
#[case::longer(64, [0i64, 7, -300].iter().flat_map(|v| v.to_be_bytes()).collect(), vec![f32::NAN, 13.5, -140.0])]
#[case::float(-32, [f32::NAN, 7.0, -300.0].iter().flat_map(|v| v.to_be_bytes()).collect(), vec![f32::NAN, 13.5, -140.0])]
#[case::double(-64, [f64::NAN, 7.0, f64::INFINITY].iter().flat_map(|v| v.to_be_bytes()).collect(), vec![f32::NAN, 13.5, f32::NAN])]
fn every_kind_of_number_is_scaled_and_blanks_are_missing(
    #[case] bitpix: i64,
    #[case] data: Vec<u8>,
    #[case] want: Vec<f32>,
) {
    let dir = tempfile::tempdir().unwrap();
    let mut records = image(bitpix, &[3, 1]);
    records.extend([float("BSCALE", 0.5), float("BZERO", 10.0)]);
    if bitpix > 0 {
        records.push(integer("BLANK", 0));
    }
    let path = Fits::new()
        .header(&records)
        .data(&data)
        .write(dir.path(), "a.fits");
    let got = values(&FitsFrame::open(&path).unwrap(), 0);
    for (g, w) in got.iter().zip(&want) {
        assert!(g == w || (g.is_nan() && w.is_nan()), "{got:?} for {want:?}");
    }
}

#[test]
fn unsigned_sixteen_bits_reach_65535() {
    let dir = tempfile::tempdir().unwrap();
    let mut records = image(16, &[3, 1]);
    records.push(float("BZERO", 32_768.0));
    let data: Vec<u8> = [-32_768i16, 0, 32_767]
        .iter()
        .flat_map(|v| v.to_be_bytes())
        .collect();
    let path = Fits::new()
        .header(&records)
        .data(&data)
        .write(dir.path(), "a.fits");
    assert_eq!(
        values(&FitsFrame::open(&path).unwrap(), 0),
        [0.0, 32_768.0, 65_535.0]
    );
}

#[test]
fn the_first_image_with_pixels_is_found_behind_an_empty_unit() {
    let dir = tempfile::tempdir().unwrap();
    let mut extension = image(-32, &[2, 2]);
    extension[0] = "XTENSION= 'IMAGE   '".to_owned();
    extension.extend([integer("PCOUNT", 0), integer("GCOUNT", 1)]);
    extension.push("FILTER  = 'O3'".to_owned());
    let path = Fits::new()
        .header(&image(8, &[]))
        .header(&extension)
        .data(&floats(&[1.0, 2.0, 3.0, 4.0]))
        .write(dir.path(), "a.fits");
    let frame = FitsFrame::open(&path).unwrap();
    assert_eq!(values(&frame, 0), [1.0, 2.0, 3.0, 4.0]);
    assert_eq!(facts::read(&frame).filter, Some(Filter::Oiii));
}

#[test]
fn windows_of_any_plane_are_those_of_the_whole() {
    let dir = tempfile::tempdir().unwrap();
    let path = counting(7, 5, 3).write(dir.path(), "rgb.fits");
    let frame = FitsFrame::open(&path).unwrap();
    assert_eq!(
        (frame.size(), frame.planes()),
        (Size::new(7, 5).unwrap(), 3)
    );
    let rect = Rect {
        x: 2,
        y: 1,
        width: 3,
        height: 2,
    };
    let mut out = [0.0; 6];
    frame.read(2, rect, &mut out).unwrap();
    assert_eq!(out, [212.0, 213.0, 214.0, 222.0, 223.0, 224.0]);
}

#[rstest]
#[case::a_cube(&[4, 3, 5])]
#[case::four_axes(&[4, 3, 3, 2])]
fn shapes_that_are_no_picture_are_refused(#[case] axes: &[i64]) {
    let dir = tempfile::tempdir().unwrap();
    let pixels = axes.iter().product::<i64>().index();
    let path = Fits::new()
        .header(&image(-32, axes))
        .data(&floats(&vec![0.0; pixels]))
        .write(dir.path(), "a.fits");
    assert!(matches!(
        FitsFrame::open(&path),
        Err(FileError::Shape { .. })
    ));
}

#[test]
fn facts_are_read_in_several_dialects() {
    let dir = tempfile::tempdir().unwrap();
    let mut records = image(-32, &[2, 2]);
    records.extend(
        [
            "FILTER  = 'H-alpha 7nm'",
            "EXPOSURE= '300.0'",
            "OBJECT  = 'Lantern Reef'",
            "INSTRUME= 'Pebble 24'",
            "EGAIN   = 0.8",
            "CCDSUM  = '2 2'",
            "PIXSIZE1= 3.76",
            "FOCALLEN= 535",
            "IMAGETYP= 'Light Frame'",
            "ROWORDER= 'TOP-DOWN'",
            "SATURATE= 62000",
            "DATE-OBS= '2026-03-14T21:30:00'",
        ]
        .map(str::to_owned),
    );
    let path = Fits::new()
        .header(&records)
        .data(&floats(&[0.0; 4]))
        .write(dir.path(), "a.fits");
    let f = facts::read(&FitsFrame::open(&path).unwrap());
    assert_eq!(f.filter, Some(Filter::Ha));
    assert_eq!(
        (f.exposure_s, f.gain_e_adu, f.binning),
        (Some(300.0), Some(0.8), Some((2, 2)))
    );
    assert_eq!((f.kind, f.row_order), (Kind::Light, RowOrder::TopDown));
    assert_eq!(f.saturation, Some(62_000.0));
    assert!((f.arcsec_per_px().unwrap() - 1.4496).abs() < 1e-3);
    assert_eq!(f.gain_setting, None);
}

/// Writes a picture of 5 x 4 in tiles of 3 x 2.
fn write(folder: &std::path::Path, planes: usize, depth: Depth, pixel: fn(usize, i64, i64) -> f32) {
    let size = Size::new(5, 4).unwrap();
    let mut cards = Cards::default();
    cards.text("OBJECT", "Lantern Reef", "");
    cards.history(&"what was done, at length ".repeat(5));
    let file = Unfinished::new(&folder.join("out.fits"), false).unwrap();
    let mut out = FitsWriter::create(file, size, planes, depth, &cards).unwrap();
    for (x, y, w, h) in [(0, 0, 3, 2), (3, 0, 2, 2), (0, 2, 3, 2), (3, 2, 2, 2)] {
        let rect = Rect {
            x,
            y,
            width: w,
            height: h,
        };
        let tiles: Vec<Vec<f32>> = (0..planes)
            .map(|p| {
                (y..rect.bottom())
                    .flat_map(|y| (x..rect.right()).map(move |x| pixel(p, x, y)))
                    .collect()
            })
            .collect();
        let slices: Vec<&[f32]> = tiles.iter().map(Vec::as_slice).collect();
        out.put(rect, &slices).unwrap();
    }
    out.complete().unwrap().finish().unwrap();
}

#[test]
fn tiles_of_three_planes_come_back_with_their_holes() {
    let dir = tempfile::tempdir().unwrap();
    let pixel = |p: usize, x: i64, y: i64| {
        if (x, y) == (4, 3) {
            f32::NAN
        } else {
            (100 * p.whole() + 10 * y + x).single() + 0.25
        }
    };
    write(dir.path(), 3, Depth::Float, pixel);
    let frame = FitsFrame::open(&dir.path().join("out.fits")).unwrap();
    for p in 0..3 {
        let got = values(&frame, p);
        assert!(got[19].is_nan());
        for (i, v) in got[..19].iter().enumerate() {
            assert_eq!(*v, pixel(p, i.whole() % 5, i.whole() / 5));
        }
    }
    assert_eq!(facts::read(&frame).object.as_deref(), Some("Lantern Reef"));
}

#[test]
fn sixteen_bit_files_keep_whole_numbers() {
    let dir = tempfile::tempdir().unwrap();
    write(dir.path(), 1, Depth::Sixteen, |_, x, y| {
        (13_000 * y + 5_000 * x).single()
    });
    let frame = FitsFrame::open(&dir.path().join("out.fits")).unwrap();
    assert_eq!(values(&frame, 0)[19], 59_000.0);
    assert_eq!(values(&frame, 0)[7], 23_000.0);
}
