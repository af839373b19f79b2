//! A picture taken apart into its stars and what lies behind them.
//!
//! Each star's light is modelled by the profile that the picture's own stars have, in each plane on its own, and
//! taken off as far as it reaches; so the sky under its wings stays what it was, noise and all. Where the star
//! stands so high that a few per cent of it matter, the sky cannot be known any more: those pixels are filled from
//! around them, with the grain of a place nearby. `profile` measures the profile, `light` each star's own light,
//! `fill` makes up what is missing.
//!
//! Classical methods only, and their limits: what is not found as a star stays (a star that hides in a bright knot, a double
//! that is seen as one elongated thing loses only a part), a knot that is taken for a star goes; and a bright halo over
//! nebula cannot be told from the nebula: some of one stays with the other.

mod ellipse;
mod fill;
mod fit;
mod halo;
mod light;
mod measure;
mod middle;
mod noise;
mod plateau;
mod profile;
mod rings;
mod window;

use rayon::prelude::*;

use crate::doors::{DoorError, FrameSource};
use crate::finish::smooth;
use crate::plane::Plane;
use crate::space::{FramePx, Point, Rect};
use crate::stars::{
    Catalogue, DetectError, Settings, SkyMesh, Star, WIDEST_PX, detect, detect_more,
};
use fill::{Patch, bridged, fill};
use light::StarLight;
use measure::Shared;
use profile::Profiles;
use window::Window;

/// The planes of a picture: one or three.
pub type Planes<'a> = &'a [&'a dyn FrameSource];

/// Rows of a band.
const BAND: usize = 256;

/// Rows around a band that are in memory with it: no star is modelled farther out, nor filled more than half as
/// far.
const MARGIN: usize = 144;

/// A picture's stars, measured: ready to be taken out.
#[derive(Debug)]
pub struct Stars {
    shared: Shared,
    /// From top to bottom.
    lights: Vec<StarLight>,
    /// How far the widest star reaches.
    reach: f64,
    /// Things that are too wide for stars and were not measured as such.
    wide: usize,
    /// Do filled places get the grain of their surroundings? They should in a picture without stars; not where the stars'
    /// own light is wanted, to which it would add its noise.
    pub grain: bool,
}

impl Stars {
    /// Measures the profile of the stars and the light of each, in every plane.
    ///
    /// # Errors
    /// When a plane cannot be read.
    pub fn measure(planes: Planes<'_>, catalogue: &Catalogue) -> Result<Self, DoorError> {
        let mut stars = Self {
            shared: Shared::measure(planes, catalogue)?,
            lights: Vec::new(),
            reach: 0.0,
            wide: 0,
            grain: true,
        };
        stars.add(planes, &catalogue.stars)?;
        Ok(stars)
    }

    /// Adds stars that were overlooked; of the others those beside them are measured again.
    fn add(&mut self, planes: Planes<'_>, more: &[Star]) -> Result<(), DoorError> {
        self.shared.add(planes, &mut self.lights, more)?;
        self.reach = measure::reach(&self.lights);
        Ok(())
    }

    /// How many stars are taken out.
    pub fn count(&self) -> usize {
        self.lights.iter().filter(|s| s.reach > 0.0).count()
    }

    /// How many of them leave a place to be filled.
    pub fn filled(&self) -> usize {
        self.lights.iter().filter(|s| s.hole > 0.0).count()
    }

    /// How many things were found that may be no stars: wider than any, they stay.
    pub fn doubtful(&self) -> usize {
        self.wide + self.lights.iter().filter(|s| s.doubtful).count()
    }

    /// Noise of a pixel in each plane.
    pub fn noise(&self) -> &[f32] {
        &self.shared.noise
    }

    /// Does a place lie where a star hides what is behind it?
    fn hides(&self, at: Point<FramePx>) -> bool {
        let far = 0.5 * MARGIN as f64;
        let first = self.lights.partition_point(|s| s.at.y < at.y - far);
        self.lights[first..]
            .iter()
            .take_while(|s| s.at.y <= at.y + far)
            .any(|s| s.at.distance(at) < s.hole.max(1.0))
    }

    /// The places that were filled: middle and radius.
    pub fn holes(
        &self,
    ) -> impl Iterator<Item = (crate::space::Point<crate::space::FramePx>, f64)> + '_ {
        self.lights
            .iter()
            .filter(|s| s.hole > 0.0)
            .map(|s| (s.at, s.hole))
    }

    /// Takes the stars out. `band` gets rows from the first stored on: where they lie, the picture's planes, and the
    /// same without stars.
    ///
    /// # Errors
    /// When a plane cannot be read, or what `band` says.
    pub fn take_out<E: From<DoorError>>(
        &self,
        planes: Planes<'_>,
        mut band: impl FnMut(Rect, &[&[f32]], &[&[f32]]) -> Result<(), E>,
    ) -> Result<(), E> {
        let (width, height) = (self.shared.size.width(), self.shared.size.height());
        let (mut window, mut behind) = (Window::default(), Window::default());
        let mut patches: Vec<(usize, Patch)> = Vec::new();
        let mut done = 0;
        for top in (0..height).step_by(BAND) {
            window.read(planes, self.shared.size, top, BAND, MARGIN)?;
            let rows = BAND.min(height - top);
            let fresh = behind.follow(&window);
            self.shared
                .take(&self.lights, self.reach, &mut behind, fresh);
            // Stars whose hole may reach into this band and that no band before has filled.
            let until = self
                .lights
                .partition_point(|s| s.at.y < (top + rows) as f64 + 0.5 * MARGIN as f64);
            let fresh: Vec<(usize, Patch)> = (done..until)
                .into_par_iter()
                .filter(|i| self.lights[*i].hole > 0.0)
                .filter_map(|i| {
                    Some((
                        i,
                        fill(
                            i,
                            &self.lights,
                            &behind,
                            (&self.shared.noise, &self.shared.grains),
                            self.grain,
                        )?,
                    ))
                })
                .collect();
            done = until.max(done);
            patches.extend(fresh);
            let inside = Rect {
                x: 0,
                y: top as i64,
                width,
                height: rows,
            };
            let mut out: Vec<Vec<f32>> = (0..planes.len())
                .map(|p| behind.rows(p, inside).to_vec())
                .collect();
            for (_, patch) in &patches {
                patch.put(inside, &mut out);
            }
            // Rays are bridged, and holes that nothing else could be made up for; a pixel that was never known stays so.
            for (p, plane) in out.iter_mut().enumerate() {
                let grain = self.shared.grains[p];
                let known = window.rows(p, inside);
                let lines = plane.par_chunks_mut(width).zip(known.par_chunks(width));
                lines.enumerate().for_each(|(j, (line, known))| {
                    let y = (top + j) as i64;
                    for (x, (v, o)) in line.iter_mut().zip(known).enumerate() {
                        if o.is_nan() {
                            *v = f32::NAN;
                        } else if v.is_nan() {
                            let x = x as i64;
                            let made = if self.grain { grain.at(x, y, p) } else { 0.0 };
                            *v = bridged(&behind, p, x, y).map_or(*o, |b| b + made);
                        }
                    }
                });
            }
            let originals: Vec<&[f32]> =
                (0..planes.len()).map(|p| window.rows(p, inside)).collect();
            let starless: Vec<&[f32]> = out.iter().map(Vec::as_slice).collect();
            band(inside, &originals, &starless)?;
            // Patches that end in this band are done with.
            patches.retain(|(_, p)| p.bottom() > (top + rows) as i64);
        }
        Ok(())
    }
}

