//! Stacks that do not interpolate, and stacks of what moves.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::robust::{mad, median};

use crate::night::{Night, frame, plane};
use crate::stack::stacked;

#[test]
fn pixels_are_dropped_onto_a_finer_canvas_and_what_is_missing_is_said() {
    let (night, _) = stacked();
    let run = night
        .run("stack n/ha*.fits --scale 2 --drop 0.8 --out f --name reef --reference ha0 --json")
        .success();
    let account = run.json();
    assert_eq!(account["canvas"]["width"], 1120);
    let drops = &account["masters"][0]["drops"];
    assert_eq!(
        (&drops["side_px"], &drops["shape"]),
        (&0.8.into(), &"square".into())
    );
    assert!(drops["noise_tied"].as_f64().unwrap() > 1.5);
    // The trail is in neither of the two.
    let fine = plane(&night.path("f/reef-Ha-master.fits"), 0);
    let plain = plane(&night.path("w/reef-Ha-master.fits"), 0);
    let (mut off, mut holes) = (Vec::new(), 0);
    for y in 40..380 {
        for x in 40..520 {
            let at = |dx: i64, dy: i64| fine.at(2 * x + dx, 2 * y + dy);
            let four = [at(0, 0), at(1, 0), at(0, 1), at(1, 1)];
            let mean = four.iter().sum::<f32>() / 4.0;
            if mean.is_finite() {
                off.push(mean - plain.at(x, y));
            } else {
                holes += 1;
            }
        }
    }
    let middle = median(&mut off);
    let width = 1.4826 * f64::from(mad(&mut off, middle));
    let noise = account["masters"][0]["noise"].as_f64().unwrap();
    assert!(
        middle.abs() < 0.2 && width < noise,
        "{middle} {width} {noise}"
    );
    let told = drops["holes_percent"].as_f64().unwrap();
    assert!(holes < 400 && told < 0.3, "{holes} {told}");
    // Nothing is rejected where nothing is to be, or where nobody knows which of two is right.
    let line = "stack n/ha*.fits --scale 2 --drop 0.8 --out g0 --name reef --json --reject none";
    let none = night.run(line).success().json()["masters"][0].clone();
    assert_eq!(none["rejected_percent"], 0.0);
    let line = "stack n/ha0.fits n/ha1.fits --scale 2 --drop 1 --out g1 --name reef --json";
    let two = night.run(line).success().json()["masters"][0].clone();
    assert_eq!(two["rejected_percent"], 0.0);
    // Over a pixel of the reference noise is as low as interpolation makes it, or a little higher.
    let gain = account["masters"][0]["noise_gain"].as_f64().unwrap();
    assert!((1.9..2.9).contains(&gain), "{gain}");
    // Two frames and small drops leave holes, and dithers have gone nowhere.
    night
        .run("stack n/ha0.fits n/ha1.fits --scale 3 --drop 0.3 --out g --name reef")
        .success()
        .says("nothing has fallen on")
        .says("% of the places between pixels");
    night
        .run("stack n --drop 7 --out h")
        .ends(2)
        .says("from 0.1 to 2 pixels");
    night
        .run("stack n --drop-shape gaussian --out h")
        .ends(2)
        .says("--drop");
}

#[test]
fn what_moves_among_the_stars_is_held_still() {
    // Twelve frames a minute apart; 0.05 px a second along x, 0.02 back along y, on the sky.
    let mut night = Night::new();
    let at = |i: u32| (150.0 + 3.0 * f64::from(i), 260.0 - 1.2 * f64::from(i));
    for i in 0..12u32 {
        let part = |k: f64| (0.5 + k * f64::from(i + 1)).fract() - 0.5;
        let (dx, dy) = (8.0 * part(0.754_877_666), 8.0 * part(0.569_840_291));
        let (x, y) = at(i);
        // A frame that looks further on sees everything further back.
        let (x, y) = (x - dx, y - dy);
        let one = frame(Filter::R, "R")
            .of_subs(4)
            .shifted(dx, dy)
            .again(u64::from(i))
            .with("EGAIN   = 0.8")
            .with(&format!("DATE-OBS= '2026-04-09T21:{i:02}:00'"))
            .called(30.0)
            .after(move |mut plane: Plane| {
                let width = plane.size().width();
                for (k, v) in plane.data_mut().iter_mut().enumerate() {
                    let (u, w) = ((k % width).real() - x, (k / width).real() - y);
                    *v += (900.0 * (-(u * u + w * w) / (2.0 * 1.7 * 1.7)).exp()).single();
                }
                plane
            });
        night = night.frame(&format!("n/r{i:02}.fits"), one);
    }
    let shown = |i: u32| {
        let part = |k: f64| (0.5 + k * f64::from(i + 1)).fract() - 0.5;
        let (dx, dy) = (8.0 * part(0.754_877_666), 8.0 * part(0.569_840_291));
        let (x, y) = at(i);
        format!("--follow r{i:02}:{:.2},{:.2}", x - dx + 1.0, y - dy + 1.0)
    };
    let line = "stack n --out w --name reef --reference r00 --no-report";
    night.run(line).success();
    night
        .run(&format!("{line} --overwrite {} {}", shown(0), shown(11)))
        .success();
    let stars = plane(&night.path("w/reef-R-master.fits"), 0);
    let moving = plane(&night.path("w/reef-R-moving-master.fits"), 0);
    let (dx, dy) = (
        8.0 * ((0.5f64 + 0.754_877_666).fract() - 0.5),
        8.0 * ((0.5f64 + 0.569_840_291).fract() - 0.5),
    );
    let (x, y) = (
        (at(0).0 - dx).round().whole(),
        (at(0).1 - dy).round().whole(),
    );
    let sky = |p: &Plane| {
        let mut near: Vec<f32> = (-30..30).map(|k| p.at(x + k, y + 14)).collect();
        f64::from(median(&mut near))
    };
    // It stands in the first frame's place with its whole height, and no trace of it is where stars are held.
    let height = f64::from(moving.at(x, y)) - sky(&moving);
    assert!((height / 880.0 - 1.0).abs() < 0.1, "{height}");
    assert!((f64::from(stars.at(x, y)) - sky(&stars)).abs() < 90.0);
    // The brightest star of the field is gone there.
    let brightest = |p: &Plane| {
        let inner = (30..390).flat_map(|y| (30..530).map(move |x| (x, y)));
        inner
            .filter(|(u, v)| (u - x).abs() > 12 || (v - y).abs() > 12)
            .map(|(x, y)| p.at(x, y))
            .fold(0.0f32, f32::max)
    };
    let (of_stars, of_moving) = (f64::from(brightest(&stars)), f64::from(brightest(&moving)));
    let level = sky(&stars);
    assert!(
        of_moving - level < 0.25 * (of_stars - level),
        "{of_moving} of {of_stars}"
    );
    night
        .run(&format!("{line} --overwrite {}", shown(3)))
        .ends(2)
        .says("at one time only");
    night
        .run(&format!(
            "{line} --overwrite --follow r77:3,4 --follow r01:3,4"
        ))
        .ends(2)
        .says("r77");
    night
        .run(&format!("{line} --follow r01=3,4"))
        .ends(2)
        .says("write it as FRAME:x,y");
}
