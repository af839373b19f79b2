//! `jigsawa run` and `check`: from folders to pictures, again and after a change.

use std::collections::BTreeMap;
use std::path::Path;

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::Kind;
use serde_json::Value;

use crate::calibrate::{Told, small, written};
use crate::night::{Night, frame};

/// The states of the steps of an account.
pub fn steps(account: &Value) -> Vec<(String, String)> {
    let rows = account["steps"].as_array().unwrap();
    let text = |v: &Value| v.as_str().unwrap().to_owned();
    rows.iter()
        .map(|s| (text(&s["step"]), text(&s["state"])))
        .collect()
}

/// How many steps are in a state.
pub fn count(account: &Value, state: &str) -> usize {
    steps(account).iter().filter(|s| s.1 == state).count()
}

/// The bytes of results: pictures and linear ones, and the recipe. Pages tell how long things took.
pub fn results(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let wanted = ["fits", "png", "tif", "toml"];
        if path
            .extension()
            .is_some_and(|e| wanted.iter().any(|w| e == *w))
        {
            all.insert(name, std::fs::read(&path).unwrap());
        }
    }
    all
}

#[track_caller]
pub fn same(a: &BTreeMap<String, Vec<u8>>, b: &BTreeMap<String, Vec<u8>>) {
    let names = |m: &BTreeMap<String, Vec<u8>>| m.keys().cloned().collect::<Vec<_>>();
    assert_eq!(names(a), names(b));
    for (name, bytes) in a {
        assert!(bytes == &b[name], "{name} differs");
    }
}

/// Masters of three lines in the folder `masters`.
pub fn masters() -> Night {
    let night = Night::of_lines();
    std::fs::create_dir(night.path("masters")).unwrap();
    for name in ["ha.fits", "oiii.fits", "sii.fits"] {
        std::fs::rename(night.path(name), night.path("masters").join(name)).unwrap();
    }
    night
}

#[test]
fn masters_become_pictures_and_a_second_palette_measures_nothing_again() {
    let night = masters();
    let check = night
        .run("check masters --palettes SHO --json")
        .success()
        .json();
    assert_eq!(count(&check, "to-do"), 2);
    assert!(!night.path("result").exists(), "a check writes nothing");
    let first = night
        .run("run masters --palettes SHO --json")
        .success()
        .json();
    assert_eq!(count(&first, "done"), 2, "{first:#}");
    let name = first["name"].as_str().unwrap().to_owned();
    for ending in [
        "SHO.fits",
        "SHO-finished.png",
        "SHO-finished.tif",
        "SHO-finish.html",
    ] {
        assert!(
            night.path(&format!("result/{name}-{ending}")).exists(),
            "{ending}"
        );
    }
    // A result says what made it, by the number that the account tells.
    let linear = std::fs::read(night.path(&format!("result/{name}-SHO.fits"))).unwrap();
    let cards = String::from_utf8_lossy(&linear[..30_000]).into_owned();
    let settings = first["steps"][0]["settings"].as_str().unwrap();
    assert_eq!(check["steps"][0]["settings"], settings);
    assert!(
        cards.contains(&format!("recipe: step compose SHO, settings {settings}")),
        "{cards}"
    );
    let page = std::fs::read_to_string(night.path("result/index.html")).unwrap();
    assert!(page.contains("SHO-finished.png") && page.contains("SHO-finish.html"));
    // Another palette: the first picture stays, and the second goes on from its layout.
    let cache = night.path("result/.jigsawa-cache");
    std::fs::remove_dir_all(&cache).unwrap();
    let second = night
        .run("run masters --palettes SHO,HOO,OHS --json")
        .success()
        .json();
    assert_eq!(
        (count(&second, "done-before"), count(&second, "done")),
        (2, 4)
    );
    let kept = std::fs::read_dir(&cache).map_or(0, Iterator::count);
    assert_eq!(kept, 0, "no star was looked for");
    let again = night.run("run result --json").success().json();
    assert_eq!(count(&again, "done-before"), 6);
    night.run("run result").says("nothing was to be done");
    night.run("check result").says("nothing is to be done");
    // The recipe alone makes the same bytes.
    let before = results(&night.path("result"));
    assert!(before.len() >= 10);
    std::fs::create_dir(night.path("other")).unwrap();
    std::fs::rename(
        night.path("result/jigsawa.toml"),
        night.path("other/jigsawa.toml"),
    )
    .unwrap();
    std::fs::remove_dir_all(night.path("result")).unwrap();
    std::fs::rename(night.path("other"), night.path("result")).unwrap();
    night.run("run result/jigsawa.toml").success();
    same(&before, &results(&night.path("result")));
    // A result that is gone or spoilt is made again, and what hangs on it stays if it comes out the same.
    std::fs::write(night.path(&format!("result/{name}-HOO.fits")), "x").unwrap();
    let mended = night.run("run result --json").success().json();
    assert_eq!(count(&mended, "done"), 1, "{mended:#}");
    same(&before, &results(&night.path("result")));
    let anew = night.run_words(&["run", "result", "--again", "finish HOO", "--json"]);
    assert_eq!(count(&anew.success().json(), "done"), 1);
    night
        .run_words(&["run", "result", "--again", "finish HOOO"])
        .ends(2)
        .says("Did you mean finish HOO?");
}

