//! `jigsawa compose` on frames as they come.

use jigsawa_core::number::Convert;
use std::fs;
use std::io::{BufReader, Write};

use jigsawa_core::filter::Filter;
use jigsawa_core::robust::median;
use jigsawa_formats::fits::{FitsFrame, Value};

use crate::night::{Night, frame, plane};

#[test]
fn three_lines_become_a_picture_and_an_account() {
    let night = Night::of_lines();
    let run = night
        .run("compose ha.fits oiii.fits sii.fits --palette SHO --out result --name reef")
        .success()
        .says("wrote      result/reef-SHO.png");
    assert!(run.err.is_empty(), "{}", run.err);
    assert_eq!(
        night.files("result"),
        [
            "reef-SHO.fits",
            "reef-SHO.layout.json",
            "reef-SHO.png",
            "reef-SHO.tif"
        ]
    );
    for (channel, mix, file) in [
        ("red", "SII", "sii"),
        ("green", "Ha", "ha"),
        ("blue", "OIII", "oiii"),
    ] {
        let line = run.out.lines().find(|l| l.starts_with(channel)).unwrap();
        assert!(
            line.contains(mix) && line.contains(&format!("{file}.fits")),
            "{line}"
        );
    }
}

#[test]
fn the_account_as_json_is_all_that_is_printed() {
    let night = Night::of_lines();
    let run = night
        .run("compose ha.fits oiii.fits sii.fits --palette HOO --out result --json --reference ha.fits")
        .success();
    assert!(run.err.is_empty(), "{}", run.err);
    let a = run.json();
    assert_eq!(a["command"], "compose");
    assert_eq!(a["reference"]["file"], "ha.fits");
    assert_eq!(a["canvas"]["width"], 560);
    assert_eq!(a["frames"].as_array().unwrap().len(), 3);
    let flipped = &a["frames"][1];
    assert_eq!(
        (&flipped["filter"], &flipped["verdict"]),
        (&"OIII".into(), &"used".into())
    );
    assert!((flipped["placement"]["rotation_deg"].as_f64().unwrap() - 181.2).abs() < 0.02);
    assert!(flipped["placement"]["rms_px"].as_f64().unwrap() < 0.1);
    assert!(flipped["balance"]["scale"].as_f64().unwrap() > 0.5);
    assert_eq!(a["frames"][2]["placement"]["mirrored"], true);
    assert_eq!(a["outputs"][0]["file"], "result/Lantern-Reef-HOO.fits");
    assert!(a["stages"].as_array().unwrap().len() >= 5);
    assert_eq!(a["warnings"].as_array().unwrap().len(), 0);
}

#[test]
fn free_mixes_are_mixed_as_they_say() {
    let night = Night::of_lines();
    night
        .run("compose ha.fits oiii.fits --red Ha --green '70% OIII + 30% Ha' --blue oiii --out r --name x --reference ha")
        .success();
    assert_eq!(
        night.files("r"),
        ["x-mix.fits", "x-mix.layout.json", "x-mix.png", "x-mix.tif"]
    );
    let result = night.path("r/x-mix.fits");
    let [r, g, b] = [0, 1, 2].map(|p| plane(&result, p));
    // The reference is untouched; the mix is its sum, the sky's level left out and put back.
    let ha = plane(&night.path("ha.fits"), 0);
    let mut seen = 0;
    for i in (0..ha.data().len()).step_by(97) {
        let (r, g, b) = (r.data()[i], g.data()[i], b.data()[i]);
        assert!((r - ha.data()[i]).abs() < 1e-3 * r.abs());
        if b.is_finite() {
            assert!((g - (0.7 * b + 0.3 * r)).abs() < 1e-3 * g.abs());
            seen += 1;
        }
    }
    assert!(seen > 2000);
}

