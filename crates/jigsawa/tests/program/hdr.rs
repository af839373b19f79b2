//! `jigsawa hdr`: exposures in, one linear frame of each filter out.

use jigsawa_core::number::Convert;
use std::sync::OnceLock;

use jigsawa_core::filter::Filter;
use rstest::rstest;

use crate::night::{Night, Run, frame, heart, plane};

/// Three exposures of hydrogen and two of oxygen, each a little aside.
fn heart_night() -> Night {
    Night::new()
        .frame(
            "ha300.fits",
            heart(Filter::Ha, "Ha", 300.0).with("OBJECT  = 'Lantern Reef'"),
        )
        .frame(
            "ha030.fits",
            heart(Filter::Ha, "Ha", 30.0).shifted(3.3, -2.4),
        )
        .frame(
            "ha003.fits",
            heart(Filter::Ha, "Ha", 3.0).shifted(-4.6, 1.2),
        )
        .frame(
            "o300.fits",
            heart(Filter::Oiii, "O3", 300.0)
                .turned(0.2)
                .shifted(1.5, 2.2),
        )
        .frame(
            "o003.fits",
            heart(Filter::Oiii, "O3", 3.0).shifted(-2.0, -3.7),
        )
}

/// The usual run, once for all tests that look at it.
fn merged() -> &'static (Night, Run) {
    static MERGED: OnceLock<(Night, Run)> = OnceLock::new();
    MERGED.get_or_init(|| {
        let night = heart_night();
        let run = night.run(
            "hdr ha300.fits ha030.fits ha003.fits o300.fits o003.fits --reference ha300.fits --out r \
             --name heart --sigma --exr=half --json",
        );
        (night, run)
    })
}

#[test]
fn each_filter_becomes_one_frame_with_map_error_picture_and_report() {
    let (night, run) = merged();
    assert_eq!(run.status, Some(0), "{}\n{}", run.out, run.err);
    let files = night.files("r");
    for name in [
        "Ha-hdr.fits",
        "Ha-hdr-map.fits",
        "Ha-hdr-sigma.fits",
        "Ha-hdr.exr",
        "Ha-hdr.png",
        "OIII-hdr.fits",
        "OIII-hdr.tif",
        "hdr.html",
        "hdr.layout.json",
    ] {
        assert!(
            files.contains(&format!("heart-{name}")),
            "{name}: {files:?}"
        );
    }
    let json = run.json();
    let rows = json["exposures"].as_array().unwrap();
    assert_eq!(rows.len(), 5);
    let of = |i: usize, key: &str| rows[i][key].as_f64().unwrap();
    // The longest first, its values as they are; headers and light agree.
    assert_eq!((of(0, "exposure_s"), of(0, "factor")), (300.0, 1.0));
    assert!((of(1, "factor") / 10.0 - 1.0).abs() < 0.01, "{}", rows[1]);
    assert!((of(2, "factor") / 100.0 - 1.0).abs() < 0.02, "{}", rows[2]);
    assert!((of(4, "factor") / 100.0 - 1.0).abs() < 0.02, "{}", rows[4]);
    assert!(of(0, "full_percent") > 0.3 && of(2, "full_percent") == 0.0);
    assert!(of(0, "share_percent") > 90.0);
    // A flat sky and the whole range of a camera leave nothing to be said of exposures; stars are few in the middle.
    let warnings = json["warnings"].to_string();
    for doubt in ["not linear", "are full", "multiplied", "left out"] {
        assert!(!warnings.contains(doubt), "{warnings}");
    }
}

#[test]
fn what_is_full_in_the_long_exposure_has_its_true_light_and_the_map_says_from_where() {
    let (night, _) = merged();
    let path = |name: &str| night.path(&format!("r/heart-Ha-{name}.fits"));
    let (value, long) = (plane(&path("hdr"), 0), plane(&night.path("ha300.fits"), 0));
    let (source, weight, valid) = (
        plane(&path("hdr-map"), 0),
        plane(&path("hdr-map"), 1),
        plane(&path("hdr-map"), 2),
    );
    let sigma = plane(&path("hdr-sigma"), 0);
    let highest = value.data().iter().fold(0.0f32, |a, v| a.max(*v));
    assert!(highest > 300_000.0, "{highest}");
    let (mut full, mut faint, mut heavy) = (0, 0, 0);
    for (i, l) in long.data().iter().enumerate() {
        let (v, s) = (value.data()[i], source.data()[i]);
        if *l >= 61_999.0 {
            // The trail of a bloom is full and not bright.
            full += usize::from(v > 55_000.0);
            assert!(s > 1.0, "{i}: {v} from {s}");
        } else if *l < 5_000.0 && s == 1.0 && valid.data()[i] == 3.0 {
            faint += 1;
            heavy += usize::from(weight.data()[i] > 600.0);
            assert!((v - l).abs() < 8.0 * sigma.data()[i], "{i}: {v} for {l}");
        }
    }
    assert!(full > 300 && faint > 10_000, "{full} {faint}");
    assert!(heavy > faint * 19 / 20, "{heavy} of {faint}");
}

