//! A picture of what each palette looks like, made from the made-up sky.

use jigsawa_core::colour::mix::{BoundMix, Mix};
use jigsawa_core::colour::{Palette, strengths};
use jigsawa_core::filter::{Band, Filter};
use jigsawa_core::finish::{Link, Stretch};
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::space::Size;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::demo::frames;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::stars::{Crowd, SkyStar};

use crate::picture::{Words, write_words};

/// A swatch's pixels, and the plane's units that one of them covers.
const SIZE: (usize, usize) = (330, 220);
const UNITS: f64 = 5.2;

const GAP: usize = 12;
const WORDS: usize = 24;
const COLUMNS: usize = 3;

/// Every palette that is shown, with its name below it.
pub fn swatches() -> Option<Picture> {
    let size = Size::new(SIZE.0, SIZE.1)?;
    let mut shots = frames();
    for f in &mut shots {
        f.shot.size = size;
        f.shot.pointing = Pointing {
            scale: 1.0 / UNITS,
            ..Pointing::at(960.0, 640.0)
        };
        f.shot.optics = Optics::round(1.7);
        f.shot.glow.across = 0.0;
        f.shot.glow.along = 0.0;
        f.shot.transparency = 1.0;
        f.shot.camera.gain_e_adu = 1.0;
    }
    let clouds = Clouds::over(shots.first()?.shot.extent());
    // Only stars that such small pixels show one by one.
    let crowd = Crowd {
        per_cell: 3.0,
        magnitudes: (7.2, 16.0),
        ..Crowd::lantern_reef()
    };
    let mut planes: Vec<(Filter, Vec<f32>)> = shots
        .iter()
        .map(|f| {
            let taken = f.shot.take(&crowd, Some(&clouds));
            // Broad filters are brought together by their stars, as in a composite.
            let sun = SkyStar {
                x: 0.0,
                y: 0.0,
                magnitude: 10.0,
                colour: 0.65,
            };
            let of = |filter: &Filter| sun.electrons(filter) as f32;
            let k = of(&Filter::G) / of(&f.shot.filter);
            let k = if f.shot.filter.band() == Band::Broad {
                k
            } else {
                1.0
            };
            let level = f.shot.camera.units(f.shot.glow.level);
            let light = taken
                .plane
                .data()
                .iter()
                .map(|v| k * (v - level as f32))
                .collect();
            (f.shot.filter.clone(), light)
        })
        .collect();
    level_lines(&mut planes);
    // The made-up luminance sees all three colours at once.
    let sum = |filters: [Filter; 3]| -> Vec<f32> {
        let of: Vec<&Vec<f32>> = planes
            .iter()
            .filter(|(f, _)| filters.contains(f))
            .map(|(_, p)| p)
            .collect();
        (0..size.area())
            .map(|i| of.iter().map(|p| p[i]).sum::<f32>() / 3.0)
            .collect()
    };
    let luminance = sum([Filter::R, Filter::G, Filter::B]);
    planes.push((Filter::L, luminance));
    let cells: Vec<(String, Picture)> = Palette::shown()
        .iter()
        .filter_map(|p| Some((p.name.clone(), one(p, &planes, size)?)))
        .collect();
    let rows = cells.len().div_ceil(COLUMNS);
    let (w, h) = (SIZE.0 + GAP, SIZE.1 + WORDS + GAP);
    let mut all = Picture::filled(COLUMNS * w + GAP, rows * h + GAP, [22, 24, 27]);
    for (i, (name, picture)) in cells.iter().enumerate() {
        let (x, y) = (GAP + (i % COLUMNS) * w, GAP + (i / COLUMNS) * h);
        all.paste(picture, x, y);
        let words = Words {
            text: name,
            height: 20,
            colour: [238, 236, 230],
            bold: true,
        };
        write_words(&mut all, &words, (x, y + SIZE.1 + 2));
    }
    Some(all)
}

/// Lines made equally bright, as `compose` does it.
fn level_lines(planes: &mut [(Filter, Vec<f32>)]) {
    let is_line = |f: &Filter| f.band() == Band::Narrow;
    let light: Vec<Vec<f32>> = planes
        .iter()
        .filter(|(f, _)| is_line(f))
        .map(|(_, p)| p.clone())
        .collect();
    let lines = planes.iter_mut().filter(|(f, _)| is_line(f));
    for ((_, plane), k) in lines.zip(strengths(&light)) {
        for v in plane {
            *v *= k;
        }
    }
}

fn one(palette: &Palette, planes: &[(Filter, Vec<f32>)], size: Size) -> Option<Picture> {
    let bound = |mix: &Mix| -> Option<BoundMix> {
        mix.bind(|n| {
            let filter = Filter::named_by_hand(&n.text).ok_or(())?;
            planes.iter().position(|(f, _)| *f == filter).ok_or(())
        })
        .ok()
    };
    // Stars apart from the nebula are not worth their work on a swatch: the nebula is what differs.
    let inputs: Vec<&[f32]> = planes.iter().map(|(_, p)| p.as_slice()).collect();
    let mut channels: Vec<Plane> = Vec::new();
    for mix in &palette.channels {
        let mut plane = Plane::filled(size, 0.0);
        bound(mix)?.eval(&inputs, 60_000.0, plane.data_mut());
        channels.push(plane);
    }
    let narrow = palette.is_narrow(|n| Filter::from(n.to_owned()).band());
    let sample: Vec<[f32; 3]> = (0..size.area())
        .map(|i| {
            [
                channels[0].data()[i],
                channels[1].data()[i],
                channels[2].data()[i],
            ]
        })
        .collect();
    let stretch = Stretch::measure(&sample, if narrow { Link::Each } else { Link::Linked })?;
    let mut picture = Picture::filled(size.width(), size.height(), [0; 3]);
    for (i, pixel) in sample.iter().enumerate() {
        let shown = stretch.apply(*pixel).0.map(|v| (255.0 * v).round() as u8);
        let (x, y) = (i % size.width(), size.height() - 1 - i / size.width());
        picture.set(x as i64, y as i64, shown);
    }
    Some(picture)
}
