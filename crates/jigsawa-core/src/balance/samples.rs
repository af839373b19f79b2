//! A frame's sky at the points of a lattice over the canvas, clear of stars and of missing pixels.
//!
//! Two frames are compared point by point: the same places of the sky, so that a nebula which both show
//! cancels, down to its finest filaments. Every second to tenth pixel is enough, which keeps a frame's
//! samples to some megabytes however large it is; each is a straight mean of the frame's four pixels around the
//! place. The nearest pixel was taken first: half a pixel aside on a nebula's slope made two skies differ by more than
//! their noise.

use crate::number::Convert;
use std::ops::Range;

use rayon::prelude::*;

use super::Balance;
use super::lattice::Lattice;
use crate::doors::{DoorError, FrameSource};
use crate::placement::Placement;
use crate::plane::Plane;
use crate::space::{FramePx, Point, Rect, Size};
use crate::stars::{Catalogue, Flag, moffat};

/// What a frame shows at the points of a lattice; NaN where it has no sky: a star, or no data. Kept for the patches
/// around the frame only, since a panel covers a small part of its canvas.
#[derive(Debug, Clone)]
pub struct Samples {
    lattice: Lattice,
    /// Columns and rows of patches that are kept.
    patches: (Range<usize>, Range<usize>),
    /// And of points.
    columns: Range<usize>,
    rows: Range<usize>,
    values: Vec<f32>,
}

/// A star's light is left out as far as it reaches above this part of the pixel noise.
const LEAST_LIGHT: f64 = 0.05;

/// Profiles that fall off faster than this have wings all the same.
const MOST_BETA: f64 = 3.5;

/// A star reaches from so many widths to so many.
const REACH: (f64, f64) = (1.5, 25.0);

/// A saturated star's height is only guessed, and it is the one with a halo.
const SATURATED_REACH: f64 = 1.7;

/// Points between the places where a placement is worked out; between them it is a straight line to
/// a few hundredths of a pixel through a lens of 5 px, which no patch's mean notices.
const STRAIGHT: usize = 32;

/// A part of a frame.
#[derive(Clone, Copy)]
struct Window<'a> {
    data: &'a [f32],
    rect: Rect,
}

impl Window<'_> {
    /// The pixel at a column and a row of the window; NaN outside.
    fn at(&self, x: i64, y: i64) -> f32 {
        let (width, height) = (self.rect.width, self.rect.height);
        if x < 0 || y < 0 || x >= width.whole() || y >= height.whole() {
            return f32::NAN;
        }
        self.data[y.index() * width + x.index()]
    }
}

/// Points of a row between which a frame's places lie on a straight line: the first place, and from one to the next.
#[derive(Clone, Copy)]
struct Run {
    from: Point<FramePx>,
    step: (f64, f64),
}

impl Run {
    fn at(&self, i: usize) -> Point<FramePx> {
        let (i, (dx, dy)) = (i.real(), self.step);
        Point::new(self.from.x + i * dx, self.from.y + i * dy)
    }
}

/// Values at the places of a run.
#[multiversion::multiversion(targets("x86_64+avx2"))]
fn along(window: Window<'_>, of: Run, ceiling: f32, values: &mut [f32]) {
    let (x, y) = (window.rect.x.real(), window.rect.y.real());
    let of = Run {
        from: Point::new(of.from.x - x, of.from.y - y),
        ..of
    };
    for (i, v) in values.iter_mut().enumerate() {
        *v = between(window, of.at(i), ceiling);
    }
}

