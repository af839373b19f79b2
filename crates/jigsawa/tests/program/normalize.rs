//! `jigsawa normalize`: frames on one scale and under one sky.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::quantile;
use jigsawa_core::stars::{Settings, Star, detect};
use rstest::rstest;
use serde_json::Value;

use crate::night::{Night, frame, plane};

/// Three frames in hydrogen, one of them hazy and moonlit, one flipped; and one in oxygen.
fn night() -> Night {
    Night::new()
        .frame("ha_1.fits", frame(Filter::Ha, "H-alpha"))
        .frame(
            "ha_2.fits",
            frame(Filter::Ha, "Ha")
                .hazy(0.7)
                .moonlit()
                .shifted(3.2, -2.7),
        )
        .frame(
            "ha_3.fits",
            frame(Filter::Ha, "H alpha").turned(180.4).blurred(3.3),
        )
        .frame("oiii.fits", frame(Filter::Oiii, "O3").shifted(-2.0, 4.0))
}

fn layout(night: &Night, path: &str) -> Value {
    serde_json::from_str(&std::fs::read_to_string(night.path(path)).unwrap()).unwrap()
}

fn stars(p: &Plane) -> Vec<Star> {
    let found = detect(p, Some(62_000.0), &Settings::default()).unwrap();
    let good = found.clean().filter(|s| s.flux > 30.0 * s.flux_sigma);
    good.copied().collect()
}

/// Middle of the differences between two planes over the ninths of the canvas, in units.
fn differences(a: &Plane, b: &Plane) -> Vec<f32> {
    let (w, h) = (a.size().width(), a.size().height());
    (0..9)
        .map(|k| {
            let (x0, y0) = (k % 3 * w / 3, k / 3 * h / 3);
            let mut all: Vec<f32> = (y0..y0 + h / 3)
                .flat_map(|y| (x0..x0 + w / 3).map(move |x| (x.whole(), y.whole())))
                .map(|(x, y)| a.at(x, y) - b.at(x, y))
                .filter(|v| v.is_finite())
                .collect();
            quantile(&mut all, 0.5)
        })
        .collect()
}

#[test]
fn a_hazy_moonlit_frame_gets_the_references_stars_and_sky() {
    let night = night();
    night
        .run("register ha_1.fits ha_2.fits ha_3.fits --reference ha_1.fits --out w --name reef")
        .success();
    let run = night
        .run("normalize w/reef.layout.json --reference ha_1.fits --write-frames m --json")
        .success();
    let account = run.json();
    assert_eq!(account["levels"][0]["file"], "ha_1.fits");
    assert_eq!(account["levels"][0]["why"], "as asked");
    let b = &account["frames"][1]["balance"];
    assert_eq!(b["scale_by"], "stars");
    let scale = b["scale"].as_f64().unwrap();
    assert!((scale * 0.7 - 1.0).abs() < 0.015, "{scale}");
    // The layout was brought up to date where it stands; the report lies beside it.
    assert_eq!(
        night.files("w"),
        [
            "reef-normalize.html",
            "reef-register.html",
            "reef.layout.json"
        ]
    );
    let written = layout(&night, "w/reef.layout.json");
    assert!(written["frames"][1]["balance"]["scale"]["value"].is_f64());
    // The reference comes out bit for bit, and the others like it.
    let reference = plane(&night.path("ha_1.fits"), 0);
    let same = plane(&night.path("m/ha_1.fits"), 0);
    assert!(
        reference
            .data()
            .iter()
            .zip(same.data())
            .all(|(a, b)| a.to_bits() == b.to_bits())
    );
    let of_reference = stars(&reference);
    for file in ["m/ha_2.fits", "m/ha_3.fits"] {
        let p = plane(&night.path(file), 0);
        let sky = differences(&reference, &p);
        assert!(sky.iter().all(|d| d.abs() < 0.5), "{file}: {sky:?}");
        let mut ratios: Vec<f32> = stars(&p)
            .iter()
            .filter_map(|s| {
                let r = of_reference.iter().find(|r| r.at.distance(s.at) < 1.0)?;
                Some((s.flux / r.flux).single())
            })
            .collect();
        assert!(ratios.len() > 8, "{file}: {}", ratios.len());
        let middle = quantile(&mut ratios, 0.5);
        assert!((middle - 1.0).abs() < 0.02, "{file}: {middle}");
    }
}

