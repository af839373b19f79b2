//! `jigsawa calibrate` on raw frames of the made-up chip.

use std::sync::OnceLock;

use jigsawa_core::doors::TileSink;
use jigsawa_core::frame::Kind;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::Size;
use jigsawa_formats::fits::{Cards, Depth, FitsFrame, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use jigsawa_sky::chip::{Chip, Exposure};
use jigsawa_sky::raw_night::{RawFrame, RawNight};
use jigsawa_sky::train::Train;

use crate::night::Night;

/// What the headers of a night say, each by itself.
#[allow(clippy::struct_excessive_bools)]
#[derive(Clone, Copy, Default)]
pub struct Told {
    /// No card says what a frame shows.
    pub no_kinds: bool,
    /// No card says what is full.
    pub no_full: bool,
    /// Headers of darks are of another temperature.
    pub warmer_darks: f64,
    /// Names say nothing either.
    pub no_names: bool,
    /// Columns and rows that see no light are read along with the others, and an amplifier drifts meanwhile.
    pub overscan: bool,
}

/// Writes the frames of a night that are wanted into the folder `raw`.
pub fn written(night: &Night, raw: &RawNight, told: Told, wanted: impl Fn(&RawFrame) -> bool) {
    std::fs::create_dir_all(night.path("raw")).unwrap();
    let mut raw = raw.clone();
    raw.frames.retain(wanted);
    raw.take(|frame, plane, _| {
        let mut c = Cards::default();
        let kind = match frame.kind {
            Kind::Light => "Light Frame",
            Kind::Flat => "Flat Field",
            Kind::Dark => "Dark Frame",
            Kind::Bias => "Bias Frame",
            Kind::DarkFlat => "Dark Flat",
        };
        if !told.no_kinds {
            c.text("IMAGETYP", kind, "");
        }
        if let Some(card) = frame.filter_card {
            c.text("FILTER", card, "");
        }
        if let Some(p) = raw.pattern {
            c.text("BAYERPAT", &p.letters(), "");
        }
        if frame.kind == Kind::Light {
            let stray = frame.file.ends_with("Ha_002.fits");
            c.text(
                "OBJECT",
                if stray { "Owl Shoal" } else { "Lantern Reef" },
                "",
            );
        }
        c.text("INSTRUME", raw.camera, "");
        c.text("DATE-OBS", "2026-04-09T21:00:00", "");
        let warmer = if frame.kind == Kind::Dark {
            told.warmer_darks
        } else {
            0.0
        };
        for (name, value) in [
            ("EXPTIME", frame.exposure.seconds),
            ("SET-TEMP", frame.exposure.celsius + warmer),
            ("GAIN", 100.0),
            ("EGAIN", raw.chip.gain_e_adu),
            ("SATURATE", raw.chip.full_adu()),
        ] {
            if name != "SATURATE" || !told.no_full {
                c.number(name, value, "");
            }
        }
        let name = if told.no_names {
            format!("raw/image_{:04}.fits", frame.seed % 10_000)
        } else {
            format!("raw/{}", frame.file)
        };
        if told.overscan {
            let plane = with_overscan(&plane, &mut c);
            write(night, &name, &plane, &c);
        } else {
            write(night, &name, &plane, &c);
        }
    });
}

/// The frame behind 24 columns that saw no light, with the level of each row on all of it.
fn with_overscan(plane: &Plane, cards: &mut Cards) -> Plane {
    let size = plane.size();
    let (w, h) = (size.width(), size.height());
    cards.text("BIASSEC", &format!("[1:22,1:{h}]"), "");
    cards.text("TRIMSEC", &format!("[25:{},1:{h}]", w + 24), "");
    Plane::from_fn(Size::new(w + 24, h).unwrap(), |x, y| {
        let drift = 300.0 + 60.0 * (y.single() / 90.0).sin();
        let read = ((x * 31 + y * 17) % 7).single() - 3.0;
        let v = match x.checked_sub(24) {
            Some(x) => plane.row(y)[x],
            None => 500.0 + read,
        };
        (v + drift).round()
    })
}

fn write(night: &Night, name: &str, plane: &Plane, cards: &Cards) {
    let file = Unfinished::new(&night.path(name), true).unwrap();
    let mut out = FitsWriter::create(file, plane.size(), 1, Depth::Sixteen, cards).unwrap();
    out.put(plane.size().rect(), &[plane.data()]).unwrap();
    out.complete().and_then(Unfinished::finish).unwrap();
}

/// The demo's night, smaller.
pub fn small() -> RawNight {
    let mut raw = RawNight::demo();
    let size = Size::new(420, 300).unwrap();
    raw.chip = Chip::usual(size);
    raw.train = Train::usual(size);
    for shot in raw.frames.iter_mut().flat_map(|f| &mut f.shots) {
        shot.size = size;
    }
    // Half of the lights and of the sets; darks are all needed to see what wavers.
    let number = |f: &RawFrame| f.file[f.file.len() - 8..f.file.len() - 5].parse::<u32>();
    raw.frames.retain(|f| {
        let n = number(f).unwrap();
        n <= if f.kind == Kind::Light { 4 } else { 6 } || f.kind == Kind::Dark
    });
    raw
}

/// A night that has everything, calibrated once.
pub fn whole() -> &'static Night {
    static NIGHT: OnceLock<Night> = OnceLock::new();
    NIGHT.get_or_init(|| {
        let night = Night::new();
        written(&night, &small(), Told::default(), |_| true);
        night
            .run("calibrate raw --out work --name reef --write-frames work/clean")
            .success();
        night
    })
}

