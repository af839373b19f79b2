//! The sky of each channel: its leftover gradient, and its level where nothing but sky is.
//!
//! Gradients are found as `normalize` finds them, on the small planes. Levels come from the patches that are
//! darkest in all channels at once: a patch that is dark in one only is nebula in another's light.

use crate::number::Convert;
use rayon::prelude::*;

use super::overview::Overview;
use crate::balance::flatten::{Gradient, Ground, Hints, gradients as found_in};
use crate::balance::{Lattice, Member, Samples, Shape, Sky, Surface};
use crate::filter::Filter;
use crate::noise::NoiseScales;
use crate::placement::Placement;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, clipped, mad, quantile};
use crate::space::{CanvasPx, Point, Rect};
use crate::stars::{Catalogue, Settings, SkyMesh, detect};

/// The sky of one channel.
#[derive(Debug, Clone, PartialEq)]
pub struct ChannelSky {
    /// The gradient around the level, over the pixels of the small plane.
    pub gradient: Surface,
    /// What kind of surface it is.
    pub shape: Shape,
    /// How much it goes up and down over the picture.
    pub span: f32,
    /// How well it is known, root mean square over the picture.
    pub error: f32,
    /// What it rests on; absent where none was looked for.
    pub ground: Option<Ground>,
    /// Middles of the patches that it goes through, on the small plane.
    pub samples: Vec<Point<CanvasPx>>,
    /// The level of the dark patches, the gradient taken off.
    pub level: f32,
}

/// A side of a patch, in pixels of the picture.
const PATCH_PX: usize = 64;

/// A patch within so much of the darkest tenth, in the scatter of the dark ones, is dark.
const NEAR: f32 = 1.0;

/// The sky's level is this quantile of the dark patches: some of them hold a trace of nebula, none holds less than sky.
const LEVEL: f64 = 0.35;

/// The darkest part of all patches, which are dark in any case.
const ALWAYS_DARK: f64 = 0.03;

/// Where the level of the sky is taken from.
#[derive(Debug, Clone, PartialEq)]
pub enum SkyFrom {
    /// The patches that are darkest in all channels.
    Darkest,
    /// This rectangle of the picture.
    Patch(Rect),
}

/// Which gradient is taken off.
#[derive(Debug, Clone, PartialEq)]
pub struct GradientSettings {
    /// Its shape; chosen if absent.
    pub shape: Option<Shape>,
    /// What is known of the sky, in pixels of the picture.
    pub hints: Hints,
}

/// The skies of the three channels. `settings` absent: no gradient is taken off.
pub fn skies(
    overview: &Overview,
    settings: Option<&GradientSettings>,
    from: &SkyFrom,
) -> [ChannelSky; 3] {
    let gradients = gradients(overview, settings);
    let surface =
        |g: &Option<Gradient>| g.as_ref().map_or_else(Surface::zero, |g| g.surface.clone());
    let flat: Vec<Plane> = overview
        .small
        .iter()
        .zip(&gradients)
        .map(|(plane, g)| without(plane, &surface(g)))
        .collect();
    let side = (PATCH_PX / overview.factor).max(4);
    let dark = match from {
        SkyFrom::Darkest => dark_patches(&flat, side),
        SkyFrom::Patch(r) => {
            let k = overview.factor.whole();
            vec![Rect {
                x: r.x / k,
                y: r.y / k,
                width: (r.width / overview.factor).max(1),
                height: (r.height / overview.factor).max(1),
            }]
        }
    };
    let mut skies = gradients.into_iter().zip(&flat).map(|(found, plane)| {
        let mut levels: Vec<f32> = dark
            .iter()
            .map(|r| level_of(plane, *r))
            .filter(|v| v.is_finite())
            .collect();
        let level = if levels.is_empty() {
            quantile(&mut finite(plane), 0.1)
        } else {
            quantile(&mut levels, LEVEL)
        };
        let gradient = surface(&found);
        ChannelSky {
            span: span(&gradient, plane),
            gradient,
            shape: found.as_ref().map_or(Shape::Level, |g| g.shape),
            error: found.as_ref().map_or(0.0, |g| g.error.single()),
            ground: found.as_ref().map(|g| g.ground),
            samples: found.map_or_else(Vec::new, |g| g.samples.iter().map(|s| s.0).collect()),
            level,
        }
    });
    // There are three planes, so there are three skies.
    std::array::from_fn(|_| {
        skies.next().unwrap_or(ChannelSky {
            gradient: Surface::zero(),
            shape: Shape::Level,
            span: 0.0,
            error: 0.0,
            ground: None,
            samples: Vec::new(),
            level: 0.0,
        })
    })
}

