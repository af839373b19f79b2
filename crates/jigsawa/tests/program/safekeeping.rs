//! What a run never does to files: write over one that it reads, count one twice, believe an old measure of a new one, run
//! out of handles, leave something behind.

use std::fs;
use std::path::Path;
use std::time::Duration;

use jigsawa_core::filter::Filter;
use rstest::rstest;

use crate::hostile::{pair, zipped};
use crate::night::{Night, frame, plane};

#[rstest]
#[case::finish_over_its_input("finish ha.fits --out ha.fits --overwrite")]
#[case::finish_by_another_spelling("finish ha.fits --out ./../NIGHT/ha.fits --overwrite")]
#[case::finish_over_a_link("finish ha.fits --out link.fits --overwrite")]
#[case::finish_s_stars("finish ha.fits --out o --stars-file ha.fits --overwrite")]
#[case::compose(
    "compose ha.fits x-mix.fits --red Ha --green R --blue R --out . --name x --overwrite"
)]
#[case::hdr("hdr long.fits x-Ha-hdr.fits --out . --name x --overwrite")]
#[case::stars("stars x-stars.fits --out . --name x --overwrite")]
#[case::placed_frames("register ha.fits long.fits --out o --write-frames . --overwrite")]
fn no_output_is_ever_an_input(#[case] line: &str) {
    let night = Night::new()
        .frame("ha.fits", frame(Filter::Ha, "Ha"))
        .frame("x-mix.fits", frame(Filter::R, "R"))
        .frame("long.fits", frame(Filter::Ha, "Ha").shifted(1.0, 0.0))
        .frame("x-Ha-hdr.fits", frame(Filter::Ha, "Ha").called(30.0))
        .frame("x-stars.fits", frame(Filter::Ha, "Ha"));
    let folder = night
        .path("")
        .file_name()
        .unwrap()
        .to_string_lossy()
        .into_owned();
    let line = line.replace("NIGHT", &folder);
    #[cfg(unix)]
    std::os::unix::fs::symlink("ha.fits", night.path("link.fits")).unwrap();
    let inputs = [
        "ha.fits",
        "x-mix.fits",
        "long.fits",
        "x-Ha-hdr.fits",
        "x-stars.fits",
    ];
    let before: Vec<Vec<u8>> = inputs.map(|f| fs::read(night.path(f)).unwrap()).to_vec();
    night
        .run(&line)
        .ends(2)
        .says("is read by this command")
        .says("An input is never written over");
    for (name, bytes) in inputs.iter().zip(before) {
        assert!(fs::read(night.path(name)).unwrap() == bytes, "{name}");
    }
}

#[test]
fn the_same_frame_under_two_names_counts_once_and_is_said() {
    let night = Night::new()
        .frame("a.fits", frame(Filter::Ha, "Ha"))
        .frame(
            "b.fits",
            frame(Filter::Ha, "Ha")
                .shifted(2.0, 3.0)
                .called(30.0)
                .hazy(0.1),
        )
        .frame("r.fits", frame(Filter::R, "R"));
    fs::copy(night.path("a.fits"), night.path("copy.fits")).unwrap();
    #[cfg(unix)]
    std::os::unix::fs::symlink("a.fits", night.path("link.fits")).unwrap();
    let alone = night
        .run("hdr a.fits b.fits --out one --name x --linear-only --no-report --sigma --json")
        .success();
    let json = night
        .run("hdr a.fits ./a.fits copy.fits link.fits b.fits --out two --name x --linear-only --no-report --sigma --json")
        .success()
        .json();
    let reasons: Vec<&str> = json["frames"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|f| f["reason"].as_str())
        .collect();
    assert_eq!(
        reasons,
        ["it is the same frame as 'a.fits', whose light counts once"; 3]
    );
    let error = |folder: &str| plane(&night.path(&format!("{folder}/x-Ha-hdr-sigma.fits")), 0);
    let bits = |p: jigsawa_core::plane::Plane| -> Vec<u32> {
        p.data().iter().map(|v| v.to_bits()).collect()
    };
    assert!(bits(error("one")) == bits(error("two")), "{}", alone.out);
    night
        .run("hdr a.fits copy.fits --out three --name x")
        .ends(1)
        .says("'copy.fits' is left out: it is the same frame as 'a.fits'")
        .says("Give two or more exposures");
    // A survey counts it once, too; a layout does not take it a second time.
    let json = night
        .run("survey a.fits copy.fits r.fits --out s --no-report --json")
        .success()
        .json();
    let left: Vec<&str> = json["frames"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|f| f["reason"].as_str())
        .collect();
    assert_eq!(
        left,
        ["it is the same frame as 'a.fits', whose light counts once"]
    );
    night
        .run("register a.fits r.fits --out w --name x")
        .success();
    night
        .run("register copy.fits --into w/x.layout.json")
        .ends(2)
        .says("'copy.fits' stands in the layout 'w/x.layout.json' already, as 'a.fits'");
}

