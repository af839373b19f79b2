//! `jigsawa calibrate` on what single frames have, and on cameras and folders that are not the usual ones.

use jigsawa_core::frame::Kind;
use jigsawa_core::number::Convert;
use jigsawa_core::robust::median;

use crate::calibrate::{Told, plane, small, written};
use crate::night::Night;

#[test]
fn rays_and_blooms_of_single_lights_are_filled_through_the_layout() {
    let mut raw = small();
    raw.frames
        .retain(|f| f.kind != Kind::Light || f.filter_card == Some("Ha"));
    // Small wells: stars overflow.
    raw.chip.full_e = 800.0;
    for f in raw.frames.iter_mut().filter(|f| f.kind == Kind::Flat) {
        f.even_e = [450.0; 3];
    }
    raw.chip.blooms = true;
    raw.chip.rays = 25.0;
    let hit = Night::new();
    written(&hit, &raw, Told::default(), |_| true);
    raw.chip.blooms = false;
    raw.chip.rays = 0.0;
    let calm = Night::new();
    written(&calm, &raw, Told::default(), |_| true);
    let line =
        "calibrate raw --out work --name reef --cosmic-rays --write-frames work/clean --json";
    let told = hit.run(line).json();
    let row = &told["lights"][0];
    let own = |what: &str| row["own_defects"][what].as_u64().unwrap_or(0);
    assert!(own("ray") > 60 && own("bloom") > 60, "{row}");
    let doubts = row["doubts"].to_string();
    assert!(
        doubts.contains("ran along their columns in 4 of 4 lights"),
        "{doubts}"
    );
    let quiet = calm.run(line).json();
    let row = &quiet["lights"][0];
    let false_ones = row["own_defects"]["ray"].as_u64().unwrap_or(0);
    assert!(
        false_ones < 25 && row["own_defects"]["bloom"].is_null(),
        "{row}"
    );
    // Against the same light without either, where no star is full: as it was read, and as it is filled.
    let spoilt = |name: &str, full: f32| {
        let (got, want) = (plane(&hit, name, 0), plane(&calm, name, 0));
        let all = got.data().iter().zip(want.data());
        all.filter(|(g, w)| **w < 0.5 * full && (*g - *w).abs() > 0.3 * full)
            .count()
    };
    let (read, filled) = (
        spoilt("raw/reef_Ha_003.fits", 1500.0),
        spoilt("work/clean/reef_Ha_003.fits", 800.0),
    );
    assert!(read > 200 && filled * 4 < read, "{filled} of {read}");
    // Without the option rays stay, and each command reads the lists of a layout.
    let plain = hit
        .run("calibrate raw --out plain --name reef --write-frames plain/clean --json")
        .json();
    assert!(plain["lights"][0]["own_defects"]["ray"].is_null());
    let layout = std::fs::read_to_string(hit.path("work/reef.layout.json")).unwrap();
    assert_eq!(layout.matches("own_defects").count(), 4);
    hit.run("show work/reef.layout.json reef_Ha_003 --out work")
        .success();
    std::fs::remove_dir_all(hit.path("work/flaws")).unwrap();
    hit.run("show work/reef.layout.json reef_Ha_003 --out work --overwrite")
        .ends(1)
        .says("flaws");
}

/// A raw night whose frames neither cards nor names tell the kind of, in `raw`.
pub fn untold() -> Night {
    let night = Night::new();
    let told = Told {
        no_kinds: true,
        no_names: true,
        ..Told::default()
    };
    written(&night, &small(), told, |f| f.kind != Kind::DarkFlat);
    night
}

#[test]
fn frames_without_cards_and_names_are_guessed_by_their_pixels_and_said() {
    let night = untold();
    let account = night
        .run("calibrate raw --out work --name reef --json")
        .json();
    let groups = account["groups"].as_array().unwrap();
    let of = |kind: &str| {
        let own = groups.iter().filter(|g| g["kind"] == kind);
        own.map(|g| g["files"].as_array().unwrap().len())
            .sum::<usize>()
    };
    assert_eq!(
        [of("light"), of("flat"), of("dark"), of("bias")],
        [8, 12, 11, 6]
    );
    assert!(
        groups
            .iter()
            .all(|g| g["by_pixels"] == g["files"].as_array().unwrap().len())
    );
    night
        .run("calibrate raw --out work --name reef --overwrite")
        .says("by their pixels, which is a guess");
}

#[test]
fn an_overscan_takes_a_drifting_amplifier_off_and_the_frame_keeps_to_the_sky() {
    let (drifting, still) = (Night::new(), Night::new());
    let overscan = Told {
        overscan: true,
        ..Told::default()
    };
    let ha = |f: &jigsawa_sky::raw_night::RawFrame| f.filter_card != Some("OIII");
    written(&drifting, &small(), overscan, ha);
    written(&still, &small(), Told::default(), ha);
    let line = "calibrate raw --out work --name reef --write-frames work/clean";
    drifting.run(line).success();
    still.run(line).success();
    let name = "work/clean/reef_Ha_003.fits";
    let (got, want) = (plane(&drifting, name, 0), plane(&still, name, 0));
    assert_eq!(got.size(), want.size());
    for rows in [0..40usize, 130..170, 260..300] {
        let mut off: Vec<f32> = rows
            .clone()
            .flat_map(|y| {
                got.row(y)
                    .iter()
                    .zip(want.row(y))
                    .map(|(g, w)| g - w)
                    .collect::<Vec<_>>()
            })
            .collect();
        let middle = median(&mut off);
        // Of a sky of a hundred electrons and more; the drift was 60 units.
        assert!(
            middle.abs() < 1.0,
            "{rows:?}: {middle} of {}",
            want.row(rows.start)[9].real()
        );
    }
}