fn finite(plane: &Plane) -> Vec<f32> {
    plane
        .data()
        .iter()
        .copied()
        .filter(|v| v.is_finite())
        .collect()
}

/// The gradient of each channel, by the evidence of all; none where none is wanted or nothing can be measured.
fn gradients(overview: &Overview, settings: Option<&GradientSettings>) -> Vec<Option<Gradient>> {
    let Some(settings) = settings else {
        return vec![None, None, None];
    };
    let k = overview.factor.real();
    let small = |p: &Point<CanvasPx>| Point::new((p.x + 0.5) / k - 0.5, (p.y + 0.5) / k - 0.5);
    let hints = Hints {
        add: settings.hints.add.iter().map(small).collect(),
        drop: settings.hints.drop.iter().map(small).collect(),
        protect: settings
            .hints
            .protect
            .iter()
            .map(|(p, r)| (small(p), r / k))
            .collect(),
    };
    together(&overview.small, settings.shape, &hints)
}

/// Takes gradients off planes of one place, by the evidence of all; the middle of each stays as high as it is.
pub fn flatten(planes: &mut [Plane]) {
    let found = together(planes, None, &Hints::default());
    for (plane, g) in planes.iter_mut().zip(found) {
        if let Some(g) = g {
            *plane = without(plane, &g.surface);
        }
    }
}

