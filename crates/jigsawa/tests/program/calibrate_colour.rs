//! Raw frames of a colour camera, and a picture of them.

use jigsawa_core::space::Size;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_sky::chip::Chip;
use jigsawa_sky::raw_night::RawNight;
use jigsawa_sky::train::Train;

use crate::calibrate::{Told, plane, small, written};
use crate::night::Night;

#[test]
fn a_colour_camera_gives_three_planes_and_a_pattern_that_is_a_row_off_is_noticed() {
    let night = Night::new();
    let mut raw = RawNight::colour();
    let size = Size::new(360, 260).unwrap();
    raw.chip = Chip {
        size,
        ..raw.chip.clone()
    };
    raw.train = Train::usual(size);
    for shot in raw.frames.iter_mut().flat_map(|f| &mut f.shots) {
        shot.size = size;
    }
    written(&night, &raw, Told::default(), |_| true);
    let out = night
        .run("calibrate raw --out work --name reef --write-frames work/clean --json")
        .json();
    assert_eq!(out["lights"][0]["pattern"], "RGGB");
    assert_eq!(out["lights"][0]["doubts"].as_array().unwrap().len(), 0);
    let file = FitsFrame::open(&night.path("work/clean/reef_rgb_001.fits")).unwrap();
    assert_eq!(file.planes(), 3);
    let layout = std::fs::read_to_string(night.path("work/reef.layout.json")).unwrap();
    assert_eq!(layout.matches("\"pattern\": \"RGGB\"").count(), 18);
    own_pixels_are_stacked(&night);
    // What a program that turns rows over leaves: the cards as they were.
    let row_off = night
        .run("calibrate raw --pattern GBRG --out off --name reef --json")
        .json();
    let doubt = row_off["lights"][0]["doubts"][0].as_str().unwrap();
    assert!(doubt.contains("it is read as RGGB"), "{doubt}");
    night
        .run("calibrate raw --pattern RGBG --out off --name x")
        .ends(2)
        .says("a pattern is RGGB");
}

/// The lights as a master of three planes: from pixels that are made up, and from each colour's own.
fn own_pixels_are_stacked(night: &Night) {
    let line = "stack work/reef.layout.json --name reef --json";
    let made_up = night.run(&format!("{line} --out made")).success().json();
    assert!(made_up["masters"][0].get("drops").is_none());
    let own = night
        .run(&format!("{line} --out own --colours own"))
        .success()
        .json();
    let drops = &own["masters"][0]["drops"];
    assert_eq!(
        (&drops["own_pixels"], &drops["side_px"]),
        (&true.into(), &1.0.into())
    );
    // Six dithers leave few places that no pixel of green has seen.
    assert!(drops["holes_percent"].as_f64().unwrap() < 0.1);
    // A quarter of the pixels is red, a half green: six frames have one and a half, and three, of each place.
    let depth = own["masters"][0]["depth"].as_f64().unwrap();
    assert!((2.7..3.1).contains(&depth), "{depth}");
    for p in 0..3 {
        let of = |folder: &str| plane(night, &format!("{folder}/reef-RGB-master.fits"), p);
        let (made, own) = (of("made"), of("own"));
        let mut off: Vec<f32> = made
            .data()
            .iter()
            .zip(own.data())
            .map(|(a, b)| a - b)
            .filter(|v| v.is_finite())
            .collect();
        // The same light in the mean, to a fraction of the noise.
        let level = jigsawa_core::robust::median(&mut off);
        assert!(level.abs() < 0.6, "{p}: {level}");
    }
}

#[test]
fn a_folder_of_raw_frames_becomes_a_colour_picture_in_one_command() {
    let night = Night::new();
    written(&night, &small(), Told::default(), |_| true);
    let run = night
        .run("compose raw --palette HOO --out w --name reef --json")
        .success();
    let account = run.json();
    let names: Vec<String> = account["outputs"]
        .as_array()
        .unwrap()
        .iter()
        .map(|o| o["file"].as_str().unwrap().to_owned())
        .collect();
    for name in [
        "w/reef-HOO.png",
        "w/reef-Ha-master.fits",
        "w/reef-OIII-master.fits",
        "w/reef-stack.html",
        "w/reef-calibrate.html",
        "w/reef.layout.json",
    ] {
        assert!(names.contains(&name.to_owned()), "{names:?}");
    }
    // Another palette goes on from what is there.
    night
        .run("compose raw --palette HOO --out w --name reef")
        .ends(1)
        .says("jigsawa compose w/*-master.fits");
    // Masters lie on one canvas: nothing is placed a second time.
    assert_eq!(account["frames"][1]["placement"]["by"], "same canvas");
    // The same from the layout of calibrate, with a wish for the canvas.
    let run = night
        .run("compose w/reef.layout.json --palette HOO --out v --name reef --canvas union --json")
        .success();
    assert!(run.json()["canvas"]["width"].as_u64().unwrap() > 420);
    night
        .run("compose raw --palette SHO --out u --name reef")
        .ends(1)
        .says("SII");
    let there = night.files("u");
    assert!(there.iter().all(|f| !f.contains("master")), "{there:?}");
}
