//! `jigsawa stack`: sub-frames in, one master for each filter out.

use std::sync::OnceLock;

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::{mad, median};
use jigsawa_formats::fits::FitsFrame;
use jigsawa_sky::spoilt::Trail;
use rstest::rstest;

use crate::night::{Frame, Night, Run, frame, heart, plane};

/// A sub-frame of a filter: the `i`th of a night, dithered, with a noise of its own.
pub fn light(filter: Filter, card: &str, i: u32) -> Frame {
    let part = |k: f64| (0.5 + k * f64::from(i + 1)).fract() - 0.5;
    frame(filter, card)
        .of_subs(4)
        .shifted(14.0 * part(0.754_877_666), 14.0 * part(0.569_840_291))
        .hazy(1.0 - 0.25 * (part(0.618_033_989) + 0.5))
        .again(u64::from(i))
        .with("EGAIN   = 0.8")
        .with("OBJECT  = 'Lantern Reef'")
}

/// Seven of hydrogen, the third with a trail, and four of oxygen after the meridian flip.
pub fn lights() -> Night {
    let mut night = Night::new();
    for i in 0..7 {
        let mut one = light(Filter::Ha, "Ha", i);
        if i == 2 {
            one = one.trailed(Trail {
                through: (0.05, -0.1),
                angle_deg: 31.0,
                electrons: 120.0,
                sigma_px: 1.5,
            });
        }
        night = night.frame(&format!("n/ha{i}.fits"), one);
    }
    for i in 0..4 {
        let one = light(Filter::Oiii, "O3", 20 + i).turned(180.6);
        night = night.frame(&format!("n/oiii{i}.fits"), one);
    }
    night
}

/// The usual run, once for all tests that look at it.
pub fn stacked() -> &'static (Night, Run) {
    static STACKED: OnceLock<(Night, Run)> = OnceLock::new();
    STACKED.get_or_init(|| {
        let night = lights();
        let run = night.run("stack n --out w --name reef --reference ha0 --json");
        (night, run)
    })
}

/// Scatter of the differences of neighbours, as wide as the noise of a pixel.
pub fn noise(p: &Plane) -> f64 {
    let (w, h) = (p.size().width(), p.size().height());
    let step = |i: usize| p.data()[i] - p.data()[i + 2];
    let inner = (40..h - 40).flat_map(|y| (40..w - 40).map(move |x| y * w + x));
    let mut off: Vec<f32> = inner.map(step).filter(|v| v.is_finite()).collect();
    let middle = median(&mut off);
    1.4826 * f64::from(mad(&mut off, middle)) / 2f64.sqrt()
}

#[test]
fn each_filter_becomes_one_master_with_map_report_and_layout() {
    let (night, run) = stacked();
    assert_eq!(run.status, Some(0), "{}\n{}", run.out, run.err);
    assert_eq!(
        night.files("w"),
        [
            "reef-Ha-master-map.fits",
            "reef-Ha-master.fits",
            "reef-OIII-master-map.fits",
            "reef-OIII-master.fits",
            "reef-stack.html",
            "reef-stack.layout.json",
        ]
    );
    let account = run.json();
    let masters = account["masters"].as_array().unwrap();
    let told = |i: usize, key: &str| masters[i][key].as_f64().unwrap();
    assert_eq!((told(0, "frames"), told(1, "frames")), (7.0, 4.0));
    assert_eq!(told(0, "total_s"), 2100.0);
    assert!(
        told(0, "noise_gain") > 2.2 && told(1, "noise_gain") > 1.7,
        "{masters:#?}"
    );
    // Both lie on the reference's pixels, and the noise has fallen as it is told.
    let single = noise(&plane(&night.path("n/ha0.fits"), 0));
    let master = noise(&plane(&night.path("w/reef-Ha-master.fits"), 0));
    let fallen = single / master;
    assert!(fallen > 0.95 * told(0, "noise_gain"), "{fallen}");
    let head = FitsFrame::open(&night.path("w/reef-Ha-master.fits")).unwrap();
    let number = |name: &str| head.header().number(name);
    assert_eq!(number("NCOMBINE"), Some(7.0));
    assert_eq!(
        (number("EXPTIME"), number("EXPTOTAL")),
        (Some(300.0), Some(2100.0))
    );
    assert_eq!(head.header().text("FILTER").as_deref(), Some("Ha"));
    // The mean of seven has some seven times as many electrons for a unit as one frame.
    let gain = number("EGAIN").unwrap() / 0.8;
    assert!((5.5..8.5).contains(&gain), "{gain}");
}

