//! Bytes from a place of a file, whatever others read of it at the same time.

use std::fs::File;
use std::io;

/// Fills `into` from byte `at` on.
#[cfg(unix)]
pub(super) fn read_at(file: &File, into: &mut [u8], at: u64) -> io::Result<()> {
    use std::os::unix::fs::FileExt;
    file.read_exact_at(into, at)
}

/// Fills `into` from byte `at` on.
#[cfg(windows)]
pub(super) fn read_at(file: &File, mut into: &mut [u8], mut at: u64) -> io::Result<()> {
    use std::os::windows::fs::FileExt;
    while !into.is_empty() {
        match file.seek_read(into, at) {
            Ok(0) => return Err(io::ErrorKind::UnexpectedEof.into()),
            Ok(n) => {
                into = &mut into[n..];
                at += n as u64;
            }
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(())
}
