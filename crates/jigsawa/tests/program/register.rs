//! `jigsawa register`: a layout of placements, and the frames on the canvas.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::stars::{Settings, Star, detect};

use crate::night::{Night, frame, plane};

fn bright(night: &Night, file: &str) -> Vec<Star> {
    let found = detect(
        &plane(&night.path(file), 0),
        Some(62_000.0),
        &Settings::default(),
    )
    .unwrap();
    found
        .clean()
        .filter(|s| s.flux > 25.0 * s.flux_sigma)
        .copied()
        .collect()
}

#[test]
fn placed_frames_lie_on_the_reference_and_keep_their_values() {
    let night = Night::of_lines();
    let run = night
        .run("register ha.fits oiii.fits sii.fits --reference ha.fits --out w --name reef --write-frames p --json")
        .success();
    let json = run.json();
    assert_eq!(json["command"], "register");
    assert_eq!(json["frames"][1]["balance"], serde_json::Value::Null);
    assert_eq!(json["outputs"].as_array().unwrap().len(), 5);
    assert_eq!(night.files("w"), ["reef-register.html", "reef.layout.json"]);
    assert_eq!(night.files("p"), ["ha.fits", "oiii.fits", "sii.fits"]);
    // The reference comes out bit for bit.
    let same = |a: &jigsawa_core::plane::Plane, b: &jigsawa_core::plane::Plane| {
        a.data()
            .iter()
            .zip(b.data())
            .all(|(a, b)| a.to_bits() == b.to_bits())
    };
    assert!(same(
        &plane(&night.path("ha.fits"), 0),
        &plane(&night.path("p/ha.fits"), 0)
    ));
    let of_reference = bright(&night, "p/ha.fits");
    for file in ["p/oiii.fits", "p/sii.fits"] {
        let mut off: Vec<f64> = bright(&night, file)
            .iter()
            .filter_map(|s| {
                let near = |r: &&Star| r.at.distance(s.at) < 1.5;
                of_reference.iter().find(near).map(|r| r.at.distance(s.at))
            })
            .collect();
        off.sort_by(f64::total_cmp);
        assert!(off.len() > 10, "{file}: {}", off.len());
        assert!(off[off.len() / 2] < 0.1, "{file}: {off:?}");
    }
    // Placed, not balanced: the levels stay those of the files.
    let level = |file: &str| {
        let mut values: Vec<f32> = plane(&night.path(file), 0)
            .data()
            .iter()
            .copied()
            .filter(|v| v.is_finite())
            .collect();
        jigsawa_core::robust::quantile(&mut values, 0.2)
    };
    assert!((level("oiii.fits") / level("p/oiii.fits") - 1.0).abs() < 0.01);
}

#[test]
fn a_layout_of_register_is_balanced_and_merged_by_compose() {
    let night = Night::of_lines();
    night
        .run("register ha.fits oiii.fits sii.fits --out w --name reef")
        .success()
        .says("reef.layout.json");
    night
        .run("compose w/reef.layout.json --palette SHO --out a --name x")
        .success();
    night
        .run("compose ha.fits oiii.fits sii.fits --palette SHO --out b --name x")
        .success();
    assert!(night.files("a").contains(&"x-SHO.layout.json".to_owned()));
    for channel in 0..3 {
        let (a, b) = (
            plane(&night.path("a/x-SHO.fits"), channel),
            plane(&night.path("b/x-SHO.fits"), channel),
        );
        let noise = jigsawa_core::stars::SkyMesh::measure(&b)
            .unwrap()
            .typical_sigma();
        let mut off: Vec<f32> = a
            .data()
            .iter()
            .zip(b.data())
            .map(|(a, b)| (a - b).abs())
            .filter(|d| d.is_finite())
            .collect();
        let worst = jigsawa_core::robust::quantile(&mut off, 0.99);
        assert!(
            worst < noise,
            "channel {channel}: {worst} with noise {noise}"
        );
    }
}

