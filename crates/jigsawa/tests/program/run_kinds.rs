//! What a run takes the files of a folder for.

use jigsawa_core::filter::Filter;

use crate::calibrate_odd::untold;
use crate::night::{Night, frame, heart};
use crate::run::{count, steps};

#[test]
fn exposures_and_panels_are_recognised() {
    let night = Night::new()
        .frame("h/ha300.fits", heart(Filter::Ha, "Ha", 300.0))
        .frame("h/ha10.fits", heart(Filter::Ha, "Ha", 10.0))
        .frame("h/o300.fits", heart(Filter::Oiii, "OIII", 300.0))
        .frame("h/o10.fits", heart(Filter::Oiii, "OIII", 10.0));
    let account = night.run("run h --out hearts --json").success().json();
    let names: Vec<String> = steps(&account).into_iter().map(|s| s.0).collect();
    assert_eq!(names, ["hdr", "compose HOO", "finish HOO"]);
    let panels = Night::new()
        .frame("p/left_ha.fits", frame(Filter::Ha, "Ha"))
        .frame(
            "p/right_ha.fits",
            frame(Filter::Ha, "Ha").shifted(250.0, 0.0).again(3),
        )
        .frame("p/left_r.fits", frame(Filter::R, "R").again(5))
        .frame(
            "p/right_r.fits",
            frame(Filter::R, "R").shifted(250.0, 0.0).again(7),
        );
    let account = panels.run("run p --out field --json").success().json();
    let names: Vec<String> = steps(&account).into_iter().map(|s| s.0).collect();
    // No palette can be made of these: each filter is finished in grey.
    assert_eq!(names, ["mosaic", "finish Ha", "finish R"], "{account:#}");
    assert!(
        panels
            .files("field")
            .iter()
            .any(|f| f.ends_with("-R-finished.png"))
    );
}

#[test]
fn a_few_calibrated_frames_without_cards_are_one_field_by_their_stars() {
    let night = Night::new()
        .frame("c/a.fits", frame(Filter::Ha, "Ha"))
        .frame(
            "c/b.fits",
            frame(Filter::Ha, "Ha").shifted(9.0, -4.0).again(3),
        )
        .frame(
            "c/c.fits",
            frame(Filter::Ha, "Ha").shifted(-6.0, 7.0).again(5),
        )
        .frame(
            "c/d.fits",
            frame(Filter::Ha, "Ha").shifted(3.0, 2.0).again(7),
        );
    let check = night.run("check c --json").success().json();
    assert!(
        check["doubts"]
            .to_string()
            .contains("their stars will tell"),
        "{check:#}"
    );
    let account = night.run("run c --json").success().json();
    let names: Vec<String> = steps(&account).into_iter().map(|s| s.0).collect();
    assert_eq!(names, ["stack", "finish Ha"], "{account:#}");
    let decided = account["decided"].to_string();
    assert!(decided.contains("by their stars they lie on each other"));
    // What was seen is known from now on.
    let check = night.run("check c --json").success().json();
    assert_eq!(count(&check, "done-before"), 2, "{check:#}");
}

#[test]
fn filters_and_frames_are_named_by_patterns() {
    let night = Night::new()
        .frame("m/one.fits", frame(Filter::Ha, "L-eXtreme"))
        .frame("m/two.fits", frame(Filter::Oiii, "Slot 4").again(3))
        .file(
            "reef.toml",
            b"format = 1\nname = 'reef'\nframes = ['m/*.fits']\nout = 'made'\npalettes = ['HOO']\n[filters]\nHa = 'one'\nOIII = ['tw*']\n",
        );
    let account = night.run("run reef.toml --json").success().json();
    assert_eq!(count(&account, "done"), 2);
    assert!(night.path("made/reef-HOO-finished.png").exists());
    let text = std::fs::read_to_string(night.path("reef.toml")).unwrap();
    std::fs::write(night.path("reef.toml"), text.replace("tw*", "three")).unwrap();
    night
        .run("run reef.toml")
        .ends(2)
        .says("[filters] names 'three'");
    // What has vanished is said.
    std::fs::remove_dir_all(night.path("m")).unwrap();
    night.run("run reef.toml").ends(1).says("m/*.fits");
}

#[test]
fn lights_of_panels_are_stacked_apart_and_joined() {
    let mut night = Night::new();
    for (panel, shift) in [("1", 0.0), ("2", 260.0)] {
        for (filter, card) in [(Filter::Ha, "Ha"), (Filter::Oiii, "OIII")] {
            for k in 0..3u8 {
                let name = format!("p/{card}_{panel}_{k}.fits");
                let (dx, dy) = (f64::from(k) * 4.0, f64::from(k) * -3.0);
                let light = frame(filter.clone(), card)
                    .shifted(shift + dx, dy)
                    .again(11 + u64::from(k))
                    .with(&format!("OBJECT  = 'Lantern Reef Panel {panel}'"));
                night = night.frame(&name, light);
            }
        }
    }
    let night = night.file(
        "reef.toml",
        b"format = 1\nframes = ['p']\nout = 'result'\n[stack.for.Ha]\nreject = 'extremes'\n[stack.for.2]\nreject = 'none'\n\
          [stack.for.SII]\nreject = 'sigma'\n",
    );
    let account = night.run("run reef.toml --json").success().json();
    let names: Vec<String> = steps(&account).into_iter().map(|s| s.0).collect();
    assert!(
        account
            .to_string()
            .contains("[stack.for.SII] has no effect"),
        "{account:#}"
    );
    let rule = |panel: &str, filter: &str| {
        let file = format!("result/Lantern-Reef-{panel}-{filter}-master.fits");
        let bytes = std::fs::read(night.path(&file)).unwrap();
        let cards = String::from_utf8_lossy(&bytes[..20_000]).into_owned();
        let rule = cards.split_once("rejection ").unwrap().1;
        rule.split(' ').next().unwrap().to_owned()
    };
    assert_eq!(rule("1", "Ha"), "extremes");
    assert_eq!(rule("1", "OIII"), "noise");
    assert_eq!(
        (rule("2", "Ha"), rule("2", "OIII")),
        ("extremes".to_owned(), "none".to_owned())
    );
    assert_eq!(
        names,
        ["stack 1", "stack 2", "mosaic", "compose HOO", "finish HOO"],
        "{account:#}"
    );
    assert!(night.path("result/Lantern-Reef-HOO-finished.png").exists());
    let joined = night.path("result/Lantern-Reef-Ha-mosaic.fits");
    let size = crate::night::plane(&joined, 0).size();
    let one = crate::night::plane(&night.path("result/Lantern-Reef-1-Ha-master.fits"), 0).size();
    assert!(size.width() > one.width() + 200, "{size:?} {one:?}");
}

#[test]
fn a_raw_night_without_cards_and_names_is_seen_by_its_pixels() {
    let night = untold();
    let check = night
        .run("check raw --target 'Lantern Reef' --json")
        .success()
        .json();
    assert_eq!(steps(&check)[0].0, "calibrate", "{check:#}");
    let decided = check["decided"].to_string();
    assert!(decided.contains("7 raw lights, 30 frames"), "{decided}");
}
