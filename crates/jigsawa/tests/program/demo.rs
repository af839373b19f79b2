//! `jigsawa demo`: the whole example, on frames that it makes itself.

use std::sync::OnceLock;

use crate::night::{Night, Run};

/// The demo, run once for all tests that look at it: in the folder `d`.
pub fn demo() -> &'static (Night, Run) {
    static DEMO: OnceLock<(Night, Run)> = OnceLock::new();
    DEMO.get_or_init(|| {
        let night = Night::new();
        let run = night.run("demo d --all");
        (night, run)
    })
}

#[test]
fn the_demo_runs_and_says_what_to_open() {
    let (night, run) = demo();
    assert_eq!(run.status, Some(0), "{}\n{}", run.out, run.err);
    for text in [
        "Open these:",
        "$ jigsawa survey",
        "$ jigsawa compose",
        "$ jigsawa hdr",
        "$ jigsawa mosaic",
    ] {
        assert!(run.out.contains(text), "{}", run.out);
    }
    assert!(run.err.is_empty(), "{}", run.err);
    assert_eq!(night.files("d/frames").len(), 8);
    assert_eq!(night.files("d/raw").len(), 107);
    assert_eq!(night.files("d/night").len(), 37);
    assert_eq!(night.files("d/heart").len(), 7);
    assert_eq!(night.files("d/panels").len(), 9);
    assert_eq!(night.files("d/vane").len(), 5);
    let results = night.files("d/result");
    for name in [
        "lights-calibrate.html",
        "lights-placed-register.html",
        "lights-Ha-master.fits",
        "lights-RGB-master-map.fits",
        "lights-stack.html",
        "night-R-master.fits",
        "reef-survey.html",
        "reef-survey.layout.json",
        "reef-variants.png",
        "reef-variants.html",
        "reef-lantern.fits",
        "reef-lantern-finished.png",
        "reef-lantern-finish.html",
        "reef-RGB.fits",
        "reef-RGB-finished.tif",
        "heart-Ha-hdr.fits",
        "heart-OIII-hdr-map.fits",
        "heart-hdr.html",
        "heart-HOO.png",
        "wide-Ha-mosaic.fits",
        "wide-mosaic.html",
        "wide-mosaic-plan.svg",
        "wide-HOO-finished.png",
    ] {
        assert!(results.contains(&name.to_owned()), "{results:?}");
    }
    // A second demo would replace the first: only when asked.
    night
        .run("demo d --data-only")
        .ends(1)
        .says("exist already");
    let truth = std::fs::read_to_string(night.path("d/frames/truth.json")).unwrap();
    let truth: serde_json::Value = serde_json::from_str(&truth).unwrap();
    assert_eq!(truth["frames"]["reef_G.fits"]["filter"], "G");
    assert!(
        truth["frames"]["reef_Ha.fits"]["stars"]
            .as_array()
            .unwrap()
            .len()
            > 1000
    );
}

#[test]
fn the_demos_data_are_told_as_json() {
    let json = Night::new()
        .run("demo d --data-only --json")
        .success()
        .json();
    assert_eq!(json["outputs"].as_array().unwrap().len(), 6);
}