#[test]
fn a_palette_makes_the_picture_in_one_command_and_resamples_nothing_twice() {
    let night = heart_night();
    let run = night
        .run("hdr ha300.fits ha030.fits ha003.fits o300.fits o003.fits --out r --name heart --palette HOO --no-report")
        .success();
    assert!(run.out.contains("r/heart-HOO.png"), "{}", run.out);
    let composed = night
        .run("compose r/heart-Ha-hdr.fits r/heart-OIII-hdr.fits --palette HOO --out c --linear-only --json")
        .success()
        .json();
    assert_eq!(composed["frames"][1]["placement"]["by"], "same canvas");
    // A layout of an earlier run stands for the frames; neither threads nor memory change a bit.
    night
        .run("hdr r/heart-hdr.layout.json --out again --name heart --linear-only --no-report --threads 1 --memory 40M")
        .success();
    let name = "heart-Ha-hdr.fits";
    let (a, b) = (
        plane(&night.path(&format!("r/{name}")), 0),
        plane(&night.path(&format!("again/{name}")), 0),
    );
    let same = |(a, b): (&f32, &f32)| a.to_bits() == b.to_bits() || (a.is_nan() && b.is_nan());
    assert!(a.data().iter().zip(b.data()).all(same));
    night
        .run("hdr r/heart-hdr.layout.json --out again --name heart --linear-only")
        .ends(1)
        .says("exist already");
}

#[test]
fn equal_exposures_are_a_plain_mean_and_it_is_said() {
    Night::new()
        .frame("a.fits", heart(Filter::Ha, "Ha", 30.0))
        .frame("b.fits", heart(Filter::Ha, "Ha", 30.0).shifted(2.2, 1.4))
        .run("hdr a.fits b.fits --out r --linear-only --no-report")
        .success()
        .says("equally long")
        .says("a plain weighted mean");
}

#[rstest]
#[case("hdr a.fits b.fits --out r", "only one exposure of Ha", "compose")]
#[case("hdr a.fits --out r", "only one exposure of Ha", "Give two or more")]
#[case(
    "hdr a.fits c.fits --out r",
    "is not known of 'c.fits'",
    "--exposure c.fits="
)]
#[case(
    "hdr a.fits d.fits --saturation e=5 --out r",
    "--saturation names 'e'",
    "d.fits"
)]
#[case("hdr a.fits d.fits --out r --palette SHO", "needs", "SII")]
#[case("hdr a.fits d.fits --out r --palette SHOO", "SHOO", "SHO")]
fn what_cannot_be_merged_is_told_before_any_work(
    #[case] line: &str,
    #[case] what: &str,
    #[case] mend: &str,
) {
    static NIGHT: OnceLock<Night> = OnceLock::new();
    let night = NIGHT.get_or_init(|| {
        Night::new()
            .frame("a.fits", heart(Filter::Ha, "Ha", 300.0))
            .frame("b.fits", heart(Filter::Oiii, "O3", 30.0))
            .frame("c.fits", heart(Filter::Ha, "Ha", 30.0).untimed())
            .frame("d.fits", heart(Filter::Ha, "Ha", 30.0).shifted(1.0, 1.0))
    });
    let run = night.run(line).says(what).says(mend);
    assert_ne!(run.status, Some(0));
    assert!(!night.path("r").exists(), "no empty folder is left");
}

#[test]
fn an_exposure_that_nobody_knows_is_taken_from_the_user_and_a_wrong_one_is_noticed() {
    let night = Night::new()
        .frame("long.fits", heart(Filter::Ha, "Ha", 300.0))
        .frame(
            "short.fits",
            heart(Filter::Ha, "Ha", 10.0).untimed().shifted(2.0, -1.0),
        )
        .frame(
            "wrong.fits",
            heart(Filter::Ha, "Ha", 10.0)
                .called(20.0)
                .shifted(-1.5, 2.5),
        );
    let json = night
        .run("hdr long.fits short.fits --exposure short=10 --saturation long=55000 --out r --linear-only --no-report --json")
        .success()
        .json();
    assert_eq!(json["exposures"][0]["full"], 55_000.0);
    assert_eq!(json["exposures"][0]["full_by"], "as you say");
    assert_eq!(json["exposures"][1]["exposure_s"], 10.0);
    night
        .run("hdr long.fits wrong.fits --out w --linear-only --no-report")
        .success()
        .says("while exposures and gains say")
        .says("What is measured is used");
}