#[test]
fn the_result_says_what_made_it_and_where_it_lies() {
    let wcs = [
        "CTYPE1  = 'RA---TAN'",
        "CTYPE2  = 'DEC--TAN'",
        "CRVAL1  = 153.2",
        "CRVAL2  = 28.4",
        "CRPIX1  = 280.5",
        "CRPIX2  = 210.5",
        "CD1_1   = -0.0004",
        "CD1_2   = 0.0",
        "CD2_1   = 0.0",
        "CD2_2   = 0.0004",
    ];
    let with_wcs = wcs.iter().fold(frame(Filter::Ha, "Ha"), |f, r| f.with(r));
    let night = Night::new()
        .frame("ha.fits", with_wcs)
        .frame("o3.fits", frame(Filter::Oiii, "O3").shifted(30.2, -11.7));
    night
        .run("compose ha.fits o3.fits --palette HOO --out r --name x --reference ha --canvas union")
        .success();
    let frame = FitsFrame::open(&night.path("r/x-HOO.fits")).unwrap();
    let h = frame.header();
    assert_eq!(frame.planes(), 3);
    // The union reaches beyond the reference by what the other frame was shifted.
    assert!(
        (frame.size().width().whole() - 591).abs() <= 2,
        "{:?}",
        frame.size()
    );
    assert_eq!(h.number("CRVAL1"), Some(153.2));
    assert_eq!(h.number("CRPIX1"), Some(280.5));
    let moved = h.number("CRPIX2").unwrap();
    assert!((moved - 222.5).abs() <= 1.0, "{moved}");
    assert!(matches!(h.get("FILTER"), Some(Value::Text(t)) if t == "HOO"));
    let bytes = fs::read(night.path("r/x-HOO.fits")).unwrap();
    let text = String::from_utf8_lossy(&bytes[..5760]).into_owned();
    assert!(text.contains("HISTORY red: Ha") && text.contains("HISTORY frame: o3.fits (OIII)"));
}

#[test]
fn one_and_two_threads_and_any_memory_give_the_same_bytes() {
    let night = Night::of_lines();
    let make = |out: &str, more: &str| {
        night
            .run(&format!(
                "compose ha.fits oiii.fits sii.fits --palette SHO --name x --out {out} {more}"
            ))
            .success();
        ["fits", "tif", "png", "layout.json"]
            .map(|e| fs::read(night.path(&format!("{out}/x-SHO.{e}"))).unwrap())
    };
    let one = make("one", "--threads 1 --memory 1M");
    let two = make("two", "--threads 2");
    assert!(one == two);
}

#[test]
fn a_layout_gives_what_its_frames_gave() {
    let night = Night::of_lines();
    night
        .run("compose ha.fits oiii.fits sii.fits --palette SHO --name a --out r")
        .success();
    let run = night
        .run("compose r/a-SHO.layout.json --palette SHO --name b --out r --json")
        .success();
    let stages = run.json()["stages"].to_string();
    assert!(
        !stages.contains("stars"),
        "nothing is measured again: {stages}"
    );
    for plane_of in 0..3 {
        let a = plane(&night.path("r/a-SHO.fits"), plane_of);
        let b = plane(&night.path("r/b-SHO.fits"), plane_of);
        assert!(
            a.data()
                .iter()
                .zip(b.data())
                .all(|(a, b)| a.to_bits() == b.to_bits())
        );
    }
    assert!(!night.files("r").contains(&"b-SHO.layout.json".to_owned()));
    night
        .run("compose r/a-SHO.layout.json --palette SHO --name c --out r --reference ha.fits")
        .ends(2)
        .says("--reference has no effect on a layout");
}

/// First and last row of the PNG, and whether the brightest of both is the first.
fn top_is_brighter(night: &Night, name: &str) -> bool {
    let file = fs::File::open(night.path(name)).unwrap();
    let mut png = png::Decoder::new(BufReader::new(file)).read_info().unwrap();
    let mut pixels = vec![0; png.output_buffer_size().unwrap()];
    let info = png.next_frame(&mut pixels).unwrap();
    let third = pixels.len() / 3 / info.line_size * info.line_size;
    let mean = |p: &[u8]| p.iter().map(|v| u64::from(*v)).sum::<u64>();
    mean(&pixels[..third]) > mean(&pixels[pixels.len() - third..])
}

#[test]
fn pictures_are_the_way_up_that_a_viewer_shows() {
    // The first rows stored look at the reef, which is bright; the last at the dark sky.
    let ha = || frame(Filter::Ha, "Ha");
    let night = Night::new()
        .frame("up.fits", ha())
        .frame("down.fits", ha().with("ROWORDER= 'TOP-DOWN'"))
        .frame("o3.fits", frame(Filter::Oiii, "O3"));
    let first = plane(&night.path("up.fits"), 0);
    let n = first.data().len();
    let bright_first = median(&mut first.data()[..n / 3].to_vec())
        > median(&mut first.data()[n - n / 3..].to_vec());
    for (file, top_is_first) in [("up", false), ("down", true)] {
        let line = format!(
            "compose {file}.fits o3.fits --palette HOO --out r --name {file} --reference {file}"
        );
        night.run(&line).success();
        let got = top_is_brighter(&night, &format!("r/{file}-HOO.png"));
        assert_eq!(got == bright_first, top_is_first, "{file}");
    }
}

