//! Smooth light of a frame at points of the canvas: sky and nebula, clear of stars, of edges and of full pixels.
//!
//! Each value is the mean of 3 x 3 pixels. A point counts where the ring around it shows the same light, so that half a
//! pixel of misplacement, or another seeing, changes nothing. The pixels' own scatter, from differences that slopes and
//! bends do not enter, tells how noise grows with light, whatever headers say of gain and sub-frames.

use crate::number::Convert;
use rayon::prelude::*;

use crate::noise::NoiseScales;
use crate::placement::Placement;
use crate::plane::Plane;
use crate::robust::median;
use crate::space::{CanvasPx, Point, Size};

/// Points at the most: enough for a slope to a thousandth, in some hundredths of a second.
const MOST_POINTS: f64 = 250_000.0;

/// Points of the canvas at which exposures are compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LightGrid {
    canvas: Size,
    step: usize,
    columns: usize,
}

impl LightGrid {
    /// Over a canvas.
    pub fn over(canvas: Size) -> Self {
        let step = (canvas.area().real() / MOST_POINTS)
            .sqrt()
            .ceil()
            .index()
            .max(2);
        Self {
            canvas,
            step,
            columns: canvas.width().div_ceil(step),
        }
    }

    /// The place of a point.
    pub fn at(&self, i: usize) -> Point<CanvasPx> {
        let (c, r) = (i % self.columns, i / self.columns);
        Point::new((c * self.step).real(), (r * self.step).real())
    }

    /// The same in parts of half the canvas from its middle: -1 to 1.
    pub fn part(&self, i: usize) -> [f64; 2] {
        let (p, c) = (self.at(i), self.canvas.centre::<CanvasPx>());
        [
            (p.x - c.x) / (0.5 * self.canvas.width().real()),
            (p.y - c.y) / (0.5 * self.canvas.height().real()),
        ]
    }
}

/// Smooth light of a frame.
#[derive(Debug, Clone)]
pub struct Light {
    /// The points.
    pub grid: LightGrid,
    /// The frame's values there; NaN where it shows no smooth light.
    pub values: Vec<f32>,
    /// Level of the sky.
    pub sky: f32,
    /// Variance of a pixel of the sky.
    pub variance: f32,
    /// What light above the sky adds to a pixel's variance, for each unit; 0 where that is not seen.
    pub variance_per_unit: f32,
    /// How much less sure a mean of 3 x 3 pixels is than of as many that know nothing of each other.
    pub(super) tied: f32,
}

/// Light is smooth where a ring of this radius differs by less than this part of it, and by so many of its errors.
const RING: i64 = 3;
const SMOOTH: f32 = 0.03;
const SMOOTH_SIGMA: f32 = 2.5;

impl Light {
    /// Of a frame with this sky and noise. Values from `full` up are not taken.
    pub fn take(
        plane: &Plane,
        placement: &Placement,
        grid: LightGrid,
        (sky, sigma, noise): (f32, f32, &NoiseScales),
        saturation: f32,
    ) -> Self {
        let rows = grid.canvas.height().div_ceil(grid.step);
        let spot = |i: usize| {
            let at = placement.apply(grid.at(i));
            let (x, y) = (at.x.round().whole(), at.y.round().whole());
            smooth(plane, (x, y), (sky, sigma), saturation).unwrap_or((f32::NAN, f32::NAN))
        };
        let all: Vec<(f32, f32)> = (0..rows * grid.columns)
            .into_par_iter()
            .with_min_len(4096)
            .map(spot)
            .collect();
        let (near, near_per_unit) = variance(&all, sky).unwrap_or((sigma * sigma, 0.0));
        // Where smoothing has tied neighbours together their differences see little of the noise, and much of it is
        // nebula. The sky's own is known better then; what light adds was smoothed as it was.
        let hidden = noise.hidden().single();
        let (variance, variance_per_unit) = if hidden > 1.0 {
            let pixel = noise.pixel().single();
            (pixel * pixel, hidden * near_per_unit)
        } else {
            (near, near_per_unit)
        };
        Self {
            grid,
            values: all.into_iter().map(|(v, _)| v).collect(),
            sky,
            variance,
            variance_per_unit,
            tied: (noise.at(3.0) / noise.pixel().max(f64::MIN_POSITIVE)).single(),
        }
    }