#[test]
fn frames_alone_are_registered_first_and_other_filters_keep_their_scale() {
    let night = night();
    night
        .run("normalize ha_1.fits ha_2.fits oiii.fits --out w --name reef")
        .success()
        .says("is matched to")
        .says("left as it is");
    let l = layout(&night, "w/reef.layout.json");
    let filters: Vec<&str> = l["levels"]["references"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| r["filter"].as_str().unwrap())
        .collect();
    assert_eq!(filters.len(), 2);
    let oiii = &l["frames"][2]["balance"];
    assert_eq!(oiii["scale"]["value"], 1.0);
    // Two frames of one filter are merged on the way to a picture.
    let json = night
        .run("compose w/reef.layout.json --red Ha --green OIII --blue OIII --out c --name x --json")
        .success()
        .json();
    assert_eq!(json["channels"][0]["frames"].as_array().unwrap().len(), 2);
}

#[test]
fn compose_brings_filters_together_unless_they_were_left_apart_on_purpose() {
    let night = Night::of_lines();
    let scale = |path: &str| {
        let l = layout(&night, path);
        let of = |i: usize| {
            l["frames"][i]["balance"]["scale"]["value"]
                .as_f64()
                .unwrap()
        };
        [of(0), of(1), of(2)]
    };
    night
        .run("normalize ha.fits oiii.fits sii.fits --out w --name reef")
        .success();
    assert_eq!(scale("w/reef.layout.json"), [1.0; 3]);
    night
        .run("compose w/reef.layout.json --palette SHO --out a --name x")
        .success();
    let in_colour = scale("a/x-SHO.layout.json");
    assert!(
        in_colour.iter().any(|s| (s - 1.0).abs() > 0.01),
        "{in_colour:?}"
    );
    night
        .run("normalize w/reef.layout.json --match none")
        .success();
    night
        .run("compose w/reef.layout.json --palette SHO --out b --name x")
        .success();
    assert!(!night.files("b").contains(&"x-SHO.layout.json".to_owned()));
    night
        .run("normalize w/reef.layout.json --match noise")
        .success();
    let by_noise = scale("w/reef.layout.json");
    assert!(
        by_noise.iter().any(|s| (s - 1.0).abs() > 0.01),
        "{by_noise:?}"
    );
}

#[test]
fn a_surface_is_what_was_added_and_a_flattened_reference_is_flat() {
    let night = night();
    night
        .run(
            "normalize ha_1.fits ha_2.fits --reference ha_1.fits --flatten --out w --name x \
             --write-surfaces s --write-frames m",
        )
        .success();
    let l = layout(&night, "w/x.layout.json");
    let (raw, flat, surface) = (
        plane(&night.path("ha_1.fits"), 0),
        plane(&night.path("m/ha_1.fits"), 0),
        plane(&night.path("s/ha_1-surface.fits"), 0),
    );
    let reference = l["frames"].as_array().unwrap().iter();
    assert!(
        reference
            .clone()
            .any(|f| f["file"].as_str().unwrap().ends_with("ha_1.fits"))
    );
    for i in (0..raw.data().len()).step_by(997) {
        let added = flat.data()[i] - raw.data()[i];
        assert!((added - surface.data()[i]).abs() < 1e-2, "{i}: {added}");
    }
    // The sky's own tilt was 15 electrons across: it is taken off.
    let rise = surface.at(500, 200) - surface.at(60, 200);
    let truth = -(15.0 / 0.8) * 440.0 / 560.0;
    // Light of the nebula at the frame's edge passes for a little of it.
    assert!(
        (f64::from(rise) - truth).abs() < 0.35 * truth.abs(),
        "{rise} for {truth}"
    );
}