/// A star's light in each plane with its error; `None` for too few pixels.
pub type StarFluxes = Option<Vec<(f64, f64)>>;

/// The exponent of the Moffat function that the wings of a plane's stars follow, from its bright stars. `None` where there are
/// too few.
///
/// # Errors
/// When the plane cannot be read.
pub fn wing_exponent(
    plane: &dyn FrameSource,
    catalogue: &Catalogue,
) -> Result<Option<f64>, DoorError> {
    let (noise, _) = noise::noise(&[plane], catalogue)?;
    let profiles = profile::measure(&[plane], catalogue, &noise)?;
    let of = |p: &Profiles| p.whole.exponent(catalogue.fwhm_px);
    Ok(profiles.first().and_then(of))
}

/// Light of stars in every plane and its error, by the profile that the plane's stars have: seeing that differs from plane to
/// plane does not matter. `None` for a star with too few pixels.
///
/// # Errors
/// When a plane cannot be read.
pub fn photometry(
    planes: Planes<'_>,
    catalogue: &Catalogue,
    stars: &[Star],
) -> Result<Vec<StarFluxes>, DoorError> {
    let (noise, _) = noise::noise(planes, catalogue)?;
    let profiles = profile::measure(planes, catalogue, &noise)?;
    let mut all: Vec<StarLight> = catalogue
        .stars
        .iter()
        .map(|s| StarLight::new(s, planes.len()))
        .collect();
    all.sort_by(|a, b| a.at.y.total_cmp(&b.at.y));
    let width = catalogue.fwhm_px;
    stars
        .par_iter()
        .map(|s| {
            let reach = (3.0 * width).ceil() as i64 + 1;
            let window = Window::around(
                planes,
                Rect {
                    x: s.at.x.round() as i64 - reach,
                    y: s.at.y.round() as i64 - reach,
                    width: (2 * reach + 1) as usize,
                    height: (2 * reach + 1) as usize,
                },
            )?;
            Ok(light::light(s, &window, &profiles, &noise, &all, width))
        })
        .collect()
}

