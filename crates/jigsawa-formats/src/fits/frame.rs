//! An image of a FITS file, open for reading by windows from several threads.

use jigsawa_core::number::Convert;
use std::fs;
use std::io::Read;
use std::path::Path;

use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::finish::are_stretched;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Rect, Size};
use rayon::prelude::*;

use super::blank::Blank;
use super::borders;
use super::camera_raw;
use super::card::Header;
use super::picture::Picture;
use super::plain::Plain;
use super::pool;
use super::sense;
use super::stored::Whole;
use super::suspects;
use super::tiles::Packed;
use super::trim::Trim;
use super::unit::{Unit, further, image};
use super::unzip::{Unzipped, unzip};
use crate::error::FileError;
use crate::inputs;
use crate::select;

/// About so many rows of a packed plane are unpacked by one thread at a time.
const TOGETHER: usize = 64;

/// The first image of a file.
///
/// Windows of a plane are read through [`FitsFrame::plane`], by any number of threads. A file that is open here is an input: no result of the run gets its name.
pub struct FitsFrame {
    pixels: Pixels,
    header: Header,
    size: Size,
    /// The sky's part of it, where that is not all.
    trim: Option<Trim>,
    planes: usize,
    absurd: f32,
    /// A picture whose values are made for a screen.
    stretched: bool,
    /// What has no data in each plane although it has a number.
    blank: Vec<Option<Blank>>,
    /// Images in the file behind the first, when that was taken unasked.
    further: usize,
    /// The file's name.
    name: String,
    /// What a file that is packed as a whole was inflated into.
    _unzipped: Option<Unzipped>,
}

enum Pixels {
    Plain(Plain),
    Packed(Box<Packed>),
}

