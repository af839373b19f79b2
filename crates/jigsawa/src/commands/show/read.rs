//! A frame read for a quick look: its region, made smaller, with its stars if they are wanted.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::binned;
use jigsawa_core::doors::FrameSource;
use jigsawa_core::frame::FrameFacts;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Rect, Size};
use jigsawa_core::stars::Catalogue;
use jigsawa_core::survey::{Area, SETTINGS, stars_and_trails};
use jigsawa_formats::error::FileError;
use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;

use crate::cli::ShowArgs;
use jigsawa_work::frames::Frame;
use jigsawa_work::trouble::Trouble;

/// Without --zoom a picture's longest side is at most this, which fills a screen.
const SCREEN_PX: usize = 1600;

/// One frame, read, cut and made smaller; its picture is made when all are there.
pub struct Shown {
    pub path: PathBuf,
    pub facts: FrameFacts,
    pub planes: Vec<Plane>,
    pub region: Rect,
    pub scale: Scale,
    pub stars: Option<Catalogue>,
    /// All pixels of the measured plane, where differences are wanted.
    pub whole: Option<Plane>,
    /// Are stars to be marked?
    pub marks: bool,
}

/// Whole factors between frame and screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scale {
    Smaller(usize),
    Larger(usize),
}

impl Scale {
    /// Screen pixels for a pixel of the frame.
    pub fn zoom(self) -> f64 {
        match self {
            Self::Smaller(n) => 1.0 / n.real(),
            Self::Larger(n) => n.real(),
        }
    }
}

/// What is shown: a file as it is, or a frame of a layout as it is read through it.
pub enum Source {
    File(PathBuf),
    Frame(Box<Frame>),
}

impl Source {
    /// Its file.
    pub fn path(&self) -> &Path {
        match self {
            Self::File(path) => path,
            Self::Frame(frame) => &frame.path,
        }
    }
}

/// Its pixels.
enum Pixels<'a> {
    File(Box<FitsFrame>),
    Frame(&'a Frame),
}

impl Pixels<'_> {
    fn facts(&self) -> FrameFacts {
        match self {
            Self::File(file) => facts::read(file),
            Self::Frame(frame) => frame.facts.clone(),
        }
    }

    fn planes(&self) -> usize {
        match self {
            Self::File(file) => file.planes(),
            Self::Frame(frame) if frame.calibration.is_some() => frame.facts.planes,
            Self::Frame(frame) => frame.file.planes(),
        }
    }

    fn whole(&self) -> Result<Plane, FileError> {
        match self {
            Self::File(file) => file.read_plane(usize::from(file.planes() == 3), Vec::new()),
            Self::Frame(frame) => frame.read_plane(Vec::new()),
        }
    }

    fn read(&self, plane: usize, rect: Rect, out: &mut [f32]) -> Result<(), FileError> {
        match self {
            Self::File(file) => file.read(plane, rect, out),
            Self::Frame(frame) => match &frame.calibration {
                Some(c) => Ok(c.read_through(&frame.file, plane).read(rect, out)?),
                None => frame.file.read(plane, rect, out),
            },
        }
    }
}

/// Reads a frame.
pub fn read(source: &Source, args: &ShowArgs) -> Result<Shown, Trouble> {
    let path = source.path();
    let broken = |e| Trouble::Files(vec![(path.to_owned(), e)]);
    let file = match source {
        Source::File(path) => Pixels::File(Box::new(FitsFrame::open(path).map_err(broken)?)),
        Source::Frame(frame) => Pixels::Frame(frame),
    };
    let facts = file.facts();
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
        let plane = file.whole().map_err(broken)?;
        let found = stars_and_trails(&plane, facts.saturation, &SETTINGS);
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
        Some(z) if z < 1.0 => Scale::Smaller((1.0 / z).round().index()),
        Some(z) => Scale::Larger(z.round().index()),
    }
}
