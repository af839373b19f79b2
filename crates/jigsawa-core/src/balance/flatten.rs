//! A frame's own gradient: a smooth surface through the places where nothing but sky is.
//!
//! Patches near the frame's lower envelope are sky; which those are is settled in rounds with the
//! surface through them, since a curved sky hides them from a plane. The shape is chosen by leaving
//! out quarters of the frame at a time: a surface that must hold across a nebula is judged by how it
//! holds across gaps. What is sky can be told by hand as well: places to add, to drop, and circles to
//! protect. A curved lower envelope to begin with was tried: it digs into the nebula's own hollows.

use serde::{Deserialize, Serialize};

use super::surface::{Judge, Patch, Shape, Surface, choose};
use super::{Balance, BalanceError, BothSkies, Sky, both_skies, dark};
use crate::robust::{MAD_TO_SIGMA, median};
use crate::space::{CanvasPx, Point};

/// What the user knows of a frame's sky; canvas pixels.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Hints {
    /// Here is sky.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add: Vec<Point<CanvasPx>>,
    /// Here is none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub drop: Vec<Point<CanvasPx>>,
    /// Within these circles is none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub protect: Vec<(Point<CanvasPx>, f64)>,
}

/// That gradients are taken out, and how.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Flatten {
    /// Taken off, or divided by.
    #[serde(default)]
    pub way: Way,
    /// What is known of the sky.
    #[serde(flatten)]
    pub hints: Hints,
}

/// A gradient and what it rests on.
#[derive(Debug, Clone)]
pub struct Gradient {
    /// The sky less its own middle: what is to be taken off.
    pub surface: Surface,
    /// The sky's own middle over the canvas.
    pub level: f64,
    /// Where sky was found: place and level above the frame's middle.
    pub samples: Vec<(Point<CanvasPx>, f64)>,
    /// Scatter of the samples around the surface, in pixel noise.
    pub residual_sigma: f64,
    /// The surface's shape.
    pub shape: Shape,
}

/// Quarters of the frame are left out together.
const BLOCKS: usize = 4;

/// A softer shape must foretell sky better by this part of the pixel noise: less is what a nebula's faint edges
/// feign, and a curve runs on under the rest of it unchecked.
const SLACK_SIGMA: f64 = 0.15;

/// Rounds in which sky and surface settle.
const ROUNDS: usize = 6;

/// A patch this near to the surface, in pixel noise or in scatters of the sky, is sky.
const NEAR: f64 = 2.5;

/// A place given by hand counts as much as so many found.
const BY_HAND: f64 = 4.0;

/// Shapes that a frame's own gradient may have. Softer ones would follow the nebula.
fn shapes() -> Vec<Shape> {
    vec![
        Shape::Level,
        Shape::Plane,
        Shape::Polynomial { degree: 2 },
        Shape::Polynomial { degree: 3 },
        Shape::Spline { stiffness: 1.4 },
        Shape::Spline { stiffness: 1.0 },
    ]
}