/// The value between a window's pixels; NaN where one is missing, or full. Inlined, so that it is compiled for the processor
/// that [`along`] is.
#[inline(always)]
#[allow(clippy::inline_always)]
fn between(window: Window<'_>, p: Point<FramePx>, ceiling: f32) -> f32 {
    let (c, r) = (p.x.floor(), p.y.floor());
    let (u, v) = ((p.x - c).single(), (p.y - r).single());
    let (width, height) = (window.rect.width, window.rect.height);
    let (left, top) = (c.whole(), r.whole());
    let inside = left >= 0 && top >= 0 && left < width.whole() - 1 && top < height.whole() - 1;
    let four = if inside {
        let both = &window.data[top.index() * width + left.index()..][..width + 2];
        [both[0], both[1], both[width], both[width + 1]]
    } else {
        let at = |dx: i64, dy: i64| window.at(left + dx, top + dy);
        [at(0, 0), at(1, 0), at(0, 1), at(1, 1)]
    };
    if !four.iter().all(|p| *p < ceiling) {
        // A place on a pixel's middle needs no other.
        return if u == 0.0 && v == 0.0 && four[0] < ceiling {
            four[0]
        } else {
            f32::NAN
        };
    }
    (1.0 - v) * ((1.0 - u) * four[0] + u * four[1]) + v * ((1.0 - u) * four[2] + u * four[3])
}

/// Pixels around the places, for what lies between pixels.
const MARGIN: usize = 2;

/// Rows of points that are read together.
const BAND: usize = 16;

/// Runs of a row that are read together where a frame lies aslant.
const ASLANT: usize = 8;

impl Samples {
    /// Of a frame. Values from `saturation` up are not taken.
    pub fn take(
        plane: &Plane,
        placement: &Placement,
        stars: &Catalogue,
        saturation: Option<f32>,
        lattice: Lattice,
    ) -> Self {
        let mut samples = Self::nothing(placement, plane.size(), lattice);
        let ceiling = saturation.unwrap_or(f32::INFINITY);
        let window = Window {
            data: plane.data(),
            rect: plane.size().rect(),
        };
        let (runs, across) = (samples.runs(placement), samples.columns.len());
        let rows = samples.values.par_chunks_mut(across.max(1)).enumerate();
        rows.for_each(|(r, row)| {
            for (k, values) in row.chunks_mut(STRAIGHT).enumerate() {
                along(window, runs(r, k, values.len()), ceiling, values);
            }
        });
        samples.without_stars(placement, stars);
        samples
    }

