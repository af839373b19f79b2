//! Layouts and accounts are what their schemas say.

use jigsawa_core::filter::Filter;
use rstest::rstest;
use serde_json::{Value, json};

use crate::night::{Night, frame, heart};

fn read(path: &std::path::Path) -> Value {
    serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap()
}

fn schema_of(what: &str) -> jsonschema::Validator {
    let docs = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    jsonschema::validator_for(&read(&docs.join(format!("{what}.schema.json")))).unwrap()
}

fn schema() -> jsonschema::Validator {
    schema_of("layout")
}

#[test]
fn every_account_passes_its_schema_and_a_changed_one_does_not() {
    let night = Night::of_lines()
        .frame("long.fits", heart(Filter::Ha, "Ha", 300.0))
        .frame("short.fits", heart(Filter::Ha, "Ha", 10.0))
        .frame("stray.fits", frame(Filter::R, "R").shifted(9000.0, 0.0));
    let schema = schema_of("account");
    let mut accounts = Vec::new();
    for line in [
        "survey ha.fits oiii.fits stray.fits --out a --name x",
        "register ha.fits oiii.fits sii.fits stray.fits --out b --name x",
        "normalize ha.fits oiii.fits --out c --name x --flatten",
        "compose ha.fits oiii.fits sii.fits --palette SHO --out d --name x",
        "compose --list-palettes",
        "hdr long.fits short.fits --out e --name x --no-report",
        "mosaic ha.fits oiii.fits stray.fits --out f --name x --linear-only --no-report",
        "finish d/x-SHO.fits --out g --name x --no-report",
        "finish d/x-SHO.fits ha.fits --out h --no-report",
        "stars ha.fits --out i --name x",
        "calibrate ha.fits oiii.fits --out n --name x",
        "stack long.fits short.fits --exposures together --scale 2 --drop 0.5 --out p --name x",
        "show ha.fits --out j --stars",
        "check ha.fits oiii.fits sii.fits --out r --palettes SHO",
        "run ha.fits oiii.fits sii.fits --out r --palettes SHO",
        // What went wrong has a form, too.
        "register ha.fits --out k --name x",
        "compose ha.fits --palette SHOO --out l --name x",
        "normalize nothing.fits --out m",
        "stack ha.fits oiii.fits --out q --name x",
    ] {
        let account = night.run(&format!("{line} --json")).json();
        let errors: Vec<String> = schema
            .iter_errors(&account)
            .map(|e| format!("{}: {e}", e.instance_path()))
            .collect();
        assert!(errors.is_empty(), "{line}: {errors:#?}\n{account:#}");
        accounts.push(account);
    }
    let wrong = |of: usize, change: &dyn Fn(&mut Value)| {
        let mut account = accounts[of].clone();
        change(&mut account);
        assert!(!schema.is_valid(&account), "{account:#}");
    };
    wrong(0, &|a| a["frames"][0]["doubts"] = json!("none"));
    wrong(1, &|a| a["frames"][0]["verdict"] = json!("perhaps"));
    wrong(1, &|a| a["frames"][1]["placement"]["bend_px"] = json!(1.0));
    wrong(2, &|a| a["frames"][0]["balance"]["scale"] = json!("1"));
    wrong(3, &|a| a["channles"] = json!([]));
    wrong(5, &|a| a["exposures"][0]["file"] = json!(null));
    wrong(7, &|a| a["steps"][0]["acts"] = json!("yes"));
    wrong(9, &|a| a["stages"] = json!(null));
    wrong(11, &|a| a["masters"][0]["lights"][0]["file"] = json!(1));
    wrong(13, &|a| a["error"]["message"] = json!(null));
}

