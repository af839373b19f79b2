//! The one place that talks to the C library: a safe handle for what we need of it.
//!
//! Benefit of the unsafe code here: the library reads every dialect of FITS, compressed images among
//! them, and is tested by three decades of use. Correctness: every call passes pointers to live
//! values of the types that the library's documentation asks for, buffer lengths are checked before,
//! a handle is used by one thread at a time (`&mut self`), and the library is built re-entrant.
#![allow(unsafe_code)]

use std::ffi::{CStr, CString, c_char, c_int, c_long, c_void};
use std::path::Path;
use std::ptr;

use fitsio_sys as c;

use crate::error::FileError;

/// An open FITS file, positioned at one of its images.
pub(super) struct Handle(*mut c::fitsfile);

// Correctness: the library keeps no thread-local state for a file, and `&mut self` on every method
// keeps two threads from using the handle at once.
unsafe impl Send for Handle {}

/// Type and axes of an image.
pub(super) struct Shape {
    /// BITPIX, as stored.
    pub(super) bitpix: i32,
    /// NAXIS1, NAXIS2, …
    pub(super) axes: Vec<i64>,
}

const READ_ONLY: c_int = 0;
const IMAGE_HDU: c_int = c::IMAGE_HDU as c_int;
const FLOAT: c_int = c::TFLOAT as c_int;

impl Handle {
    /// Opens a file by its plain name: brackets in it mean nothing.
    pub(super) fn open(path: &Path) -> Result<Self, FileError> {
        let name = c_path(path)?;
        let (mut file, mut status) = (ptr::null_mut(), 0);
        unsafe { c::ffdkopn(&raw mut file, name.as_ptr(), READ_ONLY, &raw mut status) };
        check(status, "cannot open it")?;
        Ok(Self(file))
    }

    /// Creates a file that does not exist yet.
    pub(super) fn create(path: &Path) -> Result<Self, FileError> {
        let name = c_path(path)?;
        let (mut file, mut status) = (ptr::null_mut(), 0);
        unsafe { c::ffdkinit(&raw mut file, name.as_ptr(), &raw mut status) };
        check(status, "cannot create the file")?;
        Ok(Self(file))
    }

    /// Moves to the first unit that holds an image with pixels; false when there is none.
    pub(super) fn first_image(&mut self) -> Result<bool, FileError> {
        let (mut units, mut status) = (0, 0);
        unsafe { c::ffthdu(self.0, &raw mut units, &raw mut status) };
        check(status, "cannot count its units")?;
        for unit in 1..=units {
            let mut kind = 0;
            unsafe { c::ffmahd(self.0, unit, &raw mut kind, &raw mut status) };
            check(status, "cannot read its headers")?;
            if kind == IMAGE_HDU {
                let axes = self.shape()?.axes;
                if !axes.is_empty() && axes.iter().all(|n| *n > 0) {
                    return Ok(true);
                }
            }
        }
        Ok(false)
    }

    /// Type and axes of the current image.
    pub(super) fn shape(&mut self) -> Result<Shape, FileError> {
        let (mut bitpix, mut count, mut status) = (0, 0, 0);
        let mut axes = [0i64; 9];
        unsafe {
            c::ffgiprll(
                self.0,
                axes.len() as c_int,
                &raw mut bitpix,
                &raw mut count,
                axes.as_mut_ptr().cast(),
                &raw mut status,
            );
        }
        check(status, "cannot read the image's size")?;
        let count = (count.max(0) as usize).min(axes.len());
        Ok(Shape {
            bitpix,
            axes: axes[..count].to_vec(),
        })
    }

    /// Is the current image stored in compressed tiles?
    pub(super) fn is_tiled(&mut self) -> bool {
        let mut status = 0;
        unsafe { c::fits_is_compressed_image(self.0, &raw mut status) != 0 }
    }

    /// Where the current unit's data begin and end in the (uncompressed) file.
    pub(super) fn data_range(&mut self) -> Result<(u64, u64), FileError> {
        let (mut head, mut from, mut to, mut status) = (0, 0, 0, 0);
        unsafe {
            c::ffghadll(
                self.0,
                &raw mut head,
                &raw mut from,
                &raw mut to,
                &raw mut status,
            );
        }
        check(status, "cannot find its data")?;
        Ok((from.max(0) as u64, to.max(0) as u64))
    }

