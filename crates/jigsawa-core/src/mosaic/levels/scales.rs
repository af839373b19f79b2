//! The scales of all frames of a filter by one solution over all stars that any two of them share.
//!
//! Each star's flux is an unknown, each frame's scale another (Padmanabhan et al. 2008, Astrophys. J. 674, 1217). The flux is the
//! weighted mean of what its frames say, so that it is eliminated: what is left are the differences of the logarithms
//! of two frames each, with the weight that the star has among them. Faint stars count by their errors; none is too
//! few: three stars of an overlap are held against all others, through the other overlaps. What is off in all is
//! doubted (biweight), and what scatters by more than its noise counts by what it scatters.

use crate::number::Convert;
use std::collections::BTreeMap;

use nalgebra::{DMatrix, DVector};

use crate::balance::scale::{CommonStar, bend_of, good_pairs};
use crate::balance::{Member, exposure_or_none};
use crate::measured::Measured;
use crate::robust::{BIWEIGHT_REACH, MAD_TO_SIGMA, biweight, median};

use super::{SameStars, ToLevel, UNTOLD};

/// Stars this bright, in sigma, are used. Fainter ones are found with luck: a little too bright in the frame that shows
/// less.
pub(super) const LEAST_SNR: f64 = 6.0;

/// No ratio of two frames' scales is better known than this.
pub(super) const LEAST_ERROR: f64 = 0.001;

/// Flats are wrong by so much towards a frame's edges, where overlaps are: all of an overlap's light alike.
pub(super) const FLAT: f64 = 0.003;

/// A handful of stars may be none, or doubles: before others confirm them they are believed to so much over the root
/// of their number.
const UNCONFIRMED: f64 = 0.1;

/// A star that two frames show.
#[derive(Debug, Clone, Copy)]
struct Star {
    seen: CommonStar,
    /// Logarithm of the factor that makes the second frame's flux the first's.
    log: f64,
    /// The part of its weight that counts for this pair: less than 1 where other frames show it, too.
    part: f64,
}

/// The stars of two frames.
#[derive(Debug)]
pub(super) struct Tie {
    pub a: usize,
    pub b: usize,
    stars: Vec<Star>,
}

/// What the stars of two frames say once all are solved for together.
#[derive(Debug, Clone, Copy)]
pub(super) struct Said {
    /// What makes the second frame's values the first's.
    pub ratio: Measured,
    /// Stars that agree with it.
    pub stars: usize,
}

