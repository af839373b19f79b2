//! The mean of frames that show the same, without what only single ones show: cosmic rays, stars of a twilight, a pixel
//! that wavers.
//!
//! A pixel's values are averaged whole where neither their highest nor their lowest stands farther than [`CLIP`] noise
//! widths from the mean of the others. Else those go that stand as far from the median, in the predicted noise or in
//! their own scatter, whichever is larger: a hot pixel's own noise is no outlier. Nor is what a fifth of many values does. The predicted noise is what lets a
//! few frames be clipped at all; clipping by the scatter of the same values alone cannot find one outlier among fewer
//! than eleven at three widths (the largest possible is (n - 1) / sqrt(n)).

use std::cell::RefCell;

use multiversion::multiversion;
use rayon::prelude::*;

use super::set::SetNoise;
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad, median};
use crate::space::{Rect, Size};

/// A value farther away than so many noise widths is none of the set's: one of 16,000 true ones.
pub const CLIP: f32 = 4.0;

/// Values of a band of rows of all frames: 2 MiB, which the second-level cache holds nearly, in rows long enough for the disk.
const BAND_VALUES: usize = 512 * 1024;

/// Pixels whose sums are made at once: they stay in registers while the frames go by.
const STRIP: usize = 16;

/// Bands that are computed while those before are stored.
const BANDS: usize = 16;

/// Frames that show the same, all of one size.
pub struct Set<'a> {
    /// The frames.
    pub frames: &'a [&'a dyn FrameSource],
    /// What a value scatters by.
    pub noise: SetNoise,
}

/// Rows of a set's mean.
#[derive(Debug)]
pub struct Band {
    /// Where they lie.
    pub rect: Rect,
    /// The mean, NaN where no frame has data.
    pub mean: Vec<f32>,
    /// Standard deviation of what was averaged, without correction for what was clipped.
    pub scatter: Vec<f32>,
    /// Values that were left out.
    pub clipped: usize,
}

impl Set<'_> {
    /// The pixels of a frame.
    fn size(&self) -> Option<Size> {
        Some(self.frames.first()?.size())
    }

    /// Averages the set; `take` gets its bands from the first row on.
    ///
    /// # Errors
    /// When a frame cannot be read, or what `take` says.
    pub fn average<E: From<DoorError> + Send>(
        &self,
        mut take: impl FnMut(&Band) -> Result<(), E> + Send,
    ) -> Result<(), E> {
        let Some(size) = self.size() else {
            return Ok(());
        };
        let rows = BAND_VALUES / (size.width() * self.frames.len());
        let bands = bands(size, rows.clamp(1, 64));
        let mut done: Vec<Band> = Vec::new();
        for batch in bands.chunks(BANDS) {
            let (computed, stored) = rayon::join(
                || -> Result<Vec<Band>, DoorError> {
                    let bands = batch.par_iter();
                    bands
                        .map(|rect| VALUES.with_borrow_mut(|values| self.band(*rect, values)))
                        .collect()
                },
                || done.iter().try_for_each(&mut take),
            );
            stored?;
            done = computed?;
        }
        done.iter().try_for_each(take)
    }

    fn band(&self, rect: Rect, values: &mut Vec<f32>) -> Result<Band, DoorError> {
        let area = rect.area();
        // Whole strips, of which the last may be partly of no pixels.
        let whole = area.next_multiple_of(STRIP);
        values.resize(whole * self.frames.len(), 0.0);
        for (frame, into) in self.frames.iter().zip(values.chunks_exact_mut(whole)) {
            frame.read(rect, &mut into[..area])?;
        }
        let rows: Vec<&[f32]> = values.chunks_exact(whole).collect();
        let mut band = Band {
            rect,
            mean: vec![0.0; whole],
            scatter: vec![0.0; whole],
            clipped: 0,
        };
        let mut unsure = Vec::new();
        strips(&rows, &self.noise, &mut band, &mut unsure);
        band.mean.truncate(area);
        band.scatter.truncate(area);
        let mut pixel = Vec::with_capacity(rows.len());
        for i in unsure.into_iter().filter(|i| *i < area) {
            pixel.clear();
            pixel.extend(rows.iter().map(|r| r[i]).filter(|v| v.is_finite()));
            let there = pixel.len();
            let (mean, scatter, kept) = clipped_mean(&mut pixel, &self.noise);
            band.mean[i] = mean;
            band.scatter[i] = scatter;
            band.clipped += there - kept;
        }
        Ok(band)
    }
}