pub fn plane(night: &Night, name: &str, k: usize) -> Plane {
    let file = FitsFrame::open(&night.path(name)).unwrap();
    file.read_plane(k, Vec::new()).unwrap()
}

#[test]
fn a_night_is_sorted_and_what_is_wrong_with_it_is_said() {
    let night = whole();
    let again = night
        .run("calibrate raw --out work --name again --json")
        .json();
    let lights = again["lights"].as_array().unwrap();
    assert_eq!(lights.len(), 2);
    assert_eq!(lights[0]["dark"], "dark-180s");
    assert_eq!(lights[0]["flat"], "flat-Ha");
    assert_eq!(lights[0]["doubts"].as_array().unwrap().len(), 0);
    // The slot's flat is the only one for the only filter that has none.
    assert_eq!(lights[1]["flat"], "flat-Slot_3");
    assert!(
        lights[1]["doubts"][0]
            .as_str()
            .unwrap()
            .contains("'Slot 3'")
    );
    let other = again["doubtful"].as_array().unwrap();
    assert!(other.len() == 1 && other[0]["reason"].as_str().unwrap().contains("'Owl Shoal'"));
    let left_out = again["left_out"].as_array().unwrap();
    assert_eq!(left_out.len(), 1, "{left_out:?}");
    assert!(
        left_out[0]["file"]
            .as_str()
            .unwrap()
            .ends_with("dark_008.fits")
    );
    // Nothing is made a second time.
    for m in again["masters"].as_array().unwrap() {
        assert!(m["clipped_percent"].is_null(), "{m}");
    }
}

#[test]
fn a_light_is_the_same_through_the_layout_and_as_a_copy_and_is_true() {
    let night = whole();
    night
        .run("register work/reef.layout.json --out work --name placed --no-report --reference reef_Ha_003 --write-frames work/placed --kernel nearest")
        .success();
    let (clean, placed) = (
        plane(night, "work/clean/reef_Ha_003.fits", 0),
        plane(night, "work/placed/reef_Ha_003.fits", 0),
    );
    let same = clean.data().iter().zip(placed.data());
    assert!(same.clone().all(|(a, b)| a.to_bits() == b.to_bits()));
    // Against the light that fell on the chip, where no star is.
    let raw = small();
    let frame = raw.frames.iter().find(|f| f.file == "reef_Ha_003.fits");
    let shot = &frame.unwrap().shots[0];
    let clouds = jigsawa_sky::clouds::Clouds::over(shot.extent());
    let (light, _) = shot.light(&jigsawa_sky::stars::Crowd::lantern_reef(), Some(&clouds));
    let mut ratios: Vec<f32> = clean
        .data()
        .iter()
        .zip(light.data())
        .map(|(c, l)| c / l)
        .collect();
    let middle = jigsawa_core::robust::median(&mut ratios);
    let side = 60;
    for (cx, cy) in [(0, 0), (6, 0), (0, 4), (6, 4), (3, 2)] {
        let (mut is, mut want) = (0.0, 0.0);
        for y in cy * side..(cy + 1) * side {
            for x in cx * side..(cx + 1) * side {
                is += f64::from(clean.row(y)[x]);
                want += f64::from(middle * light.row(y)[x]);
            }
        }
        assert!((is / want - 1.0).abs() < 0.02, "{cx} {cy}: {is} {want}");
    }
}

