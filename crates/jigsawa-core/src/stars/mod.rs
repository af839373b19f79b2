//! The stars of a frame: found by a matched filter, measured by a fitted profile.
//!
//! In: a plane and, if known, its saturation. Out: a [`Catalogue`]: the stars from bright to faint,
//! their median width and roundness, and the sky mesh. The filter is made as wide as the frame's own
//! stars, which a first look at a few bands tells. Nebula knots, hot pixels and cosmic rays differ
//! from the median star in width or shape and are dropped; saturated, blended and cut stars are kept
//! and flagged.

mod candidate;
mod crowd;
mod filter;
mod find;
mod flags;
mod flux;
mod growth;
mod halved;
mod linear;
pub mod moffat;
mod more;
mod noise;
pub mod profile;
mod shape;
mod sky;
mod spike;

use crate::number::Convert;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

pub use flags::{FLAGS, Flag, Flags};
pub(crate) use flux::{Scratch as ApertureScratch, aperture};
pub use growth::{Growth, profiles};
pub use more::{More, detect_more};
pub use sky::{SkyCell, SkyMesh};

use crate::noise::NoiseScales;
use crate::plane::Plane;
use crate::robust::median;
use crate::space::{FramePx, Point};
use candidate::Candidate;
use filter::MatchedFilter;
use find::{FIRST_FWHM_PX, FWHM_RANGE_PX};
use profile::Profile;
use shape::{MOST_ELONGATION, Shape, Shapes};

/// One star.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Star {
    /// Its centre.
    pub at: Point<FramePx>,
    /// Light in an aperture of 1.8 FWHM above the local sky, in the frame's units.
    pub flux: f64,
    /// Standard error of the flux from the sky's noise.
    pub flux_sigma: f64,
    /// Height of the profile above the sky.
    pub amplitude: f64,
    /// The highest pixel, sky included.
    pub peak: f32,
    /// Full width at half maximum, geometric mean of both axes.
    pub fwhm_px: f64,
    /// Long over short axis.
    pub elongation: f64,
    /// Direction of the long axis, from +x towards +y.
    pub angle_rad: f64,
    /// Standard error of each coordinate of the centre, from the noise.
    pub position_sigma_px: f64,
    /// What is known against it.
    pub flags: Flags,
}

/// The stars of a frame and what they say of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Catalogue {
    /// From bright to faint.
    pub stars: Vec<Star>,
    /// Median full width at half maximum of the clean stars.
    pub fwhm_px: f64,
    /// Median elongation of the clean stars.
    pub elongation: f64,
    /// Places that stood out by the threshold; at most [`Settings::most`] of them were measured.
    pub found: usize,
    /// The threshold that was used.
    pub threshold_sigma: f64,
    /// The exponent of the Moffat profile that fits this frame's stars best.
    pub beta: f64,
    /// The sky's mesh.
    pub sky: SkyMesh,
    /// The saturation level: as given, or seen on flat cores.
    pub saturation: Option<f32>,
    /// The noise of the sky between the stars, over scales.
    pub noise: NoiseScales,
    /// How its stars' light grows with the aperture; absent with too few bright ones.
    pub growth: Option<Growth>,
}

/// No stars are as wide as this, in pixels, whatever the seeing and the sampling: where the typical one is, there are none, and what
/// was found are knots of a nebula.
pub const WIDEST_PX: f64 = 20.0;

/// How stars are looked for.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Settings {
    /// The least height of a star over the filter's noise. At 5 a 24-megapixel frame of pure noise
    /// gives about five false stars.
    pub threshold_sigma: f64,
    /// How far the threshold may be lowered, in steps of half a sigma, where fewer than `enough` stars
    /// stand out; the same as the threshold for not at all.
    pub lowest_sigma: f64,
    /// So many stars are enough.
    pub enough: usize,
    /// How many stars are measured at the most, spread over the frame.
    pub most: usize,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            threshold_sigma: 5.0,
            lowest_sigma: 5.0,
            enough: 100,
            most: 2000,
        }
    }
}

/// Why a frame has no catalogue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum DetectError {
    /// Every pixel is missing.
    #[error("every pixel is missing")]
    NoData,
    /// All valid pixels have one value.
    #[error("all pixels have the same value")]
    Constant,
}

/// No star of a frame that is worth a second look is longer.
const LONGEST: f64 = 5.0;

/// Stars this bright, in sigma, can be seen to have a flat core.
const LEAST_SNR_FLAT: f32 = 60.0;

/// Flat cores within this part of the highest one's height agree on a saturation level, if there are
/// so many of them: one or two may be chance or a double star.
const FLAT_AGREE: f32 = 0.05;
const LEAST_FLAT: usize = 3;

