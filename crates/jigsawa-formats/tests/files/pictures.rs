//! Pictures come back from their files as they went in, with their profile and their words.

use jigsawa_core::number::Convert;
use std::fs::File;
use std::io::BufReader;
use std::path::Path;

use jigsawa_formats::about::{About, srgb_profile};
use jigsawa_formats::error::FileError;
use jigsawa_formats::exr::{self, Pixel};
use jigsawa_formats::png::Bits;
use jigsawa_formats::tiff::{write_16, write_float};
use jigsawa_formats::whole::Unfinished;
use jigsawa_formats::{jpeg, jxl, png as png_out};
use rstest::rstest;
use tiff::decoder::{Decoder, DecodingResult};
use tiff::tags::Tag;

/// 90 rows of 4 pixels: more than one strip, and no whole number of blocks.
const SHAPE: (usize, usize) = (4, 90);

/// Gives the rows of `all` in turn.
fn rows_of<T: Clone>(all: &[T]) -> impl FnMut(usize, &mut Vec<T>) -> Result<(), FileError> {
    rows_of_width(all, SHAPE.0)
}

fn rows_of_width<T: Clone>(
    all: &[T],
    width: usize,
) -> impl FnMut(usize, &mut Vec<T>) -> Result<(), FileError> {
    let mut done = 0;
    move |rows, out| {
        out.clear();
        out.extend_from_slice(&all[done * 3 * width..(done + rows) * 3 * width]);
        done += rows;
        Ok(())
    }
}

/// A file that `write` has filled.
fn filled(path: &Path, write: impl FnOnce(&Unfinished) -> Result<(), FileError>) {
    let file = Unfinished::new(path, false).unwrap();
    write(&file).unwrap();
    file.finish().unwrap();
}

fn about() -> About {
    About {
        title: "Lantern R\u{e9}ef".to_owned(),
        lines: vec![("Filters".to_owned(), "Ha, OIII".to_owned())],
    }
}

#[test]
fn sixteen_bits_survive_a_tiff_file_with_profile_and_words() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tif");
    let all: Vec<u16> = (0..1080u32).map(|i| (i * 61).u16()).collect();
    filled(&path, |f| write_16(f, SHAPE, &about(), &mut rows_of(&all)));
    let mut back = Decoder::new(BufReader::new(File::open(&path).unwrap())).unwrap();
    assert_eq!(back.dimensions().unwrap(), (4, 90));
    assert_eq!(
        back.get_tag_u8_vec(Tag::IccProfile).unwrap(),
        srgb_profile()
    );
    let words = back.get_tag_ascii_string(Tag::ImageDescription).unwrap();
    assert_eq!(words, "Lantern R?ef\nFilters: Ha, OIII");
    match back.read_image().unwrap() {
        DecodingResult::U16(got) => assert_eq!(got, all),
        _ => panic!("not 16 bits"),
    }
}

#[rstest]
fn floats_survive_a_tiff_file(#[values(true, false)] encoded: bool) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tif");
    let all: Vec<f32> = (0..1080u16).map(|i| f32::from(i) * 1.5 - 300.0).collect();
    filled(&path, |f| {
        write_float(f, SHAPE, encoded, &about(), &mut rows_of(&all))
    });
    let mut back = Decoder::new(BufReader::new(File::open(&path).unwrap())).unwrap();
    assert_eq!(back.find_tag(Tag::IccProfile).unwrap().is_some(), encoded);
    match back.read_image().unwrap() {
        DecodingResult::F32(got) => assert_eq!(got, all),
        _ => panic!("not floats"),
    }
}

#[rstest]
#[case(false, 0.0)]
#[case(true, 5e-4)]
fn brightness_alone_survives_an_exr_file(#[case] half: bool, #[case] lost: f32) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.exr");
    let all: Vec<f32> = (0..360u16)
        .map(|i| 1e-3 * 1.05f32.powi(i32::from(i)))
        .collect();
    let pixel = Pixel {
        colour: false,
        half,
    };
    let mut from = 0;
    filled(&path, |f| {
        exr::write(f, SHAPE, pixel, &about(), &mut |rows, out| {
            out.clear();
            out.extend_from_slice(&all[from..from + 4 * rows]);
            from += 4 * rows;
            Ok(())
        })
    });
    let back = ::exr::prelude::read_first_flat_layer_from_file(&path).unwrap();
    let channels = &back.layer_data.channel_data.list;
    assert_eq!(
        (channels.len(), channels[0].name.to_string()),
        (1, "Y".to_owned())
    );
    for (got, want) in channels[0].sample_data.values_as_f32().zip(&all) {
        // Below 6e-5 a half has fewer digits.
        assert!((got / want - 1.0).abs() <= lost, "{got} for {want}");
    }
}

#[test]
fn floats_survive_an_exr_file() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.exr");
    let all: Vec<f32> = (0..1080u16).map(|i| f32::from(i) * 0.25 - 3.0).collect();
    filled(&path, |f| {
        exr::write(f, SHAPE, Pixel::COLOUR, &about(), &mut rows_of(&all))
    });
    let back = ::exr::prelude::read_first_flat_layer_from_file(&path).unwrap();
    assert_eq!(back.layer_data.size, ::exr::math::Vec2(4, 90));
    for (name, plane) in [("R", 0), ("G", 1), ("B", 2)] {
        let channel = back
            .layer_data
            .channel_data
            .list
            .iter()
            .find(|c| c.name == *name)
            .unwrap();
        let got: Vec<f32> = channel.sample_data.values_as_f32().collect();
        let wanted: Vec<f32> = all.iter().skip(plane).step_by(3).copied().collect();
        assert_eq!(got, wanted, "{name}");
    }
}