#[test]
fn a_frame_that_was_made_anew_within_its_old_time_is_measured_anew() {
    let night = pair();
    night
        .run("register ha.fits r.fits --reference ha.fits --out w --name x --json")
        .success();
    let time = fs::metadata(night.path("r.fits"))
        .unwrap()
        .modified()
        .unwrap();
    let night = night.frame("r.fits", frame(Filter::R, "R").shifted(25.0, 2.0));
    let file = fs::File::options()
        .write(true)
        .open(night.path("r.fits"))
        .unwrap();
    file.set_modified(time).unwrap();
    let json = night
        .run("register ha.fits r.fits --reference ha.fits --out w --name x --overwrite --json")
        .success()
        .json();
    let shift = json["frames"][1]["placement"]["shift"][0].as_f64().unwrap();
    assert!((shift + 25.0).abs() < 0.2, "{shift}");
}

#[cfg(target_os = "linux")]
#[rstest]
#[case::plain("fits")]
#[case::packed_as_a_whole("fits.gz")]
fn any_number_of_frames_works_within_the_limit_of_open_files(#[case] ending: &str) {
    let night = Night::new();
    let first = frame(Filter::Ha, "Ha").sized(200, 160);
    let mut night = night.frame("n/0.fits", first);
    let pixels = fs::read(night.path("n/0.fits")).unwrap();
    for i in 1..140 {
        // Another byte in the header's padding: no two are the same file.
        let mut bytes = pixels.clone();
        let records = bytes
            .chunks(80)
            .position(|r| r.starts_with(b"END "))
            .unwrap();
        let card = format!("{:<80}", format!("COMMENT {i}"));
        let end = records * 80;
        bytes.copy_within(end..end + 80, end + 80);
        bytes[end..end + 80].copy_from_slice(card.as_bytes());
        if ending.ends_with("gz") {
            bytes = zipped(&bytes);
        }
        night = night.file(&format!("n/{i}.{ending}"), &bytes);
    }
    let words = "register n/* --out w --name x --write-frames placed --no-report --json";
    let script = format!("ulimit -n 64 && exec \"$0\" {words}");
    let run = night.shell(&script).success();
    assert_eq!(run.json()["frames"].as_array().unwrap().len(), 140);
    assert_eq!(night.files("placed").len(), 140);
}

#[cfg(target_os = "linux")]
#[test]
fn limits_and_full_disks_are_errors_with_words() {
    let night = pair();
    // A file may not grow beyond 100 blocks of a kilobyte.
    let run = night.shell("ulimit -f 100 && exec \"$0\" compose ha.fits r.fits --red Ha --green R --blue R --out o --name x --no-cache");
    let run = run.ends(1).says("cannot be written");
    assert!(!run.err.contains("panicked"), "{}", run.err);
    assert_eq!(night.files("o"), Vec::<String>::new());
    night
        .shell("exec \"$0\" survey ha.fits --out s --no-report --json > /dev/full")
        .ends(1)
        .says("cannot be printed on standard output");
    // A reader that has seen enough is no error; nobody may listen to errors either.
    night.shell("\"$0\" survey ha.fits r.fits --out s --no-report --json | head -1 > /dev/null; test ${PIPESTATUS[0]} = 0").success();
    night
        .shell("exec \"$0\" finish nothing.fits 2> /dev/full")
        .ends(1);
    let run = night
        .run("survey . --out s --no-report --threads 3000")
        .success();
    run.says("as more do not help");
}

