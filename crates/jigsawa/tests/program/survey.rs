//! `jigsawa survey`: the demo's night is seen through, and small nights show each option.

use std::collections::BTreeSet;

use jigsawa_core::filter::Filter;
use rstest::rstest;
use serde_json::Value;

use crate::demo::demo;
use crate::night::{Night, frame};

fn rows(json: &Value) -> &Vec<Value> {
    json["frames"].as_array().unwrap()
}

fn name(row: &Value) -> &str {
    row["file"].as_str().unwrap().rsplit('/').next().unwrap()
}

fn named(json: &Value, wanted: impl Fn(&Value) -> bool) -> BTreeSet<String> {
    rows(json)
        .iter()
        .filter(|r| wanted(r))
        .map(|r| name(r).to_owned())
        .collect()
}

fn set(names: &[&str]) -> BTreeSet<String> {
    names.iter().map(|n| (*n).to_owned()).collect()
}

/// Four frames of one filter: sharp, less sharp, blunt, sharp through cloud.
fn four() -> Night {
    let one = |n: f64| frame(Filter::G, "Green").shifted(3.0 * n, -2.0 * n);
    let dated = |f: crate::night::Frame, minute: u32| {
        f.with(&format!("DATE-OBS= '2026-03-14T21:{minute:02}:00'"))
            .with("IMAGETYP= 'Light Frame'")
            .with("EGAIN   =                  0.8")
    };
    Night::new()
        .frame("n/a.fits", dated(one(0.0), 0))
        .frame("n/b.fits", dated(one(1.0).blurred(3.2), 5))
        .frame("n/c.fits", dated(one(2.0).blurred(4.4), 10))
        .frame("n/d.fits", dated(one(3.0).hazy(0.6), 15))
}

