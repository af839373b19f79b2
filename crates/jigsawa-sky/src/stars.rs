//! The stars of the field: a crowd without end, each star fixed by where it stands.

use jigsawa_core::filter::Filter;
use jigsawa_core::number::Convert;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde::Serialize;

/// Stars are drawn cell by cell, so that any part of the plane can be made alone.
const CELL: f64 = 100.0;

/// Numbers grow tenfold in this many magnitudes, as in the real sky well off the Milky Way's centre.
const MAGNITUDES_PER_TENFOLD: f64 = 3.1;

/// Electrons that a star of magnitude 0 gives a sub-frame through the green filter.
const ELECTRONS_AT_ZERO: f64 = 2.0e9;

/// A star of the plane.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct SkyStar {
    /// Place on the plane.
    pub x: f64,
    /// Place on the plane.
    pub y: f64,
    /// Brightness in green.
    pub magnitude: f64,
    /// Blue minus red, in magnitudes; 0.65 is a sun.
    pub colour: f64,
}

/// How many stars there are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Crowd {
    /// Stars on 100 x 100 units of the plane down to the faintest.
    pub per_cell: f64,
    /// The brightest and the faintest magnitude.
    pub magnitudes: (f64, f64),
    /// Another number, another sky.
    pub seed: u64,
    /// Stars that stand there besides, brighter than chance would have them.
    pub beacons: &'static [SkyStar],
}

impl Crowd {
    /// The crowd of Lantern Reef.
    pub const fn lantern_reef() -> Self {
        Self {
            per_cell: 30.0,
            magnitudes: (7.2, 19.0),
            seed: 4242,
            beacons: &[],
        }
    }

    /// All stars on a rectangle of the plane: (x from, y from, x to, y to).
    pub fn over(&self, (x0, y0, x1, y1): (f64, f64, f64, f64)) -> Vec<SkyStar> {
        let cell = |v: f64| (v / CELL).floor().whole();
        let inside = |s: &SkyStar| s.x >= x0 && s.x < x1 && s.y >= y0 && s.y < y1;
        let mut all: Vec<SkyStar> = self.beacons.iter().copied().filter(inside).collect();
        for cy in cell(y0)..=cell(y1) {
            for cx in cell(x0)..=cell(x1) {
                all.extend(self.of_cell(cx, cy).into_iter().filter(inside));
            }
        }
        all
    }

    fn of_cell(&self, cx: i64, cy: i64) -> Vec<SkyStar> {
        let place = (crate::noise::hash(cx, cy, self.seed) * (1u64 << 53).real()).u64();
        let mut rng = ChaCha8Rng::seed_from_u64(place);
        let whole = self.per_cell.floor();
        let count = whole.index() + usize::from(rng.random::<f64>() < self.per_cell - whole);
        let (bright, faint) = self.magnitudes;
        (0..count)
            .map(|_| {
                let (x, y) = (rng.random::<f64>(), rng.random::<f64>());
                let depth = rng.random::<f64>().max(1e-9).log10() * MAGNITUDES_PER_TENFOLD;
                let hot = rng.random::<f64>() < 0.22;
                let spread: f64 = rng.random::<f64>() + rng.random::<f64>() - 1.0;
                SkyStar {
                    x: (cx.real() + x) * CELL,
                    y: (cy.real() + y) * CELL,
                    magnitude: (faint + depth).max(bright + rng.random::<f64>()),
                    colour: if hot {
                        0.05 + 0.25 * spread
                    } else {
                        0.85 + 0.65 * spread
                    },
                }
            })
            .collect()
    }
}

impl SkyStar {
    /// Electrons that the star gives a sub-frame through a filter, with nothing in between.
    pub fn electrons(&self, filter: &Filter) -> f64 {
        let (width, lean) = match filter {
            Filter::L => (2.6, 0.02),
            Filter::R | Filter::I => (0.85, -0.48),
            Filter::B => (0.80, 0.52),
            Filter::Ha | Filter::Nii => (0.075, -0.50),
            Filter::Sii => (0.075, -0.56),
            Filter::Oiii | Filter::Hb => (0.075, 0.16),
            Filter::G | Filter::V | Filter::Other(_) => (1.0, 0.0),
        };
        // A white star (colour 0.5) gives what the filter's width lets through.
        ELECTRONS_AT_ZERO * width * 10f64.powf(-0.4 * (self.magnitude + lean * (self.colour - 0.5)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_of_the_plane_has_the_same_stars_as_the_whole() {
        let crowd = Crowd::lantern_reef();
        let whole = crowd.over((0.0, 0.0, 500.0, 400.0));
        let part = crowd.over((120.0, 80.0, 300.0, 250.0));
        let kept: Vec<_> = whole
            .iter()
            .filter(|s| s.x >= 120.0 && s.x < 300.0 && s.y >= 80.0 && s.y < 250.0)
            .copied()
            .collect();
        assert_eq!(part, kept);
        assert_eq!(whole.len(), 600);
    }

    #[test]
    fn red_stars_are_brighter_in_red() {
        let star = |colour| SkyStar {
            x: 0.0,
            y: 0.0,
            magnitude: 10.0,
            colour,
        };
        let ratio = |c| star(c).electrons(&Filter::R) / star(c).electrons(&Filter::B);
        assert!((2.5 * (ratio(1.5) / ratio(0.5)).log10() - 1.0).abs() < 1e-9);
    }
}