/// Stars this bright, in sigma, tell the width and the profile of all.
const TELLING_SNR: f32 = 20.0;

/// Finds and measures the stars of a plane. A frame without stars gives an empty list.
///
/// # Errors
/// When the plane holds no data or one value only: there is nothing to measure.
pub fn detect(
    plane: &Plane,
    saturation: Option<f32>,
    settings: &Settings,
) -> Result<Catalogue, DetectError> {
    let sky = SkyMesh::measure(plane).ok_or(DetectError::NoData)?;
    if sky.typical_sigma() == 0.0 && is_constant(plane) {
        return Err(DetectError::Constant);
    }
    let behind = crowd::behind(plane, &sky);
    let crowded = behind.is_some();
    let sky = behind.unwrap_or(sky);
    let (width, beta, shape) = typical_profile(plane, &sky, saturation);
    let lowest = settings.lowest_sigma.min(settings.threshold_sigma).single();
    let mut found = if halved::is_better(plane, width) {
        halved::find(plane, &sky, (width, shape), lowest)
    } else {
        find::find(plane, &sky, &MatchedFilter::shaped(width, shape), lowest, 1)
    };
    let threshold_sigma = threshold(&found, settings);
    found.retain(|c| f64::from(c.snr) > threshold_sigma);
    let count = found.len();
    let chosen = find::spread(found, plane, 1.2 * width, settings.most);
    let measured: Vec<Star> = chosen
        .par_iter()
        .map_init(flux::Scratch::default, |scratch, c| {
            measure(plane, &sky, c, width, beta, saturation, scratch)
        })
        .flatten()
        .collect();
    let found = Catalogue {
        found: count,
        threshold_sigma,
        ..collect(measured, (width, beta), shape, sky, saturation)
    };
    Ok(with_noise(plane, found, crowded))
}

/// The catalogue with the noise between its stars, errors that know of it, and the curve of growth.
fn with_noise(plane: &Plane, mut found: Catalogue, crowded: bool) -> Catalogue {
    // Between the stars of a crowd there is no sky to see what is tied together.
    let noise = if crowded {
        NoiseScales::white(found.sky.typical_sigma())
    } else {
        NoiseScales::measure(plane, &found.sky, Some(&found))
    };
    let own = f64::from(found.sky.typical_sigma()).max(f64::MIN_POSITIVE);
    // Errors were taken from pixels a few apart, as if these knew nothing of each other.
    let over = |pixels: f64| {
        let ratio = noise.at(pixels.sqrt()) / own;
        if ratio.is_finite() {
            ratio.max(1.0)
        } else {
            1.0
        }
    };
    let area = std::f64::consts::PI * (flux::APERTURE * found.fwhm_px).powi(2);
    let (of_flux, of_place) = (over(area), over(found.fwhm_px.powi(2)));
    for s in &mut found.stars {
        s.flux_sigma *= of_flux;
        s.position_sigma_px *= of_place;
    }
    found.growth = Growth::measure(plane, &found.stars, found.fwhm_px, &noise);
    found.noise = noise;
    found
}

/// The highest threshold, in steps of half a sigma from the wanted one down to the lowest, above which
/// there are enough candidates.
fn threshold(found: &[Candidate], settings: &Settings) -> f64 {
    let mut bar = settings.threshold_sigma;
    let above = |bar: f64| found.iter().filter(|c| f64::from(c.snr) > bar).count();
    while bar > settings.lowest_sigma && above(bar) < settings.enough {
        bar = (bar - 0.5).max(settings.lowest_sigma);
    }
    bar
}

fn is_constant(plane: &Plane) -> bool {
    let mut finite = plane.data().iter().filter(|v| v.is_finite());
    let first = finite.next();
    finite.all(|v| Some(v) == first)
}

/// The brightest stars, which tell the profile's exponent: the four tries on each are most of a first
/// look.
const STARS_FOR_BETA: usize = 50;

/// Bands that a first look takes, and more where they show less than so many stars.
const FEW_BANDS: usize = 3;
const MORE_BANDS: usize = 8;
const MANY_STARS: usize = 150;

