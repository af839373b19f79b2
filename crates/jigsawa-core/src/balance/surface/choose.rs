//! Choosing how stiff a surface must be, by cross-validation.
//!
//! Patches are left out by blocks, since neighbours share what a surface must not follow, and of all shapes
//! that foretell them about as well as the best, the stiffest is taken.

use crate::number::Convert;
use nalgebra::DVector;

use super::normal::Normal;
use super::rows::Rows;
use super::{Fit, Patch, Shape};
use crate::space::Size;

/// Folds of the cross-validation.
const FOLDS: usize = 5;

/// How shapes are judged.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Judge {
    /// Blocks along the canvas's longer side that are left out together: few where a surface must be right far
    /// from its patches.
    pub(crate) blocks: usize,
    /// What a stiffer shape may leave more than the best, root mean square, however surely.
    pub(crate) slack: f64,
}

/// By how many errors the stiffer shape may foretell worse than the best before it is given up.
const LEEWAY: f64 = 1.0;

/// How a surface was chosen.
pub(crate) struct Choice {
    pub(crate) shape: Shape,
    pub(crate) fit: Fit,
    /// What each tried shape leaves of patches that it has not seen, root mean square.
    pub(crate) tried: Vec<(Shape, f64)>,
}

/// Patches in blocks of the canvas, for leaving them out block by block.
struct Blocks<'a> {
    patches: &'a [Patch],
    /// The weight that each has kept, outliers held down.
    kept: &'a [f64],
    canvas: Size,
    /// The fold of each patch, and the number of its block.
    fold: Vec<usize>,
    block: Vec<usize>,
    count: usize,
}

/// What all shapes of one kind share: the parts of each patch, and normal equations by fold and in all.
struct Folds {
    rows: Rows,
    each: Vec<Normal>,
    all: Normal,
}

impl<'a> Blocks<'a> {
    fn new(patches: &'a [Patch], kept: &'a [f64], blocks: usize, canvas: Size) -> Self {
        let side = canvas.width().max(canvas.height()).real() / blocks.max(2).real();
        let places: Vec<(i64, i64)> = patches
            .iter()
            .map(|p| {
                (
                    (p.at.x / side).floor().whole(),
                    (p.at.y / side).floor().whole(),
                )
            })
            .collect();
        let mut numbers = places.clone();
        numbers.sort_unstable();
        numbers.dedup();
        Self {
            patches,
            kept,
            canvas,
            fold: places
                .iter()
                .map(|(x, y)| (x + 2 * y).rem_euclid(FOLDS.whole()).index())
                .collect(),
            block: places
                .iter()
                .map(|b| numbers.binary_search(b).unwrap_or(0))
                .collect(),
            count: numbers.len(),
        }
    }

    fn folds(&self, shape: Shape) -> Folds {
        let canvas = self.canvas;
        let rows = shape.rows(self.patches, canvas);
        let values: Vec<f64> = self.patches.iter().map(|p| p.value).collect();
        let each: Vec<Normal> = (0..FOLDS)
            .map(|fold| {
                let weight = |(i, p): (usize, &Patch)| {
                    if self.fold[i] == fold {
                        p.weight * self.kept[i]
                    } else {
                        0.0
                    }
                };
                let weights: Vec<f64> = self.patches.iter().enumerate().map(weight).collect();
                rows.normal(&values, &weights)
            })
            .collect();
        let mut all = Normal::zero(shape.count(canvas), 0.0);
        for f in &each {
            all += f;
        }
        Folds { rows, each, all }
    }

    /// The squares that a shape leaves of each block when it has not seen it. `None` when what is left
    /// does not fix the shape.
    fn squares(&self, shape: Shape, of: &Folds) -> Option<Vec<f64>> {
        let solved: Vec<DVector<f64>> = of
            .each
            .iter()
            .map(|f| of.all.less(f).solve(shape, self.canvas))
            .collect::<Option<_>>()?;
        let mut told = vec![0.0; self.patches.len()];
        let mut squares = vec![0.0; self.count];
        for (fold, numbers) in solved.iter().enumerate() {
            of.rows.values(numbers, &mut told);
            let own = (0..told.len()).filter(|i| self.fold[*i] == fold);
            for i in own {
                let p = &self.patches[i];
                squares[self.block[i]] += p.weight * self.kept[i] * (p.value - told[i]).powi(2);
            }
        }
        Some(squares)
    }
}