#[test]
fn a_frame_on_other_sky_is_left_out_with_its_reason_and_keeps_its_place() {
    // Placed by hand beside the canvas: there is no star to say otherwise.
    let night = night().frame("far.fits", frame(Filter::Ha, "Halpha").shifted(900.0, 0.0));
    let pairs = ["100,100=1000,100", "400,100=1300,100", "100,300=1000,300"]
        .map(|p| format!("--pair far.fits:{p}"))
        .join(" ");
    night
        .run(&format!(
            "register ha_1.fits ha_2.fits far.fits --reference ha_1.fits --out w --name x --no-report {pairs}"
        ))
        .success();
    // Once more changes nothing: the reason is not told twice.
    for _ in 0..2 {
        let run = night
            .run("normalize w/x.layout.json --strict --json")
            .ends(3);
        let far = &run.json()["frames"][2];
        assert_eq!(far["verdict"], "left out");
        assert_eq!(
            far["reason"],
            "its values cannot be matched: it shares no patch of sky with the reference"
        );
    }
    // With that one as the reference the others are on other sky; with theirs again they come back.
    for (reference, used) in [
        ("far.fits", [false, false, true]),
        ("ha_1.fits", [true, true, false]),
    ] {
        let run = night.run(&format!(
            "normalize w/x.layout.json --json --reference {reference}"
        ));
        let frames = run.success().json()["frames"].clone();
        let verdicts = frames
            .as_array()
            .unwrap()
            .iter()
            .map(|f| f["verdict"] == "used");
        assert_eq!(verdicts.collect::<Vec<bool>>(), used, "{reference}");
    }
    let mut l = layout(&night, "w/x.layout.json");
    l["frames"][1]["verdict"] = Value::from("left out");
    l["frames"][1]["reason"] = Value::from("a plane has crossed it");
    std::fs::write(night.path("w/x.layout.json"), l.to_string()).unwrap();
    night
        .run("normalize w/x.layout.json --reference ha_2.fits")
        .ends(1)
        .says("a plane has crossed it");
    let l = layout(&night, "w/x.layout.json");
    assert!(l["frames"][2]["placement"]["matrix"].is_array());
    assert!(l["frames"][2]["balance"].is_null() && l["frames"][0]["balance"].is_object());
}

#[rstest]
#[case::two_references("--reference ha_1.fits --reference ha_2.fits", "2 frames of filter Ha")]
#[case::unknown_reference("--reference ha_9.fits", "ha_9.fits")]
#[case::stiff_plane("--surface plane --stiffness 0.5", "spline only")]
#[case::wild_degree("--surface poly:12", "1 to 8")]
#[case::soft_spline("--stiffness 0.001", "0.1 to 4")]
#[case::samples_of_nothing("--sample add:10,10", "--flatten")]
#[case::sample_off_the_canvas("--flatten --sample add:9000,5", "the canvas has 560 x 420")]
#[case::circle_off_the_canvas("--flatten --protect 0,5,30", "--protect names the place 0,5")]
#[case::odd_sample("--flatten --sample keep:10,10", "add:X,Y")]
#[case::name_of_a_layout("--name other", "--name")]
#[case::folder_of_a_layout("--out other", "--out")]
fn options_that_fight_are_refused_in_words(#[case] options: &str, #[case] says: &str) {
    let night = night();
    night
        .run("register ha_1.fits ha_2.fits --out w --name x --no-report")
        .success();
    let before = std::fs::read(night.path("w/x.layout.json")).unwrap();
    night
        .run(&format!("normalize w/x.layout.json {options}"))
        .ends(2)
        .says(says);
    assert_eq!(
        std::fs::read(night.path("w/x.layout.json")).unwrap(),
        before
    );
    assert_eq!(night.files("w"), ["x.layout.json"]);
}

#[test]
fn what_cannot_be_had_is_said_with_the_way_out() {
    let night = Night::new()
        .frame("a.fits", frame(Filter::Ha, "H-alpha"))
        .frame("b.fits", frame(Filter::Oiii, "O3"));
    night
        .run("register a.fits b.fits --out w --name x --no-report")
        .success();
    let text = std::fs::read_to_string(night.path("w/x.layout.json")).unwrap();
    night.run("normalize w/x.layout.json").success();
    // A balance edited by hand to something impossible is refused with its line.
    let whole = std::fs::read_to_string(night.path("w/x.layout.json")).unwrap();
    assert_ne!(whole, text);
    let broken = whole.replacen("\"weight\"", "\"waight\"", 1);
    let broken = broken.replacen("\"value\": 1.0", "\"value\": -1.0", 1);
    std::fs::write(night.path("w/x.layout.json"), broken).unwrap();
    night
        .run("normalize w/x.layout.json")
        .ends(1)
        .says("impossible balance")
        .says("line");
}

