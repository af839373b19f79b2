//! White: what the three channels are multiplied by so that a chosen light has no colour.
//!
//! *From the stars*: the typical star of the picture becomes white. Many stars of all colours are a fair guess of
//! sunlight where nothing else is known. *From a catalogue*: the stars' known colours are laid against those
//! measured, by a robust straight line, and a star like the sun becomes white: B-V of 0.65 (Ramirez et al. 2012,
//! `ApJ` 752, 5), BP-RP of 0.82 (Casagrande & `VandenBerg` 2018, MNRAS 479, L102). *From a patch*: its light above
//! the sky becomes white.

use super::neutral::ChannelSky;
use super::overview::Sources;
use crate::doors::DoorError;
use crate::number::Convert;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, mad, median};
use crate::space::{FramePx, Point, Rect};
use crate::starless::photometry;
use crate::stars::{Catalogue, Star};
use crate::wcs::{Sky, Wcs};

/// Stars whose colour is measured, at the most, from bright to faint.
const MOST_STARS: usize = 800;

/// Stars fainter than this, in their flux's own error, tell little.
const LEAST_SNR: f64 = 40.0;

/// Fewer stars than this give no white.
const LEAST_STARS: usize = 8;

/// A star's light in the three channels, above the sky around it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StarColour {
    /// Where it stands.
    pub at: Point<FramePx>,
    /// Red, green, blue.
    pub flux: [f64; 3],
    /// Their errors from the noise.
    pub sigma: [f64; 3],
}

impl StarColour {
    /// Red over green and blue over green, in magnitudes; positive for less light than green.
    pub fn magnitudes(&self) -> [f64; 2] {
        [0, 2].map(|c| -2.5 * (self.flux[c] / self.flux[1]).log10())
    }

    /// The same star after the channels were multiplied.
    #[must_use]
    pub fn times(mut self, gains: [f32; 3]) -> Self {
        for (c, gain) in gains.iter().enumerate() {
            self.flux[c] *= f64::from(*gain);
            self.sigma[c] *= f64::from(*gain);
        }
        self
    }
}

/// A star of a catalogue.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct KnownStar {
    /// Where it stands on the sky.
    pub at: Sky,
    /// Its colour index in magnitudes.
    pub colour: f64,
    /// Its brightness in magnitudes.
    pub magnitude: f64,
}

/// Which colour index a catalogue has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Index {
    /// B-V.
    BV,
    /// BP-RP.
    BpRp,
}

impl Index {
    /// The index of the sun.
    pub const fn of_the_sun(self) -> f64 {
        match self {
            Self::BV => 0.65,
            Self::BpRp => 0.82,
        }
    }

    /// As it is written.
    pub const fn name(self) -> &'static str {
        match self {
            Self::BV => "B-V",
            Self::BpRp => "BP-RP",
        }
    }
}

/// What the channels are multiplied by, and what it rests on.
#[derive(Debug, Clone, PartialEq)]
pub struct White {
    /// Red, green, blue; their geometric mean is 1.
    pub gains: [f32; 3],
    /// Stars that it rests on; 0 for a patch.
    pub stars: usize,
    /// Scatter of the stars around what was fitted, in magnitudes, of red and of blue against green.
    pub scatter: [f64; 2],
    /// How red-green and blue-green go with the catalogue's index, in magnitudes a magnitude.
    pub slopes: Option<[f64; 2]>,
    /// By how many magnitudes of red against blue the brighter half of the stars is redder than the fainter, with the error:
    /// giants stand out so. Of a typical star's white only.
    pub redder: Option<(f64, f64)>,
}

/// Why there is no white.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum WhiteError {
    /// Too few stars are clear enough.
    #[error("only {0} stars show their colour clearly, {LEAST_STARS} are needed")]
    FewStars(usize),
    /// Too few stars are in the catalogue.
    #[error("only {0} of the stars are in the catalogue, {LEAST_STARS} are needed")]
    FewKnown(usize),
    /// All of the catalogue's stars have one colour.
    #[error("the catalogue's stars are all of one colour")]
    OneColour,
    /// The patch has no light above the sky in some channel.
    #[error("the patch is no brighter than the sky")]
    DarkPatch,
}