#[test]
fn sub_frames_of_any_filter_are_placed_and_strays_left_out() {
    let night = Night::new()
        .frame("a.fits", frame(Filter::G, "Green"))
        .frame("b.fits", frame(Filter::G, "Green").shifted(5.5, 2.25))
        .frame("c.fits", frame(Filter::Ha, "slot 7").turned(180.0))
        .frame("stray.fits", frame(Filter::G, "Green").shifted(9000.0, 0.0));
    let run =
        night.run("register a.fits b.fits c.fits stray.fits --out w --name n --write-frames p");
    let run = run.success().says("left out   stray.fits");
    assert!(run.out.contains("slot 7"), "{}", run.out);
    assert_eq!(night.files("p"), ["a.fits", "b.fits", "c.fits"]);
    night
        .run("register a.fits b.fits stray.fits --out w2 --name n --strict")
        .ends(3);
    night
        .run("compose w/n.layout.json --palette RGB --out r")
        .ends(1)
        .says("the palette RGB needs");
}

#[test]
fn nothing_is_written_over_inputs_or_results() {
    let night = Night::of_lines();
    night
        .run("register ha.fits oiii.fits --out w --write-frames . --overwrite")
        .ends(2)
        .says("'./ha.fits' is read by this command (it is the same file as 'ha.fits')");
    night
        .run("register ha.fits oiii.fits --out w --name x")
        .success();
    night
        .run("register ha.fits oiii.fits --out w --name x")
        .ends(1)
        .says("exists already");
    night
        .run("register ha.fits oiii.fits --out w --reference nothing.fits --name y")
        .ends(2)
        .says("--reference names 'nothing.fits'");
}

#[test]
fn tonights_frames_join_the_canvas_of_before_without_moving_anything() {
    let night = Night::of_lines()
        .frame(
            "late/ha2.fits",
            frame(Filter::Ha, "Ha").shifted(-7.5, 3.25).turned(90.0),
        )
        .frame(
            "late/stray.fits",
            frame(Filter::Ha, "Ha").shifted(9000.0, 0.0),
        );
    let read = |file: &str| -> serde_json::Value {
        serde_json::from_str(&std::fs::read_to_string(night.path(file)).unwrap()).unwrap()
    };
    night
        .run("register ha.fits oiii.fits --reference ha.fits --canvas union --out w --name reef")
        .success();
    let before = read("w/reef.layout.json");
    night
        .run("register late/ha2.fits late/stray.fits sii.fits --into w/reef.layout.json")
        .success()
        .says("left out   stray.fits");
    let after = read("w/reef.layout.json");
    assert_eq!(before["canvas"], after["canvas"]);
    assert_eq!(before["reference"], after["reference"]);
    for i in 0..2 {
        assert_eq!(before["frames"][i], after["frames"][i]);
    }
    assert_eq!(after["frames"].as_array().unwrap().len(), 5);
    let added = &after["frames"][2];
    assert_eq!(added["file"], "../late/ha2.fits");
    assert!(added["placement"]["rms_px"].as_f64().unwrap() < 0.2);
    let turn = added["placement"]["rotation_deg"].as_f64().unwrap();
    assert!((turn.abs() - 90.0).abs() < 0.1, "{turn}");
    assert_eq!(after["frames"][3]["verdict"], "left out");
    night
        .run("register sii.fits --into w/reef.layout.json")
        .ends(2)
        .says("'sii.fits' stands in the layout");
    night
        .run("register w/reef.layout.json --out x")
        .ends(2)
        .says("placed already");
}

#[test]
fn a_surveys_layout_says_what_to_register_and_on_what() {
    let night = Night::of_lines();
    night
        .run("survey ha.fits oiii.fits sii.fits --out s --name x --no-report --layout --keep 'filter != SII'")
        .success();
    let json = night
        .run("register s/x-survey.layout.json --out w --name x --json")
        .success()
        .json();
    let rows = json["frames"].as_array().unwrap();
    assert_eq!(rows.iter().filter(|r| r["verdict"] == "used").count(), 2);
    assert!(
        rows[2]["reason"]
            .as_str()
            .unwrap()
            .contains("wanted filter != SII")
    );
    assert!(
        json["reference"]["why"]
            .as_str()
            .unwrap()
            .contains("dithers")
    );
    night
        .run("register sii.fits --into s/x-survey.layout.json")
        .ends(2)
        .says("has no canvas to add frames to");
}

