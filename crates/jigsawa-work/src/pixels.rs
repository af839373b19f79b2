//! The pixels of a frame: as its file has them, or raw ones read through their calibration.

use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jigsawa_core::calibrate::defects::{Defects, Flaw, Flawed};
use jigsawa_core::calibrate::glow::Glow;
use jigsawa_core::calibrate::interpolate::Interpolated;
use jigsawa_core::calibrate::light::{Calibrated, Calibration, Dark};
use jigsawa_core::calibrate::own::OwnPixels;
use jigsawa_core::calibrate::pattern::Pattern;
use jigsawa_core::calibrate::record::CalibrationRecord;
use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::fits::{FitsFrame, FitsPlane};
use jigsawa_formats::{fingerprint, inputs};
use rayon::prelude::*;

use crate::foreign::path_of;
use crate::trouble::Trouble;

/// The pixels of a frame.
pub enum Pixels<'a> {
    /// As the file has them.
    Stored(FitsPlane<'a>),
    /// Raw ones, calibrated at reading.
    Calibrated(Box<Light<'a>>),
    /// One colour of a colour camera's.
    Colour(Box<Interpolated<Light<'a>>>),
    /// The same colour's own pixels alone.
    Own(Box<OwnPixels<Light<'a>>>),
}

/// A raw plane, calibrated.
type Light<'a> = Calibrated<FitsPlane<'a>, Arc<Defects>>;

impl FrameSource for Pixels<'_> {
    fn size(&self) -> Size {
        match self {
            Self::Stored(p) => p.size(),
            Self::Calibrated(p) => p.size(),
            Self::Colour(p) => p.size(),
            Self::Own(p) => p.size(),
        }
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        match self {
            Self::Stored(p) => p.read(rect, out),
            Self::Calibrated(p) => p.read(rect, out),
            Self::Colour(p) => p.read(rect, out),
            Self::Own(p) => p.read(rect, out),
        }
    }
}

/// What a frame's raw pixels need, open.
pub struct Calibrating {
    /// The same as a layout keeps it.
    pub record: CalibrationRecord,
    /// Tells its values from those of any other calibration.
    pub key: String,
    bias: Option<Arc<FitsFrame>>,
    dark: Option<Dark<Arc<FitsFrame>>>,
    flat: Option<Arc<FitsFrame>>,
    defects: Option<Arc<Defects>>,
    own: Option<Arc<Defects>>,
    pattern: Option<Pattern>,
}

impl fmt::Debug for Calibrating {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let key = &self.key;
        f.debug_struct("Calibrating")
            .field("key", key)
            .finish_non_exhaustive()
    }
}

impl Calibrating {
    /// Is it a colour camera's, of which three planes are made?
    pub const fn is_colour(&self) -> bool {
        self.pattern.is_some()
    }

    /// A raw file read through it: its only plane, or one of three colours.
    pub fn read_through<'a>(&'a self, file: &'a FitsFrame, colour: usize) -> Pixels<'a> {
        let light = self.light(file.plane(0));
        match self.pattern {
            None => Pixels::Calibrated(Box::new(light)),
            Some(pattern) => Pixels::Colour(Box::new(Interpolated {
                source: light,
                pattern,
                colour,
            })),
        }
    }

    /// The same without anything made up: of a colour camera's file the pixels of one colour.
    pub fn read_own<'a>(&'a self, file: &'a FitsFrame, colour: usize) -> Pixels<'a> {
        let light = self.light(file.plane(0));
        match self.pattern {
            None => Pixels::Calibrated(Box::new(light)),
            Some(pattern) => Pixels::Own(Box::new(OwnPixels {
                source: light,
                pattern,
                colour,
            })),
        }
    }

    /// The same as the chip has it: behind a pattern without any colour made up.
    pub fn chip_pixels<'a>(&'a self, file: &'a FitsFrame) -> Pixels<'a> {
        Pixels::Calibrated(Box::new(self.light(file.plane(0))))
    }

    fn light<'a>(&'a self, raw: FitsPlane<'a>) -> Light<'a> {
        let plane = |f: &'a Arc<FitsFrame>| f.plane(0);
        let with = Calibration {
            bias: self.bias.as_ref().map(plane),
            dark: self.dark.as_ref().map(|d| Dark {
                master: d.master.plane(0),
                factor: d.factor,
                glow: d.glow.clone(),
            }),
            flat: self.flat.as_ref().map(plane),
            defects: self.defects.clone(),
            own: self.own.clone(),
            step: if self.is_colour() { 2 } else { 1 },
            gain: self.record.gain_e_adu.unwrap_or(1.0),
        };
        Calibrated::new(raw, with)
    }
}

/// Masters that are open already: a night's lights share a few.
#[derive(Default)]
pub struct Masters {
    frames: HashMap<PathBuf, Arc<FitsFrame>>,
    defects: HashMap<PathBuf, Arc<Defects>>,
    glows: HashMap<(PathBuf, PathBuf), Option<Glow>>,
    known: HashMap<String, Arc<Calibrating>>,
}

/// A dark's glow is one if it is higher than this, in units.
pub const LEAST_GLOW: f32 = 2.0;

impl Masters {
    /// Opens what a record names, for frames of a size.
    pub fn open(
        &mut self,
        record: &CalibrationRecord,
        size: Size,
    ) -> Result<Arc<Calibrating>, Trouble> {
        let text = serde_json::to_string(record).unwrap_or_default();
        if let Some(known) = self.known.get(&text) {
            return Ok(Arc::clone(known));
        }
        let path = |file: &String| path_of(file);
        let bias = record.bias.as_ref().map(path);
        let dark = record.dark.as_ref().map(|d| path(&d.file));
        let flat = record.flat.as_ref().map(path);
        let listed = record.defects.as_ref().map(path);
        let own = record.own_defects.as_ref().map(path);
        let mut hash = blake3::Hasher::new();
        hash.update(text.as_bytes());
        for file in [&bias, &dark, &flat, &listed, &own].into_iter().flatten() {
            hash.update(fingerprint::of_file(file).unwrap_or_default().as_bytes());
        }
        let mut open = |file: &Option<PathBuf>| {
            let file = file.as_ref();
            file.map(|f| self.frame(f, size)).transpose()
        };
        let (bias_file, flat_file) = (open(&bias)?, open(&flat)?);
        let dark_file = open(&dark)?;
        let dark = match (&record.dark, dark_file, &dark) {
            (Some(d), Some(master), Some(file)) => {
                let of_glow = d.glow.zip(bias.as_ref());
                let glow = of_glow
                    .map(|(part, bias)| Ok::<_, Trouble>((self.glow(file, bias, size)?, part)));
                let glow = glow
                    .transpose()?
                    .and_then(|(glow, part)| Some((glow?, part)));
                Some(Dark {
                    master,
                    factor: d.factor.map_or(1.0, |f| f.value),
                    glow,
                })
            }
            _ => None,
        };
        let defects = listed.map(|f| self.defects(&f, size)).transpose()?;
        let own = own.map(|f| self.defects(&f, size)).transpose()?;
        let opened = Arc::new(Calibrating {
            record: record.clone(),
            key: hash.finalize().to_hex()[..24].to_owned(),
            bias: bias_file,
            dark,
            flat: flat_file,
            defects,
            own,
            pattern: record.pattern.as_deref().and_then(Pattern::from_letters),
        });
        self.known.insert(text, Arc::clone(&opened));
        Ok(opened)
    }

    /// A master, open.
    pub fn frame(&mut self, path: &Path, size: Size) -> Result<Arc<FitsFrame>, Trouble> {
        if let Some(known) = self.frames.get(path) {
            return Ok(Arc::clone(known));
        }
        let file = FitsFrame::open(path).map_err(|e| Trouble::Files(vec![(path.to_owned(), e)]))?;
        if file.size() != size {
            return Err(Trouble::MasterSize {
                file: path.to_owned(),
                is: file.size(),
                wanted: size,
            });
        }
        let file = Arc::new(file);
        self.frames.insert(path.to_owned(), Arc::clone(&file));
        Ok(file)
    }

    fn plane(&mut self, path: &Path, size: Size) -> Result<Plane, Trouble> {
        let plane = self.frame(path, size)?.read_plane(0, Vec::new());
        plane.map_err(|e| Trouble::Files(vec![(path.to_owned(), e)]))
    }

    fn defects(&mut self, path: &Path, size: Size) -> Result<Arc<Defects>, Trouble> {
        if let Some(known) = self.defects.get(path) {
            return Ok(Arc::clone(known));
        }
        let all = read_defects(path)?;
        let all = Arc::new(Defects::new(size, all));
        self.defects.insert(path.to_owned(), Arc::clone(&all));
        Ok(all)
    }

    /// An amplifier's glow in a dark. Found anew from the masters each time: it is a matter of a moment.
    pub fn glow(&mut self, dark: &Path, bias: &Path, size: Size) -> Result<Option<Glow>, Trouble> {
        let key = (dark.to_owned(), bias.to_owned());
        if let Some(known) = self.glows.get(&key) {
            return Ok(known.clone());
        }
        let mut current = self.plane(dark, size)?;
        let bias = self.plane(bias, size)?;
        for (c, b) in current.data_mut().iter_mut().zip(bias.data()) {
            *c -= b;
        }
        let glow = Glow::measure(&current, LEAST_GLOW);
        self.glows.insert(key, glow.clone());
        Ok(glow)
    }
}

/// Rows that a thread reads at a time.
const ROWS: usize = 64;

/// Reads all pixels of a source, by all threads.
pub fn read_all(source: &(impl FrameSource + ?Sized), out: &mut [f32]) -> Result<(), DoorError> {
    let size = source.size();
    let width = size.width();
    out.par_chunks_mut(ROWS * width)
        .enumerate()
        .try_for_each(|(i, rows)| {
            let rect = Rect {
                x: 0,
                y: (i * ROWS).whole(),
                width,
                height: rows.len() / width,
            };
            source.read(rect, rows)
        })
}

/// A source as a plane in memory.
pub fn in_memory(source: &(impl FrameSource + ?Sized)) -> Result<Plane, DoorError> {
    let mut plane = Plane::filled(source.size(), 0.0);
    read_all(source, plane.data_mut())?;
    Ok(plane)
}

/// The list of defects as a file: FITS counts pixels from 1.
pub fn written_defects(defects: &Defects) -> String {
    use std::fmt::Write as _;
    let mut text = String::from("x,y,flaw\n");
    for (x, y, flaw) in defects.all() {
        let _ = writeln!(text, "{},{},{}", x + 1, y + 1, flaw.name());
    }
    text
}

/// Reads such a list.
pub fn read_defects(path: &Path) -> Result<Vec<Flawed>, Trouble> {
    let read = inputs::read_text(path).map_err(|e| e.to_string());
    read.and_then(|text| parse_defects(&text))
        .map_err(|error| Trouble::DefectList {
            file: path.to_owned(),
            error,
        })
}

/// Places and flaws of a list, as it may have been edited by hand.
fn parse_defects(text: &str) -> Result<Vec<Flawed>, String> {
    let mut reader = csv::ReaderBuilder::new()
        .comment(Some(b'#'))
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let names = reader.headers().map_err(|e| e.to_string())?;
    let column = |name: &str| names.iter().position(|n| n.eq_ignore_ascii_case(name));
    let (Some(x), Some(y), Some(flaw)) = (column("x"), column("y"), column("flaw")) else {
        return Err("its first line is not 'x,y,flaw'".to_owned());
    };
    reader
        .records()
        .enumerate()
        .map(|(i, line)| {
            let line = line.map_err(|e| format!("line {}: {e}", i + 2))?;
            let number = |c: usize| {
                let n = line.get(c).and_then(|t| t.parse::<usize>().ok());
                n.filter(|n| *n > 0).map(|n| n - 1)
            };
            let word = line.get(flaw).unwrap_or_default();
            let flaw = Flaw::ALL.into_iter().find(|f| f.name() == word);
            match (number(x), number(y), flaw) {
                (Some(x), Some(y), Some(flaw)) => Ok((x, y, flaw)),
                _ => Err(format!(
                    "line {}: a pixel is x and y from 1, and its flaw one of: {}",
                    i + 2,
                    Flaw::ALL.map(Flaw::name).join(", ")
                )),
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_defects_comes_back_and_slips_are_told_by_line() {
        let size = Size::new(30, 20).unwrap();
        let all = vec![
            (3, 4, Flaw::Hot),
            (29, 19, Flaw::Cold),
            (0, 0, Flaw::Wavering),
        ];
        let defects = Defects::new(size, all);
        let text = written_defects(&defects);
        assert_eq!(text.lines().nth(1), Some("1,1,wavering"));
        let back = Defects::new(size, parse_defects(&text).unwrap());
        assert_eq!(back, defects);
        let slip = parse_defects("x,y,flaw\n4,5,hot\n0,5,hot\n").unwrap_err();
        assert!(slip.starts_with("line 3:"), "{slip}");
        assert!(parse_defects("a,b\n1,2\n").is_err());
    }
}
