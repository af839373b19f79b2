//! One frame of the made-up sky: everything that shapes it, its pixels, and the truth about it.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::Map;
use jigsawa_core::plane::Plane;
use jigsawa_core::space::{FramePx, Point, Size};
use rayon::prelude::*;
use serde::Serialize;

use crate::camera::Camera;
use crate::clouds::{Clouds, Glow};
use crate::glow::SkyGlow;
use crate::optics::{Optics, Profile};
use crate::pointing::{Pointing, SkyPx};
use crate::spoilt::Spoilt;
use crate::stars::{Crowd, SkyStar};

/// How a frame is taken.
#[derive(Debug, Clone)]
pub struct Shot {
    /// Through which filter.
    pub filter: Filter,
    /// Pixels.
    pub size: Size,
    /// Where to.
    pub pointing: Pointing,
    /// Through what optics and air.
    pub optics: Optics,
    /// With which camera.
    pub camera: Camera,
    /// Under which sky.
    pub glow: SkyGlow,
    /// Part of the light that passes the air; above 1 for exposures longer than the usual one.
    pub transparency: f64,
    /// What spoils it.
    pub spoilt: Spoilt,
    /// Sub-frames averaged in it.
    pub subs: u32,
    /// Of the noise.
    pub seed: u64,
}

/// A star as it is in a frame.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct StarTruth {
    /// Place on the plane.
    pub sky: (f64, f64),
    /// Centre in the frame.
    pub x: f64,
    /// Centre in the frame.
    pub y: f64,
    /// Its light, in the frame's units, without what a halo scatters.
    pub flux: f64,
    /// Is its brightest pixel full?
    pub saturated: bool,
}

/// What is true of a frame.
#[derive(Debug, Clone, Serialize)]
pub struct Truth {
    /// Canonical name of the filter.
    pub filter: String,
    /// Rows of the matrix from plane to frame pixels.
    pub sky_to_frame: [[f64; 3]; 3],
    /// Part of the light that passes the air.
    pub transparency: f64,
    /// Profile of a star.
    pub optics: Optics,
    /// Light of the sky in electrons.
    pub glow: SkyGlow,
    /// The camera.
    pub camera: Camera,
    /// What spoils it.
    pub spoilt: Spoilt,
    /// Sub-frames.
    pub subs: u32,
    /// Stars that fall on the frame, bright ones first.
    pub stars: Vec<StarTruth>,
}

/// A frame and the truth about it.
#[derive(Debug)]
pub struct Taken {
    /// The pixels.
    pub plane: Plane,
    /// The truth.
    pub truth: Truth,
}

/// Electrons for a sub-frame where a line's light is 1, through its narrow filter.
const LINE_ELECTRONS: f64 = 230.0;

/// Light of a pixel below this many electrons is not followed into a star's wings.
const LEAST_ELECTRONS: f64 = 0.02;

impl Shot {
    /// Where the sky's plane lies on the frame.
    pub fn map(&self) -> Map<SkyPx, FramePx> {
        let flat = self.pointing.map(self.size);
        match self.optics.distortion(self.size) {
            // A map that was never inverted takes a distortion.
            Some(distortion) => flat.clone().distorted(distortion).unwrap_or(flat),
            None => flat,
        }
    }

    /// The part of the plane that the frame covers, with a margin for the wings of stars outside.
    pub fn extent(&self) -> (f64, f64, f64, f64) {
        let back = self.map().invert();
        let margin = 60.0 / self.pointing.scale;
        let corners = self.size.corners::<FramePx>().map(|p| back.apply(p));
        let fold = |f: fn(f64, f64) -> f64, of: fn(&Point<SkyPx>) -> f64| {
            corners.iter().map(of).reduce(f).unwrap_or(0.0)
        };
        (
            fold(f64::min, |p| p.x) - margin,
            fold(f64::min, |p| p.y) - margin,
            fold(f64::max, |p| p.x) + margin,
            fold(f64::max, |p| p.y) + margin,
        )
    }

    /// The same light without noise, and in a camera whose pixels are never full: what a merge of exposures
    /// should find.
    pub fn truth(&self, crowd: &Crowd, clouds: Option<&Clouds>) -> Plane {
        let ideal = Self {
            camera: Camera {
                full_adu: f64::INFINITY,
                bloom: 0.0,
                read_noise_e: 0.0,
                numbers: crate::camera::Numbers::Float,
                ..self.camera
            },
            subs: u32::MAX,
            ..self.clone()
        };
        ideal.take(crowd, clouds).plane
    }

