//! A file's fingerprint: enough to see that it is not the one that was measured, at the cost of a megabyte.
//!
//! The hash (BLAKE3) is over the length, the first and the last block, and 254 blocks evenly between. A file that was
//! made anew differs in nearly all of them; a few pixels changed by hand may pass.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

use crate::select;

/// Bytes of a block.
const BLOCK: usize = 4096;

/// Blocks that are read at most.
const BLOCKS: u64 = 256;

/// The fingerprint in 32 hexadecimal digits.
///
/// # Errors
/// When the file cannot be read.
pub fn of_file(path: &Path) -> io::Result<String> {
    let mut file = File::open(select::file(path))?;
    let length = file.metadata()?.len();
    let mut hash = blake3::Hasher::new();
    hash.update(&length.to_le_bytes());
    let last = length.saturating_sub(BLOCK as u64);
    let count = BLOCKS.min(length.div_ceil(BLOCK as u64)).max(1);
    let mut block = Vec::with_capacity(BLOCK);
    for i in 0..count {
        let at = if count == 1 {
            0
        } else {
            last * i / (count - 1)
        };
        file.seek(SeekFrom::Start(at))?;
        block.clear();
        (&mut file).take(BLOCK as u64).read_to_end(&mut block)?;
        hash.update(&block);
    }
    Ok(hash.finalize().to_hex()[..32].to_owned())
}

/// Are two files the same, byte for byte?
///
/// # Errors
/// When one of them cannot be read.
pub fn are_equal(a: &Path, b: &Path) -> io::Result<bool> {
    let (mut a, mut b) = (File::open(select::file(a))?, File::open(select::file(b))?);
    if a.metadata()?.len() != b.metadata()?.len() {
        return Ok(false);
    }
    let (mut of_a, mut of_b) = (Vec::new(), Vec::new());
    loop {
        for (file, part) in [(&mut a, &mut of_a), (&mut b, &mut of_b)] {
            part.clear();
            file.take(1 << 18).read_to_end(part)?;
        }
        if of_a != of_b {
            return Ok(false);
        }
        if of_a.is_empty() {
            return Ok(true);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_core::number::Convert;

    #[test]
    fn a_file_made_anew_has_another_fingerprint() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a");
        let mut seen = Vec::new();
        let noise = |seed: u32, n: usize| -> Vec<u8> {
            (0..n.u32())
                .map(|i| {
                    (i.wrapping_mul(2_654_435_761)
                        .wrapping_add(seed.wrapping_mul(0x9E37_79B9))
                        >> 24) as u8
                })
                .collect()
        };
        for (seed, n) in [
            (1, 0),
            (1, 1),
            (1, 5000),
            (2, 5000),
            (1, 3_000_000),
            (2, 3_000_000),
        ] {
            std::fs::write(&path, noise(seed, n)).unwrap();
            let print = of_file(&path).unwrap();
            assert_eq!(print, of_file(&path).unwrap());
            assert!(print.len() == 32 && !seen.contains(&print), "{seed} {n}");
            seen.push(print);
        }
        assert!(of_file(&dir.path().join("none")).is_err());
    }

    #[test]
    fn files_are_equal_to_the_last_byte_or_not() {
        let dir = tempfile::tempdir().unwrap();
        let (a, b) = (dir.path().join("a"), dir.path().join("b"));
        let mut bytes = vec![7u8; 700_000];
        std::fs::write(&a, &bytes).unwrap();
        std::fs::write(&b, &bytes).unwrap();
        assert!(are_equal(&a, &b).unwrap());
        bytes[699_999] = 8;
        std::fs::write(&b, &bytes).unwrap();
        assert!(!are_equal(&a, &b).unwrap());
        std::fs::write(&b, &bytes[..5]).unwrap();
        assert!(!are_equal(&a, &b).unwrap());
    }
}
