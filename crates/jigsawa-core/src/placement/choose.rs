//! Which model: the simplest that the pairs justify, by cross-validation.
//!
//! Each model is fitted to nine tenths of the pairs and judged on the tenth that it has not seen, in
//! turn. A freer model is taken only when it foretells the unseen pairs better than a stiffer one by
//! more than their scatter explains (the rule of standard errors of Breiman, Friedman, Olshen & Stone
//! 1984, Classification and Regression Trees, ch. 3); so a few stars never buy a wild map.

use super::{Map, Model, Pair};
use crate::number::Convert;
use crate::space::Rect;

/// Parts that the pairs are divided into.
const FOLDS: usize = 10;

/// A freer model must lower the mean square error on unseen pairs by this part at least.
const WORTH_IT: f64 = 0.02;

/// And by so many standard errors of the gain over the pairs. With 1 in place of 2, sixteen stars bought a
/// perspective that no camera had, 0.4 px off in a corner.
const SURE_SIGMA: f64 = 2.0;

/// Pairs for each number of a model freer than a similarity before it is tried at all.
const PAIRS_A_NUMBER: usize = 2;

/// Pairs that the models are compared on; of more, every second, third ... is taken. The map itself is
/// fitted to all.
const MOST_PAIRS: usize = 600;

/// A fitted map with the model it took.
pub struct Chosen<A, B> {
    /// The map, fitted to all pairs.
    pub map: Map<A, B>,
    /// The model.
    pub model: Model,
    /// Weighted root mean square error on pairs that a fit has not seen, in pixels of `B`.
    pub crossval_rms_px: f64,
}

/// Fits the simplest justified model, for the part `domain` of `B`. `None` when not even a shift is
/// fixed.
pub fn choose<A, B>(pairs: &[Pair<A, B>], domain: Option<Rect>) -> Option<Chosen<A, B>> {
    choose_among(&Model::ALL, pairs, domain)
}

/// As [`choose`], from these models only, which run from stiff to free. The first is tried with as few
/// pairs as fix it.
pub fn choose_among<A, B>(
    models: &[Model],
    pairs: &[Pair<A, B>],
    domain: Option<Rect>,
) -> Option<Chosen<A, B>> {
    let step = pairs.len().div_ceil(MOST_PAIRS).max(1);
    let some: Vec<Pair<A, B>> = pairs.iter().step_by(step).copied().collect();
    let mut best: Option<(Model, Unseen)> = None;
    for model in models {
        let free = *model > Model::Similarity;
        if best.is_some() && free && some.len() < PAIRS_A_NUMBER * model.numbers() {
            break;
        }
        let Some(unseen) = unseen(*model, &some, domain) else {
            continue;
        };
        if best
            .as_ref()
            .is_none_or(|(_, b)| unseen.is_better_than(b, free))
        {
            best = Some((*model, unseen));
        }
    }
    let (model, unseen) = best?;
    Some(Chosen {
        map: Map::fit(model, pairs, domain)?,
        model,
        crossval_rms_px: unseen.mean.sqrt(),
    })
}

/// How well a model foretells pairs.
struct Unseen {
    /// Squared distance of each pair times its weight over the mean weight.
    squares: Vec<f64>,
    /// Their mean.
    mean: f64,
}

impl Unseen {
    /// Does it foretell the pairs better than a stiffer model does? `sure` asks that it be no luck: with few
    /// pairs a shift and a similarity are told apart by their sizes alone.
    fn is_better_than(&self, stiffer: &Self, sure: bool) -> bool {
        if self.mean >= stiffer.mean * (1.0 - WORTH_IT) {
            return false;
        }
        let n = self.squares.len().real();
        let gains = stiffer
            .squares
            .iter()
            .zip(&self.squares)
            .map(|(s, f)| s - f);
        let mean = gains.clone().sum::<f64>() / n;
        let variance = gains.map(|g| (g - mean).powi(2)).sum::<f64>() / (n - 1.0).max(1.0);
        !sure || mean > SURE_SIGMA * (variance / n).sqrt()
    }
}

/// How well the others' fit foretells each pair.
fn unseen<A, B>(model: Model, pairs: &[Pair<A, B>], domain: Option<Rect>) -> Option<Unseen> {
    let folds = FOLDS.min(pairs.len());
    if folds < 2 {
        return None;
    }
    let weight = pairs.iter().map(|p| p.weight).sum::<f64>() / pairs.len().real();
    let mut squares = vec![0.0; pairs.len()];
    let mut others = Vec::with_capacity(pairs.len());
    for fold in 0..folds {
        others.clear();
        let rest = (0..pairs.len()).filter(|i| i % folds != fold);
        others.extend(rest.map(|i| pairs[i]));
        let map = Map::fit(model, &others, domain)?;
        for (p, square) in pairs.iter().zip(&mut squares).skip(fold).step_by(folds) {
            *square = p.weight / weight * map.apply(p.from).distance(p.to).powi(2);
        }
    }
    Some(Unseen {
        mean: squares.iter().sum::<f64>() / squares.len().real(),
        squares,
    })
}