#[test]
fn a_trail_is_told_left_out_and_in_the_map() {
    let (night, run) = stacked();
    let account = run.json();
    let lights = account["masters"][0]["lights"].as_array().unwrap();
    let trails: Vec<usize> = lights
        .iter()
        .map(|l| l["trails"].as_array().map_or(0, Vec::len))
        .collect();
    assert_eq!(trails, [0, 0, 1, 0, 0, 0, 0]);
    let map = std::fs::read(night.path("w/reef-Ha-master-map.fits")).unwrap();
    let head = String::from_utf8_lossy(&map[..80 * 400]).into_owned();
    assert!(
        head.contains("NAXIS3  =                    4"),
        "four planes"
    );
    assert!(head.contains("values in the mean, rejected below, rejected above, noise"));
    // Where the trail goes through the reference's own pixels one value of seven is missing.
    let (from, to) = (
        &lights[2]["trails"][0]["from"],
        &lights[2]["trails"][0]["to"],
    );
    let at = |p: &serde_json::Value, k: usize| p[k].as_f64().unwrap();
    let middle = [0, 1].map(|k| (0.5 * (at(from, k) + at(to, k))).round().index());
    // The data begin behind the last block of the header.
    let end = (0..map.len() / 80)
        .find(|i| map[80 * i..].starts_with(b"END     "))
        .unwrap();
    let start = (80 * (end + 1)).next_multiple_of(2880);
    let value = |p: usize, x: usize, y: usize| {
        let at = start + 4 * ((p * 420 + y) * 560 + x);
        f32::from_be_bytes(map[at..at + 4].try_into().unwrap())
    };
    assert_eq!([0, 2].map(|p| value(p, middle[0], middle[1])), [6.0, 1.0]);
    assert_eq!(value(0, 60, 380), 7.0);
}

#[test]
fn a_folder_with_earlier_results_in_it_is_taken_for_what_it_is() {
    let mut night = Night::new();
    for i in 0..3 {
        night = night.frame(&format!("n/ha{i}.fits"), light(Filter::Ha, "Ha", i));
        night = night.frame(&format!("n/o{i}.fits"), light(Filter::Oiii, "O3", 20 + i));
    }
    night
        .run("stack n --out n/first --name reef --no-report")
        .success();
    // Masters of the first run lie below the folder: they are no sub-frames.
    let run = night
        .run("stack n --out n/second --name reef --no-report --json")
        .success();
    assert_eq!(run.json()["masters"][0]["frames"], 3);
    // And maps beside masters are no masters.
    night
        .run("compose n/first --palette HOO --out c --name x")
        .success()
        .says("from n/first/reef-OIII-master.fits");
}

#[test]
fn masters_go_on_to_a_picture_as_they_lie() {
    let (night, _) = stacked();
    night
        .run("compose w/reef-Ha-master.fits w/reef-OIII-master.fits --palette HOO --out c --name x")
        .success()
        .says("all lie on one canvas already");
}

#[test]
fn any_memory_and_threads_give_the_same_bits_and_a_layout_the_same_master() {
    let (night, _) = stacked();
    let read = |folder: &str| {
        ["Ha-master", "Ha-master-map", "OIII-master"]
            .map(|n| std::fs::read(night.path(&format!("{folder}/reef-{n}.fits"))).unwrap())
    };
    night
        .run("stack n --out w1 --name reef --reference ha0 --threads 1 --memory 2M --no-report")
        .success();
    let same = |folder: &str| read(folder) == read("w");
    assert!(same("w1"));
    night
        .run("stack w/reef-stack.layout.json --out w2 --name reef --threads 3 --no-report")
        .success();
    assert!(same("w2"));
    assert!(!night.files("w2").contains(&"reef-stack.html".to_owned()));
}