/// The stiffest of the shapes, which come from stiff to soft, that foretells left-out blocks of patches
/// about as well as the best.
pub(crate) fn choose(
    shapes: &[Shape],
    patches: &[Patch],
    how: Judge,
    canvas: Size,
) -> Option<Choice> {
    if let [only] = shapes {
        let fit = Fit::new(*only, patches, canvas)?;
        return Some(Choice {
            shape: *only,
            tried: vec![(*only, fit.spread)],
            fit,
        });
    }
    // What outliers are is settled once, by a shape between stiff and soft, so that all shapes are
    // judged on the same patches.
    let spline = Shape::Spline { stiffness: 1.0 };
    let pilot = [
        spline,
        Shape::Polynomial { degree: 3 },
        Shape::Polynomial { degree: 2 },
        Shape::Plane,
        Shape::Level,
    ]
    .into_iter()
    // It need not be softer than all of them.
    .filter(|s| *s != spline || shapes.iter().any(|s| matches!(s, Shape::Spline { .. })))
    .find_map(|s| Fit::new(s, patches, canvas))?;
    let judge = Blocks::new(patches, &pilot.kept, how.blocks, canvas);
    let mut scores: Vec<(Shape, Vec<f64>)> = Vec::new();
    let mut of_splines: Option<Folds> = None;
    for shape in shapes {
        let squares = if matches!(shape, Shape::Spline { .. }) {
            // All splines share their normal equations.
            let folds = of_splines.get_or_insert_with(|| judge.folds(*shape));
            judge.squares(*shape, folds)
        } else {
            judge.squares(*shape, &judge.folds(*shape))
        };
        scores.extend(squares.map(|s| (*shape, s)));
    }
    let best = scores
        .iter()
        .min_by(|a, b| sum(&a.1).total_cmp(&sum(&b.1)))?
        .1
        .clone();
    let total: f64 = patches
        .iter()
        .zip(&pilot.kept)
        .map(|(p, k)| p.weight * k)
        .sum();
    let allowed = how.slack * how.slack * total;
    let chosen = scores
        .iter()
        .find(|(_, squares)| {
            let worse: Vec<f64> = squares.iter().zip(&best).map(|(a, b)| a - b).collect();
            let mean = sum(&worse) / worse.len().real();
            let scatter = worse.iter().map(|w| (w - mean).powi(2)).sum::<f64>();
            sum(&worse) <= (LEEWAY * scatter.sqrt()).max(allowed)
        })
        .map(|(s, _)| *s)?;
    let tried = scores
        .iter()
        .map(|(s, squares)| (*s, (sum(squares) / total.max(1e-300)).sqrt()))
        .collect();
    Some(Choice {
        shape: chosen,
        fit: Fit::new(chosen, patches, canvas)?,
        tried,
    })
}

fn sum(values: &[f64]) -> f64 {
    values.iter().sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Point;

    const SIZE: (usize, usize) = (1000, 700);

    fn patches(of: impl Fn(f64, f64) -> f64) -> Vec<Patch> {
        let mut seed = 1u64;
        let mut noise = || {
            (0..6)
                .map(|_| {
                    seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                    (seed >> 40).real() / f64::from(1 << 24) - 0.5
                })
                .sum::<f64>()
        };
        (0..14)
            .flat_map(|j| {
                (0..20).map(move |i| (25.0 + 50.0 * f64::from(i), 25.0 + 50.0 * f64::from(j)))
            })
            .map(|(x, y)| Patch {
                at: Point::new(x, y),
                value: of(x / 1000.0, y / 1000.0) + 0.05 * noise(),
                weight: 1.0,
            })
            .collect()
    }

    fn chosen(of: impl Fn(f64, f64) -> f64) -> Shape {
        let canvas = Size::new(SIZE.0, SIZE.1).unwrap();
        let how = Judge {
            blocks: 8,
            slack: 0.0,
        };
        let c = choose(&Shape::candidates(), &patches(of), how, canvas).unwrap();
        println!("{:?} of {:?}", c.shape, c.tried);
        c.shape
    }

    #[test]
    fn the_stiffest_shape_that_explains_the_patches_is_chosen() {
        assert_eq!(chosen(|_, _| 0.0), Shape::Nothing);
        assert_eq!(chosen(|_, _| 3.0), Shape::Level);
        assert_eq!(chosen(|x, _| 3.0 + 2.0 * x), Shape::Plane);
        let curved = chosen(|x, y| 3.0 + 2.0 * x * y - 4.0 * x * x);
        assert_eq!(curved, Shape::Polynomial { degree: 2 });
        let moon = chosen(|x, y| 4.0 / (0.08 + (x - 0.1).powi(2) + (y - 0.1).powi(2)));
        assert!(matches!(moon, Shape::Spline { .. }), "{moon:?}");
    }
}
