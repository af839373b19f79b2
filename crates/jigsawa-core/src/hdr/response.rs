//! Two exposures value against value: the factor between them, and from where the longer one bends.
//!
//! Over points of smooth light that both show, longer = slope x shorter + a plane (the skies differ by a level and a
//! tilt), by least squares that wild points do not enter (biweight). The shorter one is fitted to the longer, and points
//! are chosen by the longer: its noise is much the smaller, and noise on the side that is fitted to would make the slope
//! too flat (by 0.3 % the other way round). What the longer exposure then lacks in bright light
//! against what the shorter foretells is its shoulder: from there it is not linear, though not full yet.

use crate::number::Convert;
use nalgebra::{Matrix4, Vector4};
use rayon::prelude::*;

use super::light::Light;
use crate::measured::Measured;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, mad, median};

/// What two exposures show of each other.
#[derive(Debug, Clone)]
pub struct Response {
    /// The factor on the shorter one's values, if light that both show tells it.
    pub slope: Measured,
    /// What is added to the scaled values: at the canvas's middle, and what comes to its right and its lower edge.
    pub offset: [f64; 3],
    /// Points behind it.
    pub points: usize,
    /// From this value on the longer exposure falls short of the shorter, if it does before it is full.
    pub shoulder: Option<f32>,
    /// Some of the points, for those who want to see.
    pub seen: Vec<Seen>,
}

/// A point of smooth light in two exposures.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seen {
    /// Value in the shorter one.
    pub shorter: f32,
    /// Value in the longer one, at the canvas's middle: the tilt between both skies is taken off.
    pub longer: f32,
}

/// A point enters when its light is so many times the noise of both.
const LEAST_LIGHT: f64 = 6.0;

/// Light must span so many times the noise, over so many points.
const LEAST_SPAN: f64 = 40.0;
const LEAST_POINTS: usize = 60;

/// More points say no more, and take longer.
const MOST_POINTS: usize = 20_000;

/// No slope is known better: flat fields and what telescopes scatter remain.
const LEAST_ERROR: f64 = 0.001;

/// The slope is fitted below this part of the range up to full.
const STRAIGHT: f64 = 0.7;

/// Points that are shown.
const SHOWN: usize = 1500;

/// Compares a longer exposure, full at `full`, with a shorter one. `None` where they share too little smooth light.
pub fn respond(longer: &Light, shorter: &Light, saturation: f32) -> Option<Response> {
    let saturated_light = f64::from(saturation - longer.sky);
    // 3 x 3 pixels are averaged.
    let noise = [longer, shorter].map(|l| f64::from(l.mean_sigma()));
    let mut all: Vec<(usize, f64, f64)> = longer
        .values
        .iter()
        .zip(&shorter.values)
        .enumerate()
        .filter(|(_, (y, x))| y.is_finite() && x.is_finite())
        .map(|(i, (y, x))| (i, f64::from(y - longer.sky), f64::from(x - shorter.sky)))
        .collect();
    // From faint to bright in the longer exposure; of equal ones that which comes first on the canvas.
    all.par_sort_unstable_by(|a, b| a.1.total_cmp(&b.1).then(a.0.cmp(&b.0)));
    let start = first_slope(&all)?;
    let least = LEAST_LIGHT * noise[0].max(start * noise[1]);
    let bright: Vec<&(usize, f64, f64)> = all
        .iter()
        .filter(|(_, y, _)| *y > least && *y < STRAIGHT * saturated_light)
        .collect();
    let highest = bright.iter().map(|p| p.1).fold(0.0, f64::max);
    if bright.len() < LEAST_POINTS || highest < LEAST_SPAN / LEAST_LIGHT * least {
        return None;
    }
    let every = bright.len().div_ceil(MOST_POINTS);
    let some: Vec<(usize, f64, f64)> = bright.iter().step_by(every).map(|p| **p).collect();
    let fit = Fit::of(&some, longer, start, noise)?;
    let tilt = |i: usize| {
        let [u, v] = longer.grid.part(i);
        fit.at[2] * u + fit.at[3] * v
    };
    let shoulder = shoulder(&all, &fit, longer, saturated_light);
    Some(Response {
        slope: fit.slope,
        offset: [
            f64::from(longer.sky) + fit.at[1] - fit.slope.value * f64::from(shorter.sky),
            fit.at[2],
            fit.at[3],
        ],
        points: bright.len(),
        shoulder,
        seen: thinned(&all)
            .map(|(i, y, x)| Seen {
                shorter: (x + f64::from(shorter.sky)).single(),
                longer: (y + f64::from(longer.sky) - tilt(i)).single(),
            })
            .collect(),
    })
}