#[test]
fn without_rejection_the_trail_stays_and_rules_say_what_they_are() {
    let (night, _) = stacked();
    let run = night
        .run("stack n/ha*.fits --reject none --out x --name reef --reference ha0 --json")
        .success();
    assert_eq!(run.json()["masters"][0]["rejected_percent"], 0.0);
    let (with, without) = ("w/reef-Ha-master.fits", "x/reef-Ha-master.fits");
    let (with, without) = (plane(&night.path(with), 0), plane(&night.path(without), 0));
    let differ = with
        .data()
        .iter()
        .zip(without.data())
        .filter(|(a, b)| *b - *a > 10.0);
    assert!((500..20_000).contains(&differ.count()));
    let line = "stack n/ha*.fits --reject extremes --reject-low 1 --reject-high 2 --out y --name reef --json";
    let row = night.run(line).success().json()["masters"][0].clone();
    assert_eq!(
        (&row["rule"], &row["reject_high"]),
        (&"extremes".into(), &2.0.into())
    );
    let percent = row["rejected_percent"].as_f64().unwrap();
    assert!((percent - 100.0 * 3.0 / 7.0).abs() < 2.0, "{percent}");
    night
        .run("stack n/ha*.fits --reject-high many --out z")
        .ends(2)
        .says("a limit is a number from 0 to 1000");
}

#[test]
fn a_filter_may_be_stacked_in_a_way_of_its_own() {
    let night = lights();
    let line = "stack n --reject sigma --reject o3=median --reject-high OIII=4 --keep-best Ha=5 --out v --name v --no-report --json";
    let account = night.run(line).success().json();
    let rows: Vec<_> = account["masters"].as_array().unwrap().iter().collect();
    let told = |i: usize| {
        let text = |key: &str| rows[i][key].as_str().unwrap();
        (text("name"), text("rule"), rows[i]["frames"].as_u64())
    };
    assert_eq!(told(0), ("Ha", "sigma", Some(5)));
    assert_eq!(told(1), ("OIII", "median", Some(4)));
    assert_eq!(rows[1]["reject_high"].as_f64(), Some(4.0));
}

#[test]
fn a_frame_counts_as_much_as_it_is_told_to() {
    let (night, _) = stacked();
    let percent = |line: &str| -> Vec<f64> {
        let account = night.run(line).success().json();
        let lights = account["masters"][0]["lights"].as_array().unwrap().clone();
        lights
            .iter()
            .map(|l| l["weight_percent"].as_f64().unwrap())
            .collect()
    };
    let line = "stack n/ha*.fits --reference ha0 --name reef --no-report --json";
    let equal = percent(&format!("{line} --weigh equal --out e1"));
    assert!(
        equal.iter().all(|p| (p - 100.0 / 7.0).abs() < 0.01),
        "{equal:?}"
    );
    let by_hand = percent(&format!(
        "{line} --weigh equal --weight ha1=3 --weight ha2=0.001 --out e2"
    ));
    assert!(
        (by_hand[1] - 37.5).abs() < 0.02 && by_hand[2] < 0.02,
        "{by_hand:?}"
    );
    // Nothing is left of the trail of a frame that hardly counts, even without any rejection.
    let line = format!("{line} --reject none --weight ha2=0.001 --out e3");
    night.run(&line).success();
    let (with, without) = ("w/reef-Ha-master.fits", "e3/reef-Ha-master.fits");
    let (with, without) = (plane(&night.path(with), 0), plane(&night.path(without), 0));
    let differ = with
        .data()
        .iter()
        .zip(without.data())
        .filter(|(a, b)| *b - *a > 25.0);
    assert!(differ.count() < 20);
    night
        .run("stack n/ha*.fits --weight ha77=2 --out e4")
        .ends(2)
        .says("ha77");
    night
        .run("stack n/ha*.fits --weight ha1=0 --out e4")
        .ends(2)
        .says("above 0");
    night
        .run("stack n/ha*.fits --reject none --reject-high 3 --out e4")
        .ends(2)
        .says("have no effect");
    night
        .run("stack n/ha*.fits --colours own --out e4")
        .ends(2)
        .says("a layout of jigsawa calibrate");
}