#[test]
fn every_command_reads_lights_through_the_layout() {
    let night = whole();
    let survey =
        night.run("survey work/reef.layout.json --out work --name s --layout --no-report --json");
    let survey = survey.json();
    for f in survey["frames"].as_array().unwrap() {
        // The pedestal of 500 is gone, and electrons are counted.
        let sky = f["sky"].as_f64().unwrap();
        assert!((20.0..400.0).contains(&sky), "{sky}");
    }
    let layout = std::fs::read_to_string(night.path("work/s-survey.layout.json")).unwrap();
    assert!(layout.contains("\"calibration\""));
    night
        .run("show work/reef.layout.json reef_OIII_002 --out work")
        .success()
        .says("reef_OIII_002.fits");
    night
        .run("show work/reef.layout.json nothing --out work")
        .ends(2)
        .says("'nothing', which is not among the frames");
}

#[test]
fn kinds_by_name_and_a_library_of_another_night_do_as_well() {
    let night = Night::new();
    let raw = small();
    let no_kinds = Told {
        no_kinds: true,
        ..Told::default()
    };
    let sets = |f: &RawFrame| f.kind != Kind::Light && f.kind != Kind::DarkFlat;
    written(&night, &raw, no_kinds, |f| {
        sets(f) && f.filter_card != Some("Slot 3")
    });
    let masters = night
        .run("calibrate raw --library lib --out work --name sets --json")
        .json();
    assert_eq!(masters["masters"].as_array().unwrap().len(), 3);
    assert!(masters["groups"][0]["by_name"].as_u64().unwrap() > 0);
    std::fs::remove_dir_all(night.path("raw")).unwrap();
    written(&night, &raw, Told::default(), |f| {
        f.file.starts_with("reef_Ha")
    });
    let lights = night
        .run("calibrate raw --library lib --out work --name reef --json")
        .json();
    let row = &lights["lights"][0];
    assert_eq!(row["dark"], "dark-master-180s");
    assert_eq!(row["flat"], "flat-master-Ha");
    assert_eq!(row["doubts"].as_array().unwrap().len(), 0, "{row}");
    // What wavers is only seen when the master is made, and is kept beside it.
    let wavering = row["defects"]["wavering"].as_u64().unwrap_or(0);
    assert!(wavering > 10, "{row}");
}

#[test]
fn a_dark_that_is_warmer_than_it_says_is_seen_and_lights_alone_go_on() {
    let night = Night::new();
    let mut raw = small();
    for f in raw.frames.iter_mut().filter(|f| f.kind == Kind::Dark) {
        f.exposure = Exposure {
            celsius: -4.0,
            ..f.exposure
        };
    }
    // Warmer by six degrees, which the header does not say.
    let told = Told {
        warmer_darks: -6.0,
        ..Told::default()
    };
    written(&night, &raw, told, |f| f.filter_card != Some("Slot 3"));
    let out = night
        .run("calibrate raw --out work --name reef --json")
        .json();
    let doubts = out["lights"][0]["doubts"][0].as_str().unwrap();
    assert!(
        doubts.contains("hot pixels of the lights are 0.5"),
        "{doubts}"
    );
    // As it says it, it is scaled.
    std::fs::remove_dir_all(night.path("raw")).unwrap();
    written(&night, &raw, Told::default(), |f| {
        f.filter_card != Some("Slot 3")
    });
    let out = night
        .run("calibrate raw --out warm --name reef --json")
        .json();
    let factor = out["lights"][0]["dark_factor"].as_f64().unwrap();
    assert!((factor - 0.5).abs() < 0.02, "{factor}");
    assert_eq!(out["lights"][0]["bias"], "bias");
    std::fs::remove_dir_all(night.path("raw")).unwrap();
    written(&night, &raw, Told::default(), |f| f.kind == Kind::Light);
    night
        .run("calibrate raw --out alone --name reef")
        .success()
        .says("no dark and no bias")
        .says("no flat of this filter")
        .says("a flat cannot be right");
}

