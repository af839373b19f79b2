//! Palettes, variants and what is done to lines and stars before they are mixed.

use std::fs;

use jigsawa_core::filter::Filter;
use jigsawa_core::robust::median;
use jigsawa_core::stars::{Settings, detect};

use crate::night::{Night, frame, plane};

#[test]
fn palettes_are_listed_with_what_they_need() {
    let night = Night::new();
    let run = night.run("compose --list-palettes").success();
    for text in [
        "tidepool",
        "SII Ha OIII",
        "hydrogen as fire",
        "stars R | G | B",
    ] {
        assert!(run.out.contains(text), "{text}\n{}", run.out);
    }
    let json = night
        .run("compose --list-palettes --out p --json")
        .success()
        .json();
    assert!(json["palettes"].as_array().unwrap().len() >= 15);
    assert_eq!(night.files("p"), ["palettes.png"]);
}

#[test]
fn variants_are_small_pictures_with_a_sheet_and_one_is_picked() {
    let night = Night::of_lines();
    let run = night
        .run("compose ha.fits oiii.fits sii.fits --try all --out v --name x")
        .success();
    assert!(run.out.contains("equal light"), "{}", run.out);
    let files = night.files("v");
    assert!(
        files.contains(&"x-01-SHO.png".to_owned()) && files.contains(&"x-variants.png".to_owned()),
        "{files:?}"
    );
    // Red, green and blue are not there: their palettes are not tried.
    assert!(!files.iter().any(|f| f.contains("RGB")), "{files:?}");
    let page = fs::read_to_string(night.path("v/x-variants.html")).unwrap();
    assert!(page.contains("--pick N") && page.contains("75% Ha + 45% SII"));
    night
        .run("compose v/x-variants.layout.json --try all --pick 2 --out v --name x --linear-only")
        .success()
        .says("x-HOO.fits");
    night
        .run("compose v/x-variants.layout.json --try all --pick 99 --out v --name x")
        .ends(2)
        .says("--pick 99 is none of the");
}

#[test]
fn palettes_of_a_file_are_used_and_their_slips_told() {
    let night = Night::of_lines().file(
        "mine.toml",
        b"[glow]\nabout = \"mine\"\nred = \"70% Ha + 30% SII\"\ngreen = \"OIII\"\nblue = \"OIII\"\nluminance = \"Ha\"\n\
          [flat]\nred = \"Ha\"\ngreen = \"Ha\"\nblue = \"OIII\"\n",
    );
    let json = night
        .run("compose ha.fits oiii.fits sii.fits --palette mine.toml#glow --out r --name x --linear-only --json")
        .success()
        .json();
    assert_eq!(json["channels"][3]["mix"], "Ha");
    night
        .run("compose ha.fits oiii.fits sii.fits --palette mine.toml --out both --name x")
        .success();
    assert!(night.files("both").contains(&"x-variants.html".to_owned()));
    night
        .run("compose ha.fits oiii.fits --palette mine.toml#gloom --out r")
        .ends(1)
        .says("it has no palette 'gloom'; it has flat, glow");
    fs::write(
        night.path("bad.toml"),
        "[a]\nred = \"Ha +\"\ngreen = \"Ha\"\nblue = \"Ha\"\n",
    )
    .unwrap();
    night
        .run("compose ha.fits oiii.fits --palette bad.toml --out r")
        .ends(1)
        .says("palette 'a', its red mix:");
}

