//! The one place that talks to the C library: a safe handle for what we need of it, the pixels of images that are
//! packed in tiles. Headers are read and checked by `unit.rs` before; all else never comes here.
//!
//! Benefit of the unsafe code here: the library reads every way of packing, and is tested by three decades of use.
//! Correctness: every call passes pointers to live
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

const READ_ONLY: c_int = 0;
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

    /// Moves to a unit, from 1, and tells what it holds: BITPIX and axes.
    pub(super) fn go_to(&mut self, unit: usize) -> Result<(i32, Vec<i64>), FileError> {
        let (mut kind, mut status) = (0, 0);
        unsafe { c::ffmahd(self.0, unit as c_int, &raw mut kind, &raw mut status) };
        check(status, "cannot read its headers")?;
        let (mut bitpix, mut count) = (0, 0);
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
        Ok((bitpix, axes[..count].to_vec()))
    }

    /// Reads columns `x0..x1`, rows `y0..y1` of a plane (all from 0); undefined values become NaN.
    pub(super) fn read(
        &mut self,
        plane: usize,
        (x0, x1): (i64, i64),
        (y0, y1): (i64, i64),
        out: &mut [f32],
    ) -> Result<(), FileError> {
        assert_eq!(out.len() as i64, (x1 - x0) * (y1 - y0));
        let z = plane as c_long + 1;
        let mut first: [c_long; 3] = [x0 as c_long + 1, y0 as c_long + 1, z];
        let mut last: [c_long; 3] = [x1 as c_long, y1 as c_long, z];
        let mut step: [c_long; 3] = [1; 3];
        let (mut missing, mut any, mut status) = (f32::NAN, 0, 0);
        unsafe {
            c::ffgsv(
                self.0,
                FLOAT,
                first.as_mut_ptr(),
                last.as_mut_ptr(),
                step.as_mut_ptr(),
                (&raw mut missing).cast::<c_void>(),
                out.as_mut_ptr().cast(),
                &raw mut any,
                &raw mut status,
            );
        }
        check(status, "cannot read its pixels")
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
