//! The merge itself: each pixel from all exposures that are valid there.
//!
//! Exposures come from the longest to the shortest. A mean of some of them weights each by the inverse of its variance
//! at the light that they see together: read noise and sky, and the light's own. A long exposure has a hundred or ten
//! thousand times the weight of a short one, so fading its weight out near full pixels would fade nothing until the
//! last moment. Its *validity* fades instead: the result goes from the mean with it to the mean of those after it, in
//! the measure that its mask says, and so on down to the shortest.
//!
//! Where all are full the shortest one's value is kept, and told.

use crate::number::Convert;
use multiversion::multiversion;

use crate::merge::{Row, TileOp};

/// An exposure that takes part, the longest first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Part {
    /// Variance of a pixel of its sky, after balancing.
    pub variance: f32,
    /// What light above the sky adds to it, for each unit, after balancing.
    pub per_light: f32,
}

/// Joins exposures, each with its validity from 0 to 1. Planes of
/// the result: the merged value, the number of the exposure that counts most, its weight, how many
/// exposures count at all, and the error if wanted.
#[derive(Debug, Clone, PartialEq)]
pub struct Cascade {
    /// The exposures, the longest first.
    pub parts: Vec<Part>,
    /// Level of the sky after balancing.
    pub sky: f32,
    /// Is the error wanted?
    pub with_sigma: bool,
}

/// The number in the plane of sources that stands for: full in every exposure.
pub const EVERYWHERE_FULL: f32 = 99.0;

/// Exposures that are merged at the most.
const MOST: usize = 64;

impl TileOp for Cascade {
    fn planes(&self) -> usize {
        4 + usize::from(self.with_sigma)
    }

    fn run(&self, row: &Row<'_>, out: &mut [&mut [f32]]) {
        let n = out[0].len();
        let values = row.values;
        // Short pieces, so that one star's mask does not make a whole row slow; whole ones next to each other go
        // together.
        let is_whole = |from: usize| {
            let piece = from..(from + PIECE).min(n);
            (0..self.parts.len()).all(|i| {
                let valid = row.validity_of(i).get(piece.clone()).unwrap_or_default();
                whole(&values[i][piece.clone()], valid)
            })
        };
        let mut from = 0;
        while from < n {
            let mut to = from;
            while to < n && is_whole(to) {
                to += PIECE;
            }
            let to = to.min(n);
            if to > from {
                let values: Vec<&[f32]> = values.iter().map(|v| &v[from..to]).collect();
                let mut out: Vec<&mut [f32]> = out.iter_mut().map(|o| &mut o[from..to]).collect();
                all_valid(self, &values, &mut out);
            }
            let end = (to + PIECE).min(n);
            for x in to..end {
                for (plane, v) in out.iter_mut().zip(self.pixel(row, x)) {
                    plane[x] = v;
                }
            }
            from = end;
        }
    }
}

/// Pixels that go the quick way or the careful way together.
const PIECE: usize = 32;

impl Cascade {
    /// Weight of an exposure in this light.
    #[inline]
    fn weight(part: Part, light: f32) -> f32 {
        1.0 / (part.variance + part.per_light * light)
    }

    /// A pixel where something is not valid: value, source, its weight, valid exposures, and the error.
    fn pixel(&self, row: &Row<'_>, x: usize) -> [f32; 5] {
        let count = self.parts.len().min(MOST);
        // Value and validity; what is missing is not valid.
        let at = |i: usize| {
            let (v, m) = (row.values[i][x], row.validity_of(i).get(x).copied());
            let m = m.unwrap_or(1.0);
            if v.is_finite() && m > 0.0 {
                (v, m)
            } else {
                (0.0, 0.0)
            }
        };
        let (mut sum, mut all) = (0.0f32, 0.0f32);
        for (i, part) in self.parts.iter().enumerate().take(count) {
            let (v, m) = at(i);
            let w = m * Self::weight(*part, 0.0);
            sum += w * v;
            all += w;
        }
        if all <= 0.0 {
            return self.all_full(row.values, x);
        }
        let light = (sum / all - self.sky).max(0.0);
        let (mut result, mut counts) = (f32::NAN, [0.0f32; MOST]);
        let (mut sum, mut all) = (0.0f32, 0.0f32);
        for i in (0..count).rev() {
            let (v, m) = at(i);
            if m <= 0.0 {
                continue;
            }
            let w = m * Self::weight(self.parts[i], light);
            sum += w * v;
            all += w;
            // The first that is valid at all has nothing to fade to.
            let part = if result.is_nan() { 1.0 } else { m };
            result = if result.is_nan() {
                sum / all
            } else {
                result + part * (sum / all - result)
            };
            for (j, c) in counts.iter_mut().enumerate().take(count).skip(i) {
                let (_, m) = at(j);
                let share = m * Self::weight(self.parts[j], light) / all;
                *c += part * (share - *c);
            }
        }
        let variance: f32 = counts
            .iter()
            .zip(&self.parts)
            .map(|(c, p)| c * c / Self::weight(*p, light))
            .sum();
        let (best, most) =
            counts
                .iter()
                .enumerate()
                .take(count)
                .fold(
                    (0, 0.0),
                    |(b, m), (i, c)| if *c > m { (i, *c) } else { (b, m) },
                );
        let valid = (0..count).filter(|i| at(*i).1 > 0.0).count();
        [
            result,
            (best + 1).single(),
            most,
            valid.single(),
            variance.sqrt(),
        ]
    }