thread_local! {
    // Values of all frames of a band: touching fresh memory costs more than the sums.
    static VALUES: RefCell<Vec<f32>> = RefCell::default();
}

/// Rows of a frame, some at a time.
pub(super) fn bands(size: Size, rows: usize) -> Vec<Rect> {
    (0..size.height())
        .step_by(rows)
        .map(|y| Rect {
            x: 0,
            y: y.whole(),
            width: size.width(),
            height: rows.min(size.height() - y),
        })
        .collect()
}

/// Means of all pixels of a band; those of them that need to be looked at one by one are added to `unsure`.
#[multiversion(targets("x86_64+avx2"))]
fn strips(rows: &[&[f32]], noise: &SetNoise, out: &mut Band, unsure: &mut Vec<usize>) {
    let n = rows.len().single();
    let others = (n - 2.0).max(1.0);
    let limit = CLIP * CLIP;
    let (means, scatters) = (&mut out.mean, &mut out.scatter);
    let both = means
        .as_chunks_mut::<STRIP>()
        .0
        .iter_mut()
        .zip(scatters.as_chunks_mut::<STRIP>().0);
    for (strip, (means, scatters)) in both.enumerate() {
        let from = strip * STRIP;
        let of = |row: &[f32]| row[from..].first_chunk::<STRIP>().copied();
        let Some(base) = of(rows[0]) else {
            continue;
        };
        let (mut sum, mut squares) = ([0.0f32; STRIP], [0.0f32; STRIP]);
        let (mut low, mut high) = ([f32::INFINITY; STRIP], [f32::NEG_INFINITY; STRIP]);
        for row in rows.iter().filter_map(|r| of(r)) {
            for i in 0..STRIP {
                let d = row[i] - base[i];
                sum[i] += d;
                squares[i] += d * d;
                low[i] = if d < low[i] { d } else { low[i] };
                high[i] = if d > high[i] { d } else { high[i] };
            }
        }
        let mut sure = [false; STRIP];
        for i in 0..STRIP {
            let middle = (sum[i] - low[i] - high[i]) / others;
            let variance = limit * noise.variance(base[i] + middle);
            let (above, below) = (high[i] - middle, middle - low[i]);
            let mean = sum[i] / n;
            means[i] = base[i] + mean;
            scatters[i] = (squares[i] / n - mean * mean).max(0.0).sqrt();
            // A missing value makes both comparisons false.
            sure[i] = above * above <= variance && below * below <= variance;
        }
        let few = rows.len() < 3;
        unsure.extend((0..STRIP).filter(|i| few || !sure[*i]).map(|i| from + i));
    }
}

/// Mean and scatter of a pixel's values without outliers, and how many were averaged: the definition that
/// [`strips`] is quick at.
fn clipped_mean(values: &mut [f32], noise: &SetNoise) -> (f32, f32, usize) {
    match values {
        [] => return (f32::NAN, 0.0, 0),
        [one] => return (*one, 0.0, 1),
        [a, b] => {
            let (low, high) = (a.min(*b), a.max(*b));
            // Light that only one of two has is a cosmic ray's or a star's.
            if (high - low) * (high - low) > 2.0 * CLIP * CLIP * noise.variance(low) {
                return (low, 0.0, 1);
            }
        }
        _ => {}
    }
    let n = values.len();
    if n >= 3 && agree(values, noise) {
        return plain_mean(values.iter(), values[0]);
    }
    let mut sorted = values.to_vec();
    let centre = median(&mut sorted);
    // Of four values two outliers are half: their own scatter says nothing.
    let own = if n >= 5 {
        mad(&mut sorted, centre) * MAD_TO_SIGMA.single()
    } else {
        0.0
    };
    let reach = CLIP * own.max(noise.variance(centre).sqrt());
    let near = |v: &&f32| (**v - centre).abs() <= reach;
    let clipped = n - values.iter().filter(near).count();
    if n >= MANY && clipped.real() > STATE * n.real() {
        return plain_mean(values.iter(), centre);
    }
    plain_mean(values.iter().filter(near), centre)
}

/// What more than this part of many values does is no accident but a second state of the pixel, and belongs to its mean;
/// its scatter shows it.
const STATE: f64 = 0.2;
const MANY: usize = 10;

