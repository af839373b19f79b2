//! `jigsawa show`: frames as quick-look pictures.

use std::path::{Path, PathBuf};

use jigsawa_core::finish::{Link, Shade, Stretch};
use jigsawa_core::frame::{FrameFacts, RowOrder};
use jigsawa_core::matching::{match_frames, spots};
use jigsawa_core::placement::Map;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::{Picture, circle, difference, number};
use jigsawa_core::resample::resampled;
use jigsawa_core::space::{Rect, Size};
use jigsawa_core::stars::Catalogue;
use jigsawa_core::survey::{Area, binned, stars_and_trails};
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::{facts, png};
use serde::Serialize;

use crate::account::{Clock, Ending, Output, Stage, round};
use crate::cli::{Common, ShowArgs};
use crate::frames::stem;
use crate::outputs::{begin, make_folder, plain_name};
use crate::tell::Trouble;
use crate::terminal::{Progress, say};

/// Without --zoom a picture's longest side is at most this, which fills a screen.
const SCREEN_PX: usize = 1600;

/// Stars that get a mark; more would hide the frame.
const MOST_MARKS: usize = 300;

const MARK: [u8; 3] = [255, 176, 60];

#[derive(Debug, Serialize)]
struct ShowAccount {
    jigsawa: &'static str,
    command: &'static str,
    seconds: f64,
    frames: Vec<ShownFrame>,
    outputs: Vec<Output>,
    stages: Vec<Stage>,
    warnings: Vec<String>,
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

/// One frame, read, cut and made smaller; its picture is made when all are there.
struct Shown {
    path: PathBuf,
    facts: FrameFacts,
    planes: Vec<Plane>,
    region: Rect,
    scale: Scale,
    stars: Option<Catalogue>,
    /// All pixels of the measured plane, where differences are wanted.
    whole: Option<Plane>,
    /// Are stars to be marked?
    marks: bool,
}

/// Whole factors between frame and screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Scale {
    Smaller(usize),
    Larger(usize),
}

impl Scale {
    fn zoom(self) -> f64 {
        match self {
            Self::Smaller(n) => 1.0 / n as f64,
            Self::Larger(n) => n as f64,
        }
    }
}

