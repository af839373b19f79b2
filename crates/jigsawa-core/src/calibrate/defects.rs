//! Pixels that no master corrects: hot, cold and wavering ones, found in darks and flats, or in dithered lights where there
//! are no darks. [`super::repair`] makes them up at reading.
//!
//! A pixel is held against the median of eight around it at twice the distance of its neighbours: of its own colour behind a
//! colour camera's pattern, and blind to a warm column beside it, of which no more than two of the eight can be.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::around;
use super::average::bands;
use super::set::SetNoise;
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad, median};
use crate::space::{Rect, Size};

/// What is wrong with a pixel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Flaw {
    /// It wavers between states. It comes first: such a pixel is hot as well.
    Wavering,
    /// It answers to a fraction of the light.
    Cold,
    /// More dark current than can be taken off without its noise.
    Hot,
    /// Charge of a full star that ran along its column, in one frame.
    Bloom,
    /// Hit by a cosmic ray, in one frame.
    Ray,
}

impl Flaw {
    /// All of them.
    pub const ALL: [Self; 5] = [
        Self::Hot,
        Self::Wavering,
        Self::Cold,
        Self::Bloom,
        Self::Ray,
    ];

    /// The flaw in a word.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Hot => "hot",
            Self::Cold => "cold",
            Self::Wavering => "wavering",
            Self::Bloom => "bloom",
            Self::Ray => "ray",
        }
    }
}

/// A flawed pixel: x, y, and what is wrong with it.
pub type Flawed = (usize, usize, Flaw);

/// Flawed pixels of a chip.
///
/// # Guarantees
/// All lie on it, in row order, none twice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Defects {
    size: Size,
    /// Where each row's begin in `places`, and where the last one's end.
    starts: Vec<usize>,
    /// Column and flaw.
    places: Vec<(usize, Flaw)>,
}

impl AsRef<Self> for Defects {
    fn as_ref(&self) -> &Self {
        self
    }
}

/// How far the pixels are that one is held against.
const REACH: i64 = 2;

impl Defects {
    /// Places (x, y) in any order; those beyond the chip do not count.
    pub fn new(size: Size, mut all: Vec<Flawed>) -> Self {
        all.retain(|(x, y, _)| *x < size.width() && *y < size.height());
        all.sort_unstable_by_key(|(x, y, f)| (*y, *x, *f));
        all.dedup_by_key(|(x, y, _)| (*x, *y));
        let starts = (0..=size.height())
            .map(|y| all.partition_point(|p| p.1 < y))
            .collect();
        Self {
            size,
            starts,
            places: all.into_iter().map(|(x, _, f)| (x, f)).collect(),
        }
    }

    /// How many there are.
    pub const fn len(&self) -> usize {
        self.places.len()
    }

    /// Is there none?
    pub const fn is_empty(&self) -> bool {
        self.places.is_empty()
    }

    /// How many have a flaw.
    pub fn count(&self, flaw: Flaw) -> usize {
        self.places.iter().filter(|p| p.1 == flaw).count()
    }

    /// All places: x, y and the flaw.
    pub fn all(&self) -> impl Iterator<Item = Flawed> + '_ {
        (0..self.size.height()).flat_map(|y| self.row(y).iter().map(move |(x, f)| (*x, y, *f)))
    }

    /// The pixels of the chip.
    pub const fn size(&self) -> Size {
        self.size
    }

    pub(super) fn row(&self, y: usize) -> &[(usize, Flaw)] {
        &self.places[self.starts[y]..self.starts[y + 1]]
    }

    /// Is a pixel flawed?
    pub(super) fn holds(&self, x: i64, y: i64) -> bool {
        let inside = y >= 0 && y < self.size.height().whole() && x >= 0;
        let x = x.index();
        inside
            && self
                .row(y.index())
                .binary_search_by_key(&x, |p| p.0)
                .is_ok()
    }

    /// Columns of which more than half is flawed.
    pub fn columns(&self) -> Vec<usize> {
        let mut counts = vec![0usize; self.size.width()];
        for (x, _) in &self.places {
            counts[*x] += 1;
        }
        let bad = |(_, n): &(usize, &usize)| 2 * **n > self.size.height();
        counts.iter().enumerate().filter(bad).map(|c| c.0).collect()
    }
}

/// Values of a band that is looked through at once.
const BAND_VALUES: usize = 1 << 20;

/// Rows that tell the usual scatter.
const SAMPLE_ROWS: usize = 64;

