//! The light of all stars of a picture: each without that of its neighbours, and the brightest by what they alone have.

use crate::number::Convert;
use rayon::prelude::*;

use super::light::StarLight;
use super::noise::{self, Grain};
use super::profile::{self, Profiles};
use super::window::{Window, Windows};
use super::{BAND, MARGIN, Planes};
use crate::doors::{DoorError, FrameSource};
use crate::space::{FramePx, Point, Rect, Size};
use crate::stars::{Catalogue, Star};

/// Rounds in which the light of neighbours is told apart: those that were found first, those that they had hidden, and all
/// once more without the light of their neighbours.
#[derive(Clone, Copy, PartialEq)]
enum Round {
    First,
    Late,
    Again,
}

/// Rows for which the stars that reach them are looked up at once.
const BLOCK: usize = 16;

/// What all stars of a picture share.
#[derive(Debug)]
pub(super) struct Shared {
    pub(super) size: Size,
    /// Of each plane.
    pub(super) profiles: Vec<Profiles>,
    pub(super) noise: Vec<f32>,
    pub(super) grains: Vec<Grain>,
    /// The highest pixel of any star's core: where pixels are full, if any are.
    saturations: Vec<f32>,
    fwhm_px: f64,
}

/// How far the widest star reaches.
pub(super) fn reach(lights: &[StarLight]) -> f64 {
    lights.iter().map(StarLight::extent).fold(0.0, f64::max)
}

impl Shared {
    pub(super) fn measure(planes: Planes<'_>, catalogue: &Catalogue) -> Result<Self, DoorError> {
        let (noise, grains) = noise::noise(planes, catalogue)?;
        Ok(Self {
            size: planes[0].size(),
            profiles: profile::measure(planes, catalogue, &noise)?,
            noise,
            grains,
            saturations: saturations(planes, catalogue)?,
            fwhm_px: catalogue.fwhm_px,
        })
    }

    /// Measures the light of stars, and of `more` that these had hidden: from top to bottom.
    pub(super) fn lights(
        &self,
        planes: Planes<'_>,
        (stars, more): (&[Star], &[Star]),
        windows: &mut Windows,
    ) -> Result<Vec<StarLight>, DoorError> {
        let (picture, width) = ((planes, self.size), self.fwhm_px);
        let of = |s: &Star, late: bool| {
            let mut light = StarLight::new(s, planes.len());
            light.late = late;
            light
        };
        let first = stars.iter().map(|s| of(s, false));
        let mut lights: Vec<StarLight> = first.chain(more.iter().map(|s| of(s, true))).collect();
        lights.sort_by(|a, b| a.at.y.total_cmp(&b.at.y));
        of_bands(
            picture,
            windows,
            &mut lights,
            StarLight::is_saturated,
            |s, window| {
                s.centre(window, &self.saturations);
            },
        )?;
        lights.sort_by(|a, b| a.at.y.total_cmp(&b.at.y));
        // Pieces of one column that came to one middle are one star.
        lights.dedup_by(|a, b| a.is_saturated() && b.is_saturated() && a.at.distance(b.at) < width);
        for round in [Round::First, Round::Late, Round::Again] {
            let before = lights.clone();
            let wanted = |s: &StarLight| match round {
                Round::First => !s.late,
                Round::Late => s.late,
                Round::Again => !s.is_alone(&before, width),
            };
            of_bands(picture, windows, &mut lights, wanted, |s, window| {
                s.measure(
                    window,
                    &self.profiles,
                    (&self.noise, &self.saturations),
                    &before,
                    width,
                );
            })?;
        }
        absorb(&mut lights, &self.noise);
        self.halos(planes, &mut lights, windows)?;
        Ok(lights)
    }

    /// Measures what the brightest have besides the profile of all, in what is left without the others.
    fn halos(
        &self,
        planes: Planes<'_>,
        lights: &mut [StarLight],
        windows: &mut Windows,
    ) -> Result<(), DoorError> {
        let before = lights.to_vec();
        let far = reach(&before);
        windows.start();
        let Windows { seen, behind } = windows;
        for top in (0..self.size.height()).step_by(BAND) {
            let (from, to) = (
                lights.partition_point(|s| s.at.y < top.real() - 0.5),
                lights.partition_point(|s| s.at.y < (top + BAND).real() - 0.5),
            );
            let bright = |s: &&mut StarLight| s.is_bright(&self.noise);
            let mut some: Vec<&mut StarLight> =
                lights[from..to].iter_mut().filter(bright).collect();
            if some.is_empty() {
                continue;
            }
            seen.read(planes, self.size, top, BAND, MARGIN)?;
            let fresh = behind.follow(seen);
            self.take(&before, far, behind, fresh);
            let seen = (&*seen, &*behind);
            some.par_iter_mut().for_each(|s| {
                s.measure_halo(seen, &self.profiles, &self.noise, &before, self.fwhm_px);
            });
        }
        Ok(())
    }

