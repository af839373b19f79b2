//! Pictures of a linear result: stretched, as a viewer of FITS files shows it.

use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, sync_channel};

use jigsawa_core::finish::{Display, Link, Ramp, Stretch};
use jigsawa_core::frame::RowOrder;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::error::FileError;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::png::PngWriter;
use jigsawa_formats::tiff::{STRIP_ROWS, write_16, write_float};
use jigsawa_formats::whole::Unfinished;
use rayon::prelude::*;

use crate::tell::Trouble;

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
    fn apply(&self, pixel: [f32; 3]) -> Display {
        match self {
            Self::Stretched(s) => s.apply(pixel),
            Self::Straight(r) => r.apply(pixel),
        }
    }
}

/// Rows of the picture, from the top down, on their way to the encoders.
#[derive(Clone)]
struct Band {
    display: Arc<Vec<u16>>,
    linear: Arc<Vec<f32>>,
}

/// Writes TIFF and PNG of the three-plane FITS file at `linear`.
pub fn write(
    linear: &Path,
    row_order: RowOrder,
    tone: Tone,
    title: &str,
    tiff: &Unfinished,
    png: Unfinished,
) -> Result<Unfinished, Trouble> {
    let unreadable = |e| Trouble::Files(vec![(linear.to_owned(), e)]);
    let frame = FitsFrame::open(linear).map_err(unreadable)?;
    let size = frame.size();
    let sample = sample(&frame).map_err(unreadable)?;
    let curve = match tone {
        Tone::Stretched(link) => Stretch::measure(&sample, link).map(Curve::Stretched),
        Tone::Straight => Ramp::measure(&sample).map(Curve::Straight),
    }
    .ok_or(Trouble::Nothing)?;
    let wants_linear = matches!(tone, Tone::Straight);
    let (tiff_path, png_path) = (tiff.target().to_owned(), png.target().to_owned());
    std::thread::scope(|scope| {
        let (to_tiff, tiff_rows) = sync_channel::<Band>(2);
        let (to_png, png_rows) = sync_channel::<Band>(2);
        let shape = (size.width(), size.height());
        let tiff_done =
            scope.spawn(move || encode_tiff(tiff, shape, title, wants_linear, &tiff_rows));
        let png_done = scope.spawn(move || encode_png(png, shape, title, &png_rows));
        let mut read = Ok(());
        let mut planes: Planes = std::array::from_fn(|_| Vec::new());
        for y in (0..size.height()).step_by(STRIP_ROWS) {
            match band(&frame, row_order, &curve, wants_linear, y, &mut planes) {
                Ok(b) => {
                    // An encoder that has failed takes no more; its own error tells why.
                    if to_tiff.send(b.clone()).is_err() || to_png.send(b).is_err() {
                        break;
                    }
                }
                Err(e) => {
                    read = Err(unreadable(e));
                    break;
                }
            }
        }
        drop((to_tiff, to_png));
        let written = |path: &Path| {
            let file = path.to_owned();
            move |error| Trouble::Write { file, error }
        };
        let tiff = join(tiff_done).map_err(written(&tiff_path));
        let png = join(png_done).map_err(written(&png_path));
        read?;
        tiff?;
        png
    })
}

fn join<T>(thread: std::thread::ScopedJoinHandle<'_, T>) -> T {
    thread
        .join()
        .unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// The encoders end early only when the bands do: then the reader's error is the one that counts.
fn cut_off() -> FileError {
    FileError::Picture("its rows ended early".to_owned())
}

fn encode_tiff(
    file: &Unfinished,
    shape: (usize, usize),
    title: &str,
    linear: bool,
    rows: &Receiver<Band>,
) -> Result<(), FileError> {
    let next = || rows.recv().map_err(|_| cut_off());
    if linear {
        write_float(file, shape, title, &mut |_| Ok(next()?.linear))
    } else {
        write_16(file, shape, title, &mut |_| Ok(next()?.display))
    }
}

fn encode_png(
    file: Unfinished,
    (width, height): (usize, usize),
    title: &str,
    rows: &Receiver<Band>,
) -> Result<Unfinished, FileError> {
    let mut png = PngWriter::create(file, width, height, title)?;
    for band in rows {
        png.rows(&band.display)?;
    }
    png.complete()
}

/// Rows `y..` of the picture, counted from its top.
fn band(
    frame: &FitsFrame,
    row_order: RowOrder,
    curve: &Curve,
    wants_linear: bool,
    y: usize,
    planes: &mut Planes,
) -> Result<Band, FileError> {
    let size = frame.size();
    let (width, height) = (size.width(), size.height());
    let rows = STRIP_ROWS.min(height - y);
    // The lowest row of a bottom-up image is stored first.
    let first = match row_order {
        RowOrder::TopDown => y,
        RowOrder::BottomUp => height - y - rows,
    };
    read_rows(frame, size, first, rows, planes)?;
    // Row i of the picture, in each plane.
    let row = |i: usize| -> [&[f32]; 3] {
        let stored = match row_order {
            RowOrder::TopDown => i,
            RowOrder::BottomUp => rows - 1 - i,
        };
        std::array::from_fn(|p| &planes[p][stored * width..(stored + 1) * width])
    };
    let pixels = |i: usize| {
        let [r, g, b] = row(i);
        r.iter().zip(g).zip(b).map(|((r, g), b)| [*r, *g, *b])
    };
    let mut display = vec![0u16; 3 * rows * width];
    display
        .par_chunks_mut(3 * width)
        .enumerate()
        .for_each(|(i, out)| {
            for (out, pixel) in out.chunks_exact_mut(3).zip(pixels(i)) {
                let Display(rgb) = curve.apply(pixel);
                for (o, v) in out.iter_mut().zip(rgb) {
                    *o = (v * 65_535.0 + 0.5) as u16;
                }
            }
        });
    let linear: Vec<f32> = if wants_linear {
        (0..rows).flat_map(|i| pixels(i).flatten()).collect()
    } else {
        Vec::new()
    };
    Ok(Band {
        display: Arc::new(display),
        linear: Arc::new(linear),
    })
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
        y: first as i64,
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
    let step = ((size.area() as f64 / SAMPLE as f64).sqrt() as usize).max(1);
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