/// Width, Moffat exponent and shape of the stars, from the brightest of a few bands.
fn typical_profile(plane: &Plane, sky: &SkyMesh, saturation: Option<f32>) -> (f64, f64, Shape) {
    // Some bands are enough for hundreds of stars on a large frame; a small one is taken whole.
    let every = |bands: usize| (find::bands(plane) / bands).max(1);
    let mut stride = every(FEW_BANDS);
    let mut width = FIRST_FWHM_PX;
    let mut beta = 3.5;
    let mut shape = Shape::ROUND;
    for round in 0..3 {
        let filter = MatchedFilter::shaped(width, shape);
        let mut found = find::find(plane, sky, &filter, 8.0, stride);
        if round == 0 && found.len() < MANY_STARS {
            stride = every(MORE_BANDS);
            found = find::find(plane, sky, &filter, 8.0, stride);
        }
        let bright: Vec<Candidate> = find::spread(found, plane, 4.0 * width, 400)
            .into_iter()
            .filter(|c| round == 0 || c.snr > TELLING_SNR)
            .filter(|c| !is_flat(plane, c, width, saturation))
            .take(120)
            .collect();
        let fits = |most: usize, width: f64, beta: f64| -> Vec<Profile> {
            bright[..most.min(bright.len())]
                .par_iter()
                .filter_map(|c| fit(plane, c, width, beta, saturation))
                .filter(|p| p.elongation < LONGEST)
                .collect()
        };
        let mut profiles = fits(bright.len(), width, beta);
        let of = |p: &Profile| Shape::of(p.elongation, p.angle_rad);
        let like = |p: &Profile, shape: Shape| of(p).less(shape).elongation() < MOST_ELONGATION;
        shape = Shape::common(&profiles.iter().map(of).collect::<Vec<_>>());
        profiles.retain(|p| like(p, shape));
        if profiles.len() < 5 {
            break;
        }
        let mut widths: Vec<f32> = profiles.iter().map(|p| p.fwhm_px.single()).collect();
        let next = f64::from(median(&mut widths)).clamp(FWHM_RANGE_PX.0, FWHM_RANGE_PX.1);
        let settled = (next / width - 1.0).abs() < 0.05;
        width = next;
        if settled || round == 1 {
            let misfit = |beta: f64| {
                let mut r: Vec<f32> = fits(STARS_FOR_BETA, width, beta)
                    .iter()
                    .filter(|p| like(p, shape))
                    .map(|p| (p.residual / p.amplitude).single())
                    .collect();
                median(&mut r)
            };
            // Seeing gives 2.5 to 5; far above, the profile is a Gaussian.
            beta = [2.5, 3.5, 5.0, 10.0]
                .into_iter()
                .map(|b| (misfit(b), b))
                .filter(|(m, _)| m.is_finite())
                .min_by(|a, b| a.0.total_cmp(&b.0))
                .map_or(beta, |(_, b)| b);
            break;
        }
    }
    (width, beta, shape)
}

fn fit(
    plane: &Plane,
    c: &Candidate,
    width: f64,
    beta: f64,
    saturation: Option<f32>,
) -> Option<Profile> {
    let ceiling = saturation.map_or(f32::INFINITY, |s| 0.98 * s);
    profile::fit(
        plane,
        Point::new(c.x.real(), c.y.real()),
        width,
        beta,
        ceiling,
    )
}

/// Does the core reach the saturation level, or is it flat where a star's never is?
fn is_flat(plane: &Plane, c: &Candidate, width: f64, saturation: Option<f32>) -> bool {
    let peak = peak(plane, c);
    if saturation.is_some_and(|s| peak >= 0.98 * s) {
        return true;
    }
    // Below this, three per cent of the height are less than the noise.
    if c.snr < LEAST_SNR_FLAT {
        return false;
    }
    let r = (0.75 * width).ceil().whole();
    let (x, y) = (c.x.whole(), c.y.whole());
    let bar = peak - 0.03 * c.amplitude.max(0.0);
    let high = (-r..=r)
        .flat_map(|dy| (-r..=r).map(move |dx| (dx, dy)))
        .filter(|(dx, dy)| plane.at(x + dx, y + dy) >= bar)
        .count();
    // A Gaussian core stays above 97 % of its height over 0.034 FWHM^2 pixels.
    high.real() > (3.0 * 0.034 * width * width).max(4.0)
}

fn peak(plane: &Plane, c: &Candidate) -> f32 {
    let (x, y) = (c.x.whole(), c.y.whole());
    (-1..=1)
        .flat_map(|dy| (-1..=1).map(move |dx| (dx, dy)))
        .map(|(dx, dy)| plane.at(x + dx, y + dy))
        .fold(f32::NEG_INFINITY, f32::max)
}

fn measure(
    plane: &Plane,
    sky: &SkyMesh,
    c: &Candidate,
    width: f64,
    beta: f64,
    saturation: Option<f32>,
    scratch: &mut flux::Scratch,
) -> Option<Star> {
    let mut flags = Flags::default();
    if is_flat(plane, c, width, saturation) {
        flags.set(Flag::Saturated);
    }
    let p = fit(plane, c, width, beta, saturation)?;
    let light = flux::aperture(plane, p.at, width, scratch)?;
    let reach = width;
    let size = plane.size();
    let cut = p.at.x < reach
        || p.at.y < reach
        || p.at.x > size.width().real() - 1.0 - reach
        || p.at.y > size.height().real() - 1.0 - reach;
    if light.incomplete || cut {
        flags.set(Flag::Edge);
    }
    let noise = f64::from(sky.sigma_at(p.at));
    Some(Star {
        at: p.at,
        flux: light.flux,
        flux_sigma: light.sigma,
        amplitude: p.amplitude,
        peak: peak(plane, c),
        fwhm_px: p.fwhm_px,
        elongation: p.elongation,
        angle_rad: p.angle_rad,
        // The bound for a Gaussian in white noise, sqrt(2/pi) noise / amplitude (Cramér-Rao);
        // what the fit leaves of a bright star counts as noise too.
        position_sigma_px: 0.8 * noise.max(p.residual) / p.amplitude,
        flags,
    })
}

