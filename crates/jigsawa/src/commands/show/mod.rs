//! `jigsawa show`: frames as quick-look pictures.

mod draw;
mod read;

use jigsawa_core::number::Convert;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use jigsawa_core::quick::Picture;
use jigsawa_core::stars::FLAGS;
use jigsawa_formats::png;
use jigsawa_formats::whole::Unfinished;
use serde::Serialize;

use crate::account::{Ending, Outcome};
use crate::cli::{Common, ShowArgs};
use crate::terminal::{Own, tell, watch};
use draw::{MOST_MARKS, differences, pictures};
use jigsawa_work::clock::{Clock, Output, round};
use jigsawa_work::frames::stem;
use jigsawa_work::outputs::are_free;
use jigsawa_work::outputs::{begin, make_folder, plain_name};
use jigsawa_work::start::of_layout;
use jigsawa_work::trouble::Trouble;
use read::{Shown, Source, read};

#[derive(Debug, Serialize)]
struct ShowAccount {
    frames: Vec<ShownFrame>,
}

impl Own for ShowAccount {
    fn text(account: &Outcome<Self>) -> String {
        text(account)
    }
}

#[derive(Debug, Serialize)]
struct ShownFrame {
    file: String,
    width: usize,
    height: usize,
    region: [i64; 4],
    zoom: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    stars: Option<Vec<ShownStar>>,
}

#[derive(Debug, Serialize)]
struct ShownStar {
    id: usize,
    x: f64,
    y: f64,
    flux: f64,
    fwhm_px: f64,
    elongation: f64,
    doubts: Vec<&'static str>,
}

/// Runs the command and prints what it wrote.
pub fn show(args: &ShowArgs, common: &Common) -> Result<Ending, Trouble> {
    let clock = Clock::start();
    let sources: Vec<Source> = match of_layout(&args.frames)? {
        Some(frames) => frames
            .into_iter()
            .map(|f| Source::Frame(Box::new(f)))
            .collect(),
        None => args.frames.iter().cloned().map(Source::File).collect(),
    };
    let files: Vec<&Path> = sources.iter().map(Source::path).collect();
    if (args.difference || args.flip.is_some()) && files.len() < 2 {
        return Err(Trouble::NeedsTwo(if args.difference {
            "--difference"
        } else {
            "--flip"
        }));
    }
    let paths = names(args, &files)?;
    make_folder(&args.output.out)?;
    are_free(&paths, args.output.overwrite)?;
    let progress = watch(common).begin("frames", sources.len());
    let mut shown = Vec::with_capacity(sources.len());
    for source in &sources {
        shown.push(read(source, args)?);
        progress.step();
    }
    drop(progress);
    clock.lap("frames");
    let mut warnings = Vec::new();
    let pictures = if args.difference {
        differences(&shown, &mut warnings)?
    } else {
        pictures(&shown, args.own_stretch)?
    };
    let finished = if args.together {
        vec![Picture::together(&pictures).ok_or(Trouble::Nothing)?]
    } else {
        pictures
    };
    let outputs = if let Some(rate) = args.flip {
        vec![write(
            &paths[0],
            &finished,
            1.0 / rate,
            args.output.overwrite,
        )?]
    } else {
        paths
            .iter()
            .zip(&finished)
            .map(|(path, p)| write(path, std::slice::from_ref(p), 0.0, args.output.overwrite))
            .collect::<Result<_, _>>()?
    };
    clock.lap("pictures");
    let own = ShowAccount {
        frames: shown.iter().map(row).collect(),
    };
    let account = Outcome::new("show", own, outputs, warnings, &clock);
    Ok(tell(&account, common))
}