/// A first slope: the middle ratio of the points that are brightest in the longer exposure, the last of all.
fn first_slope(all: &[(usize, f64, f64)]) -> Option<f64> {
    let mut ratios: Vec<f32> = all
        .iter()
        .rev()
        .take((all.len() / 50).clamp(LEAST_POINTS, 2000))
        .filter(|p| p.2 > 0.0)
        .map(|p| (p.1 / p.2).single())
        .collect();
    let slope = f64::from(median(&mut ratios));
    (ratios.len() >= LEAST_POINTS / 2 && slope.is_finite() && slope > 0.0).then_some(slope)
}

/// The straight line between two exposures.
struct Fit {
    slope: Measured,
    /// Slope, level, tilt to the right, tilt down; for light above both skies.
    at: Vector4<f64>,
}

impl Fit {
    fn of(
        points: &[(usize, f64, f64)],
        longer: &Light,
        start: f64,
        noise: [f64; 2],
    ) -> Option<Self> {
        let mut at = Vector4::new(1.0 / start, 0.0, 0.0, 0.0);
        // A flat field is good to half a percent: bright points do not decide alone.
        let dark = noise[1].powi(2) + (at[0] * noise[0]).powi(2);
        let rows: Vec<(Vector4<f64>, f64)> = points
            .iter()
            .map(|(i, y, x)| {
                let [u, v] = longer.grid.part(*i);
                let error = (dark + (0.005 * x).powi(2)).sqrt();
                (Vector4::new(*y, 1.0, u, v) / error, x / error)
            })
            .collect();
        let mut sigma = f64::INFINITY;
        for _ in 0..12 {
            // In errors.
            let mut offs: Vec<f32> = rows
                .iter()
                .map(|(row, x)| (x - row.dot(&at)).single())
                .collect();
            let spread = (f64::from(mad(&mut offs, 0.0)) * MAD_TO_SIGMA).max(1e-6);
            let (mut normal, mut right) = (Matrix4::zeros(), Vector4::zeros());
            let (mut count, mut sum) = (0.0, 0.0);
            for (row, x) in &rows {
                let off = x - row.dot(&at);
                let down = biweight(off, BIWEIGHT_REACH * spread);
                normal += down * row * row.transpose();
                right += down * off * row;
                count += down;
                sum += down * off * off;
            }
            let inverse = normal.cholesky()?.inverse();
            let step = inverse * right;
            at += step;
            sigma = (inverse[(0, 0)] * sum / (count - 4.0).max(1.0)).sqrt();
            if (step[0] / at[0]).abs() < 1e-7 {
                break;
            }
        }
        let slope = Measured {
            value: 1.0 / at[0],
            sigma: (sigma / at[0]).hypot(LEAST_ERROR) / at[0],
        };
        let at = Vector4::new(1.0, -at[1], -at[2], -at[3]) / at[0];
        (at[0] > 0.0 && sigma.is_finite()).then_some(Self { slope, at })
    }

    /// What the shorter exposure foretells of the longer one's light.
    fn foretold(&self, longer: &Light, i: usize, x: f64) -> f64 {
        let [u, v] = longer.grid.part(i);
        self.at.dot(&Vector4::new(x, 1.0, u, v))
    }
}

/// Bins of foretold light over this part of the range, and points that a bin needs.
const SHOULDER_FROM: f64 = 0.3;
const SHOULDER_TO: f64 = 0.93;
const SHOULDER_BINS: usize = 12;
const BIN_POINTS: usize = 6;

/// A shoulder spans so many of them at the least.
const LEAST_BINS: usize = 2;

/// So much less than foretold is no longer straight.
const BENT: f64 = 0.01;

/// The lowest value from which the longer exposure shows less than foretold.
fn shoulder(
    all: &[(usize, f64, f64)],
    fit: &Fit,
    longer: &Light,
    saturated_light: f64,
) -> Option<f32> {
    if !saturated_light.is_finite() {
        return None;
    }
    // Just below full only the low ones of scattered values are left: they would look bent.
    let width = (SHOULDER_TO - SHOULDER_FROM) / SHOULDER_BINS.real() * saturated_light;
    let mut bins: Vec<Vec<f32>> = vec![Vec::new(); SHOULDER_BINS];
    for (i, y, x) in all {
        let told = fit.foretold(longer, *i, *x);
        let bin = (told - SHOULDER_FROM * saturated_light) / width;
        if bin >= 0.0 && bin.index() < SHOULDER_BINS {
            bins[bin.index()].push((y / told - 1.0).single());
        }
    }
    // How far each bin falls short, and whether that is more than chance.
    let bent: Vec<Option<(f64, bool)>> = bins
        .iter_mut()
        .map(|b| {
            (b.len() >= BIN_POINTS).then(|| {
                let middle = median(b);
                let error = mad(b, middle) * MAD_TO_SIGMA.single() * 1.25 / b.len().single().sqrt();
                let off = f64::from(middle);
                (
                    off,
                    off < -BENT && off + 3.0 * f64::from(error) < -0.3 * BENT,
                )
            })
        })
        .collect();
    // From the top down, as long as all that is known is bent: several bins, and the highest most of all. A place that
    // is off by a part of a pixel bends a steep core by chance.
    let last = bent.iter().rposition(Option::is_some)?;
    let run: Vec<usize> = (0..=last)
        .rev()
        .take_while(|b| bent[*b].is_none_or(|(_, bent)| bent))
        .filter(|b| bent[*b].is_some())
        .collect();
    let first = *run.last()?;
    let off = |b: usize| bent[b].map_or(0.0, |(off, _)| off);
    if run.len() < LEAST_BINS || off(last) > -2.0 * BENT || off(last) > 1.5 * off(first) {
        return None;
    }
    let light = SHOULDER_FROM * saturated_light + first.real() * width;
    (light < 0.95 * saturated_light).then_some(longer.sky + light.single())
}