/// Measures the colours of the picture's clear stars.
///
/// # Errors
/// When the picture cannot be read.
pub fn star_colours(sources: Sources<'_>, stars: &Catalogue) -> Result<Vec<StarColour>, DoorError> {
    let bright = stars.stars.iter().map(|s| s.peak).fold(0.0, f32::max);
    // A star near the brightest of all may be saturated in one channel only.
    let clear = |s: &&Star| s.flux > LEAST_SNR * s.flux_sigma && s.peak < 0.6 * bright;
    let chosen: Vec<&Star> = stars.clean().filter(clear).take(MOST_STARS).collect();
    let chosen: Vec<Star> = chosen.into_iter().copied().collect();
    let light = photometry(&sources, stars, &chosen)?;
    Ok(chosen
        .iter()
        .zip(light)
        .filter_map(|(s, light)| {
            let light = light?;
            let bright = light.iter().all(|(flux, sigma)| *flux > 5.0 * sigma);
            bright.then(|| StarColour {
                at: s.at,
                flux: [light[0].0, light[1].0, light[2].0],
                sigma: [light[0].1, light[1].1, light[2].1],
            })
        })
        .collect())
}

/// White from the typical star.
///
/// # Errors
/// When too few stars are clear.
pub fn from_stars(stars: &[StarColour]) -> Result<White, WhiteError> {
    if stars.len() < LEAST_STARS {
        return Err(WhiteError::FewStars(stars.len()));
    }
    let (mut typical, mut scatter) = ([0.0; 2], [0.0; 2]);
    for k in 0..2 {
        let values: Vec<f64> = stars.iter().map(|s| s.magnitudes()[k]).collect();
        (typical[k], scatter[k]) = robust_mean(&values);
    }
    Ok(White {
        gains: gains(typical),
        stars: stars.len(),
        scatter,
        slopes: None,
        redder: Some(redder(stars)),
    })
}

/// How much redder the brighter half of stars is than the fainter, and the error of that.
fn redder(stars: &[StarColour]) -> (f64, f64) {
    let mut sorted: Vec<&StarColour> = stars.iter().collect();
    sorted.sort_by(|a, b| b.flux[1].total_cmp(&a.flux[1]));
    let (bright, faint) = sorted.split_at(sorted.len() / 2);
    let of = |list: &[&StarColour]| {
        let red = |s: &&StarColour| {
            let [red, blue] = s.magnitudes();
            blue - red
        };
        let (middle, scatter) = robust_mean(&list.iter().map(red).collect::<Vec<_>>());
        (middle, scatter / list.len().real().sqrt())
    };
    let (b, f) = (of(bright), of(faint));
    (b.0 - f.0, b.1.hypot(f.1))
}

/// White from stars whose colours are known.
///
/// # Errors
/// When too few of the stars are in the catalogue, or when those all have one colour.
pub fn from_catalogue(
    stars: &[StarColour],
    known: &[KnownStar],
    index: Index,
    wcs: &Wcs,
    fwhm_px: f64,
) -> Result<White, WhiteError> {
    if stars.len() < LEAST_STARS {
        return Err(WhiteError::FewStars(stars.len()));
    }
    let pairs = matched(stars, known, wcs, fwhm_px);
    if pairs.len() < LEAST_STARS {
        return Err(WhiteError::FewKnown(pairs.len()));
    }
    let (mut at_sun, mut scatter, mut slopes) = ([0.0; 2], [0.0; 2], [0.0; 2]);
    for k in 0..2 {
        let points: Vec<(f64, f64)> = pairs
            .iter()
            .map(|(s, colour)| (colour - index.of_the_sun(), s.magnitudes()[k]))
            .collect();
        let line = robust_line(&points).ok_or(WhiteError::OneColour)?;
        (at_sun[k], slopes[k], scatter[k]) = line;
    }
    Ok(White {
        gains: gains(at_sun),
        stars: pairs.len(),
        scatter,
        slopes: Some(slopes),
        redder: None,
    })
}