#[test]
fn exposures_for_an_hdr_merge_stay_apart_in_their_own_units() {
    let mut night = Night::new();
    for i in 0..3u32 {
        let aside = 3.0 * f64::from(i);
        for seconds in [300.0, 10.0] {
            let one = heart(Filter::Ha, "Ha", seconds)
                .shifted(aside, -aside)
                .again(u64::from(i));
            night = night.frame(&format!("n/ha{seconds}_{i}.fits"), one);
        }
    }
    let run = night.run("stack n --out w --name heart").success();
    run.says("next       jigsawa hdr w/heart-Ha-300s-master.fits w/heart-Ha-10s-master.fits");
    let sky = |name: &str| {
        let mut all = plane(&night.path(&format!("w/heart-Ha-{name}-master.fits")), 0).into_data();
        all.retain(|v| v.is_finite());
        jigsawa_core::robust::quantile(&mut all, 0.05)
    };
    // 500 units of pedestal: the short ones have hardly more.
    assert!(
        sky("300s") > 900.0 && sky("10s") < 560.0,
        "{} {}",
        sky("300s"),
        sky("10s")
    );
    night
        .run("hdr w/heart-Ha-300s-master.fits w/heart-Ha-10s-master.fits --out h --name heart --linear-only")
        .success();
    night
        .run("stack n --out v --name heart --exposures together --no-report")
        .success()
        .says("heart-Ha-master.fits");
}

#[test]
fn more_frames_come_into_a_stack_and_move_nothing() {
    let mut night = Night::new();
    for i in 0..6 {
        let folder = if i < 4 { "first" } else { "second" };
        night = night.frame(&format!("{folder}/ha{i}.fits"), light(Filter::Ha, "Ha", i));
    }
    night = night.frame("second/o0.fits", light(Filter::Oiii, "O3", 30));
    night = night.frame("second/o1.fits", light(Filter::Oiii, "O3", 31));
    night.run("stack first --out w --name reef").success();
    let read = |name: &str| -> serde_json::Value {
        serde_json::from_str(&std::fs::read_to_string(night.path(name)).unwrap()).unwrap()
    };
    let before = read("w/reef-stack.layout.json");
    let run = night
        .run("stack --into w/reef-stack.layout.json second --json -v")
        .success();
    let account = run.json();
    let masters = account["masters"].as_array().unwrap();
    let frames: Vec<&serde_json::Value> = masters.iter().map(|m| &m["frames"]).collect();
    assert_eq!(frames, [6, 2]);
    let after = read("w/reef-stack.layout.json");
    for i in 0..4 {
        assert_eq!(before["frames"][i], after["frames"][i]);
    }
    assert_eq!(before["canvas"], after["canvas"]);
    // Stars of the first frames are known.
    assert!(
        run.err.contains("ha5.fits:") && !run.err.contains("ha1.fits:"),
        "{}",
        run.err
    );
    let head = FitsFrame::open(&night.path("w/reef-Ha-master.fits")).unwrap();
    assert_eq!(head.header().number("NCOMBINE"), Some(6.0));
    // No frame counts twice.
    night
        .run("stack --into w/reef-stack.layout.json second")
        .ends(2)
        .says("stands in the layout");
}

#[test]
fn fewer_frames_are_compared_with_all_by_their_measured_noise() {
    let (night, _) = stacked();
    let line = "stack n/ha*.fits --reference ha0 --out k --name reef --json --compare 1,3,all";
    let row = night.run(line).success().json()["masters"][0].clone();
    let compared = row["compared"].as_array().unwrap();
    let of = |k: usize, key: &str| compared[k][key].as_f64().unwrap();
    assert_eq!([0, 1, 2].map(|k| of(k, "frames")), [1.0, 3.0, 7.0]);
    // Noise falls with the root of the number, and faint light's with it.
    for key in ["noise", "deep_noise"] {
        let (three, all) = (of(0, key) / of(1, key), of(0, key) / of(2, key));
        assert!(
            (three / 3f64.sqrt() - 1.0).abs() < 0.15,
            "{key}: {compared:#?}"
        );
        assert!(
            (all / 7f64.sqrt() - 1.0).abs() < 0.2,
            "{key}: {compared:#?}"
        );
    }
    // Seven frames show stars of the same width, or nearly.
    let width = of(2, "fwhm_px") / of(1, "fwhm_px");
    assert!((width - 1.0).abs() < 0.1, "{compared:#?}");
    let page = std::fs::read_to_string(night.path("k/reef-stack.html")).unwrap();
    assert!(page.contains("faint stars yellow"));
    assert!(page.contains("How much is enough") && page.contains("7 frames: noise"));
    night
        .run("stack n --compare few --out l")
        .ends(2)
        .says("as in 1,10,all");
}

