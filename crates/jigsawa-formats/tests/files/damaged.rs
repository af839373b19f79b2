//! Damaged files are errors with a reason; none makes the reader panic.

use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::FitsFrame;
use proptest::prelude::*;
use rstest::rstest;

use crate::build::{Fits, counting, image};

fn open(bytes: &[u8]) -> Result<FitsFrame, FileError> {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.fits");
    std::fs::write(&path, bytes).unwrap();
    FitsFrame::open(&path)
}

#[test]
fn what_is_wrong_is_said() {
    assert!(matches!(open(b""), Err(FileError::Empty)));
    let text = open(b"dear diary, tonight it was clear\n");
    assert!(matches!(
        text,
        Err(FileError::NotFits {
            looks_like: Some("a text file")
        })
    ));
    let png = open(b"\x89PNG\r\n\x1a\n0000");
    assert!(matches!(png, Err(FileError::Image(_))));
    let none = open(Fits::new().header(&image(8, &[])).bytes());
    assert!(matches!(none, Err(FileError::NoImage)));
    let missing = FitsFrame::open(std::path::Path::new("no/such.fits"));
    assert!(matches!(missing, Err(FileError::Io { .. })));
}

#[rstest]
#[case::no_data(2880)]
#[case::half_the_data(2880 + 4000)]
#[case::one_byte_less(2880 + 10_000 - 1)]
fn a_file_cut_short_says_by_how_much(#[case] keep: usize) {
    let whole = counting(50, 50, 1);
    match open(&whole.bytes()[..keep]) {
        Err(FileError::Truncated { promised, found }) => {
            assert_eq!((promised, found), (12_880, keep as u64));
        }
        other => panic!("{:?}", other.map(|f| f.size())),
    }
}

#[test]
fn only_the_padding_may_be_missing() {
    let whole = counting(50, 50, 1);
    assert!(open(&whole.bytes()[..12_880]).is_ok());
}

#[test]
fn a_header_that_promises_a_huge_image_is_refused_at_once() {
    let huge = Fits::new().header(&image(-32, &[900_000, 900_000]));
    assert!(matches!(
        open(huge.bytes()),
        Err(FileError::Truncated { .. })
    ));
    let absurd = Fits::new().header(&image(-64, &[i64::MAX / 2, 3]));
    assert!(open(absurd.bytes()).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn no_damage_makes_the_reader_panic(
        at in 0usize..3500,
        with in any::<[u8; 3]>(),
        keep in 0usize..6000,
    ) {
        let mut bytes = counting(12, 9, 1).bytes().to_vec();
        let at = at.min(bytes.len() - 3);
        bytes[at..at + 3].copy_from_slice(&with);
        bytes.truncate(keep.max(10));
        if let Ok(frame) = open(&bytes)
            && frame.size().area() < 1_000_000
        {
            let _ = frame.read_plane(0, Vec::new());
            let _ = jigsawa_formats::facts::read(&frame);
        }
    }
}