/// Drops what is no star, flags blends, and sums up.
fn collect(
    mut stars: Vec<Star>,
    (width, beta): (f64, f64),
    shape: Shape,
    sky: SkyMesh,
    saturation: Option<f32>,
) -> Catalogue {
    let middle = |stars: &[Star], of: fn(&Star) -> f64| {
        let mut clean: Vec<f32> = stars
            .iter()
            .filter(|s| s.flags.is_clean() && s.flux > 15.0 * s.flux_sigma)
            .map(|s| of(s).single())
            .collect();
        if clean.len() < 5 {
            clean = stars.iter().map(|s| of(s).single()).collect();
        }
        f64::from(median(&mut clean))
    };
    let typical = if stars.is_empty() {
        width
    } else {
        middle(&stars, |s| s.fwhm_px)
    };
    let shapes = Shapes::over(&stars, shape);
    stars.retain(|s| shapes.allow(s, typical));
    stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    flag_blends(&mut stars, 2.0 * typical);
    let saturation = saturation.or_else(|| flat_level(&stars, sky.typical_level()));
    Catalogue {
        fwhm_px: middle(&stars, |s| s.fwhm_px),
        elongation: middle(&stars, |s| s.elongation),
        found: stars.len(),
        threshold_sigma: 0.0,
        beta,
        noise: NoiseScales::white(sky.typical_sigma()),
        growth: None,
        stars,
        sky,
        saturation,
    }
}

/// The level at which the highest flat cores end, when enough of them agree on one.
fn flat_level(stars: &[Star], sky: f32) -> Option<f32> {
    let flat = stars.iter().filter(|s| s.flags.has(Flag::Saturated));
    let peaks: Vec<f32> = flat.map(|s| s.peak).collect();
    let top = peaks.iter().copied().max_by(f32::total_cmp)?;
    let near: Vec<f32> = peaks
        .into_iter()
        .filter(|p| *p >= top - FLAT_AGREE * (top - sky))
        .collect();
    (near.len() >= LEAST_FLAT).then(|| near.into_iter().fold(top, f32::min))
}

fn flag_blends(stars: &mut [Star], within: f64) {
    let mut order: Vec<usize> = (0..stars.len()).collect();
    order.sort_by(|a, b| stars[*a].at.x.total_cmp(&stars[*b].at.x));
    for i in 0..order.len() {
        for j in i + 1..order.len() {
            let (a, b) = (order[i], order[j]);
            if stars[b].at.x - stars[a].at.x > within {
                break;
            }
            if stars[a].at.distance(stars[b].at) < within {
                // A companion of less than 1 % of the light does not matter.
                if stars[b].flux > 0.01 * stars[a].flux {
                    stars[a].flags.set(Flag::Blended);
                }
                if stars[a].flux > 0.01 * stars[b].flux {
                    stars[b].flags.set(Flag::Blended);
                }
            }
        }
    }
}

/// Light of the star at a place in an aperture of 1.8 widths above the sky of a ring around, and its error. `None`
/// where the ring or the aperture lacks pixels.
pub fn star_flux(plane: &Plane, at: Point<FramePx>, fwhm_px: f64) -> Option<(f64, f64)> {
    let found = aperture(plane, at, fwhm_px, &mut ApertureScratch::default())?;
    (!found.incomplete).then_some((found.flux, found.sigma))
}

impl Catalogue {
    /// The distance from a star at which its light falls below `sigmas` noise widths, by the frame's profile; at most
    /// `widths` times the stars' width.
    pub fn reach_px(&self, star: &Star, sigmas: f64, widths: f64) -> f64 {
        let noise = f64::from(self.sky.typical_sigma()).max(f64::MIN_POSITIVE);
        let reach = moffat::reach(self.fwhm_px, self.beta, star.amplitude / (sigmas * noise));
        reach.min(widths * self.fwhm_px)
    }

    /// Stars without a flag.
    pub fn clean(&self) -> impl Iterator<Item = &Star> {
        self.stars.iter().filter(|s| s.flags.is_clean())
    }
}
