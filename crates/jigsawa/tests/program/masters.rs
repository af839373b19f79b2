//! Masters as other stacking leaves them, and files as they lie in folders.

use jigsawa_core::filter::Filter;
use jigsawa_core::plane::Plane;
use jigsawa_sky::master::{bordered, smoothed, turned_border};
use jigsawa_sky::spoilt::Trail;

use crate::night::{Night, frame, plane};

fn number(row: &serde_json::Value, key: &str) -> f64 {
    row[key].as_f64().unwrap_or(f64::NAN)
}

#[test]
fn black_borders_change_nothing_but_the_area_and_are_said() {
    // Without a nebula in the border's way to the sky's level: the same frames, with borders and without.
    let all = |night: Night, border: bool| {
        let of = |filter, card, edges: [usize; 4], turn: f64| {
            // A field beside the nebula: how dark its darkest patches are is another question.
            frame(filter, card).shifted(-300.0, -450.0).after(move |p| {
                if !border {
                    return p;
                }
                turned_border(bordered(p, edges, 0.0), turn, (0.0, 0.0))
            })
        };
        night
            .frame("ha.fits", of(Filter::Ha, "Ha", [40, 25, 10, 60], 1.5))
            .frame("o3.fits", of(Filter::Oiii, "O3", [12, 50, 30, 8], 0.0))
            .frame(
                "r.fits",
                of(Filter::R, "R", [90, 0, 0, 0], -2.0).shifted(3.2, 1.7),
            )
    };
    let (clean, black) = (all(Night::new(), false), all(Night::new(), true));
    let rows = |n: &Night| {
        let run = n
            .run("normalize ha.fits o3.fits r.fits --out n --no-report --json")
            .success();
        run.json()["frames"].as_array().unwrap().clone()
    };
    for (a, b) in rows(&clean).iter().zip(&rows(&black)) {
        let noise = number(a, "noise");
        assert_eq!(b["verdict"], "used");
        assert!(b["notes"].to_string().contains("are exactly 0"), "{b}");
        assert!(
            (number(a, "sky") - number(b, "sky")).abs() < 0.4 * noise,
            "{a} {b}"
        );
        let offset = |r: &serde_json::Value| number(&r["balance"], "offset");
        assert!((offset(a) - offset(b)).abs() < 0.4 * noise, "{a} {b}");
    }
    black
        .run("compose ha.fits o3.fits --palette HOO --out c --name x --linear-only")
        .success()
        .says("are exactly 0");
    let red = plane(&black.path("c/x-HOO.fits"), 0);
    assert!(red.at(5, 200).is_nan() && red.at(280, 5).is_nan() && red.at(280, 210).is_finite());
    let finished = black
        .run("finish c/x-HOO.fits --out f --json")
        .success()
        .json();
    let kept: Vec<u64> = finished["picture"]["kept"]
        .as_array()
        .unwrap()
        .iter()
        .map(|v| v.as_u64().unwrap())
        .collect();
    assert!(kept[0] >= 40 && kept[1] >= 50, "{kept:?}");
    assert!(kept[2] > 420 && kept[3] > 270, "{kept:?}");
}

#[test]
fn folders_patterns_and_names_of_files_say_which_frames_and_filters() {
    let night = Night::new()
        .frame("in/master_Ha.fits", frame(Filter::Ha, ""))
        .frame("in/b_1.fits", frame(Filter::R, "").shifted(2.2, 1.0))
        .frame(
            "in/b_2.fits",
            frame(Filter::R, "").shifted(-3.0, 2.4).again(1),
        );
    night
        .run("normalize in --out o --no-report")
        .success()
        .says("no card names its filter: Ha is read from the file's name");
    // Results of this folder and colour pictures of ours are no frames.
    let line = "compose in --filter R=b_* --palette Ha,R,R --out in/result --name x --linear-only";
    night
        .run(&line.replace("Ha,R,R", "HaRGB"))
        .ends(1)
        .says("G");
    night
        .run("normalize in --filter R=b_* --out in/result --no-report --write-frames in/result")
        .success();
    let again = night
        .run("normalize in --filter R=b_* --out in/result --no-report --json --overwrite")
        .success()
        .json();
    let rows = again["frames"].as_array().unwrap();
    let filters: Vec<&str> = rows.iter().map(|r| r["filter"].as_str().unwrap()).collect();
    assert_eq!(filters, ["R", "R", "Ha"]);
    night
        .run("normalize in/b_?.fits --filter R=c_* --out p")
        .ends(2)
        .says("c_*");
}

#[test]
fn a_file_with_several_images_says_which_is_used_and_brackets_pick() {
    let night = Night::new()
        .frame("a.fits", frame(Filter::Ha, "Ha"))
        .frame("b.fits", frame(Filter::Oiii, "OIII").shifted(2.4, 3.1))
        .joined("a.fits", "b.fits", "OXYGEN");
    night
        .run("normalize a.fits b.fits --out n --no-report")
        .success()
        .says("it is the first of 2 images in its file");
    for second in ["a.fits[2]", "a.fits[oxygen]"] {
        let layout = format!("two-{}", second.len());
        let rows = night
            .run_words(&["register", "a.fits[1]", second, "--out", &layout, "--json"])
            .success()
            .json();
        let rows = rows["frames"].as_array().unwrap();
        assert_eq!(
            (&rows[0]["filter"], &rows[1]["filter"]),
            (&"Ha".into(), &"OIII".into())
        );
        assert_eq!(
            (&rows[0]["verdict"], &rows[1]["verdict"]),
            (&"used".into(), &"used".into())
        );
        // The layout leads to both again.
        let file = night
            .files(&layout)
            .into_iter()
            .find(|f| f.ends_with(".layout.json"))
            .unwrap();
        night
            .run_words(&[
                "normalize",
                &format!("{layout}/{file}"),
                "--no-report",
                "--overwrite",
            ])
            .success();
    }
    night
        .run_words(&["register", "a.fits", "a.fits[3]", "--out", "x"])
        .ends(1)
        .says("it holds 2 images, and none is number 3");
}