#[test]
fn the_demos_night_is_seen_through() {
    let (night, _) = demo();
    let json = night.run("survey d/night --out s1 --json").success().json();
    let left_out = named(&json, |r| r["verdict"] == "left out");
    assert_eq!(
        left_out,
        set(&[
            "reef_R_007.fits",
            "reef_R_012.fits",
            "reef_G_005.fits",
            "reef_G_010.fits",
            "reef_G_013.fits"
        ])
    );
    let reason = |file: &str| {
        let row = rows(&json).iter().find(|r| name(r) == file).unwrap();
        row["reason"].as_str().unwrap_or_default().to_owned()
    };
    assert!(reason("reef_R_007.fits").starts_with("cloud"));
    assert!(reason("reef_G_005.fits").starts_with("cloud"));
    assert!(reason("reef_R_012.fits").starts_with("long stars"));
    assert!(reason("reef_G_010.fits").starts_with("long stars"));
    assert!(reason("reef_G_013.fits").starts_with("halos"));
    let doubtful = named(&json, |r| !r["doubts"].as_array().unwrap().is_empty());
    assert_eq!(
        doubtful,
        set(&[
            "reef_R_004.fits",
            "reef_R_014.fits",
            "reef_G_008.fits",
            "flat_G_001.fits",
            "flat_G_002.fits",
            "flat_G_003.fits"
        ])
    );
    let trails = named(&json, |r| r["trails"].as_f64().unwrap_or(0.0) > 0.0);
    assert_eq!(
        trails,
        set(&["reef_R_004.fits", "reef_R_014.fits", "reef_G_008.fits"])
    );
    let notes: Vec<&str> = json["warnings"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(Value::as_str)
        .filter(|w| w.contains("turned over"))
        .collect();
    assert_eq!(notes.len(), 1);
    assert!(notes[0].contains("reef_G_006.fits and reef_G_007.fits"));
    // Altitude from site, date and WCS: the field passed the meridian at 47.2 N, 28.4 N in declination.
    let row = rows(&json)
        .iter()
        .find(|r| name(r) == "reef_G_009.fits")
        .unwrap();
    let altitude = row["altitude"].as_f64().unwrap();
    assert!((altitude - 71.2).abs() < 0.4, "{altitude}");
    assert_eq!(row["night"], "2026-03-14");
    assert!(
        (row["fwhm_arcsec"].as_f64().unwrap() / row["fwhm_px"].as_f64().unwrap() - 1.45).abs()
            < 0.01
    );
    assert_eq!(json["groups"].as_array().unwrap().len(), 4);
    let reference = json["reference"]["file"].as_str().unwrap();
    assert!(!left_out.iter().any(|f| reference.ends_with(f.as_str())));
}

#[test]
fn a_condition_decides_alone_and_gives_its_reasons() {
    let night = four();
    let json = night
        .run("survey n --out s --json --keep 'fwhm < 3.8 px and clouds < 20%'")
        .success()
        .json();
    assert_eq!(
        named(&json, |r| r["verdict"] == "used"),
        set(&["a.fits", "b.fits"])
    );
    let c = rows(&json).iter().find(|r| name(r) == "c.fits").unwrap();
    let why = c["reason"].as_str().unwrap();
    assert!(
        why.starts_with("fwhm 4.") && why.ends_with("wanted fwhm < 3.8 px"),
        "{why}"
    );
    // Arc seconds need a scale, which these headers do not give.
    let json = night
        .run("survey n --out s --no-report --json --keep 'fwhm < 3 arcsec'")
        .success()
        .json();
    assert!(named(&json, |r| r["verdict"] == "used").is_empty());
    assert!(
        rows(&json)[0]["reason"]
            .as_str()
            .unwrap()
            .contains("scale is not known")
    );
    // Under --strict frames left out change the exit code.
    night
        .run("survey n --out s --no-report --strict --keep 'fwhm < 3.8 px'")
        .ends(3);
}

#[test]
fn the_best_are_kept_by_score_and_ranked_as_they_should() {
    let night = four();
    let json = night
        .run("survey n --out s --no-report --json --keep-best 50%")
        .success()
        .json();
    assert_eq!(
        named(&json, |r| r["verdict"] == "used"),
        set(&["a.fits", "b.fits"])
    );
    let score = |f: &str| {
        let row = rows(&json).iter().find(|r| name(r) == f).unwrap();
        row["score"].as_f64().unwrap()
    };
    assert!(score("a.fits") > score("b.fits") && score("b.fits") > score("c.fits"));
    let d = rows(&json).iter().find(|r| name(r) == "d.fits").unwrap();
    let clear = d["transparency"].as_f64().unwrap();
    assert!((clear - 0.6).abs() < 0.02, "{clear}");
    // Without the weight of transparency the hazy frame is nearly as good as the sharp one.
    let json = night
        .run("survey n --out s --no-report --json --weights transparency=0")
        .success()
        .json();
    let d = rows(&json).iter().find(|r| name(r) == "d.fits").unwrap();
    assert!(d["score"].as_f64().unwrap() > 90.0, "{}", d["score"]);
}

#[test]
fn frames_are_copied_and_moved_only_when_asked_and_never_over_others() {
    let night = four();
    let keep = "--keep 'fwhm < 3.8 px'";
    night
        .run(&format!(
            "survey n --out s --no-report {keep} --copy good --dry-run"
        ))
        .success()
        .says("would copy n/a.fits to good/a.fits")
        .says("would copy 3 frames to good");
    assert!(night.files("good").is_empty());
    night
        .run(&format!("survey n --out s --no-report {keep} --copy good"))
        .success()
        .says("copied 3 frames to good");
    assert_eq!(night.files("good"), ["a.fits", "b.fits", "d.fits"]);
    let same = |a: &str, b: &str| {
        std::fs::read(night.path(a)).unwrap() == std::fs::read(night.path(b)).unwrap()
    };
    assert!(same("n/a.fits", "good/a.fits"));
    night
        .run(&format!("survey n --out s --no-report {keep} --copy good"))
        .success()
        .says("copied 0 frames to good; 3 were there already");
    std::fs::write(night.path("good/a.fits"), "another's").unwrap();
    night
        .run(&format!("survey n --out s --no-report {keep} --copy good"))
        .ends(1)
        .says("1 files are in the way")
        .says("Nothing was copied");
    night
        .run(&format!(
            "survey n --out s --no-report {keep} --move-rest n/rest"
        ))
        .success()
        .says("moved 1 frames to n/rest");
    assert_eq!(night.files("n"), ["a.fits", "b.fits", "d.fits", "rest"]);
    assert_eq!(night.files("n/rest"), ["c.fits"]);
    // What was sorted out is not surveyed again.
    let json = night
        .run(&format!(
            "survey n --out s --no-report --json {keep} --move-rest n/rest"
        ))
        .success()
        .json();
    assert_eq!(rows(&json).len(), 3);
}

#[test]
fn a_layout_names_moved_frames_where_they_are_now() {
    let night = four();
    let json = night
        .run(
            "survey n --out s --name x --no-report --layout --json --keep 'fwhm < 3.8 px' --move-rest out",
        )
        .success()
        .json();
    let kinds: Vec<&str> = json["outputs"]
        .as_array()
        .unwrap()
        .iter()
        .map(|o| o["kind"].as_str().unwrap())
        .collect();
    assert_eq!(kinds, ["moved frame", "layout"]);
    let c = rows(&json).iter().find(|r| name(r) == "c.fits").unwrap();
    assert_eq!(c["file"], "out/c.fits");
    let json = night
        .run("register s/x-survey.layout.json --out w --name x --json")
        .success()
        .json();
    let left: Vec<&Value> = rows(&json)
        .iter()
        .filter(|r| r["verdict"] == "left out")
        .collect();
    assert_eq!(left.len(), 1);
    assert!(left[0]["file"].as_str().unwrap().ends_with("out/c.fits"));
}

#[test]
fn table_and_files_show_what_is_asked_for() {
    let night = four();
    let run = night
        .run("survey n --out s --csv --layout --name reef --columns file,fwhm,score --sort -fwhm")
        .success();
    let order: Vec<usize> = ["c.fits", "b.fits", "a.fits"]
        .iter()
        .map(|f| run.out.find(&format!(" {f}")).unwrap())
        .collect();
    assert!(order[0] < order[1] && order[1] < order[2], "{}", run.out);
    let head = run
        .out
        .lines()
        .find(|l| l.trim_start().starts_with("file"))
        .unwrap();
    assert_eq!(
        head.split_whitespace().collect::<Vec<_>>(),
        ["file", "fwhm", "px", "score", "verdict"]
    );
    assert_eq!(
        night.files("s"),
        [
            "reef-survey.csv",
            "reef-survey.html",
            "reef-survey.layout.json"
        ]
    );
    let csv = std::fs::read_to_string(night.path("s/reef-survey.csv")).unwrap();
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(lines.len(), 5);
    assert!(
        lines[0].starts_with("file,kind,filter,")
            && lines[0].ends_with("date,verdict,reason,doubts")
    );
    assert!(lines[1].starts_with("a.fits,light,G,"));
    let columns = lines[0].split(',').count();
    assert_eq!(lines[1].split(',').count(), columns);
    let layout = std::fs::read_to_string(night.path("s/reef-survey.layout.json")).unwrap();
    let layout: Value = serde_json::from_str(&layout).unwrap();
    assert_eq!(layout["frames"].as_array().unwrap().len(), 4);
    assert_eq!(layout["frames"][0]["verdict"], "used");
    night
        .run("survey n --out s --name reef")
        .ends(1)
        .says("exists already");
}

#[test]
fn a_surveys_verdicts_and_reference_are_honoured_by_compose() {
    let night = Night::of_lines();
    night
        .run("survey ha.fits oiii.fits sii.fits --out s --name x --no-report --layout --keep 'filter != SII'")
        .success();
    let json = night
        .run("compose s/x-survey.layout.json --palette HOO --out r --name x --json")
        .success()
        .json();
    let rows = json["frames"].as_array().unwrap();
    let sii = rows.iter().find(|r| r["filter"] == "SII").unwrap();
    assert_eq!(sii["verdict"], "left out");
    assert!(
        sii["reason"]
            .as_str()
            .unwrap()
            .contains("wanted filter != SII")
    );
    assert!(
        json["reference"]["why"]
            .as_str()
            .unwrap()
            .contains("dithers")
    );
    night
        .run("compose s/x-survey.layout.json --palette SHO --out r --name y")
        .ends(1)
        .says("SII");
}

#[test]
fn a_second_run_answers_from_the_cache_until_a_frame_changes() {
    let night = four();
    let measured = |line: &str| {
        night.run(line).success().json()["measured"]
            .as_u64()
            .unwrap()
    };
    let line = "survey n --out s --no-report --json";
    assert_eq!(measured(line), 4);
    assert_eq!(measured(line), 0);
    let first = night.run(line).json();
    assert_eq!(measured(&format!("{line} --area half")), 4);
    assert_eq!(measured(&format!("{line} --no-cache")), 4);
    let again = night.run(&format!("{line} --no-cache")).json();
    assert_eq!(first["frames"], again["frames"]);
    assert_eq!(
        measured(line),
        0,
        "what the half area showed took nothing's place"
    );
    let night = night.frame("n/a.fits", frame(Filter::G, "Green").blurred(5.0));
    assert_eq!(night.run(line).json()["measured"], 1);
}

#[test]
fn an_area_is_measured_alone() {
    let night = four();
    let json = night
        .run("survey n/a.fits --out s --no-report --json --area 100,80,300,250")
        .success()
        .json();
    let row = &rows(&json)[0];
    let whole = night
        .run("survey n/a.fits --out s --no-report --json")
        .json();
    let stars = |r: &Value| r["stars"].as_f64().unwrap();
    assert!(stars(row) > 5.0 && stars(row) < 0.6 * stars(&rows(&whole)[0]));
    let fwhm = |r: &Value| r["fwhm_px"].as_f64().unwrap();
    assert!((fwhm(row) / fwhm(&rows(&whole)[0]) - 1.0).abs() < 0.05);
    let json = night
        .run("survey n/a.fits --out s --no-report --json --area 540,400,90,90")
        .success()
        .json();
    assert!(
        rows(&json)[0]["reason"]
            .as_str()
            .unwrap()
            .contains("lie in the area")
    );
}

#[test]
fn a_bad_file_is_a_row_with_its_reason_and_the_rest_goes_on() {
    let night = four()
        .file("n/text.fits", b"this is no picture\n")
        .file("n/empty.fits", b"")
        .even("n/even.fits", 500.0);
    let whole = std::fs::read(night.path("n/a.fits")).unwrap();
    let night = night.file("n/cut.fits", &whole[..whole.len() / 2]);
    let json = night.run("survey n --out s --json").success().json();
    assert_eq!(rows(&json).len(), 8);
    for (file, why) in [
        ("text.fits", "looks like a text file"),
        ("empty.fits", "the file is empty"),
        ("cut.fits", "cut short"),
        ("even.fits", "all pixels have the same value"),
    ] {
        let row = rows(&json).iter().find(|r| name(r) == file).unwrap();
        assert!(row["reason"].as_str().unwrap().contains(why), "{row}");
    }
    assert_eq!(named(&json, |r| r["verdict"] == "used").len(), 4);
    night
        .run("survey n --out s --overwrite")
        .success()
        .says("cut.fits: it cannot be read: it is cut short");
}

#[rstest]
#[case("survey n --keep 'fhwm < 3'", 2, &["'fhwm'", "Did you mean fwhm?", "There are fwhm"])]
#[case("survey n --keep 'fwhm < 3 s'", 2, &["a length in px or arcsec against a time in s"])]
#[case("survey n --keep 'fwhm <'", 2, &["is missing at column 7"])]
#[case("survey n --keep 'fwhm'", 2, &["not a condition"])]
#[case("survey n --sort fwmh", 2, &["no such column", "Did you mean fwhm?"])]
#[case("survey n --columns file,beauty", 2, &["'beauty'"])]
#[case("survey n --dry-run", 2, &["nothing to try", "--copy FOLDER"])]
#[case("survey n --area corner", 2, &["centre, half, or X,Y,W,H"])]
#[case("survey n --keep-best 200%", 2, &["90%"])]
#[case("survey n --keep-best Hx=5", 2, &["--keep-best is given for Hx", "The filters are"])]
#[case("survey n --weights beauty=2", 2, &["sharpness, roundness, transparency or quiet"])]
#[case("survey void", 1, &["there is no FITS file in 'void'", "1 files of other kinds"])]
#[case("survey 'n/*.xyz'", 1, &["there is no FITS file"])]
#[case("survey no.fits", 1, &["no file can be read", "no.fits"])]
#[case("compose 'n/a.fits' --red '2 px' --green G --blue G", 2, &["a mix has no units"])]
fn a_slip_is_told_with_the_way_out(#[case] line: &str, #[case] code: i32, #[case] says: &[&str]) {
    let night = Night::new().frame("n/a.fits", frame(Filter::G, "Green"));
    let night = night.file("void/notes.txt", b"nothing");
    let line = format!("{line} --out s");
    let mut run = night.run(&line).ends(code);
    for text in says {
        run = run.says(text);
    }
    assert!(!night.files("s").iter().any(|f| f.contains("survey.")));
    if code == 2 && !run.err.contains("Usage") && !run.err.contains("--help") {
        let json = night.run(&format!("{line} --json")).ends(code).json();
        assert!(json["error"]["message"].is_string() && json["error"]["hint"].is_string());
    }
}

#[test]
fn hundreds_of_files_need_few_handles_and_little_memory() {
    let night = Night::new().frame("one.fits", frame(Filter::G, "Green").sized(96, 80));
    std::fs::create_dir(night.path("many")).unwrap();
    for i in 0..400 {
        let to = night.path(&format!("many/{i:03}.fits"));
        std::fs::copy(night.path("one.fits"), to).unwrap();
    }
    // No more than forty files may be open at once.
    let output = std::process::Command::new("sh")
        .arg("-c")
        .arg("ulimit -n 40; exec \"$0\" survey many --out s --json")
        .arg(assert_cmd::cargo::cargo_bin("jigsawa"))
        .current_dir(night.path(""))
        .output()
        .unwrap();
    let json: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(rows(&json).len(), 400);
    let unread = named(&json, |r| {
        r["reason"]
            .as_str()
            .is_some_and(|w| w.contains("cannot be read"))
    });
    assert!(unread.is_empty(), "{unread:?}");
}