#[test]
fn an_error_of_the_rows_comes_out_of_every_format() {
    let dir = tempfile::tempdir().unwrap();
    let file = Unfinished::new(&dir.path().join("a"), false).unwrap();
    let ended = || FileError::Picture("ended".to_owned());
    let about = about();
    for e in [
        write_16(&file, SHAPE, &about, &mut |_, _| Err(ended())),
        write_float(&file, SHAPE, true, &about, &mut |_, _| Err(ended())),
        exr::write(
            &file,
            SHAPE,
            Pixel::COLOUR,
            &about,
            &mut |_, _| Err(ended()),
        ),
        jpeg::write(&file, SHAPE, &about, &mut |_, _| Err(ended())),
        png_out::write(&file, SHAPE, Bits::Eight, &about, &mut |_, _| Err(ended())),
    ] {
        assert!(e.unwrap_err().to_string().contains("ended"));
    }
}

#[rstest]
fn a_png_file_has_its_bits_and_the_profile(#[values(Bits::Eight, Bits::Sixteen)] bits: Bits) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.png");
    let all: Vec<u16> = (0..1080u32).map(|i| (i * 60).u16()).collect();
    filled(&path, |f| {
        png_out::write(f, SHAPE, bits, &about(), &mut rows_of(&all))
    });
    let mut back = png::Decoder::new(BufReader::new(File::open(&path).unwrap()))
        .read_info()
        .unwrap();
    assert_eq!(back.info().icc_profile.as_deref(), Some(srgb_profile()));
    let mut got = vec![0; back.output_buffer_size().unwrap()];
    back.next_frame(&mut got).unwrap();
    if bits == Bits::Sixteen {
        let got: Vec<u16> = got
            .as_chunks::<2>()
            .0
            .iter()
            .map(|b| u16::from_be_bytes(*b))
            .collect();
        assert_eq!(got, all);
    } else {
        for (g, w) in got.iter().zip(&all) {
            assert!((f64::from(*g) - f64::from(*w) / 257.0).abs() < 1.0);
        }
    }
}

/// Shapes on both sides of the encoder's tiles, down to the smallest.
#[rstest]
fn jpeg_xl_comes_back_to_the_last_bit_through_another_decoder(
    #[values(SHAPE, (2, 2), (2, 5), (5, 2), (256, 256), (255, 257), (513, 3), (3, 2050))] shape: (
        usize,
        usize,
    ),
    #[values("constant", "white", "gradient", "noise", "noise beside black")] of: &str,
) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.jxl");
    let noise = |i: usize| 20_000 + scrambled(i) % 10_000;
    let all: Vec<u16> = (0..3 * shape.0 * shape.1)
        .map(|i| match of {
            "constant" => 700,
            "white" => u16::MAX,
            "gradient" => (i * 3 % 65_536).u16(),
            "noise beside black" if i / 3 % shape.0 < shape.0 / 2 => 0,
            _ => noise(i).u16(),
        })
        .collect();
    filled(&path, |f| {
        jxl::write(f, shape, &mut rows_of_width(&all, shape.0))
    });
    let image = jxl_oxide::JxlImage::builder().open(&path).unwrap();
    let got_shape = (image.width(), image.height());
    assert_eq!(got_shape, (shape.0.u32(), shape.1.u32()));
    let frame = image.render_frame(0).unwrap();
    let mut got = vec![0u16; all.len()];
    frame.stream().write_to_buffer(&mut got);
    assert!(got == all, "{of}");
}

/// Looks like noise.
fn scrambled(i: usize) -> usize {
    i.wrapping_mul(i).wrapping_mul(31) >> 3
}

/// The encoder gives up on it.
#[test]
fn jpeg_xl_of_nothing_but_noise_is_an_error() {
    let dir = tempfile::tempdir().unwrap();
    let file = Unfinished::new(&dir.path().join("b.jxl"), true).unwrap();
    let all: Vec<u16> = (0..3 * 256 * 256)
        .map(|i| (scrambled(i) % 65_536).u16())
        .collect();
    let error = jxl::write(&file, (256, 256), &mut rows_of_width(&all, 256)).unwrap_err();
    assert!(error.to_string().contains("PNG"), "{error}");
}

#[rstest]
fn jpeg_xl_has_two_pixels_a_side(#[values((1, 3), (3, 1))] shape: (usize, usize)) {
    let dir = tempfile::tempdir().unwrap();
    let file = Unfinished::new(&dir.path().join("b.jxl"), true).unwrap();
    let black = vec![0; 9];
    let error = jxl::write(&file, shape, &mut rows_of_width(&black, shape.0)).unwrap_err();
    assert!(error.to_string().contains("two pixels"), "{error}");
}

#[test]
fn a_jpeg_file_has_the_profile() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.jpg");
    let all: Vec<u16> = (0..1080u32).map(|i| (i * 60).u16()).collect();
    filled(&path, |f| {
        jpeg::write(f, SHAPE, &about(), &mut rows_of(&all))
    });
    let bytes = std::fs::read(&path).unwrap();
    let has = |part: &[u8]| bytes.windows(part.len()).any(|w| w == part);
    assert!(has(b"ICC_PROFILE\0") && has(&srgb_profile()[..64]) && has(b"Ha, OIII"));
}
