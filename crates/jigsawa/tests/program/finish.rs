//! `jigsawa finish` and `jigsawa stars` on composites of made-up frames.

use jigsawa_core::number::Convert;
use std::fs;
use std::io::BufReader;
use std::sync::OnceLock;

use jigsawa_core::filter::Filter;
use jigsawa_formats::fits::FitsFrame;
use rstest::rstest;

use crate::night::{Night, frame, plane};

/// A night with a broadband and a narrowband composite, made once.
fn composites() -> &'static Night {
    static NIGHT: OnceLock<Night> = OnceLock::new();
    NIGHT.get_or_init(|| {
        let night = Night::of_lines()
            .frame("r.fits", frame(Filter::R, "Red").with("NCOMBINE= 20"))
            .frame("g.fits", frame(Filter::G, "Green").shifted(3.0, -2.0).with("NCOMBINE= 20"))
            .frame("b.fits", frame(Filter::B, "Blue").blurred(3.6).with("NCOMBINE= 10"));
        night
            .run("compose r.fits g.fits b.fits --palette RGB --out c --name x --linear-only --reference r")
            .success();
        night
            .run("compose ha.fits oiii.fits sii.fits --palette SHO --out c --name x --linear-only")
            .success();
        night
    })
}

/// Width, height and 16-bit samples of a PNG file.
fn png_of(path: &std::path::Path) -> (u32, u32, Vec<u16>) {
    let mut reader = png::Decoder::new(BufReader::new(fs::File::open(path).unwrap()))
        .read_info()
        .unwrap();
    let mut bytes = vec![0; reader.output_buffer_size().unwrap()];
    let info = reader.next_frame(&mut bytes).unwrap();
    let samples = bytes
        .as_chunks::<2>()
        .0
        .iter()
        .map(|b| u16::from_be_bytes(*b))
        .collect();
    (info.width, info.height, samples)
}

#[test]
fn a_composite_becomes_a_finished_picture_and_every_step_is_told() {
    let night = composites();
    let run = night.run("finish c/x-RGB.fits --out plain").success();
    assert!(run.err.is_empty(), "{}", run.err);
    for text in [
        "* neutral sky",
        "from the typical of",
        "* denoise",
        "channels alike",
        "stars of",
    ] {
        assert!(run.out.contains(text), "{text}\n{}", run.out);
    }
    assert_eq!(
        night.files("plain"),
        [
            "x-RGB-finish.html",
            "x-RGB-finished.png",
            "x-RGB-finished.tif"
        ]
    );
    let (w, h, samples) = png_of(&night.path("plain/x-RGB-finished.png"));
    // The ragged edges of shifted frames are gone.
    assert!(
        (540..560).contains(&w) && (400..420).contains(&h),
        "{w} x {h}"
    );
    // The sky is a dark neutral grey, and nothing is clipped to black.
    let level = |c: usize| {
        let mut values: Vec<f32> = samples
            .iter()
            .skip(c)
            .step_by(3)
            .map(|v| f32::from(*v))
            .collect();
        jigsawa_core::robust::quantile(&mut values, 0.2) / 65_535.0
    };
    let [r, g, b] = [level(0), level(1), level(2)];
    assert!(
        (0.04..0.2).contains(&g) && (r - g).abs() < 0.05 && (b - g).abs() < 0.05,
        "{r} {g} {b}"
    );
    let black = samples.iter().filter(|v| **v == 0).count();
    assert!(black * 40 < samples.len(), "{black}");
    // The page holds all it needs.
    let page = fs::read_to_string(night.path("plain/x-RGB-finish.html")).unwrap();
    let elsewhere = page.replace("http://www.w3.org/2000/svg", "");
    assert!(
        !elsewhere.contains("http"),
        "it asks for something elsewhere"
    );
    assert!(
        page.contains("Before and after")
            && page.contains("Star colours")
            && page.contains("data:image/jpeg")
    );
    // Nothing is replaced unasked.
    night
        .run("finish c/x-RGB.fits --out plain")
        .ends(1)
        .says("exist already");
}