/// How a pixel stands out of those around it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Standing {
    /// Where.
    pub at: (usize, usize),
    /// Its value less the median around it.
    pub over: f32,
    /// That median.
    pub around: f32,
}

/// All pixels that stand out of the median around them by more than `bar(median)`, above or below, in row order.
///
/// # Errors
/// When the frame cannot be read.
pub fn standing_out(
    frame: &dyn FrameSource,
    bar: impl Fn(f32) -> f32 + Sync,
) -> Result<Vec<Standing>, DoorError> {
    let size = frame.size();
    let rows = (BAND_VALUES / size.width()).clamp(1, 256);
    let found: Result<Vec<Vec<Standing>>, DoorError> = bands(size, rows)
        .into_par_iter()
        .map(|rect| in_band(frame, rect, &bar))
        .collect();
    Ok(found?.concat())
}

fn in_band(
    frame: &dyn FrameSource,
    rect: Rect,
    bar: &(impl Fn(f32) -> f32 + Sync),
) -> Result<Vec<Standing>, DoorError> {
    let all = frame.size().rect();
    let wide = Rect {
        y: rect.y - REACH,
        height: rect.height + 2 * REACH.index(),
        ..rect
    }
    .intersect(all);
    let mut values = vec![0.0; wide.area()];
    frame.read(wide, &mut values)?;
    let w = wide.width;
    let at = |x: i64, y: i64| {
        if x < 0 || x >= w.whole() || y < wide.y || y >= wide.bottom() {
            return f32::NAN;
        }
        values[(y - wide.y).index() * w + x.index()]
    };
    let row = |y: i64| {
        let from = (y - wide.y).index() * w;
        &values[from..from + w]
    };
    let (mut found, mut suspects) = (Vec::new(), Vec::new());
    for y in rect.y..rect.bottom() {
        suspects.clear();
        if w > 2 * REACH.index() && y - REACH >= wide.y && y + REACH < wide.bottom() {
            let rows = [row(y - REACH), row(y), row(y + REACH)];
            suspects.extend(0..REACH);
            suspected(rows, bar, &mut suspects);
            suspects.extend(w.whole() - REACH..w.whole());
        } else {
            suspects.extend(0..w.whole());
        }
        for x in suspects.iter().copied() {
            let v = at(x, y);
            let middle = around(|dx, dy| at(x + dx, y + dy));
            if (v - middle).abs() > bar(middle) {
                found.push(Standing {
                    at: (x.index(), y.index()),
                    over: v - middle,
                    around: middle,
                });
            }
        }
    }
    Ok(found)
}

/// Pixels of a row that do not lie near the middle of those at both sides, or of those above and below. The others stand out of
/// the median of eight only where both pairs lie far apart around them, as nothing on a chip makes them.
fn suspected([above, row, below]: [&[f32]; 3], bar: &impl Fn(f32) -> f32, suspects: &mut Vec<i64>) {
    let r = REACH.index();
    let n = row.len() - 2 * r;
    let (left, right) = (&row[..n], &row[2 * r..]);
    let (own, above, below) = (&row[r..r + n], &above[r..r + n], &below[r..r + n]);
    for k in 0..n {
        let v = own[k];
        let across = (v - 0.5 * (left[k] + right[k])).abs();
        let along = (v - 0.5 * (above[k] + below[k])).abs();
        let least = 0.5 * bar(v);
        // Missing neighbours tell nothing, so they are looked at.
        if !(across < least && along < least) {
            suspects.push((k + r).whole());
        }
    }
}

/// Pixels stand out of the median of eight by so many times their noise: that median has noise of its own, by the square root of
/// pi / 16 of a pixel's.
pub const STANDING: f32 = 1.094;

