//! Every opening, writing and renaming fails in its turn: a run then ends with an error in words or goes on without what
//! failed, never with a signal or a panic; what has its final name is whole, and what was read is untouched.
//!
//! The layer that lets calls fail is `faults.c`, loaded before the C library; on Linux only. A few turns of each kind are
//! tried; with `JIGSAWA_FAULT_POINTS=all`, all.
#![cfg(target_os = "linux")]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;
use std::time::Instant;

use jigsawa_core::filter::Filter;
use rstest::rstest;

use crate::night::{Night, frame};

const KINDS: [&str; 3] = ["open", "write", "rename"];

/// Turns of a kind that are tried where nothing else is asked for.
const POINTS: usize = 3;

/// The compiled layer.
fn layer() -> &'static Path {
    static LAYER: OnceLock<(tempfile::TempDir, PathBuf)> = OnceLock::new();
    let (_, path) = LAYER.get_or_init(|| {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("faults.so");
        let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/program/faults.c");
        let made = Command::new("cc")
            .args(["-shared", "-fPIC", "-O1", "-o"])
            .args([&path, &source])
            .arg("-ldl")
            .status()
            .unwrap();
        assert!(made.success());
        (dir, path)
    });
    path
}

/// Small frames, read only by what is tried.
fn scene() -> Night {
    let small = |filter, card| frame(filter, card).sized(360, 280);
    Night::new()
        .frame("n/ha.fits", small(Filter::Ha, "Ha"))
        .frame("n/r.fits", small(Filter::R, "R").shifted(3.0, 2.0))
        .frame("n/s.fits", small(Filter::Ha, "Ha").called(30.0).hazy(0.1))
        .frame("n/b.fits", small(Filter::R, "R").shifted(200.0, 0.0))
}

/// All files below a folder and what is in them; links and names of what is unfinished, too.
fn contents(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(&next).into_iter().flatten().flatten() {
            let path = entry.path();
            let name = path.strip_prefix(folder).unwrap().display().to_string();
            if path.is_dir() {
                open.push(path);
            } else if !name.contains(".jigsawa-cache/") || name.contains(".part") {
                found.insert(name, fs::read(path).unwrap());
            }
        }
    }
    found
}

struct Ended {
    status: Option<i32>,
    err: String,
    calls: usize,
}

fn run(night: &Night, line: &str, kind: &str, at: Option<usize>) -> Ended {
    let count = tempfile::NamedTempFile::new().unwrap();
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("jigsawa"));
    command
        .args(line.split_whitespace())
        .current_dir(night.path(""))
        .env("LD_PRELOAD", layer())
        .env("FAULT_KIND", kind)
        .env("FAULT_IN", night.path(""))
        .env("FAULT_COUNT", count.path());
    if let Some(at) = at {
        command.env("FAULT_AT", at.to_string());
    }
    let output = command.output().unwrap();
    Ended {
        status: output.status.code(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
        calls: fs::read_to_string(count.path())
            .unwrap()
            .parse()
            .unwrap_or(0),
    }
}

/// The turns to be tried of so many calls.
fn turns(calls: usize) -> Vec<usize> {
    let all = std::env::var("JIGSAWA_FAULT_POINTS").is_ok_and(|p| p == "all");
    let points = if all { calls } else { POINTS.min(calls) };
    (0..points).map(|i| 1 + i * calls / points).collect()
}

/// Is a file that has its final name whole?
fn whole(name: &str, bytes: &[u8], clean: &BTreeMap<String, Vec<u8>>) -> bool {
    match name.rsplit('.').next() {
        // Pages and layouts say what was left out or how long it took.
        Some("html") => bytes.trim_ascii_end().ends_with(b"</html>"),
        Some("json") => serde_json::from_slice::<serde_json::Value>(bytes).is_ok(),
        _ => clean.get(name).is_some_and(|c| c == bytes),
    }
}

#[test]
fn masters_that_were_done_before_a_stop_are_not_made_again() {
    let night = scene();
    let line = "stack n --exposures together --out o --name x -v";
    let plain = run(&night, line, "write", None);
    let clean = contents(&night.path("o"));
    fs::remove_dir_all(night.path("o")).unwrap();
    let stopped = run(&night, line, "write", Some(plain.calls));
    assert_eq!(stopped.status, Some(1), "{}", stopped.err);
    let again = run(&night, line, "none", None);
    let said = |filter: &str| {
        again
            .err
            .contains(&format!("the master of {filter} was done already"))
    };
    assert!(said("R") && !said("Ha"), "{}", again.err);
    for (name, bytes) in contents(&night.path("o")) {
        assert!(whole(&name, &bytes, &clean), "{name} is another one");
    }
    let kept = fs::read_dir(night.path("o/.jigsawa-cache"))
        .unwrap()
        .flatten();
    let kept = kept.filter(|e| e.path().extension().is_some_and(|e| e != "stars"));
    assert_eq!(kept.count(), 0, "what is not needed any more is gone");
    // Other settings are another master.
    let other = run(
        &night,
        &format!("{line} --reject none --overwrite"),
        "none",
        None,
    );
    assert!(!other.err.contains("was done already"), "{}", other.err);
}