#[test]
fn values_from_0_to_1_are_matched_to_counts() {
    let night = night().frame("unit.fits", frame(Filter::Ha, "ha").hazy(0.8).up_to_one());
    let run = night
        .run("normalize ha_1.fits unit.fits --reference ha_1.fits --out w --name x --json")
        .success();
    let b = &run.json()["frames"][1]["balance"];
    let scale = b["scale"].as_f64().unwrap();
    assert!((scale * 0.8 / 62_000.0 - 1.0).abs() < 0.02, "{scale}");
}

#[test]
fn any_number_of_threads_gives_the_same_balances() {
    let night = night();
    let balances = |threads: usize| {
        night
            .run(&format!(
                "normalize ha_1.fits ha_2.fits ha_3.fits oiii.fits --out t{threads} --name x --no-report --flatten --threads {threads}"
            ))
            .success();
        let l = layout(&night, &format!("t{threads}/x.layout.json"));
        let of = |f: &Value| f["balance"].clone();
        l["frames"]
            .as_array()
            .unwrap()
            .iter()
            .map(of)
            .collect::<Vec<Value>>()
    };
    assert_eq!(balances(1), balances(3));
}

#[test]
fn a_filter_on_other_sky_stays_apart_and_the_others_are_matched() {
    let night = night().frame("far.fits", frame(Filter::Sii, "S2").shifted(900.0, 0.0));
    let pairs = ["100,100=1000,100", "400,100=1300,100", "100,300=1000,300"]
        .map(|p| format!("--pair far.fits:{p}"))
        .join(" ");
    night
        .run(&format!(
            "register ha_1.fits ha_2.fits far.fits --reference ha_1.fits --out w --name x --no-report {pairs}"
        ))
        .success();
    let run = night.run("normalize w/x.layout.json --json").success();
    let account = run.json();
    assert_eq!(account["frames"][1]["balance"]["scale_by"], "stars");
    let far = &account["frames"][2];
    assert_eq!(far["balance"]["scale"], 1.0);
    let notes = far["notes"].to_string();
    assert!(
        notes.contains("stays apart") && notes.contains("no patch of sky"),
        "{notes}"
    );
}

#[test]
fn nothing_that_is_there_is_replaced_and_that_is_seen_before_the_work() {
    let night = night();
    night
        .run("register ha_1.fits ha_2.fits --out w --name x --no-report")
        .success();
    night
        .run("normalize w/x.layout.json --no-report --write-surfaces s --write-frames m")
        .success();
    let before = std::fs::read(night.path("w/x.layout.json")).unwrap();
    for more in ["--write-surfaces s", "--write-frames m"] {
        night
            .run(&format!(
                "normalize w/x.layout.json --no-report --match none {more}"
            ))
            .ends(1)
            .says("--overwrite");
    }
    assert_eq!(
        std::fs::read(night.path("w/x.layout.json")).unwrap(),
        before
    );
    // A layout edited by hand to match frames to one that is not there is refused with its line.
    let text = String::from_utf8(before).unwrap();
    let edited = text.replacen("\"frame\": ", "\"frame\": 7", 1);
    assert_ne!(edited, text);
    std::fs::write(night.path("w/x.layout.json"), edited).unwrap();
    night
        .run("normalize w/x.layout.json")
        .ends(1)
        .says("matched to frame 7")
        .says("line");
}

#[test]
fn compose_keeps_what_a_layout_was_normalized_with() {
    let night = Night::of_lines();
    night
        .run("normalize ha.fits oiii.fits sii.fits --out w --name x --no-report --flatten --weigh sharpness")
        .success();
    night
        .run("compose w/x.layout.json --palette SHO --out a --name x")
        .success();
    let (own, composed) = (
        layout(&night, "w/x.layout.json"),
        layout(&night, "a/x-SHO.layout.json"),
    );
    assert_eq!(composed["levels"]["weigh"], "sharpness");
    assert_eq!(composed["levels"]["flatten"], own["levels"]["flatten"]);
    let of = |l: &Value, key: &str| l["levels"]["references"][0][key].clone();
    assert_eq!(of(&composed, "frame"), of(&own, "frame"));
}