    /// Takes all stars' modelled light off a window's rows from `first` on; their holes become missing. `far` is how far the
    /// widest reaches.
    pub(super) fn take(&self, lights: &[StarLight], far: f64, window: &mut Window, first: i64) {
        let width = self.size.width();
        for p in 0..window.planes() {
            let blocks = window.blocks_mut(p, first, BLOCK);
            blocks.for_each_init(Vec::new, |near, (top, block)| {
                let bottom = top + (block.len() / width).whole() - 1;
                let from = lights.partition_point(|s| s.at.y < top.real() - far);
                let to = lights.partition_point(|s| s.at.y <= bottom.real() + far);
                let reaching = |s: &&StarLight| {
                    let far = s.extent();
                    s.at.y + far >= top.real() && s.at.y - far <= bottom.real()
                };
                near.clear();
                let reaching = lights[from..to].iter().filter(reaching);
                near.extend(reaching.map(|s| (s, self.profiles[p].at(s.at))));
                for (y, row) in (top..).zip(block.chunks_exact_mut(width)) {
                    for (s, profile) in near.iter() {
                        s.take_from_row(p, profile, (0, y), row);
                    }
                }
            });
        }
    }
}

/// Does something with every star that is `wanted`, with the rows around it in memory.
fn of_bands(
    (planes, size): (Planes<'_>, Size),
    windows: &mut Windows,
    stars: &mut [StarLight],
    wanted: impl Fn(&StarLight) -> bool,
    each: impl Fn(&mut StarLight, &Window) + Sync,
) -> Result<(), DoorError> {
    windows.start();
    let window = &mut windows.seen;
    for top in (0..size.height()).step_by(BAND) {
        let (from, to) = (
            stars.partition_point(|s| s.at.y < top.real() - 0.5),
            stars.partition_point(|s| s.at.y < (top + BAND).real() - 0.5),
        );
        let here = stars[from..to].iter_mut().filter(|s| wanted(s));
        let mut here: Vec<&mut StarLight> = here.collect();
        if !here.is_empty() {
            window.read(planes, size, top, BAND, MARGIN)?;
            let shared = &*window;
            here.par_iter_mut().for_each(|s| each(s, shared));
        }
    }
    Ok(())
}

/// The highest pixel of any star's core in each plane: of those whose peaks are highest in the picture that they were found in.
fn saturations(planes: Planes<'_>, catalogue: &Catalogue) -> Result<Vec<f32>, DoorError> {
    let mut stars: Vec<&Star> = catalogue.stars.iter().collect();
    let cut = HIGHEST.min(stars.len());
    if cut < stars.len() {
        stars.select_nth_unstable_by(cut, |a, b| b.peak.total_cmp(&a.peak));
    }
    let core = |plane: &&dyn FrameSource| {
        let mut top = f32::MIN;
        let mut pixels = [0.0f32; 9];
        for s in &stars[..cut] {
            let middle = Rect {
                x: s.at.x.round().whole() - 1,
                y: s.at.y.round().whole() - 1,
                width: 3,
                height: 3,
            };
            let rect = middle.intersect(plane.size().rect());
            if rect.is_empty() {
                continue;
            }
            plane.read(rect, &mut pixels[..rect.area()])?;
            let known = pixels[..rect.area()].iter().filter(|v| v.is_finite());
            top = known.fold(top, |a, b| a.max(*b));
        }
        Ok(top)
    };
    planes.iter().map(core).collect()
}

/// Stars that are asked for the highest pixel: another one's is no higher in any plane, but for noise.
const HIGHEST: usize = 300;

/// What was found within the hole of a much brighter star is a part of it: a piece of its plateau, its column, its halo.
fn absorb(stars: &mut [StarLight], noise: &[f32]) {
    let bright: Vec<(Point<FramePx>, f64, Vec<f32>)> = stars
        .iter()
        .filter(|s| s.is_saturated() && s.is_bright(noise) && s.hole > 0.0)
        .map(|s| (s.at, s.hole, s.heights().to_vec()))
        .collect();
    for (at, hole, heights) in bright {
        let from = stars.partition_point(|s| s.at.y < at.y - hole);
        let to = stars.partition_point(|s| s.at.y <= at.y + hole);
        for s in &mut stars[from..to] {
            let fainter = s.heights().iter().zip(&heights).all(|(a, b)| a <= b);
            if s.at != at && s.at.distance(at) < hole && fainter {
                s.give_up();
            }
        }
    }
}
