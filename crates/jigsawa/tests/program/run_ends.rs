//! How runs end: two at once, killed, watched.

use std::time::{Duration, Instant};

use crate::run::{masters, results, same};

#[test]
fn two_runs_at_once_do_not_meet() {
    let night = masters();
    std::fs::create_dir(night.path("result")).unwrap();
    let lock = std::fs::File::create(night.path("result/.jigsawa-run.lock")).unwrap();
    lock.lock().unwrap();
    night
        .run("run masters --palettes SHO")
        .ends(1)
        .says("another run is under way");
    lock.unlock().unwrap();
    night.run("run masters --palettes SHO").success();
}

/// Killed at any moment, the next run goes on, and ends as one that nobody has disturbed. `JIGSAWA_KILLS` takes more.
#[test]
fn killed_at_any_moment_the_results_are_those_of_a_calm_run() {
    let kills: u32 = std::env::var("JIGSAWA_KILLS").map_or(4, |v| v.parse().unwrap());
    let night = masters();
    let began = Instant::now();
    night
        .run("run masters --palettes SHO,HOO --out calm")
        .success();
    let whole = began.elapsed();
    let calm = results(&night.path("calm"));
    std::fs::remove_dir_all(night.path("calm")).unwrap();
    for k in 0..kills {
        let part = (f64::from(k) * 0.618_033_989 + 0.3).fract();
        let mut child = std::process::Command::new(assert_cmd::cargo::cargo_bin!("jigsawa"))
            .args([
                "run",
                "masters",
                "--palettes",
                "SHO,HOO",
                "--out",
                "calm",
                "--quiet",
            ])
            .current_dir(night.path("."))
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_secs_f64(part * whole.as_secs_f64()));
        child.kill().unwrap();
        child.wait().unwrap();
        if k % 2 == 1 || k + 1 == kills {
            night
                .run("run masters --palettes SHO,HOO --out calm")
                .success();
            same(&calm, &results(&night.path("calm")));
            std::fs::remove_dir_all(night.path("calm")).unwrap();
        }
    }
}

#[test]
fn watching_brings_results_up_to_date_as_frames_come_and_ends_when_none_does() {
    let night = masters();
    std::fs::create_dir(night.path("tonight")).unwrap();
    let bring = |name: &str| {
        let to = night.path("tonight").join(name);
        std::fs::copy(night.path("masters").join(name), to).unwrap();
    };
    bring("ha.fits");
    let child = std::process::Command::new(assert_cmd::cargo::cargo_bin!("jigsawa"))
        .args([
            "run", "tonight", "--watch", "--every", "0.2", "--idle", "0.05", "--json",
        ])
        .current_dir(night.path("."))
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let picture = |part: &str| night.files("result").iter().any(|f| f.ends_with(part));
    let wait_for = |part: &str| {
        let began = Instant::now();
        while !picture(part) {
            assert!(began.elapsed() < Duration::from_mins(1), "no {part}");
            std::thread::sleep(Duration::from_millis(50));
        }
    };
    wait_for("-Ha-finished.png");
    bring("oiii.fits");
    wait_for("-HOO-finished.png");
    let watched = std::fs::read_to_string(night.path("result/index.html")).unwrap();
    assert!(watched.contains("location.reload"));
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success());
    assert!(picture("index.html"));
}
