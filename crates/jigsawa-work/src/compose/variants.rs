//! Small pictures of many palettes from frames that are resampled once, and sheets to compare them.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::colour::Luminance;
use jigsawa_core::doors::FrameSource;
use jigsawa_core::finish::{FinishSettings, Link, Plan, develop, flatten, overview};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::Layout;
use jigsawa_core::merge::{Row, TileOp};
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_formats::png::write_all;
use jigsawa_formats::whole::Unfinished;

use rayon::prelude::*;

use super::bind::Bound;
use super::full::composite;
use super::strengths::Strengths;
use crate::finish::{Kind, usual_settings};
use crate::frames::Frame;
use crate::outputs::begin;
use crate::picture::{Words, write_words};
use crate::small::small;
use crate::trouble::Trouble;

/// Width of a small picture.
const WIDTH: usize = 900;

/// Width of one on the sheet, and the gap between two.
const ON_SHEET: usize = 450;
const GAP: usize = 14;

/// Heights of the words below a picture.
const NAME: usize = 24;
const MIXES: usize = 16;

/// What the account calls the sheets to look at.
pub const SHEET: &str = "comparison sheet";
/// What the account calls the page.
pub const FLIP: &str = "flip through them";

/// One small picture.
pub struct Variant<'a> {
    /// Its palette.
    pub bound: &'a Bound,
    /// The picture.
    pub picture: Picture,
}

/// Where the results of a comparison go.
pub struct Paths {
    /// All pictures on one.
    pub sheet: PathBuf,
    /// The page.
    pub page: PathBuf,
    /// The pictures.
    pub each: Vec<PathBuf>,
}

impl Paths {
    /// Names of the sheets, and of the picture of each palette.
    pub fn new(folder: &Path, start: &str, bounds: &[Bound]) -> Self {
        let each = bounds
            .iter()
            .enumerate()
            .map(|(i, b)| folder.join(format!("{start}-{:02}-{}.png", i + 1, b.palette.name)))
            .collect();
        Self {
            sheet: folder.join(format!("{start}-variants.png")),
            page: folder.join(format!("{start}-variants.html")),
            each,
        }
    }

    /// All of them.
    pub fn all(&self) -> Vec<&PathBuf> {
        [&self.sheet, &self.page]
            .into_iter()
            .chain(&self.each)
            .collect()
    }
}

/// Makes the picture of each palette.
pub fn variants<'a>(
    bounds: &'a [Bound],
    (layout, frames): (&Layout, &[Frame]),
    strengths: &Strengths,
    luminance: Luminance,
) -> Result<Vec<Variant<'a>>, Trouble> {
    let mut used: Vec<usize> = bounds.iter().flat_map(Bound::inputs).collect();
    used.sort_unstable();
    used.dedup();
    let planes: Vec<Option<Plane>> = (0..frames.len())
        .into_par_iter()
        .map(|i| {
            if !used.contains(&i) {
                return Ok(None);
            }
            let seen = small(layout, frames, i, WIDTH).map_err(|e| Trouble::Unreadable {
                file: frames[i].name(),
                error: e.to_string(),
            })?;
            let balance = layout.frames[i].balance.as_ref();
            Ok(seen.zip(balance).map(|(s, b)| s.with(b)))
        })
        .collect::<Result<_, Trouble>>()?;
    let planes = flat(planes);
    bounds
        .par_iter()
        .map(|bound| {
            let picture = one(bound, (layout, &planes), strengths, luminance)?;
            Ok(Variant { bound, picture })
        })
        .collect()
}

