//! What can be wrong with a file, told apart by who must act: `Io` (disk, rights), `NotFits`, `NotRegular`,
//! `Empty`, `CameraRaw`, `Image`, `Truncated`, `Header`, `Senseless`, `NoImage` and `NoSuchImage` (the file itself), `Shape` and `TooLarge` (an image that is
//! not ours to take), `Tile` (a part of it), `Through` (a master that it is read with), `Changed` (whoever writes to it), `Exists` and `IsInput` (the user's choice).

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
    /// A TIFF or PNG file that cannot be decoded.
    #[error("its image cannot be decoded: {0}")]
    Image(String),
    /// A camera's raw file that cannot be decoded.
    #[error("it is a camera's raw file that cannot be decoded: {0}")]
    CameraRaw(String),
    /// The data end before the header's promise.
    #[error("it is cut short: the header promises {promised} bytes, the file has {found}")]
    Truncated {
        /// Bytes that header and data should take.
        promised: u64,
        /// Bytes that are there.
        found: u64,
    },
    /// It is no file of bytes that end: a pipe, a device.
    #[error("it is no regular file but {0}")]
    NotRegular(&'static str),
    /// A header that no image can be read by.
    #[error("its header makes no sense: {0}")]
    Header(HeaderError),
    /// Values that no camera gives and no calibration makes.
    #[error(
        "its numbers make no sense: {percent:.0} % of a sample of them are beyond 1e18 or below 1e-37 (the wrong order of bytes, or bytes lost on the way?)"
    )]
    Senseless {
        /// Such values, in percent of the sample.
        percent: f64,
    },
    /// More pixels than fit into memory.
    #[error("its image of {width} x {height} pixels does not fit into memory")]
    TooLarge {
        /// NAXIS1.
        width: usize,
        /// NAXIS2.
        height: usize,
    },
    /// The file is another than the one that was opened first.
    #[error("it has changed while it was read")]
    Changed,
    /// The image that is asked for is not there.
    #[error("it holds {found} {}, and none is {wanted}", if *found == 1 { "image" } else { "images" })]
    NoSuchImage {
        /// Which.
        wanted: String,
        /// Images with pixels.
        found: usize,
    },
    /// A FITS file without an image.
    #[error("it holds no image, only headers or tables")]
    NoImage,
    /// An image that is neither a plane nor three planes of colour.
    #[error("its image has the shape {}, not width x height or width x height x 3", axes.iter().map(ToString::to_string).collect::<Vec<_>>().join(" x "))]
    Shape {
        /// NAXIS1, NAXIS2, …
        axes: Vec<u64>,
    },
    /// A tile of a packed image that cannot be unpacked.
    #[error("tile {number} of its packed image is damaged")]
    Tile {
        /// Its row in the table, from 1.
        number: u64,
    },
    /// The output is there already.
    #[error("'{}' exists already", .0.display())]
    Exists(PathBuf),
    /// The output is a file that this run reads.
    #[error("'{}' is an input{}: it is never written over", .output.display(), same_file(.output, .input))]
    IsInput {
        /// The output's name.
        output: PathBuf,
        /// The input, as it was named.
        input: PathBuf,
    },
    /// Pixels that come through more than their own file could not be read.
    #[error(transparent)]
    Through(#[from] jigsawa_core::doors::DoorError),
    /// An encoder of pictures refuses.
    #[error("cannot encode the picture: {0}")]
    Picture(String),
}

/// A header that no image can be read by.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum HeaderError {
    /// No END record in as many bytes as a header may have.
    #[error("it has no END within {0} bytes")]
    NoEnd(u64),
    /// A card that must be there is not.
    #[error("{0} is missing")]
    Missing(String),
    /// A card whose value cannot be.
    #[error("{name} = {value} cannot be")]
    Value {
        /// The card's name.
        name: String,
        /// Its value.
        value: String,
    },
    /// A packed image whose table does not have a row for each tile.
    #[error("its {rows} rows are not the {tiles} tiles of its image")]
    Tiles {
        /// Rows of the table.
        rows: u64,
        /// Tiles that the image has.
        tiles: u64,
    },
    /// A packed image that promises more than its bytes can hold.
    #[error("its image of {promised} bytes cannot be packed into {found}")]
    Packed {
        /// Bytes of the image.
        promised: u64,
        /// Bytes that it is packed into.
        found: u64,
    },
}

impl From<HeaderError> for FileError {
    fn from(error: HeaderError) -> Self {
        Self::Header(error)
    }
}

/// The input's own name, where the output's is another.
fn same_file(output: &std::path::Path, input: &std::path::Path) -> String {
    if output == input {
        String::new()
    } else {
        format!(" (the same file as '{}')", input.display())
    }
}

impl FileError {
    /// Wraps the system's error with what was tried.
    pub fn io(doing: &'static str) -> impl FnOnce(std::io::Error) -> Self {
        move |error| Self::Io { doing, error }
    }
}