#[test]
fn packed_frames_and_frames_without_a_filter_card_are_used() {
    let night = Night::new()
        .frame("master1.fits", frame(Filter::Ha, "filter 3"))
        .frame("o3.fits", frame(Filter::Oiii, ""));
    let packed = fs::File::create(night.path("o3.fits.gz")).unwrap();
    let mut gz = flate2::write::GzEncoder::new(packed, flate2::Compression::fast());
    gz.write_all(&fs::read(night.path("o3.fits")).unwrap())
        .unwrap();
    gz.finish().unwrap();
    night
        .run("compose master1.fits o3.fits.gz --palette HOO --out r --name x --filter H-alpha=master1.fits --filter O3=o3")
        .success()
        .says("o3.fits.gz");
}

#[test]
fn an_unstretched_tiff_holds_the_values_themselves() {
    let night = Night::of_lines();
    night
        .run("compose ha.fits oiii.fits sii.fits --palette SHO --out r --name x --stretch none")
        .success();
    let file = fs::File::open(night.path("r/x-SHO.tif")).unwrap();
    let mut tiff = tiff::decoder::Decoder::new(BufReader::new(file)).unwrap();
    let tiff::decoder::DecodingResult::F32(got) = tiff.read_image().unwrap() else {
        panic!("not floats");
    };
    let red = plane(&night.path("r/x-SHO.fits"), 0);
    let (w, h) = (red.size().width(), red.size().height());
    // The picture's first row is the last one stored.
    for x in (0..w).step_by(37) {
        let (a, b) = (got[3 * x], red.at(x.whole(), h.whole() - 1));
        assert!(a.to_bits() == b.to_bits(), "{a} for {b}");
    }
}

#[test]
fn a_colour_image_counts_as_red_green_and_blue() {
    let night = Night::of_lines();
    night
        .run("compose ha.fits oiii.fits sii.fits --palette SHO --out r --name x")
        .success();
    let json = night
        .run("compose r/x-SHO.fits ha.fits --palette RGB --out r --name y --json")
        .success()
        .json();
    let filters: Vec<&str> = json["frames"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| f["filter"].as_str().unwrap())
        .collect();
    assert_eq!(filters, ["R", "G", "B", "Ha"]);
    assert_eq!(json["frames"][2]["plane"], 2);
    let scale = json["frames"][1]["placement"]["scale"].as_f64().unwrap();
    assert!((scale - 1.0).abs() < 5e-4, "{scale}");
    night
        .run("compose r/x-SHO.fits --palette RGB --out r --name z --filter Ha=x-SHO")
        .ends(2)
        .says("is a colour image: its planes are R, G and B");
}

#[test]
fn values_from_0_to_1_give_the_same_picture_as_counts() {
    let night = Night::of_lines()
        .frame("ha1.fits", frame(Filter::Ha, "H-alpha").up_to_one())
        .frame(
            "o1.fits",
            frame(Filter::Oiii, "O3")
                .turned(181.2)
                .shifted(4.3, -6.1)
                .up_to_one(),
        );
    let mix = "--red Ha --green 'screen(Ha, OIII)' --blue OIII";
    let make = |frames: &str, name: &str, reference: &str| {
        night
            .run(&format!(
                "compose {frames} {mix} --out r --name {name} --reference {reference}"
            ))
            .success();
    };
    make("ha.fits oiii.fits", "counts", "ha.fits");
    make("ha1.fits o1.fits", "ones", "ha1.fits");
    for p in 0..3 {
        let counts = plane(&night.path("r/counts-mix.fits"), p);
        let ones = plane(&night.path("r/ones-mix.fits"), p);
        let mut off: Vec<f32> = counts
            .data()
            .iter()
            .zip(ones.data())
            .filter(|(c, o)| c.is_finite() && o.is_finite())
            .map(|(c, o)| (o * 62_000.0 / c - 1.0).abs())
            .collect();
        assert!(off.len() > 200_000);
        let middle = median(&mut off);
        assert!(middle < 1e-3, "plane {p}: {middle}");
    }
}