#[test]
fn values_from_zero_to_one_are_merged_with_counts() {
    let night = Night::new()
        .frame("long.fits", heart(Filter::Ha, "Ha", 300.0))
        .frame(
            "short.fits",
            heart(Filter::Ha, "Ha", 10.0).up_to_one().shifted(2.0, -1.0),
        );
    let run = night
        .run("hdr long.fits short.fits --out r --name x --linear-only --no-report")
        .success()
        .says("values from 0 to 1");
    assert!(!run.out.contains("left out"), "{}", run.out);
    let value = plane(&night.path("r/x-Ha-hdr.fits"), 0);
    let highest = value.data().iter().fold(0.0f32, |a, v| a.max(*v));
    assert!((300_000.0..3_000_000.0).contains(&highest), "{highest}");
}

#[test]
fn what_is_full_in_all_exposures_is_said_and_a_lone_filter_goes_along() {
    let night = Night::new()
        .frame("long.fits", heart(Filter::Ha, "Ha", 300.0))
        .frame(
            "mid.fits",
            heart(Filter::Ha, "Ha", 60.0)
                .full_at(20_000.0)
                .shifted(2.0, -1.0),
        )
        .frame("o.fits", heart(Filter::Oiii, "O3", 300.0));
    night
        .run("hdr long.fits mid.fits o.fits --out r --name x --linear-only")
        .success()
        .says("though it is the shortest")
        .says("the only exposure of OIII");
    let map = plane(&night.path("r/x-Ha-hdr-map.fits"), 0);
    assert!(map.data().iter().filter(|v| **v == 99.0).count() > 20);
    assert!(night.files("r").contains(&"x-OIII-hdr.fits".to_owned()));
}

#[test]
fn a_frame_of_another_field_is_left_out_and_the_rest_is_merged() {
    Night::new()
        .frame("long.fits", heart(Filter::Ha, "Ha", 300.0))
        .frame(
            "short.fits",
            heart(Filter::Ha, "Ha", 10.0).shifted(2.0, -1.0),
        )
        .frame(
            "stray.fits",
            frame(Filter::Ha, "Ha").shifted(-300.0, 200.0).called(30.0),
        )
        .run("hdr long.fits short.fits stray.fits --out r --linear-only --no-report")
        .success()
        .says("left out   stray.fits");
}

#[test]
fn range_compression_brings_the_core_down_and_leave_the_linear_frame_as_it_is() {
    let (night, _) = merged();
    let before = std::fs::read(night.path("r/heart-Ha-hdr.fits")).unwrap();
    // Both with the same white, which by itself follows what is held back.
    let grey = |options: &str, out: &str| {
        let line = format!(
            "finish r/heart-Ha-hdr.fits {options} --out {out} --contrast 0% --no-report --crop none --full 99.98%"
        );
        let run = night.run(&line).success();
        (run, plane(&night.path(out), 0))
    };
    let (run, plain) = grey("", "t/plain.fits");
    assert!(run.out.contains("range compression"), "{}", run.out);
    let (run, toned) = grey("--compress-range", "t/toned.fits");
    assert!(run.out.contains("is held back"), "{}", run.out);
    // The heart stands in the middle: without it, it is white all over, with it there is structure below white.
    let core = |p: &jigsawa_core::plane::Plane| -> Vec<f32> {
        (0..40 * 40)
            .map(|i| p.at(320 + i % 40, 250 + i / 40))
            .collect()
    };
    let mean = |v: &[f32]| v.iter().sum::<f32>() / v.len().single();
    let (a, b) = (core(&plain), core(&toned));
    let shell = |p: &jigsawa_core::plane::Plane| {
        mean(
            &(0..40 * 40)
                .map(|i| p.at(320 + i % 40, 60 + i / 40))
                .collect::<Vec<_>>(),
        )
    };
    let lifted = (shell(&toned) / mean(&b)) / (shell(&plain) / mean(&a));
    assert!(lifted > 1.15, "{lifted}");
    assert!(mean(&b) > shell(&toned), "the core stays the brightest");
    assert_eq!(
        std::fs::read(night.path("r/heart-Ha-hdr.fits")).unwrap(),
        before
    );
}
