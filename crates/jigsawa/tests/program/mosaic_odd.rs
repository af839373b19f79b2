//! Mosaics of panels that are not as they should be: headers that contradict, panels that are not linear, cut askew, or of
//! another field: joined right, or left out, or said.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::median;
use rstest::rstest;

use crate::mosaic::panel;
use crate::mosaic_wrong::solved;
use crate::night::{Frame, Night, frame, plane};

/// With the header of a panel of 2 x 2 at these places: 1 unit of the plane is 0.0004 degrees, right ascension against x.
pub fn solved_at(f: Frame, c: f64, r: f64) -> Frame {
    let (dx, dy) = (700.0 + 390.0 * (c - 0.5), 850.0 + 270.0 * (r - 0.5));
    solved(f, (dx, dy), false)
}

pub fn row(told: &serde_json::Value, file: &str) -> serde_json::Value {
    let frames = told["frames"].as_array().unwrap();
    frames.iter().find(|f| f["file"] == file).unwrap().clone()
}

#[test]
fn a_panel_whose_stars_contradict_its_header_is_left_out() {
    let red = |c, r| panel(c, r, Filter::R, "Red");
    let night = Night::new()
        .frame("a.fits", solved_at(red(0.0, 0.0), 0.0, 0.0))
        .frame("b.fits", solved_at(red(1.0, 0.0), 1.0, 0.0))
        // Another field, with a header of this one.
        .frame(
            "c.fits",
            solved_at(red(0.0, 1.0).shifted(-3000.0, 2500.0), 0.0, 1.0),
        );
    let told = night
        .run("mosaic a.fits b.fits c.fits --out r --name reef --plan --json")
        .success()
        .json();
    let c = row(&told, "c.fits");
    assert_eq!(c["verdict"], "left out", "{c}");
    let reason = c["reason"].as_str().unwrap();
    assert!(
        reason.contains("its WCS puts it beside") && reason.contains("the WCS is wrong"),
        "{reason}"
    );
}

#[test]
fn of_three_headers_the_wrong_one_is_voted_out_and_of_two_it_is_said() {
    let red = |c, r| panel(c, r, Filter::R, "Red");
    let night = Night::new()
        .frame("a.fits", solved_at(red(0.0, 0.0), 0.0, 0.0))
        .frame("b.fits", solved_at(red(1.0, 0.0), 1.0, 0.0))
        // Three minutes of arc away.
        .frame("c.fits", solved_at(red(0.0, 1.0), 0.32, 1.0));
    let of = |files: &str| {
        night
            .run(&format!(
                "mosaic {files} --out r --name reef --reference a.fits --plan --overwrite --json"
            ))
            .success()
            .json()
    };
    let told = of("a.fits b.fits c.fits");
    let said = row(&told, "c.fits")["notes"].to_string();
    assert!(
        said.contains("its WCS is") && said.contains("who are believed"),
        "{said}"
    );
    assert_eq!(row(&told, "c.fits")["verdict"], "used");
    for right in ["a.fits", "b.fits"] {
        assert!(
            !row(&told, right)["notes"]
                .to_string()
                .contains("its WCS is")
        );
    }
    let told = of("a.fits c.fits");
    let said = row(&told, "c.fits")["notes"].to_string();
    assert!(said.contains("nothing tells which is right"), "{said}");
}

#[test]
fn panels_that_are_not_linear_are_told() {
    let stretch = |p: Plane| {
        let mut p = p;
        for v in p.data_mut() {
            *v = 2000.0 * ((*v - 100.0).max(0.0) / 500.0).asinh();
        }
        p
    };
    let red = |c| panel(c, 0.0, Filter::R, "Red");
    let night = Night::new()
        .frame("a.fits", red(0.0))
        .frame("b.fits", red(1.0).shifted(-280.0, 0.0).after(stretch));
    let told = night
        .run("mosaic a.fits b.fits --out r --name reef --no-report --json")
        .success()
        .json();
    let warnings = told["warnings"].to_string();
    assert!(warnings.contains("not linear"), "{told}");
}

#[test]
fn an_inner_canvas_has_no_gap_though_a_panel_has_a_ragged_border() {
    let night = Night::new()
        .frame("reef_A1_R.fits", panel(0.0, 1.0, Filter::R, "Red"))
        .frame("reef_A2_R.fits", panel(1.0, 1.0, Filter::R, "Red"));
    // The outer 24 columns of the first panel have no values.
    let night = spoil(
        night,
        "reef_A1_R.fits",
        |x, _, v| if x < 24 { f32::NAN } else { v },
    );
    let ragged = plane(&night.path("reef_A1_R.fits"), 0);
    assert!(ragged.row(5)[..24].iter().all(|v| v.is_nan()) && ragged.row(5)[24].is_finite());
    night
        .run("mosaic reef_A1_R.fits reef_A2_R.fits --canvas inner --out r --name reef --linear-only --no-report")
        .success();
    let joined = plane(&night.path("r/reef-R-mosaic.fits"), 0);
    let width = joined.size().width();
    assert!((800..=850 - 24).contains(&width), "{width}");
    let gaps = joined.data().iter().filter(|v| !v.is_finite()).count();
    assert_eq!(gaps, 0);
}