#[test]
fn results_may_go_where_the_folder_of_the_frames_lies() {
    let night = masters().file(
        "reef.toml",
        b"format = 1\nname = 'reef'\nframes = ['masters/*.fits']\nout = '.'\npalettes = ['HOO']\n",
    );
    // Where nothing is said results go into the folder that one is in.
    night
        .run("compose masters --palette SHO --name x")
        .success();
    assert!(night.path("x-SHO.png").exists());
    for _ in 0..2 {
        night.run("run reef.toml").success();
    }
    assert!(night.path("reef-HOO-finished.png").exists());
    night
        .run("run masters --palettes SHO --out . --name y")
        .success();
    assert!(night.path("y-SHO-finished.png").exists());
}

#[test]
fn an_edited_recipe_redoes_what_it_touches_and_is_never_written_over() {
    let night = masters();
    night
        .run("run masters --palettes SHO,HOO --name reef")
        .success();
    let recipe = night.path("result/jigsawa.toml");
    let text = std::fs::read_to_string(&recipe).unwrap();
    std::fs::write(&recipe, format!("{text}\n[finish]\nsaturation = 1.3\n\n[[picture]]\npalette = \"OHS\"\nname = \"cold\"\nfinish.saturation = 0.8\n")).unwrap();
    let account = night.run("run result --json").success().json();
    let states = steps(&account);
    let of = |step: &str| states.iter().find(|s| s.0 == step).unwrap().1.clone();
    assert_eq!(
        [of("compose SHO"), of("compose HOO")],
        ["done-before", "done-before"]
    );
    for step in ["finish SHO", "finish HOO", "compose cold", "finish cold"] {
        assert_eq!(of(step), "done", "{step}");
    }
    assert!(night.path("result/reef-cold-finished.png").exists());
    night
        .run("run masters --palettes SHO")
        .ends(2)
        .says("was changed since a run has written it");
    let slip = std::fs::read_to_string(&recipe)
        .unwrap()
        .replace("saturation = 1.3", "saturaton = 1.3");
    std::fs::write(&recipe, slip).unwrap();
    night
        .run("run result")
        .ends(2)
        .says("'saturaton' in [finish] is not known. Did you mean saturation?");
    night
        .run("run masters --palettes SHO --name reef --overwrite")
        .success();
}

#[test]
fn a_raw_night_becomes_a_picture_and_frames_of_tomorrow_join_it() {
    let night = Night::new();
    let raw = small();
    let early = |f: &jigsawa_sky::raw_night::RawFrame| {
        f.kind != Kind::Light || !f.file.ends_with("004.fits")
    };
    written(&night, &raw, Told::default(), early);
    // One names another target, which a folder of one target does not.
    std::fs::remove_file(night.path("raw/reef_Ha_002.fits")).unwrap();
    let check = night.run("check raw --json").success().json();
    assert!(check["doubts"].to_string().contains("Slot 3"), "{check:#}");
    let first = night.run("run raw --palettes HOO --json").success().json();
    assert_eq!(count(&first, "done"), 4, "{first:#}");
    assert!(night.path("result/Lantern-Reef-HOO-finished.png").exists());
    let reference = |n: &Night| {
        let layout = std::fs::read_to_string(n.path("result/Lantern-Reef-stack.layout.json"));
        let layout: Value = serde_json::from_str(&layout.unwrap()).unwrap();
        (
            layout["reference"]["file"].clone(),
            layout["canvas"].clone(),
        )
    };
    let before = reference(&night);
    // Tomorrow the last light of each filter comes.
    let late = Night::new();
    written(&late, &raw, Told::default(), |f| !early(f));
    for name in late.files("raw") {
        std::fs::rename(
            late.path(&format!("raw/{name}")),
            night.path(&format!("raw/{name}")),
        )
        .unwrap();
    }
    let second = night.run("run result --json").success().json();
    assert_eq!(count(&second, "done"), 4, "{second:#}");
    assert_eq!(reference(&night), before);
    // A library that somebody has deleted is made again, and nothing else: its masters come out the same.
    std::fs::remove_dir_all(night.path("result/library")).unwrap();
    let mended = night.run("run result --json").success().json();
    assert_eq!(
        (count(&mended, "done"), count(&mended, "done-before")),
        (1, 3),
        "{mended:#}"
    );
    let better = second["better"].to_string();
    assert!(better.contains("OIII: 3 frames have become 4"), "{better}");
    // A new palette costs no more than itself.
    let third = night
        .run("run raw --palettes HOO,OHH --json")
        .success()
        .json();
    assert_eq!(
        (count(&third, "done-before"), count(&third, "done")),
        (4, 2)
    );
}

