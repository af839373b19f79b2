//! What is done to one picture: each step's settings, and what was measured for it.
//!
//! The order is fixed: gradient, neutral sky, white, green, denoise, deconvolution; then range compression and the stretch, the one door from linear
//! light to the screen; then local contrast, saturation, stars, sharpness. All that a step needs to know of the
//! whole picture is measured once, so that a piece is worked on alone ([`super::develop`]).

use crate::number::Convert;
use rayon::prelude::*;

use super::contrast::{Contrast, lift_row};
use super::cores::{Core, cores};
use super::covered::covered_rect;
use super::deconvolve::Deconvolution;
use super::denoise::{self, Noise, Quiet};
use super::detail::{Detail, finest_in_the_dark};
use super::green::Green;
use super::level::{Level, sample, subtract};
use super::neutral::{ChannelSky, SkyFrom, skies};
use super::overview::{Overview, Sources};
use super::range::RangeCompression;
use super::saturation::Saturation;
use super::settings::{Crop, FinishSettings, PlanError, WhiteFrom};
use super::small::{between, flat, range};
use super::spared::Spared;
use super::step::Step;
use super::stretch::Stretch;
use super::tile::{Tile, mirror, pieces};
use super::white::{StarColour, White, from_catalogue, from_patch, from_stars, star_colours};
use crate::doors::DoorError;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad};
use crate::space::Rect;
use crate::wcs::Wcs;

/// A picture's steps, measured.
#[derive(Debug, Clone, PartialEq)]
pub struct Plan {
    /// What stays of the picture.
    pub rect: Rect,
    /// What was found.
    pub found: Found,
    factor: usize,
    levels: [Level; 3],
    cores: Vec<Core>,
    green: Green,
    noise: Option<Noise>,
    quiet: Quiet,
    deconvolution: Option<Deconvolution>,
    range: Option<RangeCompression>,
    stretch: Stretch,
    contrast: Option<Contrast>,
    saturation: Saturation,
    /// The part of the stars' light that stays.
    pub stars: f32,
    /// Does it end in linear light?
    pub ends_linear: bool,
    sharpen: Detail,
    spared: Spared,
    bright: Spared,
    last: Step,
}

/// What measuring has found, to be told.
#[derive(Debug, Clone, PartialEq)]
pub struct Found {
    /// The channels' skies.
    pub skies: [ChannelSky; 3],
    /// White, if it was looked for.
    pub white: Option<White>,
    /// Colours of stars as they come, before any white.
    pub star_colours: Vec<StarColour>,
    /// Width of the stars, 0 without any.
    pub fwhm_px: f64,
    /// Stars whose cores got their colour back.
    pub cores: usize,
    /// Noise of a pixel's brightness.
    pub noise: f32,
    /// Black and white of each channel, above its sky.
    pub points: [(f32, f32); 3],
    /// Pixels from all over, above the sky and white, for histograms.
    pub sample: Vec<[f32; 3]>,
}

/// What stays of the picture.
fn kept(overview: &Overview, crop: Crop) -> Result<Rect, PlanError> {
    let rect = match crop {
        Crop::None => overview.size.rect(),
        Crop::Covered => covered_rect(
            &overview.covered,
            overview.small[0].size().width(),
            overview.factor,
            overview.size,
        )
        .ok_or(PlanError::Nothing)?,
        Crop::To(r) => r.intersect(overview.size.rect()),
    };
    if rect.is_empty() {
        return Err(PlanError::Outside);
    }
    Ok(rect)
}