    /// Takes the frame of a crowd of stars, with a nebula or without.
    pub fn take(&self, crowd: &Crowd, clouds: Option<&Clouds>) -> Taken {
        let (mut electrons, stars) = self.light(crowd, clouds);
        let w = self.size.width();
        self.camera.overflow(electrons.data_mut(), w);
        self.camera
            .count(electrons.data_mut(), w, self.subs, self.seed);
        Taken {
            plane: electrons,
            truth: Truth {
                filter: self.filter.name().to_owned(),
                sky_to_frame: self.map().rows(),
                transparency: self.transparency,
                optics: self.optics,
                glow: self.glow,
                camera: self.camera,
                spoilt: self.spoilt,
                subs: self.subs,
                stars,
            },
        }
    }

    /// The light of a sub-frame before any camera counts it, in electrons, and its stars, bright ones first.
    pub fn light(&self, crowd: &Crowd, clouds: Option<&Clouds>) -> (Plane, Vec<StarTruth>) {
        let map = self.map();
        let back = map.invert();
        // A pixel collects light from its area of the plane.
        let area = 1.0 / (self.pointing.scale * self.pointing.scale);
        let (w, h) = (self.size.width(), self.size.height());
        let through = |p: Point<SkyPx>| clouds.map_or(1.0, |c| c.at(p.x, p.y).transmission);
        let mut stars: Vec<StarTruth> = crowd
            .over(self.extent())
            .iter()
            .map(|s| self.star(s, &map, through(Point::new(s.x, s.y))))
            .collect();
        let profile = self.optics.profile();
        let lit = self.lit(&stars, &profile);
        let mut electrons = vec![0.0f32; w * h];
        electrons
            .par_chunks_mut(w)
            .enumerate()
            .for_each(|(y, row)| {
                let v = (y.real() + 0.5) / h.real() - 0.5;
                for (x, pixel) in row.iter_mut().enumerate() {
                    let u = (x.real() + 0.5) / w.real() - 0.5;
                    let mut light = self.glow.at(u, v);
                    if let Some(clouds) = clouds {
                        let p = back.apply(Point::new(x.real(), y.real()));
                        light += self.transparency
                            * area
                            * LINE_ELECTRONS
                            * self.spoilt.passes(u)
                            * nebula(&self.filter, clouds.at(p.x, p.y));
                    }
                    if let Some(trail) = &self.spoilt.trail {
                        light += trail.light(x.real(), y.real(), (w.real(), h.real()));
                    }
                    *pixel = light.single();
                }
                self.add_stars(&lit, &profile, y, row);
            });
        stars.retain(|s| self.size.holds(Point::<FramePx>::new(s.x, s.y)));
        for s in &mut stars {
            let peak = profile.pixel(s.x.round() - s.x, s.y.round() - s.y) * s.flux;
            s.saturated = peak + self.camera.units(self.glow.level) >= self.camera.full_adu;
        }
        stars.sort_by(|a, b| b.flux.total_cmp(&a.flux));
        let plane =
            Plane::new(self.size, electrons).unwrap_or_else(|| Plane::filled(self.size, 0.0));
        (plane, stars)
    }

    fn star(&self, star: &SkyStar, map: &Map<SkyPx, FramePx>, through: f64) -> StarTruth {
        let at = map.apply(Point::new(star.x, star.y));
        let u = (at.x + 0.5) / self.size.width().real() - 0.5;
        let passes = self.transparency * self.spoilt.passes(u);
        let electrons = star.electrons(&self.filter) * passes * through;
        StarTruth {
            sky: (star.x, star.y),
            x: at.x,
            y: at.y,
            flux: electrons / self.camera.gain_e_adu,
            saturated: false,
        }
    }

    /// Adds what a halo scatters of one star to one row, which lies `dy` from its centre.
    fn add_halo(&self, electrons: f64, (x, dy): (f64, f64), row: &mut [f32]) {
        let Some(halo) = self.spoilt.halo else { return };
        let reach = 5.0 * halo.sigma_px;
        // What stays in the core is known; the halo has its part of the whole.
        let all = electrons / (1.0 - halo.part);
        if dy.abs() > reach || all * halo.pixel(0.0, dy) < LEAST_ELECTRONS {
            return;
        }
        let from = (x - reach).ceil().max(0.0).index();
        let to = ((x + reach).floor() + 1.0)
            .clamp(0.0, row.len().real())
            .index();
        for (i, pixel) in row.iter_mut().enumerate().take(to).skip(from) {
            *pixel += (all * halo.pixel(i.real() - x, dy)).single();
        }
    }

    /// The stars as rows are given their light.
    fn lit(&self, stars: &[StarTruth], profile: &Profile) -> Vec<Lit> {
        let of = |s: &StarTruth| {
            let electrons = s.flux * self.camera.gain_e_adu;
            let radius = profile.radius(LEAST_ELECTRONS / electrons);
            Lit {
                at: (s.x, s.y),
                electrons,
                radius: radius.max(2.0 * self.optics.fwhm_px).min(WIDEST_PX),
            }
        };
        stars.par_iter().map(of).collect()
    }

