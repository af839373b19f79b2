//! Each file looked at once: facts, measures and a preview.
//!
//! A few workers take files from a list, each with one buffer that it uses again: so memory does not
//! grow with the number of files, one worker reads while another's frame is measured, and at most a
//! handful of files is open. What a worker finds goes into the store; only numbers stay in memory.

use jigsawa_core::number::Convert;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use jigsawa_core::binned;
use jigsawa_core::finish::Shade;
use jigsawa_core::frame::{FrameFacts, Kind, RowOrder};
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{Rect, Size};
use jigsawa_core::survey::{Area, LEAST_SIDE, Measures, measure, measure_even};
use jigsawa_formats::error::FileError;
use jigsawa_formats::facts;
use jigsawa_formats::fits::FitsFrame;
use jigsawa_formats::jpeg;
use serde::{Deserialize, Serialize};

use crate::cache::{self, Store};
use crate::find::FoundFile;
use crate::frames::Frame;
use crate::pixels::Calibrating;
use crate::run::Run;

/// How files are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Way {
    /// The part of each frame that is measured.
    pub area: Area,
    /// The longest side of a preview; `None` for no previews.
    pub preview_side: Option<usize>,
}

/// How one file is looked at: as all are, and read as it is or through its calibration.
#[derive(Serialize)]
struct WayOf<'a> {
    way: &'a Way,
    reading: Option<&'a str>,
}

impl cache::Way for WayOf<'_> {
    const KIND: &'static str = "look";
}

/// Frames of a layout that are read through their calibration, by their files.
pub type Through = HashMap<PathBuf, Frame>;

/// What a store has of a file.
pub fn recall(
    store: &Store,
    file: &Path,
    way: &Way,
    reading: Option<&str>,
) -> Option<SurveyedFile> {
    store.load(file, &WayOf { way, reading })
}

/// A picture of a frame for the report.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Preview {
    /// Its width.
    pub width: usize,
    /// Its height.
    pub height: usize,
    /// Pixels of the frame for one of the preview.
    pub factor: usize,
    /// The stretch that it was made with.
    pub shade: Shade,
    /// The picture itself, top row first; empty where it was left in the store.
    pub jpeg: Vec<u8>,
}

/// What was found in a file.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SurveyedFile {
    /// What its header says; `None` for a file that cannot be read.
    pub facts: Option<FrameFacts>,
    /// What was measured, or why not.
    pub measures: Result<Measures, String>,
    /// How it looks.
    pub preview: Option<Preview>,
    /// What its raw pixels were read through.
    #[serde(skip)]
    pub through: Option<Arc<Calibrating>>,
}

impl SurveyedFile {
    /// Of a file that says nothing.
    pub fn nothing() -> Self {
        Self::unreadable(String::new())
    }

    fn unreadable(reason: String) -> Self {
        Self {
            facts: None,
            measures: Err(reason),
            preview: None,
            through: None,
        }
    }
}

/// Memory that a worker needs for each pixel: the frame itself, what detection makes of it, and a copy without trails.
const BYTES_PER_PIXEL: usize = 10;

/// Looks at all files, at those of a layout `through` their calibration. The previews stay in the store.
pub fn survey_files(
    files: &[FoundFile],
    way: &Way,
    through: &Through,
    run: &Run<'_>,
) -> (Vec<SurveyedFile>, usize) {
    let progress = run.begin("frames", files.len());
    let next = AtomicUsize::new(0);
    let fresh = AtomicUsize::new(0);
    let looked: Vec<Mutex<Option<SurveyedFile>>> = files.iter().map(|_| Mutex::new(None)).collect();
    std::thread::scope(|scope| {
        for _ in 0..workers(files, run) {
            scope.spawn(|| {
                let mut buffer = Vec::new();
                loop {
                    let i = next.fetch_add(1, Ordering::Relaxed);
                    let Some(file) = files.get(i) else { break };
                    let frame = through.get(&file.path);
                    let reading = frame.and_then(Frame::reading);
                    let known = recall(&run.store, &file.path, way, reading);
                    let mut found = known.unwrap_or_else(|| {
                        fresh.fetch_add(1, Ordering::Relaxed);
                        let found = survey_file(&file.path, way, frame, &mut buffer);
                        run.store.keep(&file.path, &WayOf { way, reading }, &found);
                        found
                    });
                    found.through = frame.and_then(|f| f.calibration.clone());
                    if let Some(p) = &mut found.preview {
                        p.jpeg = Vec::new();
                    }
                    if let Ok(mut slot) = looked[i].lock() {
                        *slot = Some(found);
                    }
                    progress.step();
                }
            });
        }
    });
    let looked = looked
        .into_iter()
        .map(|slot| {
            slot.into_inner()
                .ok()
                .flatten()
                .unwrap_or_else(SurveyedFile::nothing)
        })
        .collect();
    (looked, fresh.into_inner())
}