impl Plan {
    /// Measures what the steps need.
    ///
    /// # Errors
    /// When the picture cannot be read or has nothing to finish, or when what is asked for is not to be had.
    pub fn measure(
        sources: Sources<'_>,
        overview: &Overview,
        settings: &FinishSettings,
        wcs: Option<&Wcs>,
    ) -> Result<Self, PlanError> {
        let rect = kept(overview, settings.crop)?;
        let darkest = SkyFrom::Darkest;
        let skies = skies(
            overview,
            settings.gradient.as_ref(),
            settings.neutral.as_ref().unwrap_or(&darkest),
        );
        let lowest = skies.iter().map(|s| s.level).fold(f32::INFINITY, f32::min);
        let star_colours = match &overview.stars {
            Some(stars) if settings.white != WhiteFrom::AsItIs => star_colours(sources, stars)?,
            _ => Vec::new(),
        };
        let fwhm_px = overview.stars.as_ref().map_or(0.0, |s| s.fwhm_px);
        let white = match &settings.white {
            WhiteFrom::AsItIs => None,
            WhiteFrom::Stars => from_stars(&star_colours).ok(),
            WhiteFrom::Patch(r) => Some(from_patch(sources, *r, &skies, overview.factor)??),
            WhiteFrom::Catalogue { known, index } => {
                let wcs = wcs.ok_or(PlanError::NoWcs)?;
                Some(from_catalogue(&star_colours, known, *index, wcs, fwhm_px)?)
            }
        };
        let gains = white.as_ref().map_or([1.0; 3], |w| w.gains);
        let levels: [Level; 3] = std::array::from_fn(|c| Level {
            sky: skies[c].clone(),
            common: if settings.neutral.is_some() {
                skies[c].level
            } else {
                lowest
            },
            gain: gains[c],
        });
        let cores = match &overview.stars {
            Some(stars) => cores(sources, stars, &|c, v| gains[c] * (v - levels[c].sky.level))?,
            None => Vec::new(),
        };
        let range = range(overview, &levels, settings.range_compression, fwhm_px);
        let sample = sample(sources, rect, &levels, overview.factor, range.as_ref())?;
        let zero = settings.neutral.is_some().then_some(0.0);
        let between = between(overview, &levels, range.as_ref(), (rect, fwhm_px));
        let stretch =
            Stretch::toned(&sample, &between, &settings.tone, zero).ok_or(PlanError::Nothing)?;
        let mut plan = Self {
            rect,
            found: Found {
                skies,
                white,
                star_colours,
                fwhm_px,
                cores: cores.len(),
                noise: 0.0,
                points: stretch.points(),
                sample,
            },
            factor: overview.factor,
            levels,
            cores,
            green: Green {
                amount: settings.green,
                noise: 0.0,
            },
            noise: None,
            quiet: settings.quiet,
            deconvolution: None,
            range,
            stretch,
            contrast: None,
            saturation: Saturation {
                all: settings.saturation,
                hues: settings.hues.clone(),
                sky: settings.tone.sky,
                rise: 0.12,
            },
            stars: settings.stars,
            ends_linear: settings.linear,
            sharpen: Detail::sharper(0.0, 0.0),
            spared: overview.stars.as_ref().map(Spared::of).unwrap_or_default(),
            bright: overview
                .stars
                .as_ref()
                .map(Spared::bright)
                .unwrap_or_default(),
            last: Step::Sharpen,
        };
        plan.measure_noise(sources, settings, overview)?;
        if settings.contrast > 0.0 {
            plan.contrast = Some(plan.contrast_map(overview, settings.contrast));
        }
        Ok(plan)
    }

    /// Noise in linear light and on the screen, from pieces of the picture.
    fn measure_noise(
        &mut self,
        sources: Sources<'_>,
        settings: &FinishSettings,
        overview: &Overview,
    ) -> Result<(), PlanError> {
        let mut tiles = Vec::new();
        for rect in pieces(self.rect) {
            let mut tile = Tile::default();
            self.load(sources, rect, &mut tile)?;
            self.level(&mut tile);
            tiles.push(tile);
        }
        self.noise = Noise::measure(&mut tiles);
        if let Some(n) = &self.noise {
            self.green.noise = n.green_excess;
            self.found.noise = n.brightness;
        }
        if settings.deconvolution_rounds > 0
            && let Some(stars) = &overview.stars
        {
            let fwhm = stars.fwhm_px;
            self.deconvolution = Some(Deconvolution::new(
                fwhm,
                stars.beta,
                settings.deconvolution_rounds,
                self.found.noise,
            ));
        }
        let mut dark: Vec<f32> = Vec::new();
        for tile in tiles.iter_mut().take(4) {
            self.linear_steps(tile);
            self.to_screen(tile);
            dark.extend(finest_in_the_dark(tile));
        }
        let noise = if dark.is_empty() {
            0.0
        } else {
            mad(&mut dark, 0.0) * MAD_TO_SIGMA.single()
        };
        self.sharpen = Detail::sharper(settings.sharpen, noise.max(1e-5));
        Ok(())
    }