#[rstest]
#[case::survey("survey n --out o --name x --csv --layout")]
#[case::calibrate("calibrate n --out o --name x --write-frames o/clean")]
#[case::register("register n/ha.fits n/r.fits --out o --name x --write-frames o/placed")]
#[case::normalize("normalize n/ha.fits n/s.fits --out o --name x --write-surfaces o/s")]
#[case::compose("compose n/ha.fits n/r.fits --red Ha --green R --blue R --out o --name x")]
#[case::stack("stack n/ha.fits n/s.fits --exposures together --out o --name x")]
#[case::hdr("hdr n/ha.fits n/s.fits --out o --name x --linear-only --sigma --exr")]
#[case::mosaic("mosaic n/r.fits n/b.fits --out o --name x")]
#[case::finish(
    "finish n/ha.fits --out o --out o/a.jpg --out o/a.exr --stars-file o/stars.fits --stars 50%"
)]
#[case::run("run n/ha.fits n/r.fits --out o --name x")]
#[case::stars("stars n/ha.fits --out o")]
#[case::show("show n/ha.fits n/r.fits --flip 2 --out o")]
fn whatever_fails_nothing_is_half_written_and_nothing_read_is_touched(#[case] line: &str) {
    let night = scene();
    let inputs = contents(&night.path("n"));
    let clear = || fs::remove_dir_all(night.path("o")).unwrap_or_default();
    let plain = run(&night, line, "none", None);
    assert_eq!(plain.status, Some(0), "{}", plain.err);
    let clean = contents(&night.path("o"));
    for kind in KINDS {
        clear();
        let calls = run(&night, line, kind, None).calls;
        assert!(calls > 0, "no {kind} is seen in {line}");
        for at in turns(calls) {
            clear();
            let ended = run(&night, line, kind, Some(at));
            let what = format!(
                "{line}: {kind} {at} of {calls}: {:?}\n{}",
                ended.status, ended.err
            );
            assert!(matches!(ended.status, Some(0 | 1)), "{what}");
            assert!(!ended.err.contains("panicked"), "{what}");
            assert!(
                ended.status == Some(0) || ended.err.contains("jigsawa: "),
                "{what}"
            );
            assert!(
                contents(&night.path("n")) == inputs,
                "an input has changed: {what}"
            );
            let left = contents(&night.path("o"));
            for (name, bytes) in &left {
                assert!(!name.contains(".part"), "{name} is left: {what}");
                // A survey goes on without a frame that cannot be opened, and says so in all that it writes.
                assert!(
                    line.starts_with("survey") || whole(name, bytes, &clean),
                    "{name}: {what}"
                );
            }
            if ended.status == Some(0) {
                assert!(clean.keys().all(|name| left.contains_key(name)), "{what}");
            }
        }
    }
    killed(&night, line, &inputs, &clean);
}

/// Killed at any moment (`JIGSAWA_KILLS` times; once where nothing is asked for), a command leaves what it read as it was and
/// nothing half-written under a final name, and the next run works and clears away what is left.
fn killed(
    night: &Night,
    line: &str,
    inputs: &BTreeMap<String, Vec<u8>>,
    clean: &BTreeMap<String, Vec<u8>>,
) {
    let kills: u32 = std::env::var("JIGSAWA_KILLS").map_or(1, |v| v.parse().unwrap());
    let clear = || fs::remove_dir_all(night.path("o")).unwrap_or_default();
    clear();
    let began = Instant::now();
    night.run(line).success();
    let calm = began.elapsed();
    let first: u32 = line.bytes().map(u32::from).sum();
    for k in 0..kills {
        clear();
        let part = (f64::from(first + k) * 0.618_033_989).fract();
        let mut child = Command::new(assert_cmd::cargo::cargo_bin!("jigsawa"))
            .args(line.split_whitespace())
            .arg("--quiet")
            .current_dir(night.path(""))
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(calm.mul_f64(part));
        child.kill().unwrap();
        child.wait().unwrap();
        let what = format!("{line}: killed after {:.0} % of its time", 100.0 * part);
        assert!(
            contents(&night.path("n")) == *inputs,
            "an input has changed: {what}"
        );
        let half = |name: &str| name.contains(".part");
        for (name, bytes) in contents(&night.path("o")) {
            let own = name.contains(".lock") || half(&name);
            assert!(own || whole(&name, &bytes, clean), "{name}: {what}");
        }
        night.run(&format!("{line} --overwrite")).success();
        let left = contents(&night.path("o"));
        assert!(!left.keys().any(|name| half(name)), "{left:?}: {what}");
        assert!(clean.keys().all(|name| left.contains_key(name)), "{what}");
    }
}

#[test]
fn whatever_fails_while_originals_are_moved_none_is_lost_and_the_next_run_goes_on() {
    let line =
        "survey n --out o --name x --no-report --overwrite --move-rest rest --keep exposure>100s";
    let first = scene();
    let originals = contents(&first.path("n"));
    for kind in KINDS {
        let calls = run(&first, line, kind, None).calls;
        for at in turns(calls) {
            let night = scene();
            let ended = run(&night, line, kind, Some(at));
            let what = format!("{kind} {at} of {calls}: {:?}\n{}", ended.status, ended.err);
            assert!(
                matches!(ended.status, Some(0 | 1)) && !ended.err.contains("panicked"),
                "{what}"
            );
            let again = run(&night, line, "none", None);
            assert_eq!(again.status, Some(0), "{what}\nand then\n{}", again.err);
            let (here, there) = (contents(&night.path("n")), contents(&night.path("rest")));
            for (name, bytes) in &originals {
                let copies = [here.get(name), there.get(name)];
                let found: Vec<_> = copies.into_iter().flatten().collect();
                assert!(found.len() == 1 && found[0] == bytes, "{name}: {what}");
            }
            assert!(
                there.keys().all(|name| !name.starts_with('.')),
                "{there:?}: {what}"
            );
        }
    }
}
