//! Runs of a few pixels in all frames: their weighted means, and whether any value lies far off.
//!
//! The loops go over frames outside and pixels inside, and have nothing to decide: they are as fast as memory.

use multiversion::multiversion;

use crate::number::Convert;

/// Pixels of a strip at the most: its sums stay in the first-level cache while the frames go by.
pub(super) const STRIP: usize = 128;

/// Sums over the frames, for each pixel of a strip.
#[derive(Debug)]
pub(super) struct Strip {
    /// Weighted values; the mean once all are there.
    pub(super) mean: [f32; STRIP],
    /// Weights; one over them once all are there.
    pub(super) inverse: [f32; STRIP],
    /// Squared weights times the sky's variance, and times what light adds to it.
    pub(super) of_sky: [f32; STRIP],
    pub(super) of_light: [f32; STRIP],
    /// And what the noise of flats adds to that of the square of the light.
    pub(super) of_flat: [f32; STRIP],
    /// Values.
    pub(super) count: [f32; STRIP],
    /// Light above the sky.
    pub(super) light: [f32; STRIP],
    /// By how much the square of the farthest value is above its limit.
    pub(super) beyond: [f32; STRIP],
}

impl Strip {
    pub(super) const fn new() -> Self {
        let none = [0.0; STRIP];
        Self {
            mean: none,
            inverse: none,
            of_sky: none,
            of_light: none,
            of_flat: none,
            count: none,
            light: none,
            beyond: none,
        }
    }

    /// Begins anew with so many pixels.
    fn clear(&mut self, n: usize) {
        for sums in [
            &mut self.mean,
            &mut self.inverse,
            &mut self.of_sky,
            &mut self.of_light,
            &mut self.of_flat,
            &mut self.count,
            &mut self.beyond,
        ] {
            sums[..n].fill(0.0);
        }
    }

    /// The means of a run of pixels, of which frames have `values`, and what goes with them.
    pub(super) fn average<'a>(
        &mut self,
        n: usize,
        frames: &[OfFrame],
        values: impl Iterator<Item = &'a [f32]> + Clone,
        sky: f32,
    ) {
        self.clear(n);
        for (values, frame) in values.clone().zip(frames) {
            add_all(values, frame.weight, &mut self.mean);
        }
        if self.mean[..n].iter().all(|m| m.is_finite()) {
            self.all_of(n, frames);
        } else {
            // Somewhere a value is missing. Sums of pixels that have all come out the same either way.
            self.mean[..n].fill(0.0);
            for (values, frame) in values.zip(frames) {
                add(values, *frame, self);
            }
        }
        mean(n, sky, self);
    }

    /// Every frame has a value in every pixel.
    fn all_of(&mut self, n: usize, frames: &[OfFrame]) {
        let (mut weight, mut sky, mut light, mut flat) = (0.0f32, 0.0f32, 0.0f32, 0.0f32);
        for f in frames {
            weight += f.weight;
            sky += f.weight * f.weight * f.variance;
            light += f.weight * f.weight * f.photons;
            flat += f.weight * f.weight * f.flat;
        }
        self.inverse[..n].fill(weight);
        self.of_sky[..n].fill(sky);
        self.of_light[..n].fill(light);
        self.of_flat[..n].fill(flat);
        self.count[..n].fill(frames.len().single());
    }
}

/// A frame as the loops need it.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct OfFrame {
    pub(super) weight: f32,
    /// Variance of its sky here.
    pub(super) variance: f32,
    pub(super) photons: f32,
    /// The variance of its flat.
    pub(super) flat: f32,
}

/// Adds a frame's values where none is missing.
#[multiversion(targets("x86_64+avx2"))]
fn add_all(values: &[f32], weight: f32, mean: &mut [f32; STRIP]) {
    for (m, v) in mean.iter_mut().zip(values) {
        *m += weight * v;
    }
}

/// Adds a frame's values; NaN adds nothing.
#[multiversion(targets("x86_64+avx2"))]
fn add(values: &[f32], frame: OfFrame, strip: &mut Strip) {
    let OfFrame {
        weight,
        variance,
        photons,
        flat,
    } = frame;
    let (sky, light) = (weight * weight * variance, weight * weight * photons);
    let flat = weight * weight * flat;
    let n = values.len().min(STRIP);
    let (values, mean) = (&values[..n], &mut strip.mean[..n]);
    let (weights, count) = (&mut strip.inverse[..n], &mut strip.count[..n]);
    let (of_sky, of_light) = (&mut strip.of_sky[..n], &mut strip.of_light[..n]);
    let of_flat = &mut strip.of_flat[..n];
    for i in 0..n {
        let v = values[i];
        let there = v.is_finite();
        mean[i] += if there { weight * v } else { 0.0 };
        weights[i] += if there { weight } else { 0.0 };
        of_sky[i] += if there { sky } else { 0.0 };
        of_light[i] += if there { light } else { 0.0 };
        of_flat[i] += if there { flat } else { 0.0 };
        count[i] += if there { 1.0 } else { 0.0 };
    }
}

/// Makes means of sums: NaN where there are no values.
#[multiversion(targets("x86_64+avx2"))]
fn mean(n: usize, sky: f32, strip: &mut Strip) {
    for i in 0..n.min(STRIP) {
        let inverse = 1.0 / strip.inverse[i];
        let m = strip.mean[i] * inverse;
        strip.inverse[i] = inverse;
        strip.mean[i] = m;
        let light = m - sky;
        strip.light[i] = if light > 0.0 { light } else { 0.0 };
    }
}

/// Sees whether a frame's values are farther from the mean of the others than `limit` noise widths.
#[multiversion(targets("x86_64+avx2"))]
pub(super) fn mark_beyond(values: &[f32], frame: OfFrame, limit: f32, strip: &mut Strip) {
    let OfFrame {
        weight,
        variance,
        photons,
        ..
    } = frame;
    let n = values.len().min(STRIP);
    let (values, mean) = (&values[..n], &strip.mean[..n]);
    let (inverse, light) = (&strip.inverse[..n], &strip.light[..n]);
    let beyond = &mut strip.beyond[..n];
    for i in 0..n {
        // The value is in the mean itself: from that of the others it is farther.
        let off = values[i] - mean[i];
        let limit = limit * (1.0 - weight * inverse[i]);
        let above = off * off - limit * limit * (variance + photons * light[i]);
        beyond[i] = if above > beyond[i] { above } else { beyond[i] };
    }
}

/// Standard error of the mean of each pixel.
pub(super) fn error(strip: &Strip, i: usize) -> f32 {
    let light = strip.light[i];
    let variance = strip.of_sky[i] + strip.of_light[i] * light + strip.of_flat[i] * light * light;
    variance.sqrt() * strip.inverse[i]
}

/// Values of a run that are there.
#[multiversion(targets("x86_64+avx2"))]
pub(super) fn present(values: &[f32]) -> u32 {
    let mut count = 0;
    for v in values {
        count += u32::from(v.is_finite());
    }
    count
}
