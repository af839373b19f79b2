//! `jigsawa mosaic`: panels in, one large linear frame of each filter out.

use jigsawa_core::number::Convert;
use std::sync::OnceLock;

use jigsawa_core::filter::Filter;
use jigsawa_core::robust::median;
use jigsawa_formats::fits::FitsFrame;

use crate::mosaic_odd::{row, solved_at};
use crate::night::{Frame, Night, Run, frame, plane};

/// A panel of 2 x 2, by column and row: 460 x 340 pixels that share 70 with the next.
pub fn panel(column: f64, row: f64, filter: Filter, card: &str) -> Frame {
    frame(filter, card)
        .sized(460, 340)
        .shifted(390.0 * (column - 0.5), 270.0 * (row - 0.5))
        .with("INSTRUME= 'Pebble 24'")
}

/// Four panels in red and two in hydrogen, of which one was taken after a meridian flip.
fn panels() -> Night {
    let red = |c, r| panel(c, r, Filter::R, "Red");
    Night::new()
        .frame(
            "reef_A1_R.fits",
            red(0.0, 1.0).turned(0.4).with("OBJECT  = 'Lantern Reef'"),
        )
        .frame("reef_A2_R.fits", red(1.0, 1.0).hazy(0.7))
        .frame("reef_B1_R.fits", red(0.0, 0.0).turned(-0.6))
        .frame("reef_B2_R.fits", red(1.0, 0.0).turned(0.3).blurred(3.1))
        .frame(
            "reef_A1_G.fits",
            panel(0.0, 1.0, Filter::G, "Green")
                .turned(180.5)
                .shifted(2.0, -3.0),
        )
        .frame(
            "reef_A2_G.fits",
            panel(1.0, 1.0, Filter::G, "Green").shifted(-4.0, 1.0),
        )
}

const ALL: &str =
    "reef_A1_R.fits reef_A2_R.fits reef_B1_R.fits reef_B2_R.fits reef_A1_G.fits reef_A2_G.fits";

/// The usual run, once for all tests that look at it.
fn joined() -> &'static (Night, Run) {
    static JOINED: OnceLock<(Night, Run)> = OnceLock::new();
    JOINED.get_or_init(|| {
        let night = panels();
        let run = night.run(&format!("mosaic {ALL} --out r --name reef --map --json"));
        (night, run)
    })
}

#[test]
fn each_filter_becomes_one_frame_with_plan_report_layout_and_seams() {
    let (night, run) = joined();
    assert_eq!(run.status, Some(0), "{}\n{}", run.out, run.err);
    let files = night.files("r");
    for name in [
        "R-mosaic.fits",
        "R-mosaic-map.fits",
        "R-mosaic.png",
        "G-mosaic.fits",
        "mosaic-plan.png",
        "mosaic-plan.svg",
        "mosaic-seams.fits",
        "mosaic.html",
        "mosaic.layout.json",
    ] {
        let name = format!("reef-{name}");
        assert!(files.contains(&name), "{name} is not in {files:?}");
    }
    let page = std::fs::read_to_string(night.path("r/reef-mosaic.html")).unwrap();
    for words in [
        "Overlaps",
        "hardest place of every seam",
        "A1 | A2",
        "panels that show each place",
    ] {
        assert!(page.contains(words), "no '{words}' in the report");
    }
    let svg = std::fs::read_to_string(night.path("r/reef-mosaic-plan.svg")).unwrap();
    assert!(svg.contains("B2") && svg.contains("stars, "));
}