/// Writes the sheet and all pictures, under temporary names still.
pub fn write_variants(
    paths: &Paths,
    shown: &[Variant<'_>],
    overwrite: bool,
) -> Result<Vec<(Unfinished, &'static str)>, Trouble> {
    let mut files = Vec::new();
    let png = |path: &Path, p: &Picture| -> Result<Unfinished, Trouble> {
        let file = begin(path, overwrite)?;
        write_all(file, (p.width(), p.height()), &[p.rgb()], 1.0).map_err(|error| Trouble::Write {
            file: path.to_owned(),
            error,
        })
    };
    files.push((png(&paths.sheet, &sheet(shown))?, SHEET));
    for (path, v) in paths.each.iter().zip(shown) {
        files.push((png(path, &v.picture)?, "small picture"));
    }
    Ok(files)
}

/// Gradients are taken off the frames once, by the evidence of all of them, and not off each composite.
fn flat(planes: Vec<Option<Plane>>) -> Vec<Option<Plane>> {
    let there: Vec<bool> = planes.iter().map(Option::is_some).collect();
    let mut some: Vec<Plane> = planes.into_iter().flatten().collect();
    flatten(&mut some);
    let mut flat = some.into_iter();
    there
        .into_iter()
        .map(|t| if t { flat.next() } else { None })
        .collect()
}

/// A palette's composite of small planes, finished as `finish` does it by itself.
fn one(
    bound: &Bound,
    (layout, planes): (&Layout, &[Option<Plane>]),
    strengths: &Strengths,
    luminance: Luminance,
) -> Result<Picture, Trouble> {
    let inputs = bound.inputs();
    let given: Vec<&Plane> = inputs.iter().filter_map(|i| planes[*i].as_ref()).collect();
    let op = composite(bound, layout, strengths, luminance, false)
        .filter(|_| given.len() == inputs.len() && !given.is_empty())
        .ok_or(Trouble::Nothing)?;
    let size = given[0].size();
    let mut out: Vec<Plane> = (0..3).map(|_| Plane::filled(size, 0.0)).collect();
    let rows: Vec<&[f32]> = given.iter().map(|p| p.data()).collect();
    let mut slices: Vec<&mut [f32]> = out.iter_mut().map(Plane::data_mut).collect();
    op.run(&Row::of(&rows), &mut slices);
    let doors: [&dyn FrameSource; 3] = [&out[0], &out[1], &out[2]];
    let name = bound.palette.name.clone();
    let seen = overview(doors).map_err(|error| Trouble::Overview {
        file: name.clone(),
        error,
    })?;
    let settings = FinishSettings {
        gradient: None,
        ..usual_settings(Kind {
            colour: true,
            broad: bound.link == Link::Linked && bound.stars.is_none(),
            link: bound.link,
        })
    };
    let plan = Plan::measure(doors, &seen, &settings, None);
    let plan = plan.map_err(|error| Trouble::Finish { file: name, error })?;
    let (width, height) = (plan.rect.width, plan.rect.height);
    let mut picture = Picture::filled(width, height, [0; 3]);
    let mut y = 0i64;
    let order: RowOrder = layout.canvas.row_order;
    develop(
        &plan,
        doors,
        None,
        order,
        |rows, n| -> Result<(), jigsawa_core::doors::DoorError> {
            for (i, v) in rows.chunks_exact(3).enumerate() {
                let level = |v: f32| (255.0 * v.clamp(0.0, 1.0)).round().byte();
                picture.set(
                    (i % width).whole(),
                    y + (i / width).whole(),
                    [level(v[0]), level(v[1]), level(v[2])],
                );
            }
            y += n.whole();
            Ok(())
        },
    )
    .map_err(|e| Trouble::Unreadable {
        file: bound.palette.name.clone(),
        error: e.to_string(),
    })?;
    Ok(picture)
}

/// All pictures in rows on one, with their numbers, names and mixes below them.
fn sheet(shown: &[Variant<'_>]) -> Picture {
    const GROUND: [u8; 3] = [22, 24, 27];
    let small: Vec<Picture> = shown.iter().map(|v| shrunk(&v.picture, ON_SHEET)).collect();
    let columns = match shown.len() {
        0..=1 => 1,
        2..=4 => 2,
        5..=12 => 3,
        _ => 4,
    };
    let tall = small.iter().map(Picture::height).max().unwrap_or(0);
    let words = NAME + 3 * MIXES + 10;
    let rows = shown.len().div_ceil(columns);
    let (cell_w, cell_h) = (ON_SHEET + GAP, tall + words + GAP);
    let mut all = Picture::filled(columns * cell_w + GAP, rows * cell_h + GAP, GROUND);
    for (i, (v, p)) in shown.iter().zip(&small).enumerate() {
        let (x, y) = (GAP + (i % columns) * cell_w, GAP + (i / columns) * cell_h);
        all.paste(p, x, y);
        let palette = &v.bound.palette;
        let mut line = y + tall + 4;
        let title = Words {
            text: &format!("{} {}", i + 1, palette.name),
            height: NAME,
            colour: [238, 236, 230],
            bold: true,
        };
        write_words(&mut all, &title, (x, line));
        line += NAME;
        for (letter, mix) in ["R", "G", "B"].iter().zip(&palette.channels) {
            let text = fitting(&format!("{letter} {}", mix.text()), MIXES);
            let words = Words {
                text: &text,
                height: MIXES,
                colour: [168, 172, 176],
                bold: false,
            };
            write_words(&mut all, &words, (x, line));
            line += MIXES;
        }
    }
    all
}

/// Words cut to the width of a picture.
fn fitting(text: &str, height: usize) -> String {
    let width = |t: &str| {
        let words = Words {
            text: t,
            height,
            colour: [0; 3],
            bold: false,
        };
        words.width()
    };
    let mut shown = text.to_owned();
    while width(&shown) > ON_SHEET && shown.chars().count() > 2 {
        shown = shown
            .chars()
            .take(shown.chars().count() - 2)
            .chain(['\u{2026}'])
            .collect();
    }
    shown
}

/// A picture shrunk to a width.
fn shrunk(p: &Picture, width: usize) -> Picture {
    let rows: Vec<f32> = p.rgb().iter().map(|v| f32::from(*v) / 255.0).collect();
    let longest = width * p.width().max(p.height()) / p.width().max(1);
    let mut shrink = crate::picture::Shrink::new((p.width(), p.height()), longest);
    let mut out = Vec::new();
    shrink.rows(&rows, &mut out);
    let (w, h) = shrink.shape();
    let mut small = Picture::filled(w, h, [0; 3]);
    for (i, v) in out.chunks_exact(3).enumerate() {
        let level = |v: f32| (255.0 * v).round().byte();
        small.set(
            (i % w).whole(),
            (i / w).whole(),
            [level(v[0]), level(v[1]), level(v[2])],
        );
    }
    small
}