#[cfg(unix)]
#[test]
fn a_name_that_is_no_text_is_kept_in_a_layout() {
    use std::os::unix::ffi::OsStrExt;
    let night = pair();
    let name = std::ffi::OsStr::from_bytes(b"ha\xff.fits");
    if fs::rename(night.path("ha.fits"), night.path("").join(name)).is_err() {
        return; // This file system takes text only.
    }
    night
        .shell("exec \"$0\" register *.fits --out w --name x")
        .success();
    let layout = fs::read_to_string(night.path("w/x.layout.json")).unwrap();
    assert!(layout.contains("file:../ha%FF.fits"), "{layout}");
    night
        .run("compose w/x.layout.json --red Ha --green R --blue R --out c --name x --linear-only")
        .success();
}

#[test]
fn long_names_become_short_ones_and_too_long_ones_are_refused_first() {
    let object = format!("OBJECT  = '{}'", "Reef ".repeat(13));
    let night = Night::new().frame("a.fits", frame(Filter::Ha, "Ha").with(&object));
    night.run("survey a.fits --out s").success();
    assert!(night.files("s").iter().all(|f| f.len() < 100));
    let name = "x".repeat(240);
    night
        .run_words(&["survey", "a.fits", "--out", "t", "--name", &name])
        .ends(2)
        .says("cannot be part of a file's name");
    assert!(night.files("t").is_empty());
}

#[test]
fn what_a_killed_run_has_left_is_removed_by_the_next_and_a_stopped_one_leaves_nothing() {
    let night = pair();
    let tmp = tempfile::tempdir().unwrap();
    let left = night.path("o/.x-mix.fits.jigsawa-0123456789.part");
    let scratch = tmp.path().join("jigsawa-scratch-dead");
    let night = night.file("o/.x-mix.fits.jigsawa-0123456789.part", b"half");
    fs::create_dir(&scratch).unwrap();
    fs::write(scratch.join("lock"), "").unwrap();
    let words = [
        "compose",
        "ha.fits",
        "r.fits",
        "--red",
        "Ha",
        "--green",
        "R",
        "--blue",
        "R",
        "--out",
        "o",
        "--name",
        "x",
        "--no-cache",
    ];
    night
        .run_with(&words, |c| c.env("TMPDIR", tmp.path()))
        .success();
    assert!(!left.exists() && !scratch.exists());
    assert_eq!(fs::read_dir(tmp.path()).unwrap().count(), 0);
}

#[cfg(unix)]
#[test]
fn a_run_that_is_interrupted_leaves_no_file_and_no_folder() {
    let night = pair();
    let tmp = tempfile::tempdir().unwrap();
    for wait in [5, 30, 80, 150] {
        let mut child = std::process::Command::new(assert_cmd::cargo::cargo_bin!("jigsawa"))
            .args([
                "compose", "ha.fits", "r.fits", "--red", "Ha", "--green", "R", "--blue", "R",
                "--out", "o",
            ])
            .args(["--name", "x", "--no-cache", "--overwrite", "-q"])
            .current_dir(night.path(""))
            .env("TMPDIR", tmp.path())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        let _ = std::process::Command::new("kill")
            .args(["-INT", &child.id().to_string()])
            .status();
        child.wait().unwrap();
        let hidden = |p: &Path| {
            fs::read_dir(p)
                .into_iter()
                .flatten()
                .flatten()
                .filter(|e| e.file_name().to_string_lossy().contains("jigsawa-"))
                .count()
        };
        assert_eq!(
            (hidden(tmp.path()), hidden(&night.path("o"))),
            (0, 0),
            "after {wait} ms"
        );
    }
}