    /// Nothing is valid: the shortest exposure that has a value at all.
    fn all_full(&self, values: &[&[f32]], x: usize) -> [f32; 5] {
        let kept = (0..self.parts.len())
            .rev()
            .map(|i| values[i][x])
            .find(|v| v.is_finite());
        match kept {
            Some(v) => [v, EVERYWHERE_FULL, 1.0, 0.0, f32::INFINITY],
            None => [f32::NAN, 0.0, 0.0, 0.0, f32::NAN],
        }
    }
}

/// Is everything there, and valid? Without a branch, so that eight go at a time.
fn whole(values: &[f32], valid: &[f32]) -> bool {
    const EXPONENT: u32 = 0x7f80_0000;
    let missing = values.iter().fold(0u32, |any, v| {
        any | u32::from(v.to_bits() & EXPONENT == EXPONENT)
    });
    let fading = valid.iter().fold(0u32, |any, m| any | u32::from(*m < 1.0));
    missing | fading == 0
}

/// The usual run: all exposures are valid all along. Exposure by exposure, so that eight pixels go at a time; planes of
/// the result serve as memory until they are filled.
#[multiversion(targets("x86_64+avx2"))]
fn all_valid(cascade: &Cascade, values: &[&[f32]], out: &mut [&mut [f32]]) {
    let n = out[0].len();
    let parts = &cascade.parts;
    let dark: Vec<f32> = parts.iter().map(|p| 1.0 / p.variance).collect();
    let per = 1.0 / dark.iter().sum::<f32>();
    let (sum, rest) = out.split_at_mut(1);
    let (best, rest) = rest.split_at_mut(1);
    let (most, rest) = rest.split_at_mut(1);
    let (light, sigma) = rest.split_at_mut(1);
    let (sum, best, most, light) = (&mut *sum[0], &mut *best[0], &mut *most[0], &mut *light[0]);
    let mut all = vec![0.0f32; n];
    light.fill(0.0);
    for (w, v) in dark.iter().zip(values) {
        for (l, v) in light.iter_mut().zip(&v[..n]) {
            *l += w * v;
        }
    }
    for l in light.iter_mut() {
        *l = (*l * per - cascade.sky).max(0.0);
    }
    sum.fill(0.0);
    best.fill(0.0);
    most.fill(0.0);
    for (i, (part, v)) in parts.iter().zip(values).enumerate() {
        let number = (i + 1).single();
        let (sum, best, most) = (&mut sum[..n], &mut best[..n], &mut most[..n]);
        let (all, light, v) = (&mut all[..n], &light[..n], &v[..n]);
        for x in 0..n {
            let w = 1.0 / (part.variance + part.per_light * light[x]);
            sum[x] += w * v[x];
            all[x] += w;
            let more = w > most[x];
            most[x] = if more { w } else { most[x] };
            best[x] = if more { number } else { best[x] };
        }
    }
    for ((s, m), a) in sum.iter_mut().zip(most.iter_mut()).zip(&all) {
        *s /= a;
        *m /= a;
    }
    light.fill(parts.len().single());
    if let Some(sigma) = sigma.first_mut() {
        for (s, a) in sigma.iter_mut().zip(&all) {
            *s = 1.0 / a.sqrt();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cascade() -> Cascade {
        let part = |k: f32| Part {
            variance: k * k,
            per_light: 0.01 * k,
        };
        Cascade {
            parts: vec![part(1.0), part(10.0), part(100.0)],
            sky: 100.0,
            with_sigma: true,
        }
    }

    /// One pixel: (value, validity) of each exposure.
    fn pixel(of: &[(f32, f32)]) -> [f32; 4] {
        let columns: Vec<[Vec<f32>; 2]> = of.iter().map(|(v, m)| [vec![*v], vec![*m]]).collect();
        let values: Vec<&[f32]> = columns.iter().map(|c| c[0].as_slice()).collect();
        let validity: Vec<&[f32]> = columns.iter().map(|c| c[1].as_slice()).collect();
        let row = Row {
            validity: &validity,
            ..Row::of(&values)
        };
        let mut planes = vec![vec![0.0f32]; 5];
        let mut out: Vec<&mut [f32]> = planes.iter_mut().map(Vec::as_mut_slice).collect();
        cascade().run(&row, &mut out);
        [planes[0][0], planes[1][0], planes[2][0], planes[4][0]]
    }

    #[test]
    fn faint_light_is_the_mean_by_inverse_variance() {
        let [v, source, weight, sigma] = pixel(&[(100.0, 1.0), (110.0, 1.0), (300.0, 1.0)]);
        let w: [f32; 3] = [1.0, 0.01, 0.0001];
        let all: f32 = w.iter().sum();
        let light = (w[0] * 100.0 + w[1] * 110.0 + w[2] * 300.0) / all - 100.0;
        let w = [1.0, 10.0, 100.0f32].map(|k| 1.0 / (k * k + 0.01 * k * light));
        let all: f32 = w.iter().sum();
        let want = (w[0] * 100.0 + w[1] * 110.0 + w[2] * 300.0) / all;
        assert!((v - want).abs() < 1e-3, "{v} for {want}");
        assert_eq!(source, 1.0);
        assert!((weight - w[0] / all).abs() < 1e-5 && (sigma - all.sqrt().recip()).abs() < 1e-5);
    }

    #[test]
    fn a_fading_exposure_hands_over_in_the_measure_of_its_validity() {
        // Whatever the weights, half valid is half of the way.
        let [v, ..] = pixel(&[(1000.0, 0.5), (2000.0, 1.0), (2000.0, 1.0)]);
        let [with, ..] = pixel(&[(1000.0, 1.0), (2000.0, 1.0), (2000.0, 1.0)]);
        let [without, source, ..] = pixel(&[(1000.0, 0.0), (2000.0, 1.0), (2000.0, 1.0)]);
        assert!((without - 2000.0).abs() < 0.1 && source == 2.0);
        // But for the noise model, which sees other light.
        assert!(
            (v / (0.5 * (with + without)) - 1.0).abs() < 0.02,
            "{v}: {with}, {without}"
        );
    }

    #[test]
    fn the_last_valid_one_is_not_faded_and_missing_stays_missing() {
        let [v, source, ..] = pixel(&[(1000.0, 0.0), (f32::NAN, 1.0), (5000.0, 0.1)]);
        assert_eq!((v, source), (5000.0, 3.0));
        let [v, source, _, sigma] = pixel(&[(1000.0, 0.0), (4000.0, 0.0), (9000.0, 0.0)]);
        assert_eq!((v, source, sigma), (9000.0, EVERYWHERE_FULL, f32::INFINITY));
        let [v, source, ..] = pixel(&[(f32::NAN, 1.0); 3]);
        assert!(v.is_nan() && source == 0.0);
    }

    #[test]
    fn the_usual_run_and_the_careful_way_give_the_same() {
        let c = cascade();
        let values: Vec<Vec<f32>> = (0..3)
            .map(|i| {
                (0..50)
                    .map(|x| 100.0 + (x * x).single() + i.single())
                    .collect()
            })
            .collect();
        let inputs: Vec<&[f32]> = values.iter().map(Vec::as_slice).collect();
        let ones = [1.0f32; 50];
        let validity = [&ones[..]; 3];
        let row = Row {
            validity: &validity,
            ..Row::of(&inputs)
        };
        let mut planes = vec![vec![0.0f32; 50]; 5];
        let mut out: Vec<&mut [f32]> = planes.iter_mut().map(Vec::as_mut_slice).collect();
        c.run(&Row::of(&inputs), &mut out);
        let usual: Vec<[f32; 5]> = (0..50)
            .map(|x| [0, 1, 2, 3, 4].map(|p: usize| planes[p][x]))
            .collect();
        for (x, seen) in usual.into_iter().enumerate() {
            for (usual, careful) in seen.into_iter().zip(c.pixel(&row, x)) {
                assert!((usual / careful - 1.0).abs() < 1e-5, "{usual} {careful}");
            }
        }
    }
}
