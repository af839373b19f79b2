//! `jigsawa show`: pictures of the size, place and kind that was asked for.

use std::fs::File;
use std::io::BufReader;

use jigsawa_core::filter::Filter;
use rstest::rstest;

use crate::night::{Night, frame};

/// Width, height, frames and the first frame's pixels of a PNG.
fn picture(night: &Night, name: &str) -> (u32, u32, u32, Vec<u8>) {
    let file = BufReader::new(File::open(night.path(name)).unwrap());
    let mut reader = png::Decoder::new(file).read_info().unwrap();
    let frames = reader.info().animation_control.map_or(1, |a| a.num_frames);
    let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut pixels).unwrap();
    (info.width, info.height, frames, pixels)
}

fn night() -> Night {
    Night::new()
        .frame("a.fits", frame(Filter::G, "Green"))
        .frame(
            "b.fits",
            frame(Filter::G, "Green").shifted(6.0, -4.0).turned(180.4),
        )
        .frame("c.fits", frame(Filter::G, "Green").sized(400, 300))
}

#[rstest]
#[case("show a.fits", "a-look.png", (560, 420, 1))]
#[case("show a.fits --zoom 0.5", "a-look.png", (280, 210, 1))]
#[case("show a.fits --region 100,50,60,40 --zoom 3 --name x", "x-look.png", (180, 120, 1))]
#[case("show a.fits --region 500,400,200,200", "a-look.png", (60, 20, 1))]
#[case("show a.fits b.fits c.fits --together", "a-together.png", (1126, 846, 1))]
#[case("show a.fits c.fits --flip 4 --name x", "x-flip.png", (560, 420, 2))]
#[case("show a.fits b.fits --difference", "b-less-a.png", (560, 420, 1))]
fn a_picture_has_the_asked_size(
    #[case] line: &str,
    #[case] file: &str,
    #[case] want: (u32, u32, u32),
) {
    let night = night();
    night.run(&format!("{line} --out o")).success().says(file);
    assert_eq!(night.files("o"), [file]);
    let (w, h, n, _) = picture(&night, &format!("o/{file}"));
    assert_eq!((w, h, n), want);
}

#[test]
fn stars_are_marked_and_listed() {
    let night = night();
    night.run("show a.fits --out o").success();
    let json = night
        .run("show a.fits --stars --out o --name m --json")
        .success()
        .json();
    let stars = json["frames"][0]["stars"].as_array().unwrap();
    assert!(stars.len() > 30);
    assert_eq!(stars[0]["id"], 1);
    assert!(stars[0]["flux"].as_f64() > stars[9]["flux"].as_f64());
    let plain = picture(&night, "o/a-look.png").3;
    let marked = picture(&night, "o/m-look.png").3;
    let coloured = |p: &[u8]| p.chunks_exact(3).filter(|c| c[0] > c[2]).count();
    assert_eq!(coloured(&plain), 0);
    assert!(coloured(&marked) > 20 * stars.len());
}

#[test]
fn what_differs_is_seen_though_the_mount_has_turned_over() {
    let night = night();
    let run = night
        .run("show a.fits b.fits --difference --out o")
        .success();
    assert!(!run.out.contains("note"), "{}", run.out);
    let (w, h, _, pixels) = picture(&night, "o/b-less-a.png");
    // Away from the edges nothing but noise is left: the greys lie around the middle.
    let mut off = Vec::new();
    for y in 30..h - 30 {
        for x in 30..w - 30 {
            let v = pixels[3 * (y * w + x) as usize];
            off.push((i32::from(v) - 128).abs());
        }
    }
    off.sort_unstable();
    assert!(
        off[off.len() * 98 / 100] < 50,
        "{}",
        off[off.len() * 98 / 100]
    );
}

#[rstest]
#[case("show a.fits --difference", 2, "needs at least two frames")]
#[case(
    "show a.fits --region 900,900,10,10",
    2,
    "lies outside of 'a.fits', which has 560 x 420 pixels"
)]
#[case("show a.fits --zoom 0", 2, "between 0.01 and 32")]
#[case("show no.fits", 1, "'no.fits' cannot be used")]
#[case("show a.fits b.fits --together --flip", 2, "cannot be used with")]
fn a_slip_is_told(#[case] line: &str, #[case] code: i32, #[case] says: &str) {
    let night = night();
    night.run(&format!("{line} --out o")).ends(code).says(says);
    assert!(night.files("o").is_empty());
}

#[test]
fn a_picture_is_not_replaced_unasked() {
    let night = night();
    night.run("show a.fits --out o").success();
    night
        .run("show a.fits --out o")
        .ends(1)
        .says("exists already");
    night.run("show a.fits --out o --overwrite").success();
}