#[test]
fn results_among_the_frames_are_no_frames() {
    let night = masters();
    let line = "run masters --palettes HOO --out masters --name reef --json";
    let first = night.run(line).success().json();
    assert_eq!(count(&first, "done"), 2, "{first:#}");
    let again = night.run(line).success().json();
    assert_eq!(count(&again, "done-before"), 2, "{again:#}");
    // The masters of a stack, too.
    let lights = Night::new()
        .frame("l/a.fits", frame(Filter::Ha, "Ha"))
        .frame(
            "l/b.fits",
            frame(Filter::Ha, "Ha").shifted(9.0, -4.0).again(3),
        )
        .frame(
            "l/c.fits",
            frame(Filter::Ha, "Ha").shifted(-6.0, 7.0).again(5),
        );
    let line = "run l --out l --name reef --json";
    assert_eq!(count(&lights.run(line).success().json(), "done"), 2);
    assert_eq!(count(&lights.run(line).success().json(), "done-before"), 2);
    // Another command's, too, which no run knows of.
    lights
        .run("stack l/a.fits l/b.fits l/c.fits --out l/old --name old")
        .success();
    let again = lights.run(line).success().json();
    assert_eq!(count(&again, "done-before"), 2, "{again:#}");
    assert!(
        again["decided"]
            .to_string()
            .contains("earlier run: 1 master;"),
        "{again:#}"
    );
}

#[test]
fn what_no_run_has_made_is_not_replaced() {
    let night = masters().file("result/reef-HOO.fits", b"mine");
    let line = "run masters --palettes HOO --name reef";
    night.run(line).ends(1).says("reef-HOO.fits");
    let kept = || std::fs::read(night.path("result/reef-HOO.fits")).unwrap();
    assert_eq!(kept(), b"mine");
    // The second time, too: that the first has failed there gives no right to it.
    night.run(line).ends(1).says("reef-HOO.fits");
    assert_eq!(kept(), b"mine");
    night.run(&format!("{line} --overwrite")).success();
    assert!(kept().len() > 1000);
    // A palette that is given up and asked for again was made by a run.
    night
        .run("run masters --palettes SHO --name reef")
        .success();
    let back = night.run(&format!("{line} --json")).success().json();
    assert_eq!(count(&back, "done-before"), 2, "{back:#}");
    // Under another name the results are others.
    std::fs::write(night.path("result/wreck-HOO.fits"), "mine").unwrap();
    night
        .run("run masters --palettes HOO --name wreck")
        .ends(1)
        .says("wreck-HOO.fits");
}

