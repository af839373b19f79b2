//! Where the numbers of all frames' surfaces stand in the one fit of all.

use nalgebra::DVector;

use crate::balance::Polynomial;

/// Parts that patches are left out in.
pub(super) const FOLDS: usize = 4;

/// The degrees of all frames' surfaces, and where their numbers stand: behind each other, then the scales' changes, then
/// the overlaps' flats.
#[derive(Debug, Clone)]
pub(super) struct Degrees {
    pub(super) of: Vec<usize>,
    at: Vec<usize>,
}

impl Degrees {
    pub(super) fn new(of: Vec<usize>) -> Self {
        let mut at = vec![0];
        for degree in &of {
            at.push(at.last().map_or(0, |n| n + Polynomial::count(*degree)));
        }
        Self { of, at }
    }

    /// The highest.
    pub(super) fn most(&self) -> usize {
        self.of.iter().copied().max().unwrap_or(0)
    }

    /// The lowest.
    pub(super) fn least(&self) -> usize {
        self.of.iter().copied().min().unwrap_or(0)
    }

    /// Where a frame's numbers stand.
    pub(super) fn numbers(&self, i: usize) -> std::ops::Range<usize> {
        self.at[i]..self.at[i + 1]
    }

    /// Where the scales' changes begin.
    pub(super) fn scales_at(&self) -> usize {
        self.at[self.of.len()]
    }

    /// By which part a fit changes a scale.
    pub(super) fn change(&self, i: usize, numbers: &DVector<f64>) -> f64 {
        numbers[self.scales_at() + i]
    }

    /// How large a surface is, but for its level.
    pub(super) fn size(&self, i: usize, numbers: &DVector<f64>) -> f64 {
        let own = self.numbers(i).skip(1).map(|k| numbers[k].powi(2));
        own.sum::<f64>().sqrt()
    }
}