#[test]
fn the_demos_night_is_registered_trails_and_flip_and_all() {
    let (night, _) = crate::demo::demo();
    let json = night
        .run("register d/result/reef-survey.layout.json --out w --name night --json")
        .success()
        .json();
    let rows = json["frames"].as_array().unwrap();
    let used: Vec<_> = rows.iter().filter(|r| r["verdict"] == "used").collect();
    assert_eq!(used.len(), 25);
    let flipped = |r: &&&serde_json::Value| {
        let turn = r["placement"]["rotation_deg"].as_f64().unwrap();
        (turn.abs() - 180.3).abs() < 0.05
    };
    assert_eq!(used.iter().filter(flipped).count(), 7);
    for r in used {
        let corner = r["placement"]["corner_sigma_px"].as_f64().unwrap();
        assert!(corner < 0.03, "{r}");
    }
}

#[test]
fn the_report_shows_stars_vectors_and_coverage_of_every_frame() {
    let night = Night::of_lines().frame("stray.fits", frame(Filter::R, "R").shifted(9000.0, 0.0));
    night
        .run("register ha.fits oiii.fits sii.fits stray.fits --reference ha.fits --out w --name reef")
        .success()
        .says("reef-register.html");
    let page = std::fs::read_to_string(night.path("w/reef-register.html")).unwrap();
    for part in [
        "reef: registration",
        "1 frame left out",
        "Which way the matched stars are off",
        "How many matched stars lie where",
        "residuals against the signal-to-noise of the star",
        "residuals against the distance from the middle (px)",
        "top left",
        "may help",
    ] {
        assert!(page.contains(part), "no '{part}' in the page");
    }
    // Two placed frames, five places, three pictures of each, where a star is near.
    let pictures = page.matches("data:image/png;base64,").count();
    assert!(pictures >= 24 && pictures.is_multiple_of(3), "{pictures}");
    let page = page.replace("http://www.w3.org/2000/svg", "");
    assert!(!page.contains("http://") && !page.contains("https://"));
    // A report is no more replaced unasked than a layout, and can be left away.
    std::fs::remove_file(night.path("w/reef.layout.json")).unwrap();
    night
        .run("register ha.fits oiii.fits --out w --name reef")
        .ends(1)
        .says("reef-register.html' exists already");
    night
        .run("register ha.fits oiii.fits --out v --name reef --no-report")
        .success();
    assert_eq!(night.files("v"), ["reef.layout.json"]);
}

#[test]
fn stars_are_looked_for_once_and_kept_for_the_next_run() {
    let night = Night::of_lines();
    let line = "register ha.fits oiii.fits sii.fits --out w --name reef --overwrite --no-report";
    let first = night.run(&format!("{line} -v")).success();
    assert!(first.err.contains("stars, FWHM"), "{}", first.err);
    let layout = |n: &Night| std::fs::read_to_string(n.path("w/reef.layout.json")).unwrap();
    let before = layout(&night);
    let second = night.run(&format!("{line} -v")).success();
    assert!(!second.err.contains("stars, FWHM"), "{}", second.err);
    assert_eq!(before, layout(&night));
    // Looked for in another way, or anew, they are found anew.
    let lower = night.run(&format!("{line} -v --detect-sigma 4")).success();
    assert!(lower.err.contains("stars, FWHM"));
    let anew = night.run(&format!("{line} -v --no-cache")).success();
    assert!(anew.err.contains("stars, FWHM"));
}