/// White from the light of a patch of the picture above its skies, whose gradients lie on planes smaller by `factor`.
///
/// # Errors
/// When the picture cannot be read.
pub fn from_patch(
    sources: Sources<'_>,
    patch: Rect,
    skies: &[ChannelSky; 3],
    factor: usize,
) -> Result<Result<White, WhiteError>, DoorError> {
    let k = factor.real();
    let middle = Point::new(
        (patch.x.real() + 0.5 * patch.width.real()) / k - 0.5,
        (patch.y.real() + 0.5 * patch.height.real()) / k - 0.5,
    );
    let mut light = [0.0f64; 3];
    let mut values = vec![0.0; patch.area()];
    for (c, source) in sources.iter().enumerate() {
        source.read(patch, &mut values)?;
        let mut finite: Vec<f32> = values.iter().copied().filter(|v| v.is_finite()).collect();
        // The median: a star in the patch is not what is meant.
        light[c] = f64::from(median(&mut finite) - skies[c].level) - skies[c].gradient.at(middle);
        if light[c].is_nan() || light[c] <= 0.0 {
            return Ok(Err(WhiteError::DarkPatch));
        }
    }
    let magnitude = |c: usize| -2.5 * (light[c] / light[1]).log10();
    Ok(Ok(White {
        gains: gains([magnitude(0), magnitude(2)]),
        stars: 0,
        scatter: [0.0; 2],
        slopes: None,
        redder: None,
    }))
}

/// What makes a light of these colours (against green, in magnitudes) white, with a geometric mean of 1.
fn gains([red, blue]: [f64; 2]) -> [f32; 3] {
    let mean = (red + blue) / 3.0;
    [red - mean, -mean, blue - mean].map(|m| 10f64.powf(0.4 * m).single())
}

/// Stars with the colours of those of the catalogue that stand where they do: the brightest within three quarters of a width.
fn matched(
    stars: &[StarColour],
    known: &[KnownStar],
    wcs: &Wcs,
    fwhm_px: f64,
) -> Vec<(StarColour, f64)> {
    let places: Vec<(Point<FramePx>, &KnownStar)> = known
        .iter()
        .filter_map(|k| Some((wcs.pixel(k.at)?, k)))
        .collect();
    let mut by_row: Vec<usize> = (0..places.len()).collect();
    by_row.sort_by(|a, b| places[*a].0.y.total_cmp(&places[*b].0.y));
    let reach = (0.75 * fwhm_px).max(2.0);
    stars
        .iter()
        .filter_map(|s| {
            let first = by_row.partition_point(|i| places[*i].0.y < s.at.y - reach);
            by_row[first..]
                .iter()
                .map(|i| places[*i])
                .take_while(|(p, _)| p.y <= s.at.y + reach)
                .filter(|(p, _)| p.distance(s.at) <= reach)
                .min_by(|a, b| a.1.magnitude.total_cmp(&b.1.magnitude))
                .map(|(_, k)| (*s, k.colour))
        })
        .collect()
}

/// A mean that outliers do not move, and the scatter around it.
fn robust_mean(values: &[f64]) -> (f64, f64) {
    let mut narrow: Vec<f32> = values.iter().map(|v| (*v).single()).collect();
    let mut centre = f64::from(median(&mut narrow));
    let spread = f64::from(mad(&mut narrow, centre.single())) * MAD_TO_SIGMA;
    if spread <= 0.0 {
        return (centre, spread);
    }
    for _ in 0..10 {
        let (mut sum, mut weight) = (0.0, 0.0);
        for v in values {
            let w = biweight(v - centre, BIWEIGHT_REACH * spread);
            sum += w * v;
            weight += w;
        }
        centre = sum / weight;
    }
    (centre, spread)
}