    /// Local contrast from the small copy, as the screen shows it.
    fn contrast_map(&self, overview: &Overview, part: f32) -> Contrast {
        let k = overview.factor.real();
        let flat = flat(overview, &self.levels);
        let size = flat[0].size();
        let mut light = Plane::filled(size, 0.0);
        let width = size.width();
        let rows = light.data_mut().par_chunks_mut(width).enumerate();
        rows.for_each(|(y, out)| {
            let held = |x: usize| {
                let range = self.range.as_ref();
                range.map_or(1.0, |t| t.of_small(y * width + x))
            };
            let [mut r, mut g, mut b] = std::array::from_fn(|c| -> Vec<f32> {
                let l = &self.levels[c];
                let row = flat[c].row(y).iter().enumerate();
                row.map(|(x, v)| held(x) * l.gain * (v - l.common))
                    .collect()
            });
            self.stretch.apply_to_rows(&mut r, &mut g, &mut b);
            for (((o, r), g), b) in out.iter_mut().zip(r).zip(g).zip(b) {
                *o = (r + g + b) / 3.0;
            }
        });
        // The noise of a mean of many pixels, as steep as the curve is at the sky.
        let grey = |v: f32| {
            let shown = self.stretch.apply([v; 3]).0;
            (shown[0] + shown[1] + shown[2]) / 3.0
        };
        let noise = self.found.noise / k.single();
        let on_screen = (grey(noise) - grey(-noise)).abs() / 2.0;
        Contrast::new(&light, overview.factor, part, on_screen.max(1e-5))
    }

    /// Pixels that a piece must have around it while its light is linear; [`Self::screen_border`] of them are still
    /// needed on the screen.
    pub fn border(&self) -> usize {
        let mut border = Self::screen_border();
        if self.noise.is_some() && self.quiet.acts() {
            border += denoise::border();
        }
        border + self.deconvolution.as_ref().map_or(0, Deconvolution::border)
    }

    /// Pixels that a piece must have around it on the screen.
    pub const fn screen_border() -> usize {
        Detail::border()
    }

    /// The same plan, ended after a step.
    #[must_use]
    pub fn until(&self, last: Step) -> Self {
        Self {
            last,
            ends_linear: false,
            ..self.clone()
        }
    }

    /// Is this step one that changes the picture?
    pub fn acts(&self, step: Step) -> bool {
        if self.ends_linear && step >= Step::Range && step != Step::Stars {
            return false;
        }
        match step {
            Step::Start => true,
            Step::Gradient => self.levels.iter().any(|l| !l.sky.gradient.is_zero()),
            Step::Neutral => self.levels.iter().any(|l| l.common == l.sky.level),
            Step::White => self.found.white.is_some(),
            Step::Green => self.green.amount > 0.0,
            Step::Denoise => self.noise.is_some() && self.quiet.acts(),
            Step::Deconvolve => self.deconvolution.is_some(),
            Step::Range => self.range.is_some(),
            Step::Contrast => self.contrast.is_some(),
            Step::Saturation => self.saturation.acts(),
            Step::Stars => self.stars != 1.0,
            Step::Sharpen => self.sharpen.acts(),
        }
    }

    /// Reads a piece of the picture, border and all; beyond the picture's edges it is mirrored.
    ///
    /// # Errors
    /// When a plane cannot be read.
    pub fn load(&self, sources: Sources<'_>, rect: Rect, tile: &mut Tile) -> Result<(), DoorError> {
        tile.set(rect);
        let inside = rect.intersect(sources[0].size().rect());
        if inside == rect {
            for (source, plane) in sources.iter().zip(&mut tile.planes) {
                source.read(rect, plane)?;
            }
        } else {
            let mut part = vec![0.0; inside.area()];
            for (source, plane) in sources.iter().zip(&mut tile.planes) {
                source.read(inside, &mut part)?;
                mirror(&part, inside, rect, plane);
            }
        }
        self.spared.mark(rect, &mut tile.stars);
        Ok(())
    }

    /// All steps in linear light on a piece that was loaded.
    pub fn linear(&self, tile: &mut Tile) {
        self.level(tile);
        self.linear_steps(tile);
    }

    fn linear_steps(&self, tile: &mut Tile) {
        if self.last >= Step::Green && self.green.amount > 0.0 {
            let how = self.green;
            tile.each(|rgb| Green::hold(rgb, how));
        }
        if let Some(n) = &self.noise
            && self.last >= Step::Denoise
        {
            n.take_from(tile, self.quiet);
        }
        if let Some(how) = &self.deconvolution
            && self.last >= Step::Deconvolve
        {
            how.sharpen(tile, &self.bright);
        }
    }

