//! A picture of what each palette looks like, made from the made-up sky.

use jigsawa_core::colour::mix::{BoundMix, Mix};
use jigsawa_core::colour::{Luminance, Palette, strengths, with_luminance};
use jigsawa_core::filter::{Band, Filter};
use jigsawa_core::finish::{Link, Stretch};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::space::Size;
use jigsawa_sky::clouds::Clouds;
use jigsawa_sky::demo::frames;
use jigsawa_sky::optics::Optics;
use jigsawa_sky::pointing::Pointing;
use jigsawa_sky::stars::{Crowd, SkyStar};

use jigsawa_work::picture::{Words, write_words};

/// A swatch's pixels, and the plane's units that one of them covers.
const SIZE: (usize, usize) = (330, 220);
const UNITS: f64 = 5.2;

/// About the noise of a swatch's pixels.
const NOISE: f32 = 3.0;

const GAP: usize = 12;
const WORDS: usize = 24;
const COLUMNS: usize = 3;

/// Every palette that is shown, with its name below it.
pub fn swatches() -> Option<Picture> {
    let cells = cells()?;
    let rows = cells.len().div_ceil(COLUMNS);
    let (w, h) = (SIZE.0 + GAP, SIZE.1 + WORDS + GAP);
    let mut all = Picture::filled(COLUMNS * w + GAP, rows * h + GAP, [22, 24, 27]);
    for (i, (palette, picture)) in cells.iter().enumerate() {
        let (x, y) = (GAP + (i % COLUMNS) * w, GAP + (i / COLUMNS) * h);
        all.paste(picture, x, y);
        let words = Words {
            text: &palette.name,
            height: 20,
            colour: [238, 236, 230],
            bold: true,
        };
        write_words(&mut all, &words, (x, y + SIZE.1 + 2));
    }
    Some(all)
}

/// The palettes and their pictures.
fn cells() -> Option<Vec<(Palette, Picture)>> {
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
            let of = |filter: &Filter| sun.electrons(filter).single();
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
                .map(|v| k * (v - level.single()))
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
    let pictures = Palette::shown().into_iter().filter_map(|p| {
        let picture = one(&p, &planes, size)?;
        Some((p, picture))
    });
    Some(pictures.collect())
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
    if let Some(mix) = &palette.luminance {
        let mut light = Plane::filled(size, 0.0);
        bound(mix)?.eval(&inputs, 60_000.0, light.data_mut());
        for (i, l) in light.data().iter().enumerate() {
            let rgb = std::array::from_fn(|c| channels[c].data()[i]);
            let made = with_luminance(rgb, *l, Luminance { weight: 1.0 }, NOISE);
            for (plane, v) in channels.iter_mut().zip(made) {
                plane.data_mut()[i] = v;
            }
        }
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
        let shown = stretch.apply(*pixel).0.map(|v| (255.0 * v).round().byte());
        let (x, y) = (i % size.width(), size.height() - 1 - i / size.width());
        picture.set(x.whole(), y.whole(), shown);
    }
    Some(picture)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two pictures are told apart at a glance when their colours differ by so much, root mean square over all pixels that
    /// are not dark, in steps of 255.
    const APART: f64 = 20.0;

    fn differ(a: &Picture, b: &Picture) -> f64 {
        let bright = |p: &[u8]| p.iter().any(|v| *v > 60);
        let both = a.rgb().chunks_exact(3).zip(b.rgb().chunks_exact(3));
        let (mut sum, mut n) = (0.0, 0.0f64);
        for (p, q) in both.filter(|(p, q)| bright(p) || bright(q)) {
            sum += p
                .iter()
                .zip(q)
                .map(|(a, b)| (f64::from(*a) - f64::from(*b)).powi(2))
                .sum::<f64>();
            n += 1.0;
        }
        (sum / n.max(1.0)).sqrt()
    }

    #[test]
    fn any_two_palettes_of_a_sheet_are_told_apart_at_a_glance() {
        let cells = cells().unwrap();
        let all: Vec<Palette> = cells.iter().map(|c| c.0.clone()).collect();
        let shown = Palette::apart(&all);
        let of = |name: &str| &cells.iter().find(|c| c.0.name == name).unwrap().1;
        let mut pairs: Vec<(f64, String)> = Vec::new();
        for (i, p) in shown.iter().enumerate() {
            for q in &shown[..i] {
                pairs.push((
                    differ(of(&p.name), of(&q.name)),
                    format!("{} {}", p.name, q.name),
                ));
            }
        }
        pairs.sort_by(|a, b| a.0.total_cmp(&b.0));
        assert!(
            shown.len() > 10 && pairs[0].0 > APART,
            "{:?}",
            &pairs[..pairs.len().min(12)]
        );
    }
}
