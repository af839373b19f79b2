//! Which model: the simplest that the pairs justify, by cross-validation.
//!
//! Each model is fitted to nine tenths of the pairs and judged on the tenth that it has not seen, in
//! turn. A freer model is taken only when it foretells the unseen pairs better than a stiffer one by
//! more than their scatter explains; so a few stars never buy a wild map.

use super::{Map, Model, Pair};
use crate::space::Rect;

/// Parts that the pairs are divided into.
const FOLDS: usize = 10;

/// A freer model must lower the mean square error on unseen pairs by this part at least.
const WORTH_IT: f64 = 0.02;

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
    pub unseen_rms_px: f64,
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
    let mut best: Option<(Model, f64)> = None;
    for model in models {
        let free = *model > Model::Similarity;
        if best.is_some() && free && some.len() < PAIRS_A_NUMBER * model.numbers() {
            break;
        }
        let Some(error) = unseen_error(*model, &some, domain) else {
            continue;
        };
        if best.is_none_or(|(_, e)| error < e * (1.0 - WORTH_IT)) {
            best = Some((*model, error));
        }
    }
    let (model, error) = best?;
    Some(Chosen {
        map: Map::fit(model, pairs, domain)?,
        model,
        unseen_rms_px: error.sqrt(),
    })
}

/// Weighted mean square distance of unseen pairs from where the others' fit puts them.
fn unseen_error<A, B>(model: Model, pairs: &[Pair<A, B>], domain: Option<Rect>) -> Option<f64> {
    let folds = FOLDS.min(pairs.len());
    if folds < 2 {
        return None;
    }
    let (mut sum, mut weights) = (0.0, 0.0);
    let mut others = Vec::with_capacity(pairs.len());
    for fold in 0..folds {
        others.clear();
        others.extend(
            (0..pairs.len())
                .filter(|i| i % folds != fold)
                .map(|i| pairs[i]),
        );
        let map = Map::fit(model, &others, domain)?;
        for p in pairs.iter().skip(fold).step_by(folds) {
            sum += p.weight * map.apply(p.from).distance(p.to).powi(2);
            weights += p.weight;
        }
    }
    Some(sum / weights)
}
