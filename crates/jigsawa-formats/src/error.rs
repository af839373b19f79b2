//! What can be wrong with a file, told apart by who must act: `Io` (disk, rights), `NotFits`,
//! `Empty`, `Truncated` and `NoImage` (the file itself), `Shape` (an image that is not ours to take),
//! `Library` (the C library's word where we have no better), `Exists` (the user's choice).

use std::path::PathBuf;

/// A file that cannot be read or written.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// The system refuses.
    #[error("{doing}: {error}")]
    Io {
        /// What was tried.
        doing: &'static str,
        /// What the system says.
        error: std::io::Error,
    },
    /// The file holds no byte.
    #[error("the file is empty")]
    Empty,
    /// The first bytes are not those of a FITS file.
    #[error("it is not a FITS file{}", looks_like.map(|l| format!(" (it looks like {l})")).unwrap_or_default())]
    NotFits {
        /// What it looks like instead, if that can be told.
        looks_like: Option<&'static str>,
    },
    /// The data end before the header's promise.
    #[error("it is cut short: the header promises {promised} bytes, the file has {found}")]
    Truncated {
        /// Bytes that header and data should take.
        promised: u64,
        /// Bytes that are there.
        found: u64,
    },
    /// A FITS file without an image.
    #[error("it holds no image, only headers or tables")]
    NoImage,
    /// An image that is neither a plane nor three planes of colour.
    #[error("its image has the shape {}, not width x height or width x height x 3", axes.iter().map(ToString::to_string).collect::<Vec<_>>().join(" x "))]
    Shape {
        /// NAXIS1, NAXIS2, …
        axes: Vec<i64>,
    },
    /// The C library's word.
    #[error("{doing}: {message}")]
    Library {
        /// What was tried.
        doing: &'static str,
        /// The library's short text.
        message: String,
    },
    /// The output is there already.
    #[error("'{}' exists already", .0.display())]
    Exists(PathBuf),
    /// An encoder of pictures refuses.
    #[error("cannot encode the picture: {0}")]
    Picture(String),
}

impl FileError {
    /// Wraps the system's error with what was tried.
    pub fn io(doing: &'static str) -> impl FnOnce(std::io::Error) -> Self {
        move |error| Self::Io { doing, error }
    }
}
