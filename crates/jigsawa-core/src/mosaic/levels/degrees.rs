//! Of which degree the surfaces of a filter's frames are: the lowest that foretells patches left out in turn.

use crate::number::Convert;
use rayon::prelude::*;

use super::numbering::{Degrees, FOLDS};
use super::surfaces::{Row, Surfaces};
use super::{DEGREES, WORTH_IT};
use crate::balance::Polynomial;
use crate::robust::{median, quantile};

/// A frame of whose patches a fifth is off by more sigma may want a higher degree than others: so many are looked for,
/// among so many of the worst.
const MISFIT: f64 = 2.0;
const MOST_RAISED: usize = 4;
const TRIED: usize = 4;

/// A patch that is off by more variances counts as off by so many.
const MOST_OFF: f64 = 25.0;

/// Is what patches are off by so much less that a higher degree is worth it?
fn is_worth_it(now: f64, before: f64) -> bool {
    now < before * (1.0 - WORTH_IT)
}

impl Surfaces {
    /// The lowest degrees that foretell patches well: a level or a plane for all, more for frames that want it, and more
    /// for all only if most still do. What one frame wants would swing in the others' outer corners, which no overlap
    /// holds.
    pub(super) fn degrees(&self) -> Degrees {
        let [level, plane, more @ ..] = DEGREES;
        let mut degrees = self.common(&[level, plane]);
        for _ in 0..MOST_RAISED {
            let Some(raised) = self.raised(&degrees) else {
                break;
            };
            degrees = raised;
        }
        let most_fit = f64::from(median(&mut self.misfits(&degrees))) < MISFIT;
        if most_fit {
            degrees
        } else {
            self.common(&[&[degrees.least()], more.as_slice()].concat())
        }
    }

    /// The first of these degrees for all frames, or a later one that is better by so much.
    fn common(&self, of: &[usize]) -> Degrees {
        let all = |degree: usize| Degrees::new(vec![degree; self.domains.len()]);
        let mut best = (all(of[0]), self.unseen(&all(of[0])));
        for degree in &of[1..] {
            // Each surface needs some patches for each of its numbers.
            if self.rows.len() < 3 * self.domains.len() * Polynomial::count(*degree) {
                break;
            }
            let next = self.unseen(&all(*degree));
            if is_worth_it(next, best.1) {
                best = (all(*degree), next);
            }
        }
        best.0
    }

    /// By how much patches are off that were left out, as parts of their variances, each at most by `MOST_OFF`.
    fn unseen(&self, degrees: &Degrees) -> f64 {
        let fold = |fold: usize| -> f64 {
            let fit = self.fit(degrees, &|r: &Row| r.fold != fold);
            let left_out = self.rows.iter().filter(|r| r.fold == fold);
            let off = |r: &Row| self.off(r, degrees, &fit.numbers).powi(2) * r.weight;
            left_out.map(|r| off(r).min(MOST_OFF)).sum()
        };
        let sums: Vec<f64> = (0..FOLDS).into_par_iter().map(fold).collect();
        sums.into_iter().sum()
    }

    /// What a fifth of each frame's patches are off by more than, in sigma.
    fn misfits(&self, degrees: &Degrees) -> Vec<f32> {
        let fit = self.fit(degrees, &|_| true);
        let misfit = |i: usize| -> f32 {
            let own = self.rows.iter().filter(|r| r.a == i || r.b == i);
            let mut off: Vec<f32> = own
                .map(|r| (self.off(r, degrees, &fit.numbers).abs() * r.weight.sqrt()).single())
                .collect();
            if off.is_empty() {
                return 0.0;
            }
            quantile(&mut off, 0.8)
        };
        (0..self.domains.len()).map(misfit).collect()
    }

    /// The degrees with a higher one for one frame, if that foretells all patches better: under a moon a sky is bent that
    /// is even elsewhere. Its neighbours fit as badly, so that each of the worst is tried.
    fn raised(&self, degrees: &Degrees) -> Option<Degrees> {
        let misfits = self.misfits(degrees);
        let mut worst: Vec<usize> = (0..self.domains.len())
            .filter(|i| self.fixed[*i].is_none() && f64::from(misfits[*i]) > MISFIT)
            .collect();
        worst.sort_by(|a, b| misfits[*b].total_cmp(&misfits[*a]));
        worst.truncate(TRIED);
        if worst.is_empty() {
            return None;
        }
        let mut best = (None, self.unseen(degrees));
        for i in worst {
            let patches = self.rows.iter().filter(|r| r.a == i || r.b == i).count();
            for degree in degrees.of[i] + 1..=DEGREES[DEGREES.len() - 1] {
                if patches < 3 * Polynomial::count(degree) {
                    break;
                }
                let mut of = degrees.of.clone();
                of[i] = degree;
                let tried = Degrees::new(of);
                let next = self.unseen(&tried);
                if is_worth_it(next, best.1) {
                    best = (Some(tried), next);
                }
            }
        }
        best.0
    }
}