#[test]
fn flats_that_are_all_full_are_left_out_by_name_and_no_light_gets_one() {
    let night = Night::new();
    let mut raw = small();
    let flats = raw.frames.iter_mut().filter(|f| f.kind == Kind::Flat);
    flats.for_each(|f| f.even_e = [90_000.0; 3]);
    written(&night, &raw, Told::default(), |f| {
        f.filter_card == Some("Ha")
    });
    let out = night
        .run("calibrate raw --out work --name reef --json")
        .json();
    assert_eq!(out["left_out"].as_array().unwrap().len(), 6);
    assert!(out["lights"][0]["flat"].is_null());
    let doubts = out["lights"][0]["doubts"].to_string();
    assert!(doubts.contains("no flat of this filter"), "{doubts}");
    // And by themselves.
    std::fs::remove_dir_all(night.path("raw")).unwrap();
    written(&night, &raw, Told::default(), |f| {
        f.filter_card == Some("Ha") && f.kind == Kind::Flat
    });
    night
        .run("calibrate raw --out alone --name reef --strict")
        .ends(3)
        .says("where cameras are not linear any more");
}

#[test]
fn another_programs_masters_are_brought_to_one_or_refused() {
    let night = Night::new();
    let raw = small();
    written(&night, &raw, Told::default(), |f| {
        f.file.starts_with("reef_Ha")
    });
    let size = raw.chip.size;
    let master = |kind: &str, scale: f32, name: &str| {
        let mut c = Cards::default();
        c.text("IMAGETYP", kind, "");
        c.text("INSTRUME", raw.camera, "");
        c.text("FILTER", "Ha", "");
        c.number("EXPTIME", 180.0, "");
        c.number("SET-TEMP", -10.0, "");
        c.number("GAIN", 100.0, "");
        let flat = kind.ends_with("Flat");
        let (light, exposure) = if flat {
            (24_000.0, Exposure::none(-10.0))
        } else {
            (0.0, raw.frames[0].exposure)
        };
        let mut plane = raw.chip.even(light, &raw.train, exposure, 5);
        let pedestal = if flat { 500.0 } else { 0.0 };
        for v in plane.data_mut() {
            *v = (*v - pedestal) * scale;
        }
        let file = Unfinished::new(&night.path(name), true).unwrap();
        let mut out = FitsWriter::create(file, size, 1, Depth::Float, &c).unwrap();
        out.put(size.rect(), &[plane.data()]).unwrap();
        out.complete().and_then(Unfinished::finish).unwrap();
    };
    master("Master Flat", 1.0, "raw/flat.fits");
    master("Master Dark", 1.0 / 65_535.0, "raw/dark.fits");
    let out = night
        .run("calibrate raw --out work --name reef --json")
        .json();
    let row = &out["lights"][0];
    assert!(row["dark"].is_null(), "{row}");
    let doubts = row["doubts"].to_string();
    assert!(doubts.contains("values of another scale"), "{doubts}");
    let level = out["masters"][0]["level"].as_f64().unwrap();
    assert!((level - 1.0).abs() < 0.01, "{level}");
}

