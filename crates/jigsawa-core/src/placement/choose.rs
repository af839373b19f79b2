//! Which model: the simplest that the pairs justify, by cross-validation.
//!
//! Each model is fitted to nine tenths of the pairs and judged on the tenth that it has not seen, in
//! turn. A freer model is taken only when it foretells the unseen pairs better than a stiffer one by
//! more than their scatter explains; so a few stars never buy a wild map.

use super::{Map, Model, Pair};

/// Parts that the pairs are divided into.
const FOLDS: usize = 10;

/// A freer model must lower the mean square error on unseen pairs by this part at least.
const WORTH_IT: f64 = 0.02;

/// Pairs for each number of a model before it is tried at all.
const PAIRS_A_PARAMETER: usize = 2;

/// A fitted map with the model it took.
pub struct Chosen<A, B> {
    /// The map, fitted to all pairs.
    pub map: Map<A, B>,
    /// The model.
    pub model: Model,
    /// Weighted root mean square error on pairs that a fit has not seen, in pixels of `B`.
    pub unseen_rms_px: f64,
}

/// Fits the simplest justified model. `None` when not even a similarity is fixed.
pub fn choose<A, B>(pairs: &[Pair<A, B>]) -> Option<Chosen<A, B>> {
    let mut best: Option<(Model, f64)> = None;
    for model in Model::ALL {
        let numbers = 2 * model.least_pairs();
        if best.is_some() && pairs.len() < PAIRS_A_PARAMETER * numbers {
            break;
        }
        let Some(error) = unseen_error(model, pairs) else {
            continue;
        };
        if best.is_none_or(|(_, e)| error < e * (1.0 - WORTH_IT)) {
            best = Some((model, error));
        }
    }
    let (model, error) = best?;
    Some(Chosen {
        map: Map::fit(model, pairs)?,
        model,
        unseen_rms_px: error.sqrt(),
    })
}

/// Weighted mean square distance of unseen pairs from where the others' fit puts them.
fn unseen_error<A, B>(model: Model, pairs: &[Pair<A, B>]) -> Option<f64> {
    let folds = FOLDS.min(pairs.len());
    if folds < 2 {
        return None;
    }
    let (mut sum, mut weights) = (0.0, 0.0);
    for fold in 0..folds {
        let others: Vec<Pair<A, B>> = (0..pairs.len())
            .filter(|i| i % folds != fold)
            .map(|i| pairs[i])
            .collect();
        let map = Map::fit(model, &others)?;
        for p in pairs.iter().skip(fold).step_by(folds) {
            sum += p.weight * map.apply(p.from).distance(p.to).powi(2);
            weights += p.weight;
        }
    }
    Some(sum / weights)
}