    /// Noise of a pixel of the sky.
    pub fn sigma(&self) -> f32 {
        self.variance.sqrt()
    }

    /// Noise of its values: means of 3 x 3 pixels of the sky.
    pub fn mean_sigma(&self) -> f32 {
        self.sigma() * self.tied / 3.0
    }
}

/// Mean of 3 x 3 pixels and their variance, where light is smooth.
fn smooth(
    plane: &Plane,
    (x, y): (i64, i64),
    (sky, sigma): (f32, f32),
    saturation: f32,
) -> Option<(f32, f32)> {
    let mut block = [[0.0f32; 3]; 3];
    for (dy, row) in block.iter_mut().enumerate() {
        for (dx, v) in row.iter_mut().enumerate() {
            *v = plane.at(x + dx.whole() - 1, y + dy.whole() - 1);
        }
    }
    let mean = block.iter().flatten().sum::<f32>() / 9.0;
    let d = RING;
    let ring = [
        (-d, 0),
        (d, 0),
        (0, -d),
        (0, d),
        (-2, -2),
        (2, -2),
        (-2, 2),
        (2, 2),
    ]
    .map(|(dx, dy)| plane.at(x + dx, y + dy));
    let around = ring.iter().sum::<f32>() / 8.0;
    // A missing pixel makes every comparison false.
    let light = (mean - sky).max(0.0);
    let close = (mean - around).abs() < SMOOTH * light + SMOOTH_SIGMA * 0.48 * sigma;
    let below = block.iter().flatten().chain(&ring).all(|v| *v < saturation);
    if !(close && below) {
        return None;
    }
    // The second difference of second differences (Immerkaer 1996, Computer Vision and Image Understanding 64, 300):
    // what is bent one way only drops out.
    let bend = |a: f32, b: f32, c: f32| a - 2.0 * b + c;
    let [a, b, c] = block.map(|r| bend(r[0], r[1], r[2]));
    let variance = bend(a, b, c).powi(2) / 36.0;
    variance.is_finite().then_some((mean, variance))
}

/// Points go into so many groups of one brightness; fewer of a group do not tell its noise.
const GROUPS: usize = 40;
const LEAST_POINTS: usize = 60;

/// The median of the squares of normal deviates, against their mean.
const MEDIAN_OF_SQUARES: f32 = 0.4549;

/// Variance of the sky, and what light adds to it for each unit: a straight line through groups of points of one
/// brightness. `None` with too few points, or where noise does not behave.
fn variance(all: &[(f32, f32)], sky: f32) -> Option<(f32, f32)> {
    let mut points: Vec<(f32, f32)> = all.iter().filter(|p| p.0.is_finite()).copied().collect();
    points.par_sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
    // Half of the groups for the brightest twentieth: light spans decades there.
    let (many, few) = points.split_at(points.len() - points.len() / 20);
    let groups = [many, few].into_iter().flat_map(|part| {
        let size = part.len().div_ceil(GROUPS / 2).max(LEAST_POINTS);
        part.chunks(size).filter(|c| c.len() >= LEAST_POINTS)
    });
    // (weight, light, variance): a group's variance is known to a part of itself.
    let known: Vec<(f64, f64, f64)> = groups
        .map(|g| {
            let mut light: Vec<f32> = g.iter().map(|p| p.0 - sky).collect();
            let mut scatter: Vec<f32> = g.iter().map(|p| p.1 / MEDIAN_OF_SQUARES).collect();
            let (l, v) = (
                f64::from(median(&mut light)),
                f64::from(median(&mut scatter)),
            );
            (v.max(1e-30).powi(-2), l, v)
        })
        .collect();
    let sum = |of: &dyn Fn(&(f64, f64, f64)) -> f64| known.iter().map(of).sum::<f64>();
    let (w, l, v) = (sum(&|g| g.0), sum(&|g| g.0 * g.1), sum(&|g| g.0 * g.2));
    let (ll, lv) = (sum(&|g| g.0 * g.1 * g.1), sum(&|g| g.0 * g.1 * g.2));
    let det = w * ll - l * l;
    let per_unit = if det > 1e-9 * w * ll {
        ((w * lv - l * v) / det).max(0.0)
    } else {
        0.0
    };
    let base = (v - per_unit * l) / w;
    (known.len() >= 3 && base > 0.0 && base.is_finite())
        .then_some((base.single(), per_unit.single()))
}
