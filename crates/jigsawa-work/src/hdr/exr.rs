//! A merged frame as EXR, which photo and film programs read.

use jigsawa_core::number::Convert;
use std::path::Path;

use jigsawa_core::doors::FrameSource;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::space::Rect;
use jigsawa_formats::about::About;
use jigsawa_formats::error::FileError;
use jigsawa_formats::exr::{Pixel, write};
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::whole::Unfinished;

use crate::trouble::Trouble;

/// How values are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Numbers {
    /// 16-bit floats: half the size.
    Half,
    /// 32-bit floats.
    Float,
}

/// What the values become.
pub struct Exr {
    /// How values are written.
    pub numbers: Numbers,
    /// Level that becomes 0.
    pub sky: f32,
    /// Light above the sky that becomes 1.
    pub full: f32,
    /// The order of the rows in the FITS file.
    pub order: RowOrder,
    /// What the file says of itself.
    pub about: About,
}

/// Writes it from the FITS file, row by row.
pub fn write_exr(from: &Path, to: Unfinished, how: &Exr) -> Result<Unfinished, Trouble> {
    let wrong = |error| Trouble::Write {
        file: to.target().to_owned(),
        error,
    };
    let file = FitsFrame::open(from).map_err(wrong)?;
    let size = file.size();
    let (plane, mut top) = (file.plane(0), 0);
    let mut rows = Vec::new();
    let mut next = |count: usize, out: &mut Vec<f32>| -> Result<(), FileError> {
        let y = match how.order {
            RowOrder::TopDown => top,
            RowOrder::BottomUp => size.height() - top - count,
        };
        let rect = Rect {
            x: 0,
            y: y.whole(),
            width: size.width(),
            height: count,
        };
        rows.resize(rect.area(), 0.0);
        plane
            .read(rect, &mut rows)
            .map_err(|e| FileError::Picture(e.to_string()))?;
        out.clear();
        let lines = rows.chunks_exact(size.width());
        let mut put = |line: &[f32]| out.extend(line.iter().map(|v| (v - how.sky) / how.full));
        match how.order {
            RowOrder::TopDown => lines.for_each(&mut put),
            RowOrder::BottomUp => lines.rev().for_each(&mut put),
        }
        top += count;
        Ok(())
    };
    let pixel = Pixel {
        colour: false,
        half: how.numbers == Numbers::Half,
    };
    write(
        &to,
        (size.width(), size.height()),
        pixel,
        &how.about,
        &mut next,
    )
    .map_err(wrong)?;
    Ok(to)
}