#[test]
fn the_account_names_panels_by_their_files_and_tells_stars_and_steps() {
    let told = joined().1.json();
    let panels: Vec<&str> = told["mosaic"]["panels"]
        .as_array()
        .unwrap()
        .iter()
        .map(|p| p["panel"].as_str().unwrap())
        .collect();
    let mut sorted = panels.clone();
    sorted.sort_unstable();
    assert_eq!(sorted, ["A1", "A2", "B1", "B2"]);
    for o in told["mosaic"]["overlaps"].as_array().unwrap() {
        let rms = o["rms_px"].as_f64().unwrap();
        assert!(o["stars"].as_u64() < Some(12) || rms < 0.15, "{o}");
        for l in o["levels"].as_array().unwrap() {
            // Of very deep panels: a sigma is a thousandth of the nebula.
            assert!(l["after_sigma"].as_f64().unwrap() < 1.0, "{o}");
        }
    }
    let frame = |name: &str| {
        let all = told["frames"].as_array().unwrap();
        all.iter().find(|f| f["file"] == name).unwrap().clone()
    };
    let flipped = frame("reef_A1_G.fits")["placement"]["rotation_deg"]
        .as_f64()
        .unwrap();
    let upright = frame("reef_A1_R.fits")["placement"]["rotation_deg"]
        .as_f64()
        .unwrap();
    let turned = (flipped - upright).rem_euclid(360.0);
    assert!((turned - 180.1).abs() < 0.05, "{flipped} {upright}");
    // The panel through cloud is scaled up.
    let scale = |name: &str| frame(name)["balance"]["scale"].as_f64().unwrap();
    let ratio = scale("reef_A2_R.fits") / scale("reef_B2_R.fits");
    assert!((ratio * 0.7 - 1.0).abs() < 0.02, "{ratio}");
}

#[test]
fn the_mosaic_is_whole_and_its_map_says_where_each_pixel_is_from() {
    let (night, _) = joined();
    let value = plane(&night.path("r/reef-R-mosaic.fits"), 0);
    let label = plane(&night.path("r/reef-R-mosaic-map.fits"), 0);
    let noise = plane(&night.path("r/reef-R-mosaic-map.fits"), 1);
    let size = value.size();
    assert!(
        (820..880).contains(&size.width()) && (590..640).contains(&size.height()),
        "{size:?}"
    );
    let there = value.data().iter().filter(|v| v.is_finite()).count();
    assert!(there.real() > 0.93 * size.area().real());
    for k in 1..=4 {
        let n = label.data().iter().filter(|l| **l == k.single()).count();
        assert!(n.real() > 0.15 * size.area().real(), "panel {k}: {n}");
    }
    for ((v, l), n) in value.data().iter().zip(label.data()).zip(noise.data()) {
        assert_eq!(v.is_finite(), *l > 0.0);
        assert_eq!(v.is_finite(), n.is_finite());
    }
}

#[test]
fn the_same_frames_give_the_same_bits_on_one_thread_and_in_little_memory() {
    let (whole, _) = joined();
    let night = panels();
    night
        .run(&format!(
            "mosaic {ALL} --out r --name reef --linear-only --no-report --threads 1 --memory 8M"
        ))
        .success();
    for filter in ["R", "G"] {
        let read =
            |n: &Night| std::fs::read(n.path(&format!("r/reef-{filter}-mosaic.fits"))).unwrap();
        assert!(read(&night) == read(whole), "{filter}");
    }
}

#[test]
fn a_plan_stops_before_the_long_work_and_its_layout_goes_on() {
    let night = panels();
    night
        .run(&format!("mosaic {ALL} --out r --name reef --plan"))
        .success()
        .says("makes it");
    assert_eq!(
        night.files("r"),
        [
            "reef-mosaic-plan.png",
            "reef-mosaic-plan.svg",
            "reef-mosaic.layout.json"
        ]
    );
    night
        .run("mosaic r/reef-mosaic.layout.json --out r --linear-only --no-report")
        .success();
    // As in one go, but for stars that meet or not at the edge of their reach.
    let read = |n: &Night| plane(&n.path("r/reef-R-mosaic.fits"), 0);
    let (a, b) = (read(&night), read(&joined().0));
    assert_eq!(a.size(), b.size());
    let both = a
        .data()
        .iter()
        .zip(b.data())
        .filter(|(a, b)| a.is_finite() && b.is_finite());
    let mut off: Vec<f32> = both.map(|(a, b)| (a - b).abs()).collect();
    assert!(median(&mut off) < 0.1, "{}", median(&mut off));
}