#[test]
fn the_brightness_of_lrgb_is_that_of_the_luminance() {
    let night = Night::new()
        .frame("l.fits", frame(Filter::L, "Clear"))
        .frame("r.fits", frame(Filter::R, "Red").shifted(3.2, 1.1))
        .frame("g.fits", frame(Filter::G, "green").turned(180.4))
        .frame("b.fits", frame(Filter::B, "B").shifted(-2.7, 4.6));
    night
        .run("compose l.fits r.fits g.fits b.fits --palette LRGB --out r --name x --reference l")
        .success();
    let l = plane(&night.path("l.fits"), 0);
    let [r, g, b] = [0, 1, 2].map(|p| plane(&night.path("r/x-LRGB.fits"), p));
    let (mut seen, mut coloured) = (0, 0);
    for i in 0..l.data().len() {
        let (r, g, b) = (r.data()[i], g.data()[i], b.data()[i]);
        if (r + g + b).is_nan() {
            continue;
        }
        // Luminance as the eye weighs it; what is taken off and put back is one sky for all.
        let y = 0.2126 * r + 0.7152 * g + 0.0722 * b;
        assert!(
            (y / l.data()[i] - 1.0).abs() < 1e-3,
            "{y} for {}",
            l.data()[i]
        );
        seen += 1;
        coloured += usize::from((r - b).abs() > 0.05 * y);
    }
    assert!(seen > 200_000 && coloured > 1000, "{coloured} of {seen}");
}

#[test]
fn inputs_are_never_changed() {
    let night = Night::of_lines();
    let read =
        || ["ha", "oiii", "sii"].map(|f| fs::read(night.path(&format!("{f}.fits"))).unwrap());
    let before = read();
    night
        .run("compose ha.fits oiii.fits sii.fits --palette SHO --out . --name x -q")
        .success();
    assert!(before == read());
    assert_eq!(night.files(".").len(), 7);
}

#[test]
fn a_stray_frame_that_no_mix_needs_is_left_out_and_said() {
    let night = Night::of_lines().frame("stray.fits", frame(Filter::R, "R").shifted(9000.0, 0.0));
    let line = "compose ha.fits oiii.fits sii.fits stray.fits --palette SHO --out r --overwrite";
    night.run(line).success().says("left out   stray.fits");
    let json = night.run(&format!("{line} --json --strict")).ends(3).json();
    assert_eq!(json["frames"][3]["verdict"], "left out");
    assert_eq!(json["warnings"].as_array().unwrap().len(), 1);
}

/// Masters that another program has saved as TIFF, as floats from 0 to 1 and with the first row on top.
#[test]
fn tiff_masters_are_frames_as_fits_files_are() {
    let night = Night::of_lines();
    for (name, tiff) in [("ha", "reef_Ha.tif"), ("oiii", "reef_OIII.tif")] {
        let plane = plane(&night.path(&format!("{name}.fits")), 0);
        let size = plane.size();
        let rows = (0..size.height()).rev().flat_map(|y| plane.row(y));
        let values: Vec<f32> = rows.map(|v| v / 65_535.0).collect();
        let [width, height] = [size.width(), size.height()].map(|n| u32::try_from(n).unwrap());
        let file = std::fs::File::create(night.path(tiff)).unwrap();
        tiff::encoder::TiffEncoder::new(file)
            .unwrap()
            .write_image::<tiff::encoder::colortype::Gray32Float>(width, height, &values)
            .unwrap();
    }
    let line = "compose reef_Ha.tif reef_OIII.tif --palette HOO --out o --name x --json";
    let account = night.run(line).success().json();
    let frames = account["frames"].as_array().unwrap();
    assert_eq!(frames.len(), 2);
    for (f, filter) in frames.iter().zip(["Ha", "OIII"]) {
        assert_eq!(f["filter"], filter);
        assert!(f["stars"].as_u64().unwrap() > 60, "{f:#}");
    }
    // What was made for a screen is no light, and that is said.
    let linear = account.to_string();
    assert!(!linear.contains("stretched already"), "{linear}");
    night.run("finish o/x-HOO.fits --out f --name f").success();
    for picture in ["f-finished.tif", "f-finished.png"] {
        night
            .run(&format!(
                "compose f/{picture} --palette RGB --out g --name g --overwrite"
            ))
            .success()
            .says("stretched already");
    }
    let damaged = std::fs::read(night.path("reef_Ha.tif")).unwrap();
    std::fs::write(night.path("cut_Ha.tif"), &damaged[..damaged.len() / 3]).unwrap();
    night
        .run("compose cut_Ha.tif reef_OIII.tif --palette HOO --out q")
        .ends(1)
        .says("its image cannot be decoded");
}