#[test]
fn a_finer_canvas_with_north_up_covers_the_same_sky() {
    let night = Night::new()
        .frame("a.fits", frame(Filter::G, "Green"))
        .frame(
            "b.fits",
            frame(Filter::R, "Red").turned(33.0).shifted(8.0, 5.0),
        );
    let plain = night
        .run("register a.fits b.fits --reference a.fits --out w --name x --no-report --json")
        .success()
        .json();
    let fine = night
        .run("register a.fits b.fits --reference a.fits --scale 2 --out v --name x --no-report --json --write-frames p")
        .success()
        .json();
    for side in ["width", "height"] {
        let (a, b) = (&plain["canvas"][side], &fine["canvas"][side]);
        assert_eq!(2 * a.as_u64().unwrap(), b.as_u64().unwrap());
    }
    assert_eq!(fine["canvas"]["origin"], serde_json::json!([-0.25, -0.25]));
    // Twice as fine, a star covers four times the pixels at the same values.
    let widths = |path: &str| {
        let mut all: Vec<f32> = bright(&night, path)
            .iter()
            .map(|s| s.fwhm_px.single())
            .collect();
        jigsawa_core::robust::median(&mut all)
    };
    let ratio = widths("p/a.fits") / widths("a.fits");
    assert!((ratio - 2.0).abs() < 0.1, "{ratio}");
    night
        .run("register a.fits b.fits --north-up --out u --name x")
        .ends(1)
        .says("where north is");
}

#[test]
fn hints_and_pairs_place_what_the_stars_alone_do_not() {
    // Four stars of the frame are in the reference: too few at an odd turn.
    let night = Night::new()
        .frame("a.fits", frame(Filter::G, "Green"))
        .frame(
            "empty.fits",
            frame(Filter::Ha, "Ha").hazy(1e-4).turned(41.0),
        );
    let run = night
        .run("register a.fits empty.fits --reference a.fits --out w --name x --no-report")
        .success();
    assert!(run.out.contains("left out   empty.fits"), "{}", run.out);
    assert!(run.out.contains("--hint"), "{}", run.out);
    let pairs = "--pair empty.fits:100,100=120,90 --pair empty.fits:400,100=420,90 --pair empty.fits:100,300=120,290";
    let json = night
        .run(&format!("register a.fits empty.fits --reference a.fits --out v --name x --no-report --json {pairs}"))
        .success()
        .json();
    let placed = &json["frames"][1];
    assert_eq!(placed["placement"]["by"], "hand");
    assert!(
        placed["notes"][0]
            .as_str()
            .unwrap()
            .contains("where you say")
    );
    let layout: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(night.path("v/x.layout.json")).unwrap())
            .unwrap();
    let at = |r: usize| {
        layout["frames"][1]["placement"]["matrix"][r][2]
            .as_f64()
            .unwrap()
    };
    assert!((at(0) + 20.0).abs() < 1e-6 && (at(1) - 10.0).abs() < 1e-6);
    assert_eq!(
        layout["frames"][1]["hint"]["pairs"]
            .as_array()
            .unwrap()
            .len(),
        3
    );
    night
        .run("register a.fits empty.fits --pair empty.fits:1,2=3,4 --out u")
        .ends(2)
        .says("1 of the 3 pairs");
    night
        .run("register a.fits empty.fits --hint none.fits:rotate=180 --out u")
        .ends(2)
        .says("--hint names 'none.fits'");
    night
        .run("register a.fits empty.fits --hint empty.fits:turned --out u")
        .ends(2)
        .says("rotate=180");
}

#[test]
fn placed_frames_keep_brightness_or_flux() {
    let night = Night::of_lines();
    night
        .run("register ha.fits oiii.fits --reference ha.fits --scale 2 --out w --name x --no-report --write-frames p --keep-flux")
        .success();
    let placed = bright(&night, "p/ha.fits");
    let mut ratios: Vec<f32> = bright(&night, "ha.fits")
        .iter()
        .filter_map(|s| {
            let (x, y) = (2.0 * s.at.x + 0.5, 2.0 * s.at.y + 0.5);
            let same = placed
                .iter()
                .find(|p| (p.at.x - x).hypot(p.at.y - y) < 1.0)?;
            Some((same.flux / s.flux).single())
        })
        .collect();
    assert!(ratios.len() > 10);
    let ratio = jigsawa_core::robust::median(&mut ratios);
    assert!((ratio - 1.0).abs() < 0.02, "{ratio}");
}