#[test]
fn a_filter_is_added_without_moving_what_is_there() {
    let night = panels();
    night
        .run("mosaic reef_A1_R.fits reef_A2_R.fits reef_B1_R.fits reef_B2_R.fits --out r --name reef --linear-only --no-report")
        .success();
    let before = std::fs::read(night.path("r/reef-R-mosaic.fits")).unwrap();
    let seams = std::fs::read(night.path("r/reef-mosaic-seams.fits")).unwrap();
    night
        .run("mosaic reef_A2_G.fits reef_A1_G.fits --into r/reef-mosaic.layout.json --linear-only --no-report")
        .success();
    let same = |name: &str, before: &[u8]| std::fs::read(night.path(name)).unwrap() == before;
    assert!(same("r/reef-R-mosaic.fits", &before));
    assert!(same("r/reef-mosaic-seams.fits", &seams));
    let (red, green) = (
        plane(&night.path("r/reef-R-mosaic.fits"), 0),
        plane(&night.path("r/reef-G-mosaic.fits"), 0),
    );
    assert_eq!(red.size(), green.size());
    night
        .run("mosaic reef_A1_G.fits --into r/reef-mosaic.layout.json")
        .ends(2)
        .says("stands in the layout");
    // What is added goes beside the layout, under its name.
    for option in ["--out elsewhere", "--name other", "--overwrite"] {
        night
            .run(&format!(
                "mosaic reef_B1_G.fits --into r/reef-mosaic.layout.json {option}"
            ))
            .ends(2)
            .says("cannot be used with");
    }
}

#[test]
fn a_panel_is_added_and_the_others_stay_where_they_were() {
    let night = panels();
    night
        .run("mosaic reef_B1_R.fits reef_B2_R.fits reef_A1_R.fits --out r --name reef --linear-only --no-report --json")
        .success();
    let placements = |n: &Night| -> Vec<serde_json::Value> {
        let text = std::fs::read_to_string(n.path("r/reef-mosaic.layout.json")).unwrap();
        let layout: serde_json::Value = serde_json::from_str(&text).unwrap();
        layout["frames"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| f["balance"].clone())
            .collect()
    };
    let first = plane(&night.path("r/reef-R-mosaic.fits"), 0);
    let kept = placements(&night);
    night
        .run("mosaic reef_A2_R.fits --into r/reef-mosaic.layout.json --linear-only --no-report")
        .success();
    let second = plane(&night.path("r/reef-R-mosaic.fits"), 0);
    assert!(second.size().area() >= first.size().area());
    assert_eq!(placements(&night)[..3], kept[..]);
    // Far from the new panel nothing has changed.
    let grown = (
        second.size().width() - first.size().width(),
        second.size().height() - first.size().height(),
    );
    let same = (0..200).filter(|k| {
        let (x, y) = (30 + k % 20, 30 + k / 20);
        [(0, 0), (grown.0, 0), (0, grown.1), grown]
            .iter()
            .any(|(dx, dy)| second.row(y + dy)[x + dx] == first.row(y)[x])
    });
    assert_eq!(same.count(), 200);
}