/// Where the pictures go: one for each frame, or one in all.
fn names(args: &ShowArgs, files: &[&Path]) -> Result<Vec<PathBuf>, Trouble> {
    let start = args.output.name.as_deref().map(plain_name).transpose()?;
    let first = stem(files[0]);
    let file = |name: String| args.output.out.join(name + ".png");
    if args.together || args.flip.is_some() {
        let kind = if args.together { "together" } else { "flip" };
        let start = start.unwrap_or_else(|| first.clone());
        return Ok(vec![file(format!("{start}-{kind}"))]);
    }
    let shown = if args.difference { &files[1..] } else { files };
    let mut all: Vec<PathBuf> = Vec::new();
    for (i, path) in shown.iter().enumerate() {
        let own = match &start {
            Some(start) if shown.len() == 1 => start.clone(),
            Some(start) => format!("{start}-{}", i + 1),
            None => stem(path),
        };
        let name = if args.difference {
            file(format!("{own}-less-{first}"))
        } else {
            file(format!("{own}-look"))
        };
        if all.contains(&name) {
            return Err(Trouble::SamePicture(name));
        }
        all.push(name);
    }
    Ok(all)
}

/// Writes one picture, or several as one that flips through them.
fn write(
    path: &Path,
    pictures: &[Picture],
    seconds: f64,
    overwrite: bool,
) -> Result<Output, Trouble> {
    let wrong = |error| Trouble::Write {
        file: path.to_owned(),
        error,
    };
    let width = pictures.iter().map(Picture::width).max().unwrap_or(0);
    let height = pictures.iter().map(Picture::height).max().unwrap_or(0);
    let padded: Vec<Picture> = pictures
        .iter()
        .map(|p| {
            let mut page = Picture::filled(width, height, [0; 3]);
            page.paste(p, 0, 0);
            page
        })
        .collect();
    let bytes: Vec<&[u8]> = padded.iter().map(Picture::rgb).collect();
    let file = png::write_all(begin(path, overwrite)?, (width, height), &bytes, seconds)
        .and_then(Unfinished::finish)
        .map_err(wrong)?;
    Ok(Output {
        file: file.display().to_string(),
        kind: if pictures.len() > 1 {
            "animated picture"
        } else {
            "picture"
        },
    })
}

fn row(s: &Shown) -> ShownFrame {
    let region = s.region;
    ShownFrame {
        file: s.path.display().to_string(),
        width: s.facts.size.width(),
        height: s.facts.size.height(),
        region: [
            region.x,
            region.y,
            region.width.whole(),
            region.height.whole(),
        ],
        zoom: round(s.scale.zoom(), 4),
        stars: s.stars.as_ref().filter(|_| s.marks).map(|c| {
            let marked = c.stars.iter().take(MOST_MARKS).enumerate();
            marked
                .map(|(i, star)| ShownStar {
                    id: i + 1,
                    x: round(star.at.x, 3),
                    y: round(star.at.y, 3),
                    flux: round(star.flux, 2),
                    fwhm_px: round(star.fwhm_px, 3),
                    elongation: round(star.elongation, 3),
                    doubts: FLAGS
                        .iter()
                        .filter(|(flag, _, _)| star.flags.has(*flag))
                        .map(|(_, name, _)| *name)
                        .collect(),
                })
                .collect()
        }),
    }
}

fn text(a: &Outcome<ShowAccount>) -> String {
    let mut out = String::new();
    for f in &a.own.frames {
        let zoom = if f.zoom < 1.0 {
            format!("1 : {:.0}", 1.0 / f.zoom)
        } else {
            format!("{:.0} : 1", f.zoom)
        };
        let stars = f.stars.as_ref().map_or(String::new(), |s| {
            format!(", {} stars marked (--json lists them)", s.len())
        });
        let part = if f.region[2..] == [f.width.whole(), f.height.whole()] {
            String::new()
        } else {
            format!(
                ", pixels {},{} to {},{}",
                f.region[0],
                f.region[1],
                f.region[0] + f.region[2] - 1,
                f.region[1] + f.region[3] - 1
            )
        };
        let _ = writeln!(out, "shown      {} at {zoom}{part}{stars}", f.file);
    }
    for w in &a.warnings {
        let _ = writeln!(out, "note       {w}");
    }
    for o in &a.outputs {
        let _ = writeln!(out, "wrote      {}  {}", o.file, o.kind);
    }
    let _ = writeln!(out, "took       {:.2} s", a.seconds);
    out
}