#[test]
fn lines_become_equally_strong_and_the_reference_keeps_its_units() {
    let night = Night::of_lines();
    let of = |rule: &str| {
        let json = night
            .run(&format!(
                "compose ha.fits oiii.fits sii.fits --palette HSO --lines {rule} --reference ha --out {rule} --name x \
                 --linear-only --json"
            ))
            .success()
            .json();
        let factor = |f: &str| {
            let rows = json["lines"].as_array().unwrap();
            rows.iter().find(|r| r["filter"] == f).unwrap()["factor"]
                .as_f64()
                .unwrap()
        };
        [factor("Ha"), factor("SII"), factor("OIII")]
    };
    assert_eq!(of("equal-noise"), [1.0; 3]);
    let signal = of("equal-signal");
    // Sulphur is the weakest line of the reef.
    assert!(signal[0] == 1.0 && signal[1] > 1.3, "{signal:?}");
    let as_is = of("as-is");
    assert!(
        as_is[0] == 1.0 && (as_is[1] - 1.0).abs() > 0.005,
        "{as_is:?}"
    );
    // The light of the result has grown by the factor, the sky's level has not.
    let sulphur = |rule: &str| plane(&night.path(&format!("{rule}/x-HSO.fits")), 1);
    let (a, b) = (sulphur("equal-noise"), sulphur("equal-signal"));
    let sky = median(
        &mut a
            .data()
            .iter()
            .copied()
            .filter(|v| v.is_finite())
            .collect::<Vec<f32>>(),
    );
    let mut ratios: Vec<f32> = a
        .data()
        .iter()
        .zip(b.data())
        .filter(|(a, _)| **a > sky + 60.0)
        .map(|(a, b)| (b - a) / (a - sky))
        .collect();
    let grown = f64::from(median(&mut ratios)) + 1.0;
    assert!((grown / signal[1] - 1.0).abs() < 0.15, "{grown} {signal:?}");
}

#[test]
fn starlight_is_taken_out_of_a_line() {
    let night = Night::of_lines().frame("r.fits", frame(Filter::R, "Red").shifted(2.0, 3.0));
    let line = "compose ha.fits oiii.fits sii.fits r.fits --red Ha --green OIII --blue SII --reference ha --linear-only --name x";
    night.run(&format!("{line} --out plain")).success();
    let run = night
        .run(&format!("{line} --continuum Ha=R --out less"))
        .success();
    assert!(run.out.contains("of R by"), "{}", run.out);
    let stars = |folder: &str| {
        let p = plane(&night.path(&format!("{folder}/x-mix.fits")), 0);
        detect(&p, None, &Settings::default()).unwrap().stars.len()
    };
    let (with, without) = (stars("plain"), stars("less"));
    assert!(with > 50 && 2 * without < with, "{without} of {with}");
    night
        .run(&format!("{line} --continuum Ha=V --out x"))
        .ends(2)
        .says("--continuum names 'V'");
}

#[test]
fn stars_of_all_filters_become_as_wide_as_the_widest() {
    let night = Night::new()
        .frame("r.fits", frame(Filter::R, "R").blurred(2.6))
        .frame("g.fits", frame(Filter::G, "G").blurred(4.2))
        .frame("b.fits", frame(Filter::B, "B").blurred(3.0));
    let width = |p: usize, folder: &str| {
        let plane = plane(&night.path(&format!("{folder}/x-RGB.fits")), p);
        detect(&plane, None, &Settings::default()).unwrap().fwhm_px
    };
    let line = "compose r.fits g.fits b.fits --palette RGB --reference r --name x --linear-only";
    night.run(&format!("{line} --out plain")).success();
    night
        .run(&format!("{line} --match-seeing --out soft"))
        .success();
    assert!(width(1, "plain") / width(0, "plain") > 1.4);
    for c in [0, 2] {
        let ratio = width(c, "soft") / width(1, "soft");
        assert!((ratio - 1.0).abs() < 0.06, "{ratio}");
    }
}