#[test]
fn a_recipe_may_say_how_frames_are_chosen_placed_and_balanced() {
    let night = masters().file(
        "reef.toml",
        b"format = 1\nname = 'reef'\nframes = ['masters']\nout = 'made'\npalettes = ['HOO', 'SHO']\n\
          [register]\nmodel = 'similarity'\n[normalize]\nsurface = 'plane'\n",
    );
    let first = night.run("run reef.toml --json").success().json();
    let names: Vec<String> = steps(&first).into_iter().map(|s| s.0).collect();
    assert_eq!(
        names[..3],
        ["register", "normalize", "compose HOO"],
        "{first:#}"
    );
    let layout = std::fs::read_to_string(night.path("made/reef.layout.json")).unwrap();
    assert!(layout.contains("\"model\": \"similarity\""));
    // The layout was brought up to date in its place, which is no change of it.
    let again = night.run("run reef.toml --json").success().json();
    assert_eq!(count(&again, "done-before"), 6, "{again:#}");
    let lights = Night::new()
        .frame("l/a.fits", frame(Filter::Ha, "Ha"))
        .frame("l/b.fits", frame(Filter::Ha, "Ha").shifted(9.0, -4.0).again(3))
        .frame("l/c.fits", frame(Filter::Ha, "Ha").blurred(9.0).again(5))
        .frame("l/d.fits", frame(Filter::Ha, "Ha").shifted(-6.0, 7.0).again(7))
        .file(
            "reef.toml",
            b"format = 1\nname = 'reef'\nframes = ['l']\nout = 'made'\npanels = false\n[survey]\nkeep = 'fwhm < 7 px'\n",
        );
    let account = lights.run("run reef.toml --json").success().json();
    let names: Vec<String> = steps(&account).into_iter().map(|s| s.0).collect();
    assert_eq!(names, ["survey", "stack", "finish Ha"], "{account:#}");
    let stacked = std::fs::read_to_string(lights.path("made/reef-stack.layout.json")).unwrap();
    assert!(
        stacked.contains("l/c.fits") && stacked.contains("left"),
        "{stacked}"
    );
}

#[test]
fn what_cannot_be_run_is_said_before_any_work() {
    let night = masters();
    night
        .run("run")
        .ends(2)
        .says("there is no jigsawa.toml here");
    std::fs::create_dir(night.path("empty")).unwrap();
    night.run("run empty").ends(1).says("empty");
    night
        .run("run masters --palettes LRGB")
        .ends(1)
        .says("the palette LRGB needs");
    assert!(!night.path("result/jigsawa.toml").exists());
    for line in ["run", "check"] {
        night
            .run(&format!("{line} masters --palettes SHO,SHOO"))
            .ends(2)
            .says("Did you mean SHO?");
        night
            .run(&format!("{line} mastres"))
            .ends(1)
            .says("mastres");
    }
    assert!(!night.path("result/jigsawa.toml").exists());
    night
        .run("run masters/ha.fits recipe.toml")
        .ends(2)
        .says("a recipe stands alone");
    let two = masters().frame(
        "masters/b.fits",
        frame(Filter::Ha, "Ha").with("OBJECT  = 'Weathervane'"),
    );
    two.run("run masters --palettes SHO")
        .ends(2)
        .says("the frames show 2 targets")
        .says("--target");
    two.run("run masters --palettes SHO --target weather")
        .ends(2)
        .says("no frame is of 'weather'");
    two.run("run masters --palettes SHO --target 'Lantern Reef'")
        .success();
}

#[test]
fn a_persons_defaults_count_where_a_project_says_nothing() {
    let night = masters().file(
        "own/defaults.toml",
        b"palettes = ['HOO']\nmemory = '300M'\n",
    );
    let words = ["check", "masters", "--json"];
    let own = night.path("own/defaults.toml");
    let run = |words: &[&str]| night.run_with(words, |c| c.env("JIGSAWA_DEFAULTS", &own));
    assert_eq!(steps(&run(&words).success().json())[0].0, "compose HOO");
    run(&["check", "--defaults"])
        .success()
        .says("palettes = ['HOO']");
    std::fs::write(night.path("own/defaults.toml"), "paletes = []").unwrap();
    run(&words).ends(2).says("'paletes' is not known");
}

#[test]
fn the_schema_of_the_recipe_is_the_one_in_the_docs() {
    let night = Night::new();
    let printed = night.run("check --schema").success().json();
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/recipe.schema.json");
    if std::env::var_os("JIGSAWA_WRITE_SCHEMA").is_some() {
        std::fs::write(&docs, format!("{printed:#}\n")).unwrap();
    }
    let kept: Value = serde_json::from_str(&std::fs::read_to_string(&docs).unwrap()).unwrap();
    assert!(printed == kept, "JIGSAWA_WRITE_SCHEMA=1 writes it anew");
    let schema = jsonschema::validator_for(&kept).unwrap();
    let recipe = serde_json::json!({
        "format": 1, "frames": ["a"], "stack": {"reject": "sigma", "reject-high": 3.5, "survey": true},
        "picture": [{"palette": "SHO", "finish": {"saturation": 1.2}}]
    });
    assert!(schema.is_valid(&recipe));
    let mut wrong = recipe.clone();
    wrong["stack"]["rejct"] = Value::from("sigma");
    assert!(!schema.is_valid(&wrong));
}