/// Makes pixels of a frame something else: what `of` gives for a place.
fn spoil(night: Night, name: &str, of: impl Fn(usize, usize, f32) -> f32) -> Night {
    let path = night.path(name);
    let whole = plane(&path, 0);
    let (w, h) = (whole.size().width(), whole.size().height());
    let mut bytes = std::fs::read(&path).unwrap();
    let first = bytes.len() - (4 * w * h).next_multiple_of(2880);
    for (k, pixel) in bytes[first..first + 4 * w * h]
        .chunks_exact_mut(4)
        .enumerate()
    {
        let v = of(k % w, k / w, whole.row(k / w)[k % w]);
        pixel.copy_from_slice(&v.to_be_bytes());
    }
    night.file(name, &bytes)
}

#[rstest]
#[case(f32::NAN)]
#[case(0.0)]
fn panels_that_lie_on_one_canvas_already_keep_what_they_cover(#[case] nothing: f32) {
    let wide = |f: Frame| f.sized(760, 420);
    let mut night = Night::new()
        .frame("reef_left_R.fits", wide(frame(Filter::R, "Red")))
        .frame("reef_right_R.fits", wide(frame(Filter::R, "Red")).hazy(0.8));
    // The left one ends right of the middle, the right one begins left of it, both askew.
    let left = |x: usize, y: usize| x.real() < 440.0 + 0.2 * (y.real() - 210.0);
    let right = |x: usize, y: usize| x.real() > 320.0 + 0.2 * (y.real() - 210.0);
    let whole = plane(&night.path("reef_left_R.fits"), 0);
    night = spoil(night, "reef_left_R.fits", |x, y, v| {
        if left(x, y) { v } else { nothing }
    });
    night = spoil(night, "reef_right_R.fits", |x, y, v| {
        if right(x, y) { v } else { nothing }
    });
    let run = night
        .run("mosaic reef_left_R.fits reef_right_R.fits --out r --name reef --no-report --json");
    let told = run.success().json();
    assert!(!told.to_string().contains("are exactly") || nothing == 0.0);
    let layout = std::fs::read(night.path("r/reef-mosaic.layout.json")).unwrap();
    let layout: serde_json::Value = serde_json::from_slice(&layout).unwrap();
    let panels = [0, 1].map(|i| layout["frames"][i]["panel"]["panel"].to_string());
    assert_ne!(panels[0], panels[1], "{told}");
    let joined = plane(&night.path("r/reef-R-mosaic.fits"), 0);
    assert!(joined.size().area() >= 760 * 420, "{:?}", joined.size());
    let there = joined.data().iter().filter(|v| v.is_finite()).count();
    assert!(there.real() > 0.99 * 760.0 * 420.0, "{there}");
    // The right part is what the left one would have shown: no step, no other scale (a tilt is shared by both).
    let off = |columns: std::ops::Range<usize>| {
        let of = |y: usize| {
            let columns = columns.clone();
            columns.map(move |x| (x, y))
        };
        let mut all: Vec<f32> = (20..400)
            .flat_map(of)
            .map(|(x, y)| joined.row(y)[x] - whole.row(y)[x])
            .collect();
        median(&mut all)
    };
    let (own, far) = (off(20..250), off(500..740));
    assert!(own.abs() < 1.2 && far.abs() < 1.2, "{own} and {far}");
}

#[test]
fn a_mosaic_goes_on_to_a_finished_picture() {
    let mut night = Night::new();
    for (name, filter, card) in [("Ha", Filter::Ha, "Ha"), ("OIII", Filter::Oiii, "OIII")] {
        for c in [0.0, 1.0] {
            let file = format!("reef_A{}_{name}.fits", c.u32() + 1);
            night = night.frame(&file, panel(c, 0.0, filter.clone(), card));
        }
    }
    let all = "reef_A1_Ha.fits reef_A2_Ha.fits reef_A1_OIII.fits reef_A2_OIII.fits";
    night
        .run(&format!(
            "mosaic {all} --palette nothing --out r --name reef"
        ))
        .ends(2)
        .says("palette");
    assert!(!night.path("r/reef-Ha-mosaic.fits").exists());
    let told = night
        .run(&format!(
            "mosaic {all} --palette HOO --out r --name reef --json"
        ))
        .success()
        .json();
    let picture = night.path("r/reef-HOO.png");
    assert!(picture.exists() && night.path("r/reef-HOO.tif").exists());
    assert!(
        told["outputs"].to_string().contains("reef-HOO.fits"),
        "{told}"
    );
    let size = plane(&night.path("r/reef-HOO.fits"), 0).size();
    assert_eq!(size, plane(&night.path("r/reef-Ha-mosaic.fits"), 0).size());
}