    /// The same of a frame that is read for it, some rows at a time: it never lies in memory as a whole.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn read(
        source: &dyn FrameSource,
        placement: &Placement,
        stars: &Catalogue,
        saturation: Option<f32>,
        lattice: Lattice,
    ) -> Result<Self, DoorError> {
        let frame = source.size().rect();
        let mut samples = Self::nothing(placement, source.size(), lattice);
        let ceiling = saturation.unwrap_or(f32::INFINITY);
        let (runs, across) = (samples.runs(placement), samples.columns.len());
        let in_row = across.div_ceil(STRAIGHT);
        let bands = samples.values.par_chunks_mut((across * BAND).max(1));
        bands.enumerate().try_for_each_init(
            || (Vec::new(), Vec::new()),
            |(pixels, lines), (b, band)| -> Result<(), DoorError> {
                lines.clear();
                for (r, row) in band.chunks(across).enumerate() {
                    let points = row.chunks(STRAIGHT).map(<[f32]>::len).enumerate();
                    lines.extend(points.map(|(k, n)| (runs(b * BAND + r, k, n), n)));
                }
                let around = |some: &Range<usize>| {
                    let rows = lines.chunks(in_row);
                    let ends = rows.flat_map(|row| &row[some.clone()]);
                    let ends = ends.flat_map(|(run, n)| [run.at(0), run.at(n - 1)]);
                    Rect::around(ends).grown(MARGIN).intersect(frame)
                };
                let upright = around(&(0..in_row)).area() <= 2 * band.len() * lattice.step.pow(2);
                let together = if upright { in_row } else { ASLANT };
                for from in (0..in_row).step_by(together) {
                    let some = from..(from + together).min(in_row);
                    let rect = around(&some);
                    if rect.is_empty() {
                        continue;
                    }
                    pixels.resize(rect.area(), 0.0);
                    source.read(rect, pixels)?;
                    let window = Window { data: pixels, rect };
                    for (row, lines) in band.chunks_mut(across).zip(lines.chunks(in_row)) {
                        let values = row.chunks_mut(STRAIGHT).zip(lines);
                        for (values, (run, _)) in values.skip(some.start).take(some.len()) {
                            along(window, *run, ceiling, values);
                        }
                    }
                }
                Ok(())
            },
        )?;
        samples.without_stars(placement, stars);
        Ok(samples)
    }

    /// No samples yet, but their places.
    fn nothing(placement: &Placement, frame: Size, lattice: Lattice) -> Self {
        let patches = lattice.around(placement, frame);
        let points = |p: &Range<usize>, n: usize| {
            (p.start * lattice.patch).min(n)..(p.end * lattice.patch).min(n)
        };
        let columns = points(&patches.0, lattice.columns);
        let rows = points(&patches.1, lattice.rows);
        Self {
            lattice,
            patches,
            values: vec![f32::NAN; columns.len() * rows.len()],
            columns,
            rows,
        }
    }

    /// Where on the frame the points of a row's run lie: of a row by its number, a run by its number, so many points.
    fn runs<'a>(
        &self,
        placement: &'a Placement,
    ) -> impl Fn(usize, usize, usize) -> Run + Copy + Sync + 'a {
        let lattice = self.lattice;
        let (first, top) = (self.columns.start, self.rows.start);
        move |r, k, points| {
            let first = first + k * STRAIGHT;
            let y = lattice.y(top + r);
            let at = |c: usize| placement.apply(Point::new(lattice.x(c), y));
            let (from, to) = (at(first), at(first + points - 1));
            let n = (points - 1).max(1).real();
            Run {
                from,
                step: ((to.x - from.x) / n, (to.y - from.y) / n),
            }
        }
    }

    /// The lattice.
    pub const fn lattice(&self) -> Lattice {
        self.lattice
    }

    /// The samples, balanced.
    #[must_use]
    pub fn balanced(mut self, balance: &Balance) -> Self {
        let l = self.lattice;
        let (from, top) = (self.columns.start, self.rows.start);
        let rows = self
            .values
            .par_chunks_mut(self.columns.len().max(1))
            .enumerate();
        rows.for_each(|(r, row)| {
            for (c, v) in row.iter_mut().enumerate().filter(|(_, v)| v.is_finite()) {
                let at = Point::new(l.x(from + c), l.y(top + r));
                *v = balance.apply(f64::from(*v), at).single();
            }
        });
        self
    }

    /// Columns and rows of the patches that are kept; others show nothing.
    pub(crate) fn kept(&self) -> (Range<usize>, Range<usize>) {
        self.patches.clone()
    }

    /// A row of a patch that is kept.
    pub(crate) fn row(&self, columns: Range<usize>, row: usize) -> &[f32] {
        let at = (row - self.rows.start) * self.columns.len();
        let (from, to) = (
            columns.start - self.columns.start,
            columns.end - self.columns.start,
        );
        &self.values[at + from..at + to]
    }

    fn without_stars(&mut self, placement: &Placement, stars: &Catalogue) {
        let back = placement.invert();
        let l = self.lattice;
        let noise = f64::from(stars.sky.typical_sigma());
        let beta = stars.beta.min(MOST_BETA);
        for s in &stars.stars {
            let height = s.amplitude / (LEAST_LIGHT * noise).max(1e-30);
            let mut reach = moffat::reach(stars.fwhm_px, beta, height);
            if s.flags.has(Flag::Saturated) {
                reach *= SATURATED_REACH;
            }
            let reach = reach.clamp(REACH.0 * stars.fwhm_px, REACH.1 * stars.fwhm_px);
            let at = back.apply(s.at);
            let reach = reach / placement.area_ratio(at).sqrt();
            if !(at.x.is_finite() && at.y.is_finite() && reach.is_finite()) {
                continue;
            }
            let points = |from: f64, to: f64, kept: &Range<usize>| {
                let point = |v: f64| (v / l.step.real()).max(0.0).index();
                point(from).max(kept.start)..(point(to) + 1).min(kept.end)
            };
            for r in points(at.y - reach, at.y + reach, &self.rows) {
                for c in points(at.x - reach, at.x + reach, &self.columns) {
                    if (l.x(c) - at.x).hypot(l.y(r) - at.y) <= reach {
                        let place =
                            (r - self.rows.start) * self.columns.len() + c - self.columns.start;
                        self.values[place] = f32::NAN;
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::placement::{Model, Pair};
    use crate::stars::{Settings, detect};
    use rstest::rstest;

    /// Noise with a few stars.
    fn frame() -> Plane {
        let size = Size::new(640, 430).unwrap();
        let star = |x: usize, y: usize, at: (f64, f64)| {
            let d2 = (x.real() - at.0).powi(2) + (y.real() - at.1).powi(2);
            (4000.0 * (-d2 / 4.5).exp()).single()
        };
        let places = [(100.3, 80.6), (310.8, 220.1), (505.2, 333.7), (60.0, 390.4)];
        let mut plane = Plane::from_fn(size, |x, y| {
            let noise = ((x * 7919 + y * 104_729 + x * y * 31) % 1009).single() / 100.0;
            500.0 + noise + places.iter().map(|p| star(x, y, *p)).sum::<f32>()
        });
        plane.data_mut()[200 * 640 + 300] = f32::NAN;
        plane
    }

    /// From the canvas to the frame: turned around its middle, and shifted.
    fn turned(degrees: f64) -> Placement {
        let (s, c) = degrees.to_radians().sin_cos();
        let (dx, dy) = (320.0 - 330.0 * c + 220.0 * s, 215.0 - 330.0 * s - 220.0 * c);
        Placement::from_rows([[c, -s, dx + 0.3], [s, c, dy - 0.4], [0.0, 0.0, 1.0]]).unwrap()
    }

    #[rstest]
    fn a_frame_read_in_parts_gives_what_one_in_memory_does(
        #[values(0.0, 0.3, 37.0, 90.0, 180.0, 271.0)] degrees: f64,
        #[values(1, 3)] step: usize,
    ) {
        let plane = frame();
        let stars = detect(&plane, None, &Settings::default()).unwrap();
        let lattice = Lattice::fine(Size::new(700, 500).unwrap(), step, 24);
        let placement = turned(degrees);
        let whole = Samples::take(&plane, &placement, &stars, Some(3000.0), lattice);
        let parts = Samples::read(&plane, &placement, &stars, Some(3000.0), lattice).unwrap();
        let near = |(a, b): (&f32, &f32)| (a - b).abs() < 2e-3 || a.is_nan() && b.is_nan();
        let all = whole.values.iter().zip(&parts.values);
        assert!(whole.values.len() == parts.values.len() && all.clone().all(near));
        let seen = all.filter(|(a, _)| a.is_finite()).count();
        assert!(seen * 2 > whole.values.len(), "{seen}");
    }

    /// The middle of a row lies well beside the straight line through its ends.
    #[test]
    fn a_bent_row_is_read_as_far_as_it_bends() {
        let plane = frame();
        let stars = detect(&plane, None, &Settings::default()).unwrap();
        let lattice = Lattice::fine(Size::new(640, 430).unwrap(), 2, 24);
        let pairs: Vec<Pair<_, _>> = (0..60)
            .map(|k| {
                let (x, y) = ((k % 10).real() * 70.0, (k / 10).real() * 85.0);
                Pair {
                    from: Point::new(x, y),
                    to: Point::new(x, y + 2e-4 * (x - 320.0).powi(2)),
                    weight: 1.0,
                }
            })
            .collect();
        let placement = Placement::fit(Model::Smooth(2), &pairs, None).unwrap();
        let whole = Samples::take(&plane, &placement, &stars, None, lattice);
        let parts = Samples::read(&plane, &placement, &stars, None, lattice).unwrap();
        let missing = |s: &Samples| s.values.iter().filter(|v| v.is_nan()).count();
        assert_eq!(missing(&whole), missing(&parts));
    }
}
