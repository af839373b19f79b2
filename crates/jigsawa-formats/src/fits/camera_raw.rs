//! Raw files of photographic cameras (DNG, and what else the decoder knows), unpacked into a plain FITS file that vanishes with the frame:
//! everything that reads frames by windows then reads these, too.
//!
//! Values stay what the camera wrote, its pedestal on: biases and darks are such files as well. What its makers name the
//! frame's part that saw light is kept, colours before its pixels and what is full become cards, and so do exposure,
//! sensitivity, time and camera by EXIF.

use std::fs;
use std::io::{BufReader, Cursor};
use std::path::Path;

use exif::{Exif, In, Tag, Value};
use rawloader::{RawImage, RawImageData};

use super::pool;
use super::unit::Unit;
use super::unpacked::{Unpacking, number, shape, text, whole};
use super::unzip::Unzipped;
use crate::error::FileError;
use crate::stumble::caught;

/// Endings of such files.
pub const ENDINGS: [&str; 9] = [
    "dng", "cr2", "nef", "arw", "pef", "orf", "raf", "rw2", "srw",
];

/// Is it one, by its ending?
pub(super) fn is_one(path: &Path) -> bool {
    let ending = path.extension().map(|e| e.to_string_lossy().to_lowercase());
    ending.is_some_and(|e| ENDINGS.contains(&e.as_str()))
}

/// Unpacks one.
///
/// # Errors
/// When it cannot be read, the decoder does not know it, its colours do not repeat after two pixels, or the disk takes no more.
pub(super) fn unpack(path: &Path) -> Result<(Unit, Unzipped), FileError> {
    drop(pool::open(path)?);
    let bytes = fs::read(path).map_err(FileError::io("cannot read it"))?;
    let raw = decoded(&bytes)?;
    let exif = exif::Reader::new().read_from_container(&mut BufReader::new(Cursor::new(&bytes)));
    drop(bytes);
    unpacked(&raw, exif.ok().as_ref())
}

/// What the decoder makes of it. One that stumbles over a damaged file says so as an error here.
fn decoded(bytes: &[u8]) -> Result<RawImage, FileError> {
    let unknown = |why: String| FileError::CameraRaw(why);
    match caught(|| rawloader::decode(&mut Cursor::new(bytes))) {
        Some(Ok(raw)) => Ok(raw),
        Some(Err(e)) => {
            let text = e.to_string();
            let said = text.split('"').nth(1).unwrap_or(&text);
            Err(unknown(said.to_owned()))
        }
        None => Err(unknown("it is damaged".to_owned())),
    }
}

fn unpacked(raw: &RawImage, exif: Option<&Exif>) -> Result<(Unit, Unzipped), FileError> {
    let wrong = |why: &str| FileError::CameraRaw(why.to_owned());
    let RawImageData::Integer(values) = &raw.data else {
        return Err(wrong("its values are no whole numbers"));
    };
    if !matches!(raw.cpp, 1 | 3) || values.len() != raw.width * raw.height * raw.cpp {
        return Err(wrong("it has neither one value nor three for each pixel"));
    }
    // The decoder fills up what a file lacks.
    let row = raw.width * raw.cpp;
    let last = values.rchunks(row.max(1)).next().unwrap_or_default();
    if last.iter().all(|v| *v == 0) && values.iter().any(|v| *v > 0) {
        return Err(wrong("it is cut short: its last row is empty"));
    }
    let [top, right, bottom, left] = raw.crops;
    let sides = (left + right < raw.width).then(|| raw.width - left - right);
    let sides = sides.zip((top + bottom < raw.height).then(|| raw.height - top - bottom));
    let (width, height) = sides.ok_or_else(|| wrong("no pixel of it saw light"))?;
    let colours = raw.cropped_cfa();
    let pattern = match (raw.cpp, colours.name.as_str()) {
        (1, name) if name.len() == 4 => Some(name),
        (1, "") | (3, _) => None,
        _ => return Err(wrong("its colours do not repeat after two pixels")),
    };
    let mut out = Unpacking::begin(&records(raw, exif, [width, height], pattern))?;
    let mut bytes = Vec::with_capacity(2 * width);
    for plane in 0..raw.cpp {
        for y in top..top + height {
            bytes.clear();
            let row = &values[(y * raw.width + left) * raw.cpp..][..width * raw.cpp];
            for v in row.iter().skip(plane).step_by(raw.cpp) {
                // Half of the range lower, as FITS stores what has no sign.
                bytes.extend((v ^ 0x8000).to_be_bytes());
            }
            out.put(&bytes)?;
        }
    }
    out.done()
}

/// The header's records.
fn records(
    raw: &RawImage,
    exif: Option<&Exif>,
    [width, height]: [usize; 2],
    pattern: Option<&str>,
) -> Vec<String> {
    let mut all = shape(16, [width, height], raw.cpp);
    all.extend(pattern.map(|p| text("BAYERPAT", p)));
    let full = raw.whitelevels.iter().copied().max().unwrap_or(0);
    if full > 0 {
        all.push(whole("SATURATE", usize::from(full)));
    }
    let camera = format!("{} {}", raw.clean_make, raw.clean_model);
    if !camera.trim().is_empty() {
        all.push(text("INSTRUME", &camera));
    }
    let Some(exif) = exif else {
        return all;
    };
    let field = |tag: Tag| exif.get_field(tag, In::PRIMARY).map(|f| &f.value);
    let real = |tag: Tag| match field(tag)? {
        Value::Rational(v) => v.first().map(exif::Rational::to_f64),
        other => other.get_uint(0).map(f64::from),
    };
    let positive = |v: &f64| v.is_finite() && *v > 0.0;
    if let Some(s) = real(Tag::ExposureTime).filter(positive) {
        all.push(number("EXPTIME", s));
    }
    if let Some(iso) = real(Tag::PhotographicSensitivity).filter(positive) {
        all.push(number("ISOSPEED", iso));
    }
    let date = field(Tag::DateTimeOriginal).or_else(|| field(Tag::DateTime));
    if let Some(Value::Ascii(lines)) = date
        && let Some(line) = lines.first()
    {
        // 2026:11:03 21:14:00
        let date = String::from_utf8_lossy(line)
            .replacen(':', "-", 2)
            .replacen(' ', "T", 1);
        all.push(text("DATE-OBS", &date));
    }
    all
}