#[test]
fn the_account_is_one_json_document() {
    let json = composites()
        .run("finish c/x-SHO.fits --out json --no-report --json")
        .success()
        .json();
    assert_eq!(json["command"], "finish");
    let steps = json["steps"].as_array().unwrap();
    let names: Vec<&str> = steps.iter().map(|s| s["step"].as_str().unwrap()).collect();
    assert_eq!(
        names,
        [
            "crop",
            "gradient",
            "neutral sky",
            "white",
            "green",
            "denoise",
            "deconvolution",
            "range compression",
            "stretch",
            "local contrast",
            "saturation",
            "stars",
            "sharpness"
        ]
    );
    let of = |name: &str| steps.iter().find(|s| s["step"] == name).unwrap();
    // Lines have no white, and each is stretched by its own light.
    assert_eq!(of("white")["acts"], false);
    assert!(
        of("stretch")["said"]
            .as_str()
            .unwrap()
            .starts_with("each channel")
    );
    assert_eq!(json["outputs"].as_array().unwrap().len(), 2);
}

#[test]
fn every_ending_is_written_at_once_small_and_with_a_caption() {
    let night = composites();
    night
        .run_words(&[
            "finish",
            "c/x-RGB.fits",
            "--out",
            "e/a.tif",
            "--out",
            "e/a.png",
            "--out",
            "e/a.jpg",
            "--out",
            "e/a.exr",
            "--out",
            "e/a.fits",
            "--size",
            "300",
            "--caption",
            "{target}: {filters}, {time}",
            "--no-report",
        ])
        .success();
    let (w, h, _) = png_of(&night.path("e/a.png"));
    assert!(w == 300 && h > 220, "{w} x {h}");
    let exr = fs::read(night.path("e/a.exr")).unwrap();
    assert!(exr.starts_with(&[0x76, 0x2f, 0x31, 0x01]));
    let jpeg = fs::read(night.path("e/a.jpg")).unwrap();
    let has = |bytes: &[u8], part: &[u8]| bytes.windows(part.len()).any(|w| w == part);
    // 20 + 20 + 10 sub-frames of the frames' exposure.
    assert!(has(&jpeg, b"Filters: R, G, B") && has(&jpeg, b"ICC_PROFILE"));
    let fits = FitsFrame::open(&night.path("e/a.fits")).unwrap();
    assert_eq!((fits.planes(), fits.size().width()), (3, 300));
    let mut tiff = tiff::decoder::Decoder::new(BufReader::new(
        fs::File::open(night.path("e/a.tif")).unwrap(),
    ))
    .unwrap();
    assert_eq!(tiff.dimensions().unwrap(), (w, h));
    assert!(
        tiff.get_tag_u8_vec(tiff::tags::Tag::IccProfile)
            .unwrap()
            .len()
            > 200
    );
}

#[test]
fn without_a_stretch_it_ends_in_linear_light() {
    let night = composites();
    night
        .run("finish c/x-RGB.fits --out l --stretch none --crop none --denoise 0 --no-report")
        .success();
    assert_eq!(night.files("l"), ["x-RGB-linear.fits"]);
    // Above the sky: half of the dark pixels are below zero.
    let green = plane(&night.path("l/x-RGB-linear.fits"), 1);
    let below = green.data().iter().filter(|v| **v < 0.0).count();
    let there = green.data().iter().filter(|v| v.is_finite()).count();
    assert!(
        (0.05..0.6).contains(&(below.real() / there.real())),
        "{below} of {there}"
    );
    night
        .run("finish c/x-RGB.fits --out l/a.png --stretch none")
        .ends(2)
        .says("which .png, .jpg and .jxl cannot hold");
}