/// Some of the points, as many of every brightness as there are.
fn thinned(all: &[(usize, f64, f64)]) -> impl Iterator<Item = (usize, f64, f64)> {
    // Every thousandth of all, and every fiftieth of the brightest.
    let (faint, bright) = all.split_at(all.len() - all.len() / 20);
    let some = |part: &[(usize, f64, f64)]| {
        let every = part.len().div_ceil(SHOWN / 2).max(1);
        part.iter().step_by(every).copied().collect::<Vec<_>>()
    };
    let (a, b) = (some(faint), some(bright));
    a.into_iter().chain(b)
}

#[cfg(test)]
mod tests {
    use super::super::light::LightGrid;
    use super::*;
    use crate::space::Size;
    use jigsawa_sky::chance::normal;

    fn noise(i: usize, salt: u64) -> f64 {
        normal(i as u64, salt)
    }

    /// Light over four decades at every point, in a longer and in a shorter exposure.
    fn pair(slope: f64, curve: impl Fn(f64) -> f64) -> (Light, Light) {
        let grid = LightGrid::over(Size::new(400, 300).unwrap());
        let n = 200 * 150;
        let light = |i: usize| 5.0 * 10f64.powf(4.2 * ((i * 7919) % n).real() / n.real());
        let make = |of: &dyn Fn(usize) -> f64, sky: f32, sigma: f32| Light {
            tied: 1.0,
            grid,
            values: (0..n)
                .map(|i| (of(i) + f64::from(sky)).single())
                .map(|v| if v < 50_000.0 { v } else { f32::NAN })
                .collect(),
            sky,
            variance: sigma * sigma,
            variance_per_unit: 0.0,
        };
        let longer = make(
            &|i| {
                let [u, v] = grid.part(i);
                curve(light(i)) + 8.0 * u - 5.0 * v + 3.0 + noise(i, 1)
            },
            600.0,
            3.0,
        );
        let shorter = make(&|i| light(i) / slope + 2.0 * noise(i, 2) / 3.0, 510.0, 2.0);
        (longer, shorter)
    }

    #[test]
    fn the_factor_between_exposures_is_found_to_two_thousandths_through_noise_and_tilt() {
        let (longer, shorter) = pair(10.0, |l| l);
        let r = respond(&longer, &shorter, 50_000.0).unwrap();
        assert!((r.slope.value / 10.0 - 1.0).abs() < 0.002, "{:?}", r.slope);
        assert!(r.slope.sigma < 0.02 && r.shoulder.is_none(), "{r:?}");
        assert!((r.offset[1] - 8.0).abs() < 0.5 && (r.offset[2] + 5.0).abs() < 0.5);
        assert!(r.seen.len() > 500 && r.seen.len() < 3000);
    }

    #[test]
    fn a_shoulder_is_seen_where_it_begins() {
        // Straight up to 36000, then a third of the light is lost.
        let (longer, shorter) = pair(20.0, |l| l.min(36_000.0) + 0.67 * (l - 36_000.0).max(0.0));
        let r = respond(&longer, &shorter, 50_000.0).unwrap();
        assert!((r.slope.value / 20.0 - 1.0).abs() < 0.003, "{:?}", r.slope);
        let shoulder = r.shoulder.unwrap();
        assert!((34_000.0..40_000.0).contains(&shoulder), "{shoulder}");
    }

    #[test]
    fn frames_without_light_in_common_tell_nothing() {
        let (mut longer, shorter) = pair(10.0, |l| l);
        for v in &mut longer.values {
            *v = v.min(615.0);
        }
        assert!(respond(&longer, &shorter, 50_000.0).is_none());
    }
}