/// Runs the command and prints what it wrote.
pub fn show(args: &ShowArgs, common: &Common) -> Result<Ending, Trouble> {
    let mut clock = Clock::start();
    if (args.difference || args.flip.is_some()) && args.frames.len() < 2 {
        return Err(Trouble::NeedsTwo(if args.difference {
            "--difference"
        } else {
            "--flip"
        }));
    }
    let paths = names(args)?;
    make_folder(&args.output.out)?;
    let there: Vec<PathBuf> = paths.iter().filter(|p| p.exists()).cloned().collect();
    if !there.is_empty() && !args.output.overwrite {
        return Err(Trouble::Exist(there));
    }
    let progress = Progress::begin("frames", args.frames.len(), common);
    let mut shown = Vec::with_capacity(args.frames.len());
    for path in &args.frames {
        shown.push(read(path, args)?);
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
    let (stages, seconds) = clock.stop();
    let account = ShowAccount {
        jigsawa: env!("CARGO_PKG_VERSION"),
        command: "show",
        seconds,
        frames: shown.iter().map(row).collect(),
        outputs,
        stages,
        warnings,
    };
    if common.json {
        say(&serde_json::to_string_pretty(&account).unwrap_or_default());
    } else if !common.quiet {
        say(text(&account).trim_end());
    }
    Ok(Ending::Whole)
}

/// Where the pictures go: one for each frame, or one in all.
fn names(args: &ShowArgs) -> Result<Vec<PathBuf>, Trouble> {
    let start = args.output.name.as_deref().map(plain_name).transpose()?;
    let first = stem(&args.frames[0]);
    let file = |name: String| args.output.out.join(name + ".png");
    if args.together || args.flip.is_some() {
        let kind = if args.together { "together" } else { "flip" };
        let start = start.unwrap_or_else(|| first.clone());
        return Ok(vec![file(format!("{start}-{kind}"))]);
    }
    let shown = if args.difference {
        &args.frames[1..]
    } else {
        &args.frames[..]
    };
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

fn read(path: &Path, args: &ShowArgs) -> Result<Shown, Trouble> {
    let broken = |e| Trouble::Files(vec![(path.to_owned(), e)]);
    let file = FitsFrame::open(path).map_err(broken)?;
    let facts = facts::read(&file);
    let region = match args.region {
        None => facts.size.rect(),
        Some(b) => {
            let wanted = Rect {
                x: i64::from(b.x),
                y: i64::from(b.y),
                width: b.width as usize,
                height: b.height as usize,
            };
            let inside = facts.size.rect().intersect(wanted);
            if inside.is_empty() {
                return Err(Trouble::Region {
                    file: path.display().to_string(),
                    region: Area::Box(b).to_string(),
                    width: facts.size.width(),
                    height: facts.size.height(),
                });
            }
            inside
        }
    };
    // Stars are numbered over the whole frame, so that they keep their numbers whatever is shown.
    let found = if args.stars || args.difference {
        let plane = file
            .read_plane(usize::from(file.planes() == 3), Vec::new())
            .map_err(broken)?;
        let found = stars_and_trails(&plane, facts.saturation);
        let (stars, _) = found.map_err(|error| Trouble::Measure {
            file: path.display().to_string(),
            error,
        })?;
        Some((stars, plane))
    } else {
        None
    };
    let (stars, whole) = found.map_or((None, None), |(s, p)| {
        (Some(s), Some(p).filter(|_| args.difference))
    });
    let scale = scale(args.zoom, region);
    let mut planes = Vec::with_capacity(file.planes());
    for k in 0..file.planes() {
        let mut data = vec![0.0; region.area()];
        file.read(k, region, &mut data).map_err(broken)?;
        let size = Size::new(region.width, region.height).ok_or(Trouble::Nothing)?;
        let plane = Plane::new(size, data).ok_or(Trouble::Nothing)?;
        planes.push(match scale {
            Scale::Smaller(n) => binned(&plane, n),
            Scale::Larger(_) => plane,
        });
    }
    Ok(Shown {
        path: path.to_owned(),
        facts,
        planes,
        region,
        scale,
        stars,
        whole,
        marks: args.stars,
    })
}

/// The nearest whole factor: pixels of the frame are shown as they are, or as means of whole blocks.
fn scale(zoom: Option<f64>, region: Rect) -> Scale {
    let longest = region.width.max(region.height);
    match zoom {
        None => Scale::Smaller(longest.div_ceil(SCREEN_PX)),
        Some(z) if z < 1.0 => Scale::Smaller((1.0 / z).round() as usize),
        Some(z) => Scale::Larger(z.round() as usize),
    }
}

/// Every so many pixels tell the levels.
fn stride(plane: &Plane) -> usize {
    (plane.data().len() / 60_000).max(1)
}

fn pictures(shown: &[Shown], own_stretch: bool) -> Result<Vec<Picture>, Trouble> {
    let mut common: Option<Shade> = None;
    shown
        .iter()
        .map(|s| {
            let empty = || Trouble::Measure {
                file: s.path.display().to_string(),
                error: jigsawa_core::stars::DetectError::NoData,
            };
            let order = s.facts.row_order;
            let picture = if let [r, g, b] = s.planes.as_slice() {
                let sample: Vec<[f32; 3]> = (0..r.data().len())
                    .step_by(stride(r))
                    .map(|i| [r.data()[i], g.data()[i], b.data()[i]])
                    .collect();
                let stretch = Stretch::measure(&sample, Link::Linked).ok_or_else(empty)?;
                Picture::colour([r, g, b], order, &stretch).ok_or_else(empty)?
            } else {
                let plane = &s.planes[0];
                let shade = match common {
                    Some(shade) if !own_stretch => shade,
                    _ => {
                        let sample: Vec<f32> = plane
                            .data()
                            .iter()
                            .step_by(stride(plane))
                            .copied()
                            .collect();
                        Shade::measure(&sample).ok_or_else(empty)?
                    }
                };
                common = Some(shade);
                Picture::grey(plane, order, &shade)
            };
            Ok(marked(s, picture))
        })
        .collect()
}

/// The picture at its size on the screen, with marks if they are wanted.
fn marked(s: &Shown, picture: Picture) -> Picture {
    let mut picture = match s.scale {
        Scale::Larger(n) if n > 1 => picture.enlarged(n),
        _ => picture,
    };
    let Some(found) = s.stars.as_ref().filter(|_| s.marks) else {
        return picture;
    };
    let zoom = s.scale.zoom();
    let radius = (2.2 * found.fwhm_px * zoom).max(7.0);
    for (i, star) in found.stars.iter().take(MOST_MARKS).enumerate() {
        let x = (star.at.x - s.region.x as f64 + 0.5) * zoom - 0.5;
        let y = (star.at.y - s.region.y as f64 + 0.5) * zoom - 0.5;
        let inside =
            x >= 0.0 && y >= 0.0 && x < picture.width() as f64 && y < picture.height() as f64;
        if !inside {
            continue;
        }
        let y = match s.facts.row_order {
            RowOrder::BottomUp => picture.height() as f64 - 1.0 - y,
            RowOrder::TopDown => y,
        };
        circle(&mut picture, (x, y), radius, MARK);
        let at = ((x + 0.8 * radius) as i64 + 1, (y - 0.8 * radius) as i64 - 8);
        number(&mut picture, i + 1, at, 2, MARK);
    }
    picture
}

/// Each frame less the first. Frames whose stars meet the first's are brought onto it before, so that
/// dithers and a meridian flip do not hide what really differs; others are compared as they lie.
fn differences(shown: &[Shown], warnings: &mut Vec<String>) -> Result<Vec<Picture>, Trouble> {
    let base = &shown[0];
    let green = |s: &Shown| usize::from(s.planes.len() == 3);
    shown[1..]
        .iter()
        .map(|s| {
            let placed = on_base(base, s);
            if placed.is_none() {
                warnings.push(format!(
                    "'{}' is compared as it lies: its stars do not match those of '{}'",
                    s.path.display(),
                    base.path.display()
                ));
            }
            let mine = placed.as_ref().unwrap_or(&s.planes[green(s)]);
            let theirs = &base.planes[green(base)];
            let picture =
                difference(mine, theirs, base.facts.row_order).ok_or_else(|| Trouble::Sizes {
                    file: s.path.display().to_string(),
                    other: base.path.display().to_string(),
                    sizes: [s.facts.size, base.facts.size].map(|z| (z.width(), z.height())),
                })?;
            // Marks are those of the first frame, which all lie on.
            Ok(marked(base, picture))
        })
        .collect()
}

/// A frame on the pixels of the first one's region, when their stars match.
fn on_base(base: &Shown, s: &Shown) -> Option<Plane> {
    let matched = match_frames(
        &spots(base.stars.as_ref()?),
        &spots(s.stars.as_ref()?),
        base.facts.size,
        s.facts.size,
    )
    .ok()?;
    let map = Map::from_rows(matched.map.rows())?;
    let saturation = s.facts.saturation.unwrap_or(f32::INFINITY);
    let placed = resampled(s.whole.as_ref()?, &map, base.region, saturation)?;
    Some(match base.scale {
        Scale::Smaller(n) => binned(&placed, n),
        Scale::Larger(_) => placed,
    })
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
        .and_then(jigsawa_formats::whole::Unfinished::finish)
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
    use jigsawa_core::stars::FLAGS;
    let region = s.region;
    ShownFrame {
        file: s.path.display().to_string(),
        width: s.facts.size.width(),
        height: s.facts.size.height(),
        region: [
            region.x,
            region.y,
            region.width as i64,
            region.height as i64,
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

fn text(a: &ShowAccount) -> String {
    let mut out = String::new();
    for f in &a.frames {
        let zoom = if f.zoom < 1.0 {
            format!("1 : {:.0}", 1.0 / f.zoom)
        } else {
            format!("{:.0} : 1", f.zoom)
        };
        let stars = f.stars.as_ref().map_or(String::new(), |s| {
            format!(", {} stars marked (--json lists them)", s.len())
        });
        let part = if f.region[2..] == [f.width as i64, f.height as i64] {
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
        out.push_str(&format!("shown      {} at {zoom}{part}{stars}\n", f.file));
    }
    for w in &a.warnings {
        out.push_str(&format!("note       {w}\n"));
    }
    for o in &a.outputs {
        out.push_str(&format!("wrote      {}  {}\n", o.file, o.kind));
    }
    out.push_str(&format!("took       {:.2} s\n", a.seconds));
    out
}