#[test]
fn a_survey_leaves_out_what_stands_apart_when_it_is_asked_to() {
    let mut night = Night::new();
    for i in 0..6 {
        let mut one = light(Filter::Ha, "Ha", i);
        if i == 3 {
            one = one.blurred(6.5);
        }
        night = night.frame(&format!("n/ha{i}.fits"), one);
    }
    let run = night
        .run("stack n --survey --out a --name x --json")
        .success();
    assert_eq!(run.json()["masters"][0]["frames"], 5);
    night
        .run("stack n --keep 'fwhm < 5 px' --out b --name x")
        .success()
        .says("left out   ha3.fits");
    let run = night
        .run("stack n --keep-best 50% --out c --name x --json")
        .success();
    assert_eq!(run.json()["masters"][0]["frames"], 3);
    night
        .run("stack a/x-stack.layout.json --keep-best 2 --out d --name x")
        .ends(2)
        .says("--keep-best");
    night
        .run("stack n --keep 'width < 5' --out d")
        .says("width");
    assert_eq!(night.files("d"), [""; 0]);
}

#[rstest]
#[case::one("stack n/ha0.fits --out b", 1, "nothing to stack: there is 1 of Ha")]
#[case::one_of_each("stack n/ha0.fits n/oiii0.fits --out b", 1, "Are the filters right?")]
#[case::nothing_there("stack nothing.fits --out b", 1, "nothing.fits")]
#[case::exists("stack n --out w --name reef", 1, "--overwrite")]
#[case::no_rule("stack n --reject best --out b", 2, "[possible values: none, noise")]
#[case::no_such_filter("stack n --reject SII=sigma --out b", 2, "The filters are Ha, OIII")]
#[case::rule_twice(
    "stack n --reject Ha=sigma --reject halpha=none --out b",
    2,
    "given twice"
)]
#[case::no_effect(
    "stack n --reject OIII=none --reject-low OIII=3 --out b",
    2,
    "no effect"
)]
#[case::no_filter("stack n/ha0.fits n/ha1.fits --filter Hx=ha0 --out b", 1, "Hx")]
fn what_cannot_be_stacked_is_said_before_the_work(
    #[case] line: &str,
    #[case] code: i32,
    #[case] words: &str,
) {
    let (night, _) = stacked();
    night.run(line).ends(code).says(words);
    assert_eq!(night.files("b"), [""; 0]);
}

#[test]
fn strays_and_spoilt_files_are_left_out_and_two_frames_keep_everything() {
    let night = Night::new()
        .frame("n/a.fits", light(Filter::Ha, "Ha", 1))
        .frame("n/b.fits", light(Filter::Ha, "Ha", 2))
        .frame(
            "n/stray.fits",
            light(Filter::Ha, "Ha", 3).shifted(9000.0, 0.0),
        )
        .file("n/half.fits", b"SIMPLE  =                    T");
    let run = night.run("stack n --out w --name reef").success();
    let run = run
        .says("left out   stray.fits")
        .says("left out   n/half.fits");
    run.says("nobody knows which is right where they differ");
    let run = night
        .run("stack n --out v --name reef --strict --json")
        .ends(3);
    let master = &run.json()["masters"][0];
    assert_eq!(
        (&master["frames"], &master["rule"]),
        (&2.into(), &"none".into())
    );
    // The only one that is left is none.
    night
        .run("stack n/a.fits n/stray.fits --out u --name reef")
        .ends(1)
        .says("nothing to stack: there is 1 of Ha")
        .says("--hint and --pair");
}