/// The stars of all pairs of frames.
pub(super) fn ties(frames: &[ToLevel<'_>], same: &SameStars<'_>) -> Vec<Tie> {
    let member = |i: usize| -> &Member<'_> { &frames[i].sky.member };
    let mut pairs = Vec::new();
    for a in 0..frames.len() {
        for b in a + 1..frames.len() {
            let both = same(a, b);
            if both.is_empty() {
                continue;
            }
            let good = good_pairs(member(a), member(b), both, LEAST_SNR);
            if !good.is_empty() {
                pairs.push((a, b, good));
            }
        }
    }
    // What all frames together know of a star, over the pairs that show it.
    let weight = |i: usize, star: usize| {
        let s = &member(i).catalogue.stars[star];
        (s.flux / s.flux_sigma.max(1e-6 * s.flux)).powi(2)
    };
    let mut others: BTreeMap<(usize, usize), f64> = BTreeMap::new();
    for (a, b, good) in &pairs {
        for ((i, k), _) in good {
            *others.entry((*a, *i)).or_default() += weight(*b, *k);
            *others.entry((*b, *k)).or_default() += weight(*a, *i);
        }
    }
    pairs
        .into_iter()
        .map(|(a, b, good)| {
            let star = |((i, k), seen): ((usize, usize), CommonStar)| {
                let (own, other) = (weight(a, i), weight(b, k));
                let all = (own + others[&(a, i)]).max(other + others[&(b, k)]);
                Star {
                    seen,
                    log: (seen.reference / seen.frame).ln(),
                    part: ((own + other) / all).min(1.0),
                }
            };
            let stars = good.into_iter().map(star).filter(|s| s.log.is_finite());
            Tie {
                a,
                b,
                stars: stars.collect(),
            }
        })
        .collect()
}

/// What headers say of the frames' scales before any star is seen: logarithms, on the level of frames that are kept.
pub(super) fn expected(frames: &[ToLevel<'_>]) -> Vec<f64> {
    let by_header = |i: usize| {
        let ratio = exposure_or_none(&frames[0].sky.member, &frames[i].sky.member);
        ratio.map_or(0.0, |r| r.value.ln()) + frames[i].weather
    };
    let kept: Vec<f64> = (0..frames.len())
        .filter_map(|i| Some(frames[i].kept.as_ref()?.scale.value.ln() - by_header(i)))
        .collect();
    let level = if kept.is_empty() {
        0.0
    } else {
        kept.iter().sum::<f64>() / kept.len().real()
    };
    (0..frames.len()).map(|i| by_header(i) + level).collect()
}

/// Scales of frames with what each tie says once all are known.
pub(super) struct Scales {
    /// Logarithms.
    pub logs: Vec<f64>,
    /// By the ties, in their order.
    pub said: Vec<Option<Said>>,
}

/// Rounds in which stars are doubted.
const ROUNDS: usize = 12;

/// Solves for all scales at once. Those of frames that are kept stay.
pub(super) fn solve(frames: &[ToLevel<'_>], ties: &[Tie]) -> Scales {
    let expected = expected(frames);
    let mut logs = begun(frames, ties, &expected);
    let mut excess = 0.0f64;
    let mut rows = Vec::new();
    for _ in 0..ROUNDS {
        excess = scatter(ties, &logs, excess);
        rows = ties.iter().map(|t| agreed(t, &logs, excess)).collect();
        let known = ties.iter().zip(&rows).filter_map(|(t, row)| {
            let (log, sigma, _) = (*row)?;
            Some((t.a, t.b, log, sigma))
        });
        logs = by_ratios(frames, &known.collect::<Vec<_>>(), &expected);
    }
    let said = rows.into_iter().map(|row| {
        let (log, sigma, stars) = row?;
        let value = log.exp();
        Some(Said {
            ratio: Measured {
                value,
                sigma: sigma * value,
            },
            stars,
        })
    });
    Scales {
        said: said.collect(),
        logs,
    }
}

/// By what part the ratio of each frame's stars to its neighbours' changes over a factor of ten in brightness, where that
/// shows that a frame is not linear; of neighbours for the one that shows it most.
pub(super) fn bent(frames: usize, ties: &[Tie], logs: &[f64]) -> Vec<Option<f64>> {
    let of = |i: usize| {
        let mut stars = Vec::new();
        for t in ties.iter().filter(|t| t.a == i || t.b == i) {
            // Both on one scale, the frame's own second.
            let balanced = |s: &Star| {
                let (a, b) = (
                    s.seen.reference * logs[t.a].exp(),
                    s.seen.frame * logs[t.b].exp(),
                );
                let (reference, frame) = if t.b == i { (a, b) } else { (b, a) };
                CommonStar {
                    reference,
                    frame,
                    ..s.seen
                }
            };
            stars.extend(t.stars.iter().map(balanced));
        }
        bend_of(&stars, 1.0)
    };
    let all: Vec<Option<f64>> = (0..frames).map(of).collect();
    let size = |i: usize| all[i].map_or(0.0, f64::abs);
    (0..frames)
        .map(|i| {
            let own = ties.iter().filter(|t| t.a == i || t.b == i);
            let others = own.map(|t| size(t.a + t.b - i));
            all[i].filter(|b| others.fold(0.0, f64::max) <= b.abs() * LIKE)
        })
        .collect()
}

/// Of two frames that alone share stars both show the same.
const LIKE: f64 = 1.0 + 1e-6;

/// A first solution, in which each tie counts as a whole, by the median of its stars.
fn begun(frames: &[ToLevel<'_>], ties: &[Tie], expected: &[f64]) -> Vec<f64> {
    let whole: Vec<(usize, usize, f64, f64)> = ties
        .iter()
        .filter(|t| !t.stars.is_empty())
        .map(|t| {
            let mut logs: Vec<f32> = t.stars.iter().map(|s| s.log.single()).collect();
            let weight: f64 = t.stars.iter().map(|s| s.seen.error.powi(-2)).sum();
            let sigma = weight
                .powf(-0.5)
                .max(UNCONFIRMED / logs.len().real().sqrt());
            (t.a, t.b, f64::from(median(&mut logs)), sigma)
        })
        .collect();
    let mut kept = vec![1.0; whole.len()];
    let mut logs = Vec::new();
    for _ in 0..6 {
        let rows = whole.iter().zip(&kept);
        let rows: Vec<_> = rows
            .map(|((a, b, log, sigma), k): (_, &f64)| (*a, *b, *log, sigma / k.sqrt()))
            .collect();
        logs = by_ratios(frames, &rows, expected);
        // Closed loops tell a false one; where there is no loop, each stands.
        for (k, (a, b, log, sigma)) in kept.iter_mut().zip(&whole) {
            let off = (log - (logs[*b] - logs[*a])) / sigma;
            *k = 1.0 / (1.0 + (off / 3.0).powi(2));
        }
    }
    logs
}

/// By how much stars scatter beyond their noise, as a part of their light: those with little noise show it.
fn scatter(ties: &[Tie], logs: &[f64], before: f64) -> f64 {
    let mut all: Vec<(f64, f64)> = ties
        .iter()
        .flat_map(|t| {
            let to = logs[t.b] - logs[t.a];
            t.stars
                .iter()
                .map(move |s| (s.seen.error, (s.log - to).abs()))
        })
        .collect();
    if all.len() < 20 {
        return before;
    }
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    all.truncate(all.len().div_ceil(2));
    let middle = |of: &dyn Fn(&(f64, f64)) -> f64| {
        let mut values: Vec<f32> = all.iter().map(|v| of(v).single()).collect();
        f64::from(median(&mut values))
    };
    let error = middle(&|v| v.0);
    let size = middle(&|v| v.1) * MAD_TO_SIGMA;
    (size * size - error * error).max(0.0).sqrt()
}

/// The mean logarithm of a tie's stars that agree with the scales, its error, and how many they are.
fn agreed(t: &Tie, logs: &[f64], excess: f64) -> Option<(f64, f64, usize)> {
    let to = logs[t.b] - logs[t.a];
    let (mut sum, mut weights, mut stars) = (0.0, 0.0, 0);
    for s in &t.stars {
        let error = s.seen.error.hypot(excess);
        let kept = biweight(s.log - to, BIWEIGHT_REACH * error);
        let w = s.part * kept / (error * error);
        sum += w * (s.log - to);
        weights += w;
        stars += usize::from(kept >= 0.5);
    }
    (stars > 0).then(|| {
        // Profiles differ in all stars alike.
        let shared = t.stars[0].seen.shared;
        let sigma = weights.powf(-0.5).hypot(shared).hypot(FLAT);
        (to + sum / weights, sigma, stars)
    })
}

/// The scales by ratios (first, second, logarithm, error), and by what is expected where no ratio tells.
fn by_ratios(
    frames: &[ToLevel<'_>],
    ratios: &[(usize, usize, f64, f64)],
    expected: &[f64],
) -> Vec<f64> {
    let n = frames.len();
    let mut normal = DMatrix::<f64>::zeros(n, n);
    let mut right = DVector::zeros(n);
    for (a, b, log, sigma) in ratios {
        let w = 1.0 / (sigma * sigma);
        for (i, x) in [(*b, 1.0), (*a, -1.0)] {
            right[i] += w * x * log;
            for (j, y) in [(*b, 1.0), (*a, -1.0)] {
                normal[(i, j)] += w * x * y;
            }
        }
    }
    for (i, f) in frames.iter().enumerate() {
        let (to, allowed) = match &f.kept {
            Some(balance) => (balance.scale.value.ln(), STAYS),
            None => (expected[i], UNTOLD),
        };
        normal[(i, i)] += 1.0 / (allowed * allowed);
        right[i] += to / (allowed * allowed);
    }
    match normal.cholesky() {
        Some(c) => c.solve(&right).iter().copied().collect(),
        None => expected.to_vec(),
    }
}

/// So little moves what is kept.
pub(super) const STAYS: f64 = 1e-7;