#[test]
fn a_canvas_that_grows_before_its_first_pixel_takes_surfaces_along() {
    let night = panels();
    night
        .run("mosaic reef_A2_R.fits reef_B2_R.fits --out r --name reef --linear-only --no-report")
        .success();
    let first = plane(&night.path("r/reef-R-mosaic.fits"), 0);
    night
        .run("mosaic reef_A1_R.fits reef_B1_R.fits --into r/reef-mosaic.layout.json --linear-only --no-report")
        .success();
    let second = plane(&night.path("r/reef-R-mosaic.fits"), 0);
    let cells = FitsFrame::open(&night.path("r/reef-mosaic-seams.fits")).unwrap();
    let cell = cells.header().number("CELL").unwrap().index();
    let grown = second.size().width() - first.size().width();
    assert!(
        grown > 300 && grown.is_multiple_of(cell),
        "{grown} by cells of {cell}"
    );
    // At the right, where no new panel reaches: the same values, but for the last bit of a surface.
    let right = first.size().width() - 70;
    for up in 0..=second.size().height() - first.size().height() {
        let mut off: Vec<f32> = (60..540)
            .map(|y| (second.row(y + up)[right + grown] - first.row(y)[right]).abs())
            .filter(|d| d.is_finite())
            .collect();
        if off.len() > 400 && median(&mut off) < 0.01 {
            return;
        }
    }
    panic!("the panels at the right have changed");
}

#[test]
fn a_stray_frame_is_left_out_and_named() {
    let night = panels().frame(
        "veil.fits",
        frame(Filter::R, "Red")
            .sized(460, 340)
            .shifted(-3000.0, 2500.0),
    );
    let run = night
        .run(&format!(
            "mosaic {ALL} veil.fits --out r --name reef --plan --json"
        ))
        .success();
    let told = run.json();
    let frames = told["frames"].as_array().unwrap();
    let veil = frames.iter().find(|f| f["file"] == "veil.fits").unwrap();
    assert_eq!(veil["verdict"], "left out");
    assert!(
        veil["reason"]
            .as_str()
            .unwrap()
            .contains("is found in another panel"),
        "{veil}"
    );
    assert_eq!(frames.iter().filter(|f| f["verdict"] == "used").count(), 6);
    night
        .run(&format!(
            "mosaic {ALL} veil.fits --out s --name reef --plan --strict"
        ))
        .ends(3);
}

#[test]
fn panels_apart_are_an_error_with_a_plan_where_headers_allow() {
    let wcs = |f: Frame, ra: f64| {
        f.with("CTYPE1  = 'RA---TAN'")
            .with("CTYPE2  = 'DEC--TAN'")
            .with("CRPIX1  = 230.5")
            .with("CRPIX2  = 170.5")
            .with(&format!("CRVAL1  = {ra}"))
            .with("CRVAL2  = 28.4")
            .with("CD1_1   = -0.0004")
            .with("CD1_2   = 0.0")
            .with("CD2_1   = 0.0")
            .with("CD2_2   = 0.0004")
    };
    let night = Night::new()
        .frame("a.fits", wcs(panel(0.0, 0.0, Filter::R, "Red"), 153.4))
        .frame("b.fits", wcs(panel(2.0, 0.0, Filter::R, "Red"), 153.0));
    night
        .run("mosaic a.fits b.fits --out r --name reef")
        .ends(1)
        .says("no two of these panels have stars in common")
        .says("reef-mosaic-plan.png");
    assert_eq!(
        night.files("r"),
        ["reef-mosaic-plan.png", "reef-mosaic-plan.svg"]
    );
}

#[test]
fn a_frame_that_register_adds_to_a_mosaic_leaves_a_layout_that_opens() {
    let night = panels();
    night
        .run("mosaic reef_A1_R.fits reef_A2_R.fits --out r --name reef --no-report")
        .success();
    night
        .run("register reef_A1_G.fits --into r/reef-mosaic.layout.json --no-report")
        .success();
    night
        .run("normalize r/reef-mosaic.layout.json --no-report --overwrite")
        .success();
}