#[test]
fn stars_apart_add_up_to_the_frame_and_can_be_put_together_again() {
    let night = composites();
    let run = night.run("stars c/x-RGB.fits --out s").success();
    assert!(run.out.contains("filled"), "{}", run.out);
    assert_eq!(
        night.files("s"),
        ["x-RGB-starless.fits", "x-RGB-stars.fits"]
    );
    let whole = night.path("c/x-RGB.fits");
    for p in 0..3 {
        let (a, b) = (
            plane(&night.path("s/x-RGB-starless.fits"), p),
            plane(&night.path("s/x-RGB-stars.fits"), p),
        );
        let all = plane(&whole, p);
        for ((w, a), b) in all.data().iter().zip(a.data()).zip(b.data()) {
            assert!(
                w.is_nan() || (a + b - w).abs() <= 2e-7 * w.abs(),
                "{a} + {b} is not {w}"
            );
        }
    }
    // The header is the frame's own.
    let starless = FitsFrame::open(&night.path("s/x-RGB-starless.fits")).unwrap();
    assert_eq!(
        starless.header().text("FILTERS").as_deref(),
        Some("R, G, B")
    );
    // A grey frame has parts as well.
    // It has no stars to set white by, and is finished all the same.
    night
        .run("finish s/x-RGB-starless.fits --out s/w.png --white stars --no-report")
        .success()
        .says("left as it is: too few stars show their colour clearly");
    night.run("stars ha.fits --out s --name h").success();
    assert_eq!(
        FitsFrame::open(&night.path("s/h-stars.fits"))
            .unwrap()
            .planes(),
        1
    );
    // Fewer stars on the screen: the brightest pixels are darker.
    for stars in ["100%", "0%"] {
        night
            .run(&format!(
                "finish c/x-RGB.fits --out s/p{stars}.png --stars {stars} --no-report --sharpen 0"
            ))
            .success();
    }
    night
        .run("finish c/x-RGB.fits --out s/q.png --stars 50% --stars-file s/light.fits --no-report")
        .success()
        .says("stars alone");
    assert_eq!(
        FitsFrame::open(&night.path("s/light.fits"))
            .unwrap()
            .planes(),
        3
    );
    let bright = |name: &str| {
        let samples = png_of(&night.path(name)).2;
        // White ones: a bright nebula has a colour.
        let white = samples.chunks(3).filter(|p| p.iter().all(|v| *v > 50_000));
        white.count()
    };
    let (with, without) = (bright("s/p100%.png"), bright("s/p0%.png"));
    assert!(
        with > 5 * without + 30,
        "{with} with stars, {without} without"
    );
}

#[test]
fn stars_of_broadband_stand_before_a_narrowband_nebula() {
    let night = composites();
    let all = "ha.fits oiii.fits sii.fits r.fits g.fits b.fits";
    let json = night
        .run(&format!(
            "compose {all} --palette SHO-RGB --out n --name x --linear-only --json"
        ))
        .success()
        .json();
    assert_eq!(json["channels"].as_array().unwrap().len(), 6);
    assert_eq!(
        night.files("n"),
        ["x-SHO-RGB.fits", "x-SHO-RGB.layout.json"]
    );
    let run = night
        .run("finish n/x-SHO-RGB.fits --out n --no-report")
        .success();
    assert!(run.out.contains("channels alike"), "{}", run.out);
    // The stars of a composite that exists, before another palette: their colours are not to be pulled apart.
    night
        .run("compose n/x-SHO-RGB.layout.json --palette RGB --out n --name z --linear-only")
        .success();
    night
        .run("compose n/x-SHO-RGB.layout.json --palette HOO --stars-from n/z-RGB.fits --out n --name z --linear-only")
        .success();
    let mixed = FitsFrame::open(&night.path("n/z-HOO.fits")).unwrap();
    assert_eq!(
        mixed.header().text("CHANNELS").as_deref(),
        Some("narrowband, broadband stars")
    );
    // A frame of one plane has no stars in colour to give.
    night
        .run("compose n/x-SHO-RGB.layout.json --palette HOO --stars-from ha.fits --out n --name y --linear-only")
        .ends(1)
        .says("stars in natural colour need a linear file of three");
    assert!(
        !night
            .files("n")
            .iter()
            .any(|f| f.contains("y-") || f.contains(".part"))
    );
}

