//! Pictures of a linear result: stretched, as a viewer of FITS files shows it.

use jigsawa_core::number::Convert;
use std::path::Path;

use jigsawa_core::finish::{Display, Link, Ramp, Stretch};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::about::{About, STRIP_ROWS};
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::png::Bits;
use jigsawa_formats::whole::Unfinished;
use rayon::prelude::*;

use super::encode::{Format, encode};
use crate::trouble::Trouble;

/// About this many pixels tell the levels of a picture.
const SAMPLE: usize = 400_000;

/// How values become light.
#[derive(Clone, Copy)]
pub enum Tone {
    /// Stretched; the TIFF has 16 bits.
    Stretched(Link),
    /// A straight ramp in the PNG; the TIFF has the values themselves.
    Straight,
}

enum Curve {
    Stretched(Stretch),
    Straight(Ramp),
}

impl Curve {
    /// Brings rows of pixels to the screen, in place.
    fn apply_to_rows(&self, [r, g, b]: [&mut [f32]; 3]) {
        match self {
            Self::Stretched(s) => s.apply_to_rows(r, g, b),
            Self::Straight(ramp) => {
                for ((r, g), b) in r.iter_mut().zip(g).zip(b) {
                    let Display(pixel) = ramp.apply([*r, *g, *b]);
                    [*r, *g, *b] = pixel;
                }
            }
        }
    }
}

/// Writes TIFF and PNG of the three-plane FITS file at `linear`.
pub fn write(
    linear: &Path,
    row_order: RowOrder,
    tone: Tone,
    about: &About,
    tiff: Unfinished,
    png: Unfinished,
) -> Result<Vec<Unfinished>, Trouble> {
    let unreadable = |e| Trouble::Files(vec![(linear.to_owned(), e)]);
    let frame = FitsFrame::open(linear).map_err(unreadable)?;
    let size = frame.size();
    let sample = sample(&frame).map_err(unreadable)?;
    let curve = match tone {
        Tone::Stretched(link) => Stretch::measure(&sample, link).map(Curve::Stretched),
        Tone::Straight => Ramp::measure(&sample).map(Curve::Straight),
    }
    .ok_or(Trouble::Nothing)?;
    let shape = (size.width(), size.height());
    let mut planes: Planes = std::array::from_fn(|_| Vec::new());
    let mut rows = Vec::new();
    if matches!(tone, Tone::Straight) {
        // The TIFF has the values themselves, the PNG a ramp: two runs over the rows.
        let format = Format::TiffFloat { encoded: false };
        let mut done = encode(vec![(tiff, format)], shape, about, |out| {
            for y in (0..size.height()).step_by(STRIP_ROWS) {
                band(&frame, row_order, None, y, &mut planes, &mut rows).map_err(unreadable)?;
                if !out.rows(&rows) {
                    break;
                }
            }
            Ok(())
        })?;
        let png = encode(vec![(png, Format::Png(Bits::Eight))], shape, about, |out| {
            for y in (0..size.height()).step_by(STRIP_ROWS) {
                band(&frame, row_order, Some(&curve), y, &mut planes, &mut rows)
                    .map_err(unreadable)?;
                if !out.rows(&rows) {
                    break;
                }
            }
            Ok(())
        })?;
        done.extend(png);
        return Ok(done);
    }
    let files = vec![(tiff, Format::Tiff), (png, Format::Png(Bits::Eight))];
    encode(files, shape, about, |out| {
        for y in (0..size.height()).step_by(STRIP_ROWS) {
            band(&frame, row_order, Some(&curve), y, &mut planes, &mut rows).map_err(unreadable)?;
            if !out.rows(&rows) {
                break;
            }
        }
        Ok(())
    })
}

/// Rows `y..` of the picture, counted from its top: through a curve, or as they are.
fn band(
    frame: &FitsFrame,
    row_order: RowOrder,
    curve: Option<&Curve>,
    y: usize,
    planes: &mut Planes,
    out: &mut Vec<f32>,
) -> Result<(), FileError> {
    let size = frame.size();
    let (width, height) = (size.width(), size.height());
    let rows = STRIP_ROWS.min(height - y);
    // The lowest row of a bottom-up image is stored first.
    let first = match row_order {
        RowOrder::TopDown => y,
        RowOrder::BottomUp => height - y - rows,
    };
    read_rows(frame, size, first, rows, planes)?;
    out.resize(3 * rows * width, 0.0);
    let [r, g, b] = planes.each_mut().map(|p| p.par_chunks_exact_mut(width));
    let together = r.zip(g).zip(b).map(|((r, g), b)| [r, g, b]);
    let interleave = |([r, g, b], out): ([&mut [f32]; 3], &mut [f32])| {
        if let Some(curve) = curve {
            curve.apply_to_rows([&mut *r, &mut *g, &mut *b]);
        }
        for (((out, r), g), b) in out.chunks_exact_mut(3).zip(r).zip(g).zip(b) {
            out.copy_from_slice(&[*r, *g, *b]);
        }
    };
    let out = out.par_chunks_exact_mut(3 * width);
    match row_order {
        RowOrder::TopDown => together.zip(out).for_each(interleave),
        RowOrder::BottomUp => together.rev().zip(out).for_each(interleave),
    }
    Ok(())
}

/// Some rows of each plane; the memory is used again from band to band.
type Planes = [Vec<f32>; 3];

fn read_rows(
    frame: &FitsFrame,
    size: Size,
    first: usize,
    rows: usize,
    planes: &mut Planes,
) -> Result<(), FileError> {
    let rect = Rect {
        x: 0,
        y: first.whole(),
        width: size.width(),
        height: rows,
    };
    for (p, plane) in planes.iter_mut().enumerate() {
        plane.resize(rect.area(), 0.0);
        frame.read(p, rect, plane)?;
    }
    Ok(())
}

/// Pixels from all over the picture: every so many rows, every so many columns.
fn sample(frame: &FitsFrame) -> Result<Vec<[f32; 3]>, FileError> {
    let size = frame.size();
    let step = (size.area().real() / SAMPLE.real()).sqrt().index().max(1);
    let mut planes: Planes = std::array::from_fn(|_| Vec::new());
    let mut sample = Vec::with_capacity(size.area() / (step * step) + size.width());
    for y in (step / 2..size.height()).step_by(step) {
        read_rows(frame, size, y, 1, &mut planes)?;
        let [r, g, b] = &planes;
        sample.extend(
            (step / 2..size.width())
                .step_by(step)
                .map(|x| [r[x], g[x], b[x]]),
        );
    }
    Ok(sample)
}