#[test]
fn what_is_full_is_seen_in_the_raw_lights() {
    let night = Night::new();
    let mut raw = small();
    // A camera whose pixels hold little, of which bright stars fill some.
    raw.chip.full_e = 6000.0;
    let told = Told {
        no_full: true,
        ..Told::default()
    };
    written(&night, &raw, told, |f| {
        f.file.starts_with("reef_Ha") || f.kind == Kind::Dark
    });
    night
        .run("calibrate raw --out work --name reef --no-report")
        .success();
    let layout: serde_json::Value =
        serde_json::from_slice(&std::fs::read(night.path("work/reef.layout.json")).unwrap())
            .unwrap();
    let full = layout["frames"][0]["saturation"].as_f64().unwrap();
    // In electrons, two per cent below the limit.
    assert!((full / (0.98 * 6000.0) - 1.0).abs() < 0.01, "{full}");
}

#[test]
fn flats_from_before_the_dust_moved_are_noticed() {
    let night = Night::new();
    let mut raw = small();
    // Ten times the light of the demo's dark sky shows the dust in a few lights.
    let shots = raw.frames.iter_mut().flat_map(|f| &mut f.shots);
    shots.for_each(|s| s.glow.level = 900.0);
    let ha = |f: &RawFrame| f.filter_card != Some("OIII") && f.filter_card != Some("Slot 3");
    written(&night, &raw, Told::default(), ha);
    let fitting = night
        .run("calibrate raw --out a --name x --no-report --json")
        .json();
    let doubts = fitting["lights"][0]["doubts"].as_array().unwrap();
    assert!(doubts.is_empty(), "{doubts:?}");
    for mote in &mut raw.train.motes {
        mote.at.0 += 70.0;
    }
    written(&night, &raw, Told::default(), |f| {
        f.kind == Kind::Flat && ha(f)
    });
    let moved = night
        .run("calibrate raw --out b --name x --no-report --json")
        .json();
    let doubt = moved["lights"][0]["doubts"][0].as_str().unwrap();
    assert!(
        doubt.contains("shadows of dust in its flat do not fit"),
        "{doubt}"
    );
}

#[test]
fn bad_input_is_said_and_hints_settle_what_is_meant() {
    let night = whole();
    night
        .run("calibrate raw --out work --name hint --use light-Ha-180s=flat-Slot_3 --no-report --json")
        .json();
    let layout = std::fs::read_to_string(night.path("work/hint.layout.json")).unwrap();
    assert!(!layout.contains("flat-Ha"), "{layout}");
    night
        .run("calibrate raw --out work --name x --use light-Ha-180s=flat-slot_3")
        .ends(2)
        .says("Did you mean flat-Slot_3?");
    night
        .run("calibrate raw --out work --name reef")
        .ends(1)
        .says("exist");
    night
        .run("calibrate nothing.fits raw --out w")
        .ends(1)
        .says("nothing.fits");
    night
        .run("calibrate work/reef.layout.json --out w")
        .ends(1)
        .says("it looks like a JSON file");
    night
        .run("calibrate work/clean --out w")
        .ends(1)
        .says("none of the 8 frames that were found is a raw one");
    // Half a frame among good ones, and a master that has gone.
    let other = Night::new();
    let few = |f: &RawFrame| f.filter_card == Some("Ha") || f.kind == Kind::Dark;
    written(&other, &small(), Told::default(), few);
    let half = std::fs::read(other.path("raw/dark_003.fits")).unwrap();
    std::fs::write(other.path("raw/dark_003.fits"), &half[..half.len() / 2]).unwrap();
    let out = other.run("calibrate raw --out work --name reef --strict");
    out.ends(3).says("dark_003.fits: it is cut short");
    let layout: serde_json::Value =
        serde_json::from_slice(&std::fs::read(other.path("work/reef.layout.json")).unwrap())
            .unwrap();
    let flat = layout["frames"][0]["calibration"]["flat"].as_str().unwrap();
    std::fs::remove_file(other.path("work").join(flat)).unwrap();
    other
        .run("register work/reef.layout.json --out work --name y")
        .ends(1)
        .says("flat-Ha");
}