#[rstest]
#[case::outside("--crop 500,400,100,100", 2, "reaches over the edges")]
#[case::no_such_hue("--saturation 1,pink=2", 2, "a hue is one of red")]
#[case::no_such_ending("--out x.bmp", 2, "no picture is written as .bmp")]
#[case::caption("--caption {camera}", 2, "It can say {target}")]
#[case::nowhere("--sample add:900,10", 2, "names the place 900,10")]
#[case::fight("--gradient none --sample add:10,10", 2, "looks for none")]
#[case::no_catalogue("--white none.csv", 1, "the catalogue 'none.csv' cannot be used")]
#[case::no_wcs("--white stars.csv", 1, "has no WCS")]
#[case::empty_list("--white empty.csv", 1, "no columns 'ra' and 'dec'")]
#[case::dark_patch("--white 5,5,12,12", 1, "no brighter than the sky")]
fn what_cannot_be_done_is_said_and_leaves_nothing(
    #[case] more: &str,
    #[case] code: i32,
    #[case] says: &str,
) {
    let night = composites();
    fs::write(night.path("stars.csv"), "ra,dec,B,V\n1.0,2.0,10.5,10.0\n").unwrap();
    fs::write(night.path("empty.csv"), "name,B,V\na,1,2\n").unwrap();
    // Cases run side by side: each has a folder of its own.
    let folder = format!("bad{}", says.len());
    let out = if more.contains("--out") {
        String::new()
    } else {
        format!("--out {folder}")
    };
    night
        .run(&format!("finish c/x-RGB.fits {out} {more}"))
        .ends(code)
        .says(says);
    let left = night.files(&folder);
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_channel_without_values_and_a_stretched_picture_are_told() {
    let night = Night::new()
        .even("flat.fits", 7.0)
        .even("none.fits", f32::NAN);
    night
        .run("finish flat.fits")
        .ends(1)
        .says("one value everywhere");
    night
        .run("finish none.fits")
        .ends(1)
        .says("no value at all");
    let night = composites();
    night
        .run("finish c/x-RGB.fits --out again/a.fits --no-report")
        .success();
    night
        .run("finish again/a.fits --out again --no-report")
        .success()
        .says("looks stretched already");
}

#[test]
fn several_files_become_pictures_and_a_bad_one_keeps_none_from_it() {
    let night = composites();
    fs::write(night.path("no-image.fits"), b"nothing").unwrap();
    let run = night
        .run("finish c/x-RGB.fits no-image.fits c/x-SHO.fits --out several --no-report --json --strict")
        .ends(3);
    let told = run.json();
    assert_eq!(told["pictures"].as_array().unwrap().len(), 2);
    assert_eq!(told["left_out"][0]["file"], "no-image.fits");
    assert!(night.path("several/x-RGB-finished.png").is_file());
    assert!(night.path("several/x-SHO-finished.png").is_file());
    night
        .run("finish c/x-RGB.fits c/x-SHO.fits --out both.tif")
        .ends(2)
        .says("give a folder");
    night
        .run("finish no-image.fits neither.fits --out none")
        .ends(1)
        .says("no-image.fits");
}

#[test]
fn a_smaller_fits_tells_all_that_was_done_to_it() {
    let night = composites();
    night
        .run("finish c/x-RGB.fits --out small.fits --size 200 --caption words --no-report --saturation 1.3")
        .success();
    let bytes = fs::read(night.path("small.fits")).unwrap();
    let header = String::from_utf8_lossy(&bytes[..2880 * 6]).into_owned();
    for said in [
        "HISTORY stretch: ",
        "HISTORY saturation: ",
        "HISTORY size: 200 x",
        "HISTORY caption: words",
    ] {
        assert!(header.contains(said), "{said}");
    }
}