/// One more than threads, so that one reads while the others' frames are measured; fewer where the
/// frames are so large that memory would not do.
fn workers(files: &[FoundFile], run: &Run<'_>) -> usize {
    let threads = rayon::current_num_threads();
    let bytes = |f: &FoundFile| std::fs::metadata(&f.path).map_or(0, |m| m.len().index());
    let largest = files.iter().max_by_key(|f| bytes(f));
    let pixels = largest.map_or(1, |f| {
        FitsFrame::glance(&f.path).map_or_else(
            // A 16-bit pixel has two bytes on disk.
            |_| bytes(f) / 2,
            |frame| frame.size().area(),
        )
    });
    (run.memory / (pixels * BYTES_PER_PIXEL).max(1)).clamp(1, threads + 1)
}

/// Looks at one file.
fn survey_file(
    path: &Path,
    way: &Way,
    through: Option<&Frame>,
    buffer: &mut Vec<f32>,
) -> SurveyedFile {
    match try_look(path, way, through, buffer) {
        Ok(looked) => looked,
        Err(e) => SurveyedFile::unreadable(e.to_string()),
    }
}

fn try_look(
    path: &Path,
    way: &Way,
    through: Option<&Frame>,
    buffer: &mut Vec<f32>,
) -> Result<SurveyedFile, FileError> {
    let (facts, whole) = if let Some(frame) = through {
        let whole = frame.read_plane(std::mem::take(buffer))?;
        (frame.facts.clone(), whole)
    } else {
        let file = FitsFrame::open(path)?;
        // Of a colour image the green plane, which has most of the light.
        let plane = usize::from(file.planes() == 3);
        let whole = file.read_plane(plane, std::mem::take(buffer))?;
        (facts::read(&file), whole)
    };
    let measures = measured(&whole, &facts, way.area);
    let preview = match way.preview_side {
        Some(side) => preview(&whole, facts.row_order, side)?,
        None => None,
    };
    *buffer = whole.into_data();
    Ok(SurveyedFile {
        facts: Some(facts),
        measures,
        preview,
        through: None,
    })
}

/// Measures the area of a frame. A raw colour frame is measured on the means of its pattern's blocks of
/// 2 x 2, since its pixels have different filters.
fn measured(whole: &Plane, facts: &FrameFacts, area: Area) -> Result<Measures, String> {
    let rect = area.of(whole.size()).ok_or_else(|| {
        format!("less than {LEAST_SIDE} x {LEAST_SIDE} pixels of it lie in the area {area}")
    })?;
    let part = if rect == whole.size().rect() {
        None
    } else {
        Some(cut(whole, rect))
    };
    let plane = part.as_ref().unwrap_or(whole);
    let mosaic = facts.colour_pattern.is_some() && facts.planes == 1 && !facts.master;
    let blocks = mosaic.then(|| binned(plane, 2));
    let plane = blocks.as_ref().unwrap_or(plane);
    let factor = if mosaic { 2 } else { 1 };
    let origin = (rect.x / factor, rect.y / factor);
    let found = if facts.kind == Kind::Light {
        measure(plane, origin, facts.saturation)
    } else {
        measure_even(plane, facts.saturation)
    };
    found
        .map(|m| if mosaic { m.enlarged(2) } else { m })
        .map_err(|e| e.to_string())
}

/// A window as a plane of its own.
pub fn cut(whole: &Plane, rect: Rect) -> Plane {
    let mut data = vec![0.0; rect.area()];
    whole.window(rect, &mut data);
    Size::new(rect.width, rect.height)
        .and_then(|size| Plane::new(size, data))
        .unwrap_or_else(|| whole.clone())
}

/// A preview as a viewer shows the frame; `None` where no pixel has a value.
fn preview(whole: &Plane, order: RowOrder, side: usize) -> Result<Option<Preview>, FileError> {
    let longest = whole.size().width().max(whole.size().height());
    let factor = longest.div_ceil(side.max(1));
    let small = binned(whole, factor);
    let (width, height) = (small.size().width(), small.size().height());
    let stride = (small.data().len() / 40_000).max(1);
    let sample: Vec<f32> = small.data().iter().step_by(stride).copied().collect();
    let Some(shade) = Shade::measure(&sample) else {
        return Ok(None);
    };
    let table = shade.table();
    let mut grey = vec![0u8; width * height];
    for (i, row) in grey.chunks_exact_mut(width).enumerate() {
        let y = match order {
            RowOrder::BottomUp => height - 1 - i,
            RowOrder::TopDown => i,
        };
        table.apply(small.row(y), row);
    }
    Ok(Some(Preview {
        width,
        height,
        factor,
        shade,
        jpeg: jpeg::grey(&grey, width, height, JPEG_QUALITY)?,
    }))
}

/// Noise of the sky is most of what a preview holds; above this quality its size doubles and nothing
/// more is seen.
const JPEG_QUALITY: u8 = 78;
