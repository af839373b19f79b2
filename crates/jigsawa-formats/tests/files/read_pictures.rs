//! TIFF and PNG files of other programs as frames.

use std::fs::File;
use std::io::BufWriter;
use std::path::Path;

use jigsawa_core::doors::FrameSource;
use jigsawa_core::frame::RowOrder;
use jigsawa_formats::error::FileError;
use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;
use rstest::rstest;
use tiff::encoder::colortype::{ColorType, Gray8, Gray16, Gray32Float, RGB16, RGB32Float, RGBA16};
use tiff::encoder::{Compression, DeflateLevel, TiffEncoder, TiffValue};

const W: u32 = 37;
const H: u32 = 23;

fn value(i: usize) -> u16 {
    u16::try_from(i * 97 % 251).unwrap()
}

pub fn written<C: ColorType>(path: &Path, compression: Compression, of: impl Fn(u16) -> C::Inner)
where
    [C::Inner]: TiffValue,
    C::Inner: Clone,
{
    let samples = C::BITS_PER_SAMPLE.len();
    let data: Vec<C::Inner> = (0..W as usize * H as usize * samples)
        .map(|i| of(value(i)))
        .collect();
    let file = BufWriter::new(File::create(path).unwrap());
    let mut encoder = TiffEncoder::new(file)
        .unwrap()
        .with_compression(compression);
    encoder.write_image::<C>(W, H, &data).unwrap();
}

pub fn png(path: &Path, colour: png::ColorType, depth: png::BitDepth) {
    let mut encoder = png::Encoder::new(File::create(path).unwrap(), W, H);
    encoder.set_color(colour);
    encoder.set_depth(depth);
    let values = (0..W as usize * H as usize * colour.samples()).map(value);
    let bytes: Vec<u8> = if depth == png::BitDepth::Sixteen {
        values.flat_map(u16::to_be_bytes).collect()
    } else {
        values.map(|v| u8::try_from(v).unwrap()).collect()
    };
    let mut writer = encoder.write_header().unwrap();
    writer.write_image_data(&bytes).unwrap();
}

/// Is every value of every plane what was written, the first row on top?
fn holds(path: &Path, samples: usize, planes: usize, scale: f32) {
    let frame = FitsFrame::open(path).unwrap();
    assert_eq!((frame.size().width(), frame.size().height()), (37, 23));
    assert_eq!(frame.planes(), planes);
    assert_eq!(facts::read(&frame).row_order, RowOrder::TopDown);
    for p in 0..planes {
        let mut out = vec![0.0; frame.size().area()];
        frame.plane(p).read(frame.size().rect(), &mut out).unwrap();
        for (i, v) in out.iter().enumerate() {
            assert_eq!(
                *v,
                f32::from(value(i * samples + p)) * scale,
                "plane {p}, pixel {i}"
            );
        }
    }
}

#[rstest]
#[case::plain(Compression::Uncompressed)]
#[case::deflate(Compression::Deflate(DeflateLevel::Fast))]
#[case::lzw(Compression::Lzw)]
#[case::packbits(Compression::Packbits)]
fn a_tiff_is_read_as_it_stands(#[case] compression: Compression) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tif");
    let bytes = |v: u16| u8::try_from(v).unwrap();
    written::<Gray8>(&path, compression, bytes);
    holds(&path, 1, 1, 1.0);
    written::<Gray16>(&path, compression, |v| v * 200);
    holds(&path, 1, 1, 200.0);
    written::<Gray32Float>(&path, compression, |v| f32::from(v) * 0.25);
    holds(&path, 1, 1, 0.25);
    written::<RGB16>(&path, compression, |v| v);
    holds(&path, 3, 3, 1.0);
    written::<RGB32Float>(&path, compression, |v| f32::from(v) * 0.5);
    holds(&path, 3, 3, 0.5);
    written::<RGBA16>(&path, compression, |v| v * 3);
    holds(&path, 4, 3, 3.0);
    assert_eq!(
        facts::read(&FitsFrame::open(&path).unwrap()).saturation,
        Some(65_535.0)
    );
}