/// The straight line through points that outliers do not move: its value at 0, its slope, and the scatter.
fn robust_line(points: &[(f64, f64)]) -> Option<(f64, f64, f64)> {
    let mut weights = vec![1.0; points.len()];
    let (mut at_zero, mut slope, mut spread) = (0.0, 0.0, 0.0);
    for _ in 0..15 {
        let sum = |f: &dyn Fn(f64, f64) -> f64| -> f64 {
            points
                .iter()
                .zip(&weights)
                .map(|((x, y), w)| w * f(*x, *y))
                .sum()
        };
        let (n, sx, sy) = (sum(&|_, _| 1.0), sum(&|x, _| x), sum(&|_, y| y));
        let (sxx, sxy) = (sum(&|x, _| x * x), sum(&|x, y| x * y));
        let det = n * sxx - sx * sx;
        if det <= 1e-9 * n * n {
            return None;
        }
        slope = (n * sxy - sx * sy) / det;
        at_zero = (sy - slope * sx) / n;
        let mut off: Vec<f32> = points
            .iter()
            .map(|(x, y)| (y - at_zero - slope * x).abs().single())
            .collect();
        spread = f64::from(median(&mut off)) * MAD_TO_SIGMA;
        let reach = BIWEIGHT_REACH * spread.max(1e-9);
        for ((x, y), w) in points.iter().zip(&mut weights) {
            *w = biweight(y - at_zero - slope * x, reach);
        }
    }
    Some((at_zero, slope, spread))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn star(red: f64, blue: f64) -> StarColour {
        let flux = |m: f64| 1e4 * 10f64.powf(-0.4 * m);
        StarColour {
            at: Point::new(0.0, 0.0),
            flux: [flux(red), 1e4, flux(blue)],
            sigma: [10.0; 3],
        }
    }

    #[test]
    fn the_typical_star_becomes_white_whatever_a_few_say() {
        let mut stars: Vec<StarColour> = (0..100)
            .map(|i| {
                let c = (f64::from(i) - 49.5) / 100.0;
                star(0.3 - 0.5 * c, -0.2 + 0.6 * c)
            })
            .collect();
        stars.extend((0..8).map(|_| star(-4.0, 3.0)));
        let w = from_stars(&stars).unwrap();
        let typical = star(0.3, -0.2).times(w.gains).magnitudes();
        assert!(typical.iter().all(|m| m.abs() < 0.02), "{typical:?}");
        let product: f32 = w.gains.iter().product();
        assert!((product - 1.0).abs() < 1e-5);
        assert_eq!(from_stars(&stars[..5]), Err(WhiteError::FewStars(5)));
    }

    #[test]
    fn bright_stars_that_are_redder_are_seen_as_such() {
        let of = |giants: f64| -> Vec<StarColour> {
            (0..100)
                .map(|i| {
                    let c = 0.1 * f64::from(i * 37 % 100) / 100.0;
                    let mut s = star(0.0 - c, 0.05 + c + if i < 50 { giants } else { 0.0 });
                    let bright = if i < 50 { 10.0 } else { 1.0 };
                    s.flux = s.flux.map(|f| f * bright);
                    s
                })
                .collect()
        };
        let (redder, error) = from_stars(&of(0.3)).unwrap().redder.unwrap();
        assert!(
            (redder - 0.3).abs() < 0.03 && error < 0.03,
            "{redder} {error}"
        );
        let (redder, error) = from_stars(&of(0.0)).unwrap().redder.unwrap();
        assert!(redder.abs() < 3.0 * error, "{redder} {error}");
    }

    #[test]
    fn a_line_is_found_among_outliers_and_needs_two_colours() {
        let mut points: Vec<(f64, f64)> = (0..60)
            .map(|i| {
                (
                    f64::from(i) / 60.0,
                    0.25 - 0.8 * f64::from(i) / 60.0 + 0.01 * f64::from(i % 7 - 3),
                )
            })
            .collect();
        points.extend((0..12).map(|i| (f64::from(i) / 12.0, 3.0)));
        let (at_zero, slope, spread) = robust_line(&points).unwrap();
        assert!(
            (at_zero - 0.25).abs() < 0.01 && (slope + 0.8).abs() < 0.02,
            "{at_zero} {slope}"
        );
        assert!(spread < 0.05);
        assert!(robust_line(&[(1.0, 2.0); 20]).is_none());
    }
}