#[test]
fn a_stretched_frame_and_a_smoothed_one_are_told() {
    let stretch = |p: Plane| {
        let mut p = p;
        for v in p.data_mut() {
            // As for the eye: the sky at a tenth of white.
            *v = 60_000.0 * (((*v - 100.0).max(0.0) / 25.0).asinh() / (60_000.0f32 / 25.0).asinh());
        }
        p
    };
    let night = Night::new()
        .frame("r.fits", frame(Filter::R, "R").after(stretch))
        .frame("ha.fits", frame(Filter::Ha, "Ha").shifted(2.0, 3.0))
        .frame(
            "o.fits",
            frame(Filter::Oiii, "O3").after(|p| smoothed(&p, 1.6)),
        );
    let rows = night
        .run("register r.fits ha.fits o.fits --out n --no-report --json")
        .success()
        .json();
    let notes = |i: usize| rows["frames"][i]["notes"].to_string();
    assert!(
        notes(0).contains("it seems to have been stretched"),
        "{}",
        notes(0)
    );
    assert!(!notes(1).contains("stretched") && !notes(2).contains("stretched"));
    assert!(notes(2).contains("it was smoothed or denoised") && !notes(1).contains("smoothed"));
}

#[test]
fn values_from_0_to_1_keep_their_digits() {
    let night = Night::new()
        .frame("ha.fits", frame(Filter::Ha, "Ha").up_to_one())
        .frame(
            "o.fits",
            frame(Filter::Oiii, "O3").up_to_one().shifted(2.0, 1.0),
        );
    let line = "normalize ha.fits o.fits --out n --no-report --overwrite";
    let json = night.run(&format!("{line} --json")).success().json();
    for row in json["frames"].as_array().unwrap() {
        let (sky, noise) = (number(row, "sky"), number(row, "noise"));
        assert!(sky > 1e-4 && noise > 1e-6, "{row}");
        let text = night.run(line).success();
        // Four digits that count.
        let shown = format!("{sky:.3e}")
            .split('e')
            .next()
            .unwrap()
            .replace('.', "");
        text.says(&shown);
    }
}

/// A satellite's, from edge to edge.
const TRAIL: Trail = Trail {
    through: (0.05, 0.1),
    angle_deg: 24.0,
    electrons: 60_000.0,
    sigma_px: 1.6,
};

/// The farthest that two results lie apart, but for their rims, which not all frames cover.
fn farthest(a: &Plane, b: &Plane) -> f32 {
    const RIM: usize = 8;
    let (w, h) = (a.size().width(), a.size().height());
    let mut most = 0.0f32;
    for y in RIM..h - RIM {
        let both = a.row(y).iter().zip(b.row(y)).take(w - RIM).skip(RIM);
        let apart = both.filter(|(a, b)| a.is_finite() && b.is_finite());
        most = apart.map(|(a, b)| (a - b).abs()).fold(most, f32::max);
    }
    most
}

#[test]
fn a_trail_across_one_of_three_frames_is_left_out_and_said() {
    let of = |seed: u64, dx: f64| frame(Filter::R, "R").again(seed).shifted(dx, 0.4 * dx);
    let night = Night::new()
        .frame("a.fits", of(1, 0.0))
        .frame("b.fits", of(2, 2.3))
        .frame("c.fits", of(3, -1.7))
        .frame("d.fits", of(3, -1.7).trailed(TRAIL));
    let merged = |third: &str, name: &str| {
        let line = format!(
            "compose a.fits b.fits {third} --red R --green R --blue R --out c --name {name} --linear-only --json"
        );
        let run = night.run(&line).success().json();
        (
            plane(&night.path(&format!("c/{name}-mix.fits")), 0),
            run["outliers_percent"].as_f64().unwrap(),
        )
    };
    let ((clean, none), (spoilt, some)) = (merged("c.fits", "clean"), merged("d.fits", "spoilt"));
    assert!(some > none + 0.5, "{some} {none}");
    let worst = farthest(&clean, &spoilt);
    assert!(worst < 40.0, "{worst}");
}

#[test]
fn a_trail_across_one_of_three_frames_of_a_panel_is_left_out_of_the_mosaic() {
    let left = |seed: u64, dx: f64| frame(Filter::R, "R").again(seed).shifted(dx, 0.4 * dx);
    let night = Night::new()
        .frame("a.fits", left(1, 0.0))
        .frame("b.fits", left(2, 2.3))
        .frame("c.fits", left(3, -1.7))
        .frame("d.fits", left(3, -1.7).trailed(TRAIL))
        .frame("e.fits", left(4, 420.0).shifted(0.0, 0.0));
    let merged = |third: &str, name: &str| {
        let line = format!(
            "mosaic a.fits b.fits {third} e.fits --out m --name {name} --reference a.fits --no-report --json"
        );
        let run = night.run(&line).success().json();
        (
            plane(&night.path(&format!("m/{name}-R-mosaic.fits")), 0),
            run["outliers_percent"].as_f64().unwrap(),
        )
    };
    let ((clean, none), (spoilt, some)) = (merged("c.fits", "clean"), merged("d.fits", "spoilt"));
    assert!(some > none + 0.4, "{some} {none}");
    assert_eq!(clean.size(), spoilt.size());
    let worst = farthest(&clean, &spoilt);
    assert!(worst < 40.0, "{worst}");
}