impl FitsFrame {
    /// Opens a file and finds its first image with pixels, or the one that brackets behind its name choose
    /// ([`select`]).
    ///
    /// # Errors
    /// When the file cannot be read, is no FITS file, is cut short, holds no image, or holds one that
    /// is neither a plane nor three planes, or whose numbers make no sense.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let (mut made, sample) = Self::unsearched(path)?;
        made.blank = made.blank(&sample)?;
        Ok(made)
    }

    /// The same for what the header and some rows tell: borders that have a number keep it, which spares reading all of the
    /// file.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn glance(path: &Path) -> Result<Self, FileError> {
        Self::unsearched(path).map(|(made, _)| made)
    }

    /// A frame whose borders are not looked for yet, and some of its rows.
    fn unsearched(path: &Path) -> Result<(Self, Vec<f32>), FileError> {
        let (file, choice) = select::split(path);
        let (path, choice) = (file.as_ref(), choice.as_ref());
        let kept = sniff(path)?;
        inputs::remember(path);
        let (unit, unzipped) = match kept {
            Kept::Plain => (image(&mut Whole::open(path)?, choice)?, None),
            Kept::Zipped => {
                let (unit, unzipped) = unzip(path, choice)?;
                (unit, Some(unzipped))
            }
            Kept::Picture(picture) => {
                let (unit, unpacked) = picture.unpack(path)?;
                (unit, Some(unpacked))
            }
            Kept::CameraRaw => {
                let (unit, unpacked) = camera_raw::unpack(path)?;
                (unit, Some(unpacked))
            }
        };
        // What follows in a file that is packed as a whole is not looked at: all of it would have to be inflated.
        let further = match choice {
            None if kept == Kept::Plain => {
                let mut stream = Whole::open(path)?;
                image(&mut stream, None)?;
                further(&mut stream, &unit)
            }
            _ => 0,
        };
        let place = unzipped.as_ref().map_or(path, Unzipped::path);
        let pixels = Pixels::of(place, &unit)?;
        let Unit {
            header,
            size,
            planes,
            ..
        } = unit;
        let mut made = Self {
            pixels,
            header,
            size,
            trim: None,
            planes,
            absurd: 0.0,
            stretched: false,
            blank: Vec::new(),
            further,
            name: path
                .file_name()
                .map(|n| n.to_string_lossy().into_owned())
                .unwrap_or_default(),
            _unzipped: unzipped,
        };
        made.trim()?;
        let sample = made.sample()?;
        made.absurd = sense::check(&sample)?;
        if matches!(kept, Kept::Picture(_)) {
            let known = sample.iter().copied().filter(|v| v.is_finite());
            made.stretched = are_stretched(known.collect());
        }
        Ok((made, sample))
    }

    /// Keeps to the part that saw the sky, where cards tell it.
    fn trim(&mut self) -> Result<(), FileError> {
        let one = self.planes == 1;
        let Some(mut trim) = Trim::of(&self.header, self.size).filter(|_| one) else {
            return Ok(());
        };
        let Some(size) = Size::new(trim.sky.width, trim.sky.height) else {
            return Ok(());
        };
        if let Some(overscan) = trim.overscan {
            let mut pixels = vec![0.0; overscan.area()];
            self.read(0, overscan, &mut pixels)?;
            trim.level(overscan, &pixels);
        }
        self.header = trim.header(std::mem::take(&mut self.header));
        self.size = size;
        self.trim = Some(trim);
        Ok(())
    }

    /// The first pixel that saw the sky, in stored pixels: what lies before it is overscan.
    pub fn origin(&self) -> (i64, i64) {
        self.trim.as_ref().map_or((0, 0), |t| (t.sky.x, t.sky.y))
    }

    /// What its values have been lowered by: the level of its overscan.
    pub fn lowered(&self) -> f32 {
        self.trim.as_ref().map_or(0.0, Trim::lowered)
    }

    /// The header of the image.
    pub fn header(&self) -> &Header {
        &self.header
    }

    /// Pixels of one plane.
    pub fn size(&self) -> Size {
        self.size
    }

    /// 1, or 3 for colour.
    pub fn planes(&self) -> usize {
        self.planes
    }

    /// One plane as a source of pixels.
    pub fn plane(&self, plane: usize) -> FitsPlane<'_> {
        FitsPlane { frame: self, plane }
    }

    /// The share of its values, in a sample, that are infinite or beyond anything that is measured: they are read as
    /// missing.
    pub fn absurd(&self) -> f32 {
        self.absurd
    }

    /// Is it a TIFF or PNG file that looks stretched, by a sample? Most of these are made for a screen.
    pub fn is_stretched(&self) -> bool {
        self.stretched
    }

    /// Images in the file besides the one that was taken, since none was asked for.
    pub fn other_images(&self) -> usize {
        self.further
    }

    /// The file's name, without its folder.
    pub fn file_name(&self) -> &str {
        &self.name
    }

    /// Reads a window of a plane.
    ///
    /// # Errors
    /// When a packed tile is damaged, or what the disk says.
    pub fn read(&self, plane: usize, rect: Rect, out: &mut [f32]) -> Result<(), FileError> {
        let stored = self.trim.as_ref().map_or(rect, |t| t.stored(rect));
        match &self.pixels {
            Pixels::Plain(plain) => plain.read(plane, stored, out)?,
            Pixels::Packed(packed) => packed.read(plane, stored, out)?,
        }
        if let Some(trim) = &self.trim {
            trim.lower(rect, out);
        }
        if let Some(Some(blank)) = self.blank.get(plane) {
            blank.hide(rect, out);
        }
        Ok(())
    }

    /// Are its pixels stored as they are, so that reading them in parts takes no longer than at once?
    pub const fn is_plain(&self) -> bool {
        matches!(self.pixels, Pixels::Plain(_))
    }

    /// The share of all pixels that have no data but a number, and that number: a black border, say.
    pub fn blank_share(&self) -> Option<(f32, f32)> {
        let found: Vec<&Blank> = self.blank.iter().flatten().collect();
        let first = found.first()?;
        let share = found.iter().map(|b| b.share).sum::<f32>() / self.planes.single();
        Some((share, first.value))
    }

    /// Reads a whole plane into memory, reusing the buffer's.
    ///
    /// # Errors
    /// When a packed tile is damaged, what the disk says, or that the memory does not suffice.
    pub fn read_plane(&self, plane: usize, buffer: Vec<f32>) -> Result<Plane, FileError> {
        let mut buffer = self.buffer(buffer)?;
        let whole = self.size.rect();
        if let Pixels::Packed(packed) = &self.pixels {
            // Tiles are unpacked by all threads.
            let rows = packed.rows_of_tiles(TOGETHER);
            let bands = buffer.par_chunks_mut(whole.width * rows).enumerate();
            bands.try_for_each(|(k, out)| {
                let band = Rect {
                    y: (k * rows).whole(),
                    height: out.len() / whole.width,
                    ..whole
                };
                self.read(plane, band, out)
            })?;
        } else {
            self.read(plane, whole, &mut buffer)?;
        }
        Plane::new(self.size, buffer).ok_or(FileError::NoImage)
    }

    /// Memory for a whole plane, the buffer's if it has the size.
    ///
    /// # Errors
    /// That the memory does not suffice.
    pub fn buffer(&self, mut buffer: Vec<f32>) -> Result<Vec<f32>, FileError> {
        let area = self.size.area();
        // A buffer of zeros is only touched once, by the reader; one of the right size not at all.
        if buffer.len() != area {
            // Asked for first, since memory that is not there ends the program.
            Vec::<f32>::new()
                .try_reserve_exact(area)
                .map_err(|_| FileError::TooLarge {
                    width: self.size.width(),
                    height: self.size.height(),
                })?;
            buffer = vec![0.0; area];
        }
        Ok(buffer)
    }

    /// The places of each plane that have no data but a number.
    fn blank(&self, sample: &[f32]) -> Result<Vec<Option<Blank>>, FileError> {
        // What this program writes is NaN where there is no data: a star part is truly 0 between its stars.
        let own = self
            .header
            .text("CREATOR")
            .is_some_and(|c| c.starts_with("Jigsawa"));
        let values = suspects::suspects(sample, self.size.width());
        // A raw frame that is lowered row by row has no even border.
        let raw = self.lowered() != 0.0;
        if values.is_empty() || own || raw {
            return Ok(Vec::new());
        }
        (0..self.planes)
            .map(|p| {
                borders::find(self.size, sample, &values, |rect, out| {
                    self.read(p, rect, out)
                })
            })
            .collect()
    }

    /// Some rows of all planes as they are stored, the first and the last among them.
    fn sample(&self) -> Result<Vec<f32>, FileError> {
        let affordable = sense::MOST_VALUES / self.size.width();
        let rows = (self.size.height() * self.planes)
            .min(sense::ROWS)
            .min(affordable.max(2));
        let last = self.size.height() * self.planes - 1;
        let mut sample = vec![0.0; rows * self.size.width()];
        for (i, row) in sample.chunks_exact_mut(self.size.width()).enumerate() {
            let at = last * i / (rows - 1).max(1);
            let rect = Rect {
                x: 0,
                y: (at % self.size.height()).whole(),
                width: self.size.width(),
                height: 1,
            };
            let plane = at / self.size.height();
            let rect = self.trim.as_ref().map_or(rect, |t| t.stored(rect));
            match &self.pixels {
                Pixels::Plain(plain) => plain.read_as_stored(plane, rect, row)?,
                Pixels::Packed(packed) => packed.read_as_stored(plane, rect, row)?,
            }
        }
        Ok(sample)
    }
}