/// Stars are looked for down to this height over the noise, and so many of them at the most.
const FIND_SIGMA: f64 = 4.0;
const MOST_STARS: usize = 60_000;

/// Why a picture cannot be taken apart.
#[derive(Debug, thiserror::Error)]
pub enum FindError {
    /// It cannot be read.
    #[error(transparent)]
    Source(#[from] DoorError),
    /// It has nothing to measure.
    #[error(transparent)]
    Detect(#[from] DetectError),
}

/// Finds and measures the stars of a picture, and once more what the first ones have hidden: the fainter of close
/// pairs.
///
/// # Errors
/// When a plane cannot be read, or holds nothing or one value only.
pub fn find(planes: Planes<'_>) -> Result<(Catalogue, Stars), FindError> {
    let size = planes[0].size();
    let settings = Settings {
        threshold_sigma: FIND_SIGMA,
        lowest_sigma: FIND_SIGMA,
        most: MOST_STARS,
        ..Settings::default()
    };
    let mut mean = Plane::filled(size, 0.0);
    let mut other = vec![0.0; if planes.len() > 1 { size.area() } else { 0 }];
    for (p, plane) in planes.iter().enumerate() {
        if p == 0 {
            plane.read(size.rect(), mean.data_mut())?;
        } else {
            plane.read(size.rect(), &mut other)?;
            for (m, v) in mean.data_mut().iter_mut().zip(&other) {
                *m += v;
            }
        }
    }
    drop(other);
    let share = 1.0 / planes.len() as f32;
    for m in mean.data_mut() {
        *m *= share;
    }
    let flat = without_nebula(&mean).ok_or(DetectError::NoData)?;
    let mut found = detect(&flat, None, &settings)?;
    drop(flat);
    if found.fwhm_px > WIDEST_PX {
        found.stars.clear();
        let none = Stars::measure(planes, &found)?;
        return Ok((found, none));
    }
    let overlooked = plateau::overlooked(&mean, &found);
    found.stars.extend(overlooked);
    found.stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    let mut stars = Stars::measure(planes, &found)?;
    // What is looked for next is no noise that was made up.
    stars.grain = false;
    stars.take_out(planes, |rect, _, starless| -> Result<(), DoorError> {
        let from = rect.y as usize * size.width();
        let rows = &mut mean.data_mut()[from..from + rect.area()];
        rows.fill(0.0);
        for plane in starless {
            for (m, v) in rows.iter_mut().zip(*plane) {
                *m += share * v;
            }
        }
        Ok(())
    })?;
    stars.grain = true;
    let Some(flat) = without_nebula(&mean) else {
        return Ok((found, stars));
    };
    drop(mean);
    // What is left after the first stars.
    let mut more = detect_more(&flat, &found, &settings);
    more.stars.retain(|s| !stars.hides(s.at));
    stars.wide = more.wide.iter().filter(|s| !stars.hides(s.at)).count();
    if !more.stars.is_empty() {
        stars.add(planes, &more.stars)?;
        found.stars.extend(more.stars);
        found.stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
    }
    Ok((found, stars))
}

/// Scales that are taken off before stars are looked for: nebulae of sixteen pixels and more.
const NEBULA_SCALES: usize = 4;

/// What stands higher than this over the sky, in its noise, is star or core for the nebula's sake.
const NEBULA_SIGMA: f32 = 8.0;

/// A picture less its larger structures, in which faint stars before a nebula can be found: the noise of a bright
/// nebula's folds would hide them.
pub fn without_nebula(mean: &Plane) -> Option<Plane> {
    let sky = SkyMesh::measure(mean)?;
    let size = mean.size();
    let width = size.width();
    let bar = NEBULA_SIGMA * sky.typical_sigma();
    let mut smoothed = vec![0.0f32; size.area()];
    smoothed.par_chunks_mut(width).enumerate().for_each_init(
        || vec![0.0; width],
        |level, (y, row)| {
            sky.level_row(y, level);
            for ((o, v), l) in row.iter_mut().zip(mean.row(y)).zip(level.iter()) {
                *o = if v.is_finite() { v.min(l + bar) } else { *l };
            }
        },
    );
    let (mut other, mut spare) = (smoothed.clone(), smoothed.clone());
    for j in 0..NEBULA_SCALES {
        smooth(&smoothed, &mut other, &mut spare, width, 1 << j);
        std::mem::swap(&mut smoothed, &mut other);
    }
    for (s, v) in smoothed.iter_mut().zip(mean.data()) {
        *s = v - *s;
    }
    Plane::new(size, smoothed)
}
