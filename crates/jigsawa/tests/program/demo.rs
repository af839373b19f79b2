//! `jigsawa demo`: the whole example, on frames that it makes itself.

use crate::night::Night;

#[test]
fn the_demo_runs_and_says_what_to_open() {
    let night = Night::new();
    let run = night
        .run("demo d")
        .success()
        .says("Open these:")
        .says("$ jigsawa compose");
    assert!(run.err.is_empty(), "{}", run.err);
    assert_eq!(night.files("d/frames").len(), 7);
    let results = night.files("d/result");
    for name in [
        "reef-SHO.png",
        "reef-SHO.fits",
        "reef-mix.png",
        "reef-mix.tif",
    ] {
        assert!(results.contains(&name.to_owned()), "{results:?}");
    }
    // A second demo would replace the first: only when asked.
    night
        .run("demo d --data-only")
        .ends(1)
        .says("exist already");
    let json = night
        .run("demo d --data-only --overwrite --json")
        .success()
        .json();
    assert_eq!(json["outputs"].as_array().unwrap().len(), 6);
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