impl Pixels {
    fn of(path: &Path, unit: &Unit) -> Result<Self, FileError> {
        Ok(if unit.packed {
            Self::Packed(Box::new(Packed::new(path, unit)?))
        } else {
            Self::Plain(Plain::new(path, unit)?)
        })
    }
}

/// One plane of a frame.
pub struct FitsPlane<'a> {
    frame: &'a FitsFrame,
    plane: usize,
}

impl FrameSource for FitsPlane<'_> {
    fn size(&self) -> Size {
        self.frame.size
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.frame
            .read(self.plane, rect, out)
            .map_err(|e| DoorError(Box::new(e)))
    }
}

/// How a file keeps its images.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kept {
    Plain,
    Zipped,
    CameraRaw,
    Picture(Picture),
}

/// Looks at the first bytes.
fn sniff(path: &Path) -> Result<Kept, FileError> {
    // Asked before it is opened: a pipe would wait for whoever writes into it.
    let about = fs::metadata(path).map_err(FileError::io("cannot open it"))?;
    if about.is_dir() {
        return Err(FileError::NotFits {
            looks_like: Some("a folder"),
        });
    }
    if !about.is_file() {
        return Err(FileError::NotRegular(special(&about)));
    }
    let mut head = Vec::new();
    pool::open(path)?
        .take(80)
        .read_to_end(&mut head)
        .map_err(FileError::io("cannot read it"))?;
    if head.is_empty() {
        return Err(FileError::Empty);
    }
    if head.starts_with(b"SIMPLE  =") {
        return Ok(Kept::Plain);
    }
    if head.starts_with(&[0x1f, 0x8b]) {
        return Ok(Kept::Zipped);
    }
    if camera_raw::is_one(path) {
        return Ok(Kept::CameraRaw);
    }
    if let Some(picture) = Picture::of(&head) {
        return Ok(Kept::Picture(picture));
    }
    let known: [(&[u8], &str); 3] = [
        (b"\xff\xd8", "a JPEG picture"),
        (b"{", "a JSON file"),
        (b"PK", "a ZIP archive"),
    ];
    let looks_like = known
        .iter()
        .find(|(start, _)| head.starts_with(start))
        .map(|(_, name)| *name)
        .or_else(|| {
            head.iter()
                .all(|b| *b >= 9 && *b < 127)
                .then_some("a text file")
        });
    Err(FileError::NotFits { looks_like })
}

/// What something is that is no file of bytes that end.
#[cfg(unix)]
fn special(about: &fs::Metadata) -> &'static str {
    use std::os::unix::fs::FileTypeExt;
    let kind = about.file_type();
    match () {
        () if kind.is_fifo() => "a pipe",
        () if kind.is_socket() => "a socket",
        () => "a device",
    }
}

/// What something is that is no file of bytes that end.
#[cfg(not(unix))]
fn special(_: &fs::Metadata) -> &'static str {
    "a device"
}
