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
mod removal;
mod rings;
mod search;
mod window;

use crate::number::Convert;
use rayon::prelude::*;

use crate::doors::{DoorError, FrameSource};
use crate::space::{FramePx, Point, Rect};
use crate::stars::{Catalogue, Star};
use light::StarLight;
use measure::Shared;
use profile::Profiles;
use window::{Window, Windows};

pub use removal::{Band, Removal};
pub use search::{FindError, find, find_with, without_nebula};

/// The planes of a picture: one or three.
pub type Planes<'a> = &'a [&'a dyn FrameSource];

/// Rows of a band.
const BAND: usize = 512;

/// Rows that are read at once, by one core.
const STRIP: usize = 32;

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
        Self::measure_in(planes, (catalogue, &[]), &mut Windows::default())
    }

    fn measure_in(
        planes: Planes<'_>,
        (catalogue, more): (&Catalogue, &[Star]),
        windows: &mut Windows,
    ) -> Result<Self, DoorError> {
        let shared = Shared::measure(planes, catalogue)?;
        Self::with(shared, planes, (&catalogue.stars, more), windows)
    }

    /// The same with a profile and a noise that are known.
    fn with(
        shared: Shared,
        planes: Planes<'_>,
        stars: (&[Star], &[Star]),
        windows: &mut Windows,
    ) -> Result<Self, DoorError> {
        let lights = shared.lights(planes, stars, windows)?;
        Ok(Self {
            reach: measure::reach(&lights),
            shared,
            lights,
            wide: 0,
            grain: true,
        })
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
        let far = 0.5 * MARGIN.real();
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
        let mut removal = self.removal(planes);
        while let Some(rows) = removal.next()? {
            let starless: Vec<&[f32]> = rows.starless.iter().map(|row| &**row).collect();
            band(rows.rect, &rows.picture, &starless)?;
        }
        Ok(())
    }

    /// The same, band by band at its caller's pace, as for several pictures of one canvas side by side.
    pub fn removal<'a>(&'a self, planes: Planes<'a>) -> Removal<'a> {
        Removal::new(self, planes)
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
            let reach = (3.0 * width).ceil().whole() + 1;
            let window = Window::around(
                planes,
                Rect {
                    x: s.at.x.round().whole() - reach,
                    y: s.at.y.round().whole() - reach,
                    width: (2 * reach + 1).index(),
                    height: (2 * reach + 1).index(),
                },
            )?;
            Ok(light::light(s, &window, &profiles, &noise, &all, width))
        })
        .collect()
}
