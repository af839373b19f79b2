//! Frames that stand far apart from the others of their set, without anybody naming a limit.
//!
//! A value is an outlier when it is worse than the set's median by five robust standard deviations
//! and by enough to matter: on a very even night five deviations are nothing that anyone would see.

use super::compare::{Compared, Light};
use crate::number::Convert;
use crate::robust::{MAD_TO_SIGMA, mad, median};

/// A value far from the others'.
#[derive(Debug, Clone, PartialEq)]
pub struct Outlier {
    /// What is wrong, in words.
    pub what: &'static str,
    /// Name of the quantity.
    pub quantity: &'static str,
    /// The frame's value.
    pub value: f64,
    /// The median of its set.
    pub usual: f64,
    /// The value at which a frame becomes an outlier.
    pub limit: f64,
}

/// So many robust standard deviations from the median.
const FAR_SIGMA: f64 = 5.0;

/// Smaller sets have no usual value.
const LEAST_FRAMES: usize = 5;

/// What is looked at: name, words for what is wrong, the value, is more worse, and the least that
/// matters, given the usual value.
struct Rule {
    quantity: &'static str,
    what: &'static str,
    of: fn(&Light<'_>, &Compared) -> Option<f64>,
    more_is_worse: bool,
    matters: fn(f64) -> f64,
}

const RULES: [Rule; 8] = [
    Rule {
        quantity: "used",
        what: "few stars",
        of: |l, _| Some(l.measures.stars_used.real()),
        more_is_worse: false,
        matters: |usual| 0.6 * usual,
    },
    Rule {
        quantity: "transparency",
        what: "cloud",
        of: |_, c| c.transparency,
        more_is_worse: false,
        matters: |_| 0.15,
    },
    Rule {
        quantity: "patchiness",
        what: "patchy cloud",
        of: |_, c| c.patchiness,
        more_is_worse: true,
        matters: |_| 0.15,
    },
    Rule {
        quantity: "unevenness",
        what: "uneven sky, as from cloud",
        of: |l, _| Some(l.measures.unevenness),
        more_is_worse: true,
        matters: |usual| 0.5 * usual + 0.3,
    },
    Rule {
        quantity: "halo",
        what: "halos around stars, as from thin cloud or dew",
        of: |l, _| l.measures.halo,
        more_is_worse: true,
        matters: |_| 0.03,
    },
    Rule {
        quantity: "elongation",
        what: "long stars",
        of: |l, _| Some(l.measures.elongation?.median),
        more_is_worse: true,
        matters: |_| 0.12,
    },
    Rule {
        quantity: "fwhm",
        what: "unsharp stars",
        of: |l, _| Some(l.measures.fwhm_px?.median),
        more_is_worse: true,
        matters: |usual| 0.2 * usual,
    },
    Rule {
        quantity: "noise",
        what: "noisy sky",
        of: |l, _| Some(l.measures.noise),
        more_is_worse: true,
        matters: |usual| 0.3 * usual,
    },
];

/// The limits of a set: name of the quantity, and the value beyond which a frame is an outlier.
pub fn limits(lights: &[Light<'_>], compared: &[Compared], set: usize) -> Vec<(&'static str, f64)> {
    RULES
        .iter()
        .filter_map(|rule| Some((rule.quantity, bar(rule, lights, compared, set)?.1)))
        .collect()
}

/// The usual value of a set and the limit.
fn bar(rule: &Rule, lights: &[Light<'_>], compared: &[Compared], set: usize) -> Option<(f64, f64)> {
    let mut values: Vec<f32> = lights
        .iter()
        .zip(compared)
        .filter(|(_, c)| c.set == set)
        .filter_map(|(l, c)| (rule.of)(l, c))
        .map(Convert::single)
        .collect();
    if values.len() < LEAST_FRAMES {
        return None;
    }
    let usual = median(&mut values);
    let sigma = f64::from(mad(&mut values, usual)) * MAD_TO_SIGMA;
    let usual = f64::from(usual);
    let far = (FAR_SIGMA * sigma).max((rule.matters)(usual));
    let limit = if rule.more_is_worse {
        usual + far
    } else {
        usual - far
    };
    Some((usual, limit))
}

/// What stands out in each light, the gravest first (in the order of the rules).
pub fn outliers(lights: &[Light<'_>], compared: &[Compared]) -> Vec<Vec<Outlier>> {
    let sets = compared.iter().map(|c| c.set + 1).max().unwrap_or(0);
    let mut out = vec![Vec::new(); lights.len()];
    for set in 0..sets {
        for rule in &RULES {
            let Some((usual, limit)) = bar(rule, lights, compared, set) else {
                continue;
            };
            for (i, (l, c)) in lights.iter().zip(compared).enumerate() {
                let Some(value) = (rule.of)(l, c).filter(|_| c.set == set) else {
                    continue;
                };
                let worse = if rule.more_is_worse {
                    value > limit
                } else {
                    value < limit
                };
                if worse {
                    out[i].push(Outlier {
                        what: rule.what,
                        quantity: rule.quantity,
                        value,
                        usual,
                        limit,
                    });
                }
            }
        }
    }
    out
}