/// The frame's own gradient.
///
/// # Errors
/// When the frame shows no sky at all.
pub fn gradient(
    sky: &Sky<'_>,
    shape: Option<Shape>,
    hints: &Hints,
) -> Result<Gradient, BalanceError> {
    let lattice = sky.samples.lattice();
    let canvas = lattice.canvas();
    let noise = sky.member.noise().max(1e-30);
    let reach = 0.75 * lattice.patch_px() as f64;
    let near =
        |p: &BothSkies, list: &[Point<CanvasPx>]| list.iter().any(|q| q.distance(p.at) < reach);
    let own = both_skies(&sky.samples, &sky.samples);
    let patches: Vec<BothSkies> = own
        .into_iter()
        .filter(|p| !near(p, &hints.drop))
        .filter(|p| !hints.protect.iter().any(|(c, r)| c.distance(p.at) < *r))
        .collect();
    let by_hand: Vec<bool> = patches.iter().map(|p| near(p, &hints.add)).collect();
    let mut heights = dark::heights(patches.iter().map(|p| (p.at, p.reference)), noise, canvas);
    let mut bar = dark::bar(&heights);
    let mut low = f64::NEG_INFINITY;
    let shapes = shape.map_or_else(shapes, |s| vec![s]);
    let judge = Judge {
        blocks: BLOCKS,
        slack: SLACK_SIGMA * noise,
    };
    let mut chosen = None;
    for _ in 0..ROUNDS {
        let dark: Vec<Patch> = patches
            .iter()
            .zip(&heights)
            .zip(&by_hand)
            .filter(|((_, h), hand)| **hand || (**h <= bar && **h >= low))
            .map(|((p, _), hand)| Patch {
                at: p.at,
                value: p.reference,
                weight: p.filled * if *hand { BY_HAND } else { 1.0 },
            })
            .collect();
        let Some(choice) = choose(&shapes, &dark, judge, canvas) else {
            break;
        };
        for (p, h) in patches.iter().zip(&mut heights) {
            *h = (p.reference - choice.fit.surface.at(p.at)) / noise;
        }
        // The scatter of the sky alone: below the surface there is no nebula.
        let mut below: Vec<f32> = heights
            .iter()
            .filter(|h| **h < 0.0)
            .map(|h| -*h as f32)
            .collect();
        let scatter = f64::from(median(&mut below)) * MAD_TO_SIGMA;
        let reach = (NEAR * scatter).clamp(0.5 * dark::DARK_SIGMA, 3.0 * dark::DARK_SIGMA);
        (low, bar) = (-2.0 * reach, reach);
        let samples = dark.iter().map(|p| (p.at, p.value)).collect::<Vec<_>>();
        chosen = Some((choice, samples));
    }
    let (choice, samples) = chosen.ok_or(BalanceError::NoCommonSky)?;
    let surface = choice.fit.surface;
    // The middle over the canvas is kept, so that the sky's level stays what it was.
    let mut levels: Vec<f32> = patches.iter().map(|p| surface.at(p.at) as f32).collect();
    let level = f64::from(median(&mut levels));
    Ok(Gradient {
        surface: surface.plus(Surface::constant(-level)),
        level,
        samples: samples.into_iter().map(|(p, v)| (p, v - level)).collect(),
        residual_sigma: choice.fit.spread / noise,
        shape: choice.shape,
    })
}

/// How a gradient is taken out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Way {
    /// Taken off: light that the sky has added.
    #[default]
    Subtract,
    /// Divided by: light that the optics have held back.
    Divide,
}

impl Gradient {
    /// The balance that takes the gradient out of the frame and leaves its level.
    ///
    /// # Errors
    /// When it is to be divided by, and the sky's level is not well above zero everywhere: nothing can be
    /// divided by a sky that has been taken off already.
    pub fn balance(&self, way: Way, sky: &Sky<'_>) -> Result<Balance, BalanceError> {
        let catalogue = sky.member.catalogue;
        let unchanged = Balance::identity(catalogue);
        if way == Way::Subtract {
            return Ok(Balance {
                surface: self.surface.clone().scaled(-1.0),
                ..unchanged
            });
        }
        let canvas = sky.samples.lattice().canvas();
        let (w, h) = (canvas.width() as f64 - 1.0, canvas.height() as f64 - 1.0);
        let gain = self
            .surface
            .clone()
            .scaled(1.0 / self.level)
            .plus(Surface::constant(1.0));
        let corners = [(0.0, 0.0), (w, 0.0), (0.0, h), (w, h)];
        let lowest = corners
            .iter()
            .map(|(x, y)| gain.at(Point::new(*x, *y)))
            .fold(f64::INFINITY, f64::min);
        if self.level <= sky.member.noise() || lowest < LEAST_GAIN {
            return Err(BalanceError::NoLevel);
        }
        Ok(Balance {
            gain: Some(gain),
            ..unchanged
        })
    }
}

/// No optics hold back nine tenths of the light.
const LEAST_GAIN: f64 = 0.1;