#[test]
fn every_layout_that_is_written_passes_its_schema_and_an_edited_one_does_not() {
    let night = Night::of_lines()
        .frame("stray.fits", frame(Filter::R, "R").shifted(9000.0, 0.0))
        .frame("empty.fits", frame(Filter::Nii, "NII").hazy(1e-4));
    let pairs = "--pair empty.fits:100,100=120,90 --pair empty.fits:400,100=420,90 --pair empty.fits:100,300=120,290";
    for line in [
        format!(
            "register ha.fits oiii.fits sii.fits stray.fits empty.fits --out a --name x {pairs} --scale 1.5"
        ),
        "register ha.fits oiii.fits --out b --name x --model smooth".to_owned(),
        "compose ha.fits oiii.fits sii.fits --palette SHO --out c --name x".to_owned(),
        "survey ha.fits oiii.fits sii.fits --out d --name x --layout --no-report".to_owned(),
        "normalize ha.fits oiii.fits --out e --name x --flatten=divide --protect 90,90,40 --weigh sharpness".to_owned(),
        "mosaic ha.fits oiii.fits stray.fits --out g --name x --linear-only --no-report".to_owned(),
        "normalize ha.fits oiii.fits --out f --name x --surface poly:3 --match noise".to_owned(),
        "calibrate ha.fits oiii.fits --out h --name x --no-report".to_owned(),
    ] {
        night.run(&line).success();
    }
    let schema = schema();
    let layouts = [
        "a/x.layout.json",
        "b/x.layout.json",
        "c/x-SHO.layout.json",
        "d/x-survey.layout.json",
        "e/x.layout.json",
        "f/x.layout.json",
        "g/x-mosaic.layout.json",
        "h/x.layout.json",
    ];
    for path in layouts {
        let layout = read(&night.path(path));
        let errors: Vec<String> = schema
            .iter_errors(&layout)
            .map(|e| format!("{}: {e}", e.instance_path()))
            .collect();
        assert!(errors.is_empty(), "{path}: {errors:#?}");
    }
    let good = read(&night.path("a/x.layout.json"));
    let wrong = |change: &dyn Fn(&mut Value)| {
        let mut layout = good.clone();
        change(&mut layout);
        assert!(!schema.is_valid(&layout));
    };
    wrong(&|l| l["format"] = json!(2));
    wrong(&|l| l["frames"][0]["verdict"] = json!("perhaps"));
    wrong(&|l| l["frames"][1]["placement"]["matrix"][0] = json!([1.0, 0.0]));
    wrong(&|l| l["mosaic"] = json!({ "projection": "flat" }));
    wrong(&|l| l["canvas"]["scale"] = json!(-1.0));
    wrong(&|l| l["frames"][0]["placment"] = json!({}));
}

/// The places of all objects in a value, of those in lists the first of each kind.
fn objects(value: &Value, place: &str, kinds: &mut Vec<String>, found: &mut Vec<String>) {
    match value {
        Value::Object(map) => {
            let numbers = |part: &str| part.parse::<usize>().is_ok();
            let kind: Vec<&str> = place.split('/').filter(|p| !numbers(p)).collect();
            let keys: Vec<&str> = map.keys().map(String::as_str).collect();
            let kind = format!("{} {}", kind.join("/"), keys.join(" "));
            if !kinds.contains(&kind) {
                kinds.push(kind);
                found.push(place.to_owned());
            }
            for (key, v) in map {
                objects(v, &format!("{place}/{key}"), kinds, found);
            }
        }
        Value::Array(list) => {
            for (i, v) in list.iter().enumerate() {
                objects(v, &format!("{place}/{i}"), kinds, found);
            }
        }
        _ => {}
    }
}

#[rstest]
#[case::of_balances(
    "normalize ha.fits oiii.fits --out a --name x --flatten=divide --protect 90,90,40 --sample add:300,200 --no-report",
    "a/x.layout.json"
)]
#[case::of_a_lens(
    "register ha.fits oiii.fits --out a --name x --model smooth --no-report",
    "a/x.layout.json"
)]
#[case::of_panels(
    "mosaic ha.fits oiii.fits --out a --name x --linear-only --no-report",
    "a/x-mosaic.layout.json"
)]
fn a_key_that_means_nothing_is_an_error_that_names_it_wherever_it_stands(
    #[case] line: &str,
    #[case] path: &str,
) {
    let night = Night::of_lines();
    night.run(line).success();
    let good = read(&night.path(path));
    let (mut kinds, mut places) = (Vec::new(), Vec::new());
    objects(&good, "", &mut kinds, &mut places);
    assert!(places.len() >= 6, "{places:?}");
    for place in places {
        let mut edited = good.clone();
        edited.pointer_mut(&place).unwrap()["weigth"] = json!(2);
        std::fs::write(night.path(path), edited.to_string()).unwrap();
        let run = night.run(&format!("normalize {path} --no-report --overwrite"));
        assert!(run.err.contains("weigth"), "{place}: {}", run.err);
        run.ends(1);
    }
}
