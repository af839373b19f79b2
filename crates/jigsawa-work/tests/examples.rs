//! The examples, run on frames of the made-up sky.

#[path = "../examples/1_palette.rs"]
mod palette;
#[path = "../examples/2_panels.rs"]
mod panels;
#[path = "../examples/0_two_frames.rs"]
mod two_frames;

use std::path::{Path, PathBuf};

use jigsawa_core::doors::{FrameSource, TileSink};
use jigsawa_core::filter::Filter;
use jigsawa_core::space::Size;
use jigsawa_formats::fits::{Cards, Depth, FitsFrame, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use jigsawa_sky::camera::Camera;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::glow::SkyGlow;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::shot::Shot;
use jigsawa_sky::spoilt::Spoilt;
use jigsawa_sky::stars::Crowd;

/// Photographs the sky through a filter at a place, turned by so many degrees, into a file.
fn photograph(
    folder: &Path,
    name: &str,
    filter: &Filter,
    at: (f64, f64),
    turn_deg: f64,
) -> PathBuf {
    let shot = Shot {
        size: Size::new(560, 420).unwrap(),
        pointing: Pointing {
            turn_deg,
            ..Pointing::at(at.0, at.1)
        },
        optics: Optics::round(2.8),
        camera: Camera::usual(),
        glow: SkyGlow::even(120.0),
        transparency: 1.0,
        spoilt: Spoilt::default(),
        subs: 300,
        seed: name.bytes().map(u64::from).sum(),
        filter: filter.clone(),
    };
    let clouds = Clouds::over((200.0, 400.0, 1700.0, 1300.0));
    let taken = shot.take(&Crowd::lantern_reef(), Some(&clouds));
    let path = folder.join(name);
    let mut cards = Cards::default();
    cards.text("FILTER", filter.name(), "");
    cards.number("EXPTIME", 300.0, "");
    let file = Unfinished::new(&path, false).unwrap();
    let mut file = FitsWriter::create(file, shot.size, 1, Depth::Float, &cards).unwrap();
    file.put(shot.size.rect(), &[taken.plane.data()]).unwrap();
    file.complete().unwrap().finish().unwrap();
    path
}

#[test]
fn the_second_frame_is_found_turned_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let files = [
        photograph(folder.path(), "a.fits", &Filter::Ha, (700.0, 850.0), 0.0),
        photograph(folder.path(), "b.fits", &Filter::Oiii, (710.0, 843.0), 12.0),
    ];
    let layout = two_frames::registered(&files).unwrap();
    let placed = layout.frames[1].placement.as_ref().unwrap();
    let off = placed.described.rotation_deg.abs() - 12.0;
    assert!(off.abs() < 0.01, "{}", placed.described.rotation_deg);
    assert!(placed.errors.corner_sigma_px < 0.1, "{:?}", placed.errors);
}

#[test]
fn too_few_frames_are_told_and_no_panic() {
    assert!(two_frames::registered(&[]).is_err());
    assert!(panels::solved(&[]).is_err());
    let to = std::env::temp_dir().join("never.fits");
    assert!(palette::merged("HOO", &to, &[]).is_err() && !to.exists());
}

#[test]
fn a_palette_becomes_three_planes() {
    let folder = tempfile::tempdir().unwrap();
    let files = [
        photograph(folder.path(), "a.fits", &Filter::Ha, (700.0, 850.0), 0.0),
        photograph(folder.path(), "b.fits", &Filter::Oiii, (706.0, 851.0), 0.4),
    ];
    let to = folder.path().join("hoo.fits");
    palette::merged("HOO", &to, &files).unwrap();
    let made = FitsFrame::open(&to).unwrap();
    assert_eq!(made.size(), Size::new(560, 420).unwrap());
    // Hydrogen is red, and oxygen the same in green and blue.
    let mut planes = [0, 1, 2].map(|p| {
        let mut row = vec![0.0; made.size().area()];
        made.plane(p).read(made.size().rect(), &mut row).unwrap();
        row
    });
    let apart = |a: &[f32], b: &[f32]| {
        let off = a.iter().zip(b).filter(|(a, b)| a.is_finite() && a != b);
        off.count()
    };
    assert_eq!(apart(&planes[1], &planes[2]), 0);
    assert!(apart(&planes[0], &planes[1]) > planes[0].len() / 2);
    planes[0].retain(|v| v.is_finite());
    assert!(planes[0].len() > made.size().area() * 9 / 10);
}

#[test]
fn two_panels_share_their_stars() {
    let folder = tempfile::tempdir().unwrap();
    let files = [
        photograph(folder.path(), "a.fits", &Filter::Ha, (700.0, 850.0), 0.0),
        photograph(folder.path(), "b.fits", &Filter::Ha, (980.0, 850.0), 0.7),
    ];
    let placed = panels::solved(&files).unwrap();
    assert_eq!(placed.panels.len(), 2);
    let tie = &placed.ties[0];
    assert!(
        tie.stars > 8 && tie.rms_px < 0.2,
        "{} {}",
        tie.stars,
        tie.rms_px
    );
    assert!(placed.layout.canvas.size.width() > 820);
}