/// Writes a nebula without a star, moved and half-turned, with noise of its own.
fn nebula(night: &Night, file: &str, shift: (f64, f64), flip: bool, seed: u64) {
    use jigsawa_core::doors::TileSink;
    use jigsawa_core::space::{Rect, Size};
    use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
    let (w, h) = (640usize, 480usize);
    let hash = |i: i64, j: i64, k: u64| {
        let mut z = i.u64().wrapping_mul(0x9E37_79B9_7F4A_7C15)
            ^ j.u64().wrapping_mul(0xC2B2_AE3D_27D4_EB4F)
            ^ (k << 32);
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11).real() / (1u64 << 53).real()
    };
    let smooth = |x: f64, y: f64, k: u64| {
        let ease = |t: f64| t * t * (3.0 - 2.0 * t);
        let (i, j) = (x.floor(), y.floor());
        let (u, v) = (ease(x - i), ease(y - j));
        let at = |a: i64, b: i64| hash(i.whole() + a, j.whole() + b, k);
        (at(0, 0) * (1.0 - u) + at(1, 0) * u) * (1.0 - v)
            + (at(0, 1) * (1.0 - u) + at(1, 1) * u) * v
    };
    let values: Vec<f32> = (0..w * h)
        .map(|i| {
            let (x, y) = ((i % w).real(), (i / w).real());
            let (px, py) = if flip {
                (w.real() - 1.0 - x, h.real() - 1.0 - y)
            } else {
                (x, y)
            };
            let (px, py) = (px - shift.0, py - shift.1);
            let light: f64 = [(90.0, 1.0), (37.0, 0.6), (16.0, 0.35)]
                .into_iter()
                .enumerate()
                .map(|(k, (scale, weight))| weight * smooth(px / scale, py / scale, k as u64))
                .sum();
            let noise = hash(i.whole(), 7, 1000 + seed) - 0.5;
            (1000.0 + 200.0 * light * light + 25.0 * noise).single()
        })
        .collect();
    let size = Size::new(w, h).unwrap();
    let mut cards = Cards::default();
    cards.text("FILTER", "Ha", "");
    let part = jigsawa_formats::whole::Unfinished::new(&night.path(file), false).unwrap();
    let mut out = FitsWriter::create(part, size, 1, Depth::Float, &cards).unwrap();
    let rect = Rect {
        x: 0,
        y: 0,
        width: w,
        height: h,
    };
    out.put(rect, &[&values]).unwrap();
    out.complete().unwrap().finish().unwrap();
}

#[test]
fn a_nebula_without_a_star_is_placed_by_its_pattern() {
    let night = Night::new();
    nebula(&night, "a.fits", (0.0, 0.0), false, 1);
    nebula(&night, "b.fits", (18.0, -11.0), true, 2);
    let json = night
        .run("register a.fits b.fits --reference a.fits --out w --name x --json")
        .success()
        .json();
    let placed = &json["frames"][1]["placement"];
    assert_eq!(placed["by"], "pattern", "{}", json["frames"][1]);
    assert!((placed["rotation_deg"].as_f64().unwrap() - 180.0).abs() < 0.05);
    let shift = |k: usize| placed["shift"][k].as_f64().unwrap();
    assert!(
        (shift(0) + 18.0).abs() < 0.3 && (shift(1) - 11.0).abs() < 0.3,
        "{placed}"
    );
    let page = std::fs::read_to_string(night.path("w/x-register.html")).unwrap();
    assert!(page.contains("patches of its pattern agree") && page.contains("look at it"));
}