    /// All header records of the current unit, as they stand in the file.
    pub(super) fn records(&mut self) -> Result<Vec<String>, FileError> {
        let (mut count, mut more, mut status) = (0, 0, 0);
        unsafe { c::ffghsp(self.0, &raw mut count, &raw mut more, &raw mut status) };
        check(status, "cannot read its header")?;
        let mut records = Vec::with_capacity(count.max(0) as usize);
        for i in 1..=count {
            let mut card: [c_char; 96] = [0; 96];
            unsafe { c::ffgrec(self.0, i, card.as_mut_ptr(), &raw mut status) };
            check(status, "cannot read its header")?;
            // Correctness: the library ends the record with a zero within 81 bytes.
            let text = unsafe { CStr::from_ptr(card.as_ptr()) };
            records.push(text.to_string_lossy().into_owned());
        }
        Ok(records)
    }

    /// Reads columns `x0..x1`, rows `y0..y1` of a plane (all from 0). With `blanks`, undefined values
    /// become NaN; a float image has its NaN anyway, and reads faster without.
    pub(super) fn read(
        &mut self,
        plane: usize,
        (x0, x1): (i64, i64),
        (y0, y1): (i64, i64),
        blanks: bool,
        out: &mut [f32],
    ) -> Result<(), FileError> {
        assert_eq!(out.len() as i64, (x1 - x0) * (y1 - y0));
        let z = plane as c_long + 1;
        let mut first: [c_long; 3] = [x0 as c_long + 1, y0 as c_long + 1, z];
        let mut last: [c_long; 3] = [x1 as c_long, y1 as c_long, z];
        let mut step: [c_long; 3] = [1; 3];
        let (mut missing, mut any, mut status) = (f32::NAN, 0, 0);
        let null: *mut c_void = if blanks {
            (&raw mut missing).cast()
        } else {
            ptr::null_mut()
        };
        unsafe {
            c::ffgsv(
                self.0,
                FLOAT,
                first.as_mut_ptr(),
                last.as_mut_ptr(),
                step.as_mut_ptr(),
                null,
                out.as_mut_ptr().cast(),
                &raw mut any,
                &raw mut status,
            );
        }
        check(status, "cannot read its pixels")
    }

    /// Appends an image with these axes, of 32-bit float or of unsigned 16-bit numbers.
    pub(super) fn create_image(&mut self, axes: &[i64], sixteen: bool) -> Result<(), FileError> {
        let (mut axes, mut status) = (axes.to_vec(), 0);
        let kind = if sixteen {
            c::USHORT_IMG as c_int
        } else {
            c::FLOAT_IMG as c_int
        };
        unsafe {
            c::ffcrimll(
                self.0,
                kind,
                axes.len() as c_int,
                axes.as_mut_ptr().cast(),
                &raw mut status,
            );
        }
        check(status, "cannot begin the image")
    }

    /// Appends a header record of at most 80 characters.
    pub(super) fn write_record(&mut self, record: &str) -> Result<(), FileError> {
        let text = CString::new(record).unwrap_or_default();
        let mut status = 0;
        unsafe { c::ffprec(self.0, text.as_ptr(), &raw mut status) };
        check(status, "cannot write the header")
    }

    /// Closes the file; what was written is complete only if this succeeds.
    pub(super) fn close(mut self) -> Result<(), FileError> {
        let file = std::mem::replace(&mut self.0, ptr::null_mut());
        let mut status = 0;
        unsafe { c::ffclos(file, &raw mut status) };
        check(status, "cannot close the file")
    }
}

impl Drop for Handle {
    fn drop(&mut self) {
        if !self.0.is_null() {
            let mut status = 0;
            unsafe { c::ffclos(self.0, &raw mut status) };
        }
    }
}

#[cfg(unix)]
fn c_path(path: &Path) -> Result<CString, FileError> {
    use std::os::unix::ffi::OsStrExt;
    CString::new(path.as_os_str().as_bytes()).map_err(|e| FileError::Io {
        doing: "cannot use its name",
        error: e.into(),
    })
}

#[cfg(not(unix))]
fn c_path(path: &Path) -> Result<CString, FileError> {
    CString::new(path.to_string_lossy().as_bytes()).map_err(|e| FileError::Io {
        doing: "cannot use its name",
        error: e.into(),
    })
}

/// Turns the library's status into an error with its short text.
fn check(status: c_int, doing: &'static str) -> Result<(), FileError> {
    if status == 0 {
        return Ok(());
    }
    let mut text: [c_char; 96] = [0; 96];
    // Correctness: the library writes at most 31 bytes with a closing zero.
    let message = unsafe {
        c::ffgerr(status, text.as_mut_ptr());
        c::ffcmsg();
        CStr::from_ptr(text.as_ptr()).to_string_lossy().into_owned()
    };
    Err(FileError::Library { doing, message })
}