/// Some programs store all of red, then all of green, then all of blue.
#[test]
fn colours_may_lie_one_behind_the_other() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tif");
    let area = W as usize * H as usize;
    let of = |plane: usize, i: usize| value(i * 3 + plane);
    let pixels: Vec<u8> = (0..3)
        .flat_map(|p| (0..area).flat_map(move |i| of(p, i).to_le_bytes()))
        .collect();
    let plane = u32::try_from(2 * area).unwrap();
    let entries: [(u16, u16, Vec<u32>); 10] = [
        (256, 4, vec![W]),
        (257, 4, vec![H]),
        (258, 3, vec![16, 16, 16]),
        (259, 3, vec![1]),
        (262, 3, vec![2]),
        (273, 4, (0..3).map(|p| 8 + p * plane).collect()),
        (277, 3, vec![3]),
        (278, 4, vec![H]),
        (279, 4, vec![plane; 3]),
        (284, 3, vec![2]),
    ];
    let directory = 8 + 3 * plane;
    let mut bytes = b"II*\0".to_vec();
    bytes.extend(directory.to_le_bytes());
    bytes.extend(pixels);
    let mut behind = Vec::new();
    let first = directory + 2 + 12 * 10 + 4;
    bytes.extend(10u16.to_le_bytes());
    for (tag, kind, values) in entries {
        bytes.extend([tag.to_le_bytes(), kind.to_le_bytes()].concat());
        bytes.extend(u32::try_from(values.len()).unwrap().to_le_bytes());
        let stored: Vec<u8> = values
            .iter()
            .flat_map(|v| v.to_le_bytes()[..if kind == 3 { 2 } else { 4 }].to_vec())
            .collect();
        if stored.len() > 4 {
            let at = first + u32::try_from(behind.len()).unwrap();
            bytes.extend(at.to_le_bytes());
            behind.extend(stored);
        } else {
            bytes.extend([stored, vec![0; 4]].concat()[..4].to_vec());
        }
    }
    bytes.extend(0u32.to_le_bytes());
    bytes.extend(behind);
    std::fs::write(&path, bytes).unwrap();
    holds(&path, 3, 3, 1.0);
}

#[rstest]
#[case(png::ColorType::Grayscale, png::BitDepth::Eight, 1, 1)]
#[case(png::ColorType::Grayscale, png::BitDepth::Sixteen, 1, 1)]
#[case(png::ColorType::GrayscaleAlpha, png::BitDepth::Sixteen, 2, 1)]
#[case(png::ColorType::Rgb, png::BitDepth::Sixteen, 3, 3)]
#[case(png::ColorType::Rgba, png::BitDepth::Eight, 4, 3)]
fn a_png_is_read_as_it_stands(
    #[case] colour: png::ColorType,
    #[case] depth: png::BitDepth,
    #[case] samples: usize,
    #[case] planes: usize,
) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.png");
    png(&path, colour, depth);
    holds(&path, samples, planes, 1.0);
}

#[test]
fn damaged_ones_are_errors_and_nothing_stumbles() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tif");
    written::<Gray16>(&path, Compression::Lzw, |v| v);
    let sound = std::fs::read(&path).unwrap();
    for at in 0..sound.len() {
        let mut damaged = sound.clone();
        damaged[at] ^= 0xff;
        std::fs::write(&path, &damaged).unwrap();
        // Some bytes are pixels, and another value is no error.
        if let Err(e) = FitsFrame::open(&path) {
            assert!(!e.to_string().is_empty());
        }
    }
    std::fs::write(&path, &sound[..sound.len() / 2]).unwrap();
    assert!(matches!(FitsFrame::open(&path), Err(FileError::Image(_))));
}
