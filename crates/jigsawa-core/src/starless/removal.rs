//! Stars going out of a picture, band by band: the light of each is taken off, and what they hide is filled.

use crate::number::Convert;
use rayon::prelude::*;

use super::fill::{Patch, bridged, fill};
use super::measure::Shared;
use super::noise::Grain;
use super::window::{Window, Windows};
use super::{BAND, MARGIN, Planes, Stars};
use crate::doors::DoorError;
use crate::space::Rect;

/// Rows of a picture with their stars and without.
#[derive(Debug)]
pub struct Band<'a> {
    /// Where they lie.
    pub rect: Rect,
    /// Each plane as it is.
    pub picture: Vec<&'a [f32]>,
    /// Each without stars; what is done to them goes with the band.
    pub starless: Vec<&'a mut [f32]>,
}

/// The way down a picture.
pub struct Removal<'a> {
    stars: &'a Stars,
    planes: Planes<'a>,
    windows: Windows,
    filling: Filling,
    /// First row of the next band.
    top: usize,
}

/// What holes are filled with on the way.
#[derive(Debug)]
struct Filling {
    noise: Vec<f32>,
    grains: Vec<Grain>,
    /// Do filled places get grain?
    grainy: bool,
    /// Holes that reach into the present band or a later one, and how many stars were seen to.
    patches: Vec<Patch>,
    done: usize,
    rows: Vec<Vec<f32>>,
}

impl<'a> Removal<'a> {
    pub(super) fn new(stars: &'a Stars, planes: Planes<'a>) -> Self {
        let Shared { noise, grains, .. } = &stars.shared;
        Self {
            stars,
            planes,
            windows: Windows::default(),
            filling: Filling::new(noise.clone(), grains.clone(), stars.grain),
            top: 0,
        }
    }

    /// The same for a search for more stars.
    pub(super) fn for_search(stars: &'a Stars, planes: Planes<'a>, mut windows: Windows) -> Self {
        windows.start();
        let mut removal = Self::new(stars, planes);
        removal.windows = windows;
        // What is looked for next is no noise that was made up.
        removal.filling.grainy = false;
        removal
    }

    /// Its windows, for the next pass.
    pub(super) fn into_windows(self) -> Windows {
        self.windows
    }

    /// The next rows; `None` behind the last.
    ///
    /// # Errors
    /// When a plane cannot be read.
    #[allow(clippy::should_implement_trait)] // What it gives is lent.
    pub fn next(&mut self) -> Result<Option<Band<'_>>, DoorError> {
        let (stars, size) = (self.stars, self.stars.shared.size);
        if self.top >= size.height() {
            return Ok(None);
        }
        let rect = Rect {
            x: 0,
            y: self.top.whole(),
            width: size.width(),
            height: BAND.min(size.height() - self.top),
        };
        let Windows { seen, behind } = &mut self.windows;
        seen.read(self.planes, size, self.top, BAND, MARGIN)?;
        let fresh = behind.follow(seen);
        let shared = &stars.shared;
        shared.take(&stars.lights, stars.reach, behind, fresh);
        self.filling.go(stars, rect, seen, behind);
        self.top += rect.height;
        let planes = 0..seen.planes();
        Ok(Some(Band {
            rect,
            picture: planes.map(|p| seen.rows(p, rect)).collect(),
            starless: self
                .filling
                .rows
                .iter_mut()
                .map(Vec::as_mut_slice)
                .collect(),
        }))
    }
}

impl Filling {
    fn new(noise: Vec<f32>, grains: Vec<Grain>, grainy: bool) -> Self {
        Self {
            noise,
            grains,
            grainy,
            patches: Vec::new(),
            done: 0,
            rows: Vec::new(),
        }
    }

    /// Makes the rows of a band from what is left `behind` the stars.
    fn go(&mut self, stars: &Stars, rect: Rect, window: &Window, behind: &Window) {
        // Patches that ended in the band before are done with; those of stars whose hole may reach into this one come.
        self.patches.retain(|p| p.bottom() > rect.y);
        let lights = &stars.lights;
        let until = lights
            .partition_point(|s| s.at.y < rect.bottom().real() + 0.5 * MARGIN.real())
            .max(self.done);
        let made = (&self.noise[..], &self.grains[..]);
        let fresh: Vec<Patch> = (self.done..until)
            .into_par_iter()
            .filter(|i| lights[*i].hole > 0.0)
            .filter_map(|i| fill(i, lights, behind, made, self.grainy))
            .collect();
        self.done = until;
        self.patches.extend(fresh);
        self.rows.resize_with(behind.planes(), Vec::new);
        let rows = self.rows.par_iter_mut().enumerate();
        rows.for_each(|(p, row)| {
            row.clear();
            row.extend_from_slice(behind.rows(p, rect));
        });
        for patch in &self.patches {
            patch.put(rect, &mut self.rows);
        }
        let grainy = self.grainy;
        // Rays are bridged, and holes that nothing else could be made up for; a pixel that was never known stays so.
        for (p, plane) in self.rows.iter_mut().enumerate() {
            let grain = self.grains[p];
            let known = window.rows(p, rect).par_chunks(rect.width);
            let lines = plane.par_chunks_mut(rect.width).zip(known);
            lines.enumerate().for_each(|(j, (line, known))| {
                let y = rect.y + j.whole();
                for (x, (v, o)) in line.iter_mut().zip(known).enumerate() {
                    if o.is_nan() {
                        *v = f32::NAN;
                    } else if v.is_nan() {
                        let x = x.whole();
                        let made = if grainy { grain.at(x, y, p) } else { 0.0 };
                        *v = bridged(behind, p, x, y).map_or(*o, |b| b + made);
                    }
                }
            });
        }
    }
}
