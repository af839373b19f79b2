//! An image of a FITS file, open for reading by windows from several threads.

use std::fs::File;
use std::io::Read;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Rect, Size};

use super::card::Header;
use super::handle::Handle;
use super::plain::Plain;
use crate::error::FileError;

/// The first image of a file.
///
/// Windows of a plane are read through [`FitsFrame::plane`]. Only at a packed file or a compressed image
/// threads take turns.
pub struct FitsFrame {
    handle: Mutex<Handle>,
    /// Its pixels, where they are stored as they are.
    plain: Option<Plain>,
    header: Header,
    size: Size,
    planes: usize,
    blanks: bool,
    floats: bool,
}

impl FitsFrame {
    /// Opens a file and finds its first image with pixels.
    ///
    /// # Errors
    /// When the file cannot be read, is no FITS file, is cut short, holds no image, or holds one that
    /// is neither a plane nor three planes.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let length = sniff(path)?;
        let mut handle = Handle::open(path)?;
        if !handle.first_image()? {
            return Err(FileError::NoImage);
        }
        let shape = handle.shape()?;
        let (size, planes) = size_of(&shape.axes)?;
        let mut pixels_from = None;
        if let Some(found) = length {
            let (from, to) = handle.data_range()?;
            pixels_from = (!handle.is_tiled()).then_some(from);
            // Some writers leave out the padding of the last block: only pixels must be there.
            let pixels = (size.area() * planes) as u64;
            let promised = if handle.is_tiled() {
                to
            } else {
                from + pixels * u64::from(shape.bitpix.unsigned_abs() / 8)
            };
            if found < promised {
                return Err(FileError::Truncated { promised, found });
            }
        }
        let header = Header::from_records(&handle.records()?);
        // Only integers and compressed images need the library's search for blanks.
        let blanks = shape.bitpix > 0 || handle.is_tiled();
        let plain =
            pixels_from.and_then(|from| Plain::new(path, from, size, shape.bitpix, &header));
        Ok(Self {
            handle: Mutex::new(handle),
            plain,
            header,
            size,
            planes,
            blanks,
            floats: shape.bitpix < 0,
        })
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

    /// Reads a window of a plane.
    ///
    /// # Errors
    /// What the library or the disk says.
    pub fn read(&self, plane: usize, rect: Rect, out: &mut [f32]) -> Result<(), FileError> {
        if let Some(plain) = &self.plain {
            return plain.read(plane, rect, out);
        }
        let mut handle = self.handle.lock().unwrap_or_else(PoisonError::into_inner);
        handle.read(
            plane,
            (rect.x, rect.right()),
            (rect.y, rect.bottom()),
            self.blanks,
            out,
        )?;
        // An infinite value is no measurement; whatever made it, it is missing.
        if self.floats {
            for v in out.iter_mut() {
                if v.is_infinite() {
                    *v = f32::NAN;
                }
            }
        }
        Ok(())
    }

    /// Reads a whole plane into memory, reusing the buffer's.
    ///
    /// # Errors
    /// What the library says.
    pub fn read_plane(&self, plane: usize, mut buffer: Vec<f32>) -> Result<Plane, FileError> {
        // A buffer of zeros is only touched once, by the reader; one of the right size not at all.
        if buffer.len() != self.size.area() {
            buffer = vec![0.0; self.size.area()];
        }
        self.read(plane, self.size.rect(), &mut buffer)?;
        Plane::new(self.size, buffer).ok_or(FileError::NoImage)
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

/// Looks at the first bytes. Gives the length of a file that is not packed as a whole.
fn sniff(path: &Path) -> Result<Option<u64>, FileError> {
    let mut file = File::open(path).map_err(FileError::io("cannot open it"))?;
    let about = file.metadata().map_err(FileError::io("cannot open it"))?;
    if about.is_dir() {
        return Err(FileError::NotFits {
            looks_like: Some("a folder"),
        });
    }
    let mut head = Vec::new();
    file.by_ref()
        .take(80)
        .read_to_end(&mut head)
        .map_err(FileError::io("cannot read it"))?;
    if head.is_empty() {
        return Err(FileError::Empty);
    }
    if head.starts_with(b"SIMPLE  =") {
        return Ok(Some(about.len()));
    }
    if head.starts_with(&[0x1f, 0x8b]) {
        return Ok(None);
    }
    let known: [(&[u8], &str); 6] = [
        (b"II*\0", "a TIFF picture"),
        (b"MM\0*", "a TIFF picture"),
        (b"\x89PNG", "a PNG picture"),
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

/// Width, height and planes; axes of length 1 at the end do not count.
fn size_of(axes: &[i64]) -> Result<(Size, usize), FileError> {
    let shape = || FileError::Shape {
        axes: axes.to_vec(),
    };
    let count = axes.iter().rposition(|n| *n != 1).map_or(0, |i| i + 1);
    let (planes, sides) = match count {
        0..=2 => (1, axes),
        3 if axes[2] == 3 => (3, axes),
        _ => return Err(shape()),
    };
    let side = |i: usize| usize::try_from(*sides.get(i).unwrap_or(&1)).unwrap_or(0);
    let size = Size::new(side(0), side(1)).ok_or_else(shape)?;
    Ok((size, planes))
}