/// Does no value stand out of the mean of the others?
fn agree(values: &[f32], noise: &SetNoise) -> bool {
    let (mut sum, mut low, mut high) = (0.0, f32::INFINITY, f32::NEG_INFINITY);
    for v in values {
        let d = v - values[0];
        sum += d;
        low = low.min(d);
        high = high.max(d);
    }
    let middle = (sum - low - high) / (values.len().single() - 2.0);
    let variance = CLIP * CLIP * noise.variance(values[0] + middle);
    (high - middle).powi(2) <= variance && (middle - low).powi(2) <= variance
}

/// Mean, scatter and number of values that lie around `centre`; that itself for none.
fn plain_mean<'a>(values: impl Iterator<Item = &'a f32>, centre: f32) -> (f32, f32, usize) {
    let (mut sum, mut squares, mut n) = (0.0f64, 0.0f64, 0);
    for v in values {
        let d = f64::from(*v - centre);
        sum += d;
        squares += d * d;
        n += 1;
    }
    if n == 0 {
        return (centre, 0.0, 0);
    }
    let mean = sum / n.real();
    let scatter = (squares / n.real() - mean * mean).max(0.0).sqrt();
    let mean = (f64::from(centre) + mean).single();
    (mean, scatter.single(), n)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plane::Plane;
    use jigsawa_sky::chance::normal;

    const NOISE: SetNoise = SetNoise {
        level: 500.0,
        sigma: 3.0,
        of_light: 0.0,
    };

    fn averaged(frames: &[Plane]) -> (Plane, usize) {
        let sources: Vec<&dyn FrameSource> = frames.iter().map(|f| f as &dyn FrameSource).collect();
        let set = Set {
            frames: &sources,
            noise: NOISE,
        };
        let mut out = Plane::filled(frames[0].size(), 0.0);
        let mut clipped = 0;
        let width = out.size().width();
        set.average(|band| -> Result<(), DoorError> {
            let from = band.rect.y.index() * width;
            out.data_mut()[from..from + band.rect.area()].copy_from_slice(&band.mean);
            clipped += band.clipped;
            Ok(())
        })
        .unwrap();
        (out, clipped)
    }

    fn frames(n: usize, size: (usize, usize)) -> Vec<Plane> {
        let size = Size::new(size.0, size.1).unwrap();
        (0..n)
            .map(|k| {
                let noise = |x: usize, y: usize| normal((1000 * y + x) as u64, 900 + k as u64);
                Plane::from_fn(size, |x, y| (500.0 + 3.0 * noise(x, y)).single())
            })
            .collect()
    }

    #[test]
    fn a_cosmic_ray_in_one_of_three_frames_is_left_out_and_clean_values_stay() {
        let mut set = frames(3, (301, 70));
        set[1].data_mut()[5000] += 900.0;
        set[2].data_mut()[5001] -= 90.0;
        let (mean, clipped) = averaged(&set);
        let want = 0.5 * (set[0].data()[5000] + set[2].data()[5000]);
        assert!((mean.data()[5000] - want).abs() < 1e-3);
        assert!((mean.data()[5001] - 500.0).abs() < 12.0);
        // A pixel in ten thousand goes by chance.
        assert!((2..30).contains(&clipped), "{clipped}");
    }

    #[test]
    fn means_are_those_of_the_plain_loop_on_any_shape() {
        for (n, shape) in [(1, (7, 5)), (2, (300, 3)), (5, (257, 9)), (20, (1, 40))] {
            let set = frames(n, shape);
            let (mean, _) = averaged(&set);
            for (i, got) in mean.data().iter().enumerate() {
                let mut pixel: Vec<f32> = set.iter().map(|f| f.data()[i]).collect();
                let (want, ..) = clipped_mean(&mut pixel, &NOISE);
                assert!((got - want).abs() < 1e-2, "{n} {shape:?} {i}: {got} {want}");
            }
        }
    }

    #[test]
    fn missing_values_do_not_count() {
        let mut set = frames(4, (40, 3));
        set[0].data_mut()[7] = f32::NAN;
        for f in &mut set {
            f.data_mut()[8] = f32::NAN;
        }
        let (mean, _) = averaged(&set);
        assert!((mean.data()[7] - 500.0).abs() < 9.0);
        assert!(mean.data()[8].is_nan());
    }
}
