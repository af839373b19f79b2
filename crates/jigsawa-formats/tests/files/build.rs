//! FITS files made byte by byte, so that readers are not proved by the library that they use.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

/// A file in the making.
#[derive(Default)]
pub struct Fits {
    bytes: Vec<u8>,
}

impl Fits {
    pub fn new() -> Self {
        Self::default()
    }

    /// Appends a header of these records, END and padding.
    pub fn header(mut self, records: &[String]) -> Self {
        for r in records.iter().map(String::as_str).chain(["END"]) {
            assert!(r.len() <= 80, "{r}");
            self.bytes.extend(format!("{r:<80}").bytes());
        }
        self.pad(b' ');
        self
    }

    /// Appends data and padding.
    pub fn data(mut self, bytes: &[u8]) -> Self {
        self.bytes.extend(bytes);
        self.pad(0);
        self
    }

    fn pad(&mut self, with: u8) {
        let len = self.bytes.len().next_multiple_of(2880);
        self.bytes.resize(len, with);
    }

    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    pub fn write(&self, folder: &Path, name: &str) -> PathBuf {
        let path = folder.join(name);
        std::fs::write(&path, &self.bytes).unwrap();
        path
    }
}

pub fn integer(name: &str, value: i64) -> String {
    format!("{name:<8}= {value:>20}")
}

pub fn float(name: &str, value: f64) -> String {
    format!("{name:<8}= {value:>20?}")
}

/// The records that begin a primary image.
pub fn image(bitpix: i64, axes: &[i64]) -> Vec<String> {
    let mut r = vec![
        "SIMPLE  =                    T".to_owned(),
        integer("BITPIX", bitpix),
        integer("NAXIS", axes.len().whole()),
    ];
    r.extend(
        axes.iter()
            .enumerate()
            .map(|(i, n)| integer(&format!("NAXIS{}", i + 1), *n)),
    );
    r
}

/// Float pixels as a file stores them.
pub fn floats(values: &[f32]) -> Vec<u8> {
    values.iter().flat_map(|v| v.to_be_bytes()).collect()
}

/// A float image of w x h whose pixel (x, y) of plane p is 100 p + 10 y + x.
pub fn counting(w: i64, h: i64, planes: i64) -> Fits {
    let axes = if planes == 1 {
        vec![w, h]
    } else {
        vec![w, h, planes]
    };
    let values: Vec<f32> = (0..planes)
        .flat_map(|p| {
            (0..h).flat_map(move |y| (0..w).map(move |x| (100 * p + 10 * y + x).single()))
        })
        .collect();
    Fits::new()
        .header(&image(-32, &axes))
        .data(&floats(&values))
}