/// The gradients of planes of one place.
fn together(planes: &[Plane], shape: Option<Shape>, hints: &Hints) -> Vec<Option<Gradient>> {
    let none = || vec![None; planes.len()];
    let Some(first) = planes.first() else {
        return none();
    };
    let size = first.size();
    let share = 1.0 / planes.len().single();
    let mean = Plane::from_fn(size, |x, y| {
        planes.iter().map(|p| p.row(y)[x]).sum::<f32>() * share
    });
    let Ok(stars) = detect(&mean, None, &Settings::default()) else {
        return none();
    };
    // A plane that is another one once more, as in a grey picture, tells nothing new.
    let same: Vec<usize> = (0..planes.len())
        .map(|c| {
            let first = (0..c).find(|d| is_same(&planes[*d], &planes[c]));
            first.unwrap_or(c)
        })
        .collect();
    let own: Vec<usize> = (0..planes.len()).filter(|c| same[*c] == *c).collect();
    let lattice = Lattice::over(size);
    let placement = Placement::shift(0.0, 0.0);
    let filter = Filter::Other("picture".to_owned());
    let catalogues: Vec<Option<Catalogue>> = own
        .par_iter()
        .map(|c| {
            let plane = &planes[*c];
            let sky = SkyMesh::measure(plane)?;
            Some(Catalogue {
                noise: NoiseScales::measure(plane, &sky, Some(&stars)),
                sky,
                ..stars.clone()
            })
        })
        .collect();
    let channels: Vec<(usize, Sky<'_>)> = own
        .iter()
        .zip(&catalogues)
        .filter_map(|(c, catalogue)| {
            let catalogue = catalogue.as_ref()?;
            let member = Member {
                catalogue,
                placement: &placement,
                size,
                filter: &filter,
                exposure_s: None,
                gain_e_adu: None,
            };
            let samples = Samples::take(&planes[*c], &placement, catalogue, None, lattice);
            Some((*c, Sky { member, samples }))
        })
        .collect();
    let skies: Vec<&Sky<'_>> = channels.iter().map(|(_, s)| s).collect();
    let found = found_in(&skies, shape, hints);
    let mut all: Vec<Option<Gradient>> = none();
    for ((c, _), g) in channels.iter().zip(found) {
        all[*c] = g;
    }
    same.into_iter().map(|c| all[c].clone()).collect()
}

/// Are two planes the same, missing pixels and all?
fn is_same(a: &Plane, b: &Plane) -> bool {
    let mut both = a.data().iter().zip(b.data());
    both.all(|(a, b)| a.to_bits() == b.to_bits())
}

/// A plane with a surface taken off.
pub(super) fn without(plane: &Plane, surface: &Surface) -> Plane {
    let mut flat = plane.clone();
    if surface.is_zero() {
        return flat;
    }
    let down = surface.clone().scaled(-1.0);
    let width = flat.size().width();
    for (y, row) in flat.data_mut().chunks_exact_mut(width).enumerate() {
        down.add_to_row(0, y.whole(), row);
    }
    flat
}

fn span(surface: &Surface, plane: &Plane) -> f32 {
    let (w, h) = (plane.size().width(), plane.size().height());
    let at = |i: usize, j: usize| {
        let p = Point::new((w * i / 8).real(), (h * j / 8).real());
        surface.at(p).single()
    };
    let all: Vec<f32> = (0..=8)
        .flat_map(|i| (0..=8).map(move |j| (i, j)))
        .map(|(i, j)| at(i, j))
        .collect();
    let most = all.iter().copied().fold(f32::MIN, f32::max);
    most - all.iter().copied().fold(f32::MAX, f32::min)
}

/// The level of a patch's pixels, those that stand out upwards left away: stars. NaN where half of it is missing.
fn level_of(plane: &Plane, r: Rect) -> f32 {
    let r = r.intersect(plane.size().rect());
    let mut values: Vec<f32> = (r.y..r.bottom())
        .flat_map(|y| {
            plane.row(y.index())[r.x.index()..r.right().index()]
                .iter()
                .copied()
        })
        .filter(|v| v.is_finite())
        .collect();
    if r.is_empty() || 2 * values.len() < r.area() {
        return f32::NAN;
    }
    clipped(&mut values, 3.0, 2.0, &mut Vec::new()).map_or(f32::NAN, |c| c.level)
}

/// Patches that are dark in all channels.
fn dark_patches(planes: &[Plane], side: usize) -> Vec<Rect> {
    let size = planes[0].size();
    let columns = size.width() / side;
    let patches: Vec<(Rect, Vec<f32>)> = (0..size.height() / side * columns)
        .into_par_iter()
        .map(|k| Rect {
            x: (k % columns * side).whole(),
            y: (k / columns * side).whole(),
            width: side,
            height: side,
        })
        .map(|r| {
            (
                r,
                planes.iter().map(|p| level_of(p, r)).collect::<Vec<f32>>(),
            )
        })
        .filter(|(_, levels)| levels.iter().all(|v| v.is_finite()))
        .collect();
    if patches.is_empty() {
        return Vec::new();
    }
    // Height over the channel's darkest tenth, in the scatter of what lies below its quarter.
    let scale: Vec<(f32, f32)> = (0..planes.len())
        .map(|c| {
            let mut levels: Vec<f32> = patches.iter().map(|(_, l)| l[c]).collect();
            let tenth = quantile(&mut levels, 0.1);
            let mut low: Vec<f32> = levels.iter().copied().filter(|v| *v <= tenth).collect();
            let spread = mad(&mut low, tenth) * MAD_TO_SIGMA.single();
            (tenth, spread.max(1e-6 * tenth.abs()).max(f32::MIN_POSITIVE))
        })
        .collect();
    let height = |levels: &[f32]| {
        let over = levels
            .iter()
            .zip(&scale)
            .map(|(v, (tenth, spread))| (v - tenth) / spread);
        over.fold(f32::MIN, f32::max)
    };
    let heights: Vec<f32> = patches.iter().map(|(_, l)| height(l)).collect();
    let bar = quantile(&mut heights.clone(), ALWAYS_DARK).max(NEAR);
    patches
        .iter()
        .zip(heights)
        .filter(|(_, h)| *h <= bar)
        .map(|((r, _), _)| *r)
        .collect()
}
