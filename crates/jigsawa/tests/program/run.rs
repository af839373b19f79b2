//! `jigsawa run` and `check`: from folders to pictures, again and after a change.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::Kind;
use serde_json::Value;

use crate::calibrate::{Told, small, written};
use crate::night::{Night, frame, heart};

/// The states of the steps of an account.
fn steps(account: &Value) -> Vec<(String, String)> {
    let rows = account["steps"].as_array().unwrap();
    let text = |v: &Value| v.as_str().unwrap().to_owned();
    rows.iter()
        .map(|s| (text(&s["step"]), text(&s["state"])))
        .collect()
}

/// How many steps are in a state.
fn count(account: &Value, state: &str) -> usize {
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
fn same(a: &BTreeMap<String, Vec<u8>>, b: &BTreeMap<String, Vec<u8>>) {
    let names = |m: &BTreeMap<String, Vec<u8>>| m.keys().cloned().collect::<Vec<_>>();
    assert_eq!(names(a), names(b));
    for (name, bytes) in a {
        assert!(bytes == &b[name], "{name} differs");
    }
}

/// Masters of three lines in the folder `masters`.
fn masters() -> Night {
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
fn a_raw_night_without_cards_and_names_is_seen_by_its_pixels() {
    let night = Night::new();
    let told = Told {
        no_kinds: true,
        no_names: true,
        ..Told::default()
    };
    written(&night, &small(), told, |f| f.kind != Kind::DarkFlat);
    let check = night
        .run("check raw --target 'Lantern Reef' --json")
        .success()
        .json();
    assert_eq!(steps(&check)[0].0, "calibrate", "{check:#}");
    let decided = check["decided"].to_string();
    assert!(decided.contains("7 raw lights, 30 frames"), "{decided}");
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