    /// Adds the light of all stars to one row.
    fn add_stars(&self, stars: &[Lit], profile: &Profile, y: usize, row: &mut [f32]) {
        for s in stars {
            let dy = y.real() - s.at.1;
            self.add_halo(s.electrons, (s.at.0, dy), row);
            if dy.abs() > s.radius {
                continue;
            }
            let half = (s.radius * s.radius - dy * dy).sqrt();
            let from = (s.at.0 - half).ceil().max(0.0).index();
            let to = ((s.at.0 + half).floor() + 1.0)
                .clamp(0.0, row.len().real())
                .index();
            for (x, pixel) in row.iter_mut().enumerate().take(to).skip(from) {
                *pixel += (s.electrons * profile.pixel(x.real() - s.at.0, dy)).single();
            }
        }
    }
}

/// A star's light goes no farther.
const WIDEST_PX: f64 = 160.0;

/// A star, its light, and how far that goes.
struct Lit {
    at: (f64, f64),
    electrons: f64,
    radius: f64,
}

/// Light of the nebula through a filter, in units of a line's.
fn nebula(filter: &Filter, g: Glow) -> f64 {
    match filter {
        Filter::Ha => g.ha + 0.05 * g.old,
        Filter::Nii | Filter::Hb => 0.3 * g.ha + 0.05 * g.old,
        Filter::Oiii => g.oiii + 0.04 * g.old,
        Filter::Sii => g.sii + 0.05 * g.old,
        Filter::R => g.ha + g.sii + 0.5 * g.dust + g.old,
        Filter::G | Filter::V => 0.75 * g.oiii + 0.12 * g.ha + 0.7 * g.dust + 0.85 * g.old,
        Filter::B => 0.45 * g.oiii + 0.30 * g.ha + 1.1 * g.dust + 0.6 * g.old,
        Filter::I => 0.4 * g.dust + 1.2 * g.old,
        Filter::L | Filter::Other(_) => {
            1.4 * g.ha + 1.1 * g.oiii + g.sii + 2.0 * g.dust + 2.4 * g.old
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shot() -> Shot {
        Shot {
            filter: Filter::G,
            size: Size::new(160, 120).unwrap(),
            pointing: Pointing::at(300.0, 200.0),
            optics: Optics::round(3.0),
            camera: Camera::usual(),
            glow: SkyGlow::even(400.0),
            transparency: 0.8,
            spoilt: Spoilt::default(),
            subs: 1000,
            seed: 1,
        }
    }

    #[test]
    fn the_light_of_all_stars_is_in_the_frame() {
        let lone = Crowd {
            per_cell: 0.0,
            ..Crowd::lantern_reef()
        };
        let empty = shot().take(&lone, None);
        let faint = Crowd {
            magnitudes: (15.0, 17.0),
            ..Crowd::lantern_reef()
        };
        let full = shot().take(&faint, None);
        let sum = |t: &Taken| t.plane.data().iter().map(|v| f64::from(*v)).sum::<f64>();
        let light: f64 = full.truth.stars.iter().map(|s| s.flux).sum();
        assert!(full.truth.stars.iter().all(|s| !s.saturated));
        let got = sum(&full) - sum(&empty);
        // Wings leave the frame at its edges and come in from outside.
        assert!((got / light - 1.0).abs() < 0.05, "{got} of {light}");
    }

    #[test]
    fn the_same_shot_gives_the_same_bits_on_any_number_of_threads() {
        let take = |threads| {
            let pool = rayon::ThreadPoolBuilder::new()
                .num_threads(threads)
                .build()
                .unwrap();
            pool.install(|| shot().take(&Crowd::lantern_reef(), None).plane)
        };
        assert_eq!(take(1), take(3));
    }

    #[test]
    fn transparency_scales_stars_and_not_the_sky() {
        let clear = Shot {
            transparency: 1.0,
            ..shot()
        }
        .take(&Crowd::lantern_reef(), None);
        let hazy = Shot {
            transparency: 0.5,
            ..shot()
        }
        .take(&Crowd::lantern_reef(), None);
        assert!((hazy.truth.stars[0].flux / clear.truth.stars[0].flux - 0.5).abs() < 1e-9);
        let low = |t: &Taken| {
            let mut v = t.plane.data().to_vec();
            jigsawa_core::robust::quantile(&mut v, 0.2)
        };
        assert!((low(&hazy) / low(&clear) - 1.0).abs() < 0.01);
    }
}
