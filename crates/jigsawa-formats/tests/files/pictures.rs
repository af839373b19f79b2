//! Pictures come back from their files as they went in.

use std::fs::File;
use std::io::BufReader;
use std::sync::Arc;

use jigsawa_formats::png::PngWriter;
use jigsawa_formats::tiff::{write_16, write_float};
use jigsawa_formats::whole::Unfinished;
use tiff::decoder::{Decoder, DecodingResult};

/// 90 rows of 4 pixels: more than one strip.
const SHAPE: (usize, usize) = (4, 90);

fn rows_from<T: Clone>(all: &[T], done: &mut usize, rows: usize) -> Arc<Vec<T>> {
    let (from, to) = (*done * 12, (*done + rows) * 12);
    *done += rows;
    Arc::new(all[from..to].to_vec())
}

#[test]
fn sixteen_bits_survive_a_tiff_file() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tif");
    let all: Vec<u16> = (0..1080u32).map(|i| (i * 61) as u16).collect();
    let file = Unfinished::new(&path, false).unwrap();
    let mut done = 0;
    write_16(&file, SHAPE, "Lantern R\u{e9}ef", &mut |n| {
        Ok(rows_from(&all, &mut done, n))
    })
    .unwrap();
    file.finish().unwrap();
    let mut back = Decoder::new(BufReader::new(File::open(&path).unwrap())).unwrap();
    assert_eq!(back.dimensions().unwrap(), (4, 90));
    match back.read_image().unwrap() {
        DecodingResult::U16(got) => assert_eq!(got, all),
        _ => panic!("not 16 bits"),
    }
}

#[test]
fn floats_survive_a_tiff_file() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tif");
    let all: Vec<f32> = (0..1080u16).map(|i| f32::from(i) * 1.5 - 300.0).collect();
    let file = Unfinished::new(&path, false).unwrap();
    let mut done = 0;
    write_float(&file, SHAPE, "x", &mut |n| {
        Ok(rows_from(&all, &mut done, n))
    })
    .unwrap();
    file.finish().unwrap();
    let mut back = Decoder::new(BufReader::new(File::open(&path).unwrap())).unwrap();
    match back.read_image().unwrap() {
        DecodingResult::F32(got) => assert_eq!(got, all),
        _ => panic!("not floats"),
    }
}

#[test]
fn a_png_file_has_the_nearest_8_bits() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.png");
    let all: Vec<u16> = (0..1080u32).map(|i| (i * 60) as u16).collect();
    let mut out = PngWriter::create(Unfinished::new(&path, false).unwrap(), 4, 90, "x").unwrap();
    for rows in all.chunks(12 * 40) {
        out.rows(rows).unwrap();
    }
    out.complete().unwrap().finish().unwrap();
    let mut back = png::Decoder::new(BufReader::new(File::open(&path).unwrap()))
        .read_info()
        .unwrap();
    let mut got = vec![0; back.output_buffer_size().unwrap()];
    back.next_frame(&mut got).unwrap();
    for (g, w) in got.iter().zip(&all) {
        assert_eq!(i32::from(*g), (f64::from(*w) / 257.0).round() as i32);
    }
}