#[test]
fn two_pictures_are_layered_by_one_mix_for_every_channel() {
    let night = Night::of_lines().frame("r.fits", frame(Filter::R, "Red"));
    let make = |palette: &str, name: &str| {
        night
            .run(&format!(
                "compose ha.fits oiii.fits sii.fits {palette} --reference ha --canvas common --out . --name {name} \
                 --linear-only --overwrite"
            ))
            .success();
    };
    make("--palette SHO", "a");
    make("--palette HOO", "b");
    night
        .run_words(&[
            "compose",
            "a-SHO.fits",
            "b-HOO.fits",
            "--each",
            "lighter('a-SHO', 'b-HOO')",
            "--out",
            "both",
            "--name",
            "x",
            "--linear-only",
            "--reference",
            "a-SHO.fits",
        ])
        .success();
    let both = plane(&night.path("both/x-layers.fits"), 0);
    let a = plane(&night.path("a-SHO.fits"), 0);
    // One is the reference, the other is brought to its sky and scale: the result is never darker than the one.
    let (mut seen, mut own) = (0, 0);
    for i in (0..a.data().len()).step_by(31) {
        let (v, a) = (both.data()[i], a.data()[i]);
        if v.is_finite() {
            assert!(v > a - 1e-3 * a.abs(), "{v} {a}");
            seen += 1;
            own += usize::from((v - a).abs() < 1e-3 * a.abs());
        }
    }
    assert!(seen > 3000 && own > 100 && own < seen, "{own} of {seen}");
    night
        .run_words(&[
            "compose",
            "a-SHO.fits",
            "--each",
            "blend('a-SHO', 0, ramp('a-SHO'.light, 5, 50))",
            "--out",
            "m",
        ])
        .ends(2)
        .says("cannot be understood");
}

#[test]
fn stars_and_what_lies_behind_them_are_put_together_again() {
    let night = Night::new()
        .frame("r.fits", frame(Filter::R, "R"))
        .frame("g.fits", frame(Filter::G, "G").shifted(2.0, 1.0))
        .frame("b.fits", frame(Filter::B, "B").shifted(-1.0, 3.0));
    night
        .run("compose r.fits g.fits b.fits --palette RGB --out . --name a --linear-only --reference r")
        .success();
    night.run("stars a-RGB.fits --out .").success();
    let json = night
        .run_words(&[
            "compose",
            "a-RGB-starless.fits",
            "a-RGB-stars.fits",
            "--each",
            "'a-RGB-starless' + 'a-RGB-stars'",
            "--out",
            "sum",
            "--name",
            "x",
            "--linear-only",
            "--json",
        ])
        .success()
        .json();
    assert_eq!(json["frames"][3]["placement"]["by"], "same canvas");
    for p in 0..3 {
        let (whole, sum) = (
            plane(&night.path("a-RGB.fits"), p),
            plane(&night.path("sum/x-layers.fits"), p),
        );
        // The planes differ by one level alone: that of the first plane's sky.
        let mut off: Vec<f32> = whole
            .data()
            .iter()
            .zip(sum.data())
            .map(|(w, s)| s - w)
            .filter(|v| v.is_finite())
            .collect();
        assert!(off.len() > 200_000);
        let level = median(&mut off);
        assert!(off.iter().all(|o| (o - level).abs() < 0.05), "{p}");
        assert!(level.abs() < 5.0, "{level}");
    }
    // The layout that was written says it all again.
    night
        .run_words(&[
            "compose",
            "sum/x-layers.layout.json",
            "--each",
            "screen('a-RGB-starless', 'a-RGB-stars')",
            "--out",
            "sum",
            "--name",
            "y",
            "--linear-only",
        ])
        .success();
}

#[test]
fn layered_pictures_keep_their_colours_also_with_a_frame_from_elsewhere() {
    let night = Night::of_lines();
    for palette in ["SHO", "HOO"] {
        night
            .run(&format!(
                "compose ha.fits oiii.fits sii.fits --palette {palette} --reference ha --out . --name a --linear-only \
                 --overwrite"
            ))
            .success();
    }
    let run = night
        .run_words(&[
            "compose",
            "a-SHO.fits",
            "a-HOO.fits",
            "oiii.fits",
            "--each",
            "blend('a-SHO', 'a-HOO', ramp(OIII, 20, 200))",
            "--reference",
            "a-SHO.fits",
            "--out",
            "m",
            "--name",
            "x",
            "--linear-only",
        ])
        .success();
    // Six planes and a frame, each with its scale as it is.
    assert!(!run.out.contains(" stars \u{b1}"), "{}", run.out);
    let green = plane(&night.path("m/x-layers.fits"), 1);
    assert!(green.data().iter().filter(|v| v.is_finite()).count() > 150_000);
}