/// How much pixels of a frame usually stand out of the median around them (one sigma): by noise, and by what pixels differ.
///
/// # Errors
/// When it cannot be read.
pub fn usual_standing(frame: &dyn FrameSource) -> Result<f32, DoorError> {
    let size = frame.size();
    let step = (size.height() / SAMPLE_ROWS).max(1);
    let of_row = |y: usize| -> Result<Vec<f32>, DoorError> {
        let rect = Rect {
            x: 0,
            y: y.whole() - REACH,
            width: size.width(),
            height: (2 * REACH + 1).index(),
        }
        .intersect(size.rect());
        let mut values = vec![0.0; rect.area()];
        frame.read(rect, &mut values)?;
        let row = y - rect.y.index();
        let at = |x: i64, dy: i64| {
            let y = row.whole() + dy;
            let inside = x >= 0 && x < rect.width.whole() && y >= 0 && y < rect.height.whole();
            if inside {
                values[y.index() * rect.width + x.index()]
            } else {
                f32::NAN
            }
        };
        let off = |x: i64| at(x, 0) - around(|dx, dy| at(x + dx, dy));
        let all = (0..size.width().whole()).step_by(3).map(off);
        Ok(all.filter(|d| d.is_finite()).collect())
    };
    let rows: Vec<usize> = (0..size.height()).step_by(step).collect();
    let off: Result<Vec<Vec<f32>>, DoorError> = rows.into_par_iter().map(of_row).collect();
    let mut off = off?.concat();
    if off.is_empty() {
        return Ok(0.0);
    }
    let middle = median(&mut off);
    Ok(mad(&mut off, middle) * MAD_TO_SIGMA.single())
}

/// A pixel of a dark is hot from so many usual widths above those around it.
pub const HOT_SIGMA: f32 = 10.0;

/// And if what it has too much is at least so many noise widths of a single frame: less can be taken off, and costs nothing.
pub const HOT_NOISE: f32 = 3.0;

/// A pixel of a flat is cold (or answers too much) if it is off by this part of those around it.
pub const COLD: f32 = 0.3;

/// A pixel wavers whose scatter from frame to frame is so many times what the noise says.
pub const WAVERS: f32 = 3.0;

/// Hot pixels of a dark master, and cold ones, whose values are far below.
///
/// # Errors
/// When it cannot be read.
pub fn of_dark(dark: &dyn FrameSource, noise: &SetNoise) -> Result<Vec<Flawed>, DoorError> {
    let bar = (HOT_SIGMA * usual_standing(dark)?).max(HOT_NOISE * noise.sigma);
    let all = standing_out(dark, |_| bar)?;
    let flaw = |s: &Standing| {
        if s.over > 0.0 { Flaw::Hot } else { Flaw::Cold }
    };
    Ok(all.iter().map(|s| (s.at.0, s.at.1, flaw(s))).collect())
}

/// Cold pixels of a flat master, and those that answer to more light than there is.
///
/// # Errors
/// When it cannot be read.
pub fn of_flat(flat: &dyn FrameSource) -> Result<Vec<Flawed>, DoorError> {
    let all = standing_out(flat, |around| COLD * around)?;
    let flaw = |s: &Standing| if s.over > 0.0 { Flaw::Hot } else { Flaw::Cold };
    Ok(all.iter().map(|s| (s.at.0, s.at.1, flaw(s))).collect())
}

/// Does a pixel waver, by the scatter of `n` frames around their mean?
#[inline]
pub fn wavers(mean: f32, scatter: f32, n: usize, noise: &SetNoise) -> bool {
    // The scatter of n values around their own mean is too small by this.
    let whole = n.single() / (n.single() - 1.0);
    n >= LEAST_WAVERING && scatter * scatter * whole > WAVERS * WAVERS * noise.variance(mean)
}

/// Of fewer frames the scatter says too little.
pub const LEAST_WAVERING: usize = 5;

/// In lights: a pixel that stands alone by so many widths in nearly all of some frames that were dithered is no star.
const ALONE_SIGMA: f32 = 6.0;

/// The part of the frames in which it must.
const IN_MOST: f64 = 0.75;

/// Hot pixels by dithered lights: what stands alone at the same pixel of nearly all of them. At least four frames are needed.
///
/// # Errors
/// When one cannot be read.
pub fn of_lights(lights: &[&dyn FrameSource]) -> Result<Vec<Flawed>, DoorError> {
    const LEAST_LIGHTS: usize = 4;
    if lights.len() < LEAST_LIGHTS {
        return Ok(Vec::new());
    }
    let mut counts: std::collections::HashMap<(usize, usize), usize> =
        std::collections::HashMap::new();
    for light in lights {
        let bar = ALONE_SIGMA * usual_standing(*light)?;
        for s in standing_out(*light, |_| bar)? {
            if s.over > 0.0 {
                *counts.entry(s.at).or_default() += 1;
            }
        }
    }
    let enough = (IN_MOST * lights.len().real()).ceil().index();
    let mut hot: Vec<Flawed> = counts
        .into_iter()
        .filter(|(_, n)| *n >= enough)
        .map(|((x, y), _)| (x, y, Flaw::Hot))
        .collect();
    hot.sort_unstable();
    Ok(hot)
}