    /// From linear light to the screen, with contrast and colour; black where a channel is missing.
    pub fn to_screen(&self, tile: &mut Tile) {
        let rect = tile.rect.unwrap_or(Rect {
            x: 0,
            y: 0,
            width: tile.width,
            height: 0,
        });
        if let Some(range) = &self.range
            && self.last >= Step::Range
        {
            let mut factors = vec![1.0; rect.width];
            for y in 0..rect.height {
                range.row(rect.x, rect.y + y.whole(), &mut factors);
                let row = y * rect.width..(y + 1) * rect.width;
                for plane in &mut tile.planes {
                    for (v, f) in plane[row.clone()].iter_mut().zip(&factors) {
                        *v *= f;
                    }
                }
            }
        }
        let [r, g, b] = &mut tile.planes;
        self.stretch.apply_to_rows(r, g, b);
        if let Some(contrast) = &self.contrast
            && self.last >= Step::Contrast
        {
            let mut factors = vec![1.0; rect.width];
            for y in 0..rect.height {
                contrast.row(rect.x, rect.y + y.whole(), &mut factors);
                lift_row(tile, y * rect.width, &factors);
            }
        }
        if self.saturation.acts() && self.last >= Step::Saturation {
            let [r, g, b] = &mut tile.planes;
            for i in 0..r.len() {
                [r[i], g[i], b[i]] = self.saturation.apply([r[i], g[i], b[i]], tile.stars[i]);
            }
        }
    }

    /// What stays of the picture as it comes, stretched and small: its width, and its pixels as they are stored.
    pub fn small_before(&self, overview: &Overview) -> (usize, Vec<f32>) {
        let k = overview.factor.whole();
        let size = overview.small[0].size();
        let r = self.rect;
        let kept = Rect {
            x: r.x / k,
            y: r.y / k,
            width: (r.width / overview.factor).max(1),
            height: (r.height / overview.factor).max(1),
        }
        .intersect(size.rect());
        let lowest = self
            .levels
            .iter()
            .map(|l| l.sky.level)
            .fold(f32::INFINITY, f32::min);
        let mut out = vec![0.0; 3 * kept.area()];
        let columns = kept.x.index()..kept.right().index();
        let rows = out.par_chunks_exact_mut(3 * kept.width).enumerate();
        rows.for_each(|(i, out)| {
            let [mut r, mut g, mut b] = overview.small.each_ref().map(|p| -> Vec<f32> {
                let row = &p.row(kept.y.index() + i)[columns.clone()];
                row.iter().map(|v| v - lowest).collect()
            });
            self.stretch.apply_to_rows(&mut r, &mut g, &mut b);
            for (((o, r), g), b) in out.chunks_exact_mut(3).zip(r).zip(g).zip(b) {
                o.copy_from_slice(&[r, g, b]);
            }
        });
        (kept.width, out)
    }

    /// What comes last on the screen.
    pub fn last_steps(&self, tile: &mut Tile) {
        if self.last >= Step::Sharpen {
            self.sharpen.lift(tile);
        }
    }

    /// A picture with its stars and the same without, both on the screen: the part of the stars that stays.
    pub fn with_fewer_stars(&self, tile: &mut Tile, starless: &Tile) {
        if self.last < Step::Stars {
            return;
        }
        for (plane, without) in tile.planes.iter_mut().zip(&starless.planes) {
            for (v, w) in plane.iter_mut().zip(without) {
                *v = w + self.stars * (*v - w);
            }
        }
    }

    /// Sky and gain of a piece, and the colour of saturated cores.
    fn level(&self, tile: &mut Tile) {
        let Some(rect) = tile.rect else { return };
        let (gradient, neutral, white) = (
            self.last >= Step::Gradient,
            self.last >= Step::Neutral,
            self.last >= Step::White,
        );
        let lowest = self
            .levels
            .iter()
            .map(|l| l.sky.level)
            .fold(f32::INFINITY, f32::min);
        for (l, plane) in self.levels.iter().zip(&mut tile.planes) {
            let sky = if neutral { l.common } else { lowest };
            let gain = if white { l.gain } else { 1.0 };
            if gradient && !l.sky.gradient.is_zero() {
                subtract(&l.sky, self.factor, rect, plane);
            }
            for v in plane.iter_mut() {
                *v = gain * (*v - sky);
            }
        }
        if white {
            for core in &self.cores {
                core.paint(tile);
            }
        }
    }
}