#[test]
fn a_panel_without_stars_lies_where_its_header_says() {
    let wcs = solved_at;
    let night = Night::new()
        .frame("a.fits", wcs(panel(0.0, 0.0, Filter::R, "Red"), 0.0, 0.0))
        .frame("b.fits", wcs(panel(1.0, 0.0, Filter::R, "Red"), 1.0, 0.0))
        .frame(
            "c.fits",
            wcs(panel(0.0, 1.0, Filter::Oiii, "O3").hazy(0.02), 0.0, 1.0),
        );
    let told = night
        .run("mosaic a.fits b.fits c.fits --out r --name reef --plan --json")
        .success()
        .json();
    let c = told["frames"]
        .as_array()
        .unwrap()
        .iter()
        .find(|f| f["file"] == "c.fits")
        .unwrap()
        .clone();
    assert_eq!(c["verdict"], "used", "{c}");
    assert_eq!(c["placement"]["by"], "WCS alone", "{c}");
    assert!(
        c["notes"][0]
            .as_str()
            .unwrap()
            .contains("where its WCS says")
    );
    let field = told["mosaic"]["field_deg"][0].as_f64().unwrap();
    assert!((field - 850.0 * 0.0004).abs() < 0.01, "{field}");
}

#[test]
fn cameras_of_other_scale_and_a_panel_given_twice_work_together() {
    let second = panel(0.75, 0.0, Filter::R, "Red").scaled(0.8).mirrored();
    let night = Night::new()
        .frame("a.fits", panel(0.0, 0.0, Filter::R, "Red"))
        .frame(
            "a_again.fits",
            panel(0.0, 0.0, Filter::R, "Red")
                .shifted(3.0, -5.0)
                .turned(0.2),
        )
        .frame("b.fits", second.with("INSTRUME= 'Cobble 17'"));
    let told = night
        .run("mosaic a.fits a_again.fits b.fits --out r --name reef --map --panel b.fits=east --no-report --json")
        .success()
        .json();
    let panels = told["mosaic"]["panels"].as_array().unwrap();
    assert_eq!(panels.len(), 2, "{:#}", told["warnings"]);
    assert!(panels.iter().any(|p| p["panel"] == "east"));
    assert!(
        panels
            .iter()
            .any(|p| p["frames"].as_array().unwrap().len() == 2)
    );
    // Where both frames of the first panel count, so many are told.
    let count = plane(&night.path("r/reef-R-mosaic-map.fits"), 2);
    let two = count.data().iter().filter(|n| **n == 2.0).count();
    assert!(two.real() > 0.5 * 460.0 * 340.0, "{two}");
    // The other camera has the same name in its header, and is told by its scale.
    let b = row(&told, "b.fits")["placement"].clone();
    assert!(b["pairs"].as_u64().unwrap() > 20, "{b}");
    assert!((b["scale"].as_f64().unwrap() - 0.8).abs() < 0.002, "{b}");
}

#[test]
fn options_that_cannot_be_are_refused_in_words() {
    let night = panels();
    night
        .run("mosaic reef_A1_R.fits reef_A2_R.fits --panel-names reef_* --out r")
        .ends(2)
        .says("PANEL must stand in it once");
    night
        .run("mosaic reef_A1_R.fits --out r")
        .ends(2)
        .says("mosaic needs at least two frames");
    night
        .run("mosaic reef_A1_R.fits reef_A2_R.fits --panel nothing.fits=A --out r")
        .ends(2)
        .says("--panel names 'nothing.fits'");
    night
        .run("register reef_A1_R.fits reef_A2_R.fits --out r --name pair --canvas union")
        .success();
    night
        .run("mosaic reef_B1_R.fits --into r/pair.layout.json")
        .ends(2)
        .says("is not the layout of a mosaic");
    night
        .run("mosaic r/pair.layout.json --out r --name pair --linear-only --no-report")
        .success();
    night
        .run("mosaic r/pair-mosaic.layout.json --out r --scale 2")
        .ends(2)
        .says("--scale has no effect on a layout");
    night
        .run("mosaic r/pair-mosaic.layout.json --out r --panel reef_A1_R.fits=east")
        .ends(2)
        .says("--panel has no effect on a layout");
    night
        .run("mosaic reef_A1_R.fits reef_A2_R.fits --out r --name pair")
        .ends(1)
        .says("already");
}
